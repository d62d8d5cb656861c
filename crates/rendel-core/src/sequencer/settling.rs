//! Settling: what a proposal makes of the state, edit by edit.

use std::collections::BTreeSet;
use std::ops::Range;

use smallvec::SmallVec;
use uuid::Uuid;

use super::filling::{fill, give_own_id};
use super::noting::{Coming, Noted, Worked};
use super::playing::Following;
use super::{Present, Sequencer};
use crate::actor::{Actor, ClientKey};
use crate::canonical::is_same;
use crate::charter::{Charter, Extent, Lens, NoAnswer, Permission, disclosures, nothing_at};
use crate::edit::Edit;
use crate::kind::{Settlement, Site, listed};
use crate::op::{Act, Op, TEST, Unread};
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::references::{Followed, check_references, follow_drops};
use crate::seers::Viewer;
use crate::stamp::Stamp;
use crate::state::Misfit;
use crate::update::{
    Announced, Effect, Effects, Passage, Proposal, RuleMark, Settled, Undoes, Verdict, VerdictKind,
};

/// A proposal that is being settled.
pub(super) struct Settling<'s> {
    pub(super) actor: &'s Actor,
    pub(super) key: ClientKey,
    pub(super) proposal: &'s Proposal,
    pub(super) now: u64,
    /// Who came or went, where it is of that, and as whom expressions read them.
    pub(super) passage: Option<&'s Passage>,
    pub(super) person: Option<&'s Actor>,
    /// The expressions that had no answer.
    pub(super) unanswered: &'s mut Vec<NoAnswer>,
}

impl<'s> Settling<'s> {
    pub(super) fn of(
        actor: &'s Actor,
        key: ClientKey,
        proposal: &'s Proposal,
        now: u64,
        unanswered: &'s mut Vec<NoAnswer>,
    ) -> Self {
        Self { actor, key, proposal, now, passage: None, person: None, unanswered }
    }

    /// Who set off what the session does; nobody where the time did.
    pub(super) fn who(&self) -> Option<&'s Actor> {
        if self.key.is_session() { self.person } else { Some(self.actor) }
    }

    /// Whether it is the session's own word that a time has come.
    pub(super) fn fires(&self, field: &Token) -> bool {
        let is_it = |edit: &Edit| edit.op == "fire" && edit.at.strip_prefix('/') == Some(field);
        self.key.is_session() && self.proposal.edits.iter().any(is_it)
    }

    /// Whether nobody set it off but the time.
    pub(super) fn is_of_time(&self) -> bool {
        self.key.is_session() && self.passage.is_none()
    }

    /// Whether it tells what was cast.
    fn counts(&self) -> bool {
        self.proposal.edits.iter().any(|edit| edit.op == "count")
    }

    /// Whether it is what the session itself notes.
    fn is_own(&self) -> bool {
        let is_own = |edit: &Edit| self.key.is_session() && Act::is_own(&edit.op);
        self.passage.is_some() || self.proposal.edits.iter().all(is_own)
    }
}

/// What becomes of a cause whose rule cannot be carried out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum OnFailure {
    /// It is refused.
    Refuse,
    /// It counts all the same, without what that rule would have done.
    LeaveOut,
}

/// What a proposal has come to so far.
#[derive(Clone)]
pub(super) struct Work {
    pub(super) present: Present,
    pub(super) effects: Effects,
    pub(super) verdicts: Vec<Verdict>,
    pub(super) following: Following,
    pub(super) stamp: Stamp,
    pub(super) marks: Vec<RuleMark>,
    pub(super) announced: Vec<Announced>,
    /// How many of the effects the proposer brought about and may take back.
    pub(super) own: usize,
    /// What it takes back, and the gesture of that.
    pub(super) undoes: Option<Undoes>,
    pub(super) gesture: Option<String>,
}

