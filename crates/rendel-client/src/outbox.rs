//! Proposals on their way out, in order and no faster than the service takes them.

use std::collections::VecDeque;
use std::num::NonZeroU32;
use std::time::Duration;

use governor::clock::{Clock as _, DefaultClock};
use governor::{DefaultDirectRateLimiter, Quota, RateLimiter};
use rendel_wire::Propose;
use tokio::time::Instant;

/// Of the rate that a session takes, the part that one connection uses: the clocks of both sides
/// differ a little, and another tab of the same participant may want something, too.
const SHARE: u32 = 90;

/// What waits to be sent.
#[derive(Debug)]
pub(crate) struct Outbox {
    waiting: VecDeque<Propose>,
    pace: Option<DefaultDirectRateLimiter>,
    /// Nothing is sent before.
    due: Instant,
}

impl Default for Outbox {
    fn default() -> Self {
        Self { waiting: VecDeque::new(), pace: None, due: Instant::now() }
    }
}

impl Outbox {
    /// The session takes so many proposals a second; half of them at once, since some may have been
    /// sent before a return.
    pub(crate) fn pace(&mut self, per_second: u32) {
        let rate = NonZeroU32::new((per_second.saturating_mul(SHARE) / 100).max(1));
        let burst = NonZeroU32::new((per_second / 2).max(1));
        let quota = rate.zip(burst).map(|(rate, burst)| Quota::per_second(rate).allow_burst(burst));
        self.pace = quota.map(RateLimiter::direct);
        self.due = Instant::now();
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.waiting.is_empty()
    }

    pub(crate) fn clear(&mut self) {
        self.waiting.clear();
    }

    pub(crate) fn put(&mut self, frame: Propose) {
        self.waiting.push_back(frame);
    }

    /// What has no answer is sent, in order, in place of what waited.
    pub(crate) fn fill<'f>(&mut self, unanswered: impl Iterator<Item = &'f Propose>) {
        self.waiting = unanswered.cloned().collect();
    }

    /// Proposal `n` came too fast. It is sent again after a while, and so is everything after it,
    /// which the service does not take before it.
    pub(crate) fn take_back<'f>(
        &mut self,
        n: u64,
        wait: Duration,
        unanswered: impl Iterator<Item = &'f Propose>,
    ) {
        self.due = self.due.max(Instant::now() + wait);
        if self.waiting.front().is_none_or(|first| first.n > n) {
            self.fill(unanswered.filter(|frame| frame.n >= n));
        }
    }

    /// When the next one may be sent.
    pub(crate) fn due(&self) -> Instant {
        self.due
    }

    /// The next one, where its time has come.
    pub(crate) fn take(&mut self) -> Option<Propose> {
        if self.waiting.is_empty() || Instant::now() < self.due {
            return None;
        }
        if let Some(Err(until)) = self.pace.as_ref().map(RateLimiter::check) {
            self.due = Instant::now() + until.wait_time_from(DefaultClock::default().now());
            return None;
        }
        self.waiting.pop_front()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn frame(n: u64) -> Propose {
        Propose { n, seen: 0, answered: 0, edits: vec![], gesture: None, note: None }
    }

    fn taken(outbox: &mut Outbox) -> Vec<u64> {
        std::iter::from_fn(|| outbox.take()).map(|frame| frame.n).collect()
    }

    #[test]
    fn what_came_too_fast_goes_again_in_order_with_all_that_follows_it() {
        let unanswered: Vec<_> = (3..=8).map(frame).collect();
        let mut outbox = Outbox::default();
        unanswered[..5].iter().cloned().for_each(|frame| outbox.put(frame));
        assert_eq!(taken(&mut outbox), [3, 4, 5, 6, 7]);
        outbox.put(frame(8));
        // The fifth was refused, and so were those after it, whose refusals come later.
        for n in [5, 6, 7] {
            outbox.take_back(n, Duration::ZERO, unanswered.iter());
        }
        assert_eq!(taken(&mut outbox), [5, 6, 7, 8]);
        outbox.take_back(8, Duration::from_secs(60), unanswered.iter());
        assert_eq!((taken(&mut outbox), outbox.is_empty()), (vec![], false), "not before its time");
    }

    #[test]
    fn half_of_a_second_s_share_goes_at_once_and_the_rest_waits() {
        let mut outbox = Outbox::default();
        outbox.pace(50);
        (1..=1_000).map(frame).for_each(|frame| outbox.put(frame));
        let sent = taken(&mut outbox).len();
        assert!((25..1_000).contains(&sent), "{sent}");
        assert!(outbox.due() > Instant::now());
    }
}
