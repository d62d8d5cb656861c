//! The state with the indexes that are kept next to it: references, totals, and what is due next.

use std::sync::OnceLock;

use crate::charter::Charter;
use crate::kind::Before;
use crate::references::Referrers;
use crate::stamp::Stamp;
use crate::state::{Misfit, State};
use crate::totals::Totals;
use crate::update::Effect;

/// A state with its indexes. A clone shares everything.
#[derive(Clone, Debug)]
pub(super) struct IndexedState {
    pub(super) state: State,
    pub(super) referrers: Referrers,
    pub(super) totals: Totals,
    /// When something is due next, once it has been computed.
    pub(super) next_due: OnceLock<Option<u64>>,
}

impl IndexedState {
    /// Builds the indexes of a state. Cost O(size).
    pub(super) fn of(charter: &Charter, state: State) -> Self {
        let referrers = Referrers::of(&charter.fields, state.root(), &charter.links);
        let totals = Totals::of(&charter.fields, state.root(), &charter.play.totals);
        Self { state, referrers, totals, next_due: OnceLock::new() }
    }

    /// Applies an effect and keeps the indexes right, else as [`State::apply_one`].
    pub(super) fn apply(
        &mut self,
        charter: &Charter,
        effect: &Effect,
        stamp: Stamp,
        before: Option<&mut Before>,
    ) -> Result<u64, Misfit> {
        let (fields, links) = (&charter.fields, &charter.links);
        let totals = &charter.play.totals;
        if effect.at.tokens().first().is_none_or(|field| charter.play.is_of_time(field)) {
            self.next_due = OnceLock::new();
        }
        if links.is_empty() && totals.is_empty() {
            return self.state.apply_one(fields, effect, stamp, before);
        }
        let change = effect.change();
        self.referrers.handle_going(fields, self.state.root(), links, &change);
        self.totals.handle_going(fields, self.state.root(), totals, &change);
        let record = self.state.apply_one(fields, effect, stamp, before)?;
        self.referrers.handle_came(fields, self.state.root(), links, &change);
        self.totals.handle_came(fields, self.state.root(), totals, &change);
        Ok(record)
    }
}
