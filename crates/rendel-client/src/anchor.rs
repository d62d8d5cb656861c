//! Anchors: carets and remarks that stay at their characters.

use std::collections::{BTreeMap, BTreeSet};

use crate::draft::Shift;

/// An anchor in a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Anchor(u64);

#[derive(Clone, Debug)]
struct Place {
    at: String,
    index: usize,
    is_left: bool,
    is_there: bool,
}

/// The anchors of a replica, in positions of what is shown.
#[derive(Clone, Debug, Default)]
pub(crate) struct Anchors {
    last: u64,
    places: BTreeMap<u64, Place>,
}

impl Anchors {
    pub(crate) fn add(&mut self, at: &str, index: usize, is_left: bool) -> Anchor {
        self.last += 1;
        self.places.insert(self.last, Place { at: at.to_owned(), index, is_left, is_there: true });
        Anchor(self.last)
    }

    pub(crate) fn find(&self, anchor: Anchor) -> Option<(usize, bool)> {
        self.places.get(&anchor.0).map(|place| (place.index, place.is_there))
    }

    pub(crate) fn remove(&mut self, anchor: Anchor) {
        self.places.remove(&anchor.0);
    }

    /// The texts in which there are some, each once.
    pub(crate) fn paths(&self) -> impl Iterator<Item = String> {
        self.places.values().map(|place| place.at.clone()).collect::<BTreeSet<_>>().into_iter()
    }

    pub(crate) fn follow(&mut self, at: &str, shifts: &[Shift]) {
        for place in self.places.values_mut().filter(|place| place.at == at) {
            for shift in shifts {
                let character =
                    if place.is_left { place.index.checked_sub(1) } else { Some(place.index) };
                place.is_there &= !character.is_some_and(|character| shift.removes(character));
                place.index = shift.follow(place.index, place.is_left);
            }
        }
    }
}
