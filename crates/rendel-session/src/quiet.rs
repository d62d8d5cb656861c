//! Updates of which an audience is shown nothing. Each keeps its place in the order, and nobody needs
//! a frame for each: they are told of together.

use std::sync::Arc;

use rendel_core::Settled;
use serde::Serialize;

/// An update of a run, or several of which nothing is shown.
#[derive(Clone, Debug, Serialize)]
pub struct ShownUpdate {
    /// The place of the last that it stands for.
    pub seq: u64,
    /// The update as JSON.
    pub update: Arc<str>,
    /// The JSON Patch, where somebody follows by patches.
    pub patch: Option<String>,
}

/// Updates of which nothing is shown, from `first` to `seq`.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Blank {
    first: u64,
    pub(crate) seq: u64,
    at: u64,
}

impl Blank {
    /// The place of an update, if nothing of it is shown.
    pub(crate) fn of(shown: &Settled) -> Option<Self> {
        let blank = Self { first: shown.seq, seq: shown.seq, at: shown.at };
        shown.is_blank().then_some(blank)
    }

    /// With those that come right after it.
    pub(crate) fn and(self, next: Self) -> Self {
        Self { first: self.first, ..next }
    }

    /// Those up to a place.
    pub(crate) fn up_to(self, seq: u64) -> Self {
        Self { seq, ..self }
    }

    /// As it is told.
    pub(crate) fn told(self) -> ShownUpdate {
        let update = Settled::blank(self.first, self.seq, self.at);
        let update = serde_json::to_string(&update).unwrap_or_default().into();
        ShownUpdate { seq: self.seq, update, patch: Some("[]".to_owned()) }
    }
}

/// A part of a run, as an audience is shown it.
#[derive(Debug)]
pub(crate) enum Stretch {
    Blank(Blank),
    Shown(Vec<ShownUpdate>),
}

impl Stretch {
    pub(crate) fn last(&self) -> u64 {
        match self {
            Self::Blank(blank) => blank.seq,
            Self::Shown(entries) => entries.last().map_or(0, |entry| entry.seq),
        }
    }
}

/// The stretches of a run, in order.
#[derive(Debug, Default)]
pub(crate) struct Stretches(pub(crate) Vec<Stretch>);

impl Stretches {
    pub(crate) fn push_blank(&mut self, blank: Blank) {
        match self.0.last_mut() {
            Some(Stretch::Blank(before)) => *before = before.and(blank),
            _ => self.0.push(Stretch::Blank(blank)),
        }
    }

    pub(crate) fn push_shown(&mut self, shown: ShownUpdate) {
        match self.0.last_mut() {
            Some(Stretch::Shown(entries)) => entries.push(shown),
            _ => self.0.push(Stretch::Shown(vec![shown])),
        }
    }
}
