//! Who changed a field of many parts lately.

use std::collections::VecDeque;

use serde::{Deserialize, Serialize};

use super::Site;
use crate::state::Stamp;

/// Changes that are named one by one.
const NAMED: usize = 64;

/// The changes of a field: enough to tell whether any is concurrent to a proposal, and which those are.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Changes {
    /// When the field came to be with the record that it is part of.
    made: Stamp,
    latest: Stamp,
    /// The latest by another client than the latest of all.
    latest_by_another: Stamp,
    named: VecDeque<Stamp>,
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

    /// Whether the proposer knew another field than this one, which came back with its record.
    pub(crate) fn is_made_anew(&self, site: &Site<'_>) -> bool {
        site.is_concurrent(self.made)
    }

    pub(crate) fn has_concurrent(&self, site: &Site<'_>) -> bool {
        site.is_concurrent(self.latest) || site.is_concurrent(self.latest_by_another)
    }

    /// The concurrent ones, of the last 64.
    pub(crate) fn concurrent(&self, site: &Site<'_>) -> Vec<u64> {
        self.named.iter().filter(|stamp| site.is_concurrent(**stamp)).map(|stamp| stamp.seq).collect()
    }
}
