//! Undo and redo as a session offers them: the histories, and what taking a step back would do now.

use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::Sequencer;
use super::reversal::{Reversal, owner};
use super::txn::{Origin, Skipped, TOLD, Txn, taking_back};
use crate::actor::{Actor, ClientKey};
use crate::charter::Extent;
use crate::edit::Edit;
use crate::grantees::Viewer;
use crate::history::{Done, History};
use crate::op::{Back, Op, Step};
use crate::path::Path;
use crate::problem::Problem;
use crate::sequence::Target;
use crate::update::{Effect, Proposal, Settled};

/// Parts of a step that are examined before it is undone.
const EXAMINED: usize = 256;

/// What undo and redo would do now.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Undoable {
    /// The last step of what the participant did, if there is one.
    pub undo: Option<Look>,
    /// The last step of what they undid.
    pub redo: Option<Look>,
}

/// What taking a step back would do now.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Look {
    /// What to name it by: its gesture, else its last update.
    pub of: Value,
    /// What it would change, of a long one the first 64 places.
    pub edits: Vec<UndoPlace>,
    /// What would stay, since something stands in the way.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub skipped: Vec<Skipped>,
    /// Why it would be refused, if it would.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refusal: Option<Problem>,
}

/// A place that would change, and how.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct UndoPlace {
    /// Where.
    pub at: Path,
    /// The name of the effect there.
    pub op: String,
}

impl Step {
    pub(super) fn plain(&self) -> Value {
        match self {
            Self::Gesture(name) => name.clone().into(),
            Self::Update(seq) => (*seq).into(),
        }
    }
}

impl Sequencer {
    pub(super) fn history(&self, actor: &Actor) -> Option<&History> {
        self.histories.get(&owner(&self.charter, &actor.id, actor.key())?)
    }

    /// Notes what an update did in the history of its author.
    pub(super) fn note_done(&mut self, update: &Settled, key: ClientKey, reversal: Reversal) {
        if update.effects.iter().any(|effect| effect.op.is_reset()) {
            self.histories = Default::default();
            return;
        }
        let Reversal { parts, is_never, mut typed } = reversal;
        if (is_never || parts.is_empty()) && update.undoes.is_none() {
            return;
        }
        let Some(owner) = owner(&self.charter, &update.by, key) else { return };
        if update.gesture.is_some() || update.undoes.is_some() || parts.len() > 1 {
            typed = None;
        }
        let done = Done::new(update.gesture.clone(), update.seq, parts, typed);
        let steps = self.charter.session.undo;
        self.histories.note(owner, key, done, update.undoes.as_ref(), steps);
    }

    /// What undo and redo would do for somebody now, as far as the last 256 places of each say.
    /// Changes nothing.
    pub fn undoable(&self, actor: &Actor) -> Undoable {
        Undoable { undo: self.look(actor, Back::Undo), redo: self.look(actor, Back::Redo) }
    }

    fn look(&self, actor: &Actor, way: Back) -> Option<Look> {
        let history = self.history(actor)?;
        let step = history.steps(way).next()?;
        let proposal = Proposal::new(0, None, vec![]);
        let mut txn = Txn::begin(self, Origin::of(actor, actor.key(), &proposal, self.at));
        let viewer = Viewer::of(actor);
        let of = step.name().plain();
        if let Err(problem) = txn.take_step_back(history, step, EXAMINED) {
            let refusal = Some(self.lens(actor, &viewer).problem(problem).bounded());
            return Some(Look { of, edits: Vec::new(), skipped: Vec::new(), refusal });
        }
        let lens = self.lens(actor, &viewer);
        let is_shown = |effect: &&Effect| lens.extent(&effect.at) == Extent::Whole;
        let place =
            |Effect { at, op, .. }: &Effect| UndoPlace { at: at.clone(), op: op.name().to_owned() };
        let edits = txn.effects().iter().filter(is_shown).take(TOLD).map(place).collect();
        Some(Look { of, edits, skipped: txn.shown_skipped(), refusal: None })
    }

    /// The edits that an undo or redo comes to now, which gates are asked about; `None` for any other
    /// proposal.
    pub fn spelled_out(&self, actor: &Actor, proposal: &Proposal) -> Option<Vec<Edit>> {
        let (at, op) = taking_back(proposal)?;
        let mut txn = Txn::begin(self, Origin::of(actor, actor.key(), proposal, self.at));
        txn.take_back(&proposal.edits[at], op.ok()?).ok()?;
        Some(txn.effects().iter().map(as_asked).collect())
    }
}

/// An effect as an edit that asks for it.
fn as_asked(Effect { at, op, .. }: &Effect) -> Edit {
    let edit = |op: &str| Edit::new(at, op);
    let placed = |edit: Edit, to: &crate::op::Place| match to {
        Target::After(id) => edit.with("after", id.clone()),
        Target::Before(id) => edit.with("before", id.clone()),
        Target::Front => edit.with("after", Value::Null),
        Target::Index(_) | Target::End => edit.with("before", Value::Null),
    };
    match op {
        Op::Set(value) => edit("set").with("value", (**value).clone()),
        Op::SetBeside { values, .. } => match values.first() {
            Some(value) => edit("set").with("value", value.clone()),
            None => edit("clear"),
        },
        Op::Add { by, .. } => edit("add").with("by", *by),
        Op::Include(value) => edit("include").with("value", value.clone()),
        Op::Exclude(value) => edit("exclude").with("value", value.clone()),
        Op::Put { .. } | Op::Revive { .. } => match op.makes() {
            Some((id, value)) => edit("put").with("id", id).with("value", value.clone()),
            None => edit("put"),
        },
        Op::Insert { id, value, to, .. } => {
            let edit = edit("insert").with("id", id.clone()).with("value", value.clone());
            placed(edit, to)
        }
        Op::Move { to, .. } => placed(edit("move"), to),
        Op::Splice { splice, .. } => edit("splice")
            .with("index", splice.index)
            .with("delete", splice.delete)
            .with("insert", splice.insert.clone()),
        other => edit(other.name()),
    }
}
