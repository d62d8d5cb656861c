//! Undo and redo: edits that the session itself works out from what their proposer did, as the state
//! is now.

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use super::noting::{Coming, Noted, Worked, owner};
use super::playing::Following;
use super::settling::{Settling, broken, not_allowed};
use super::{Present, Sequencer};
use crate::actor::{Actor, ClientKey};
use crate::charter::Extent;
use crate::edit::Edit;
use crate::history::{Done, History};
use crate::kind::{InTheWay, Taken, TakenBack, TakingBack};
use crate::op::{Back, Op, Step, Unread};
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::references::check_references;
use crate::seers::Viewer;
use crate::sequence::Target;
use crate::stamp::Stamp;
use crate::update::{Effect, Effects, Proposal, Settled, Undoes, Verdict, VerdictKind};

/// Parts of a step that are told before it is taken back, and those that are looked at for it.
const TOLD: usize = 64;
const LOOKED_AT: usize = 256;

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
    pub edits: Vec<Place>,
    /// What would stay, since something stands in the way.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub skipped: Vec<Skipped>,
    /// Why it would be refused, if it would.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refusal: Option<Problem>,
}

/// A place that would change, and how.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Place {
    /// Where.
    pub at: Path,
    /// The name of the effect there.
    pub op: String,
}

/// A part of a step that stays as it is.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Skipped {
    /// Where.
    pub at: String,
    /// The update that stands in the way, where one does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub update: Option<u64>,
    /// Why, in one sentence.
    pub because: String,
}

impl From<&Verdict> for Skipped {
    fn from(verdict: &Verdict) -> Self {
        let Verdict { at, met, because, .. } = verdict;
        Self { at: at.clone(), update: met.first().copied(), because: because.clone() }
    }
}

impl Step {
    fn plain(&self) -> Value {
        match self {
            Self::Gesture(name) => name.clone().into(),
            Self::Update(seq) => (*seq).into(),
        }
    }
}

impl Sequencer {
    fn history(&self, actor: &Actor) -> Option<&History> {
        self.histories.get(&owner(&self.charter, &actor.id, actor.key())?)
    }

    /// Keeps in mind what an update did, for whoever made it.
    pub(super) fn note_done(&mut self, update: &Settled, key: ClientKey, noted: Noted) {
        if update.effects.iter().any(|effect| effect.op.is_reset()) {
            self.histories = Default::default();
            return;
        }
        let Noted { taken, is_never, mut typed } = noted;
        if (is_never || taken.is_empty()) && update.undoes.is_none() {
            return;
        }
        let Some(owner) = owner(&self.charter, &update.by, key) else { return };
        if update.gesture.is_some() || update.undoes.is_some() || taken.len() > 1 {
            typed = None;
        }
        let done = Done::new(update.gesture.clone(), update.seq, taken, typed);
        let steps = self.charter.session.undo;
        self.histories.note(owner, key, done, update.undoes.as_ref(), steps);
    }

    /// What an edit asks to be taken back, if it does.
    pub(super) fn taking_back(proposal: &Proposal) -> Option<(usize, Result<Op, Problem>)> {
        let names = [Back::Undo.name(), Back::Redo.name()];
        let at = proposal.edits.iter().position(|edit| names.contains(&edit.op.as_str()))?;
        let rest = proposal.edits.len() - 1;
        if rest > 0 {
            let detail =
                "\"undo\" and \"redo\" stand alone in their proposal, since they may do much.";
            return Some((at, Err(Problem::new(ProblemKind::Malformed, detail))));
        }
        Some((at, Op::asked(&proposal.edits[at]).map_err(Unread::into_problem)))
    }

