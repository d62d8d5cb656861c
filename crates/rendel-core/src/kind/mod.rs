//! The kinds of fields. Each is one file: what it stores, its edits, its merge rule, its effects, its tests.
//!
//! Adding a kind is adding a file and one line in the [`kinds!`] table. The file has a `Field` (what the charter
//! declares, an implementation of [`Kind`]) and a `Cell` (what the state holds).

use std::fmt::Debug;

use serde::{Deserialize, Serialize, de::DeserializeOwned};
use serde_json::Value;
use uuid::Uuid;

use crate::charter::Section;
use crate::edit::{Edit, Effect, Verdict, VerdictKind};
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::state::Stamp;
use crate::suggest::nearest;

mod record;

pub use record::Fields;
pub(crate) use record::Record;

/// What a kind of field does. `rest` is what remains of a path once it has led to the field.
pub(crate) trait Kind: Sized + Clone + Debug {
    /// What the state holds for such a field.
    type Cell: Clone + Debug + PartialEq + Serialize + DeserializeOwned;

    /// Reads the declaration. Faults go to the section; a field that has some is still returned, so that all faults of
    /// a charter are found in one go.
    fn declare(section: &mut Section<'_>) -> Self;

    /// The cell of a field for which no value was given, in a record that came with `stamp`.
    fn initial(&self, stamp: Stamp) -> Self::Cell;

    /// A cell with a plain value, as it comes in opening data and in the `value` of a `put`.
    fn load(&self, at: &Path, plain: &Value, stamp: Stamp) -> Result<Self::Cell, Problem>;

    /// The plain value of a cell.
    fn plain(&self, cell: &Self::Cell) -> Value;

    /// The plain value of what lies `rest` below a cell.
    fn plain_at(&self, cell: &Self::Cell, rest: &[String]) -> Option<Value> {
        rest.is_empty().then(|| self.plain(cell))
    }

    /// What an edit would do to the cell: effects in final form and a verdict. Changes nothing.
    fn settle(&self, cell: &Self::Cell, rest: &[String], site: &Site<'_>) -> Result<Settlement, Problem>;

    /// Does what a settled effect says and tells by how many bytes of plain JSON that made the state larger. Fails
    /// only where the effect belongs to another state.
    fn apply(&self, cell: &mut Self::Cell, rest: &[String], effect: &Effect, stamp: Stamp) -> Result<Growth, String>;

    /// The updates by other clients that `site`'s proposer had not seen and whose work stands in this cell.
    fn met(&self, cell: &Self::Cell, site: &Site<'_>, met: &mut Vec<u64>);
}

/// Bytes of plain JSON that an effect adds to the state, below zero where it takes some away.
pub(crate) type Growth = i64;

/// The growth from one plain value to another.
pub(crate) fn growth(old: usize, new: usize) -> Growth {
    i64::try_from(new).unwrap_or(i64::MAX) - i64::try_from(old).unwrap_or(i64::MAX)
}

/// The circumstances in which one edit is settled.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Site<'a> {
    /// The edit.
    pub(crate) edit: &'a Edit,
    /// Its path.
    pub(crate) path: &'a Path,
    /// Its index in the proposal.
    pub(crate) index: usize,
    /// Number of the proposal.
    pub(crate) n: u64,
    /// The tab or process that proposes.
    pub(crate) client: Uuid,
    /// What the proposer had applied.
    pub(crate) seen: u64,
}

/// What settling one edit gives.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Settlement {
    pub(crate) effects: Vec<Effect>,
    pub(crate) verdict: Verdict,
}

impl Site<'_> {
    /// Whether `stamp` is by another client and was not seen by the proposer. What a client itself did earlier is part
    /// of its own view, seen or not.
    pub(crate) fn is_concurrent(&self, stamp: Stamp) -> bool {
        stamp.seq > self.seen && stamp.client != self.client
    }

    /// The id of an element whose proposer gave none: derived from client, number and index, so that a journal that is
    /// made again has the same.
    pub(crate) fn made_id(&self) -> String {
        Uuid::new_v5(&self.client, format!("{}/{}", self.n, self.index).as_bytes()).to_string()
    }

    /// The member `name`, or a problem that says that it is needed.
    pub(crate) fn need(&self, name: &str) -> Result<&Value, Problem> {
        self.edit.arg(name).ok_or_else(|| {
            Problem::new(ProblemKind::Malformed, format!("\"{}\" needs \"{name}\".", self.edit.op)).at(self.path)
        })
    }

    /// Refuses members that the operation does not know.
    pub(crate) fn only(&self, known: &[&str]) -> Result<(), Problem> {
        match self.edit.args.keys().find(|name| !known.contains(&name.as_str())) {
            None => Ok(()),
            Some(name) => {
                Err(Problem::new(ProblemKind::Malformed, format!("\"{}\" does not take \"{name}\".", self.edit.op))
                    .at(self.path)
                    .did_you_mean(nearest(name, known.iter().copied())))
            }
        }
    }

    /// The refusal of an operation that the field does not have.
    pub(crate) fn unknown_op(&self, what: &str, known: &[&str]) -> Problem {
        Problem::new(
            ProblemKind::UnknownOp,
            format!("{what} has no \"{}\"; it takes {}.", self.edit.op, known.join(", ")),
        )
        .at(self.path)
        .did_you_mean(nearest(&self.edit.op, known.iter().copied()))
    }

