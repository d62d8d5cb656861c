//! What the stories are told with.

mod blocking;
mod browser;
mod events;
mod heard;
mod proxy;
mod raw;
mod receiver;
mod service;

pub(crate) use blocking::Blocking;
pub(crate) use browser::Browser;
pub(crate) use events::Events;
pub(crate) use heard::{Heard, listener, stream};
pub(crate) use proxy::Proxy;
pub(crate) use raw::{Raw, name};
pub(crate) use receiver::{Call, Does, Receiver};
pub(crate) use service::{HEADCOUNT, HeldLock, Service, free_port};

use std::time::{Duration, Instant};

/// How long a test waits for what must come: so long that it says nothing of how fast the machine
/// is.
pub(crate) const PATIENCE: Duration = Duration::from_secs(180);

/// Waits until `condition` gives something.
pub(crate) async fn until<T>(what: &str, mut condition: impl AsyncFnMut() -> Option<T>) -> T {
    let deadline = Instant::now() + PATIENCE;
    loop {
        if let Some(value) = condition().await {
            return value;
        }
        assert!(Instant::now() < deadline, "waited in vain: {what}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// The seed of a random test: from `RENDEL_SEED`, else new; printed, so that a failure can be run
/// again.
pub(crate) fn seed() -> u64 {
    let seed = std::env::var("RENDEL_SEED")
        .ok()
        .and_then(|seed| seed.parse().ok())
        .unwrap_or_else(rand::random);
    eprintln!("RENDEL_SEED={seed}");
    seed
}
