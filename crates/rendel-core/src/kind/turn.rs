//! `turn`: whose seat it is to move. Edits of what it governs are for that seat alone; everybody
//! else is refused with `not-your-turn`.
//!
//! | edit | what it does |
//! |---|---|
//! | `advance` | the turn goes to the next seat that is taken, or `to` one that is; `turn` says which turn is meant |
//! | `reverse` | the turn goes round the other way from then on |
//!
//! While the session gathers nobody has the turn. A seat that becomes free loses it to the next, unless
//! the charter lets the turn wait (`vacant = "wait"`): then free seats keep their place.
//! Where the charter says how much `time` a turn has, the session itself ends it: it passes, or the
//! rules of the charter say what comes of it.

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

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
    /// Milliseconds that a turn has.
    time: Option<u64>,
    /// Whether it passes when its time has run out.
    passes: bool,
    /// Whether it waits at a seat that is free, instead of skipping it.
    waits: bool,
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Order {
    Ring,
    /// Each names the next seat.
    Free,
}

/// Whose turn it is.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Cell {
    /// When its time has run out, in milliseconds since 1970 UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    due: Option<u64>,
    /// Whether it has, and the turn did not pass.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    late: bool,
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

    /// When its time has run out, in milliseconds since 1970 UTC.
    pub(crate) fn due(&self) -> Option<u64> {
        self.due
    }

    /// Refuses what was meant for another turn.
    pub(crate) fn check_number(&self, meant: Option<u64>) -> Result<(), Problem> {
        let Some(meant) = meant.filter(|meant| *meant != self.number) else { return Ok(()) };
        let detail = format!("This was meant for turn {meant}; now it is turn {}.", self.number);
        let current = json!({ "number": self.number, "seat": self.seat });
        Err(Problem::new(ProblemKind::Stale, detail).current(current))
    }

    fn given(&self, seat: Option<String>) -> Self {
        let number = self.number + u64::from(seat.is_some());
        Self { moves: 0, number, reversed: self.reversed, seat, due: None, late: false }
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
        match to {
            Some(to) if self.includes(of, seats, to) => Ok(cell.given(Some(to.to_owned()))),
            Some(to) => {
                let detail = format!("Nobody sits on {to:?}. Advance to a seat that is taken.");
                Err(Problem::new(ProblemKind::OutOfBounds, detail))
            }
            None if self.order == Order::Free => {
                let detail = "This turn has no order: say \"to\" which seat it goes.";
                Err(Problem::new(ProblemKind::Malformed, detail))
            }
            None => Ok(cell.given(self.next(cell, of, seats))),
        }
    }

    /// The turn going round the other way.
    pub(crate) fn reversed(&self, cell: &Cell) -> Cell {
        Cell { reversed: !cell.reversed, ..cell.clone() }
    }

    /// Whether it has a time that has not begun to count.
    pub(crate) fn is_to_begin(&self, cell: &Cell) -> bool {
        self.time.is_some() && cell.seat.is_some() && cell.due.is_none() && !cell.late
    }

    /// The turn with its time counting from now.
    pub(crate) fn begun(&self, cell: &Cell, now: u64) -> Cell {
        Cell { due: self.time.map(|time| now.saturating_add(time)), ..cell.clone() }
    }

    /// The turn once its time has run out.
    pub(crate) fn late(&self, cell: &Cell, of: &seats::Field, seats: &Seats) -> Cell {
        match self.passes {
            true => cell.given(self.next(cell, of, seats)),
            false => Cell { due: None, late: true, ..cell.clone() },
        }
    }

    /// Whether a turn has a time.
    pub(crate) fn is_timed(&self) -> bool {
        self.time.is_some()
    }

    /// The turn after a move in it, which may have been the last.
    pub(crate) fn moved(&self, cell: &Cell, of: &seats::Field, seats: &Seats) -> Cell {
        let moves = cell.moves + 1;
        if self.moves.is_none_or(|most| moves < most) {
            return Cell { moves, ..cell.clone() };
        }
        cell.given(self.next(cell, of, seats))
    }

    /// The turn after a change of the seats. Unless it waits, it leaves a seat that is free.
    pub(crate) fn kept_up(&self, cell: &Cell, of: &seats::Field, seats: &Seats) -> Cell {
        if seats.is_gathering() {
            return Cell { seat: None, due: None, late: false, moves: 0, ..cell.clone() };
        }
        match &cell.seat {
            Some(seat) if self.includes(of, seats, seat) => cell.clone(),
            Some(_) => cell.given(self.next(cell, of, seats)),
            None => {
                let first = of.names().iter().find(|seat| self.includes(of, seats, seat));
                first.map_or_else(|| cell.clone(), |seat| cell.given(Some(seat.clone())))
            }
        }
    }

    /// Whether a seat has its turn: one that is taken, or any seat if the turn waits.
    fn includes(&self, of: &seats::Field, seats: &Seats, seat: &str) -> bool {
        seats.by(seat).is_some() || (self.waits && of.names().iter().any(|name| name == seat))
    }

    /// The next seat that has its turn, all the way round to the same one.
    fn next(&self, cell: &Cell, of: &seats::Field, seats: &Seats) -> Option<String> {
        let names = of.names();
        let count = names.len();
        let from = cell.seat.as_ref().and_then(|seat| names.iter().position(|name| name == seat));
        let from = from.unwrap_or(0);
        let step = |by: usize| {
            let at = if cell.reversed { from + count - by % count } else { from + by };
            &names[at % count]
        };
        (1..=count).map(step).find(|seat| self.includes(of, seats, seat)).cloned()
    }
}

impl Ruled for Field {
    type Cell = Cell;
    const WORDS: KindWords =
        KindWords { name: "turn", takes: &["advance", "reverse"], inside: &[] };
    const WHAT: &'static str = "A turn";

    fn declare(section: &mut Section<'_>) -> Self {
        let order = match section.choice("order", &["ring", "free"], "ring").as_str() {
            "free" => Order::Free,
            _ => Order::Ring,
        };
        let moves = section.integer("moves", 1..=1_000_000).map(i64::cast_unsigned);
        if moves.is_some() && order == Order::Free {
            section.fault_at("moves", "no `moves` if each names the next seat", None);
        }
        let time = section.duration("time", 1_000..=86_400_000);
        let late = section.choice("late", &["pass", "rule"], "pass");
        if section.has("late") && time.is_none() {
            section.fault_at("time", "how long a turn lasts, such as \"30s\"", None);
        }
        if time.is_some() && late == "pass" && order == Order::Free {
            section.fault_at(
                "late",
                "\"rule\": a turn without an order cannot pass automatically",
                None,
            );
        }
        let time = time.and_then(|time| u64::try_from(time.as_millis()).ok());
        let waits = section.choice("vacant", &["skip", "wait"], "skip") == "wait";
        // What it governs, and whose turn it is, is read once all fields are known.
        section.know("seats");
        section.know("governs");
        Self { order, moves, time, passes: late == "pass", waits }
    }

    fn initial(&self) -> Cell {
        Cell::default()
    }

    fn load(&self, at: &Path, plain: &Value, _loading: Loading) -> Result<Cell, Problem> {
        ruled::load(at, plain)
    }
}
