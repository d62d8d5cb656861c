//! The service's time, as it can be told from pings and pongs.
//!
//! Each pong bounds the difference between the service's clock and one's own from both sides: what
//! it says was so after the ping was sent and before the pong came. What delays a ping widens one
//! bound, what delays a pong the other, so the narrowest of each are taken on their own, however
//! much the delays differ. (The idea is that of Marzullo, "Maintaining the Time in a Distributed
//! System", 1984.) Bounds of before are moved by what the clocks drift apart, and loosened by how
//! little that is known. Cost O(1) with the 128 pongs that are kept.

use std::collections::VecDeque;

/// Pongs that are kept.
const KEPT: usize = 128;
/// How much two clocks may drift apart, and how much at least beyond what is estimated.
const UNKNOWN: f64 = 1e-4;
const KNOWN: f64 = 1e-5;
/// The drift is told from pongs that span at least so many milliseconds, and is at most that much.
const SPAN: f64 = 240_000.0;
const DRIFT: f64 = 5e-4;

/// What is known of the service's time. One's own is in milliseconds of a clock that never jumps.
#[derive(Clone, Debug)]
pub struct ServiceTime {
    heard: VecDeque<Heard>,
    /// By how much the clocks drift apart, and how far that may be off.
    drift: (f64, f64),
}

/// What one pong says: the difference is from `low` to `high`, about a time of one's own.
#[derive(Clone, Copy, Debug)]
struct Heard {
    at: f64,
    low: f64,
    high: f64,
}

impl Default for ServiceTime {
    fn default() -> Self {
        Self { heard: VecDeque::new(), drift: (0.0, UNKNOWN) }
    }
}

impl ServiceTime {
    /// A pong has come with the service's `time`, to a ping that was `sent`.
    pub fn handle_pong(&mut self, sent: f64, time: u64, received: f64) {
        let is_in_order = sent <= received;
        if !is_in_order {
            return;
        }
        // It says whole milliseconds, which have begun.
        let time = time as f64;
        let heard = Heard { at: received, low: time - received, high: time + 1.0 - sent };
        if self.heard.len() == KEPT {
            self.heard.pop_front();
        }
        self.heard.push_back(heard);
        // What contradicts the newest is of a clock that was set to another time.
        while self.bounds(received).is_none_or(|(low, high)| low > high) {
            self.heard.pop_front();
            self.drift = (0.0, UNKNOWN);
        }
        self.estimate_drift();
    }

    /// How many pongs it is told from, 128 at most.
    pub fn samples(&self) -> usize {
        self.heard.len()
    }

    /// The service's time at a time of one's own, in milliseconds since 1970 UTC; nothing before
    /// the first pong.
    pub fn at(&self, own: f64) -> Option<f64> {
        let (low, high) = self.bounds(own)?;
        Some(own + (low + high) / 2.0)
    }

    /// How far that may be off, in milliseconds.
    pub fn uncertainty(&self, own: f64) -> Option<f64> {
        let (low, high) = self.bounds(own)?;
        Some((high - low) / 2.0)
    }

    fn bounds(&self, own: f64) -> Option<(f64, f64)> {
        bounds(self.heard.iter(), own, self.drift)
    }

    fn estimate_drift(&mut self) {
        let (Some(first), Some(last)) = (self.heard.front(), self.heard.back()) else { return };
        let span = last.at - first.at;
        if span < SPAN {
            return;
        }
        let middle = first.at + span / 2.0;
        let mid = |of: &dyn Fn(&&Heard) -> bool, at: f64| {
            let (low, high) = bounds(self.heard.iter().filter(of), at, self.drift)?;
            Some(((low + high) / 2.0, (high - low) / 2.0))
        };
        let (quarter, rest) = (first.at + span / 4.0, last.at - span / 4.0);
        let before = mid(&|heard| heard.at < middle, quarter);
        let after = mid(&|heard| heard.at >= middle, rest);
        if let Some(((before, early), (after, late))) = before.zip(after) {
            let apart = rest - quarter;
            let drift = ((after - before) / apart).clamp(-DRIFT, DRIFT);
            self.drift = (drift, ((early + late) / apart).clamp(KNOWN, UNKNOWN));
        }
    }
}

fn bounds<'h>(
    heard: impl Iterator<Item = &'h Heard>,
    own: f64,
    (drift, slack): (f64, f64),
) -> Option<(f64, f64)> {
    let moved = |heard: &Heard| {
        let (by, slack) = (drift * (own - heard.at), slack * (own - heard.at).abs());
        (heard.low + by - slack, heard.high + by + slack)
    };
    heard
        .map(moved)
        .reduce(|(low, high), (other_low, other_high)| (low.max(other_low), high.min(other_high)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::rngs::StdRng;
    use rand::{Rng as _, SeedableRng as _};

    /// A service whose clock is ahead by an hour and drifts, over a link with jitter either way.
    fn run(
        seed: u64,
        pongs: usize,
        every: f64,
        jitter: f64,
        drift: f64,
    ) -> (f64, ServiceTime, f64) {
        let first = 48;
        let mut random = StdRng::seed_from_u64(seed);
        let service = |own: f64| 3_600_000.0 + own * (1.0 + drift);
        let mut time = ServiceTime::default();
        let mut now = 5_000.0;
        for n in 0..pongs {
            let every = if n < first { 250.0 } else { every };
            let (there, back) = (random.random::<f64>() * jitter, random.random::<f64>() * jitter);
            let told = service(now + 10.0 + there).floor();
            let received = now + 20.0 + there + back;
            #[expect(
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "positive"
            )]
            time.handle_pong(now, told as u64, received);
            now = received.max(now + every);
        }
        let error = (time.at(now).unwrap() - service(now)).abs();
        (error, time, now)
    }

    #[test]
    fn the_time_is_told_within_20_ms_over_a_link_with_200_ms_of_jitter() {
        for seed in 0..500 {
            for pongs in [48, 100, 200, 400] {
                let (error, time, now) = run(seed, pongs, 2_000.0, 200.0, 4e-5);
                assert!(error < 20.0, "seed {seed}, {pongs} pongs: {error} ms");
                let known = time.uncertainty(now).unwrap();
                assert!(error <= known && known < 100.0, "seed {seed}: {error} of {known} ms");
            }
        }
    }

    #[test]
    fn a_clock_that_drifts_is_followed_also_where_nothing_comes_for_a_while() {
        for seed in 0..50 {
            let (_, time, now) = run(seed, 300, 10_000.0, 20.0, 2e-4);
            let hour = now + 3_600_000.0;
            let error = (time.at(hour).unwrap() - (3_600_000.0 + hour * 1.000_2)).abs();
            assert!(error < 250.0, "seed {seed}: {error} ms after an hour, of 720 without");
        }
    }

    #[test]
    fn a_service_whose_clock_was_set_to_another_time_is_believed() {
        let mut time = ServiceTime::default();
        for n in 0..40_u32 {
            let own = f64::from(n) * 1_000.0;
            let ahead = if n < 20 { 0 } else { 7_200_000 };
            time.handle_pong(own, 1_000 * u64::from(n) + 5 + ahead, own + 10.0);
        }
        let at = time.at(40_000.0).unwrap();
        assert!((at - 7_240_000.0).abs() < 20.0, "{at}");
        assert_eq!(ServiceTime::default().at(5.0), None);
    }
}
