//! What is counted, in OpenMetrics.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::metrics::info::Info;
use prometheus_client::registry::Registry;
use rendel_core::Problem;
use rendel_store::Outcome;

/// The problem that a refusal or an ended connection carries.
#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(crate) struct OfProblem {
    pub(crate) problem: &'static str,
}

/// The limit that something went beyond.
#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(crate) struct OfLimit {
    pub(crate) limit: String,
}

/// All counters of the service.
#[derive(Debug)]
pub(crate) struct Metrics {
    registry: Registry,
    pub(crate) settled: Counter,
    refused: Family<OfProblem, Counter>,
    pub(crate) deliveries: Counter,
    pub(crate) frames_out: Counter,
    pub(crate) connections: Gauge,
    closed: Family<OfProblem, Counter>,
    pub(crate) sessions: Gauge,
    pub(crate) remembered: Gauge,
    pub(crate) commit_rows: Histogram,
    pub(crate) commit_seconds: Histogram,
    pub(crate) journal_failures: Counter,
    pub(crate) divergences: Counter,
    pub(crate) fell_behind: Counter,
    pub(crate) catch_ups: Counter,
    pub(crate) rested: Counter,
    pub(crate) superseded: Counter,
    pub(crate) snapshots: Counter,
    pub(crate) panics: Counter,
    limited: Family<OfLimit, Counter>,
    pub(crate) presence: Counter,
    pub(crate) unanswered: Counter,
    pub(crate) rules_failed: Counter,
    webhook_attempts: Family<OfOutcome, Counter>,
    pub(crate) gates_away: Counter,
    pub(crate) gate_seconds: Histogram,
    pub(crate) written_seconds: Histogram,
    pub(crate) load_seconds: Histogram,
    pub(crate) mailbox: Histogram,
    http_seconds: Family<OfCall, Histogram, fn() -> Histogram>,
}

/// What became of an attempt to hand something over.
#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(crate) struct OfOutcome {
    pub(crate) outcome: &'static str,
}

/// A call over HTTP.
#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(crate) struct OfCall {
    pub(crate) method: &'static str,
    /// The pattern that its path matched.
    pub(crate) path: String,
    pub(crate) status: u16,
}

impl Metrics {
    /// Counts an attempt to hand an announcement to a webhook.
    pub(crate) fn delivered(&self, outcome: &Outcome) {
        let outcome = match outcome {
            Outcome::Taken => "taken",
            Outcome::Again { .. } => "again",
            Outcome::Dead(_) => "dead",
        };
        self.webhook_attempts.get_or_create(&OfOutcome { outcome }).inc();
    }

    pub(crate) fn new() -> Self {
        let metrics = Self {
            registry: Registry::with_prefix("rendel"),
            settled: Counter::default(),
            refused: Family::default(),
            deliveries: Counter::default(),
            frames_out: Counter::default(),
            connections: Gauge::default(),
            closed: Family::default(),
            sessions: Gauge::default(),
            remembered: Gauge::default(),
            commit_rows: Histogram::new(exponential_buckets(1.0, 2.0, 13)),
            commit_seconds: Histogram::new(exponential_buckets(0.000_25, 2.0, 14)),
            journal_failures: Counter::default(),
            divergences: Counter::default(),
            fell_behind: Counter::default(),
            catch_ups: Counter::default(),
            rested: Counter::default(),
            superseded: Counter::default(),
            snapshots: Counter::default(),
            panics: Counter::default(),
            limited: Family::default(),
            presence: Counter::default(),
            unanswered: Counter::default(),
            rules_failed: Counter::default(),
            webhook_attempts: Family::default(),
            gates_away: Counter::default(),
            gate_seconds: Histogram::new(exponential_buckets(0.001, 2.0, 14)),
            written_seconds: Histogram::new(exponential_buckets(0.000_25, 2.0, 16)),
            load_seconds: Histogram::new(exponential_buckets(0.001, 2.0, 14)),
            mailbox: Histogram::new(exponential_buckets(1.0, 2.0, 11)),
            http_seconds: Family::new_with_constructor(|| {
                Histogram::new(exponential_buckets(0.001, 4.0, 8))
            }),
        };
        metrics.registered()
    }

