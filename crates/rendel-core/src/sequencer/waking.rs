//! What a session does automatically: when a time comes, or because somebody came or went. The charter
//! binds these acts as it binds proposals, under an identity of the session's own. Facts that the
//! session notes (seats, draws, ballots, times) pass no guard.

use super::txn::{Origin, Sealed};
use super::{Outcome, Sequencer};
use crate::actor::Actor;
use crate::charter::Charter;
use crate::edit::Edit;
use crate::kind::{Cell, DeadlineCell, DeadlineField, Field};
use crate::path::{Path, Token};
use crate::problem::Problem;
use crate::state::State;
use crate::update::{Passage, Proposal, Settled, Way, Whose};

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
    /// When something is due next for which the session must be loaded, in milliseconds since 1970
    /// UTC. A time that has yet to begin is due at once. Cost O(deadlines and timed turns) after
    /// a change of one of them or of the seats, O(1) otherwise.
    pub fn next_due(&self) -> Option<u64> {
        let look = || {
            let begins = (!self.to_begin().is_empty()).then_some(0);
            begins.or_else(|| self.all_due().map(|(due, _)| due).min())
        };
        let due = (*self.indexed.next_due.get_or_init(look))?;
        Some(due.max(self.no_due_before))
    }

    /// The times that are set, with the fields that they are of.
    fn all_due(&self) -> impl Iterator<Item = (u64, &Token)> {
        let (state, play) = (&self.indexed.state, &self.charter.play);
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

    /// The fields whose time is to begin now.
    fn to_begin(&self) -> Vec<&Token> {
        let (state, play) = (&self.indexed.state, &self.charter.play);
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

    /// What is to be done now: the earliest time that is due, or else the times that begin.
    pub(super) fn due_edits(&self, now: u64) -> Vec<Edit> {
        let at = |field: &Token| Path::of([field.clone()]).to_string();
        // A session without updates begins when it was opened, even if it was never loaded since.
        let from = if self.at == 0 && self.opened > 0 { self.opened.min(now) } else { now };
        if let Some((_, field)) = self.all_due().filter(|(due, _)| *due <= now).min() {
            return vec![Edit::new(at(field), "fire")];
        }
        let begin = |field: &Token| Edit::new(at(field), "begin").with("from", from);
        self.to_begin().into_iter().map(begin).collect()
    }

    /// When the session acts next automatically.
    pub fn poll_timeout(&self) -> Option<u64> {
        let due = self.next_due().into_iter().chain(self.next_lapse());
        due.chain(self.count_at).min()
    }

    /// Does the next thing that is due; to be called until there is none. An early call does no harm.
    pub fn handle_timeout(&mut self, now: u64) -> Option<Outcome> {
        // What is refused, as by the limit of the state, is retried later.
        if self.next_due().is_some_and(|due| due <= now) {
            let outcome = self.handle_act(self.due_edits(now), now);
            self.no_due_before = retry_at(&outcome, now).unwrap_or(0);
            return Some(outcome);
        }
        if self.next_lapse().is_some_and(|due| due <= now) {
            let outcome = self.handle_act(vec![self.lapse(now)], now);
            self.no_lapse_before = retry_at(&outcome, now).unwrap_or(0);
            return Some(outcome);
        }
        self.count_at.filter(|due| *due <= now)?;
        self.count_at = None;
        let counted = self.settle_act(&Proposal::new(0, None, self.to_count()), now);
        // A count that changes nothing is no update.
        if matches!(&counted, Ok(sealed) if sealed.update.effects.is_empty()) {
            return None;
        }
        let outcome = self.commit(Actor::session().key(), counted);
        self.count_at = self.count_at.or(retry_at(&outcome, now));
        Some(outcome)
    }

    /// Makes edits of the session itself. They are never sent again, so their outcomes are not
    /// remembered.
    pub fn handle_act(&mut self, edits: Vec<Edit>, now: u64) -> Outcome {
        let settled = self.settle_act(&Proposal::new(0, None, edits), now);
        self.commit(Actor::session().key(), settled)
    }

    fn settle_act(&mut self, proposal: &Proposal, now: u64) -> Result<Sealed, Problem> {
        let actor = Actor::session();
        self.settle(Origin::of(&actor, actor.key(), proposal, now), &|_| None)
    }

    /// Settles that somebody came or went, with the rules that follow from it.
    pub fn handle_passage(&mut self, who: &Actor, passage: &Passage, now: u64) -> Outcome {
        let (session, proposal) = (Actor::session(), Proposal::new(0, None, Vec::new()));
        let key = session.key();
        let origin = Origin {
            passage: Some(passage),
            person: Some(who),
            ..Origin::of(&session, key, &proposal, now)
        };
        let settled = self.settle(origin, &|_| None);
        self.commit(key, settled)
    }

    /// The participants in the session with their roles, if anything follows from that.
    pub fn here(&self) -> impl Iterator<Item = (&str, &str)> {
        self.here.iter().map(|(who, role)| (who.as_str(), role.as_str()))
    }

    /// Whether somebody is known to be here.
    pub fn has_here(&self, who: &str) -> bool {
        self.here.contains_key(who)
    }

    /// The role of a participant in the session.
    pub fn role_of(&self, who: &str) -> Option<&String> {
        self.here.get(who)
    }

    pub(super) fn note_passage(&mut self, update: &Settled) {
        match &update.passage {
            Some(Passage { who, role, way: Way::In | Way::Role, of: Whose::Participant }) => {
                self.here.insert(who.clone(), role.clone());
            }
            Some(Passage { who, way: Way::Out, of: Whose::Participant, .. }) => {
                self.here.remove(who);
            }
            _ => {}
        }
    }
}

/// When something that was refused is retried, in milliseconds since 1970 UTC.
fn retry_at(outcome: &Outcome, now: u64) -> Option<u64> {
    matches!(outcome, Outcome::Refused(_)).then_some(now + 1_000)
}
