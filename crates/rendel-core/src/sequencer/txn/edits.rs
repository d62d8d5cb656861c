//! The edits of a proposal, settled one by one against the state that those before it led to.

use uuid::Uuid;

use super::filling::{fill, give_own_id};
use super::taking_back::taking_back;
use super::{By, Origin, Txn};
use crate::actor::ClientKey;
use crate::canonical::is_same;
use crate::charter::{Extent, Lens, Permission, nothing_at};
use crate::grantees::Viewer;
use crate::kind::{EditContext, Settlement, listed};
use crate::op::{Op, TEST, Unread};
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::references::{Followed, follow_drops};
use crate::update::{Effects, Proposal, Verdict, VerdictKind};

/// What an edit does, and the turns in which it is a move.
pub(super) struct Decided {
    pub(super) settlement: Settlement,
    pub(super) moved: Vec<Token>,
}

impl Txn<'_> {
    /// The first phase: the edits of the proposal, or the undo that it asks for.
    pub(super) fn make_edits(&mut self) -> Result<(), Problem> {
        self.check_shape()?;
        let proposal = self.origin.proposal;
        if let Some((index, op)) = taking_back(proposal) {
            self.take_back(&proposal.edits[index], op?)?;
        } else {
            self.is_deferred = self.can_defer();
            for index in 0..proposal.edits.len() {
                self.make_edit(index).map_err(|problem| at_edit(problem, proposal, index))?;
            }
            self.pass_turns()?;
        }
        self.log.own = self.log.effects.len();
        // A growth that might exceed the limit is measured.
        let growth = || self.log.effects.iter().map(|effect| effect.op.most_growth()).sum::<u64>();
        let limit = self.session.charter.limits.state;
        if self.is_deferred && self.session.weight().saturating_add(growth()) > limit {
            self.stop_deferring()?;
        }
        Ok(())
    }

    /// Whether the proposal is one edit of a field from which nothing follows, so that nothing can
    /// refuse it once its effects are known.
    fn can_defer(&self) -> bool {
        let [edit] = &self.origin.proposal.edits[..] else { return false };
        let top = edit.at.strip_prefix('/').and_then(|path| path.split('/').next());
        // A name with an escape is not worth decoding here.
        top.is_some_and(|top| !top.contains('~') && !self.session.charter.followed.has(&top.into()))
    }

    fn check_shape(&self) -> Result<(), Problem> {
        let (Origin { proposal, key, passage, .. }, session) = (self.origin, self.session);
        let (edits, most) = (proposal.edits.len(), session.charter.limits.edits);
        if edits == 0 && passage.is_none() {
            let detail = "A proposal needs at least one edit.";
            return Err(Problem::new(ProblemKind::Malformed, detail));
        }
        if edits > most && !key.is_session() && !proposal.is_revert {
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
            Some(seen) if seen > session.seq => {
                let detail = format!("\"seen\" is {seen}, but the session is at {}.", session.seq);
                Err(Problem::new(ProblemKind::FromTheFuture, detail).with("seq", session.seq))
            }
            _ => Ok(()),
        }
    }

    fn make_edit(&mut self, index: usize) -> Result<(), Problem> {
        let Decided { settlement, moved } = self.settle_edit(&self.origin, index)?;
        self.log.moved.extend(moved);
        self.take(settlement, By::Proposer, |_| {})
    }

    /// Applies what was settled for one edit. A verdict that says more than that it was applied is
    /// kept, once `change` has completed it.
    pub(super) fn take(
        &mut self,
        Settlement { effects, mut verdict }: Settlement,
        by: By,
        change: impl FnOnce(&mut Verdict),
    ) -> Result<(), Problem> {
        self.count_steps(1)?;
        effects.into_iter().try_for_each(|effect| self.apply(effect, by))?;
        if verdict.verdict != VerdictKind::Applied {
            // A place that held nothing has lost nothing.
            verdict.lost = verdict.lost.filter(|lost| !lost.is_null());
            change(&mut verdict);
            self.log.verdicts.push(verdict);
        }
        Ok(())
    }

    /// What one edit would do to the current state. Changes nothing.
    pub(super) fn settle_edit(
        &self,
        origin: &Origin<'_>,
        index: usize,
    ) -> Result<Decided, Problem> {
        let Origin { actor, key, proposal, .. } = *origin;
        let edit = &proposal.edits[index];
        let (charter, fields, state) = (&self.session.charter, self.fields(), self.state());
        let path = Path::parse(&edit.at)?;
        let mut op = if key.is_session() { Op::asked_by_session(edit) } else { Op::asked(edit) };
        if let Ok(op) = &mut op {
            give_own_id(fields, op, &path, actor);
            op.give_id(|| made_id(key, proposal.n, index));
        }
        // A condition about a record that is made reads the record as it will be.
        let is_filled = op.as_mut().map_or(Ok(()), |op| fill(fields, op, &path, actor));
        let permission = self.permission(actor, &path, op.as_ref().ok());
        let is_condition = match &op {
            Ok(op) => op.is_condition(),
            Err(Unread::Name(_)) => false,
            Err(Unread::Member(name, _)) => *name == TEST,
        };
        // A hidden place does not exist for a participant without permission to edit it, and cannot be
        // tested.
        let sight = charter.sight(&actor.role);
        let viewer = (!sight.is_whole()).then(|| Viewer::of(actor));
        let lens = Lens::new(charter, sight, viewer.as_ref(), state);
        let is_hidden = !sight.is_whole() && lens.extent(&path) == Extent::Nothing;
        if is_hidden && (is_condition || !permission.is_given()) {
            return Err(nothing_at(&path));
        }
        is_filled?;
        let follows_refused = || self.session.clients.has_refused_beyond(key, proposal.answered);
        let site = EditContext {
            op: &op,
            path: &path,
            index,
            client: key,
            seen: proposal.seen.unwrap_or(self.session.seq),
            memory: state.memory(),
            follows_refused: proposal.seen.is_some() && follows_refused(),
            own: &[],
        };
        match &op {
            Ok(Op::Test(expected)) => {
                let settlement = test(lens, &site, expected)?;
                return Ok(Decided { settlement, moved: Vec::new() });
            }
            Err(Unread::Member(_, problem)) if is_condition => return Err(problem.clone()),
            _ => {}
        }
        let settlement = match self.play(origin, &site) {
            Some(played) => played,
            None => fields.settle(state.root(), path.tokens(), &site),
        };
        // That a path does not exist comes before what the role may do.
        let is_unknown = |problem: &Problem| problem.kind() == ProblemKind::UnknownPath;
        let is_known = !settlement.as_ref().is_err_and(is_unknown);
        if is_known && !permission.is_given() {
            return Err(not_allowed(&actor.role, &path, &permission));
        }
        let moved = self.check_time(actor, &path, op.as_ref().ok())?;
        let settlement = match proposal.is_revert {
            true => settlement?,
            false => self.with_references(settlement?, &site)?,
        };
        Ok(Decided { settlement, moved })
    }

    /// With what a drop does to the fields that refer to the record.
    fn with_references(
        &self,
        Settlement { effects, mut verdict }: Settlement,
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
        let links = &self.session.charter.links;
        let (root, referrers) = (self.state().root(), &self.indexed().referrers);
        let Followed { effects, mut met } =
            follow_drops(self.fields(), root, links, referrers, effects, site)?;
        if !met.is_empty() {
            let because = format!(
                "What referred to the record was changed with it, including work of {} that the \
                 proposer had not seen.",
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
}

fn test(
    lens: Lens<'_>,
    site: &EditContext<'_>,
    expected: &serde_json::Value,
) -> Result<Settlement, Problem> {
    let value = lens.plain_at(site.path);
    if value.as_ref().is_some_and(|value| is_same(value, expected)) {
        return Ok(Settlement { effects: Effects::new(), verdict: site.applied_verdict() });
    }
    let detail = format!("{} is not what the proposal asks for.", site.path);
    let problem = Problem::new(ProblemKind::TestFailed, detail);
    Err(problem.at(site.path).current(value.unwrap_or_default()))
}

/// The id of a record or element for which the proposer gave none. It follows from client, number and
/// index, so the same journal always leads to the same ids.
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
            "The role {role:?} may not edit {path}. The charter's [roles.{role}] lists its permissions."
        ),
    };
    Problem::new(ProblemKind::NotAllowed, detail).at(path)
}

/// Names the edit that failed if there are several.
fn at_edit(problem: Problem, proposal: &Proposal, index: usize) -> Problem {
    if proposal.edits.len() > 1 { problem.with("edit", index) } else { problem }
}
