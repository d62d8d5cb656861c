//! `seats`: who plays. A participant has one seat at most, and a seat one participant.
//!
//! | edit | what it does |
//! |---|---|
//! | `sit` | takes a seat that is free: the first to ask has it, the second is told `seat-taken` |
//! | `stand` | leaves one's seat |
//! | `offer` | offers one's seat to somebody; without `to` the offer is taken back |
//! | `accept` | takes a seat that was offered; two who have offered theirs to each other swap |
//! | `give` | puts somebody on a seat or frees it, by who has the power `seat` |
//!
//! Until so many seats as are `needed` have been taken, the session is gathering. Whoever loses
//! their last connection keeps their seat for as long as `reserve` says.

use std::collections::BTreeMap;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::ruled::{self, Ruled};
use super::{KindWords, Loading};
use crate::declaration::Section;
use crate::op::Act;
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::suggest::nearest;

/// Declared seats.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    names: Vec<String>,
    needed: usize,
    reserve_ms: u64,
}

/// Who sits where.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Cell {
    /// The seats whose participant has no connection, and until when each is kept, in milliseconds
    /// since 1970 UTC.
    #[serde(default)]
    away: BTreeMap<String, u64>,
    /// The participant on each seat.
    by: BTreeMap<String, Option<String>>,
    /// Whether fewer than the needed seats have been taken so far.
    #[serde(default)]
    gathering: bool,
    /// To whom each seat is offered.
    #[serde(default)]
    offers: BTreeMap<String, String>,
}

/// Seats that one session has at most.
const MOST: usize = 100;

impl Cell {
    /// The seat of a participant. Cost O(seats).
    pub(crate) fn seat_of(&self, who: &str) -> Option<&str> {
        let is_theirs = |(_, by): &(&String, &Option<String>)| by.as_deref() == Some(who);
        self.by.iter().find(is_theirs).map(|(seat, _)| seat.as_str())
    }

    /// The participant on a seat.
    pub(crate) fn by(&self, seat: &str) -> Option<&str> {
        self.by.get(seat)?.as_deref()
    }

    pub(crate) fn is_gathering(&self) -> bool {
        self.gathering
    }

    /// Those who sit, and whether their seat is kept while they are away.
    pub(crate) fn all(&self) -> impl Iterator<Item = (&str, bool)> {
        let taken = self.by.iter().filter_map(|(seat, by)| Some((seat, by.as_deref()?)));
        taken.map(|(seat, by)| (by, self.away.contains_key(seat)))
    }

    /// When the next seat that is kept becomes free.
    pub(crate) fn next_lapse(&self) -> Option<u64> {
        self.away.values().min().copied()
    }

    fn free(&mut self, seat: &str) {
        if let Some(by) = self.by.get_mut(seat) {
            *by = None;
        }
        self.away.remove(seat);
        self.offers.remove(seat);
    }

    fn put(&mut self, seat: &str, who: &str) {
        self.free(seat);
        self.by.insert(seat.to_owned(), Some(who.to_owned()));
        // Whoever sits waits for no other seat.
        self.offers.retain(|_, to| to != who);
    }
}

impl Field {
    /// The seats in the order of the charter.
    pub(crate) fn names(&self) -> &[String] {
        &self.names
    }

    /// How long a seat is kept, in milliseconds.
    pub(crate) fn reserve_ms(&self) -> u64 {
        self.reserve_ms
    }

    /// The seats after an act of somebody. `may_direct` is whether they have the power to seat
    /// others.
    pub(crate) fn play(
        &self,
        cell: &Cell,
        act: &Act,
        who: &str,
        may_direct: bool,
    ) -> Result<Cell, Problem> {
        let mut next = cell.clone();
        match act {
            Act::Sit(seat) => self.sit(&mut next, who, seat.as_deref())?,
            Act::Stand => {
                let seat = own_seat(cell, who)?;
                next.free(seat);
            }
            Act::Offer(to) => {
                let seat = own_seat(cell, who)?;
                match to {
                    None => drop(next.offers.remove(seat)),
                    Some(to) if to == who => {
                        let detail = "Offer your seat to somebody else.";
                        return Err(Problem::new(ProblemKind::OutOfBounds, detail));
                    }
                    Some(to) => drop(next.offers.insert(seat.to_owned(), to.clone())),
                }
            }
            Act::Accept(seat) => accept(&mut next, cell, who, seat.as_deref())?,
            Act::Give { .. } if !may_direct => {
                let detail = "Only who has the power \"seat\" puts others on a seat.";
                return Err(Problem::new(ProblemKind::NotAllowed, detail));
            }
            Act::Give { seat, to } => {
                self.check(seat)?;
                if let Some(had) = to.as_deref().and_then(|to| cell.seat_of(to)) {
                    next.free(had);
                }
                match to {
                    Some(to) => next.put(seat, to),
                    None => next.free(seat),
                }
            }
            Act::Away { who, until } => {
                if let Some(seat) = cell.seat_of(who) {
                    next.away.insert(seat.to_owned(), *until);
                }
            }
            Act::Back(who) => {
                if let Some(seat) = cell.seat_of(who) {
                    next.away.remove(seat);
                }
            }
            Act::Lapse(now) => {
                for (seat, _) in cell.away.iter().filter(|(_, until)| *until <= now) {
                    next.free(seat);
                }
            }
            _ => {}
        }
        self.gather(&mut next);
        Ok(next)
    }

