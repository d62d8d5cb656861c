//! The kinds of fields. Each is one file: what it stores, its edits, its merge rule, its effects,
//! its tests.
//!
//! Adding a kind is adding a file and one line in the [`kinds!`] table. The file has a `Field`
//! (what the charter declares, an implementation of [`Kind`]) and a `Cell` (what the state holds).

use std::fmt::Debug;

use serde::{Deserialize, Serialize, de::DeserializeOwned};
use serde_json::Value;
use uuid::Uuid;

use crate::charter::Section;
use crate::edit::{ClientKey, Effect, Verdict, VerdictKind};
use crate::op::{Op, Unread};
use crate::patch::Patch;
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::references::{Holder, Link};
use crate::sequence::{Anchored, View};
use crate::state::Stamp;
use crate::suggest::nearest;
use crate::wanted::Way;

mod changes;
mod counter;
mod list;
mod map;
mod record;
mod register;
mod set;
mod text;

pub use record::Fields;
pub(crate) use record::Record;

/// What a kind of field does. `rest` is what remains of a path once it has led to the field.
pub(crate) trait Kind: Sized + Clone + Debug {
    /// What the state holds for such a field.
    type Cell: Clone + Debug + PartialEq + Serialize + DeserializeOwned;

    /// Reads the declaration. Faults go to the section; a field that has some is still returned, so
    /// that all faults of a charter are found in one go.
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
    fn settle(
        &self,
        cell: &Self::Cell,
        rest: &[String],
        site: &Site<'_>,
    ) -> Result<Settlement, Problem>;

    /// Does what a settled effect says and tells by how many bytes of plain JSON that made the
    /// state larger. Fails only where the effect belongs to another state.
    fn apply(
        &self,
        cell: &mut Self::Cell,
        rest: &[String],
        effect: &Effect,
        stamp: Stamp,
    ) -> Result<Growth, String>;

    /// The updates by other clients that `site`'s proposer had not seen and whose work stands in
    /// this cell.
    fn met(&self, cell: &Self::Cell, site: &Site<'_>, met: &mut Vec<u64>);

    /// Writes what a settled effect does to the plain value, which is told before the effect is
    /// applied. Cost as applying it, and for a text O(its length), since a patch has no splices.
    fn patch(
        &self,
        cell: &Self::Cell,
        rest: &[String],
        effect: &Effect,
        patch: &mut Patch,
    ) -> Option<()>;

    /// The edits that lead from one plain value to another; a problem where the field cannot have
    /// that one.
    fn wanted(&self, was: &Value, now: &Value, way: &mut Way) -> Result<(), Problem>;

    /// The field to which `rest`, which is not empty, leads further in.
    fn find<'c>(
        &'c self,
        _cell: &'c Self::Cell,
        _rest: &[String],
    ) -> Option<(&'c Field, &'c Cell)> {
        None
    }

    /// The fields of the records in it.
    fn each(&self) -> Option<&Fields> {
        None
    }

    /// Whether the service fills it in and nobody else.
    fn is_filled(&self) -> bool {
        false
    }

    /// Goes on with a walk that has come to this cell and leads further in.
    fn walk(&self, _cell: &Self::Cell, _walk: &mut Walk<'_>) {}

    /// The references that are declared at or inside the field, to which `steps` have led.
    fn links(
        &self,
        _steps: &mut Vec<Option<String>>,
        _holder: Option<Holder>,
        _links: &mut Vec<Link>,
    ) {
    }
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
    /// What it asks for.
    pub(crate) op: &'a Result<Op, Unread>,
    /// Its path.
    pub(crate) path: &'a Path,
    /// Its index in the proposal.
    pub(crate) index: usize,
    /// Number of the proposal.
    pub(crate) n: u64,
    /// The client that proposes.
    pub(crate) client: ClientKey,
    /// What the proposer had applied.
    pub(crate) seen: u64,
    /// Whether an earlier proposal of the client was refused without it knowing that when it made
    /// this one.
    pub(crate) follows_refused: bool,
}

/// What settling one edit gives.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Settlement {
    pub(crate) effects: Vec<Effect>,
    pub(crate) verdict: Verdict,
}

