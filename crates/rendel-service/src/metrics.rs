//! What is counted, in OpenMetrics.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::registry::Registry;

/// The problem that a refusal or an ended connection carries.
#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(crate) struct OfProblem {
    pub(crate) problem: &'static str,
}

/// All counters of the service.
#[derive(Debug)]
pub(crate) struct Metrics {
    registry: Registry,
    pub(crate) settled: Counter,
    pub(crate) refused: Family<OfProblem, Counter>,
    pub(crate) deliveries: Counter,
    pub(crate) frames_out: Counter,
    pub(crate) connections: Gauge,
    pub(crate) closed: Family<OfProblem, Counter>,
    pub(crate) sessions: Gauge,
    pub(crate) commit_rows: Histogram,
    pub(crate) commit_seconds: Histogram,
    pub(crate) journal_failures: Counter,
    pub(crate) divergences: Counter,
}

impl Metrics {
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
            commit_rows: Histogram::new(exponential_buckets(1.0, 2.0, 13)),
            commit_seconds: Histogram::new(exponential_buckets(0.000_25, 2.0, 14)),
            journal_failures: Counter::default(),
            divergences: Counter::default(),
        };
        metrics.registered()
    }

    fn registered(mut self) -> Self {
        let registry = &mut self.registry;
        registry.register("settled", "Proposals that took their place in the order", self.settled.clone());
        registry.register("refused", "Proposals that did not take effect, by problem", self.refused.clone());
        registry.register("deliveries", "Updates put into the queue of a connection", self.deliveries.clone());
        registry.register("frames_out", "Frames written to connections", self.frames_out.clone());
        registry.register("connections", "Connections that have entered", self.connections.clone());
        registry.register("closed", "Connections that the service ended, by problem", self.closed.clone());
        registry.register("sessions", "Sessions in memory", self.sessions.clone());
        registry.register("commit_rows", "Rows of one commit of the journal", self.commit_rows.clone());
        registry.register("commit_seconds", "Seconds that one commit of the journal took", self.commit_seconds.clone());
        registry.register("journal_failures", "Appends to the journal that failed", self.journal_failures.clone());
        registry.register(
            "divergences",
            "Replicas whose digest differed and that got a snapshot",
            self.divergences.clone(),
        );
        self
    }

    pub(crate) fn text(&self) -> String {
        let mut text = String::new();
        // Writing to a string cannot fail.
        let _ = encode(&mut text, &self.registry);
        text
    }
}