impl Work {
    /// Omits each effect before `known` whose place is set again by a later one. Effects of the
    /// proposer stay, since undo relies on them.
    fn keep_last_set(&mut self, known: usize) {
        let (earlier, later) = self.effects.split_at(known);
        let again: BTreeSet<&Path> = later.iter().map(|effect| &effect.at).collect();
        let stays = |(index, effect): (usize, &Effect)| {
            let is_set = matches!(effect.op, Op::Set(_) | Op::Clear);
            index < self.own || !(is_set && again.contains(&effect.at))
        };
        let earlier = earlier.iter().enumerate().map(stays);
        let kept: Vec<bool> = earlier.chain(later.iter().map(|_| true)).collect();
        let count = |range: Range<usize>| kept[range].iter().filter(|kept| **kept).count();
        for mark in &mut self.marks {
            let stay = count(mark.first..mark.first + mark.count);
            (mark.first, mark.count) = (count(0..mark.first), stay);
        }
        let mut kept = kept.into_iter();
        self.effects.retain(|_| kept.next().unwrap_or(true));
    }
}

impl Sequencer {
    /// What a proposal makes of the state, with the update that says so. Changes nothing.
    pub(super) fn settle(
        &self,
        settling: &mut Settling<'_>,
        problem: &dyn Fn(&[Effect]) -> Option<Problem>,
    ) -> Result<(Present, Settled), Problem> {
        let mut settle = || {
            let mut work = self.settle_edits(settling)?;
            let own = work.own;
            // That somebody has gone, or the time has come, is so whatever the charter says, and
            // however full the state is. What is told of ballots can wait.
            let is_own = settling.is_own();
            let (weight, limit) = (work.present.state.weight(), self.charter.limits.state);
            if weight > limit
                && weight > self.present.state.weight()
                && (!is_own || settling.counts())
            {
                return Err(too_large(&self.charter));
            }
            let on_failure = if is_own { OnFailure::LeaveOut } else { OnFailure::Refuse };
            self.follow_rules(&mut work, settling, &self.present.state, 0, on_failure)?;
            // A hold does not stop what rules do.
            let drawn_at = self.drawn_at(&work.present, &settling.proposal.edits);
            let refusal = match drawn_at.is_empty() {
                true => problem(&work.effects[..own]),
                false => problem(&[&work.effects[..own], &drawn_at[..]].concat()),
            };
            refusal.map_or(Ok(()), Err)?;
            self.finish(&mut work, settling)?;
            let state = &work.present.state;
            let (fields, links) = (&self.charter.fields, &self.charter.links);
            if !is_own {
                check_references(fields, state.root(), links, &work.effects)?;
                self.check_guards(state, settling.actor, &work.effects, settling.unanswered)?;
            }
            self.settle_draw(settling, work)
        };
        let settled = settle().map(|(present, mut update)| {
            self.announce_built_in(&present, settling, &mut update);
            self.with_disclosures(present, update)
        });
        settled.map_err(|problem| self.seen_by(settling.actor, problem))
    }

    /// A problem without what is hidden from the participant who gets it.
    pub(super) fn seen_by(&self, actor: &Actor, problem: Problem) -> Problem {
        let viewer = Viewer::of(actor);
        match problem.kind() {
            // Why may be what is hidden.
            ProblemKind::Rule if !self.charter.sight(&actor.role).is_whole() => {
                let detail = "A rule of the session follows from this and cannot be carried out.";
                Problem::new(ProblemKind::Rule, detail)
            }
            _ => self.lens(actor, &viewer).problem(problem),
        }
    }

    /// What comes last: turns have their time, and each derived value is reported once.
    fn finish(&self, work: &mut Work, settling: &Settling<'_>) -> Result<(), Problem> {
        let Work { present, following, stamp, .. } = work;
        self.time_turns(present, following, *stamp, settling.now)?;
        let derived = self.followed(present, following, &work.effects);
        work.present.state.age(&self.charter.fields, work.stamp.seq);
        if !derived.is_empty() {
            let known = work.effects.len();
            work.effects.extend(derived);
            work.keep_last_set(known);
        }
        Ok(())
    }

    /// What somebody sees of the state as it is.
    pub(super) fn lens<'l>(&'l self, actor: &Actor, viewer: &'l Viewer) -> Lens<'l> {
        let sight = self.charter.sight(&actor.role);
        Lens::new(&self.charter, sight, Some(viewer), &self.present.state)
    }

    /// An update with what it does to who sees what.
    pub(super) fn with_disclosures(
        &self,
        present: Present,
        mut update: Settled,
    ) -> (Present, Settled) {
        let Charter { secrets, fields, .. } = &*self.charter;
        if !secrets.is_empty() {
            let (before, after) = (&self.present.state, &present.state);
            update.disclosures = disclosures(secrets, fields, before, after, &update.effects);
        }
        (present, update)
    }

