//! What a session does by itself: at a time, or because somebody came or went. Its acts are bound by
//! the charter as anybody's proposals are, under an identity of its own; only of what it notes
//! about seats, draws and ballots no guard is asked.
//!
//! Those that are planned for a time are numbered one by one, so that the journal tells which are
//! done. What is planned is in the snapshot only: who plans because of an update plans again when
//! that update is replayed. An arrival is not replayed, so what it leads to has no number.

use serde::{Deserialize, Serialize};

use super::settling::Settling;
use super::{Outcome, Present, Sequencer};
use crate::actor::Actor;
use crate::edit::Edit;
use crate::problem::Problem;
use crate::update::{Proposal, Settled};

/// Acts by the time at which they are due, in the order in which they were planned.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(super) struct Agenda {
    acts: Vec<Act>,
    /// The number of the last act that was done.
    done: u64,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
struct Act {
    due: u64,
    edits: Vec<Edit>,
}

impl Agenda {
    /// An act with this number was settled or refused: it is done, and all before it.
    pub(super) fn handle_done(&mut self, n: u64) {
        if n > self.done {
            let count = usize::try_from(n - self.done).unwrap_or(usize::MAX);
            self.acts.drain(..count.min(self.acts.len()));
            self.done = n;
        }
    }
}

impl Sequencer {
    /// Plans edits that the session makes by itself, in milliseconds since 1970 UTC.
    pub fn handle_plan(&mut self, due: u64, edits: Vec<Edit>) {
        let after = self.agenda.acts.partition_point(|act| act.due <= due);
        self.agenda.acts.insert(after, Act { due, edits });
    }

    /// When the session acts next by itself.
    pub fn poll_timeout(&self) -> Option<u64> {
        let planned = self.agenda.acts.first().map(|act| act.due);
        let planned = planned.into_iter().chain(self.next_due());
        planned.chain(self.next_lapse()).chain(self.count_at).min()
    }

    /// Does the next act that is due; to be called until there is none. An early call does no harm.
    pub fn handle_timeout(&mut self, now: u64) -> Option<Outcome> {
        // What is refused, as by the limit of the state, is asked for again later and not for ever.
        if self.next_due().is_some_and(|due| due <= now) {
            let outcome = self.handle_act(self.due_edits(now), now);
            self.no_due_before = again(&outcome, now).unwrap_or(0);
            return Some(outcome);
        }
        if self.next_lapse().is_some_and(|due| due <= now) {
            let outcome = self.handle_act(vec![self.lapse(now)], now);
            self.no_lapse_before = again(&outcome, now).unwrap_or(0);
            return Some(outcome);
        }
        if self.count_at.is_some_and(|due| due <= now) {
            self.count_at = None;
            let counted = self.settle_own(&Proposal::new(0, None, self.to_count()), now);
            // What comes to the same is nobody's to hear.
            if !matches!(&counted, Ok((_, update)) if update.effects.is_empty()) {
                let outcome = self.commit(Actor::session().key(), counted);
                self.count_at = self.count_at.or(again(&outcome, now));
                return Some(outcome);
            }
        }
        let act = self.agenda.acts.first().filter(|act| act.due <= now)?.clone();
        let n = self.agenda.done + 1;
        self.agenda.handle_done(n);
        Some(self.act(&Proposal::new(n, None, act.edits), now))
    }

    /// Does at once what an arrival or a departure leads to.
    pub fn handle_act(&mut self, edits: Vec<Edit>, now: u64) -> Outcome {
        self.act(&Proposal::new(0, None, edits), now)
    }

    /// Nobody sends an act again, so it is not among what clients were answered, and is never
    /// taken for one of a client that was forgotten.
    fn act(&mut self, proposal: &Proposal, now: u64) -> Outcome {
        let settled = self.settle_own(proposal, now);
        self.commit(Actor::session().key(), settled)
    }

    fn settle_own(
        &mut self,
        proposal: &Proposal,
        now: u64,
    ) -> Result<(Option<Present>, Settled), Problem> {
        let (actor, mut unanswered) = (Actor::session(), Vec::new());
        let mut settling = Settling::of(&actor, actor.key(), proposal, now, &mut unanswered);
        let settled = self.settle(&mut settling, &|_| None);
        self.note_unanswered(unanswered);
        settled.map(|(present, update)| (Some(present), update))
    }
}

/// When something is asked for again that was refused, in milliseconds since 1970 UTC.
fn again(outcome: &Outcome, now: u64) -> Option<u64> {
    matches!(outcome, Outcome::Refused(_)).then_some(now + 1_000)
}
