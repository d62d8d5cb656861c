//! Rules of play: acts on seats, turns and chance, who may do what when, and what follows from each
//! edit by itself.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;

use super::balloting::set;
use super::{Present, Sequencer};
use crate::actor::Actor;
use crate::charter::{Charter, Power};
use crate::edit::Edit;
use crate::kind::{
    Cell, Chance, Field, RandomCell, RandomField, Seats, Settlement, Site, TurnCell,
};
use crate::op::{Act, Op};
use crate::path::{Path, Token, inner};
use crate::problem::{Problem, ProblemKind};
use crate::stamp::Stamp;
use crate::state::State;
use crate::totals::Totals;
use crate::update::{Effect, Effects, Proposal};

/// Records that one shuffle deals among.
const MOST_SHUFFLED: usize = 1_000;

/// What followed by itself from the edits of a proposal, before it is told.
#[derive(Clone, Debug)]
pub(super) struct Following {
    totals: Totals,
    pub(super) touched: BTreeSet<Path>,
    /// The turns that an edit of the proposal was a move in.
    moved: BTreeSet<Token>,
}

impl Following {
    pub(super) fn of(present: &Present) -> Self {
        let totals = present.totals.clone();
        Self { totals, touched: BTreeSet::new(), moved: BTreeSet::new() }
    }
}

impl Sequencer {
    /// Refuses an edit for which the time has not come, or is not that of its proposer.
    pub(super) fn check_time(
        &self,
        state: &State,
        actor: &Actor,
        path: &Path,
        op: Option<&Op>,
        following: &mut Following,
    ) -> Result<(), Problem> {
        let charter = &self.charter;
        let (false, Some((_, seats))) = (actor.role == Actor::SERVICE, state.seats(charter)) else {
            return Ok(());
        };
        let made = op.and_then(Op::makes).map(|(id, _)| inner(path, id.unwrap_or("*")));
        let tokens = made.as_ref().unwrap_or(path).tokens();
        let is_about = |patterns: &[crate::Pattern]| {
            patterns.iter().any(|pattern| pattern.concerns(tokens, false))
        };
        let is_of_seats = tokens.first() == charter.play.seats.as_ref();
        if seats.is_gathering() && !is_of_seats && !is_about(&charter.play.while_gathering) {
            let detail = "The session waits for more participants to take their seats.";
            return Err(Problem::new(ProblemKind::Gathering, detail).at(path));
        }
        for turn in charter.play.turns.iter().filter(|turn| is_about(&turn.governs)) {
            let Some((_, cell)) = state.turn(charter, &turn.field) else { continue };
            let own = seats.seat_of(&actor.id);
            if own.is_none() || own != cell.seat() {
                return Err(not_your_turn(path, cell, seats));
            }
            following.moved.insert(turn.field.clone());
        }
        Ok(())
    }