    pub(super) fn check_shape(&self, settling: &Settling<'_>) -> Result<(), Problem> {
        let Settling { proposal, key, passage, .. } = settling;
        let (edits, most) = (proposal.edits.len(), self.charter.limits.edits);
        if edits == 0 && passage.is_none() {
            let detail = "A proposal needs at least one edit.";
            return Err(Problem::new(ProblemKind::Malformed, detail));
        }
        if edits > most && !key.is_session() {
            let detail =
                format!("A proposal has at most {most} edits; this one has {edits}. Send several.");
            return Err(Problem::new(ProblemKind::TooLarge, detail).with("limit", "edits"));
        }
        for (name, text) in [("gesture", &proposal.gesture), ("note", &proposal.note)] {
            if text.as_ref().is_some_and(|text| text.chars().count() > 200) {
                let detail = format!("\"{name}\" has at most 200 characters.");
                return Err(Problem::new(ProblemKind::TooLarge, detail));
            }
        }
        match proposal.seen {
            Some(seen) if seen > self.seq => {
                let detail = format!("\"seen\" is {seen}, but the session is at {}.", self.seq);
                Err(Problem::new(ProblemKind::FromTheFuture, detail).with("seq", self.seq))
            }
            _ => Ok(()),
        }
    }

    fn settle_edits(&self, settling: &mut Settling<'_>) -> Result<Work, Problem> {
        let proposal = settling.proposal;
        self.check_shape(settling)?;
        let stamp = Stamp { seq: self.seq + 1, client: settling.key };
        if let Some((index, op)) = Self::taking_back(proposal) {
            let (worked, undoes, gesture) =
                self.take_back(settling, &proposal.edits[index], op?)?;
            let Worked { present, following, effects, verdicts } = worked;
            let (marks, announced, undoes) = (Vec::new(), Vec::new(), Some(undoes));
            let own = effects.len();
            return Ok(Work {
                own,
                present,
                effects,
                verdicts,
                following,
                stamp,
                marks,
                announced,
                undoes,
                gesture,
            });
        }
        let mut present = self.present.clone();
        let (by, at) = (&*settling.actor.id, self.at.max(settling.now));
        let mut effects = Effects::new();
        let mut verdicts = Vec::new();
        let mut following = Following::of(&present);
        for index in 0..proposal.edits.len() {
            let mut settlement = self
                .settle_edit(&present, settling, &mut following, index)
                .map_err(|problem| at_edit(problem, proposal, index))?;
            for effect in &settlement.effects {
                let coming = Coming { by, at, effect, stamp };
                present
                    .apply_noting(&self.charter, &self.histories, coming)
                    .map_err(|misfit| broken(&misfit))?;
            }
            self.keep_up(&mut present, &mut following, stamp)
                .map_err(|problem| at_edit(problem, proposal, index))?;
            // Where nothing was, nothing is lost.
            settlement.verdict.lost = settlement.verdict.lost.filter(|lost| !lost.is_null());
            if effects.is_empty() {
                effects = settlement.effects;
            } else {
                effects.extend(settlement.effects);
            }
            let is_told = settlement.verdict.verdict != VerdictKind::Applied;
            verdicts.extend(Some(settlement.verdict).filter(|_| is_told));
        }
        self.note_moves(&mut present, &mut following, stamp)?;
        let (marks, announced) = (Vec::new(), Vec::new());
        let (own, undoes, gesture) = (effects.len(), None, proposal.gesture.clone());
        Ok(Work {
            own,
            present,
            effects,
            verdicts,
            following,
            stamp,
            marks,
            announced,
            undoes,
            gesture,
        })
    }

