//! Whether somebody may make an edit now.

use serde::Serialize;
use uuid::Uuid;

use super::Sequencer;
use super::txn::{Origin, Txn};
use crate::actor::Actor;
use crate::charter::{NoAnswer, Permission};
use crate::edit::Edit;
use crate::path::Path;
use crate::problem::Problem;
use crate::update::Proposal;

/// Expressions without an answer that are remembered until they are collected.
const REMEMBERED: usize = 16;

/// Whether an edit would take effect, and which line of the charter decides.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Permitted {
    /// Whether the role allows it.
    pub permission: Permission,
    /// Why it would be refused now, if it would.
    pub refusal: Option<Problem>,
}

impl Sequencer {
    /// Whether somebody may make an edit as the state is now. Changes nothing. Cost as settling it.
    pub fn may(&self, actor: &Actor, edit: &Edit) -> Result<Permitted, Problem> {
        let path = Path::parse(&edit.at)?;
        let actor = Actor::new(actor.id.clone(), actor.role.clone(), Uuid::nil())
            .with_claims(actor.claims.clone());
        let proposal = Proposal::new(0, None, vec![edit.clone()]);
        let txn = Txn::begin(self, Origin::of(&actor, actor.key(), &proposal, self.at));
        let permission = txn.permission(&actor, &path, edit.read().as_ref());
        let (settled, _) = txn.settle(&|_| None);
        Ok(Permitted { permission, refusal: settled.err().map(Problem::bounded) })
    }

    /// The expressions that had no answer since the last call, each with its line in the charter.
    pub fn poll_unanswered(&mut self) -> Vec<NoAnswer> {
        std::mem::take(&mut self.unanswered)
    }

    pub(super) fn note_unanswered(&mut self, unanswered: Vec<NoAnswer>) {
        let space = REMEMBERED.saturating_sub(self.unanswered.len());
        self.unanswered.extend(unanswered.into_iter().take(space));
    }
}
