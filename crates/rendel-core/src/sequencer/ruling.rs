//! Rules of the session: what it does by itself in the update of what sets it off.
//!
//! Rules run in rounds. The first round runs the rules that wait for what the proposal did, in the
//! order of the charter; each later round runs those that wait for what the round before it did. An
//! update runs at most 256 rules: a proposal that would run more is refused, and a cause that cannot
//! be refused (time, an arrival, a departure, a draw) counts without its rules. Cost of a round:
//! O(rules × effects), plus what the rules do.

use std::collections::BTreeMap;

use serde_json::Value;

use super::allowing::id_around;
use super::settling::{OnFailure, Settling, Work, too_large};
use super::{Present, Sequencer};
use crate::actor::Actor;
use crate::charter::{BuiltIn, Cause, Expression, Read, Rule};
use crate::edit::Edit;
use crate::kind::{Cell, Field};
use crate::op::Op;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::references::check_references;
use crate::state::State;
use crate::update::{
    Announced, Effect, Effects, Passage, Proposal, RuleMark, Settled, VerdictKind, Way, Whose,
};

/// Rules that one update carries out.
const MOST_CARRIED_OUT: usize = 256;
/// Bytes beyond the limit of the state that rules may use. What participants bring about leaves half
/// of them to what the time does.
const RESERVE: u64 = 64 << 10;
/// Bytes of the values of one announcement.
const ANNOUNCED: usize = 16 << 10;

/// Something that sets a rule off: the rule, and the place of what changed.
type SetOff = (usize, Option<Path>);

impl Sequencer {
    /// Carries out the rules that the effects from `first` on set off, and those that these set off.
    pub(super) fn follow_rules(
        &self,
        work: &mut Work,
        settling: &mut Settling<'_>,
        before: &State,
        mut first: usize,
        on_failure: OnFailure,
    ) -> Result<(), Problem> {
        let rules = &self.charter.rules.rules;
        self.push_back(work, first, settling.now)?;
        if rules.is_empty() {
            return Ok(());
        }
        let mut before = before.clone();
        let mut is_first = true;
        let mut carried_out = 0;
        let mut unruled = None;
        loop {
            let after = work.present.state.clone();
            let effects = work.effects[first..].iter().cloned();
            let all: Effects = effects.chain(work.changed_by_itself(self, &before)).collect();
            let mut set_off = self.set_off(settling, &before, &after, &all, is_first);
            set_off.sort_by_key(|(rule, _)| *rule);
            if set_off.is_empty() {
                break;
            }
            if is_first && on_failure == OnFailure::LeaveOut {
                unruled = Some(work.clone());
            }
            first = work.effects.len();
            for (rule, at) in set_off {
                let rule = &rules[rule];
                carried_out += 1;
                if carried_out > MOST_CARRIED_OUT {
                    let problem = too_many();
                    // What cannot be refused counts without any of its rules.
                    let Some(unruled) = unruled else { return Err(failed(rule, &problem)) };
                    *work = unruled;
                    work.note_failed(rule, &problem);
                    return Ok(());
                }
                match self.carry_out(work, settling, rule, (&before, at.as_ref()), on_failure) {
                    Ok(()) => {}
                    Err(problem) if on_failure == OnFailure::LeaveOut => {
                        work.note_failed(rule, &problem);
                    }
                    Err(problem) => return Err(failed(rule, &problem)),
                }
            }
            (before, is_first) = (after, false);
        }
        Ok(())
    }

    /// The rules that something sets off, each as often as it does.
    fn set_off(
        &self,
        settling: &Settling<'_>,
        before: &State,
        after: &State,
        effects: &[Effect],
        is_first: bool,
    ) -> Vec<SetOff> {
        let charter = &self.charter;
        let mut set_off = Vec::new();
        for (index, rule) in charter.rules.rules.iter().enumerate() {
            let happens = |whose: Whose, way: Way| {
                let is_it = |passage: &Passage| passage.of == whose && passage.way == way;
                is_first && settling.passage.is_some_and(is_it)
            };
            let is_set_off = match &rule.cause {
                Cause::Changes(pattern) => {
                    for path in self.guarded(before, after, pattern, effects) {
                        if self.is_changed(before, after, &path) {
                            set_off.push((index, Some(path)));
                        }
                    }
                    false
                }
                Cause::Fires(field) => is_first && settling.fires(field),
                Cause::Enters(whose) => happens(*whose, Way::In),
                Cause::Leaves(whose) => happens(*whose, Way::Out),
                Cause::Seated => self.has_begun(before, after),
                Cause::AllCast(field) => {
                    // An arrival or departure lies between the two states in the first round only.
                    let passed = settling.passage.filter(|_| !is_first);
                    self.all_have_cast(settling.passage, after, field)
                        && !self.all_have_cast(passed, before, field)
                }
            };
            set_off.extend(is_set_off.then_some((index, None)));
        }
        set_off
    }

