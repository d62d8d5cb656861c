//! The time.

use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

/// Milliseconds since 1970 UTC, as the machine's clock has it.
pub(crate) fn now_ms() -> u64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    u64::try_from(since.as_millis()).unwrap_or(u64::MAX)
}

/// A clock that never jumps: it counts what has passed since it began, and follows the machine's
/// clock no faster than by one part in two hundred. So a clock that is set to another time neither
/// ends what somebody holds nor lets it last.
#[derive(Debug)]
pub(crate) struct SteadyClock {
    /// What it showed when it was last set, in microseconds since 1970 UTC.
    shown: u64,
    set: Instant,
}

/// The part of the time passed by which it follows.
const SLEW: u32 = 200;

impl SteadyClock {
    /// One that shows these milliseconds since 1970 UTC now.
    pub(crate) fn at(now: u64) -> Self {
        Self { shown: now.saturating_mul(1_000), set: Instant::now() }
    }

    /// Milliseconds since 1970 UTC.
    pub(crate) fn now(&mut self) -> u64 {
        let instant = Instant::now();
        let passed = instant.saturating_duration_since(self.set);
        self.follow(passed, now_ms().saturating_mul(1_000));
        self.set = instant;
        self.shown / 1_000
    }

    fn follow(&mut self, passed: Duration, machine: u64) {
        let micros = |duration: Duration| u64::try_from(duration.as_micros()).unwrap_or(u64::MAX);
        let due = self.shown.saturating_add(micros(passed));
        let most = micros(passed / SLEW);
        self.shown = machine.clamp(due.saturating_sub(most), due.saturating_add(most));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clock_that_is_set_to_another_time_is_followed_slowly_and_never_back() {
        let mut clock = SteadyClock { shown: 1_000_000_000, set: Instant::now() };
        let second = Duration::from_secs(1);
        clock.follow(second, 1_001_000_000);
        assert_eq!(clock.shown, 1_001_000_000, "one that runs alike is shown as it is");
        clock.follow(second, 9_999_000_000);
        assert_eq!(clock.shown, 1_002_005_000, "an hour ahead");
        clock.follow(second, 0);
        assert_eq!(clock.shown, 1_003_000_000, "an hour behind, and still forward");
    }
}
