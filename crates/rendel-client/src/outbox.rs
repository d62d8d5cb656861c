//! Proposals on their way out, in order and no faster than the service takes them.

use std::collections::VecDeque;
use std::num::NonZeroU32;
use std::time::Duration;

use governor::clock::{Clock as _, DefaultClock};
use governor::{DefaultDirectRateLimiter, Quota, RateLimiter};
use rendel_core::Edit;
use rendel_wire::{ConnectionLimits, Propose};
use tokio::time::Instant;

/// Of the rate that a session takes, the part that one connection uses: the clocks of both sides
/// differ a little, and another tab of the same participant may want something, too.
const SHARE: u32 = 90;

/// Proposals without an answer that are on their way at one time: fewer than the outcomes that the
/// service remembers of a client, so that none is lost with the connection.
const WINDOW: u64 = 1_024;

/// Of a frame, and of the rate at once, what one frame of several proposals takes.
const TOGETHER: usize = 256;

/// What waits to be sent.
#[derive(Debug)]
pub(crate) struct Outbox {
    waiting: VecDeque<Propose>,
    pace: Option<DefaultDirectRateLimiter>,
    /// Nothing is sent before.
    due: Instant,
    /// Nothing beyond this number is sent.
    last: u64,
    /// Bytes of a frame.
    most: usize,
}

impl Default for Outbox {
    fn default() -> Self {
        Self { waiting: VecDeque::new(), pace: None, due: Instant::now(), last: 0, most: 0 }
    }
}

impl Outbox {
    /// The session takes so many proposals a second, and so many at once.
    pub(crate) fn pace(&mut self, limits: &ConnectionLimits) {
        let share = |of: u32| NonZeroU32::new((of.saturating_mul(SHARE) / 100).max(1));
        let rate = share(limits.proposals_per_second);
        let burst = share(limits.burst.max(limits.proposals_per_second / 2));
        self.most = limits.frame / 2;
        let quota = rate.zip(burst).map(|(rate, burst)| Quota::per_second(rate).allow_burst(burst));
        self.pace = quota.map(RateLimiter::direct);
        self.due = Instant::now();
    }

    /// Whether something may be sent once its time has come.
    pub(crate) fn is_ready(&self) -> bool {
        self.waiting.front().is_some_and(|first| first.n <= self.last)
    }

    /// The answers to everything up to this number are known.
    pub(crate) fn answered(&mut self, n: u64) {
        self.last = n + WINDOW;
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

    /// The next ones that may go in one frame, where their time has come.
    pub(crate) fn take(&mut self) -> Vec<Propose> {
        let (mut taken, mut bytes) = (Vec::new(), 0);
        while Instant::now() >= self.due
            && let Some(first) = self.waiting.front().filter(|first| first.n <= self.last)
        {
            bytes += serde_json::to_string(first).map_or(0, |json| json.len());
            if !taken.is_empty() && (taken.len() == TOGETHER || bytes > self.most) {
                break;
            }
            let cost = NonZeroU32::new(Edit::cost(&first.edits)).unwrap_or(NonZeroU32::MIN);
            let checked = self.pace.as_ref().map(|pace| pace.check_n(cost).unwrap_or(Ok(())));
            if let Some(Err(until)) = checked {
                self.due = Instant::now() + until.wait_time_from(DefaultClock::default().now());
                break;
            }
            taken.extend(self.waiting.pop_front());
        }
        taken
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn frame(n: u64) -> Propose {
        Propose { n, seen: 0, answered: 0, edits: vec![], gesture: None, note: None }
    }

    fn outbox() -> Outbox {
        Outbox { last: 2_000, most: 4_096, ..Outbox::default() }
    }

    fn taken(outbox: &mut Outbox) -> Vec<u64> {
        let frames = std::iter::from_fn(|| Some(outbox.take()).filter(|taken| !taken.is_empty()));
        frames.flatten().map(|frame| frame.n).collect()
    }

    #[test]
    fn what_came_too_fast_goes_again_in_order_with_all_that_follows_it() {
        let unanswered: Vec<_> = (3..=8).map(frame).collect();
        let mut outbox = outbox();
        unanswered[..5].iter().cloned().for_each(|frame| outbox.put(frame));
        assert_eq!(taken(&mut outbox), [3, 4, 5, 6, 7]);
        outbox.put(frame(8));
        // The fifth was refused, and so were those after it, whose refusals come later.
        for n in [5, 6, 7] {
            outbox.take_back(n, Duration::ZERO, unanswered.iter());
        }
        assert_eq!(taken(&mut outbox), [5, 6, 7, 8]);
        outbox.take_back(8, Duration::from_secs(60), unanswered.iter());
        assert_eq!((taken(&mut outbox), outbox.is_ready()), (vec![], true), "not before its time");
    }

    #[test]
    fn what_may_go_at_once_goes_in_few_frames_and_the_rest_waits() {
        let limits = ConnectionLimits {
            frame: 64 << 10,
            edits: 256,
            proposals_per_second: 50,
            burst: 1_000,
            presence_per_second: 30,
            presence_lapses_ms: std::collections::BTreeMap::new(),
        };
        let mut outbox = Outbox::default();
        outbox.pace(&limits);
        outbox.answered(0);
        (1..=2_000).map(frame).for_each(|frame| outbox.put(frame));
        let frames = std::iter::from_fn(|| Some(outbox.take()).filter(|taken| !taken.is_empty()));
        let frames: Vec<usize> = frames.map(|taken| taken.len()).collect();
        let sent: usize = frames.iter().sum();
        assert!((900..=1_024).contains(&sent) && frames.len() < 10, "{frames:?}");
        // Beyond the window nothing goes until there are answers.
        outbox.pace = None;
        outbox.due = Instant::now();
        assert_eq!(taken(&mut outbox).last(), Some(&1_024));
        assert!(!outbox.is_ready());
        outbox.answered(10);
        assert_eq!(taken(&mut outbox).last(), Some(&1_034));
    }
}
