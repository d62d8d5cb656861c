//! What the session does by itself about seats and chance: it binds the first draw, keeps the seats
//! of those who have gone and frees them in time.

use std::collections::BTreeMap;

use rendel_core::{Edit, Outcome, Problem};

use super::Session;
use crate::input::Status;
use crate::order::Origin;
use crate::output::Output;
use crate::problems::{ended, unavailable};

/// What is to be done before anything else is settled.
#[derive(Debug, Default)]
pub(super) struct Seating {
    /// Whether somebody came or went, or the session was loaded.
    pub(super) is_due: bool,
    /// Seats that tokens promise to those who came.
    pub(super) promised: BTreeMap<String, String>,
    /// How many seats were said to be free.
    pub(super) told: Option<usize>,
}

impl Session {
    /// Whether the session acts by itself at all now.
    pub(super) fn may_act(&self) -> bool {
        !self.order.is_adrift()
            && !self.is_stopping
            && !self.has_stopped
            && self.standing.status != Status::Ended
    }

    /// Does what is due because somebody came or went.
    pub(super) fn seat(&mut self) {
        if !self.seating.is_due || !self.may_act() {
            return;
        }
        self.seating.is_due = false;
        let here = |who: &str| self.people.is_here(who);
        let edits = self.order.sequencer().own_edits(&here, self.now);
        // What is refused is in the report; it is tried again when somebody comes or goes.
        let _ = self.act(edits);
        for (who, seat) in std::mem::take(&mut self.seating.promised) {
            let edit = self.order.sequencer().promised(&who, &seat);
            let _ = self.act(edit.into_iter().collect());
        }
    }

    /// Puts somebody on a seat; gives which.
    pub(super) fn give_seat(&mut self, who: &str, seat: Option<&str>) -> Result<String, Problem> {
        if self.standing.status == Status::Ended {
            return Err(ended());
        }
        if !self.may_act() {
            return Err(unavailable());
        }
        let (seat, edit) = self.order.sequencer().seat_for(who, seat)?;
        self.act(edit.into_iter().collect())?;
        Ok(seat)
    }

    /// Says how many seats are free, where that is another number than was said last.
    pub(super) fn tell_free_seats(&mut self) {
        let free = self.order.sequencer().free_seats();
        if let Some(free) = free.filter(|_| free != self.seating.told && !self.order.is_adrift()) {
            self.seating.told = Some(free);
            self.outputs.push(Output::FreeSeats(free));
        }
    }

    fn act(&mut self, edits: Vec<Edit>) -> Result<(), Problem> {
        if edits.is_empty() {
            return Ok(());
        }
        let outcome = self.order.sequencer_mut().handle_act(edits, self.now);
        let refused = match &outcome {
            Outcome::Refused(problem) => Err(problem.clone()),
            Outcome::Settled(_) | Outcome::Repeated(_) => Ok(()),
        };
        self.come_out(0, outcome, Origin::Own);
        refused
    }

    /// When a seat is kept for nobody any more.
    pub(super) fn next_act(&self) -> Option<u64> {
        self.order.sequencer().poll_timeout().filter(|_| self.may_act())
    }

    /// Does what the time has come for.
    pub(super) fn act_in_time(&mut self) {
        while self.next_act().is_some_and(|due| due <= self.now) {
            let Some(outcome) = self.order.sequencer_mut().handle_timeout(self.now) else { return };
            self.come_out(0, outcome, Origin::Own);
        }
    }
}
