//! Who was removed from a session, on whichever way they come.

use std::collections::BTreeMap;

use parking_lot::Mutex;
use rendel_core::Problem;

use crate::clock::now_ms;
use crate::failure::removed;

/// Who was removed, and until when, in milliseconds since 1970 UTC. The session and all calls look
/// at the same.
#[derive(Debug, Default)]
pub(crate) struct Removals(Mutex<BTreeMap<String, u64>>);

impl Removals {
    pub(super) fn of(stored: BTreeMap<String, u64>) -> Self {
        Self(Mutex::new(stored))
    }

    pub(super) fn put(&self, who: &str, until: u64) {
        let mut removed = self.0.lock();
        let now = now_ms();
        removed.retain(|_, until| *until > now);
        removed.insert(who.to_owned(), until);
    }

    /// They may come back; gives whether they were removed.
    pub(crate) fn lift(&self, who: &str) -> bool {
        self.0.lock().remove(who).is_some_and(|until| until > now_ms())
    }

    /// `removed`, with the time, while somebody may not come.
    pub(crate) fn check(&self, who: &str) -> Result<(), Problem> {
        let until = self.0.lock().get(who).copied().filter(|until| *until > now_ms());
        until.map_or(Ok(()), |until| Err(removed(until)))
    }

    /// All of them.
    pub(crate) fn list(&self) -> Vec<(String, u64)> {
        let now = now_ms();
        self.0
            .lock()
            .iter()
            .filter(|(_, until)| **until > now)
            .map(|(who, until)| (who.clone(), *until))
            .collect()
    }
}
