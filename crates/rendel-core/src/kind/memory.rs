//! What a session remembers of what is gone: one memory for all of its fields, within one budget.
//!
//! An edit made without having seen a drop, a remove or an exclude is settled against it, and a
//! record that comes back comes back whole. Texts and lists remember besides who put what where and
//! what was removed, so that positions of before can be read.
//!
//! What is forgotten follows from the updates alone, so that every owner of a session forgets the
//! same: of what is gone the oldest, once there are too many or too large ones, and of the places
//! in texts and lists those of the older half, once twice as many changes have gathered.

use std::sync::Arc;

use imbl::OrdSet;
use serde::{Deserialize, Serialize};

use super::record::{Element, Entry};
use crate::lately::{self, Lately};
use crate::path::Path;
use crate::stamp::Stamp;

/// How much is remembered.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct MemoryLimits {
    /// Records, elements of lists and of sets that are gone, in all fields together.
    pub(crate) gone: usize,
    /// Bytes of them as plain JSON.
    pub(crate) bytes: usize,
    /// Changes of all texts and lists together of which every place is remembered.
    pub(crate) changes: usize,
}

impl Default for MemoryLimits {
    fn default() -> Self {
        Self { gone: 10_000, bytes: 16 << 20, changes: 100_000 }
    }
}

/// About the bytes that a change of a text or list takes while it is remembered.
pub(super) const CHANGE: usize = 128;

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Memory {
    bounds: MemoryLimits,
    gone: Lately<Path, Gone>,
    /// Views of a text or list of before this update cannot be read any more.
    horizon: u64,
    /// Changes of texts and lists since then, and the update at which half of the most had
    /// gathered.
    changes: usize,
    midway: u64,
    /// The texts and lists that were changed since then.
    changed: OrdSet<Path>,
}

/// Something that is gone.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct Gone {
    /// By which update.
    pub(super) stamp: Stamp,
    pub(super) what: What,
}

/// What it was.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(super) enum What {
    Record(Arc<Entry>),
    Element(Arc<Element>),
    /// An element of a set, which its path tells whole.
    Value,
}

impl Memory {
    pub(crate) fn new(bounds: MemoryLimits) -> Self {
        Self { bounds, ..Self::default() }
    }

    /// A memory that begins with an update.
    pub(crate) fn since(seq: u64) -> Self {
        Self { horizon: seq, ..Self::default() }
    }

    /// A memory in which nothing is remembered, of a state that is there anew.
    pub(crate) fn emptied(&self) -> Self {
        Self { bounds: self.bounds, horizon: self.horizon, ..Self::default() }
    }

    pub(super) fn note(&mut self, path: Path, gone: Gone, bytes: usize) {
        let bounds = lately::Capacity { entries: self.bounds.gone, bytes: self.bounds.bytes };
        self.gone.put(path, gone, bytes, bounds);
    }

    pub(super) fn get(&self, path: &Path) -> Option<&Gone> {
        self.gone.get(path)
    }

    pub(super) fn take(&mut self, path: &Path) -> Option<Gone> {
        self.gone.take(path)
    }

    /// Something is at the path anew: what was there before, and in it, has nothing to do with it.
    pub(super) fn forget_within(&mut self, path: &Path) {
        let within = self.gone.from(path).map(|(gone, _)| gone);
        let within: Vec<Path> = within.take_while(|gone| gone.is_within(path)).cloned().collect();
        within.iter().for_each(|gone| drop(self.gone.take(gone)));
    }

    pub(crate) fn horizon(&self) -> u64 {
        self.horizon
    }

    /// Counts a change of the text or list at a path, or one that is as large as so many.
    pub(super) fn count(&mut self, path: &Path, seq: u64, changes: usize) {
        let before = self.changes;
        self.changes += changes;
        if before < self.bounds.changes && self.changes >= self.bounds.changes {
            self.midway = seq;
        }
        if !self.changed.contains(path) {
            self.changed.insert(path.clone());
        }
    }

    /// After an update: the horizon up to which `forget` is to forget in each text and list that
    /// was changed, where it is time for that. `forget` says whether one remembers more.
    pub(crate) fn age(&mut self, seq: u64, mut forget: impl FnMut(&Path, u64) -> bool) {
        if self.changes < 2 * self.bounds.changes {
            return;
        }
        self.horizon = self.midway;
        self.midway = seq;
        self.changes = self.bounds.changes;
        let changed = std::mem::take(&mut self.changed);
        self.changed = changed.into_iter().filter(|path| forget(path, self.horizon)).collect();
    }

    /// About the bytes that it takes.
    pub(crate) fn bytes(&self) -> usize {
        self.gone.bytes() + CHANGE * self.changes
    }
}
