//! What a sequence is made of: runs, and who sees which of them.

use crate::actor::ClientKey;
use crate::stamp::Stamp;
use serde::{Deserialize, Serialize};

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

/// When an element came: the update, the how-many-eth insert of that update, the place within the
/// insert. The order of births is the order in which elements came to be.
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

/// Elements side by side that came together and went together.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct Run<P> {
    pub(super) len: u32,
    pub(super) birth: Birth,
    /// By whom they were removed; several clients may have removed them without knowing of each
    /// other.
    #[serde(default = "Vec::new", skip_serializing_if = "Vec::is_empty")]
    pub(super) deaths: Vec<Stamp>,
    pub(super) piece: P,
}

impl<P: Clone> Run<P> {
    pub(super) fn is_alive(&self) -> bool {
        self.deaths.is_empty()
    }

    pub(super) fn is_known_to(&self, view: View) -> bool {
        view.knows(self.birth.stamp)
    }

    pub(super) fn is_seen_by(&self, view: View) -> bool {
        self.is_known_to(view) && !self.deaths.iter().any(|death| view.knows(*death))
    }

    /// The last update that touched it.
    pub(super) fn latest(&self) -> u64 {
        self.deaths.last().map_or(self.birth.stamp.seq, |death| death.seq.max(self.birth.stamp.seq))
    }

    /// Keeps the first `at` elements and gives the rest.
    pub(super) fn split_off(&mut self, at: u32) -> Self {
        let rest = Self { len: self.len - at, birth: self.birth.plus(at), ..self.clone() };
        self.len = at;
        rest
    }
}