    /// With the draw that the proposal ends with, if it does: it is made last, so that no refusal
    /// can depend on it.
    fn settle_draw(
        &self,
        settling: &mut Settling<'_>,
        mut work: Work,
    ) -> Result<(Present, Settled), Problem> {
        let drawn = self.draw(&work.present, &settling.proposal.edits);
        if drawn.is_empty() {
            return Ok(self.worked_out(settling, work));
        }
        let before = work.present.state.clone();
        let known = work.effects.len();
        work.following = Following::of(&work.present);
        for effect in &drawn {
            work.present.put(&self.charter, effect, work.stamp)?;
        }
        self.keep_up(&mut work.present, &mut work.following, work.stamp)?;
        work.effects.extend(drawn);
        // What chance has decided is never decided anew.
        work.own = 0;
        work.present.noted = Noted::default();
        // It is made: rules follow from it, and none of them undoes it.
        self.follow_rules(&mut work, settling, &before, known, OnFailure::LeaveOut)?;
        // An intermediate value is not disclosed: it may have been dealt to another place.
        work.keep_last_set(known);
        self.finish(&mut work, settling)?;
        Ok(self.worked_out(settling, work))
    }

    /// The update that says what a proposal came to.
    fn worked_out(&self, settling: &Settling<'_>, work: Work) -> (Present, Settled) {
        let Work { present, effects, verdicts, marks, announced, undoes, gesture, own, .. } = work;
        let own = (own < effects.len()).then_some(own);
        let passage = settling.passage.cloned();
        let since = self.since(&effects);
        let update = self.settled(settling, effects, verdicts);
        let gesture = update.gesture.clone().or(gesture);
        (
            present,
            Settled { rules: marks, announced, undoes, own, since, gesture, passage, ..update },
        )
    }

    /// For each effect the update that last changed its place before this one.
    pub(super) fn since(&self, effects: &[Effect]) -> SmallVec<[u64; 1]> {
        let (fields, root) = (&self.charter.fields, self.present.state.root());
        let since = effects.iter().map(|effect| fields.latest(root, effect.at.tokens()));
        let since: SmallVec<[u64; 1]> = since.collect();
        if since.iter().all(|seq| *seq == 0) { SmallVec::new() } else { since }
    }

    pub(super) fn settled(
        &self,
        settling: &Settling<'_>,
        effects: Effects,
        verdicts: Vec<Verdict>,
    ) -> Settled {
        let Settling { actor, proposal, now, .. } = settling;
        Settled {
            seq: self.seq + 1,
            first: None,
            by: actor.id.clone(),
            client: actor.client,
            n: proposal.n,
            at: self.at.max(*now),
            effects,
            verdicts,
            gesture: proposal.gesture.clone(),
            note: proposal.note.clone(),
            rules: Vec::new(),
            undoes: None,
            own: None,
            since: SmallVec::new(),
            passage: None,
            announced: Vec::new(),
            disclosures: Vec::new(),
        }
    }

    /// Settles one edit of a proposal against what those before it have made of the state.
    pub(super) fn settle_edit(
        &self,
        present: &Present,
        settling: &mut Settling<'_>,
        following: &mut Following,
        index: usize,
    ) -> Result<Settlement, Problem> {
        let Settling { actor, key, proposal, .. } = *settling;
        let edit = &proposal.edits[index];
        let (fields, state) = (&self.charter.fields, &present.state);
        let path = Path::parse(&edit.at)?;
        let mut op = if key.is_session() { Op::asked_by_session(edit) } else { Op::asked(edit) };
        if let Ok(op) = &mut op {
            give_own_id(fields, op, &path, actor);
            op.give_id(|| made_id(key, proposal.n, index));
        }
        // A condition on a record that is made speaks of the record as it will be.
        let is_filled = op.as_mut().map_or(Ok(()), |op| fill(fields, op, &path, actor));
        let asked = op.as_ref().ok();
        let permission = self.permission(state, actor, &path, asked, settling.unanswered);
        let is_condition = match &op {
            Ok(op) => op.is_condition(),
            Err(Unread::Name(_)) => false,
            Err(Unread::Member(name, _)) => *name == TEST,
        };
        // What is hidden is not there for who may not edit it either, and for nobody to be tested.
        let sight = self.charter.sight(&actor.role);
        let viewer = (!sight.is_whole()).then(|| Viewer::of(actor));
        let lens = Lens::new(&self.charter, sight, viewer.as_ref(), state);
        let is_hidden = match sight.is_whole() {
            true => false,
            false => lens.extent(&path) == Extent::Nothing,
        };
        if is_hidden && (is_condition || !permission.is_given()) {
            return Err(nothing_at(&path));
        }
        is_filled?;
        let follows_refused = || self.clients.has_refused_beyond(key, proposal.answered);
        let site = Site {
            op: &op,
            path: &path,
            index,
            client: key,
            seen: proposal.seen.unwrap_or(self.seq),
            memory: state.memory(),
            follows_refused: proposal.seen.is_some() && follows_refused(),
            own: &[],
        };
        match &op {
            Ok(Op::Test(expected)) => {
                return self.test(lens, &site, expected);
            }
            Err(Unread::Member(_, problem)) if is_condition => return Err(problem.clone()),
            _ => {}
        }
        let settlement = match self.play(present, actor, (proposal, settling.now), &site) {
            Some(played) => played,
            None => fields.settle(state.root(), path.tokens(), &site),
        };
        // A path that does not exist is said to be so before a role is; what exists is guarded by
        // the role.
        let is_unknown = |problem: &Problem| problem.kind() == ProblemKind::UnknownPath;
        let is_known = !settlement.as_ref().is_err_and(is_unknown);
        if is_known && !permission.is_given() {
            return Err(not_allowed(&actor.role, &path, &permission));
        }
        self.check_time(state, actor, &path, op.as_ref().ok(), following)?;
        self.follow(present, settlement?, &site)
    }

