//! Undo and redo: the inverse of what the proposer did, computed from the current state.

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use super::{By, Origin, Txn};
use crate::actor::{Actor, ClientKey};
use crate::charter::Extent;
use crate::edit::Edit;
use crate::grantees::Viewer;
use crate::history::{Done, History};
use crate::kind::{InTheWay, Inverse, Taken, TakingBack};
use crate::op::{Back, Op, Unread};
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::references::check_references;
use crate::update::{Effect, Proposal, Undoes, Verdict, VerdictKind};

/// A part of a step that stays.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Skipped {
    /// Where.
    pub at: String,
    /// The update that stands in the way, if one does.
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

/// Parts of a step that are reported before it is undone.
pub(in super::super) const TOLD: usize = 64;

/// The edit that asks for undo or redo, if the proposal has one.
pub(in super::super) fn taking_back(proposal: &Proposal) -> Option<(usize, Result<Op, Problem>)> {
    let names = [Back::Undo.name(), Back::Redo.name()];
    let at = proposal.edits.iter().position(|edit| names.contains(&edit.op.as_str()))?;
    if proposal.edits.len() > 1 {
        let detail = "\"undo\" and \"redo\" stand alone in their proposal, since they may do much.";
        return Some((at, Err(Problem::new(ProblemKind::Malformed, detail))));
    }
    Some((at, Op::asked(&proposal.edits[at]).map_err(Unread::into_problem)))
}

impl Txn<'_> {
    /// Undoes the last step of the proposer that can be undone, or redoes it.
    pub(in super::super) fn take_back(&mut self, edit: &Edit, op: Op) -> Result<(), Problem> {
        let within = Path::parse(&edit.at)?;
        let Op::TakeBack { way, of, skip } = op else { return Err(nothing(Back::Undo)) };
        let (session, actor) = (self.session, self.origin.actor);
        let history = session.history(actor).ok_or_else(|| nothing(way))?;
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
            let point = self.savepoint();
            self.take_step_back(history, step, usize::MAX)?;
            if !self.log.effects.is_empty() {
                self.log.undoes = Some(Undoes { way, updates: step.updates.to_vec(), passed });
                self.log.gesture.clone_from(&step.gesture);
                return Ok(());
            }
            if !skip {
                return Err(self.all_skipped(way));
            }
            self.return_to(point);
            passed.push(step.last());
        }
        Err(nothing(way))
    }

    /// Takes back the last `most` parts of a step, as far as nothing stands in the way.
    pub(in super::super) fn take_step_back(
        &mut self,
        history: &History,
        step: &Done,
        most: usize,
    ) -> Result<(), Problem> {
        let mut own = history.clients().to_vec();
        own.extend([self.origin.key, Actor::session().key()]);
        for taken in step.taken.iter().rev().take(most) {
            let stays = match self.take_part_back(taken, &step.updates, &own)? {
                Ok(part) => part.stays,
                Err(in_the_way) => Some(in_the_way),
            };
            self.log.verdicts.extend(stays.map(|stays| stays.verdict(&taken.at)));
        }
        self.pass_turns()
    }

    /// Takes back one part of a step, whole or not at all. What stands in the way is no problem; that
    /// it is not the turn of the proposer is.
    fn take_part_back(
        &mut self,
        taken: &Taken,
        updates: &[u64],
        own: &[ClientKey],
    ) -> Result<Result<Inverse, InTheWay>, Problem> {
        let Origin { actor, .. } = self.origin;
        let (fields, charter) = (self.fields(), &self.session.charter);
        let state = self.state();
        let taking = TakingBack { taken, updates, own, memory: state.memory() };
        let part = match fields.take_back(state.root(), taken.at.tokens(), &taking) {
            Ok(part) => part,
            Err(in_the_way) => return Ok(Err(in_the_way)),
        };
        let in_the_way = |because| Ok(Err(InTheWay { update: None, because }));
        // A snapshot of an earlier version may hold a step with a ballot.
        if charter.holds_ballots(&taken.at) {
            return in_the_way("Only withdraw takes a ballot back");
        }
        let mut moved = Vec::new();
        for Effect { at, op, .. } in &part.effects {
            if !self.permission(actor, at, Some(op)).is_given() {
                return in_the_way("Your role may not edit it now");
            }
            if op.takes_away() && self.indexed().referrers.has(at) {
                return in_the_way("Something refers to it now");
            }
            moved.extend(self.check_time(actor, at, Some(op))?);
        }
        // After a savepoint each change copies its way, so there is none without need.
        let point = (!charter.links.is_empty()).then(|| self.savepoint());
        for effect in &part.effects {
            self.apply(effect.clone(), By::Proposer)?;
        }
        let root = self.state().root();
        if let Some(point) = point
            && check_references(fields, root, &charter.links, &part.effects).is_err()
        {
            self.return_to(point);
            return in_the_way("What it referred to does not exist any more");
        }
        self.log.moved.extend(moved);
        Ok(Ok(part))
    }

    fn all_skipped(&self, way: Back) -> Problem {
        let verdicts = &self.log.verdicts;
        let skipped: Vec<Value> = self.shown_skipped().iter().map(|one| json!(one)).collect();
        let detail = match verdicts.is_empty() {
            true => format!("There is nothing left of it to {}.", way.name()),
            false => format!(
                "No part of it can be changed back. Send \"skip\" to {} the step before it.",
                way.name()
            ),
        };
        Problem::new(ProblemKind::NothingToUndo, detail).with("skipped", skipped)
    }

    /// The skipped parts that the proposer sees.
    pub(in super::super) fn shown_skipped(&self) -> Vec<Skipped> {
        let actor = self.origin.actor;
        let viewer = Viewer::of(actor);
        let lens = self.lens(actor, &viewer);
        let is_shown = |verdict: &&Verdict| {
            Path::parse(&verdict.at).is_ok_and(|at| lens.extent(&at) != Extent::Nothing)
        };
        self.log.verdicts.iter().filter(is_shown).take(TOLD).map(Skipped::from).collect()
    }

    /// What was done so far.
    pub(in super::super) fn effects(&self) -> &[Effect] {
        &self.log.effects
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
        Back::Undo => "You have nothing to undo here.",
        Back::Redo => "There is nothing to redo: you have undone nothing since your last edit.",
    };
    Problem::new(ProblemKind::NothingToUndo, detail)
}