    /// What an act would do; `None` where the field takes no acts, which its refusal will say. A
    /// draw is made later, when nothing can refuse it any more.
    pub(super) fn play(
        &self,
        present: &Present,
        actor: &Actor,
        (proposal, now): (&Proposal, u64),
        site: &Site<'_>,
    ) -> Option<Result<Settlement, Problem>> {
        if self.charter.play.holds_ballots(site.path) {
            let detail = "Ballots are kept by the service: cast on the field that they belong to.";
            return Some(Err(Problem::new(ProblemKind::UnknownOp, detail).at(site.path)));
        }
        let (Ok(Op::Act(act)), [name]) = (site.op, site.path.tokens()) else { return None };
        let found = self.charter.fields.find(present.state.root(), std::slice::from_ref(name))?;
        let told = |value: Value, was: Value| {
            let mut settlement = site.applied(Op::Set(value.clone().into()));
            if value == was {
                settlement.effects.clear();
            }
            settlement
        };
        let may = |power: Power| self.charter.has_power(&actor.role, power);
        let (field, cell) = found;
        let next = match (field, cell) {
            (Field::Seats(seats), Cell::Seats(sat)) if act.is_of_seats() => {
                let next = seats.play(sat, act, &actor.id, may(Power::Seat));
                next.map(Cell::Seats)
            }
            (Field::Turn(turn), Cell::Turn(cell)) if act.is_of_turn() => {
                let (of, seats) = present.state.seats(&self.charter)?;
                let own = seats.seat_of(&actor.id);
                if !may(Power::Turn) && (own.is_none() || own != cell.seat()) {
                    return Some(Err(not_your_turn(site.path, cell, seats)));
                }
                let next = match act {
                    Act::Advance(to) => turn.advanced(cell, to.as_deref(), of, seats),
                    Act::Begin(from) => Ok(turn.begun(cell, *from)),
                    Act::Fire => Ok(turn.late(cell, of, seats)),
                    _ => Ok(turn.reversed(cell)),
                };
                // Its time counts at once, so that it is told once.
                next.map(|next| match turn.is_to_begin(&next) {
                    true => Cell::Turn(turn.begun(&next, now)),
                    false => Cell::Turn(next),
                })
            }
            (Field::Deadline(of), Cell::Deadline(cell)) if act.is_of_deadline() => {
                of.play(cell, act, now).map(Cell::Deadline)
            }
            (Field::Clock(of), Cell::Clock(cell)) if act.is_of_clock() => {
                of.play(cell, act, now).map(Cell::Clock)
            }
            (Field::Ballot(of), Cell::Ballot(cell)) if act.is_of_ballots() => {
                let played = self.play_ballot(present, act, (of, cell), actor, site);
                return Some(played.map_err(|problem| problem.at(site.path)));
            }
            (Field::Random(of), Cell::Random(now)) => match act {
                Act::Open(_) if !may(Power::OpenDraws) => {
                    let detail = "Only who has the power \"open-draws\" opens a shuffle.";
                    Err(Problem::new(ProblemKind::NotAllowed, detail))
                }
                Act::Bind => self.chance().map(|chance| Cell::Random(now.bound(chance, name))),
                Act::Open(draw) => self
                    .chance()
                    .and_then(|chance| now.opened(chance, name, *draw))
                    .map(Cell::Random),
                Act::Roll { .. } | Act::Shuffle { .. } => {
                    let checked = self.check_draw(present, act, name, now, proposal, site.index);
                    let nothing =
                        || Settlement { effects: Effects::new(), verdict: site.applied_verdict() };
                    let checked = checked.map_err(|problem| problem.at(site.path));
                    return Some(checked.map(|()| nothing()));
                }
                Act::Commit(_) | Act::Reveal(_) | Act::Waive(_) => {
                    self.add_entropy(present, actor, act, of, now).map(Cell::Random)
                }
                _ => return None,
            },
            _ => return None,
        };
        let next = next.map_err(|problem| problem.at(site.path));
        Some(next.map(|next| told(field.plain(&next), field.plain(cell))))
    }

    /// What seats add to the next draw.
    fn add_entropy(
        &self,
        present: &Present,
        actor: &Actor,
        act: &Act,
        of: &RandomField,
        now: &RandomCell,
    ) -> Result<RandomCell, Problem> {
        if !of.takes_entropy() {
            let detail = "The charter lets nobody add to these draws: entropy = \"seats\" would.";
            return Err(Problem::new(ProblemKind::NotAllowed, detail));
        }
        let own = || {
            let seats = present.state.seats(&self.charter);
            seats.and_then(|(_, seats)| seats.seat_of(&actor.id)).ok_or_else(|| {
                let detail = "Sit down first: seats add to a draw, and you have none.";
                Problem::new(ProblemKind::NotAllowed, detail)
            })
        };
        match act {
            Act::Commit(sha256) => now.committed(own()?, sha256),
            Act::Reveal(value) => now.with_revealed(own()?, value),
            Act::Waive(seat) if self.charter.has_power(&actor.role, Power::OpenDraws) => {
                now.waived(seat)
            }
            _ => {
                let detail = "Waiving what a seat committed to needs the power \"open-draws\".";
                Err(Problem::new(ProblemKind::NotAllowed, detail))
            }
        }
    }

    fn chance(&self) -> Result<&Chance, Problem> {
        self.chance.as_ref().ok_or_else(|| {
            let detail = "This session has no secret to draw from yet. Try again.";
            Problem::new(ProblemKind::Unavailable, detail)
        })
    }