impl Site<'_> {
    /// Whether `stamp` is by another client and was not seen by the proposer. What a client itself
    /// did earlier is part of its own view, seen or not.
    pub(crate) fn is_concurrent(&self, stamp: Stamp) -> bool {
        stamp.seq > self.seen && stamp.client != self.client
    }

    /// The id of an element whose proposer gave none: derived from client, number and index, so
    /// that a journal that is made again has the same.
    pub(crate) fn made_id(&self) -> String {
        Uuid::new_v5(&self.client.id(), format!("{}/{}", self.n, self.index).as_bytes()).to_string()
    }

    /// The operation, where it can be read; `what` has the operations that it takes.
    pub(crate) fn op(&self, what: &str, known: &[&str]) -> Result<&Op, Problem> {
        match self.op {
            Ok(op) => Ok(op),
            Err(Unread::Name(name)) => Err(self.no_op(name, what, known)),
            // One that the field does not have is that first, whatever its members.
            Err(Unread::Member(name, _)) if !known.contains(name) => {
                Err(self.no_op(name, what, known))
            }
            Err(Unread::Member(_, problem)) => Err(problem.clone()),
        }
    }

    /// The refusal of an operation that the field does not have.
    pub(crate) fn unknown_op(&self, what: &str, known: &[&str]) -> Problem {
        let name = match self.op {
            Ok(op) => op.name(),
            Err(Unread::Member(name, _)) => name,
            Err(Unread::Name(name)) => name,
        };
        self.no_op(name, what, known)
    }

    fn no_op(&self, name: &str, what: &str, known: &[&str]) -> Problem {
        Problem::new(
            ProblemKind::UnknownOp,
            format!("{what} has no \"{name}\"; it takes {}.", known.join(", ")),
        )
        .at(self.path)
        .did_you_mean(nearest(name, known.iter().copied()))
    }

    /// Refuses what is positioned on top of a refused proposal: its positions mean nothing.
    pub(crate) fn is_on_firm_ground(&self) -> Result<(), Problem> {
        if !self.follows_refused {
            return Ok(());
        }
        let detail = "An earlier proposal of this client was refused, and this one counts \
            positions on top of it. Make it anew against what is there.";
        Err(Problem::new(ProblemKind::FollowsRefused, detail).at(self.path))
    }

    /// The refusal of positions in a text or list that came back with its record after what the
    /// proposer had seen.
    pub(crate) fn came_back(&self, at: &Path) -> Problem {
        let detail = format!(
            "{at} came back with its record after what you had seen ({}). Look at it and decide \
             again.",
            self.seen
        );
        Problem::new(ProblemKind::Stale, detail).at(self.path)
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

    /// An operation that takes effect at the path as it is.
    pub(crate) fn applied(&self, op: Op) -> Settlement {
        Settlement {
            effects: vec![Effect::new(self.path, op)],
            verdict: self.verdict(
                VerdictKind::Applied,
                vec![],
                "Nothing concurrent was in its way.",
            ),
        }
    }

    pub(crate) fn verdict(
        &self,
        verdict: VerdictKind,
        met: Vec<u64>,
        because: impl Into<String>,
    ) -> Verdict {
        Verdict {
            edit: self.index,
            at: self.path.to_string(),
            verdict,
            met,
            because: because.into(),
            lost: None,
        }
    }
}

macro_rules! kinds {
    ($($Variant:ident $module:ident $name:literal;)*) => {
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

            pub(crate) fn patch(&self, cell: &Cell, rest: &[String], effect: &Effect, patch: &mut Patch) -> Option<()> {
                match (self, cell) { $((Self::$Variant(field), Cell::$Variant(cell)) => field.patch(cell, rest, effect, patch),)* _ => None }
            }

            pub(crate) fn wanted(&self, was: &Value, now: &Value, way: &mut Way) -> Result<(), Problem> {
                match self { $(Self::$Variant(field) => field.wanted(was, now, way)),* }
            }

            pub(crate) fn find<'c>(&'c self, cell: &'c Cell, rest: &[String]) -> Option<(&'c Field, &'c Cell)> {
                if rest.is_empty() {
                    return Some((self, cell));
                }
                match (self, cell) { $((Self::$Variant(field), Cell::$Variant(cell)) => field.find(cell, rest),)* _ => None }
            }

            /// The fields of the records in it, where it is a map or list of records.
            pub fn each(&self) -> Option<&Fields> {
                match self { $(Self::$Variant(field) => field.each()),* }
            }

            /// Whether the service fills it in and nobody else.
            pub(crate) fn is_filled(&self) -> bool {
                match self { $(Self::$Variant(field) => field.is_filled()),* }
            }

            pub(crate) fn links(&self, steps: &mut Vec<Option<String>>, holder: Option<Holder>, links: &mut Vec<Link>) {
                match self { $(Self::$Variant(field) => field.links(steps, holder, links)),* }
            }

            pub(crate) fn walk(&self, cell: &Cell, walk: &mut Walk<'_>) {
                if walk.steps.is_empty() {
                    return (walk.visit)(&walk.path, &self.plain(cell));
                }
                match (self, cell) { $((Self::$Variant(field), Cell::$Variant(cell)) => field.walk(cell, walk),)* _ => () }
            }
        }
    };
}

