//! A sequence of elements with ids: each has one place, which moves and which stays remembered when
//! the element goes.

use std::sync::Arc;

use imbl::OrdMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::run::Death;
use super::tree::{NodeId, Spot};
use super::{Gap, Inserted, Piece, Sequence, View};
use crate::stamp::Stamp;

/// Whose place it is; of none is one from which an element has moved away.
type Whose = Option<Arc<str>>;

impl Piece for Whose {
    fn joins(&self, _next: &Self) -> bool {
        false
    }
}

/// The places of the elements of a list.
#[derive(Clone, Debug)]
pub(crate) struct Places {
    sequence: Sequence<Whose>,
    /// The leaf in which the place of an element lies.
    leaves: OrdMap<Arc<str>, NodeId>,
}

/// Where an element is to go.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Target {
    /// Before everything.
    Front,
    /// Behind everything.
    End,
    /// Behind an element.
    After(String),
    /// In front of one.
    Before(String),
    /// So that it has this index among what its proposer sees.
    Index(usize),
}

impl Places {
    pub(crate) fn of(ids: impl IntoIterator<Item = Arc<str>>, stamp: Stamp) -> Self {
        Self::over(Sequence::of(ids.into_iter().map(|id| (1, Some(id))), stamp))
    }

    fn over(sequence: Sequence<Whose>) -> Self {
        let mut places = Self { sequence, leaves: OrdMap::new() };
        places.find_leaves();
        places
    }

    fn find_leaves(&mut self) {
        self.leaves = OrdMap::new();
        let mut leaf = Some(self.sequence.tree.start().leaf);
        while let Some(here) = leaf {
            self.note_leaf(here);
            leaf = self.sequence.tree.next_leaf(here);
        }
    }

    fn note_leaf(&mut self, leaf: NodeId) {
        for id in self.sequence.tree.runs(leaf).iter().filter_map(|run| run.piece.clone()) {
            self.leaves.insert(id, leaf);
        }
    }

    /// Elements that a view sees.
    pub(crate) fn len(&self, view: View) -> usize {
        self.sequence.len(view)
    }

    /// The ids in order, of what is there. Cost O(n).
    pub(crate) fn iter(&self) -> impl Iterator<Item = &Arc<str>> {
        self.sequence.tree.iter().filter(|run| run.is_alive()).filter_map(|run| run.piece.as_ref())
    }

    /// Whether the place of such an element is known, though the element may be gone.
    pub(crate) fn remembers(&self, id: &str) -> bool {
        self.leaves.contains_key(id)
    }

    /// Places before that of an element; for one that is gone, before the gap that it left. Cost
    /// O(log n).
    pub(crate) fn rank(&self, id: &str) -> Option<usize> {
        self.spot(id).map(|spot| self.sequence.tree.rank(spot))
    }

    /// The element at an index of a view. Cost O(log n).
    pub(crate) fn at(&self, view: View, index: usize) -> Option<&Arc<str>> {
        let spot = self.sequence.tree.seek(view, index)?;
        self.sequence.tree.run(spot)?.piece.as_ref()
    }

    fn spot(&self, id: &str) -> Option<Spot> {
        let leaf = *self.leaves.get(id)?;
        let run = self
            .sequence
            .tree
            .runs(leaf)
            .iter()
            .position(|run| run.piece.as_deref() == Some(id))?;
        Some(Spot { leaf, run, offset: 0 })
    }

    fn gap(&self, view: View, target: &Target) -> Option<Gap> {
        match target {
            Target::Front => self.sequence.gap(view, 0),
            Target::End => self.sequence.gap(view, self.len(view)),
            Target::After(id) => Some(self.sequence.gap_after(view, self.spot(id)?)),
            Target::Before(id) => Some(self.sequence.gap_before(view, self.spot(id)?)),
            Target::Index(index) => self.sequence.gap(view, *index),
        }
    }

    /// The element behind which a target is at present, leaving out `id`, which goes there; `None`
    /// beyond the end. Cost O(log n).
    pub(crate) fn before(&self, target: &Target, id: &str) -> Option<Option<Arc<str>>> {
        let index = match target {
            Target::Front => 0,
            Target::End => self.len(View::PRESENT),
            Target::Index(index) => {
                Some(*index).filter(|index| *index <= self.len(View::PRESENT))?
            }
            Target::Before(beside) => self.rank(beside)?,
            Target::After(beside) => return Some(Some(Arc::from(beside.as_str()))),
        };
        let before = (0..index).rev().take(2).filter_map(|index| self.at(View::PRESENT, index));
        Some(before.into_iter().find(|before| before.as_ref() != id).cloned())
    }

    pub(crate) fn insert(
        &mut self,
        view: View,
        target: &Target,
        id: &Arc<str>,
        stamp: Stamp,
    ) -> Option<()> {
        let gap = self.gap(view, target)?;
        let Inserted { spot, new_leaf } = self.sequence.insert_in(gap, 1, Some(id.clone()), stamp);
        if let Some(leaf) = new_leaf {
            self.note_leaf(leaf);
        }
        self.leaves.insert(id.clone(), spot.leaf);
        Some(())
    }

    pub(crate) fn shift(
        &mut self,
        view: View,
        target: &Target,
        id: &Arc<str>,
        stamp: Stamp,
    ) -> Option<()> {
        let old = self.spot(id)?;
        self.sequence.finger = None;
        self.sequence.tree.change(old, 1, |run| {
            run.deaths.push(Death::of(stamp));
            run.piece = None;
        });
        self.leaves.remove(id);
        self.insert(view, target, id, stamp)
    }

    pub(crate) fn remove(&mut self, id: &str, stamp: Stamp) -> Option<()> {
        let spot = self.spot(id)?;
        self.sequence.remove_at(spot, 1, stamp);
        Some(())
    }

    /// See [`Sequence::forget`].
    pub(crate) fn forget(&mut self, horizon: u64) -> bool {
        let remembers = self.sequence.forget(horizon);
        self.find_leaves();
        remembers
    }

    /// Elements of which the place is known, those that are gone among them.
    pub(crate) fn remembered(&self) -> usize {
        self.leaves.len()
    }
}

impl PartialEq for Places {
    fn eq(&self, other: &Self) -> bool {
        self.sequence == other.sequence
    }
}

impl Serialize for Places {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.sequence.serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for Places {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Sequence::deserialize(deserializer).map(Self::over)
    }
}
