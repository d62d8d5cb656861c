//! The last updates of a session, kept in memory for those who come back.

use std::collections::VecDeque;
use std::sync::Arc;

/// Updates and bytes that are kept.
const UPDATES: usize = 4_096;
const BYTES: usize = 4 << 20;

/// The last updates as JSON, for those who come back.
#[derive(Debug, Default)]
pub(crate) struct Recent {
    updates: VecDeque<Arc<str>>,
    bytes: usize,
    last: u64,
}

impl Recent {
    /// Nothing yet, in a session that stands at `last`.
    pub(crate) fn from(last: u64) -> Self {
        Self { last, ..Self::default() }
    }

    pub(crate) fn push(&mut self, seq: u64, json: Arc<str>) {
        self.last = seq;
        self.bytes += json.len();
        self.updates.push_back(json);
        while self.updates.len() > UPDATES || self.bytes > BYTES {
            self.bytes -= self.updates.pop_front().map_or(0, |json| json.len());
        }
    }

    /// The updates after `seen`, if all of them are here.
    pub(crate) fn after(&self, seen: u64) -> Option<impl Iterator<Item = &Arc<str>>> {
        let missed = usize::try_from(self.last.checked_sub(seen)?).ok()?;
        let skipped = self.updates.len().checked_sub(missed)?;
        Some(self.updates.iter().skip(skipped))
    }

    pub(crate) fn get(&self, seq: u64) -> Option<&Arc<str>> {
        self.after(seq.checked_sub(1)?)?.next()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn filled(from: u64, to: u64) -> Recent {
        let mut recent = Recent::from(from);
        (from + 1..=to).for_each(|seq| recent.push(seq, seq.to_string().into()));
        recent
    }

    #[test]
    fn it_gives_what_was_missed_and_nothing_where_some_of_it_is_gone() {
        let recent = filled(10, 15);
        let after = |seen| {
            recent.after(seen).map(|updates| updates.map(|json| &**json).collect::<Vec<_>>())
        };
        assert_eq!(after(12), Some(vec!["13", "14", "15"]));
        assert_eq!((after(15), after(10).map(|updates| updates.len())), (Some(vec![]), Some(5)));
        assert_eq!((after(9), after(16)), (None, None));
        assert_eq!(
            (recent.get(11).map(|json| &**json), recent.get(10), recent.get(16)),
            (Some("11"), None, None)
        );
    }

    #[test]
    fn it_is_bounded_in_number_and_in_bytes() {
        let recent = filled(0, 10_000);
        assert_eq!(
            (recent.updates.len(), recent.after(10_000 - UPDATES as u64).is_some()),
            (UPDATES, true)
        );
        let mut recent = Recent::default();
        (1..=100).for_each(|seq| recent.push(seq, "x".repeat(100_000).into()));
        assert!(recent.bytes <= BYTES && recent.after(99).is_some() && recent.after(10).is_none());
    }
}
