//! Rows that are asked for once and then kept up to date by steps.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use super::asked::Place;
use crate::path::Path;

/// A row of a result.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Row {
    /// The path of the record.
    pub path: Path,
    /// What is sent of it.
    pub value: Value,
}

/// A result.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Rows {
    /// The update that it is the result after.
    pub seq: u64,
    /// In order.
    pub rows: Vec<Row>,
    /// The place of the last row, where the result is full: more may be behind it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub end: Option<Place>,
}

/// How a result came to be another. Steps apply one after another, each to what those before it
/// have left.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "step", rename_all = "lowercase")]
pub enum RowStep {
    /// A row comes in at an index.
    In {
        /// The index that it has then.
        at: usize,
        /// The row.
        row: Row,
    },
    /// The row at an index goes out.
    Out {
        /// Its index.
        at: usize,
    },
    /// The row at an index goes to another.
    Move {
        /// Its index.
        at: usize,
        /// The index that it has then.
        to: usize,
    },
    /// What is sent of the row at an index is another.
    Change {
        /// Its index.
        at: usize,
        /// Its value now.
        value: Value,
    },
}

/// What an update made of a result.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct RowSteps {
    /// The update.
    pub seq: u64,
    /// For a follower that comes back, the update after which these steps begin.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<u64>,
    /// In order.
    pub steps: Vec<RowStep>,
    /// The place of the last row, where the result is full: more may be behind it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub end: Option<Place>,
}

/// Stands for one who follows one result.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Ticket(pub(super) u64);

/// What an update made of a result, and who follows it.
#[derive(Clone, Debug, PartialEq)]
pub struct Turned {
    /// Who follows it.
    pub tickets: BTreeSet<Ticket>,
    /// What they are told.
    pub steps: RowSteps,
}

impl RowSteps {
    /// The same as a JSON Patch (RFC 6902) of the array of rows.
    pub fn patch(&self) -> Value {
        let patch = |step: &RowStep| match step {
            RowStep::In { at, row } => {
                json!({ "op": "add", "path": format!("/{at}"), "value": row })
            }
            RowStep::Out { at } => json!({ "op": "remove", "path": format!("/{at}") }),
            RowStep::Move { at, to } => {
                json!({ "op": "move", "from": format!("/{at}"), "path": format!("/{to}") })
            }
            RowStep::Change { at, value } => {
                json!({ "op": "replace", "path": format!("/{at}/value"), "value": value })
            }
        };
        self.steps.iter().map(patch).collect()
    }
}

impl Rows {
    /// Takes steps in; those up to `seq` are in already. Fails, and changes nothing, where they
    /// belong to another result. Cost O(steps × rows).
    pub fn apply(&mut self, change: &RowSteps) -> Result<(), &'static str> {
        const OTHER: &str = "The steps belong to another result.";
        if change.seq <= self.seq {
            return Ok(());
        }
        if change.since.is_some_and(|since| since != self.seq) {
            return Err(OTHER);
        }
        let mut rows = self.rows.clone();
        for step in &change.steps {
            match step {
                RowStep::In { at, row } if *at <= rows.len() => rows.insert(*at, row.clone()),
                RowStep::Out { at } if *at < rows.len() => drop(rows.remove(*at)),
                RowStep::Move { at, to } if *at < rows.len() && *to < rows.len() => {
                    let row = rows.remove(*at);
                    rows.insert(*to, row);
                }
                RowStep::Change { at, value } => {
                    rows.get_mut(*at).ok_or(OTHER)?.value = value.clone();
                }
                _ => return Err(OTHER),
            }
        }
        *self = Self { seq: change.seq, rows, end: change.end.clone() };
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_that_are_in_already_or_begin_elsewhere_change_nothing() {
        let row = |id: &str| Row { path: Path::of(["pickers", id]), value: json!(1) };
        let mut rows = Rows { seq: 7, rows: vec![row("p1"), row("p2")], end: None };
        let was = rows.clone();
        let out =
            |seq, since| RowSteps { seq, since, steps: vec![RowStep::Out { at: 0 }], end: None };
        assert_eq!(rows.apply(&out(7, None)), Ok(()));
        assert_eq!(rows.apply(&out(6, Some(3))), Ok(()));
        assert!(rows.apply(&out(8, Some(6))).is_err());
        assert_eq!(rows, was);
        assert_eq!(rows.apply(&out(8, Some(7))), Ok(()));
        assert_eq!((rows.seq, rows.rows), (8, vec![row("p2")]));
    }
}
