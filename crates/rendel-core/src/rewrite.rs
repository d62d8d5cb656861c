//! From one plain value to another: the edits on the way.

use serde_json::Value;

use crate::edit::Edit;
use crate::path::{Path, inner};
use crate::problem::{Problem, ProblemKind};

/// The edits found so far, and the path that is looked at.
#[derive(Debug)]
pub(crate) struct Rewrite {
    at: Vec<String>,
    most: usize,
    pub(crate) edits: Vec<Edit>,
}

impl Rewrite {
    /// A rewrite of at most so many edits.
    pub(crate) fn new(most: usize) -> Self {
        Self { at: Vec::new(), most, edits: Vec::new() }
    }

    /// Refuses what would be more edits than a proposal has, before the cost grows.
    pub(crate) fn has_space(&self) -> Result<(), Problem> {
        if self.edits.len() <= self.most {
            return Ok(());
        }
        let detail = format!(
            "This changes more than the {} places that a proposal may. Send several.",
            self.most
        );
        Err(Problem::new(ProblemKind::TooLarge, detail).with("limit", "edits"))
    }

    pub(crate) fn path(&self) -> Path {
        Path::of(self.at.iter().cloned())
    }

    /// An edit of what is looked at.
    pub(crate) fn edit(&self, op: &str) -> Edit {
        Edit::new(self.path().to_string(), op)
    }

    /// An edit one step further in.
    pub(crate) fn edit_at(&self, token: &str, op: &str) -> Edit {
        Edit::new(inner(&self.path(), token).to_string(), op)
    }

    pub(crate) fn push(&mut self, edit: Edit) {
        self.edits.push(edit);
    }

    pub(crate) fn step<T>(&mut self, token: &str, go_on: impl FnOnce(&mut Self) -> T) -> T {
        self.at.push(token.to_owned());
        let done = go_on(self);
        self.at.pop();
        done
    }

    /// The problem of a value that the field cannot have.
    pub(crate) fn unfit(&self, detail: &str) -> Problem {
        let path = self.path();
        Problem::new(ProblemKind::WrongType, format!("{path} {detail}")).at(&path)
    }
}

/// The elements of a plain list, each with its id; `None` for any other value. An empty array may
/// be one.
pub(crate) fn elements(plain: &Value) -> Option<Vec<(&str, &Value)>> {
    let element = |value: &'_ Value| -> Option<()> {
        let members = value.as_object()?;
        (members.len() == 2 && members.get("id")?.is_string() && members.contains_key("value"))
            .then_some(())
    };
    let array = plain.as_array()?;
    array.iter().all(|value| element(value).is_some()).then(|| {
        array
            .iter()
            .filter_map(|value| Some((value.get("id")?.as_str()?, value.get("value")?)))
            .collect()
    })
}
