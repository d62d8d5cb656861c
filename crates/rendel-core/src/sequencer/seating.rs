//! Seats and chance of a session: what the session does about them automatically, and what a new
//! opening keeps.

use super::Sequencer;
use super::indexed::IndexedState;
use super::txn::broken;
use crate::charter::Charter;
use crate::edit::Edit;
use crate::kind::{Cell, Chance, Field};
use crate::op::Op;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::stamp::Stamp;
use crate::update::Effect;

impl Sequencer {
    pub(super) fn chance(&self) -> Result<&Chance, Problem> {
        self.chance.as_ref().ok_or_else(|| {
            let detail = "This session has no secret to draw from yet. Try again.";
            Problem::new(ProblemKind::Unavailable, detail)
        })
    }

    /// Puts the same participants on their seats in a new opening, with the same chance, so that no
    /// draw can be made twice.
    pub(super) fn carry_over(&self, opened: &mut Self, stamp: Stamp) -> Result<(), Problem> {
        let Charter { fields, play, .. } = &*self.charter;
        let kept = play.seats.iter().chain(play.draws.iter().map(|draws| &draws.field));
        for name in kept {
            let path = Path::of([name.clone()]);
            let value = match fields.find(self.indexed.state.root(), path.tokens()) {
                Some((field @ Field::Seats(of), Cell::Seats(seats))) => {
                    field.plain(&Cell::Seats(of.anew(seats)))
                }
                Some((field, cell)) => field.plain(cell),
                None => continue,
            };
            let effect = Effect::new(&path, Op::Set(value.into()));
            let applied = opened.indexed.apply(&self.charter, &effect, stamp, None);
            applied.map_err(|misfit| broken(&misfit))?;
        }
        let IndexedState { state, totals, .. } = &opened.indexed;
        for effect in state.following(&self.charter, totals, &totals.clone())? {
            let applied = opened.indexed.apply(&self.charter, &effect, stamp, None);
            applied.map_err(|misfit| broken(&misfit))?;
        }
        Ok(())
    }

    /// What the session has to do automatically: bind the first draws, keep the seats of participants
    /// that are not `here`, and note the participants that have returned. Cost O(seats).
    pub fn own_edits(&self, here: &dyn Fn(&str) -> bool, now: u64) -> Vec<Edit> {
        let Charter { fields, play, .. } = &*self.charter;
        let root = self.indexed.state.root();
        let is_unbound = |field: &Token| {
            let found = fields.find(root, std::slice::from_ref(field));
            self.chance.is_some()
                && matches!(found, Some((_, Cell::Random(cell))) if !cell.is_bound())
        };
        let unbound = play.draws.iter().map(|draws| &draws.field).filter(|field| is_unbound(field));
        let mut edits: Vec<Edit> =
            unbound.map(|field| Edit::new(Path::of([field.clone()]).to_string(), "bind")).collect();
        let Some((field, seats)) = self.indexed.state.seats(&self.charter) else { return edits };
        let until = now.saturating_add(field.reserve_ms());
        for (who, is_kept) in seats.all() {
            match (here(who), is_kept) {
                (false, false) => {
                    edits.push(self.of_seats("away").with("who", who).with("until", until));
                }
                (true, true) => edits.push(self.of_seats("back").with("who", who)),
                _ => {}
            }
        }
        edits
    }

    /// Gives a promised seat to a participant without one, if the seat is free.
    pub fn promised(&self, who: &str, seat: &str) -> Option<Edit> {
        let (field, seats) = self.indexed.state.seats(&self.charter)?;
        let is_free = field.names().iter().any(|name| name == seat) && seats.by(seat).is_none();
        let is_due = is_free && seats.seat_of(who).is_none();
        is_due.then(|| self.of_seats("give").with("seat", seat).with("to", who))
    }

    /// How many seats are free, where the charter has seats.
    pub fn free_seats(&self) -> Option<usize> {
        let (field, seats) = self.indexed.state.seats(&self.charter)?;
        Some(field.names().iter().filter(|seat| seats.by(seat).is_none()).count())
    }

    /// The seat that somebody has, or that is free for them, with the edit that gives it to them.
    pub fn seat_for(
        &self,
        who: &str,
        wanted: Option<&str>,
    ) -> Result<(String, Option<Edit>), Problem> {
        let taken = || Problem::new(ProblemKind::SeatTaken, "No seat is free.");
        let (field, seats) = self.indexed.state.seats(&self.charter).ok_or_else(taken)?;
        if let Some(own) = seats.seat_of(who) {
            return Ok((own.to_owned(), None));
        }
        let is_free = |seat: &&String| {
            seats.by(seat).is_none() && wanted.is_none_or(|wanted| wanted == seat.as_str())
        };
        let seat = field.names().iter().find(is_free).ok_or_else(taken)?;
        let give = self.of_seats("give").with("seat", seat.as_str()).with("to", who);
        Ok((seat.clone(), Some(give)))
    }

    /// When the next seat that is kept for somebody becomes free, in milliseconds since 1970 UTC.
    pub(super) fn next_lapse(&self) -> Option<u64> {
        let due = self.indexed.state.seats(&self.charter)?.1.next_lapse()?;
        Some(due.max(self.no_lapse_before))
    }

    pub(super) fn lapse(&self, now: u64) -> Edit {
        self.of_seats("lapse").with("now", now)
    }

    fn of_seats(&self, op: &str) -> Edit {
        let field = self.charter.play.seats.clone().unwrap_or_default();
        Edit::new(Path::of([field]).to_string(), op)
    }
}
