//! What fields have in common whose values follow from rules of play: nobody sets them, and what
//! became of them is told as a value that was set.

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use super::site::stored_op;
use super::{Applying, Site};
use crate::op::Op;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::update::Effect;

/// The plain value of a cell.
pub(super) fn plain(cell: &impl Serialize) -> Value {
    serde_json::to_value(cell).unwrap_or_default()
}

/// What lies below a cell.
pub(super) fn plain_at(cell: &impl Serialize, rest: &[Token]) -> Option<Value> {
    let mut plain = plain(cell);
    for token in rest {
        plain = plain.get_mut(token.as_str())?.take();
    }
    Some(plain)
}

/// The cell of a plain value, where it is one.
pub(super) fn load<C: DeserializeOwned>(at: &Path, value: &Value) -> Result<C, Problem> {
    serde_json::from_value(value.clone()).map_err(|error| {
        let detail = format!("This is not what {at} holds: {error}.");
        Problem::new(ProblemKind::WrongType, detail).at(at)
    })
}

/// Does what a settled effect says: the whole cell is another.
pub(super) fn apply<C: Serialize + DeserializeOwned>(
    cell: &mut C,
    effect: &Effect,
    applying: &mut Applying<'_>,
) -> Result<(), String> {
    let Op::Set(value) = &effect.op else { return Err(stored_op(effect)) };
    applying.grow_to(&plain(cell), value);
    *cell = serde_json::from_value((**value).clone()).map_err(|error| error.to_string())?;
    Ok(())
}

/// Refuses every edit that is no act of the kind.
pub(super) fn refuse(site: &Site<'_>, what: &str, takes: &[&str]) -> Problem {
    if takes.is_empty() {
        let detail = format!("{what} is kept up to date by the service; nobody edits it.");
        return Problem::new(ProblemKind::UnknownOp, detail).at(site.path);
    }
    site.op(what, takes).err().unwrap_or_else(|| site.unknown_op(what, takes))
}
