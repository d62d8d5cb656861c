//! `deadline`: a time at which something happens, exactly once, in the order of everything else.
//!
//! | edit | what it does |
//! |---|---|
//! | `set` | gives it a time, `due` (milliseconds since 1970 UTC) or `in` (from now) |
//! | `extend` | moves the time that is set `by` so much |
//! | `cancel` | no time is set any more |
//!
//! The session itself fires it: an update of its own says when it was due and when it fired. What
//! is taken in after the time it was due comes after that update, however late it is made.

use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::ruled::{self, Ruled};
use super::{KindWords, Loading};
use crate::declaration::Section;
use crate::op::{Act, When};
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};

/// A declared deadline.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    /// How long after the session begins it is due.
    after: Option<u64>,
    begins: Begins,
}

/// From when on `in` counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Begins {
    /// From opening.
    Opened,
    /// From when the needed seats are taken.
    Seated,
}

/// When it is due, and when it fired.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Cell {
    /// In milliseconds since 1970 UTC; nothing where no time is set.
    #[serde(default)]
    due: Option<u64>,
    /// In milliseconds since 1970 UTC; nothing as long as it has not fired.
    #[serde(default)]
    fired: Option<u64>,
    /// Milliseconds that count from when the session begins, until it has.
    #[serde(rename = "in", default, skip_serializing_if = "Option::is_none")]
    after: Option<u64>,
}

/// The shortest and the longest time ahead, in milliseconds. A rule that sets a deadline anew
/// each time that it fires comes at most ten times a second.
const SOONEST: u64 = 100;
const LATEST: u64 = 3_650 * 86_400_000;

impl Cell {
    /// When it fires next, in milliseconds since 1970 UTC.
    pub(crate) fn pending(&self) -> Option<u64> {
        self.due.filter(|_| self.fired.is_none())
    }

    /// The time from the session's beginning to the deadline, while the session has not begun.
    pub(crate) fn waits(&self) -> Option<u64> {
        self.after
    }

    fn at(due: u64) -> Self {
        Self { due: Some(due), ..Self::default() }
    }

    /// Pushed back where less than `within` remains.
    pub(crate) fn extended(&self, by: u64, within: u64, now: u64) -> Option<Self> {
        let due = self.pending()?;
        (due.saturating_sub(now) <= within).then(|| Self::at(due.saturating_add(by)))
    }
}

impl Field {
    /// Whether the charter says when it is due.
    pub(crate) fn is_set(&self) -> bool {
        self.after.is_some()
    }

    /// Whether it waits for the needed seats to be taken.
    pub(crate) fn waits_for_seats(&self) -> bool {
        self.begins == Begins::Seated
    }

    /// What an act makes of it.
    pub(crate) fn play(&self, cell: &Cell, act: &Act, now: u64) -> Result<Cell, Problem> {
        let needs_time = || {
            let detail = match cell.fired {
                Some(_) => "It has fired already. Set it anew.",
                None => "No time is set here. Set one.",
            };
            Problem::new(ProblemKind::Gone, detail).current(ruled::plain(cell))
        };
        let within = |due: u64| match due.checked_sub(now) {
            Some(ahead) if (SOONEST..=LATEST).contains(&ahead) => Ok(Cell::at(due)),
            _ => {
                let detail = "A deadline is set from 100 ms to ten years ahead.";
                Err(Problem::new(ProblemKind::OutOfBounds, detail))
            }
        };
        match act {
            Act::SetTime(When::Due(due)) => within(*due),
            Act::SetTime(When::In(ms)) => within(now.saturating_add(*ms)),
            Act::Extend(by) => {
                let due = cell.pending().ok_or_else(needs_time)?;
                within(due.saturating_add(*by))
            }
            Act::Cancel if cell.after.is_some() => Ok(Cell::default()),
            Act::Cancel => cell.pending().map(|_| Cell::default()).ok_or_else(needs_time),
            Act::Begin(from) => {
                let after = cell.after.ok_or_else(needs_time)?;
                Ok(Cell::at(from.saturating_add(after)))
            }
            _ => {
                cell.pending().ok_or_else(needs_time)?;
                Ok(Cell { fired: Some(now), ..cell.clone() })
            }
        }
    }
}

impl Ruled for Field {
    type Cell = Cell;
    const WORDS: KindWords =
        KindWords { name: "deadline", takes: &["set", "extend", "cancel"], inside: &[] };
    const WHAT: &'static str = "A deadline";

    fn declare(section: &mut Section<'_>) -> Self {
        let after = section.duration("in", SOONEST..=LATEST);
        let begins = match section.choice("from", &["opened", "seated"], "opened").as_str() {
            "seated" => Begins::Seated,
            _ => Begins::Opened,
        };
        if section.has("from") && after.is_none() {
            section.fault_at("in", "how long from then on, such as \"10m\"", None);
        }
        // What pushes it back is read once all fields are known.
        section.know("extend");
        let after = after.and_then(|after| u64::try_from(after.as_millis()).ok());
        Self { after, begins }
    }

    fn initial(&self) -> Cell {
        Cell { after: self.after, ..Cell::default() }
    }

    fn load(&self, at: &Path, plain: &Value, _loading: Loading) -> Result<Cell, Problem> {
        ruled::load(at, plain)
    }
}