    /// Whether a value is another. A collection in which something happened counts as such.
    fn is_changed(&self, before: &State, after: &State, path: &Path) -> bool {
        let fields = &self.charter.fields;
        let is_collection = |state: &State| {
            let found = fields.find(state.root(), path.tokens());
            found.is_some_and(|(field, _)| field.most().is_some())
        };
        is_collection(after) || before.plain_at(fields, path) != after.plain_at(fields, path)
    }

    /// Whether the needed seats are taken now, and were not.
    fn has_begun(&self, before: &State, after: &State) -> bool {
        let gathers = |state: &State| {
            state.seats(&self.charter).is_some_and(|(_, seats)| seats.is_gathering())
        };
        gathers(before) && !gathers(after)
    }

    /// Whether everybody has cast who may: those who sit, or, without seats, those who are here.
    fn all_have_cast(&self, passage: Option<&Passage>, state: &State, field: &Token) -> bool {
        let charter = &self.charter;
        let Some((Field::Ballot(of), Cell::Ballot(cell))) =
            charter.fields.find(state.root(), std::slice::from_ref(field))
        else {
            return false;
        };
        let papers = charter.play.ballots.iter().find(|ballots| ballots.field == *field);
        let Some(papers) = papers.map(|ballots| &ballots.papers) else { return false };
        let has_cast = |who: &str| state.has(&charter.fields, &[papers.clone(), who.into()]);
        if let Some((_, seats)) = state.seats(charter) {
            let mut sitting = seats.all().peekable();
            return !seats.is_gathering()
                && sitting.peek().is_some()
                && sitting.all(|(who, _)| has_cast(who));
        }
        let voters = self.here.iter().filter(|(who, role)| {
            let goes = passage.is_some_and(|passage| {
                passage.of == Whose::Participant && passage.way == Way::Out && passage.who == **who
            });
            !goes && of.check_voter(cell, role).is_ok()
        });
        let comes = passage.filter(|passage| {
            passage.of == Whose::Participant
                && passage.way == Way::In
                && of.check_voter(cell, &passage.role).is_ok()
        });
        let mut voters = voters.map(|(who, _)| who).chain(comes.map(|comes| &comes.who));
        let Some(first) = voters.next() else { return false };
        has_cast(first) && voters.all(|who| has_cast(who))
    }

    /// Carries one rule out; leaves everything as it was where it cannot.
    fn carry_out(
        &self,
        work: &mut Work,
        settling: &mut Settling<'_>,
        rule: &Rule,
        (before, at): (&State, Option<&Path>),
        on_failure: OnFailure,
    ) -> Result<(), Problem> {
        let kept = (on_failure == OnFailure::LeaveOut).then(|| work.clone());
        let carried_out = self.carry_out_at(work, settling, rule, (before, at), on_failure);
        if carried_out.is_err()
            && let Some(kept) = kept
        {
            *work = kept;
        }
        carried_out
    }

    fn carry_out_at(
        &self,
        work: &mut Work,
        settling: &mut Settling<'_>,
        rule: &Rule,
        (before, at): (&State, Option<&Path>),
        on_failure: OnFailure,
    ) -> Result<(), Problem> {
        let (who, now) = (settling.who(), settling.now);
        if let Some(condition) = &rule.condition {
            let holds = condition.holds(|read| {
                self.read_for_rule(read, (before, &work.present.state), who, at, now)
            });
            if !holds.map_err(|why| unanswered(rule, settling, why))? {
                return Ok(());
            }
        }
        let first = work.effects.len();
        let started = work.present.state.clone();
        let (session, weight) = (Actor::session(), started.weight());
        for (index, edit) in rule.edits.iter().enumerate() {
            let state = work.present.state.clone();
            let mut value = |expression: &Expression| {
                self.value_for_rule(rule, settling, expression, (before, &state), at)
            };
            let wrong = |detail: String| Problem::new(ProblemKind::WrongType, detail);
            let edit = edit.made(&mut value, wrong)?;
            edit.check_depth()?;
            self.carry_out_edit(work, settling, &session, rule, index, edit)?;
        }
        self.push_back(work, first, now)?;
        let state = &work.present.state;
        let reserve = match settling.is_of_time() {
            true => RESERVE,
            false => RESERVE / 2,
        };
        if state.weight() > weight && state.weight() > self.charter.limits.state + reserve {
            return Err(too_large(&self.charter));
        }
        if on_failure == OnFailure::LeaveOut {
            let effects = work.effects[first..].iter().cloned();
            let effects: Effects = effects.chain(work.changed_by_itself(self, &started)).collect();
            check_references(&self.charter.fields, state.root(), &self.charter.links, &effects)?;
            self.check_guards(state, &session, &effects, settling.unanswered)?;
        }
        if let Some((kind, expressions)) = &rule.announce {
            let mut values = BTreeMap::new();
            for (name, expression) in expressions {
                let value = self.value_for_rule(rule, settling, expression, (before, state), at)?;
                values.insert(name.clone(), value);
            }
            if values.values().map(crate::canonical::weight).sum::<usize>() > ANNOUNCED {
                let detail = format!("An announcement has values of at most {ANNOUNCED} bytes.");
                return Err(Problem::new(ProblemKind::TooLarge, detail));
            }
            let rule = Some(rule.name.clone());
            work.announced.push(Announced { kind: kind.clone(), rule, values });
        }
        let count = work.effects.len() - first;
        work.marks.push(RuleMark { rule: rule.name.clone(), first, count, failed: None });
        Ok(())
    }

