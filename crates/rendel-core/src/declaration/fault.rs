//! Faults: what is wrong with a charter, and where.

use std::cell::RefCell;
use std::fmt;
use std::ops::Range;

use serde::{Deserialize, Serialize};

/// One thing that is wrong with a charter.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fault {
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1, in characters.
    pub column: usize,
    /// The key that it speaks of, such as `state.heads.min`.
    pub path: String,
    /// What is wrong.
    pub says: String,
    /// What should be there.
    pub expected: String,
    /// What might have been meant.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub did_you_mean: Option<String>,
}

impl Fault {
    pub(crate) fn whole(says: &str, expected: &str) -> Self {
        Self {
            line: 1,
            column: 1,
            path: String::new(),
            says: says.into(),
            expected: expected.into(),
            did_you_mean: None,
        }
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { line, column, path, says, expected, .. } = self;
        let path = if path.is_empty() { String::new() } else { format!("{path}: ") };
        write!(f, "{line}:{column}: {path}{says}; expected {expected}")?;
        self.did_you_mean.iter().try_for_each(|meant| write!(f, ". Did you mean {meant:?}?"))
    }
}

/// The faults found so far, which the sections of one charter share.
pub(crate) type Faults = RefCell<Vec<Fault>>;

/// Line and column, from 1, of a byte offset. Cost O(offset).
pub(super) fn place(source: &str, span: Option<Range<usize>>) -> (usize, usize) {
    let before = source.get(..span.map_or(0, |span| span.start)).unwrap_or_default();
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().unwrap_or_default().chars().count() + 1;
    (line, column)
}

pub(crate) fn syntax_fault(source: &str, error: &toml_edit::TomlError) -> Fault {
    let (line, column) = place(source, error.span());
    let says = error.message().trim().replace('\n', ", ");
    Fault {
        line,
        column,
        path: String::new(),
        says,
        expected: "TOML (https://toml.io)".into(),
        did_you_mean: None,
    }
}