    fn check_draw(
        &self,
        present: &Present,
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
        let chance = self.chance()?;
        if !now.is_bound() {
            let detail = "The next draw is not bound yet. Try again.";
            return Err(Problem::new(ProblemKind::Unavailable, detail));
        }
        now.check_revealed()?;
        match act {
            Act::Shuffle { of, field } => {
                let draws = self.charter.play.draws.iter().find(|draws| draws.field == *name);
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
                let map = self.charter.fields.find(present.state.root(), of.tokens());
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
    fn dealt(&self, present: &Present, of: &Path, field: &str) -> Vec<(Path, Value)> {
        let plain = present.state.plain_at(&self.charter.fields, of);
        let records = plain.as_ref().and_then(Value::as_object).into_iter().flatten();
        let mut dealt: Vec<_> = records
            .map(|(id, record)| (inner(&inner(of, id), field), record[field].clone()))
            .collect();
        dealt.sort_by(|(one, _), (other, _)| one.cmp(other));
        dealt
    }

    /// The draw that a proposal ends with, if it does: where, and what.
    fn asked_draw(&self, edits: &[Edit]) -> Option<(Path, Act)> {
        let edit = edits.last()?;
        let Ok(Op::Act(act)) = Op::asked(edit) else { return None };
        let path = Path::parse(&edit.at).ok()?;
        let [name] = path.tokens() else { return None };
        matches!(self.charter.fields.field(name), Some(Field::Random(_))).then_some((path, act))
    }

    /// What a draw that a proposal ends with will change, whatever comes of it.
    pub(super) fn drawn_at(&self, present: &Present, edits: &[Edit]) -> Effects {
        let Some((path, act)) = self.asked_draw(edits) else { return Effects::new() };
        let dealt = match &act {
            Act::Shuffle { of, field } => self.dealt(present, of, field),
            _ => Vec::new(),
        };
        let paths = dealt.into_iter().map(|(path, _)| path).chain([path]);
        paths.map(|path| set(&path, Value::Null)).collect()
    }

    /// Makes the draw that a proposal ends with, if it does. Nothing can refuse it.
    pub(super) fn draw(&self, present: &Present, edits: &[Edit]) -> Effects {
        let drawn = || {
            let (path, act) = self.asked_draw(edits)?;
            let [name] = path.tokens() else { return None };
            let found = self.charter.fields.find(present.state.root(), path.tokens())?;
            let Cell::Random(now) = found.1 else { return None };
            let chance = self.chance.as_ref()?;
            let mut effects = Effects::new();
            let next = match &act {
                Act::Roll { sides, count } => now.rolled(chance, name, *sides, *count).ok()?,
                Act::Shuffle { of, field } => {
                    let (paths, mut values): (Vec<_>, Vec<_>) =
                        self.dealt(present, of, field).into_iter().unzip();
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

    /// Turns in which a move was made pass on, where the charter says after how many.
    pub(super) fn note_moves(
        &self,
        present: &mut Present,
        following: &mut Following,
        stamp: Stamp,
    ) -> Result<(), Problem> {
        for name in std::mem::take(&mut following.moved) {
            let found =
                present.state.turn(&self.charter, &name).zip(present.state.seats(&self.charter));
            if let Some(((turn, cell), (of, seats))) = found {
                let next = turn.moved(cell, of, seats);
                self.put(present, following, &name, &Cell::Turn(next), stamp)?;
            }
        }
        Ok(())
    }

    /// What follows by itself: totals, and turns of seats that are free now.
    pub(super) fn keep_up(
        &self,
        present: &mut Present,
        following: &mut Following,
        stamp: Stamp,
    ) -> Result<(), Problem> {
        let effects = present.state.following(&self.charter, &present.totals, &following.totals)?;
        following.totals = present.totals.clone();
        for effect in effects {
            present.put(&self.charter, &effect, stamp)?;
            following.touched.insert(effect.at);
        }
        Ok(())
    }

    /// The derived values that differ from what `effects` say of them, as effects. Cost
    /// O(effects × log effects) if anything is derived.
    pub(super) fn followed(
        &self,
        present: &Present,
        following: &Following,
        effects: &[Effect],
    ) -> Effects {
        if following.touched.is_empty() {
            return Effects::new();
        }
        let fields = &self.charter.fields;
        let told: BTreeMap<&Path, &Op> =
            effects.iter().map(|effect| (&effect.at, &effect.op)).collect();
        let effect = |path: &Path| {
            let was = match told.get(path) {
                Some(Op::Set(value)) => Some((**value).clone()),
                Some(_) => None,
                None => self.present.state.plain_at(fields, path),
            };
            match present.state.plain_at(fields, path) {
                now if now == was => None,
                Some(now) => Some(Effect::new(path, Op::Set(now.into()))),
                None => Some(Effect::new(path, Op::Drop)),
            }
        };
        following.touched.iter().filter_map(effect).collect()
    }

    pub(super) fn put(
        &self,
        present: &mut Present,
        following: &mut Following,
        name: &Token,
        next: &Cell,
        stamp: Stamp,
    ) -> Result<(), Problem> {
        let path = Path::of([name.clone()]);
        let fields = &self.charter.fields;
        let Some((field, cell)) = fields.find(present.state.root(), path.tokens()) else {
            return Ok(());
        };
        if cell != next {
            let effect = Effect::new(&path, Op::Set(field.plain(next).into()));
            present.put(&self.charter, &effect, stamp)?;
            following.touched.insert(path);
        }
        Ok(())
    }

    /// A state that begins anew with the same people on their seats and the same chance: no draw
    /// can be made twice.
    pub(super) fn carry_over(&self, opened: &mut Self, stamp: Stamp) -> Result<(), Problem> {
        let Charter { fields, play, .. } = &*self.charter;
        let kept = play.seats.iter().chain(play.draws.iter().map(|draws| &draws.field));
        for name in kept {
            let path = Path::of([name.clone()]);
            let value = match fields.find(self.present.state.root(), path.tokens()) {
                Some((field @ Field::Seats(of), Cell::Seats(seats))) => {
                    field.plain(&Cell::Seats(of.anew(seats)))
                }
                Some((field, cell)) => field.plain(cell),
                None => continue,
            };
            opened.present.put(&self.charter, &Effect::new(&path, Op::Set(value.into())), stamp)?;
        }
        let mut following = Following::of(&opened.present);
        let mut present = opened.present.clone();
        opened.keep_up(&mut present, &mut following, stamp)?;
        opened.present = present;
        Ok(())
    }

    /// What the session has to do by itself: bind the first draws, keep the seats of those who are
    /// not `here`, and note who is back. Cost O(seats), and nothing where there is nothing to do.
    pub fn own_edits(&self, here: &dyn Fn(&str) -> bool, now: u64) -> Vec<Edit> {
        let Charter { fields, play, .. } = &*self.charter;
        let root = self.present.state.root();
        let is_unbound = |field: &Token| {
            let found = fields.find(root, std::slice::from_ref(field));
            self.chance.is_some()
                && matches!(found, Some((_, Cell::Random(cell))) if !cell.is_bound())
        };
        let unbound = play.draws.iter().map(|draws| &draws.field).filter(|field| is_unbound(field));
        let mut edits: Vec<Edit> =
            unbound.map(|field| Edit::new(Path::of([field.clone()]).to_string(), "bind")).collect();
        let Some((field, seats)) = self.present.state.seats(&self.charter) else { return edits };
        let until = now.saturating_add(field.reserve_ms());
        for (who, is_kept) in seats.all() {
            match (here(who), is_kept) {
                (false, false) => {
                    edits.push(self.of_seats("away").with("who", who).with("until", until));
                }
                (true, true) => edits.push(self.of_seats("back").with("who", who)),
                _ => {}
            }
        }
        edits
    }

    /// Seats somebody to whom a seat was promised, if it is free and they have none.
    pub fn promised(&self, who: &str, seat: &str) -> Option<Edit> {
        let (field, seats) = self.present.state.seats(&self.charter)?;
        let is_free = field.names().iter().any(|name| name == seat) && seats.by(seat).is_none();
        let is_due = is_free && seats.seat_of(who).is_none();
        is_due.then(|| self.of_seats("give").with("seat", seat).with("to", who))
    }

    /// How many seats are free, where the charter has seats.
    pub fn free_seats(&self) -> Option<usize> {
        let (field, seats) = self.present.state.seats(&self.charter)?;
        Some(field.names().iter().filter(|seat| seats.by(seat).is_none()).count())
    }

    /// The seat that somebody has, or that is free for them, with the edit that gives it to them.
    pub fn seat_for(
        &self,
        who: &str,
        wanted: Option<&str>,
    ) -> Result<(String, Option<Edit>), Problem> {
        let taken = || Problem::new(ProblemKind::SeatTaken, "No seat is free.");
        let (field, seats) = self.present.state.seats(&self.charter).ok_or_else(taken)?;
        if let Some(own) = seats.seat_of(who) {
            return Ok((own.to_owned(), None));
        }
        let is_free = |seat: &&String| {
            seats.by(seat).is_none() && wanted.is_none_or(|wanted| wanted == seat.as_str())
        };
        let seat = field.names().iter().find(is_free).ok_or_else(taken)?;
        let give = self.of_seats("give").with("seat", seat.as_str()).with("to", who);
        Ok((seat.clone(), Some(give)))
    }

    /// When the next seat that is kept for somebody becomes free, in milliseconds since 1970 UTC.
    pub(super) fn next_lapse(&self) -> Option<u64> {
        let due = self.present.state.seats(&self.charter)?.1.next_lapse()?;
        Some(due.max(self.no_lapse_before))
    }

    pub(super) fn lapse(&self, now: u64) -> Edit {
        self.of_seats("lapse").with("now", now)
    }

    fn of_seats(&self, op: &str) -> Edit {
        let field = self.charter.play.seats.clone().unwrap_or_default();
        Edit::new(Path::of([field]).to_string(), op)
    }
}

fn not_your_turn(path: &Path, cell: &TurnCell, seats: &Seats) -> Problem {
    let Some(seat) = cell.seat() else {
        let detail = "Nobody has the turn yet: nobody sits.";
        return Problem::new(ProblemKind::NotYourTurn, detail).at(path);
    };
    let by = seats.by(seat);
    let detail = match by {
        Some(by) => format!("It is the turn of {by:?} on the seat {seat:?}."),
        None => format!("It is the turn of the seat {seat:?}."),
    };
    let problem = Problem::new(ProblemKind::NotYourTurn, detail).at(path).with("seat", seat);
    match by {
        Some(by) => problem.with("by", by),
        None => problem,
    }
}