    /// With what a drop does to those who refer to the record.
    fn follow(
        &self,
        present: &Present,
        settlement: Settlement,
        site: &Site<'_>,
    ) -> Result<Settlement, Problem> {
        let Settlement { effects, mut verdict } = settlement;
        let (fields, links) = (&self.charter.fields, &self.charter.links);
        let root = present.state.root();
        let Followed { effects, mut met } =
            follow_drops(fields, root, links, &present.referrers, effects, site)?;
        if !met.is_empty() {
            let because = format!(
                "What referred to the record went with it, also what {} set unseen by the \
                 proposer.",
                listed(&met)
            );
            met.extend(verdict.met);
            met.sort_unstable();
            met.dedup();
            let overrode = site.verdict(VerdictKind::Overrode, met, because);
            verdict = Verdict { lost: verdict.lost, ..overrode };
        }
        Ok(Settlement { effects, verdict })
    }

    fn test(
        &self,
        lens: Lens<'_>,
        site: &Site<'_>,
        expected: &serde_json::Value,
    ) -> Result<Settlement, Problem> {
        let present = lens.plain_at(site.path);
        if present.as_ref().is_some_and(|present| is_same(present, expected)) {
            return Ok(Settlement { effects: Effects::new(), verdict: site.applied_verdict() });
        }
        let detail = format!("{} is not what the proposal asks for.", site.path);
        Err(Problem::new(ProblemKind::TestFailed, detail)
            .at(site.path)
            .current(present.unwrap_or_default()))
    }
}

/// The id of a record or element whose proposer gave none: derived from client, number and index,
/// so that a journal that is made again has the same.
fn made_id(client: ClientKey, n: u64, index: usize) -> String {
    Uuid::new_v5(&client.id(), format!("{n}/{index}").as_bytes()).to_string()
}

pub(super) fn not_allowed(role: &str, path: &Path, permission: &Permission) -> Problem {
    let detail = match permission {
        Permission::Unmet(_) => {
            format!(
                "The role {role:?} may edit {path} only under a condition of the charter's \
                 [roles.{role}], which does not hold."
            )
        }
        _ => format!(
            "The role {role:?} may not edit {path}. The charter's [roles.{role}] says where it may."
        ),
    };
    Problem::new(ProblemKind::NotAllowed, detail).at(path)
}

/// Names the edit that failed, where there are several.
fn at_edit(problem: Problem, proposal: &Proposal, index: usize) -> Problem {
    if proposal.edits.len() > 1 { problem.with("edit", index) } else { problem }
}

/// Never told while settling and applying agree; the sentence is for whoever breaks that.
pub(super) fn broken(misfit: &Misfit) -> Problem {
    Problem::new(ProblemKind::Unavailable, format!("Nothing was settled: {misfit}."))
}

pub(super) fn too_large(charter: &Charter) -> Problem {
    let detail = format!(
        "The state would be larger than the {} bytes that the charter allows.",
        charter.limits.state
    );
    Problem::new(ProblemKind::TooLarge, detail).with("limit", "state")
}
