//! One update in the making.
//!
//! A [`Txn`] begins with the current session. Everything that changes goes through [`Txn::apply`],
//! which keeps references, totals and turns right, so every expression reads a consistent state. Its
//! *phases* run in one direction, each in a file of its own:
//!
//! 1. the refusable half: the edits of the proposal, or what undo makes of it (`edits`, `play`,
//!    `ballots`, `taking_back`), then rules, references and guards (`rules`, `guards`);
//! 2. the final half: draws and the rules that follow from them (`draws`). Nothing refuses a draw, so
//!    a refusal never tells what would have been drawn.
//!
//! [`Txn::seal`] reports derived values once, each that differs from the state before the update, and
//! builds the update. A refusal drops the `Txn`, and the session is unchanged.

mod announcing;
mod ballots;
mod draws;
mod edits;
mod filling;
mod guards;
mod play;
mod rules;
mod taking_back;
mod time;

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use super::Sequencer;
use super::indexed::IndexedState;
use super::reversal::{Authored, Reversal};
use crate::actor::{Actor, ClientKey};
use crate::charter::{Lens, NoAnswer, disclosures};
use crate::edit::Edit;
use crate::grantees::Viewer;
use crate::kind::{Cell, Fields};
use crate::op::{Act, Op};
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::references::check_all_references;
use crate::scope::Who;
use crate::stamp::Stamp;
use crate::state::{Misfit, State};
use crate::update::{
    Announced, Effect, Effects, Passage, Proposal, RuleMark, Settled, Undoes, Verdict,
};
use rules::OnFailure;
pub use taking_back::Skipped;
pub(super) use taking_back::{TOLD, taking_back};

/// Steps of one update: edits, effects, rules, and places that a rule or guard looks at.
const MAX_STEPS: usize = 20_000;
/// Steps that a revert may take for each of its edits in addition.
const STEPS_OF_REVERT: usize = 100;

/// Who or what an update comes from.
#[derive(Clone, Copy, Debug)]
pub(super) struct Origin<'t> {
    pub(super) actor: &'t Actor,
    pub(super) key: ClientKey,
    pub(super) proposal: &'t Proposal,
    /// In milliseconds since 1970 UTC.
    pub(super) now: u64,
    /// The arrival or departure that is the cause, if one is.
    pub(super) passage: Option<&'t Passage>,
    /// The participant who arrived or left.
    pub(super) person: Option<&'t Actor>,
}

impl<'t> Origin<'t> {
    pub(super) fn of(actor: &'t Actor, key: ClientKey, proposal: &'t Proposal, now: u64) -> Self {
        Self { actor, key, proposal, now, passage: None, person: None }
    }

    /// The participant that is the cause; `None` if time is.
    fn who(&self) -> Option<&'t Actor> {
        if self.key.is_session() { self.person } else { Some(self.actor) }
    }

    /// Whether the session itself reports that the time of a field has come.
    fn fires(&self, field: &Token) -> bool {
        self.has_own(|edit| edit.op == "fire" && edit.at.strip_prefix('/') == Some(field))
    }

    /// Whether the session itself binds the next draw of a field.
    fn binds(&self, path: &Path) -> bool {
        self.has_own(|edit| edit.op == "bind" && edit.at == path.to_string())
    }

    fn has_own(&self, is_it: impl Fn(&Edit) -> bool) -> bool {
        self.key.is_session() && self.proposal.edits.iter().any(is_it)
    }

    /// Whether time alone is the cause.
    fn is_of_time(&self) -> bool {
        self.key.is_session() && self.passage.is_none()
    }

    /// Whether it counts ballots.
    fn counts(&self) -> bool {
        self.proposal.edits.iter().any(|edit| edit.op == "count")
    }

    /// Whether the session itself notes something that nothing can refuse: an arrival, a departure,
    /// or that a time has come.
    fn cannot_be_refused(&self) -> bool {
        let is_own = |edit: &Edit| self.key.is_session() && Act::is_own(&edit.op);
        self.passage.is_some() || self.proposal.edits.iter().all(is_own)
    }
}

/// On whose account an effect is applied.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum By {
    /// The proposer, who can take it back.
    Proposer,
    /// Chance, which cannot be undone.
    Draw,
    /// A rule of the session.
    Rule,
    /// It is derived: a total, a turn, a deadline that is extended. It is reported at the seal.
    Derived,
}

/// What an update has done so far.
#[derive(Debug, Default)]
struct Log {
    effects: Effects,
    verdicts: Vec<Verdict>,
    marks: Vec<RuleMark>,
    announced: Vec<Announced>,
    /// The places that have followed by themselves.
    derived: BTreeSet<Path>,
    /// The turns in which a move was made.
    moved: BTreeSet<Token>,
    /// How many of the effects, from the first on, the proposer caused and can undo.
    own: usize,
    undoes: Option<Undoes>,
    gesture: Option<String>,
    reversal: Reversal,
    steps: usize,
    /// The path of each effect that may have changed a visibility, and the state after it.
    turned: Vec<(Path, State)>,
}

