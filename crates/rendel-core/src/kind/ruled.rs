//! What fields have in common whose values follow from rules of play: nobody sets them, and what
//! became of them is told as a value that was set.

use std::fmt::Debug;

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use super::edit_context::stored_op;
use super::{Applying, Declared, EditContext, Kind, KindWords, Loading, Settlement};
use crate::declaration::Section;
use crate::op::Op;
use crate::patch::Patch;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::rewrite::Rewrite;
use crate::stamp::Stamp;
use crate::update::Effect;

/// A kind of field that keeps rules of play. As it stands here the whole cell is told at once.
pub(crate) trait Ruled: Sized + Clone + Debug {
    /// What the state holds for such a field; its plain value is what it is as JSON.
    type Cell: Clone + Debug + PartialEq + Serialize + DeserializeOwned;

    /// Its name and its operations.
    const WORDS: KindWords;

    /// What a refusal calls such a field.
    const WHAT: &'static str;

    /// Reads the declaration.
    fn declare(section: &mut Section<'_>) -> Self;

    /// The cell as a session begins.
    fn initial(&self) -> Self::Cell;

    /// A cell with a plain value.
    fn load(&self, at: &Path, plain: &Value, loading: Loading) -> Result<Self::Cell, Problem>;

    /// Whether expressions may read it.
    fn is_small(&self) -> bool {
        true
    }

    /// What lies below a cell.
    fn plain_at(&self, cell: &Self::Cell, rest: &[Token]) -> Option<Value> {
        let mut plain = plain(cell);
        for token in rest {
            plain = plain.get_mut(token.as_str())?.take();
        }
        Some(plain)
    }

    /// Does what a settled effect says.
    fn apply(
        &self,
        cell: &mut Self::Cell,
        rest: &[Token],
        effect: &Effect,
        applying: &mut Applying<'_>,
    ) -> Result<(), String> {
        match (&effect.op, rest) {
            (Op::Set(value), []) => replace(cell, value, applying),
            _ => Err(stored_op(effect)),
        }
    }
}

impl<R: Ruled> Kind for R {
    type Cell = R::Cell;
    const WORDS: KindWords = R::WORDS;

    fn declare(section: &mut Section<'_>, _declared: &Declared) -> Self {
        section.top_level();
        R::declare(section)
    }

    fn initial(&self, _stamp: Stamp) -> Self::Cell {
        Ruled::initial(self)
    }

    fn load(&self, at: &Path, plain: &Value, loading: Loading) -> Result<Self::Cell, Problem> {
        Ruled::load(self, at, plain, loading)
    }

    fn plain(&self, cell: &Self::Cell) -> Value {
        plain(cell)
    }

    fn plain_at(&self, cell: &Self::Cell, rest: &[Token]) -> Option<Value> {
        Ruled::plain_at(self, cell, rest)
    }

    /// Every edit that is no act of the kind is refused.
    fn settle(
        &self,
        _cell: &Self::Cell,
        _rest: &[Token],
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
        let takes = R::WORDS.takes;
        if takes.is_empty() {
            let detail = format!("{} is kept up to date by the service; nobody edits it.", R::WHAT);
            return Err(Problem::new(ProblemKind::UnknownOp, detail).at(site.path));
        }
        Err(site.op(R::WHAT, takes).err().unwrap_or_else(|| site.unknown_op(R::WHAT, takes)))
    }

    fn apply(
        &self,
        cell: &mut Self::Cell,
        rest: &[Token],
        effect: &Effect,
        applying: &mut Applying<'_>,
    ) -> Result<(), String> {
        Ruled::apply(self, cell, rest, effect, applying)
    }

    fn patch(
        &self,
        _cell: &Self::Cell,
        rest: &[Token],
        effect: &Effect,
        patch: &mut Patch,
    ) -> Option<()> {
        match (&effect.op, rest.split_last()) {
            (Op::Set(value), None) => patch.replace((**value).clone()),
            (Op::Set(value), Some((last, parts))) => {
                parts.iter().for_each(|part| patch.step(part));
                patch.add_at(last, (**value).clone());
            }
            (Op::Drop, Some(_)) => {
                rest.iter().for_each(|part| patch.step(part));
                patch.remove();
            }
            _ => return None,
        }
        Some(())
    }

    fn rewrite(&self, _was: &Value, _now: &Value, rewrite: &mut Rewrite) -> Result<(), Problem> {
        let why = match R::WORDS.takes {
            [] => "is computed. Leave it as it is.".to_owned(),
            takes => format!("is changed by its own edits: {}.", takes.join(", ")),
        };
        Err(rewrite.unfit(&why))
    }

    fn is_small(&self) -> bool {
        Ruled::is_small(self)
    }

    fn has(&self, cell: &Self::Cell, rest: &[Token]) -> bool {
        Ruled::plain_at(self, cell, rest).is_some()
    }

    fn met(&self, _cell: &Self::Cell, _site: &EditContext<'_>, _met: &mut Vec<u64>) {}
}

/// The plain value of a cell, or of a part of one.
pub(super) fn plain(cell: &impl Serialize) -> Value {
    serde_json::to_value(cell).unwrap_or_default()
}

/// The cell of a plain value, where it is one.
pub(super) fn load<C: DeserializeOwned>(at: &Path, value: &Value) -> Result<C, Problem> {
    serde_json::from_value(value.clone()).map_err(|error| {
        let detail = format!("This is not what {at} holds: {error}.");
        Problem::new(ProblemKind::WrongType, detail).at(at)
    })
}

/// A cell, or a part of one, is another now.
pub(super) fn replace<C: Serialize + DeserializeOwned>(
    cell: &mut C,
    value: &Value,
    applying: &mut Applying<'_>,
) -> Result<(), String> {
    applying.grow_to(&plain(cell), value);
    *cell = serde_json::from_value(value.clone()).map_err(|error| error.to_string())?;
    Ok(())
}
