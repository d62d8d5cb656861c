//! What a sequence is made of: runs, and which views see them.

use crate::actor::ClientKey;
use crate::stamp::Stamp;
use serde::{Deserialize, Serialize};
use thin_vec::ThinVec;

/// Who looks: everything up to `seen`, and all that `client` did itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct View {
    /// The last update that is seen.
    pub seen: u64,
    /// Who looks.
    pub client: ClientKey,
}

impl View {
    /// The view of the present, which has seen everything.
    pub const PRESENT: Self = Self { seen: u64::MAX, client: ClientKey::NOBODY };

    pub(super) fn knows(self, stamp: Stamp) -> bool {
        stamp.seq <= self.seen || stamp.client == self.client
    }
}

/// When an element was inserted: the update, the index of the insert within the update, and the place
/// within the insert. Births are in the order of insertion.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Birth {
    pub(super) stamp: Stamp,
    pub(super) part: u32,
    pub(super) offset: u32,
}

impl Birth {
    pub(super) fn plus(self, offset: u32) -> Self {
        Self { offset: self.offset + offset, ..self }
    }

    pub(super) fn is_later_than(self, other: Self) -> bool {
        (self.stamp.seq, self.part, self.offset) > (other.stamp.seq, other.part, other.offset)
    }
}

/// A removal, and the undo that took it back, if one did.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Death {
    #[serde(flatten)]
    pub(super) stamp: Stamp,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) undone: Option<Stamp>,
}

impl Death {
    pub(super) fn of(stamp: Stamp) -> Self {
        Self { stamp, undone: None }
    }

    fn holds_for(self, view: View) -> bool {
        view.knows(self.stamp) && !self.undone.is_some_and(|undone| view.knows(undone))
    }
}

/// Undone removals that are remembered for one run.
const UNDONE: usize = 16;

/// Elements side by side that came together and went together.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct Run<P> {
    pub(super) len: u32,
    pub(super) birth: Birth,
    /// By whom they were removed; several clients may have removed them without knowing of each
    /// other. Nearly all runs have none, which takes one pointer.
    #[serde(default = "ThinVec::new", skip_serializing_if = "ThinVec::is_empty")]
    pub(super) deaths: ThinVec<Death>,
    pub(super) piece: P,
}

impl<P: Clone> Run<P> {
    pub(super) fn is_alive(&self) -> bool {
        self.deaths.iter().all(|death| death.undone.is_some())
    }

    pub(super) fn is_known_to(&self, view: View) -> bool {
        view.knows(self.birth.stamp)
    }

    pub(super) fn is_seen_by(&self, view: View) -> bool {
        self.is_known_to(view) && !self.deaths.iter().any(|death| death.holds_for(view))
    }

    /// Its deaths once the work of some updates is undone: what they removed returns, and what they
    /// inserted or restored is removed, even if another client has removed it too. `None` if none of
    /// the work is in this run.
    pub(super) fn taken_back(
        &self,
        is_theirs: impl Fn(Stamp) -> bool,
        stamp: Stamp,
    ) -> Option<ThinVec<Death>> {
        let goes = is_theirs(self.birth.stamp)
            || self.deaths.iter().filter_map(|death| death.undone).any(&is_theirs);
        let comes_back = |death: &Death| death.undone.is_none() && is_theirs(death.stamp);
        if !goes && !self.deaths.iter().any(comes_back) {
            return None;
        }
        let undone = |death: &Death| match comes_back(death) {
            true => Death { undone: Some(stamp), ..*death },
            false => *death,
        };
        let deaths = self.deaths.iter().map(undone);
        Some(deaths.chain(goes.then(|| Death::of(stamp))).collect())
    }

    /// Forgets the oldest undone removals, beyond the bound; gives the last update whose view cannot
    /// be read any more because of that.
    pub(super) fn forget_undone(&mut self) -> u64 {
        let is_undone = |death: &&Death| death.undone.is_some();
        let mut over = self.deaths.iter().filter(is_undone).count().saturating_sub(UNDONE);
        let mut last = 0;
        self.deaths.retain(|death| match death.undone.filter(|_| over > 0) {
            Some(undone) => {
                (over, last) = (over - 1, last.max(undone.seq));
                false
            }
            None => true,
        });
        last
    }

    /// The last update that touched it.
    pub(super) fn latest(&self) -> u64 {
        let deaths = self.deaths.iter().flat_map(|death| [Some(death.stamp), death.undone]);
        deaths.flatten().map(|stamp| stamp.seq).fold(self.birth.stamp.seq, u64::max)
    }

    /// Keeps the first `at` elements and gives the rest.
    pub(super) fn split_off(&mut self, at: u32) -> Self {
        let rest = Self { len: self.len - at, birth: self.birth.plus(at), ..self.clone() };
        self.len = at;
        rest
    }
}