/// A point to which a transaction can return.
struct Savepoint {
    now: Option<IndexedState>,
    effects: usize,
    verdicts: usize,
    marks: usize,
    announced: usize,
    derived: BTreeSet<Path>,
    moved: BTreeSet<Token>,
    reversal: Reversal,
    turned: usize,
}

/// One update in the making; see the module.
#[derive(Debug)]
pub(super) struct Txn<'t> {
    /// The session before the update.
    session: &'t Sequencer,
    origin: Origin<'t>,
    /// The current state; `None` as long as nothing was applied.
    now: Option<IndexedState>,
    log: Log,
    /// Whether effects wait for the end, when they are applied to the session's own state: a copy of
    /// it costs more than most proposals do. Only if nothing follows from them or depends on them.
    is_deferred: bool,
    /// Expressions that had no answer.
    unanswered: RefCell<Vec<NoAnswer>>,
}

/// A finished update, with the state that it leads to.
#[derive(Debug)]
pub(super) struct Sealed {
    pub(super) update: Settled,
    /// The state after it; `None` if its effects have yet to be applied.
    pub(super) state: Option<IndexedState>,
    pub(super) reversal: Reversal,
}

/// A reason that lies outside the state why certain effects are refused, such as a hold.
pub(super) type Objection<'o> = &'o dyn Fn(&[Effect]) -> Option<Problem>;

impl<'t> Txn<'t> {
    pub(super) fn begin(session: &'t Sequencer, origin: Origin<'t>) -> Self {
        Self {
            session,
            origin,
            now: None,
            log: Log::default(),
            is_deferred: false,
            unanswered: RefCell::default(),
        }
    }

    /// The whole update that a proposal, the time, an arrival or a departure leads to, and the
    /// expressions that had no answer.
    pub(super) fn settle(
        mut self,
        objection: Objection<'_>,
    ) -> (Result<Sealed, Problem>, Vec<NoAnswer>) {
        let (session, actor) = (self.session, self.origin.actor);
        let settled = self.refusable_half(objection).and_then(|()| self.final_half());
        let unanswered = self.unanswered.take();
        let sealed = settled.map(|()| self.seal());
        (sealed.map_err(|problem| session.seen_by(actor, problem)), unanswered)
    }

    /// The update that consists of one effect and the values derived from it.
    pub(super) fn with(mut self, effect: Effect) -> Result<Sealed, Problem> {
        self.apply(effect, By::Proposer)?;
        self.log.own = self.log.effects.len();
        Ok(self.seal())
    }

    fn refusable_half(&mut self, objection: Objection<'_>) -> Result<(), Problem> {
        self.make_edits()?;
        if self.is_deferred {
            return objection(&self.log.effects).map_or(Ok(()), Err);
        }
        let own = self.log.own;
        let is_refusable = !self.origin.cannot_be_refused();
        // An arrival or a time that has come is a fact, however full the state is. A count of ballots
        // can wait.
        let weight = self.state().weight();
        if weight > self.session.charter.limits.state
            && weight > self.session.weight()
            && (is_refusable || self.origin.counts())
        {
            return Err(too_large(&self.session.charter));
        }
        let on_failure = if is_refusable { OnFailure::Refuse } else { OnFailure::Skip };
        self.follow_rules(self.session.indexed.state.clone(), 0, on_failure)?;
        // A hold does not stop rules.
        let drawn_at = self.drawn_at();
        let refusal = match drawn_at.is_empty() {
            true => objection(&self.log.effects[..own]),
            false => objection(&[&self.log.effects[..own], &drawn_at[..]].concat()),
        };
        refusal.map_or(Ok(()), Err)?;
        self.time_turns()?;
        if is_refusable {
            self.check_changes(0, &self.session.indexed.state, self.origin.actor)?;
            if self.origin.proposal.is_revert {
                let links = &self.session.charter.links;
                check_all_references(self.fields(), self.state().root(), links)?;
            }
        }
        Ok(())
    }

    fn final_half(&mut self) -> Result<(), Problem> {
        let drawn = self.draw();
        if drawn.is_empty() {
            return Ok(());
        }
        let before = self.state().clone();
        let known = self.log.effects.len();
        for effect in drawn {
            self.apply(effect, By::Draw)?;
        }
        self.log.own = 0;
        self.log.reversal = Reversal::default();
        self.follow_rules(before, known, OnFailure::Skip)?;
        // An intermediate value is not disclosed: it may have been dealt to another place.
        self.keep_last_set(known);
        self.time_turns()
    }

