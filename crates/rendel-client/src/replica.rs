//! The copy of a session that a client keeps.

use std::collections::VecDeque;

use rendel_core::{Edit, Problem, Settled, digest};
use rendel_wire::{
    Enter, FromService, OutcomeFrame, OutcomeOf, Participant, Propose, Roster, SessionHead, Welcome, You,
};
use serde_json::Value;
use uuid::Uuid;

use crate::apply::{apply_edit, apply_effect};

/// A proposal that has no answer yet.
#[derive(Clone, Debug, PartialEq)]
pub struct Pending {
    /// The frame, as it was sent and as it is sent again.
    pub frame: Propose,
}

/// What a frame of the service changed.
#[derive(Clone, Debug, PartialEq)]
pub enum Change {
    /// The session is there, anew or again.
    Welcomed,
    /// An update was applied.
    Settled(Settled),
    /// An own proposal was taken back.
    Refused {
        /// Its number.
        n: u64,
        /// Why.
        problem: Problem,
    },
    /// An own proposal had been settled while its answer was lost.
    SettledAway {
        /// Its number.
        n: u64,
        /// The update that it is.
        seq: u64,
    },
    /// Who came, went or changed.
    Roster(Roster),
    /// An update did not fit: this replica has diverged, and must enter again without `seen`.
    Diverged(String),
}

/// The confirmed state plus one's own pending proposals.
///
/// Nothing is known until the first `welcome`: [`view`](Self::view) is `None` then, which is not the same as an empty state.
#[derive(Clone, Debug)]
pub struct Replica {
    client: Uuid,
    you: Option<You>,
    session: Option<SessionHead>,
    epoch: u64,
    seq: u64,
    confirmed: Option<Value>,
    roster: Vec<Participant>,
    pending: VecDeque<Pending>,
    last_n: u64,
    answered: u64,
    diverged: bool,
}

impl Replica {
    /// A replica of the tab or process `client`, which knows nothing yet.
    pub fn new(client: Uuid) -> Self {
        Self {
            client,
            you: None,
            session: None,
            epoch: 0,
            seq: 0,
            confirmed: None,
            roster: Vec::new(),
            pending: VecDeque::new(),
            last_n: 0,
            answered: 0,
            diverged: false,
        }
    }

    /// The frame to enter with: where it was here before, it says up to where.
    pub fn enter(&self, token: Option<String>) -> Enter {
        let is_known = self.confirmed.is_some() && !self.diverged;
        Enter { token, client: self.client, seen: is_known.then_some(self.seq), epoch: is_known.then_some(self.epoch) }
    }

    /// Makes a proposal that is pending from now on; the frame is to be sent when there is a connection. `None` before the
    /// first `welcome`.
    pub fn propose(&mut self, edits: Vec<Edit>, gesture: Option<String>, note: Option<String>) -> Option<Propose> {
        self.confirmed.as_ref()?;
        self.last_n += 1;
        let frame = Propose { n: self.last_n, seen: self.seq, answered: self.answered, edits, gesture, note };
        self.pending.push_back(Pending { frame: frame.clone() });
        Some(frame)
    }

    /// The proposals to send again after a `welcome`, in order.
    pub fn unanswered(&self) -> impl Iterator<Item = &Propose> {
        self.pending.iter().map(|pending| &pending.frame)
    }

    /// Takes in a frame of the service, and says what it changed.
    pub fn handle(&mut self, frame: FromService) -> Vec<Change> {
        match frame {
            FromService::Welcome(welcome) => self.handle_welcome(*welcome),
            FromService::Settled(frame) => self.handle_updates(frame.updates),
            FromService::Refused(refused) => self.refuse(refused.n, refused.problem).into_iter().collect(),
            FromService::Outcome(outcome) => self.handle_outcome(outcome).into_iter().collect(),
            FromService::Roster(change) => {
                self.handle_roster(&change);
                vec![Change::Roster(change)]
            }
            FromService::Pong(_) | FromService::Notice(_) | FromService::Bye(_) => vec![],
        }
    }