    /// The refusal of a path that goes on below a field without inner parts.
    pub(crate) fn leaf(&self, rest: &[String], what: &str) -> Result<(), Problem> {
        let Some(beyond) = rest.first() else { return Ok(()) };
        let whole = self.path.tokens().len() - rest.len();
        let whole = Path::of(self.path.tokens()[..whole].iter().cloned());
        Err(Problem::new(
            ProblemKind::UnknownPath,
            format!("{whole} is a {what}, which is changed as a whole: it has no part {beyond:?}."),
        )
        .at(self.path)
        .did_you_mean(Some(whole.to_string())))
    }

    pub(crate) fn applied(&self, effect: Effect) -> Settlement {
        Settlement {
            effects: vec![effect],
            verdict: self.verdict(VerdictKind::Applied, vec![], "Nothing concurrent was in its way."),
        }
    }

    pub(crate) fn verdict(&self, verdict: VerdictKind, met: Vec<u64>, because: impl Into<String>) -> Verdict {
        Verdict { edit: self.index, at: self.edit.at.clone(), verdict, met, because: because.into(), lost: None }
    }
}

macro_rules! kinds {
    ($($Variant:ident $module:ident $name:literal;)*) => {
        $(mod $module;)*

        /// A declared field of any kind.
        #[derive(Clone, Debug)]
        #[allow(missing_docs, reason = "each variant is the kind of its name")]
        #[allow(private_interfaces, reason = "what a kind declares is its own affair")]
        pub enum Field { $($Variant($module::Field)),* }

        /// The cell of a field of any kind.
        #[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
        #[allow(missing_docs, reason = "each variant is the kind of its name")]
        #[allow(private_interfaces, reason = "what a kind stores is its own affair")]
        #[serde(rename_all = "lowercase")]
        pub enum Cell { $($Variant($module::Cell)),* }

        /// The names that `kind = "…"` takes in a charter.
        pub fn kind_names() -> &'static [&'static str] {
            &[$($name),*]
        }

        impl Field {
            pub(crate) fn declare(section: &mut Section<'_>) -> Option<Self> {
                let name = section.one_of("kind", kind_names())?;
                match name.as_str() {
                    $($name => Some(Self::$Variant($module::Field::declare(section))),)*
                    _ => None,
                }
            }

            /// The name of its kind.
            pub fn kind(&self) -> &'static str {
                match self { $(Self::$Variant(_) => $name),* }
            }

            pub(crate) fn initial(&self, stamp: Stamp) -> Cell {
                match self { $(Self::$Variant(field) => Cell::$Variant(field.initial(stamp))),* }
            }

            pub(crate) fn load(&self, at: &Path, plain: &Value, stamp: Stamp) -> Result<Cell, Problem> {
                match self { $(Self::$Variant(field) => field.load(at, plain, stamp).map(Cell::$Variant)),* }
            }

            pub(crate) fn plain(&self, cell: &Cell) -> Value {
                match (self, cell) { $((Self::$Variant(field), Cell::$Variant(cell)) => field.plain(cell),)* _ => Value::Null }
            }

            pub(crate) fn plain_at(&self, cell: &Cell, rest: &[String]) -> Option<Value> {
                match (self, cell) { $((Self::$Variant(field), Cell::$Variant(cell)) => field.plain_at(cell, rest),)* _ => None }
            }

            pub(crate) fn settle(&self, cell: &Cell, rest: &[String], site: &Site<'_>) -> Result<Settlement, Problem> {
                match (self, cell) {
                    $((Self::$Variant(field), Cell::$Variant(cell)) => field.settle(cell, rest, site),)*
                    _ => Err(Problem::new(ProblemKind::Unavailable, MISMATCH).at(site.path)),
                }
            }

            pub(crate) fn apply(&self, cell: &mut Cell, rest: &[String], effect: &Effect, stamp: Stamp) -> Result<Growth, String> {
                match (self, cell) {
                    $((Self::$Variant(field), Cell::$Variant(cell)) => field.apply(cell, rest, effect, stamp),)*
                    _ => Err(MISMATCH.to_owned()),
                }
            }

            pub(crate) fn met(&self, cell: &Cell, site: &Site<'_>, met: &mut Vec<u64>) {
                match (self, cell) { $((Self::$Variant(field), Cell::$Variant(cell)) => field.met(cell, site, met),)* _ => () }
            }
        }
    };
}

const MISMATCH: &str = "The stored state is of another kind than the charter declares.";

kinds! {
    Register register "register";
    Counter  counter  "counter";
    Map      map      "map";
    Set      set      "set";
}

/// The string member `name` of a stored effect.
pub(crate) fn stored_text<'e>(effect: &'e Effect, name: &str) -> Result<&'e str, String> {
    effect.arg(name).and_then(Value::as_str).ok_or_else(|| format!("the effect lacks a string {name:?}"))
}

/// The refusal of a stored effect that a kind does not have.
pub(crate) fn stored_op(effect: &Effect) -> String {
    format!("no effect {:?}", effect.op)
}

/// A value as it reads in a sentence: shortened, quoted as JSON.
pub(crate) fn shown(value: &Value) -> String {
    let text = value.to_string();
    match text.char_indices().nth(40) {
        None => text,
        Some((end, _)) => format!("{}…", &text[..end]),
    }
}
