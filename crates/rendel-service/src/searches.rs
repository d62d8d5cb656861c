//! Searches for a seat that are under way.

use std::collections::BTreeMap;
use std::sync::{Arc, Weak};

use parking_lot::Mutex;

/// Those for the same wait for each other, so that two of them never open a session each.
#[derive(Debug, Default)]
pub(crate) struct Searches(Mutex<BTreeMap<String, Weak<tokio::sync::Mutex<()>>>>);

impl Searches {
    /// What whoever searches for that holds meanwhile.
    pub(crate) fn of(&self, search: &str) -> Arc<tokio::sync::Mutex<()>> {
        let mut all = self.0.lock();
        all.retain(|_, one| one.strong_count() > 0);
        let known = all.get(search).and_then(Weak::upgrade);
        known.unwrap_or_else(|| {
            let new = Arc::default();
            all.insert(search.to_owned(), Arc::downgrade(&new));
            new
        })
    }
}
