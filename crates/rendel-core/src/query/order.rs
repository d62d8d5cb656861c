//! The order of rows: values of any type, by several keys, and of equals by the path.

use std::cmp::{Ordering, Reverse};
use std::sync::Arc;

use serde_json::Value;
use smallvec::SmallVec;

use crate::canonical::CanonicalText;
use crate::path::Path;

/// A value as it is ordered: `null`, `false`, `true`, numbers, strings by their code points, and
/// last lists and objects by their canonical text.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Sorted {
    Null,
    Bool(bool),
    Number(Number),
    Text(Arc<str>),
    Other(CanonicalText),
}

/// A double, as JSON has no other numbers; both zeros are one.
#[derive(Clone, Copy, Debug)]
pub(super) struct Number(f64);

impl PartialEq for Number {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for Number {}

impl PartialOrd for Number {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Number {
    fn cmp(&self, other: &Self) -> Ordering {
        (self.0 + 0.0).total_cmp(&(other.0 + 0.0))
    }
}

impl Sorted {
    fn of(value: &Value) -> Self {
        match value {
            Value::Null => Self::Null,
            Value::Bool(truth) => Self::Bool(*truth),
            Value::Number(number) => Self::Number(Number(number.as_f64().unwrap_or(0.0))),
            Value::String(text) => Self::Text(text.as_str().into()),
            Value::Array(_) | Value::Object(_) => Self::Other(CanonicalText::of(value)),
        }
    }
}

/// A value in the direction of its key. All at one place of a position have the same.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Directed {
    Up(Sorted),
    Down(Reverse<Sorted>),
}

/// Where a row stands: what it is ordered by, then its path.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Position(SmallVec<[Directed; 1]>, pub(super) Path);

impl Position {
    /// From the values of the keys, each with whether it goes down.
    pub(super) fn of(values: impl IntoIterator<Item = (Value, bool)>, path: Path) -> Self {
        let directed = |(value, is_down): (Value, bool)| match (Sorted::of(&value), is_down) {
            (sorted, false) => Directed::Up(sorted),
            (sorted, true) => Directed::Down(Reverse(sorted)),
        };
        Self(values.into_iter().map(directed).collect(), path)
    }

    /// About the bytes that it takes beside itself.
    pub(super) fn bytes(&self) -> usize {
        let text = |one: &Directed| match one {
            Directed::Up(Sorted::Text(text)) | Directed::Down(Reverse(Sorted::Text(text))) => {
                24 + text.len()
            }
            Directed::Up(Sorted::Other(text)) | Directed::Down(Reverse(Sorted::Other(text))) => {
                24 + text.as_str().len()
            }
            _ => 0,
        };
        let keys = if self.0.spilled() { 24 * self.0.len() } else { 0 };
        keys + self.0.iter().map(text).sum::<usize>()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn values_of_all_types_stand_in_one_order() {
        let ascending = [
            json!(null),
            json!(false),
            json!(true),
            json!(-2.5),
            json!(0),
            json!(9_007_199_254_740_991_i64),
            json!(""),
            json!("Z"),
            json!("a"),
            json!("aa"),
            json!("\u{ffff}"),
            json!("\u{10000}"),
            json!([1]),
            json!({ "a": 1 }),
        ];
        for (index, one) in ascending.iter().enumerate() {
            for (other_index, other) in ascending.iter().enumerate() {
                let compared = Sorted::of(one).cmp(&Sorted::of(other));
                assert_eq!(compared, index.cmp(&other_index), "{one} and {other}");
            }
        }
        assert_eq!(Sorted::of(&json!(-0.0)), Sorted::of(&json!(0)));
        assert_eq!(Sorted::of(&json!(1.0)), Sorted::of(&json!(1)));
    }
}
