//! Rules of the session: what the session does automatically, in the update that is the cause.
//!
//! Rules run in rounds. The first round runs the rules that wait for what the proposal did, in the
//! order of the charter; each later round runs those that wait for what the round before it did. The
//! steps of an update bound the rounds. A proposal that runs into the bound is refused; a cause that
//! cannot be refused (time, an arrival, a departure, a draw) counts without any of its rules. Cost of
//! a round: O(rules × effects), plus what the rules do.

use std::collections::BTreeMap;

use serde_json::Value;

use super::{By, Origin, Txn, too_large};
use crate::actor::Actor;
use crate::charter::{Cause, Expression, Read, Rule};
use crate::edit::Edit;
use crate::kind::{Cell, Field};
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::scope::{Scope, Who};
use crate::state::State;
use crate::update::{Announced, Effect, Effects, Passage, Proposal, RuleMark, Way, Whose};

/// What one rule counts among the steps of an update.
const STEPS: usize = 8;
/// Bytes beyond the limit of the state that rules may use. What participants cause leaves half of
/// them for rules that time sets off.
const RESERVE: u64 = 64 << 10;
/// Bytes of the values of one announcement.
const ANNOUNCED: usize = 16 << 10;

/// What happens to the cause of a rule that fails.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum OnFailure {
    /// The cause is refused.
    Refuse,
    /// The cause counts, and the rule is skipped.
    Skip,
}

/// A rule that is set off: its index, and the place of the change.
type SetOff = (usize, Option<Path>);

/// Where a rule was set off, and the state before that.
#[derive(Clone, Copy)]
struct Trigger<'r> {
    rule: &'r Rule,
    at: Option<&'r Path>,
    before: &'r State,
}

