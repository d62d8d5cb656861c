//! How an update can be undone: noted while its effects are applied.

use smallvec::SmallVec;

use super::indexed::IndexedState;
use crate::actor::{Actor, ClientKey};
use crate::charter::Charter;
use crate::history::{Histories, Typed};
use crate::kind::{Before, Taken};
use crate::op::Op;
use crate::path::Token;
use crate::stamp::Stamp;
use crate::state::Misfit;
use crate::update::Effect;

/// How the effects of one update can be undone.
#[derive(Clone, Debug, Default)]
pub(super) struct Reversal {
    pub(super) parts: SmallVec<[Taken; 1]>,
    /// Whether a part can never be undone. Then no part can.
    pub(super) is_never: bool,
    pub(super) typed: Option<Typed>,
}

/// Whose history an update belongs to; `None` if no history is kept for it.
pub(super) fn owner(charter: &Charter, id: &str, client: ClientKey) -> Option<Token> {
    if charter.session.undo == 0 || id == Actor::SERVICE {
        return None;
    }
    let is_shared = charter.session.is_undo_shared;
    Some(if is_shared { id.into() } else { client.id().to_string().into() })
}

/// The author and time of an effect.
#[derive(Clone, Copy, Debug)]
pub(super) struct Authored<'a> {
    pub(super) by: &'a str,
    pub(super) at: u64,
    pub(super) stamp: Stamp,
}

impl Reversal {
    /// Applies an effect of a participant and notes how it can be undone.
    pub(super) fn apply(
        &mut self,
        state: &mut IndexedState,
        charter: &Charter,
        histories: &Histories,
        effect: &Effect,
        authored: Authored<'_>,
    ) -> Result<(), Misfit> {
        let Authored { by, stamp, .. } = authored;
        // Only `withdraw` takes a ballot back, so a cast is not a step that can be undone.
        let is_cast = charter.holds_ballots(&effect.at);
        if charter.session.undo == 0 || by == Actor::SERVICE || self.is_never || is_cast {
            return state.apply(charter, effect, stamp, None).map(drop);
        }
        let typed = match self.parts.is_empty() {
            true => typed(state, charter, histories, effect, authored),
            false => None,
        };
        let mut before = Before::Never;
        let record = state.apply(charter, effect, stamp, Some(&mut before))?;
        if before == Before::Never {
            *self = Self { is_never: true, ..Self::default() };
            return Ok(());
        }
        self.typed = typed;
        let part = before.taken(effect, stamp.seq, record);
        let part = part.and_then(|part| Taken::join(&mut self.parts, part));
        self.parts.extend(part);
        Ok(())
    }
}

/// Where the author types, and whether it continues what they typed right before.
fn typed(
    state: &IndexedState,
    charter: &Charter,
    histories: &Histories,
    effect: &Effect,
    Authored { by, at, stamp }: Authored<'_>,
) -> Option<Typed> {
    let client = stamp.client;
    let Op::Splice { splice, back: None, .. } = &effect.op else { return None };
    let history = owner(charter, by, client).and_then(|owner| histories.get(&owner));
    let last = history.and_then(|history| history.typed(at));
    let last = last.filter(|(last, _)| last.client == client && last.text == effect.at);
    let here = last.and_then(|(last, seen)| match last.end.checked_sub(1) {
        None => Some(0),
        // No update has come in between.
        _ if seen + 1 == stamp.seq => Some(last.end),
        Some(before) => {
            let (fields, text) = (&charter.fields, &effect.at);
            let now = state.state.anchored(fields, text, seen, client, before)?;
            Some(now.index + usize::from(now.is_there))
        }
    });
    let goes_on =
        here.is_some_and(|here| splice.index == here || splice.index + splice.delete == here);
    let end = splice.index + splice.insert.chars().count();
    Some(Typed { client, text: effect.at.clone(), end, at, goes_on })
}