    /// Applies an effect: the only way in which the state of an update changes.
    fn apply(&mut self, effect: Effect, by: By) -> Result<(), Problem> {
        if self.is_deferred {
            self.log.effects.push(effect);
            return Ok(());
        }
        let (session, charter) = (self.session, &self.session.charter);
        // A draw and what is derived follow from steps that have been counted, and are never refused. A
        // ballot that is restarted drops what was cast, and has its own bound.
        let is_counted = matches!(by, By::Proposer | By::Rule);
        if is_counted && !charter.holds_ballots(&effect.at) {
            self.count_steps(1)?;
        }
        let totals = self.indexed().totals.clone();
        let stamp = self.stamp(by);
        let now = self.now.get_or_insert_with(|| session.indexed.clone());
        let applied = match by {
            By::Proposer => {
                let at = session.at.max(self.origin.now);
                let authored = Authored { by: &self.origin.actor.id, at, stamp };
                self.log.reversal.apply(now, charter, &session.histories, &effect, authored)
            }
            By::Draw | By::Rule | By::Derived => now.apply(charter, &effect, stamp, None).map(drop),
        };
        applied.map_err(|misfit| broken(&misfit))?;
        let change = effect.change();
        if charter.secrets.iter().any(|secret| secret.may_turn_with(&change)) {
            self.log.turned.push((effect.at.clone(), now.state.clone()));
        }
        if by == By::Derived {
            self.log.derived.insert(effect.at);
            return Ok(());
        }
        self.log.effects.push(effect);
        let followed = self.state().following(charter, &self.indexed().totals, &totals)?;
        followed.into_iter().try_for_each(|effect| self.apply(effect, By::Derived))
    }

    /// Sets a derived field of the charter, such as a turn.
    fn derive(&mut self, name: &Token, next: &Cell) -> Result<(), Problem> {
        let path = Path::of([name.clone()]);
        let found = self.fields().find(self.state().root(), path.tokens());
        let Some((field, cell)) = found else { return Ok(()) };
        if cell == next {
            return Ok(());
        }
        let effect = Effect::new(&path, Op::Set(field.plain(next).into()));
        self.apply(effect, By::Derived)
    }

    /// Applies what was deferred, since something depends on it after all.
    fn stop_deferring(&mut self) -> Result<(), Problem> {
        self.is_deferred = false;
        let effects = std::mem::take(&mut self.log.effects);
        effects.into_iter().try_for_each(|effect| self.apply(effect, By::Proposer))
    }

    fn count_steps(&mut self, steps: usize) -> Result<(), Problem> {
        self.log.steps += steps;
        if !self.is_exhausted() {
            return Ok(());
        }
        let detail = format!(
            "One update takes at most {MAX_STEPS} steps: edits, effects, rules, and places that rules \
             and guards look at. Split it."
        );
        Err(Problem::new(ProblemKind::TooLarge, detail).with("limit", "steps"))
    }

    /// Whether the update has taken more steps than it may. A revert may take more, by the number of
    /// its edits.
    fn is_exhausted(&self) -> bool {
        let Proposal { is_revert, edits, .. } = self.origin.proposal;
        let more = if *is_revert { STEPS_OF_REVERT * edits.len() } else { 0 };
        self.log.steps > MAX_STEPS + more
    }

    fn savepoint(&self) -> Savepoint {
        let log = &self.log;
        Savepoint {
            now: self.now.clone(),
            effects: log.effects.len(),
            verdicts: log.verdicts.len(),
            marks: log.marks.len(),
            announced: log.announced.len(),
            derived: log.derived.clone(),
            moved: log.moved.clone(),
            reversal: log.reversal.clone(),
            turned: log.turned.len(),
        }
    }

    /// Returns to a savepoint. Steps stay counted.
    fn return_to(&mut self, point: Savepoint) {
        let log = &mut self.log;
        self.now = point.now;
        log.effects.truncate(point.effects);
        log.verdicts.truncate(point.verdicts);
        log.marks.truncate(point.marks);
        log.announced.truncate(point.announced);
        log.turned.truncate(point.turned);
        (log.derived, log.moved, log.reversal) = (point.derived, point.moved, point.reversal);
    }