impl Txn<'_> {
    /// Carries out the rules that the effects from `first` on set off, and those that these set off.
    pub(super) fn follow_rules(
        &mut self,
        mut before: State,
        mut first: usize,
        on_failure: OnFailure,
    ) -> Result<(), Problem> {
        let rules = &self.session.charter.rules.rules;
        self.extend_deadlines(first)?;
        let mut without_rules = None;
        let mut is_first = true;
        while !rules.is_empty() {
            let after = self.state().clone();
            let steps = self.log.steps;
            let set_off = self.set_off([&before, &after], first, is_first);
            if set_off.is_empty() {
                break;
            }
            if is_first && on_failure == OnFailure::Skip {
                without_rules = Some((self.savepoint(), steps));
            }
            first = self.log.effects.len();
            for (rule, at) in set_off {
                let trigger = Trigger { rule: &rules[rule], at: at.as_ref(), before: &before };
                let Err(problem) = self.run_rule(trigger, on_failure) else { continue };
                match (on_failure, without_rules.take_if(|_| self.is_exhausted())) {
                    (OnFailure::Refuse, _) => return Err(failed(trigger.rule, &problem)),
                    (OnFailure::Skip, None) => self.note_failed(trigger.rule, &problem),
                    (OnFailure::Skip, Some((point, steps))) => {
                        self.return_to(point);
                        self.log.steps = steps;
                        self.note_failed(trigger.rule, &problem);
                        return Ok(());
                    }
                }
            }
            (before, is_first) = (after, false);
        }
        Ok(())
    }

    /// The rules that something sets off, in their order, each once for every place that sets it off.
    fn set_off(&mut self, states: [&State; 2], first: usize, is_first: bool) -> Vec<SetOff> {
        let charter = &self.session.charter;
        let [before, after] = states;
        // That the next draw is bound is no change of the game.
        let counts = |effect: &&Effect| !(is_first && self.origin.binds(&effect.at));
        let effects = self.log.effects[first..].iter().filter(counts).cloned();
        let effects: Effects = effects.chain(self.derived_since(before)).collect();
        let mut set_off = Vec::new();
        for (index, rule) in charter.rules.rules.iter().enumerate() {
            let happens = |whose: Whose, way: Way| {
                let is_it = |passage: &Passage| passage.of == whose && passage.way == way;
                is_first && self.origin.passage.is_some_and(is_it)
            };
            let is_set_off = match &rule.cause {
                Cause::Changes(pattern) => {
                    let places = self.changed_places(states, pattern, &effects);
                    self.log.steps += places.len();
                    let changed = places.into_iter().filter(|path| self.is_changed(states, path));
                    set_off.extend(changed.map(|path| (index, Some(path))));
                    false
                }
                Cause::Fires(field) => is_first && self.origin.fires(field),
                Cause::Enters(whose) => happens(*whose, Way::In),
                Cause::Leaves(whose) => happens(*whose, Way::Out),
                Cause::Seated => self.has_begun(states),
                Cause::AllCast(field) => {
                    // An arrival or departure lies between the two states in the first round only.
                    let passed = self.origin.passage.filter(|_| !is_first);
                    self.all_have_cast(self.origin.passage, after, field)
                        && !self.all_have_cast(passed, before, field)
                }
            };
            // If the steps are used up, the first rule of the round fails, whatever would follow.
            let is_last = self.is_exhausted();
            set_off.extend((is_set_off || is_last).then_some((index, None)));
            if is_last {
                break;
            }
        }
        set_off
    }

    /// Whether a value differs. A collection in which something happened always does.
    fn is_changed(&self, [before, after]: [&State; 2], path: &Path) -> bool {
        let fields = self.fields();
        let is_collection = |state: &State| {
            let found = fields.find(state.root(), path.tokens());
            found.is_some_and(|(field, _)| field.most().is_some())
        };
        is_collection(after) || before.plain_at(fields, path) != after.plain_at(fields, path)
    }

    /// Whether the needed seats are taken now, and were not.
    pub(super) fn has_begun(&self, [before, after]: [&State; 2]) -> bool {
        let gathers = |state: &State| {
            state.seats(&self.session.charter).is_some_and(|(_, seats)| seats.is_gathering())
        };
        gathers(before) && !gathers(after)
    }

    /// Whether everybody has cast who may: the participants who sit, or, without seats, those who
    /// are here.
    fn all_have_cast(&self, passage: Option<&Passage>, state: &State, field: &Token) -> bool {
        let charter = &self.session.charter;
        let Some((Field::Ballot(of), Cell::Ballot(cell))) =
            charter.fields.find(state.root(), std::slice::from_ref(field))
        else {
            return false;
        };
        let records = charter.play.ballots.iter().find(|ballots| ballots.field == *field);
        let Some(records) = records.map(|ballots| &ballots.records) else { return false };
        let has_cast = |who: &str| state.has(&charter.fields, &[records.clone(), who.into()]);
        let may_cast = |role: &str| of.check_voter(cell, role).is_ok();
        if let Some((_, seats)) = state.seats(charter) {
            let mut sitting =
                seats.all().filter(|(who, _)| self.may_vote(who, &may_cast)).peekable();
            return !seats.is_gathering()
                && sitting.peek().is_some()
                && sitting.all(|(who, _)| has_cast(who));
        }
        let passage = passage.filter(|passage| passage.of == Whose::Participant);
        let is_theirs = |who: &str| passage.is_some_and(|passage| passage.who == who);
        let here = self.session.here.iter().filter(|(who, role)| !is_theirs(who) && may_cast(role));
        let comes = passage.filter(|passage| passage.way != Way::Out && may_cast(&passage.role));
        let mut voters = here.map(|(who, _)| who).chain(comes.map(|comes| &comes.who));
        let Some(first) = voters.next() else { return false };
        has_cast(first) && voters.all(|who| has_cast(who))
    }

    /// Whether a seated participant may cast, as far as their role is known. The role of an absent
    /// participant is unknown, so the session waits for them.
    pub(super) fn may_vote(&self, who: &str, may_cast: &dyn Fn(&str) -> bool) -> bool {
        self.session.here.get(who).is_none_or(|role| may_cast(role))
    }

    /// Carries one rule out. A rule that fails changes nothing.
    fn run_rule(&mut self, trigger: Trigger<'_>, on_failure: OnFailure) -> Result<(), Problem> {
        self.count_steps(STEPS)?;
        let rule = trigger.rule;
        if let Some(condition) = &rule.condition
            && !self.in_scope(trigger, |read| condition.holds(read))?
        {
            return Ok(());
        }
        let point = (on_failure == OnFailure::Skip).then(|| self.savepoint());
        let done = self.do_rule(trigger, on_failure);
        if let (Err(_), Some(point)) = (&done, point) {
            self.return_to(point);
        }
        done
    }

    fn do_rule(&mut self, trigger: Trigger<'_>, on_failure: OnFailure) -> Result<(), Problem> {
        let rule = trigger.rule;
        let first = self.log.effects.len();
        let started = self.state().clone();
        let session = Actor::session();
        for (index, edit) in rule.edits.iter().enumerate() {
            let mut value =
                |expression: &Expression| self.in_scope(trigger, |read| expression.value(read));
            let wrong = |detail: String| Problem::new(ProblemKind::WrongType, detail);
            let edit = edit.made(&mut value, wrong)?;
            edit.check_depth()?;
            self.make_rule_edit(&session, rule, index, edit)?;
        }
        self.extend_deadlines(first)?;
        let reserve = if self.origin.is_of_time() { RESERVE } else { RESERVE / 2 };
        let weight = self.state().weight();
        if weight > started.weight() && weight > self.session.charter.limits.state + reserve {
            return Err(too_large(&self.session.charter));
        }
        if on_failure == OnFailure::Skip {
            self.check_changes(first, &started, &session)?;
        }
        if let Some((kind, expressions)) = &rule.announce {
            let mut values = BTreeMap::new();
            for (name, expression) in expressions {
                let value = self.in_scope(trigger, |read| expression.value(read))?;
                values.insert(name.clone(), value);
            }
            if values.values().map(crate::canonical::weight).sum::<usize>() > ANNOUNCED {
                let detail = format!("An announcement has values of at most {ANNOUNCED} bytes.");
                return Err(Problem::new(ProblemKind::TooLarge, detail));
            }
            let rule = Some(rule.name.clone());
            self.log.announced.push(Announced { kind: kind.clone(), rule, values });
        }
        let count = self.log.effects.len() - first;
        self.log.marks.push(RuleMark { rule: rule.name.clone(), first, count, failed: None });
        Ok(())
    }

    fn make_rule_edit(
        &mut self,
        session: &Actor,
        rule: &Rule,
        index: usize,
        edit: Edit,
    ) -> Result<(), Problem> {
        let seq = self.session.seq + 1;
        // Ids that the service makes follow from this number, which no other edit of the update has.
        let n = (seq << 12) + self.log.effects.len() as u64;
        // A rule knows the whole state.
        let proposal = Proposal::new(n, Some(seq), vec![edit]);
        let origin = Origin::of(session, session.key(), &proposal, self.origin.now);
        let decided = self.settle_edit(&origin, 0)?;
        self.log.moved.extend(decided.moved);
        self.take(decided.settlement, By::Rule, |verdict| {
            verdict.edit = index;
            verdict.rule = Some(rule.name.clone());
        })
    }

    /// Evaluates an expression of a rule: it reads the current state, the participant that is the
    /// cause, and the changed place before and after.
    fn in_scope<T>(
        &self,
        Trigger { rule, at, before }: Trigger<'_>,
        evaluate: impl FnOnce(&dyn Fn(&Read) -> Option<Value>) -> Result<T, crate::Unanswered>,
    ) -> Result<T, Problem> {
        let (state, fields) = (self.state(), self.fields());
        let scope = Scope {
            state: (fields, state.root()),
            before: Some((fields, before.root())),
            place: at.map(Path::tokens).unwrap_or_default(),
            record: at.map_or(0, |at| fields.record_prefix(at)),
            made: None,
            who: self.origin.who().map_or(Who::Nobody, |actor| self.who(actor)),
            now: Some(self.origin.now),
        };
        evaluate(&|read| scope.read(read)).map_err(|why| {
            let problem = Problem::new(ProblemKind::Rule, why.to_string());
            self.unanswered.borrow_mut().push((rule.line, why));
            problem
        })
    }

    fn note_failed(&mut self, rule: &Rule, problem: &Problem) {
        let failed = Some(problem.detail().to_owned());
        let first = self.log.effects.len();
        self.log.marks.push(RuleMark { rule: rule.name.clone(), first, count: 0, failed });
    }
}

/// The refusal of what sets off a rule that fails.
fn failed(rule: &Rule, problem: &Problem) -> Problem {
    let detail = format!(
        "The rule {:?} of the session follows from this and cannot be carried out: {}",
        rule.name,
        problem.detail()
    );
    let told = Problem::new(ProblemKind::Rule, detail)
        .with("rule", rule.name.as_str())
        .with("cause", problem.kind().name());
    match problem.member("at").and_then(Value::as_str) {
        Some(at) => told.at(at),
        None => told,
    }
}
