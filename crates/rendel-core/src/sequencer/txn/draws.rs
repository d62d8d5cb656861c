//! Draws: rolls and shuffles, made when nothing can refuse them any more.

use serde_json::Value;

use super::Txn;
use super::ballots::set;
use crate::actor::Actor;
use crate::charter::Power;
use crate::edit::Edit;
use crate::kind::{Cell, Field, RandomCell, RandomField};
use crate::op::{Act, Op};
use crate::path::{Path, Token, inner};
use crate::problem::{Problem, ProblemKind};
use crate::update::{Effects, Proposal};

/// Records that one shuffle deals among.
const MOST_SHUFFLED: usize = 1_000;

impl Txn<'_> {
    /// What a seat adds to the next draw.
    pub(super) fn add_entropy(
        &self,
        actor: &Actor,
        act: &Act,
        of: &RandomField,
        now: &RandomCell,
    ) -> Result<RandomCell, Problem> {
        if !of.takes_entropy() {
            let detail =
                "The charter does not allow additions to these draws; entropy = \"seats\" would.";
            return Err(Problem::new(ProblemKind::NotAllowed, detail));
        }
        let own = || {
            let seats = self.state().seats(&self.session.charter);
            seats.and_then(|(_, seats)| seats.seat_of(&actor.id)).ok_or_else(|| {
                let detail = "Sit down first: seats add to a draw, and you have none.";
                Problem::new(ProblemKind::NotAllowed, detail)
            })
        };
        match act {
            Act::Commit(sha256) => now.committed(own()?, sha256),
            Act::Reveal(value) => now.with_revealed(own()?, value),
            Act::Waive(seat) if self.session.charter.has_power(&actor.role, Power::OpenDraws) => {
                now.waived(seat)
            }
            _ => {
                let detail = "Waiving what a seat committed to needs the power \"open-draws\".";
                Err(Problem::new(ProblemKind::NotAllowed, detail))
            }
        }
    }

    pub(super) fn check_draw(
        &self,
        act: &Act,
        name: &Token,
        now: &RandomCell,
        proposal: &Proposal,
        index: usize,
    ) -> Result<(), Problem> {
        if index + 1 != proposal.edits.len() {
            let detail = "A draw is the last edit of its proposal: nothing may depend on it.";
            return Err(Problem::new(ProblemKind::Malformed, detail));
        }
        let chance = self.session.chance()?;
        if !now.is_bound() {
            let detail = "The next draw is not bound yet. Try again.";
            return Err(Problem::new(ProblemKind::Unavailable, detail));
        }
        now.check_revealed()?;
        match act {
            Act::Shuffle { of, field } => {
                let draws =
                    self.session.charter.play.draws.iter().find(|draws| draws.field == *name);
                let dealt = inner(&inner(of, "*"), field);
                let may = draws.is_some_and(|draws| {
                    draws.shuffles.iter().any(|pattern| pattern.matches(dealt.tokens()))
                });
                if !may {
                    let detail = format!(
                        "The charter's [state.{name}] does not name {dealt} among its `shuffles`."
                    );
                    return Err(Problem::new(ProblemKind::NotAllowed, detail));
                }
                let before = &proposal.edits[..index];
                let is_touched =
                    |edit: &Edit| edit.changes().is_some_and(|path| path.is_within(of));
                if before.iter().any(is_touched) {
                    let detail = format!(
                        "Shuffle {of} in another proposal than what changes it, so that anybody \
                         can check it."
                    );
                    return Err(Problem::new(ProblemKind::Malformed, detail));
                }
                let map = self.session.charter.fields.find(self.state().root(), of.tokens());
                if matches!(map, Some((_, Cell::Map(map))) if map.len() > MOST_SHUFFLED) {
                    let detail = format!("A shuffle deals among at most {MOST_SHUFFLED} records.");
                    let problem = Problem::new(ProblemKind::TooLarge, detail);
                    return Err(problem.with("limit", "shuffle"));
                }
                Ok(())
            }
            Act::Roll { sides, count } => now.rolled(chance, name, *sides, *count).map(drop),
            _ => Ok(()),
        }
    }

    /// The registers of the records of a map, with their values, in the order of their ids.
    fn dealt(&self, of: &Path, field: &str) -> Vec<(Path, Value)> {
        let plain = self.state().plain_at(self.fields(), of);
        let records = plain.as_ref().and_then(Value::as_object).into_iter().flatten();
        let mut dealt: Vec<_> = records
            .map(|(id, record)| (inner(&inner(of, id), field), record[field].clone()))
            .collect();
        dealt.sort_by(|(one, _), (other, _)| one.cmp(other));
        dealt
    }

    /// The draw that the proposal ends with, if it does: where, and what.
    fn asked_draw(&self) -> Option<(Path, Act)> {
        let edit = self.origin.proposal.edits.last()?;
        let Ok(Op::Act(act)) = Op::asked(edit) else { return None };
        let path = Path::parse(&edit.at).ok()?;
        let [name] = path.tokens() else { return None };
        matches!(self.session.charter.fields.field(name), Some(Field::Random(_)))
            .then_some((path, act))
    }

    /// What the draw at the end of the proposal will change, whatever its outcome.
    pub(super) fn drawn_at(&self) -> Effects {
        let Some((path, act)) = self.asked_draw() else { return Effects::new() };
        let dealt = match &act {
            Act::Shuffle { of, field } => self.dealt(of, field),
            _ => Vec::new(),
        };
        let paths = dealt.into_iter().map(|(path, _)| path).chain([path]);
        paths.map(|path| set(&path, Value::Null)).collect()
    }

    /// Makes the draw that the proposal ends with, if it does.
    pub(super) fn draw(&self) -> Effects {
        let drawn = || {
            let (path, act) = self.asked_draw()?;
            let [name] = path.tokens() else { return None };
            let found = self.session.charter.fields.find(self.state().root(), path.tokens())?;
            let Cell::Random(now) = found.1 else { return None };
            let chance = self.session.chance.as_ref()?;
            let mut effects = Effects::new();
            let next = match &act {
                Act::Roll { sides, count } => now.rolled(chance, name, *sides, *count).ok()?,
                Act::Shuffle { of, field } => {
                    let (paths, mut values): (Vec<_>, Vec<_>) =
                        self.dealt(of, field).into_iter().unzip();
                    let (next, key) = now.shuffled(chance, name, of, field);
                    key.shuffle(&mut values);
                    effects.extend(paths.iter().zip(values).map(|(path, value)| set(path, value)));
                    next
                }
                _ => return None,
            };
            effects.push(set(&path, found.0.plain(&Cell::Random(next))));
            Some(effects)
        };
        drawn().unwrap_or_default()
    }
}
