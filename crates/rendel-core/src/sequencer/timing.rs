//! Time: what is due, what begins to count, and what is pushed back.

use super::playing::Following;
use super::settling::Work;
use super::{Present, Sequencer};
use crate::charter::Charter;
use crate::edit::Edit;
use crate::kind::{Cell, DeadlineCell, DeadlineField, Field};
use crate::path::{Path, Token};
use crate::problem::Problem;
use crate::stamp::Stamp;
use crate::state::State;
use crate::update::Effect;

impl State {
    /// A deadline of the charter.
    pub(crate) fn deadline<'s>(
        &'s self,
        charter: &'s Charter,
        field: &Token,
    ) -> Option<(&'s DeadlineField, &'s DeadlineCell)> {
        match charter.fields.find(self.root(), std::slice::from_ref(field))? {
            (Field::Deadline(field), Cell::Deadline(cell)) => Some((field, cell)),
            _ => None,
        }
    }

    fn is_seated(&self, charter: &Charter) -> bool {
        self.seats(charter).is_some_and(|(_, seats)| !seats.is_gathering())
    }
}

impl Sequencer {
    /// When something is due next for which the session must be there, in milliseconds since 1970
    /// UTC. What has only to begin to count is due at once. Cost O(deadlines and timed turns) after
    /// a change of one of them or of the seats, O(1) otherwise.
    pub fn next_due(&self) -> Option<u64> {
        let look = || {
            let begins = (!self.to_begin().is_empty()).then_some(0);
            begins.or_else(|| self.all_due().map(|(due, _)| due).min())
        };
        let due = (*self.present.next_due.get_or_init(look))?;
        Some(due.max(self.no_due_before))
    }

    /// The times that are set, with the fields that they are of.
    fn all_due(&self) -> impl Iterator<Item = (u64, &Token)> {
        let (state, play) = (&self.present.state, &self.charter.play);
        let deadlines = play.deadlines.iter().filter_map(|deadline| {
            let (_, cell) = state.deadline(&self.charter, &deadline.field)?;
            Some((cell.pending()?, &deadline.field))
        });
        let turns = play.timed.iter().filter_map(|field| {
            let (_, cell) = state.turn(&self.charter, field)?;
            Some((cell.due()?, field))
        });
        deadlines.chain(turns)
    }

    /// The fields whose time is to begin to count now.
    fn to_begin(&self) -> Vec<&Token> {
        let (state, play) = (&self.present.state, &self.charter.play);
        let begins = |field: &&Token| {
            let deadline = state.deadline(&self.charter, field).is_some_and(|(of, cell)| {
                cell.waits().is_some() && (!of.waits_for_seats() || state.is_seated(&self.charter))
            });
            let turn = || state.turn(&self.charter, field);
            deadline || turn().is_some_and(|(of, cell)| of.is_to_begin(cell))
        };
        let deadlines = play.deadlines.iter().map(|deadline| &deadline.field);
        deadlines.chain(&play.timed).filter(begins).collect()
    }

    /// What is to be done now: the earliest that is due, or else whatever begins to count.
    pub(super) fn due_edits(&self, now: u64) -> Vec<Edit> {
        let at = |field: &Token| Path::of([field.clone()]).to_string();
        // Nothing was settled before: the session begins when it was opened, also where nobody has
        // looked at it since.
        let from = if self.at == 0 && self.opened > 0 { self.opened.min(now) } else { now };
        if let Some((_, field)) = self.all_due().filter(|(due, _)| *due <= now).min() {
            return vec![Edit::new(at(field), "fire")];
        }
        let begin = |field: &Token| Edit::new(at(field), "begin").with("from", from);
        self.to_begin().into_iter().map(begin).collect()
    }

    /// Pushes back the deadlines that the effects from `first` on come shortly before.
    pub(super) fn push_back(&self, work: &mut Work, first: usize, now: u64) -> Result<(), Problem> {
        for deadline in &self.charter.play.deadlines {
            let Some(extend) = &deadline.extend else { continue };
            let concerns = |effect: &Effect| {
                let change = effect.change();
                change.path().is_some_and(|path| extend.when.concerns(path.tokens(), false))
            };
            if !work.effects[first..].iter().any(concerns) {
                continue;
            }
            let found = work.present.state.deadline(&self.charter, &deadline.field);
            let next = found.and_then(|(_, cell)| cell.pushed_back(extend.by, extend.within, now));
            if let Some(next) = next {
                let next = Cell::Deadline(next);
                let Work { present, following, stamp, .. } = work;
                self.put(present, following, &deadline.field, &next, *stamp)?;
            }
        }
        Ok(())
    }

    /// Turns that are others than before have their whole time.
    pub(super) fn time_turns(
        &self,
        present: &mut Present,
        following: &mut Following,
        stamp: Stamp,
        now: u64,
    ) -> Result<(), Problem> {
        for field in &self.charter.play.timed {
            let found = present.state.turn(&self.charter, field);
            let next = found.filter(|(of, cell)| of.is_to_begin(cell));
            if let Some(next) = next.map(|(of, cell)| of.begun(cell, now)) {
                self.put(present, following, field, &Cell::Turn(next), stamp)?;
            }
        }
        Ok(())
    }
}