    /// Takes back what its proposer did last, as things are now.
    pub(super) fn take_back(
        &self,
        settling: &mut Settling<'_>,
        edit: &Edit,
        op: Op,
    ) -> Result<(Worked, Undoes, Option<String>), Problem> {
        let within = Path::parse(&edit.at)?;
        let Op::TakeBack { way, of, skip } = op else { return Err(nothing(Back::Undo)) };
        let history = self.history(settling.actor).ok_or_else(|| nothing(way))?;
        let mut steps = history.steps(way).filter(|step| step.is_within(&within)).peekable();
        if let (Some(of), Some(first)) = (&of, steps.peek())
            && !first.is(of)
        {
            let (name, detail) = (way.name(), "is not what comes first any more. Look again.");
            let detail = format!("{} {detail}", of.plain());
            return Err(Problem::new(ProblemKind::Stale, detail).with(name, first.name().plain()));
        }
        let mut passed = Vec::new();
        for step in steps {
            let worked = self.take_step_back(settling, history, step, usize::MAX)?;
            if !worked.effects.is_empty() {
                let undoes = Undoes { way, updates: step.updates.to_vec(), passed };
                return Ok((worked, undoes, step.gesture.clone()));
            }
            if !skip {
                return Err(self.all_skipped(settling.actor, way, &worked.verdicts));
            }
            passed.push(step.last());
        }
        Err(nothing(way))
    }

    fn take_step_back(
        &self,
        settling: &mut Settling<'_>,
        history: &History,
        step: &Done,
        most: usize,
    ) -> Result<Worked, Problem> {
        let stamp = Stamp { seq: self.seq + 1, client: settling.key };
        let mut own = history.clients().to_vec();
        own.extend([settling.key, Actor::session().key()]);
        let mut present = self.present.clone();
        let mut following = Following::of(&present);
        let (mut effects, mut verdicts) = (Effects::new(), Vec::new());
        for taken in step.taken.iter().rev().take(most) {
            let part = self.take_part_back(
                &mut present,
                settling,
                &mut following,
                (taken, &step.updates, &own),
            )?;
            match part {
                Ok(part) => {
                    self.keep_up(&mut present, &mut following, stamp)?;
                    effects.extend(part.effects);
                    verdicts.extend(part.stays.map(|stays| stays.verdict(&taken.at)));
                }
                Err(in_the_way) => verdicts.push(in_the_way.verdict(&taken.at)),
            }
        }
        self.note_moves(&mut present, &mut following, stamp)?;
        Ok(Worked { present, following, effects, verdicts })
    }

    /// Takes back one part of a step. What stands in the way is no problem; that it is not allowed
    /// is.
    fn take_part_back(
        &self,
        present: &mut Present,
        settling: &mut Settling<'_>,
        following: &mut Following,
        (taken, updates, own): (&Taken, &[u64], &[ClientKey]),
    ) -> Result<TakenBack, Problem> {
        let Settling { actor, key, now, .. } = *settling;
        let (fields, links) = (&self.charter.fields, &self.charter.links);
        let stamp = Stamp { seq: self.seq + 1, client: key };
        let memory = present.state.memory();
        let taking = TakingBack { taken, updates, own, memory };
        let part = match fields.take_back(present.state.root(), taken.at.tokens(), &taking) {
            Ok(part) => part,
            Err(in_the_way) => return Ok(Err(in_the_way)),
        };
        let in_the_way = |because| Ok(Err(InTheWay { update: None, because }));
        // A snapshot of an earlier version may hold a step of it.
        if self.charter.play.holds_ballots(&taken.at) {
            return in_the_way("Only withdraw takes a ballot back");
        }
        // A clone makes each change that follows copy its way, so there is none without need.
        let before = (!links.is_empty()).then(|| present.clone());
        for effect in &part.effects {
            let Effect { at, op, .. } = effect;
            let state = &present.state;
            let permission = self.permission(state, actor, at, Some(op), settling.unanswered);
            if !permission.is_given() {
                return Err(not_allowed(&actor.role, at, &permission));
            }
            self.check_time(state, actor, at, Some(op), following)?;
            if op.takes_away() && present.referrers.has(at) {
                return in_the_way("Something refers to it now");
            }
            let coming = Coming { by: &actor.id, at: self.at.max(now), effect, stamp };
            present
                .apply_noting(&self.charter, &self.histories, coming)
                .map_err(|misfit| broken(&misfit))?;
        }
        if let Some(before) = before
            && check_references(fields, present.state.root(), links, &part.effects).is_err()
        {
            *present = before;
            return in_the_way("What it referred to is not there any more");
        }
        Ok(Ok(part))
    }