    fn carry_out_edit(
        &self,
        work: &mut Work,
        settling: &mut Settling<'_>,
        session: &Actor,
        rule: &Rule,
        index: usize,
        edit: Edit,
    ) -> Result<(), Problem> {
        // An id that the service makes is made from this number, each once in an update.
        let n = (work.stamp.seq << 12) + work.effects.len() as u64;
        // It knows all that stands there.
        let proposal = Proposal::new(n, Some(work.stamp.seq), vec![edit]);
        let (key, now) = (session.key(), settling.now);
        let mut own = Settling::of(session, key, &proposal, now, settling.unanswered);
        let stamp = crate::Stamp { client: key, ..work.stamp };
        let mut settlement = self.settle_edit(&work.present, &mut own, &mut work.following, 0)?;
        for effect in &settlement.effects {
            work.present.put(&self.charter, effect, stamp)?;
        }
        self.keep_up(&mut work.present, &mut work.following, stamp)?;
        settlement.verdict.lost = settlement.verdict.lost.filter(|lost| !lost.is_null());
        work.effects.extend(settlement.effects);
        if settlement.verdict.verdict != VerdictKind::Applied {
            settlement.verdict.edit = index;
            settlement.verdict.rule = Some(rule.name.clone());
            work.verdicts.push(settlement.verdict);
        }
        Ok(())
    }

    fn value_for_rule(
        &self,
        rule: &Rule,
        settling: &mut Settling<'_>,
        expression: &Expression,
        states: (&State, &State),
        at: Option<&Path>,
    ) -> Result<Value, Problem> {
        let (who, now) = (settling.who(), settling.now);
        let value = expression.value(|read| self.read_for_rule(read, states, who, at, now));
        value.map_err(|why| unanswered(rule, settling, why))
    }

    /// What an expression of a rule reads: the state as it is by now, who set it off, and of what
    /// changed how it was and is.
    fn read_for_rule(
        &self,
        read: &Read,
        (before, now_there): (&State, &State),
        who: Option<&Actor>,
        at: Option<&Path>,
        now: u64,
    ) -> Option<Value> {
        let (fields, member) = (&self.charter.fields, read.member.as_deref());
        let tokens = at.map(Path::tokens).unwrap_or_default();
        let record = at.map_or(0, |at| fields.record_prefix(at));
        let of = |state: &State, tokens: &[Token]| match state.has(fields, tokens) {
            true => state.member(fields, tokens, member),
            false if member.is_none() => Some(Value::Null),
            false => None,
        };
        match (read.name.as_str(), who) {
            ("now", _) => Some(now.into()),
            // Nobody sets off what the time does.
            ("who", None) => Some(Value::Null),
            ("old", _) => of(before, tokens),
            ("new", _) => of(now_there, tokens),
            ("record", _) if member == Some("id") => {
                of(now_there, &tokens[..record]).or_else(|| id_around(tokens).map(Value::from))
            }
            ("record", _) => of(now_there, &tokens[..record]),
            ("id", _) => id_around(tokens).map(Value::from),
            (_, who) => self.read(now_there, who.unwrap_or(&Actor::session()), read),
        }
    }

