//! `clock`: a position that moves with the service's time, for shared playback, countdowns and the
//! time of a game.
//!
//! | edit | what it does |
//! |---|---|
//! | `start` | it moves from where it stands |
//! | `stop` | it stands where it is |
//! | `seek` | it is at `to`, moving or not as before |
//! | `rate` | it moves at `rate` times the pace of real time, backwards below 0 |
//!
//! Nothing is told while it moves: whoever knows the service's time computes the position, which is
//! `floor(position + (now - since) × rate)` while it is running, and never outside `min` and `max`.
//! Edits count in their order: the last one holds.

use std::time::Duration;

use serde::{Deserialize, Serialize, Serializer};
use serde_json::Value;

use super::ruled::{self, Ruled};
use super::{KindWords, Loading};
use crate::declaration::Section;
use crate::op::{Act, EXACT};
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};

/// A declared clock.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    from: i64,
    rate: f64,
    min: Option<i64>,
    max: Option<i64>,
}

/// Where it is.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Cell {
    /// Where the charter bounds it: the highest position, so that everybody computes the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    max: Option<i64>,
    /// And the lowest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    min: Option<i64>,
    /// The position in milliseconds at `since`, or for as long as it stands.
    position: i64,
    /// How fast it moves: 1 is the pace of real time.
    #[serde(serialize_with = "as_short")]
    rate: f64,
    /// Whether it moves.
    running: bool,
    /// From when on it has moved, in milliseconds since 1970 UTC.
    #[serde(default)]
    since: Option<u64>,
}

/// The longest time that a position stands for, and the fastest rate.
const FURTHEST: u64 = 3_650 * 86_400_000;
const FASTEST: f64 = 1_000.0;

impl Field {
    /// The position at a time, in milliseconds.
    #[expect(
        clippy::cast_possible_truncation,
        reason = "positions are within what doubles tell exactly"
    )]
    fn position(&self, cell: &Cell, now: u64) -> i64 {
        let moved = match cell.since {
            Some(since) if cell.running => now.saturating_sub(since) as f64 * cell.rate,
            _ => 0.0,
        };
        let exact = EXACT as f64;
        let position = (cell.position as f64 + moved).floor().clamp(-exact, exact) as i64;
        self.bounded(position)
    }

    fn bounded(&self, position: i64) -> i64 {
        let position = self.max.map_or(position, |max| position.min(max));
        self.min.map_or(position, |min| position.max(min))
    }

    /// What an act makes of it.
    pub(crate) fn play(&self, cell: &Cell, act: &Act, now: u64) -> Result<Cell, Problem> {
        let at =
            |position: i64| Cell { position, since: cell.running.then_some(now), ..cell.clone() };
        match act {
            Act::Start if cell.running => Ok(cell.clone()),
            Act::Start => Ok(Cell { running: true, since: Some(now), ..cell.clone() }),
            Act::Stop if !cell.running => Ok(cell.clone()),
            Act::Stop => {
                let position = self.position(cell, now);
                Ok(Cell { position, running: false, since: None, ..cell.clone() })
            }
            Act::Rate(rate) if rate.is_finite() && rate.abs() <= FASTEST => {
                Ok(Cell { rate: *rate, ..at(self.position(cell, now)) })
            }
            Act::Rate(_) => {
                let detail = "A clock moves at a rate from -1000 to 1000.";
                Err(Problem::new(ProblemKind::OutOfBounds, detail))
            }
            Act::Seek(to) if to.unsigned_abs() <= FURTHEST && self.bounded(*to) == *to => {
                Ok(at(*to))
            }
            _ => {
                let detail = "The clock has no such position: it goes from `min` to `max`, and at \
                    most ten years either way.";
                Err(Problem::new(ProblemKind::OutOfBounds, detail))
            }
        }
    }
}

impl Ruled for Field {
    type Cell = Cell;
    const WORDS: KindWords =
        KindWords { name: "clock", takes: &["start", "stop", "seek", "rate"], inside: &[] };
    const WHAT: &'static str = "A clock";

    fn declare(section: &mut Section<'_>) -> Self {
        let mut position = |key: &'static str| {
            let ms = section.duration(key, 0..=FURTHEST).as_ref().map(Duration::as_millis);
            ms.and_then(|ms| i64::try_from(ms).ok())
        };
        let (from, min, max) = (position("from"), position("min"), position("max"));
        let rate = match section.has("rate") {
            true => section.json("rate").as_ref().and_then(Value::as_f64),
            false => Some(1.0),
        };
        let rate = rate.filter(|rate| rate.abs() <= FASTEST);
        if rate.is_none() {
            section.fault_at("rate", "a number from -1000 to 1000", None);
        }
        let from = from.or(min).unwrap_or(0);
        let field = Self { from, rate: rate.unwrap_or(1.0), min, max };
        if min.zip(max).is_some_and(|(min, max)| min > max) || field.bounded(from) != from {
            section.fault_at("from", "a position from `min` to `max`", None);
        }
        field
    }

    fn initial(&self) -> Cell {
        let Self { from: position, rate, min, max } = *self;
        Cell { max, min, position, rate, running: false, since: None }
    }

    fn load(&self, at: &Path, plain: &Value, _loading: Loading) -> Result<Cell, Problem> {
        // The bounds are the charter's, whatever the opening data says.
        Ok(Cell { max: self.max, min: self.min, ..ruled::load(at, plain)? })
    }
}

/// Whole numbers without a point, as every other number of a state.
#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde gives a reference")]
#[expect(clippy::cast_possible_truncation, reason = "rates are small")]
fn as_short<S: Serializer>(rate: &f64, serializer: S) -> Result<S::Ok, S::Error> {
    match rate.fract() == 0.0 {
        true => serializer.serialize_i64(*rate as i64),
        false => serializer.serialize_f64(*rate),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clock_is_where_its_edits_and_the_time_have_brought_it_and_stays_within_its_bounds() {
        let field = Field { from: 90_000, rate: -1.0, min: Some(0), max: Some(120_000) };
        let mut cell = field.initial();
        let mut play = |act: Act, now: u64| {
            cell = field.play(&cell, &act, now).unwrap();
            field.position(&cell, now + 1_000)
        };
        assert_eq!(play(Act::Start, 10_000), 89_000);
        assert_eq!(play(Act::Start, 12_000), 87_000, "it is started already");
        assert_eq!(play(Act::Rate(-2.5), 20_000), 80_000 - 2_500);
        assert_eq!(play(Act::Seek(5_000), 30_000), 2_500);
        assert_eq!(play(Act::Stop, 40_000), 0, "it stood still at its lower bound");
        assert_eq!(play(Act::Rate(1.0), 50_000), 0, "it stands");
        assert_eq!(play(Act::Start, 60_000), 1_000);
        assert_eq!(field.position(&cell, 600_000), 120_000);
        for act in [Act::Seek(-1), Act::Seek(120_001), Act::Rate(f64::NAN), Act::Rate(1_001.0)] {
            assert!(field.play(&cell, &act, 70_000).is_err(), "{act:?}");
        }
        let plain = ruled::plain(&cell).to_string();
        assert_eq!(
            plain,
            r#"{"max":120000,"min":0,"position":0,"rate":1,"running":true,"since":60000}"#
        );
    }
}
