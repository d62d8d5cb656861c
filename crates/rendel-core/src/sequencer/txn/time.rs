//! Time that follows from changes: deadlines that are extended, turns whose time begins.

use super::Txn;
use crate::kind::Cell;
use crate::problem::Problem;
use crate::update::Effect;

impl Txn<'_> {
    /// Extends the deadlines shortly before which the effects from `first` on come.
    pub(super) fn extend_deadlines(&mut self, first: usize) -> Result<(), Problem> {
        let (charter, now) = (&self.session.charter, self.origin.now);
        for deadline in &charter.play.deadlines {
            let Some(extend) = &deadline.extend else { continue };
            let concerns = |effect: &Effect| {
                let change = effect.change();
                change.path().is_some_and(|path| extend.when.concerns(path.tokens(), false))
            };
            if !self.log.effects[first..].iter().any(concerns) {
                continue;
            }
            let found = self.state().deadline(charter, &deadline.field);
            let next = found.and_then(|(_, cell)| cell.extended(extend.by, extend.within, now));
            next.map_or(Ok(()), |next| self.derive(&deadline.field, &Cell::Deadline(next)))?;
        }
        Ok(())
    }

    /// Lets the time of each new turn begin.
    pub(super) fn time_turns(&mut self) -> Result<(), Problem> {
        let (charter, now) = (&self.session.charter, self.origin.now);
        for field in &charter.play.timed {
            let found = self.state().turn(charter, field);
            let next = found.filter(|(of, cell)| of.is_to_begin(cell));
            let next = next.map(|(of, cell)| of.begun(cell, now));
            next.map_or(Ok(()), |next| self.derive(field, &Cell::Turn(next)))?;
        }
        Ok(())
    }
}