    /// Ends the update: reports derived values and the visibility of what it touches.
    fn seal(mut self) -> Sealed {
        let derived = self.derived_effects();
        if !derived.is_empty() {
            let known = self.log.effects.len();
            self.log.effects.extend(derived);
            self.keep_last_set(known);
        }
        let (session, Origin { actor, proposal, now, passage, .. }) = (self.session, self.origin);
        let seq = session.seq + 1;
        if let Some(state) = &mut self.now {
            state.state.age(&session.charter.fields, seq);
        }
        let announced = self.announce();
        let Self { now: state, log, .. } = self;
        let Log { effects, verdicts, marks, own, undoes, gesture, reversal, turned, .. } = log;
        let secrets = &session.charter.secrets;
        let disclosures = match (secrets.is_empty(), &state) {
            (false, Some(after)) => {
                let states = [&session.indexed.state, &after.state];
                disclosures(secrets, &session.charter.fields, states, &turned, &effects)
            }
            _ => Vec::new(),
        };
        let update = Settled {
            seq,
            first: None,
            by: actor.id.clone(),
            client: actor.client,
            n: proposal.n,
            at: session.at.max(now),
            own: (own < effects.len()).then_some(own),
            since: session.since(&effects),
            effects,
            verdicts,
            gesture: proposal.gesture.clone().or(gesture),
            note: proposal.note.clone(),
            rules: marks,
            undoes,
            passage: passage.cloned(),
            announced,
            disclosures,
        };
        Sealed { update, state, reversal }
    }

    /// The derived values that differ from what the effects say of them, as effects. Cost
    /// O(effects × log effects) if anything is derived.
    fn derived_effects(&self) -> Effects {
        if self.log.derived.is_empty() {
            return Effects::new();
        }
        let told: BTreeMap<&Path, &Op> =
            self.log.effects.iter().map(|effect| (&effect.at, &effect.op)).collect();
        let effect = |path: &Path| {
            let was = match told.get(path) {
                Some(Op::Set(value)) => Some((**value).clone()),
                Some(_) => None,
                None => self.session.plain_at(path),
            };
            match self.state().plain_at(self.fields(), path) {
                now if now == was => None,
                Some(now) => Some(Effect::new(path, Op::Set(now.into()))),
                None => Some(Effect::new(path, Op::Drop)),
            }
        };
        self.log.derived.iter().filter_map(effect).collect()
    }

    /// The derived places whose values differ from those in an earlier state, as effects whose values
    /// do not matter.
    fn derived_since(&self, before: &State) -> impl Iterator<Item = Effect> {
        let fields = self.fields();
        let differs =
            |path: &&Path| before.plain_at(fields, path) != self.state().plain_at(fields, path);
        let effect = |path: &Path| Effect::new(path, Op::Clear);
        self.log.derived.iter().filter(differs).map(effect).collect::<Vec<_>>().into_iter()
    }

    /// Omits each effect before `known` whose place is set again by a later one. Effects of the
    /// proposer stay, since undo relies on them.
    fn keep_last_set(&mut self, known: usize) {
        let log = &mut self.log;
        let (earlier, later) = log.effects.split_at(known);
        let again: BTreeSet<&Path> = later.iter().map(|effect| &effect.at).collect();
        let stays = |(index, effect): (usize, &Effect)| {
            let is_set = matches!(effect.op, Op::Set(_) | Op::Clear);
            index < log.own || !(is_set && again.contains(&effect.at))
        };
        let earlier = earlier.iter().enumerate().map(stays);
        let kept: Vec<bool> = earlier.chain(later.iter().map(|_| true)).collect();
        let count = |range: Range<usize>| kept[range].iter().filter(|kept| **kept).count();
        for mark in &mut log.marks {
            let stay = count(mark.first..mark.first + mark.count);
            (mark.first, mark.count) = (count(0..mark.first), stay);
        }
        let mut kept = kept.into_iter();
        log.effects.retain(|_| kept.next().unwrap_or(true));
    }

    fn stamp(&self, by: By) -> Stamp {
        let client = match by {
            By::Rule => Actor::session().key(),
            By::Proposer | By::Draw | By::Derived => self.origin.key,
        };
        Stamp { seq: self.session.seq + 1, client }
    }

    fn indexed(&self) -> &IndexedState {
        self.now.as_ref().unwrap_or(&self.session.indexed)
    }

    fn state(&self) -> &State {
        &self.indexed().state
    }

    fn fields(&self) -> &'t Fields {
        &self.session.charter.fields
    }

    /// A participant as expressions read them.
    fn who<'w>(&'w self, actor: &'w Actor) -> Who<'w> {
        Who::Is(actor, self.state().seats(&self.session.charter).map(|(_, seats)| seats))
    }

    /// The part of the current state that a participant sees.
    fn lens<'l>(&'l self, actor: &Actor, viewer: &'l Viewer) -> Lens<'l> {
        let charter = &self.session.charter;
        Lens::new(charter, charter.sight(&actor.role), Some(viewer), self.state())
    }
}

/// Settling and applying disagree, which never happens; the sentence is for the developer who makes it
/// happen.
pub(super) fn broken(misfit: &Misfit) -> Problem {
    Problem::new(ProblemKind::Unavailable, format!("Nothing was settled: {misfit}."))
}

pub(super) fn too_large(charter: &crate::charter::Charter) -> Problem {
    let detail = format!(
        "The state would be larger than the {} bytes that the charter allows.",
        charter.limits.state
    );
    Problem::new(ProblemKind::TooLarge, detail).with("limit", "state")
}