    /// Once so many as are needed have sat at the same time, the session gathers no more.
    fn gather(&self, cell: &mut Cell) {
        cell.gathering &= cell.by.values().flatten().count() < self.needed;
    }

    /// The same people on the same seats, as a session begins anew.
    pub(crate) fn anew(&self, cell: &Cell) -> Cell {
        let mut next = Cell { gathering: true, ..cell.clone() };
        self.gather(&mut next);
        next
    }

    fn sit(&self, cell: &mut Cell, who: &str, seat: Option<&str>) -> Result<(), Problem> {
        seat.map_or(Ok(()), |seat| self.check(seat))?;
        if let Some(own) = cell.seat_of(who) {
            if seat.is_none_or(|seat| seat == own) {
                return Ok(());
            }
            let detail = format!("You have the seat {own:?}. Stand first.");
            return Err(Problem::new(ProblemKind::Exists, detail).with("seat", own));
        }
        let free = || self.names.iter().find(|seat| cell.by(seat).is_none());
        let Some(seat) = seat.or_else(|| free().map(String::as_str)) else {
            let detail = "All seats are taken.";
            return Err(Problem::new(ProblemKind::SeatTaken, detail));
        };
        if let Some(by) = cell.by(seat) {
            let detail = format!("{by:?} has the seat {seat:?}.");
            let problem = Problem::new(ProblemKind::SeatTaken, detail).with("seat", seat);
            return Err(problem.current(by.into()));
        }
        let seat = seat.to_owned();
        cell.put(&seat, who);
        Ok(())
    }

    /// Refuses a name that no seat has.
    pub(crate) fn check(&self, seat: &str) -> Result<(), Problem> {
        if self.names.iter().any(|name| name == seat) {
            return Ok(());
        }
        let names = self.names.iter().map(String::as_str);
        let detail = format!("There is no seat {seat:?}; there are {}.", self.names.join(", "));
        let problem = Problem::new(ProblemKind::OutOfBounds, detail);
        Err(problem.did_you_mean(nearest(seat, names)))
    }
}

fn own_seat<'c>(cell: &'c Cell, who: &str) -> Result<&'c str, Problem> {
    let none = || Problem::new(ProblemKind::NotAllowed, "You have no seat.");
    cell.seat_of(who).ok_or_else(none)
}

fn accept(next: &mut Cell, cell: &Cell, who: &str, seat: Option<&str>) -> Result<(), Problem> {
    let offered =
        |one: &(&String, &String)| one.1 == who && seat.is_none_or(|seat| seat == one.0.as_str());
    let Some((seat, _)) = cell.offers.iter().find(offered) else {
        let detail = "No such seat is offered to you.";
        return Err(Problem::new(ProblemKind::Gone, detail));
    };
    let from = cell.by(seat).map(str::to_owned);
    match cell.seat_of(who).map(str::to_owned) {
        None => next.put(seat, who),
        Some(own) if cell.offers.get(&own) == from.as_ref() => {
            next.put(seat, who);
            if let Some(from) = from {
                next.put(&own, &from);
            }
        }
        Some(own) => {
            let detail = format!(
                "You have the seat {own:?}. Offer it in return for a swap, or stand first."
            );
            return Err(Problem::new(ProblemKind::Exists, detail).with("seat", own));
        }
    }
    Ok(())
}

impl Ruled for Field {
    type Cell = Cell;
    const WORDS: KindWords = KindWords {
        name: "seats",
        takes: &["sit", "stand", "offer", "accept", "give"],
        inside: &[],
    };
    const WHAT: &'static str = "A field of seats";

    fn declare(section: &mut Section<'_>) -> Self {
        let names = match (section.has("names"), section.has("count")) {
            (false, true) => {
                let count = section.integer("count", 1..=MOST as i64).unwrap_or(1);
                (1..=count).map(|number| number.to_string()).collect()
            }
            (true, true) => {
                section.fault_at("count", "either `names` or `count`", None);
                section.names("names", MOST)
            }
            _ => section.names("names", MOST),
        };
        let most = i64::try_from(names.len().max(1)).unwrap_or(1);
        let needed = section.number("needed", 0..=most, 0);
        let reserve = section.duration("reserve", 0..=86_400_000);
        let ms = |reserve: Duration| u64::try_from(reserve.as_millis()).unwrap_or(u64::MAX);
        let reserve_ms = reserve.map_or(60_000, ms);
        Self { names, needed, reserve_ms }
    }

    fn initial(&self) -> Cell {
        let by = self.names.iter().map(|name| (name.clone(), None)).collect();
        let gathering = self.needed > 0;
        Cell { away: BTreeMap::new(), by, gathering, offers: BTreeMap::new() }
    }

    fn load(&self, at: &Path, plain: &Value, loading: Loading) -> Result<Cell, Problem> {
        let cell: Cell = ruled::load(at, plain)?;
        loading.check(|| {
            cell.by.keys().try_for_each(|seat| self.check(seat).map_err(|problem| problem.at(at)))
        })?;
        let mut by = self.initial().by;
        by.extend(cell.by);
        let cell = Cell { by, ..cell };
        Ok(if loading.is_settled { cell } else { self.anew(&cell) })
    }
}
