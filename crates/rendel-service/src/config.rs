//! What the service is told.

use std::net::SocketAddr;
use std::time::Duration;

use crate::token::ServiceKey;

/// The whole configuration. Values are validated by whoever builds it; the service reads no file and no environment.
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
    /// Foreign origins whose pages may connect, such as `https://orchard.example`; its own is always one.
    pub origins: Vec<String>,
    /// A connection that has not entered within this time is closed.
    pub enter_within: Duration,
    /// A connection from which nothing was heard for this long is closed; it is pinged at half of it.
    pub silence: Duration,
    /// Updates and bytes that may wait for one connection; one that falls further behind is closed as `slow`.
    pub queue: QueueLimits,
    /// A snapshot is kept after so many updates.
    pub snapshot_every: u64,
    /// Replicas are asked for their digests after so many updates, and within this time after any.
    pub digest_every: u64,
    /// See `digest_every`.
    pub digest_within: Duration,
    /// How long a stop waits for what is under way.
    pub stop_within: Duration,
}

/// What may wait for one connection.
#[derive(Clone, Copy, Debug)]
pub struct QueueLimits {
    /// Frames that wait.
    pub frames: usize,
    /// Bytes that wait.
    pub bytes: usize,
}

impl Config {
    /// The standard configuration for an address, a database and a key.
    pub fn new(listen: SocketAddr, database_url: String, key: ServiceKey) -> Self {
        Self {
            listen,
            database_url,
            database_connections: 8,
            key,
            origins: Vec::new(),
            enter_within: Duration::from_secs(10),
            silence: Duration::from_secs(60),
            queue: QueueLimits { frames: 4_096, bytes: 8 << 20 },
            snapshot_every: 1_000,
            digest_every: 1_000,
            digest_within: Duration::from_secs(5),
            stop_within: Duration::from_secs(10),
        }
    }
}