    fn handle_welcome(&mut self, welcome: Welcome) -> Vec<Change> {
        let Welcome { you, session, epoch, seq, state, updates, roster, outcomes, .. } = welcome;
        let updates = updates.unwrap_or_default();
        if let Some(state) = state {
            self.confirmed = Some(state);
            self.seq = seq - updates.len() as u64;
            self.diverged = false;
        }
        self.you = Some(you);
        self.session = Some(session);
        self.epoch = epoch;
        self.roster = roster;
        let mut changes = vec![Change::Welcomed];
        changes.extend(self.handle_updates(updates));
        changes.extend(outcomes.into_iter().filter_map(|outcome| self.handle_outcome(outcome)));
        changes
    }

    fn handle_updates(&mut self, updates: Vec<Settled>) -> Vec<Change> {
        let mut changes = Vec::with_capacity(updates.len());
        for update in updates {
            // An update that is known already comes twice only after a resume; the order has no gap otherwise.
            if update.seq <= self.seq {
                continue;
            }
            if let Err(why) = self.apply(&update) {
                self.diverged = true;
                changes.push(Change::Diverged(why));
                return changes;
            }
            if update.client == self.client {
                self.answer(update.n);
            }
            changes.push(Change::Settled(update));
        }
        changes
    }

    fn apply(&mut self, update: &Settled) -> Result<(), String> {
        let state = self.confirmed.as_mut().ok_or("an update came before the welcome")?;
        if update.seq != self.seq + 1 {
            return Err(format!("update {} came after {}", update.seq, self.seq));
        }
        update.effects.iter().try_for_each(|effect| apply_effect(state, effect)).map_err(|error| error.to_string())?;
        self.seq = update.seq;
        Ok(())
    }

    fn handle_outcome(&mut self, outcome: OutcomeFrame) -> Option<Change> {
        let n = outcome.n;
        match outcome.outcome {
            OutcomeOf::Seq(seq) => self.answer(n).then_some(Change::SettledAway { n, seq }),
            OutcomeOf::Problem(problem) => self.refuse(n, problem),
        }
    }

    fn refuse(&mut self, n: u64, problem: Problem) -> Option<Change> {
        self.answer(n).then_some(Change::Refused { n, problem })
    }

    /// Takes a proposal out of the pending ones; gives whether it was there.
    fn answer(&mut self, n: u64) -> bool {
        let before = self.pending.len();
        self.pending.retain(|pending| pending.frame.n != n);
        // The highest number below which nothing is open.
        self.answered = self.pending.front().map_or(self.last_n, |first| first.frame.n - 1);
        self.pending.len() < before
    }

    fn handle_roster(&mut self, change: &Roster) {
        self.roster.retain(|here| !change.left.contains(&here.id));
        for shown in change.joined.iter().chain(&change.changed) {
            match self.roster.iter_mut().find(|here| here.id == shown.id) {
                Some(here) => here.clone_from(shown),
                None => self.roster.push(shown.clone()),
            }
        }
        self.roster.sort_by(|one, other| one.id.cmp(&other.id));
    }

    /// Who this client is, once welcomed.
    pub fn you(&self) -> Option<&You> {
        self.you.as_ref()
    }

    /// The session, once welcomed.
    pub fn session(&self) -> Option<&SessionHead> {
        self.session.as_ref()
    }

    /// The tab or process.
    pub fn client(&self) -> Uuid {
        self.client
    }

    /// The last update applied.
    pub fn seq(&self) -> u64 {
        self.seq
    }

    /// Who is here.
    pub fn roster(&self) -> &[Participant] {
        &self.roster
    }

    /// The state that everyone agrees on, `None` before the first `welcome`.
    pub fn confirmed(&self) -> Option<&Value> {
        self.confirmed.as_ref()
    }

    /// The confirmed state with one's own pending edits over it: what a user is shown. Cost O(size) while something is
    /// pending.
    pub fn view(&self) -> Option<Value> {
        let mut view = self.confirmed.clone()?;
        self.pending.iter().flat_map(|pending| &pending.frame.edits).for_each(|edit| apply_edit(&mut view, edit));
        Some(view)
    }

    /// The SHA-256 of the confirmed state as canonical JSON, to compare with other replicas at the same `seq`.
    pub fn digest(&self) -> Option<String> {
        self.confirmed.as_ref().map(digest)
    }
}
