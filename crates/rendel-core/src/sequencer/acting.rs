//! What a session does by itself: at a time. Its acts are proposals as anybody's, under an identity
//! of its own and numbered by itself, so that a restart neither repeats nor loses one.

use serde::{Deserialize, Serialize};

use super::{Outcome, Sequencer};
use crate::actor::Actor;
use crate::edit::Edit;
use crate::update::{Proposal, Settled};

/// Acts by the time at which they are due, in the order in which they were planned.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(super) struct Agenda(Vec<Act>);

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
struct Act {
    due: u64,
    edits: Vec<Edit>,
}

impl Agenda {
    /// An act of the session is in the journal: it is done.
    pub(super) fn handle_settled(&mut self, update: &Settled) {
        if update.key() == Actor::session().key() && !self.0.is_empty() {
            self.0.remove(0);
        }
    }
}

impl Sequencer {
    /// Plans edits that the session makes by itself, in milliseconds since 1970 UTC.
    pub fn handle_plan(&mut self, due: u64, edits: Vec<Edit>) {
        let after = self.agenda.0.partition_point(|act| act.due <= due);
        self.agenda.0.insert(after, Act { due, edits });
    }

    /// When the session acts next.
    pub fn poll_timeout(&self) -> Option<u64> {
        self.agenda.0.first().map(|act| act.due)
    }

    /// Does the next act that is due; to be called until there is none. An early call does no harm.
    pub fn handle_timeout(&mut self, now: u64) -> Option<Outcome> {
        let is_due = self.agenda.0.first().is_some_and(|act| act.due <= now);
        let act = is_due.then(|| self.agenda.0.remove(0))?;
        let actor = Actor::session();
        let n = self.clients.next(actor.key());
        Some(self.handle_proposal(&actor, &Proposal::new(n, None, act.edits), now))
    }
}
