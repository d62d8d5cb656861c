//! What changes can be taken back by, noted as they are made.

use smallvec::SmallVec;

use super::Present;
use super::playing::Following;
use crate::actor::{Actor, ClientKey};
use crate::charter::Charter;
use crate::history::{Histories, Typed};
use crate::kind::{Before, Taken};
use crate::op::Op;
use crate::path::Token;
use crate::stamp::Stamp;
use crate::state::Misfit;
use crate::update::{Effect, Effects, Verdict};

/// What the changes since the last update can be taken back by.
#[derive(Clone, Debug, Default)]
pub(super) struct Noted {
    pub(super) taken: SmallVec<[Taken; 1]>,
    /// Whether something among it is never undone: then nothing of it is.
    pub(super) is_never: bool,
    pub(super) typed: Option<Typed>,
}

/// What taking a step back comes to.
pub(super) struct Worked {
    pub(super) present: Present,
    pub(super) following: Following,
    pub(super) effects: Effects,
    pub(super) verdicts: Vec<Verdict>,
}

/// By whom a history is kept; `None` where none is.
pub(super) fn owner(charter: &Charter, id: &str, client: ClientKey) -> Option<Token> {
    if charter.session.undo == 0 || id == Actor::SERVICE {
        return None;
    }
    let is_shared = charter.session.is_undo_shared;
    Some(if is_shared { id.into() } else { client.id().to_string().into() })
}

/// A change that is about to be made: by whom, when, and what.
#[derive(Clone, Copy, Debug)]
pub(super) struct Coming<'c> {
    pub(super) by: &'c str,
    pub(super) at: u64,
    pub(super) effect: &'c Effect,
    pub(super) stamp: Stamp,
}

impl Present {
    /// Makes a change, and notes what it can be taken back by.
    pub(super) fn apply_noting(
        &mut self,
        charter: &Charter,
        histories: &Histories,
        coming: Coming<'_>,
    ) -> Result<(), Misfit> {
        let Coming { by, effect, stamp, .. } = coming;
        // Only `withdraw` takes a ballot back, so a cast is not a step that can be undone.
        let is_cast = charter.play.holds_ballots(&effect.at);
        if charter.session.undo == 0 || by == Actor::SERVICE || self.noted.is_never || is_cast {
            return self.apply(charter, effect, stamp, None);
        }
        let typed = match self.noted.taken.is_empty() {
            true => self.typed(charter, histories, coming),
            false => None,
        };
        let mut before = Before::Never;
        self.apply(charter, effect, stamp, Some(&mut before))?;
        if before == Before::Never {
            self.noted = Noted { is_never: true, ..Noted::default() };
            return Ok(());
        }
        self.noted.typed = typed;
        let taken = before.taken(effect, stamp.seq);
        let taken = taken.and_then(|taken| Taken::join(&mut self.noted.taken, taken));
        self.noted.taken.extend(taken);
        Ok(())
    }

    /// Where somebody types, and whether that goes on with what they typed right before.
    fn typed(&self, charter: &Charter, histories: &Histories, coming: Coming<'_>) -> Option<Typed> {
        let Coming { by, at, effect, stamp } = coming;
        let client = stamp.client;
        let Op::Splice { splice, back: None, .. } = &effect.op else { return None };
        let history = owner(charter, by, client).and_then(|owner| histories.get(&owner));
        let last = history.and_then(|history| history.typed(at));
        let last = last.filter(|(last, _)| last.client == client && last.text == effect.at);
        let here = last.and_then(|(last, seen)| match last.end.checked_sub(1) {
            None => Some(0),
            // Nothing has come in between.
            _ if seen + 1 == stamp.seq => Some(last.end),
            Some(before) => {
                let (fields, text) = (&charter.fields, &effect.at);
                let now = self.state.anchored(fields, text, seen, client, before)?;
                Some(now.index + usize::from(now.is_there))
            }
        });
        let goes_on =
            here.is_some_and(|here| splice.index == here || splice.index + splice.delete == here);
        let end = splice.index + splice.insert.chars().count();
        Some(Typed { client, text: effect.at.clone(), end, at, goes_on })
    }
}
