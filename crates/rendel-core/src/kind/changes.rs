//! Who changed a field of many parts lately.

use std::collections::VecDeque;

use serde::{Deserialize, Serialize};

use super::EditContext;
use crate::stamp::Stamp;

/// The last change of something, and the last by another client than that: a client's own change
/// does not hide from it what it had not seen of others.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[serde(from = "StoredLatest")]
pub(crate) struct Latest {
    pub(crate) stamp: Stamp,
    by_another: Stamp,
}

/// Snapshots of before have the last change alone.
#[derive(Deserialize)]
#[serde(untagged)]
enum StoredLatest {
    Both { stamp: Stamp, by_another: Stamp },
    One(Stamp),
}

impl From<StoredLatest> for Latest {
    fn from(stored: StoredLatest) -> Self {
        match stored {
            StoredLatest::Both { stamp, by_another } => Self { stamp, by_another },
            StoredLatest::One(stamp) => Self::of(stamp),
        }
    }
}

impl Latest {
    pub(crate) fn of(stamp: Stamp) -> Self {
        Self { stamp, by_another: Stamp::OPENING }
    }

    /// With one more change.
    pub(crate) fn then(self, stamp: Stamp) -> Self {
        let by_another =
            if self.stamp.client == stamp.client { self.by_another } else { self.stamp };
        Self { stamp, by_another }
    }

    /// The last change that is concurrent with a proposal, if there is one.
    pub(crate) fn concurrent(self, site: &EditContext<'_>) -> Option<Stamp> {
        [self.stamp, self.by_another].into_iter().find(|stamp| site.is_concurrent(*stamp))
    }
}

/// Changes that are named one by one.
const NAMED: usize = 64;

/// The changes of a field: enough to tell whether any is concurrent to a proposal, and which those
/// are.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Changes {
    /// When the field came to be with the record that it is part of.
    made: Stamp,
    latest: Stamp,
    /// The latest by another client than the latest of all.
    latest_by_another: Stamp,
    named: VecDeque<Stamp>,
}

impl Default for Changes {
    fn default() -> Self {
        Self::since(Stamp::OPENING)
    }
}

impl Changes {
    pub(crate) fn since(made: Stamp) -> Self {
        Self { made, latest: made, latest_by_another: Stamp::OPENING, named: VecDeque::new() }
    }

    pub(crate) fn add(&mut self, stamp: Stamp) {
        if self.latest.client != stamp.client {
            self.latest_by_another = self.latest;
        }
        self.latest = stamp;
        if self.named.back() != Some(&stamp) {
            if self.named.len() == NAMED {
                self.named.pop_front();
            }
            self.named.push_back(stamp);
        }
    }

    /// The last change.
    pub(crate) fn latest(&self) -> u64 {
        self.latest.seq
    }

    /// Whether the proposer knew another field than this one, which came back with its record.
    pub(crate) fn is_made_anew(&self, site: &EditContext<'_>) -> bool {
        site.is_concurrent(self.made)
    }

    pub(crate) fn has_concurrent(&self, site: &EditContext<'_>) -> bool {
        site.is_concurrent(self.latest) || site.is_concurrent(self.latest_by_another)
    }

    /// The concurrent ones, of the last 64.
    pub(crate) fn concurrent(&self, site: &EditContext<'_>) -> Vec<u64> {
        self.named
            .iter()
            .filter(|stamp| site.is_concurrent(**stamp))
            .map(|stamp| stamp.seq)
            .collect()
    }
}
