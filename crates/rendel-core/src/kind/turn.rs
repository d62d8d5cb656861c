//! `turn`: whose seat it is to move. Edits of what it governs are for that seat alone; everybody
//! else is told `not-your-turn`.
//!
//! | edit | what it does |
//! |---|---|
//! | `advance` | the turn goes to the next seat that is taken, or `to` one that is |
//! | `reverse` | the turn goes round the other way from then on |
//!
//! While the session gathers nobody has the turn. A seat that becomes free loses it to the next.

use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::ruled::{self, Ruled};
use super::seats::{self, Cell as Seats};
use super::{KindWords, Loading};
use crate::declaration::Section;
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};

/// A declared turn.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    order: Order,
    moves: Option<u64>,
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Order {
    Ring,
    /// Each says who is next.
    Free,
}

/// Whose turn it is.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Cell {
    /// The moves that were made in it.
    moves: u64,
    /// 1, 2, 3 …; 0 before the first.
    number: u64,
    /// Whether it goes round the other way.
    reversed: bool,
    /// The seat; none while the session gathers or nobody sits.
    seat: Option<String>,
}

impl Cell {
    /// The seat whose turn it is.
    pub(crate) fn seat(&self) -> Option<&str> {
        self.seat.as_deref()
    }

    fn given(&self, seat: Option<String>) -> Self {
        let number = self.number + u64::from(seat.is_some());
        Self { moves: 0, number, reversed: self.reversed, seat }
    }
}

impl Field {
    /// The turn once it has been advanced.
    pub(crate) fn advanced(
        &self,
        cell: &Cell,
        to: Option<&str>,
        of: &seats::Field,
        seats: &Seats,
    ) -> Result<Cell, Problem> {
        let taken = |seat: &str| seats.by(seat).is_some();
        match to {
            Some(to) if taken(to) => Ok(cell.given(Some(to.to_owned()))),
            Some(to) => {
                let detail = format!("Nobody sits on {to:?}. Advance to a seat that is taken.");
                Err(Problem::new(ProblemKind::OutOfBounds, detail))
            }
            None if self.order == Order::Free => {
                let detail = "This turn has no order: say \"to\" which seat it goes.";
                Err(Problem::new(ProblemKind::Malformed, detail))
            }
            None => Ok(cell.given(next(cell, of.names(), &taken))),
        }
    }

    /// The turn going round the other way.
    pub(crate) fn reversed(&self, cell: &Cell) -> Cell {
        Cell { reversed: !cell.reversed, ..cell.clone() }
    }

    /// The turn after a move in it, which may have been the last.
    pub(crate) fn moved(&self, cell: &Cell, of: &seats::Field, seats: &Seats) -> Cell {
        let moves = cell.moves + 1;
        if self.moves.is_none_or(|most| moves < most) {
            return Cell { moves, ..cell.clone() };
        }
        cell.given(next(cell, of.names(), &|seat| seats.by(seat).is_some()))
    }

    /// The turn as the seats are now: that of a seat that is taken, if there is one.
    pub(crate) fn kept_up(&self, cell: &Cell, of: &seats::Field, seats: &Seats) -> Cell {
        let taken = |seat: &str| seats.by(seat).is_some();
        if seats.is_gathering() {
            return Cell { seat: None, moves: 0, ..cell.clone() };
        }
        match &cell.seat {
            Some(seat) if taken(seat) => cell.clone(),
            Some(_) => cell.given(next(cell, of.names(), &taken)),
            None => {
                let first = of.names().iter().find(|seat| taken(seat));
                first.map_or_else(|| cell.clone(), |seat| cell.given(Some(seat.clone())))
            }
        }
    }
}

/// The next seat that is taken, all the way round to the same one.
fn next(cell: &Cell, names: &[String], taken: &dyn Fn(&str) -> bool) -> Option<String> {
    let count = names.len();
    let from = cell.seat.as_ref().and_then(|seat| names.iter().position(|name| name == seat));
    let from = from.unwrap_or(0);
    let step = |by: usize| {
        let at = if cell.reversed { from + count - by % count } else { from + by };
        &names[at % count]
    };
    (1..=count).map(step).find(|seat| taken(seat)).cloned()
}

impl Ruled for Field {
    type Cell = Cell;
    const WORDS: KindWords =
        KindWords { name: "turn", takes: &["advance", "reverse"], inside: &[] };
    const WHAT: &'static str = "A turn";

    fn declare(section: &mut Section<'_>) -> Self {
        section.later(&["time", "late"]);
        let order = match section.choice("order", &["ring", "free"], "ring").as_str() {
            "free" => Order::Free,
            _ => Order::Ring,
        };
        let moves = section.integer("moves", 1..=1_000_000).map(i64::cast_unsigned);
        if moves.is_some() && order == Order::Free {
            section.fault_at("moves", "no `moves` where each says who is next", None);
        }
        // What it governs, and whose turn it is, is read once all fields are known.
        section.know("seats");
        section.know("governs");
        Self { order, moves }
    }

    fn initial(&self) -> Cell {
        Cell::default()
    }

    fn load(&self, at: &Path, plain: &Value, _loading: Loading) -> Result<Cell, Problem> {
        ruled::load(at, plain)
    }
}