    fn all_skipped(&self, actor: &Actor, way: Back, verdicts: &[Verdict]) -> Problem {
        let skipped = self.shown_skipped(actor, verdicts);
        let skipped: Vec<Value> = skipped.iter().map(|skipped| json!(skipped)).collect();
        let detail = match verdicts.first() {
            None => format!("There is nothing left of it to {}.", way.name()),
            Some(_) => format!(
                "Nothing of it can be taken back, since others have changed it. Send \"skip\" to \
                 {} what comes before it.",
                way.name()
            ),
        };
        Problem::new(ProblemKind::NothingToUndo, detail).with("skipped", skipped)
    }

    /// What somebody is told of what was left out: nothing of what they do not see.
    fn shown_skipped(&self, actor: &Actor, verdicts: &[Verdict]) -> Vec<Skipped> {
        let viewer = Viewer::of(actor);
        let lens = self.lens(actor, &viewer);
        let is_shown = |verdict: &&Verdict| {
            Path::parse(&verdict.at).is_ok_and(|at| lens.extent(&at) != Extent::Nothing)
        };
        verdicts.iter().filter(is_shown).take(TOLD).map(Skipped::from).collect()
    }

    /// What undo and redo would do for somebody now, as far as the last 256 places of each tell.
    /// Changes nothing.
    pub fn undoable(&self, actor: &Actor) -> Undoable {
        Undoable { undo: self.look(actor, Back::Undo), redo: self.look(actor, Back::Redo) }
    }

    fn look(&self, actor: &Actor, way: Back) -> Option<Look> {
        let history = self.history(actor)?;
        let step = history.steps(way).next()?;
        let (proposal, mut unanswered) = (Proposal::new(0, None, vec![]), Vec::new());
        let mut settling = Settling::of(actor, actor.key(), &proposal, self.at, &mut unanswered);
        let viewer = Viewer::of(actor);
        let lens = self.lens(actor, &viewer);
        let of = step.name().plain();
        let outcome = self.take_step_back(&mut settling, history, step, LOOKED_AT);
        let (edits, skipped, refusal) = match outcome {
            Ok(Worked { effects, verdicts, .. }) => {
                let is_shown = |effect: &Effect| lens.extent(&effect.at) == Extent::Whole;
                let place = |Effect { at, op, .. }| Place { at, op: op.name().to_owned() };
                let edits: Vec<_> = effects.into_iter().filter(is_shown).map(place).collect();
                let edits = edits.into_iter().take(TOLD).collect();
                (edits, self.shown_skipped(actor, &verdicts), None)
            }
            Err(problem) => (Vec::new(), Vec::new(), Some(lens.problem(problem).bounded())),
        };
        Some(Look { of, edits, skipped, refusal })
    }

    /// The edits that a proposal comes to as things are now, where it is an undo or redo: what
    /// gates are asked about.
    pub fn spelled_out(&self, actor: &Actor, proposal: &Proposal) -> Option<Vec<Edit>> {
        let (at, op) = Self::taking_back(proposal)?;
        let mut unanswered = Vec::new();
        let mut settling = Settling::of(actor, actor.key(), proposal, self.at, &mut unanswered);
        let (worked, ..) = self.take_back(&mut settling, &proposal.edits[at], op.ok()?).ok()?;
        Some(worked.effects.iter().map(as_asked).collect())
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

impl InTheWay {
    fn verdict(self, at: &Path) -> Verdict {
        let Self { update, because } = self;
        let because = match update {
            Some(update) => format!("Update {update} {because}; that stays."),
            None => format!("{because}."),
        };
        Verdict {
            rule: None,
            edit: 0,
            at: at.to_string(),
            verdict: VerdictKind::Skipped,
            met: update.into_iter().collect(),
            because,
            lost: None,
        }
    }
}

fn nothing(way: Back) -> Problem {
    let detail = match way {
        Back::Undo => "There is nothing of yours to undo here.",
        Back::Redo => "There is nothing to redo: you have undone nothing since your last edit.",
    };
    Problem::new(ProblemKind::NothingToUndo, detail)
}