    /// What the service itself announces of an update, where the charter asks for it.
    pub(super) fn announce_built_in(
        &self,
        present: &Present,
        settling: &Settling<'_>,
        update: &mut Settled,
    ) {
        let (charter, rules) = (&self.charter, &self.charter.rules);
        if rules.built_in.is_empty() {
            return;
        }
        let (before, after) = (&self.present.state, &present.state);
        // What happened comes before what rules made of it.
        let by_rules = std::mem::take(&mut update.announced);
        let mut announced = Vec::new();
        let mut announce = |what: BuiltIn, values: &[(&str, Value)]| {
            if rules.announces(what) {
                let values = values.iter().map(|(name, value)| ((*name).to_owned(), value.clone()));
                let (kind, values) = (what.name().to_owned(), values.collect());
                announced.push(Announced { kind, rule: None, values });
            }
        };
        if let Some(passage) = settling.passage.filter(|passage| passage.of == Whose::Participant) {
            let what = if passage.way == Way::In { BuiltIn::Joined } else { BuiltIn::Left };
            let (who, role) = (passage.who.clone().into(), passage.role.clone().into());
            announce(what, &[("participant", who), ("role", role)]);
        }
        let plain = |state: &State, field: &Token| {
            state.plain_at(&charter.fields, &Path::of([field.clone()])).unwrap_or_default()
        };
        if self.has_begun(before, after)
            && let Some(field) = &charter.play.seats
        {
            announce(BuiltIn::Seated, &[("seats", plain(after, field)["by"].take())]);
        }
        for ballots in &charter.play.ballots {
            let is_open = |state: &State| {
                let path = [ballots.field.clone(), "open".into()];
                state.plain_at(&charter.fields, &Path::of(path)) == Some(Value::Bool(true))
            };
            if !is_open(before) && is_open(after) {
                let mut ballot = plain(after, &ballots.field);
                let field = format!("/{}", ballots.field).into();
                let results = ballot["results"].take();
                announce(BuiltIn::Unsealed, &[("ballot", field), ("results", results)]);
            }
        }
        let timed = charter.play.deadlines.iter().map(|deadline| &deadline.field);
        for field in timed.chain(&charter.play.timed).filter(|field| settling.fires(field)) {
            let due = plain(before, field)["due"].take();
            let at = format!("/{field}").into();
            announce(BuiltIn::Fired, &[("at", at), ("due", due), ("fired", settling.now.into())]);
        }
        let failed = |mark: &RuleMark| Some((mark.rule.clone(), mark.failed.clone()?));
        let failed: Vec<_> = update.rules.iter().filter_map(failed).collect();
        for (rule, why) in failed {
            announce(BuiltIn::Failed, &[("rule", rule.into()), ("why", why.into())]);
        }
        let at = announced.iter().filter(|one| one.kind != BuiltIn::Failed.name()).count();
        announced.splice(at..at, by_rules);
        update.announced = announced;
    }

    /// Settles that somebody came or went, with what the rules of the session make of it.
    pub fn handle_passage(&mut self, who: &Actor, passage: &Passage, now: u64) -> super::Outcome {
        let (session, mut unanswered) = (Actor::session(), Vec::new());
        let proposal = Proposal::new(0, None, Vec::new());
        let mut settling = Settling::of(&session, session.key(), &proposal, now, &mut unanswered);
        settling.passage = Some(passage);
        settling.person = Some(who);
        let settled = self.settle(&mut settling, &|_| None);
        self.note_unanswered(unanswered);
        self.commit(session.key(), settled.map(|(present, update)| (Some(present), update)))
    }

    /// Who is here, as far as anything follows from that.
    pub fn here(&self) -> impl Iterator<Item = (&str, &str)> {
        self.here.iter().map(|(who, role)| (who.as_str(), role.as_str()))
    }

    /// Whether somebody is known to be here.
    pub fn has_here(&self, who: &str) -> bool {
        self.here.contains_key(who)
    }

    pub(super) fn note_passage(&mut self, update: &Settled) {
        match &update.passage {
            Some(Passage { who, role, way: Way::In, of: Whose::Participant }) => {
                self.here.insert(who.clone(), role.clone());
            }
            Some(Passage { who, way: Way::Out, of: Whose::Participant, .. }) => {
                self.here.remove(who);
            }
            _ => {}
        }
    }
}

impl Work {
    /// What follows by itself and is another than before, as effects.
    fn changed_by_itself(&self, sequencer: &Sequencer, before: &State) -> Vec<Effect> {
        let fields = &sequencer.charter.fields;
        let is_changed = |path: &&Path| {
            before.plain_at(fields, path) != self.present.state.plain_at(fields, path)
        };
        let effect = |path: &Path| Effect::new(path, Op::Clear);
        self.following.touched.iter().filter(is_changed).map(effect).collect()
    }

    fn note_failed(&mut self, rule: &Rule, problem: &Problem) {
        let failed = Some(problem.detail().to_owned());
        let first = self.effects.len();
        self.marks.push(RuleMark { rule: rule.name.clone(), first, count: 0, failed });
    }
}

fn unanswered(rule: &Rule, settling: &mut Settling<'_>, why: crate::Unanswered) -> Problem {
    let detail = why.to_string();
    settling.unanswered.push((rule.line, why));
    Problem::new(ProblemKind::Rule, detail)
}

fn too_many() -> Problem {
    let detail = format!("One update carries out at most {MOST_CARRIED_OUT} rules.");
    Problem::new(ProblemKind::TooLarge, detail)
}

/// The refusal of what sets off a rule that cannot be carried out.
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
