//! Undo of one change: what an effect finds at its place, and what undoing it does later.
//!
//! What stands at a place is somebody's *work*: it has the `seq` of the update that made it. An undo
//! brings work back under its old `seq`, so that it is known again when what came before it is
//! undone. What somebody else has made of the place meanwhile is other work, and stays.

use std::sync::Arc;

use serde::{Deserialize, Serialize};
use serde_json::Value;
use smallvec::SmallVec;

use super::{EditContext, Memory};
use crate::actor::ClientKey;
use crate::canonical::weight;
use crate::op::Op;
use crate::path::{Path, Token};
use crate::update::{Effect, Effects};

/// What an effect finds at its place.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Was {
    /// A register had these values, and they were the work of that update.
    Values(SmallVec<[Arc<Value>; 1]>, u64),
    /// A counter, which grows by so much.
    Number(i64),
    /// A set without that element.
    Without(Arc<Value>),
    /// A set with that element, and it was the work of that update.
    With(Arc<Value>, u64),
    /// No record or element.
    Nothing,
    /// A record or element, which goes.
    There,
    /// An element between these neighbours, placed by that update.
    Place {
        /// The one before it.
        after: Option<Arc<str>>,
        /// The one after it.
        before: Option<Arc<str>>,
        /// Whose place it was.
        whose: u64,
    },
    /// A text, which knows itself who wrote and deleted what.
    Text,
}

impl Was {
    /// About the bytes that it takes.
    fn bytes(&self) -> usize {
        match self {
            Self::Values(values, _) => values.iter().map(|value| weight(value)).sum(),
            Self::Without(value) | Self::With(value, _) => weight(value),
            Self::Place { after, before, .. } => {
                [after, before].into_iter().flatten().map(|id| id.len()).sum()
            }
            Self::Number(_) | Self::Nothing | Self::There | Self::Text => 0,
        }
    }
}

/// Among so many of the last places one is looked for that is changed again.
const PLACES: usize = 32;

/// How one change can be undone.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Taken {
    /// The place: of a record or element that comes or goes, its own path.
    pub(crate) at: Path,
    /// What was there.
    pub(crate) was: Was,
    /// The work that the change left there.
    pub(crate) left: u64,
    /// The update that made the record around the place, so that a later record under the same id is
    /// known to be another; 0 if there is no record around it, or it is as old as the session.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub(crate) record: u64,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde gives a reference")]
fn is_zero(seq: &u64) -> bool {
    *seq == 0
}

impl Taken {
    /// About the bytes that it takes.
    pub(crate) fn bytes(&self) -> usize {
        let tokens = self.at.tokens().iter().map(|token| token.len() + 24);
        96 + tokens.sum::<usize>() + self.was.bytes()
    }

    /// Adds what came after others to the one at the same place, where one will do; gives it back
    /// where not.
    pub(crate) fn join(all: &mut [Self], next: Self) -> Option<Self> {
        let near = all.len().saturating_sub(PLACES);
        let same = all[near..].iter_mut().rev().find(|taken| taken.at == next.at);
        match same.and_then(|same| same.joined(&next).map(|joined| (same, joined))) {
            Some((same, joined)) => {
                *same = joined;
                None
            }
            None => Some(next),
        }
    }

    /// One for this and what came after it at the same place, where one will do.
    fn joined(&self, next: &Self) -> Option<Self> {
        if self.record != next.record {
            return None;
        }
        let was = match (&self.was, &next.was) {
            (Was::Number(one), Was::Number(other)) => Was::Number(one.checked_add(*other)?),
            (Was::Values(..), Was::Values(_, whose))
            | (Was::Place { .. }, Was::Place { whose, .. })
                if *whose == self.left =>
            {
                self.was.clone()
            }
            (Was::Text, Was::Text) => Was::Text,
            _ => return None,
        };
        (self.at == next.at).then(|| Self { was, left: next.left, ..self.clone() })
    }
}

/// Whether a change of a field can be undone.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Before {
    /// By this. The change leaves the work of its own update unless `left` names another.
    Was {
        /// The place, if it is another than the effect's path.
        at: Option<Path>,
        was: Was,
        left: Option<u64>,
    },
    /// It leaves nothing to undo.
    Nothing,
    /// Never, nor anything that was done together with it: it was a move in play.
    Never,
}

impl Before {
    /// At the effect's own path.
    pub(super) fn here(was: Was) -> Self {
        Self::Was { at: None, was, left: None }
    }

    /// The note by which the effect can be undone.
    pub(crate) fn taken(self, effect: &Effect, seq: u64, record: u64) -> Option<Taken> {
        let Self::Was { at, was, left } = self else { return None };
        let left = left.or(effect.restores).unwrap_or(seq);
        Some(Taken { at: at.unwrap_or_else(|| effect.at.clone()), was, left, record })
    }
}

/// The circumstances in which a change is undone.
#[derive(Clone, Copy, Debug)]
pub(crate) struct TakingBack<'t> {
    pub(crate) taken: &'t Taken,
    /// The updates that are undone.
    pub(crate) updates: &'t [u64],
    /// The clients of the participant that undoes it.
    pub(crate) own: &'t [ClientKey],
    pub(crate) memory: &'t Memory,
}

/// What undoes a change; nothing if its place is gone already.
pub(crate) type TakenBack = Result<Inverse, InTheWay>;

/// What takes one change back.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Inverse {
    pub(crate) effects: Effects,
    /// Why a part of it stays.
    pub(crate) stays: Option<InTheWay>,
}

impl From<Effect> for Inverse {
    fn from(effect: Effect) -> Self {
        Self { effects: smallvec::smallvec![effect], stays: None }
    }
}

/// What stands against taking something back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct InTheWay {
    /// The update, if one does.
    pub(crate) update: Option<u64>,
    pub(crate) because: &'static str,
}

impl InTheWay {
    /// Another update has made something else of the place.
    pub(super) fn changed(update: u64) -> Self {
        Self { update: Some(update), because: "has changed it since" }
    }

    /// Another update has taken away what it lay in.
    pub(super) fn gone(update: u64) -> Self {
        Self { update: Some(update), because: "has taken away what it was in" }
    }

    /// Nobody knows any more what was there.
    pub(super) fn forgotten() -> Self {
        Self { update: None, because: "What was there is not remembered any more" }
    }
}

impl TakingBack<'_> {
    /// Refuses to undo a change in another record than the one it was made in. `rest` is what
    /// remains of the path below the record that `update` made.
    pub(super) fn check_record(&self, rest: &[Token], update: u64) -> Result<(), InTheWay> {
        let len = self.taken.at.tokens().len();
        let is_innermost = len - rest.len() == (len - 1) / 2 * 2;
        match is_innermost && update != self.taken.record {
            true => Err(InTheWay { update: Some(update), because: "has put another record there" }),
            false => Ok(()),
        }
    }

    /// The last update by somebody else whose work stands in what came with the change.
    pub(super) fn met(&self, meet: impl FnOnce(&EditContext<'_>, &mut Vec<u64>)) -> Option<u64> {
        let mut met = Vec::new();
        let site = EditContext {
            op: &Ok(Op::Drop),
            path: &self.taken.at,
            index: 0,
            client: ClientKey::NOBODY,
            seen: self.taken.left,
            memory: self.memory,
            follows_refused: false,
            own: self.own,
        };
        meet(&site, &mut met);
        met.into_iter().max()
    }

    /// An effect that brings back the work of an update.
    pub(super) fn effect(&self, at: impl Into<Path>, op: Op, whose: u64) -> Inverse {
        Effect { restores: Some(whose), ..Effect::new(at, op) }.into()
    }
}
