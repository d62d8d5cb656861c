//! Acts on seats, turns, clocks, deadlines and chance, and the times at which each is allowed.

use super::{Origin, Txn};
use crate::actor::Actor;
use crate::charter::{Pattern, Power};
use crate::kind::{Cell, EditContext, Field, Seats, Settlement, TurnCell};
use crate::op::{Act, Op};
use crate::path::{Path, Token, inner};
use crate::problem::{Problem, ProblemKind};

impl Txn<'_> {
    /// Refuses an edit before the needed seats are taken, and one of a seat whose turn it is not.
    /// Gives the turns in which the edit is a move.
    pub(super) fn check_time(
        &self,
        actor: &Actor,
        path: &Path,
        op: Option<&Op>,
    ) -> Result<Vec<Token>, Problem> {
        let (charter, state) = (&self.session.charter, self.state());
        let (false, Some((_, seats))) = (actor.role == Actor::SERVICE, state.seats(charter)) else {
            return Ok(Vec::new());
        };
        let made = op.and_then(Op::makes).map(|(id, _)| inner(path, id.unwrap_or("*")));
        let tokens = made.as_ref().unwrap_or(path).tokens();
        let is_about =
            |patterns: &[Pattern]| patterns.iter().any(|pattern| pattern.concerns(tokens, false));
        let is_of_seats = tokens.first() == charter.play.seats.as_ref();
        if seats.is_gathering() && !is_of_seats && !is_about(&charter.play.while_gathering) {
            let detail = "The session waits for more participants to take their seats.";
            return Err(Problem::new(ProblemKind::Gathering, detail).at(path));
        }
        let mut moved = Vec::new();
        for turn in charter.play.turns.iter().filter(|turn| is_about(&turn.governs)) {
            let Some((_, cell)) = state.turn(charter, &turn.field) else { continue };
            let own = seats.seat_of(&actor.id);
            if own.is_none() || own != cell.seat() {
                return Err(not_your_turn(path, cell, seats));
            }
            moved.push(turn.field.clone());
        }
        Ok(moved)
    }

    /// What an act would do; `None` if the field takes no acts, which its refusal will say. A draw is
    /// only checked: it is made in the final half.
    pub(super) fn play(
        &self,
        origin: &Origin<'_>,
        site: &EditContext<'_>,
    ) -> Option<Result<Settlement, Problem>> {
        let (session, charter, state) = (self.session, &self.session.charter, self.state());
        if charter.holds_ballots(site.path) {
            let detail = "Ballots are kept by the service: cast on the field that they belong to.";
            return Some(Err(Problem::new(ProblemKind::UnknownOp, detail).at(site.path)));
        }
        let (Ok(Op::Act(act)), [name]) = (site.op, site.path.tokens()) else { return None };
        let (field, cell) = charter.fields.find(state.root(), std::slice::from_ref(name))?;
        let actor = origin.actor;
        let may = |power: Power| charter.has_power(&actor.role, power);
        let next = match (field, cell) {
            (Field::Seats(seats), Cell::Seats(sat)) if act.is_of_seats() => {
                let next = seats.play(sat, act, &actor.id, may(Power::Seat));
                next.map(Cell::Seats)
            }
            (Field::Turn(turn), Cell::Turn(cell)) if act.is_of_turn() => {
                let (of, seats) = state.seats(charter)?;
                let own = seats.seat_of(&actor.id);
                if !may(Power::Turn) && (own.is_none() || own != cell.seat()) {
                    return Some(Err(not_your_turn(site.path, cell, seats)));
                }
                let next = match act {
                    Act::Advance { to, turn: meant } => cell
                        .check_number(*meant)
                        .and_then(|()| turn.advanced(cell, to.as_deref(), of, seats)),
                    Act::Begin(from) => Ok(turn.begun(cell, *from)),
                    Act::Fire => Ok(turn.late(cell, of, seats)),
                    _ => Ok(turn.reversed(cell)),
                };
                // Its time begins at once, so that the turn is reported once.
                next.map(|next| match turn.is_to_begin(&next) {
                    true => Cell::Turn(turn.begun(&next, origin.now)),
                    false => Cell::Turn(next),
                })
            }
            (Field::Deadline(of), Cell::Deadline(cell)) if act.is_of_deadline() => {
                of.play(cell, act, origin.now).map(Cell::Deadline)
            }
            (Field::Clock(of), Cell::Clock(cell)) if act.is_of_clock() => {
                of.play(cell, act, origin.now).map(Cell::Clock)
            }
            (Field::Ballot(of), Cell::Ballot(cell)) if act.is_of_ballots() => {
                let played = self.play_ballot(act, (of, cell), actor, site);
                return Some(played.map_err(|problem| problem.at(site.path)));
            }
            (Field::Random(of), Cell::Random(now)) => match act {
                Act::Open(_) if !may(Power::OpenDraws) => {
                    let detail = "Opening a shuffle needs the power \"open-draws\".";
                    Err(Problem::new(ProblemKind::NotAllowed, detail))
                }
                Act::Bind => session.chance().map(|chance| Cell::Random(now.bound(chance, name))),
                Act::Open(draw) => session
                    .chance()
                    .and_then(|chance| now.opened(chance, name, *draw))
                    .map(Cell::Random),
                Act::Roll { .. } | Act::Shuffle { .. } => {
                    let checked = self.check_draw(act, name, now, origin.proposal, site.index);
                    let nothing = |()| site.nothing();
                    return Some(checked.map(nothing).map_err(|problem| problem.at(site.path)));
                }
                Act::Commit(_) | Act::Reveal(_) | Act::Waive(_) => {
                    self.add_entropy(actor, act, of, now).map(Cell::Random)
                }
                _ => return None,
            },
            _ => return None,
        };
        let next = next.map_err(|problem| problem.at(site.path));
        Some(next.map(|next| match (field.plain(&next), field.plain(cell)) {
            (next, now) if next == now => site.nothing(),
            (next, _) => site.applied(Op::Set(next.into())),
        }))
    }

    /// Passes on the turns in which a move was made, if the charter gives a number of moves.
    pub(super) fn pass_turns(&mut self) -> Result<(), Problem> {
        for name in std::mem::take(&mut self.log.moved) {
            let (state, charter) = (self.state(), &self.session.charter);
            let found = state.turn(charter, &name).zip(state.seats(charter));
            let next = found.map(|((turn, cell), (of, seats))| turn.moved(cell, of, seats));
            next.map_or(Ok(()), |next| self.derive(&name, &Cell::Turn(next)))?;
        }
        Ok(())
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