const MISMATCH: &str = "The stored state is of another kind than the charter declares.";

kinds! {
    Register register "register";
    Counter  counter  "counter";
    List     list     "list";
    Map      map      "map";
    Set      set      "set";
    Text     text     "text";
}

/// A way through the state along steps, each a name or any id, to the plain values at its ends.
pub(crate) struct Walk<'w> {
    steps: &'w [Option<String>],
    path: Vec<String>,
    visit: &'w mut dyn FnMut(&[String], &Value),
}

impl Walk<'_> {
    /// Visits every value to which the steps lead. Cost O(what they lead through).
    pub(crate) fn over(
        fields: &Fields,
        root: &Record,
        steps: &[Option<String>],
        visit: &mut dyn FnMut(&[String], &Value),
    ) {
        fields.walk(root, &mut Walk { steps, path: Vec::new(), visit });
    }

    fn step(&mut self, token: &str, go_on: impl FnOnce(&mut Walk<'_>)) {
        self.path.push(token.to_owned());
        let mut further = Walk {
            steps: &self.steps[1..],
            path: std::mem::take(&mut self.path),
            visit: &mut *self.visit,
        };
        go_on(&mut further);
        self.path = further.path;
        self.path.pop();
    }

    /// Through one element or all of them.
    fn each<'c, E: 'c, I: Iterator<Item = (&'c str, &'c E)>>(
        &mut self,
        one: impl Fn(&str) -> Option<(&'c str, &'c E)>,
        all: impl Fn() -> I,
        go_on: impl Fn(&'c E, &mut Walk<'_>),
    ) {
        match self.steps.first() {
            None => {}
            Some(Some(id)) => {
                if let Some((id, element)) = one(id) {
                    self.step(id, |walk| go_on(element, walk));
                }
            }
            Some(None) => {
                all().for_each(|(id, element)| self.step(id, |walk| go_on(element, walk)))
            }
        }
    }
}

/// Characters that an id has at most.
const ID_CHARS: usize = 128;

/// The path of the record or element `id` of the map or list at `path`.
pub(crate) fn inner(path: &Path, id: &str) -> Path {
    Path::of(path.tokens().iter().cloned().chain([id.to_owned()]))
}

/// `path` without its last `levels` tokens.
pub(crate) fn parent(path: &Path, levels: usize) -> Path {
    Path::of(path.tokens()[..path.tokens().len().saturating_sub(levels)].iter().cloned())
}

pub(crate) fn listed(seqs: &[u64]) -> String {
    let word = if seqs.len() == 1 { "update" } else { "updates" };
    let list: Vec<_> = seqs.iter().map(u64::to_string).collect();
    format!("{word} {}", list.join(", "))
}

pub(crate) fn checked_id(id: &Value) -> Result<&str, Problem> {
    let text = id.as_str().filter(|id| {
        !id.is_empty() && id.chars().count() <= ID_CHARS && !id.chars().any(char::is_control)
    });
    text.ok_or_else(|| {
        let detail =
            format!("An id is a string of 1 to {ID_CHARS} characters without control characters.");
        Problem::new(ProblemKind::WrongType, detail)
    })
}

impl Field {
    /// Whether its value is a value and no collection: what an expression may read of the state.
    pub(crate) fn is_small(&self) -> bool {
        matches!(self, Self::Register(_) | Self::Counter(_))
    }

    /// Where the character is now that a view sees at an index of a text; `None` for any other
    /// kind, and beyond the end.
    pub(crate) fn anchored(&self, cell: &Cell, view: View, index: usize) -> Option<Anchored> {
        match cell {
            Cell::Text(cell) => cell.anchored(view, index),
            _ => None,
        }
    }
}

/// The refusal of a stored effect that a kind does not have.
pub(crate) fn stored_op(effect: &Effect) -> String {
    format!("no effect {:?}", effect.op.name())
}

/// A value as it reads in a sentence: shortened, quoted as JSON.
pub(crate) fn shown(value: &Value) -> String {
    let text = value.to_string();
    match text.char_indices().nth(40) {
        None => text,
        Some((end, _)) => format!("{}…", &text[..end]),
    }
}