    fn registered(mut self) -> Self {
        let registry = &mut self.registry;
        registry.register(
            "settled",
            "Proposals that took their place in the order",
            self.settled.clone(),
        );
        registry.register(
            "refused",
            "Proposals that did not take effect, by problem",
            self.refused.clone(),
        );
        registry.register(
            "deliveries",
            "Updates put into the queue of a connection",
            self.deliveries.clone(),
        );
        registry.register("frames_out", "Frames written to connections", self.frames_out.clone());
        registry.register("connections", "Connections that have entered", self.connections.clone());
        registry.register(
            "closed",
            "Connections that the service ended, by problem",
            self.closed.clone(),
        );
        registry.register("sessions", "Sessions in memory", self.sessions.clone());
        registry.register(
            "remembered_bytes",
            "Bytes that sessions in memory remember of what is gone and was answered",
            self.remembered.clone(),
        );
        registry.register(
            "commit_rows",
            "Rows of one commit of the journal",
            self.commit_rows.clone(),
        );
        registry.register(
            "commit_seconds",
            "Seconds that one commit of the journal took",
            self.commit_seconds.clone(),
        );
        registry.register(
            "journal_failures",
            "Appends to the journal that failed",
            self.journal_failures.clone(),
        );
        registry.register(
            "divergences",
            "Replicas whose digest differed and that got a snapshot",
            self.divergences.clone(),
        );
        registry.register(
            "fell_behind",
            "Times that a connection lost its backlog",
            self.fell_behind.clone(),
        );
        registry.register(
            "catch_ups",
            "Catch-ups given in place of a lost backlog",
            self.catch_ups.clone(),
        );
        registry.register(
            "rested",
            "Sessions that left memory because nobody used them",
            self.rested.clone(),
        );
        registry.register(
            "superseded",
            "Sessions that another process took over",
            self.superseded.clone(),
        );
        registry.register(
            "session_panics",
            "Sessions that ended by a fault of the service",
            self.panics.clone(),
        );
        registry.register("snapshots", "Snapshots kept", self.snapshots.clone());
        registry.register(
            "presence",
            "Beats of presence put before connections",
            self.presence.clone(),
        );
        registry.register(
            "rules_failed",
            "Rules of sessions that could not be carried out, while what set them off counted",
            self.rules_failed.clone(),
        );
        registry.register(
            "webhook_attempts",
            "Attempts to hand an announcement to a webhook, by what became of them",
            self.webhook_attempts.clone(),
        );
        registry.register(
            "unanswered",
            "Expressions of charters that had no answer",
            self.unanswered.clone(),
        );
        registry.register(
            "gates_away",
            "Proposals whose gate gave no answer",
            self.gates_away.clone(),
        );
        registry.register(
            "written_seconds",
            "Seconds from an append of settled updates until it was on disk and shown",
            self.written_seconds.clone(),
        );
        registry.register(
            "load_seconds",
            "Seconds that it took to bring a session into memory",
            self.load_seconds.clone(),
        );
        registry.register(
            "mailbox",
            "What waited for a session when it looked",
            self.mailbox.clone(),
        );
        registry.register(
            "http_seconds",
            "Seconds until a call over HTTP was answered, by method, path and status",
            self.http_seconds.clone(),
        );
        let version = [("version".to_owned(), env!("CARGO_PKG_VERSION").to_owned())];
        registry.register("build", "The version that runs", Info::new(version.to_vec()));
        registry.register(
            "gate_seconds",
            "Seconds that gates took to answer",
            self.gate_seconds.clone(),
        );
        registry.register(
            "limited",
            "What was refused or ended by a limit, by limit",
            self.limited.clone(),
        );
        self
    }

    /// A call over HTTP was answered.
    pub(crate) fn called(&self, call: &OfCall, seconds: f64) {
        self.http_seconds.get_or_create(call).observe(seconds);
    }

    /// Counts the limit that a problem tells of, if it does.
    pub(crate) fn count(&self, problem: &Problem) {
        if let Some(limit) = problem.member("limit").and_then(serde_json::Value::as_str) {
            self.limited.get_or_create(&OfLimit { limit: limit.to_owned() }).inc();
        }
    }

    pub(crate) fn refused(&self, problem: &Problem) {
        self.refused.get_or_create(&OfProblem { problem: problem.kind().name() }).inc();
        self.count(problem);
    }

    pub(crate) fn closed(&self, problem: &Problem) {
        self.closed.get_or_create(&OfProblem { problem: problem.kind().name() }).inc();
        self.count(problem);
    }

    pub(crate) fn text(&self) -> String {
        let mut text = String::new();
        // Writing to a string cannot fail.
        let _ = encode(&mut text, &self.registry);
        text
    }
}
