//! What the service is told.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::time::Duration;

use crate::origins::Origins;
use crate::signature::WebhookSecret;
use crate::token::ServiceKey;

/// The whole configuration. Values are validated by whoever builds it; the service reads no file
/// and no environment.
#[derive(Clone, Debug)]
pub struct Config {
    /// Where to listen.
    pub listen: SocketAddr,
    /// The PostgreSQL to use.
    pub database_url: String,
    /// Connections to it for reading and managing; the journal's writer has one of its own.
    pub database_connections: u32,
    /// The key of the backend, which also signs participants' tokens.
    pub key: ServiceKey,
    /// Keys that it replaced and that are good still.
    pub previous_keys: Vec<ServiceKey>,
    /// What `${NAME}` stands for in the addresses of gates.
    pub variables: BTreeMap<String, String>,
    /// What calls to gates are signed with.
    pub gate_secret: WebhookSecret,
    /// Whether webhooks may go to addresses of private networks.
    pub webhooks_to_private_addresses: bool,
    /// How long a webhook that was not taken waits for the first time; later waits are longer.
    pub webhook_first_wait: Duration,
    /// How long it is tried.
    pub webhook_give_up: Duration,
    /// Days for which announcements are kept.
    pub announcement_days: u32,
    /// Guests from one address.
    pub guests_per_address: usize,
    /// Days for which it is kept who did what.
    pub audit_days: u32,
    /// Foreign origins whose pages may connect and call; those of its own always may.
    pub origins: Origins,
    /// A connection that has not entered within this time is closed.
    pub enter_within: Duration,
    /// A connection from which nothing was heard for this long is closed; it is pinged at half of
    /// it.
    pub silence: Duration,
    /// Updates and bytes that may wait for one connection; one that falls further behind loses its
    /// backlog and gets one catch-up in its place.
    pub queue: QueueLimits,
    /// A connection that falls behind again within this time, or does not come to write for so
    /// long, is closed as `slow`.
    pub slow_within: Duration,
    /// A snapshot is kept after so many updates.
    pub snapshot_every: u64,
    /// And after so many bytes of them.
    pub snapshot_bytes: u64,
    /// Sessions in memory at one time.
    pub sessions: usize,
    /// Connections of one participant in one session.
    pub connections_per_participant: u32,
    /// Connections from one address.
    pub connections_per_address: usize,
    /// What calls and entries from one address may cost per second; see `docs/limits.md`.
    pub calls_per_address: u32,
    /// What the calls of one participant of a session may cost per second.
    pub calls_per_participant: u32,
    /// Bytes of answers that are being made or have not been read.
    pub answer_bytes: AnswerBytes,
    /// Whether the address is what a proxy says in `Forwarded` or `X-Forwarded-For`.
    pub trust_forwarded: bool,
    /// Bytes of a session that is brought in.
    pub import_bytes: usize,
    /// A session that another process took over is not taken back within this time.
    pub fence: Duration,
    /// Replicas are asked for their digests after so many updates, and within this time after any.
    pub digest_every: u64,
    /// See `digest_every`.
    pub digest_within: Duration,
    /// How long a stop waits for what is under way.
    pub stop_within: Duration,
    /// A stop first says for so long that the service is not ready, so that nobody new is sent here.
    pub drain: Duration,
    /// Where metrics and probes are served, and nowhere else; beside everything else if it is none.
    pub probe_listen: Option<SocketAddr>,
}

/// What may wait for one connection.
#[derive(Clone, Copy, Debug)]
pub struct QueueLimits {
    /// Frames that wait.
    pub frames: usize,
    /// Bytes that wait.
    pub bytes: usize,
}

/// Bytes of answers that are being made or have not been read at one time.
#[derive(Clone, Copy, Debug)]
pub struct AnswerBytes {
    /// Those of one participant of a session.
    pub participant: u64,
    /// Those of one address.
    pub address: u64,
    /// All of them.
    pub all: u64,
}

impl Config {
    /// The standard configuration for an address, a database and a key.
    pub fn new(listen: SocketAddr, database_url: String, key: ServiceKey) -> Self {
        Self {
            listen,
            database_url,
            database_connections: 8,
            gate_secret: WebhookSecret::derived(&key),
            key,
            previous_keys: Vec::new(),
            variables: BTreeMap::new(),
            webhooks_to_private_addresses: false,
            webhook_first_wait: Duration::from_secs(5),
            webhook_give_up: Duration::from_secs(3 * 86_400),
            announcement_days: 30,
            guests_per_address: 50,
            audit_days: 90,
            origins: Origins::default(),
            enter_within: Duration::from_secs(10),
            silence: Duration::from_secs(60),
            queue: QueueLimits { frames: 4_096, bytes: 8 << 20 },
            slow_within: Duration::from_secs(15),
            snapshot_every: 1_000,
            snapshot_bytes: 4 << 20,
            sessions: 10_000,
            connections_per_participant: 32,
            connections_per_address: 1_000,
            calls_per_address: 200,
            calls_per_participant: 50,
            answer_bytes: AnswerBytes { participant: 32 << 20, address: 128 << 20, all: 512 << 20 },
            trust_forwarded: false,
            import_bytes: 256 << 20,
            fence: Duration::from_secs(10),
            digest_every: 1_000,
            digest_within: Duration::from_secs(5),
            stop_within: Duration::from_secs(10),
            drain: Duration::ZERO,
            probe_listen: None,
        }
    }
}
