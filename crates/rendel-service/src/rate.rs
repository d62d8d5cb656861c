//! How often somebody may do something.

use std::num::NonZeroU32;

use governor::clock::{Clock as _, DefaultClock};
use governor::{DefaultDirectRateLimiter, Quota, RateLimiter};
use rendel_core::{Problem, ProblemKind};

/// The rate of one participant's proposals, shared by their connections.
#[derive(Debug)]
pub(crate) struct Rate {
    limiter: Option<DefaultDirectRateLimiter>,
    per_second: u32,
    what: &'static str,
}

/// What often is behind many proposals.
const LOOP: &str = "A client that proposes on every update that it gets is a loop: let it answer to \
    what people do.";

impl Rate {
    /// The rate of a participant's proposals.
    pub(crate) fn of_proposals(limits: &rendel_core::Limits) -> Self {
        Self::new("proposals", limits.proposals_per_second, limits.burst())
    }

    /// A rate of something else, with a burst of a second's.
    pub(crate) fn of(what: &'static str, per_second: u32) -> Self {
        Self::new(what, per_second, per_second)
    }

    fn new(what: &'static str, per_second: u32, burst: u32) -> Self {
        let quota = NonZeroU32::new(per_second).zip(NonZeroU32::new(burst));
        let quota = quota.map(|(rate, burst)| Quota::per_second(rate).allow_burst(burst));
        Self { limiter: quota.map(RateLimiter::direct), per_second, what }
    }

    /// No bound: for the backend itself.
    pub(crate) fn unbounded() -> Self {
        Self { limiter: None, per_second: 0, what: "proposals" }
    }

    /// `too-fast`, with the wait in milliseconds, where the participant is over the rate.
    pub(crate) fn check(&self, cost: u32) -> Result<(), Problem> {
        let Some(limiter) = &self.limiter else { return Ok(()) };
        let cost = NonZeroU32::new(cost).unwrap_or(NonZeroU32::MIN);
        // None costs more than the burst, so that there is always a time at which it passes.
        limiter.check_n(cost).unwrap_or(Ok(())).map_err(|until| {
            let wait = until.wait_time_from(DefaultClock::default().now());
            let wait_ms = u64::try_from(wait.as_millis()).unwrap_or(u64::MAX).max(1);
            let Self { per_second, what, .. } = self;
            let detail = format!(
                "More than {per_second} {what} per second; the next is taken \
                in {wait_ms} ms."
            );
            let limit =
                if *what == "proposals" { "proposals-per-second" } else { "words-per-second" };
            let problem = Problem::new(ProblemKind::TooFast, detail);
            let problem = problem.with("wait_ms", wait_ms).with("limit", limit);
            match *what {
                // For whoever wrote the client, not for whoever uses it.
                "proposals" => problem.with("hint", LOOP),
                _ => problem,
            }
        })
    }
}
