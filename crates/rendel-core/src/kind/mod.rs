//! The kinds of fields. Each is one file: what it stores, its edits, its merge rule, its effects.
//!
//! Adding a kind is adding a file and one line in the [`kinds!`] table. The file has a `Field`
//! (what the charter declares, an implementation of [`Kind`]) and a `Cell` (what the state holds).

use std::fmt::Debug;

use serde::{Deserialize, Serialize, de::DeserializeOwned};
use serde_json::Value;

use crate::declaration::Section;
use crate::patch::Patch;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::rewrite::Rewrite;
use crate::sequence::{Anchored, View};
use crate::stamp::Stamp;
use crate::surface::Surfaces;
use crate::update::Effect;

mod ballot;
mod changes;
mod clock;
mod counter;
mod deadline;
mod edit_context;
mod link;
mod list;
mod map;
mod memory;
mod random;
mod record;
mod register;
mod ruled;
mod seats;
mod set;
mod text;
mod total;
mod turn;
mod undo;
mod walk;

pub(crate) use ballot::{Cell as BallotCell, Field as BallotField, Votes};
pub(crate) use deadline::{Cell as DeadlineCell, Field as DeadlineField};
pub(crate) use edit_context::{Applying, EditContext, Settlement, listed};
pub(crate) use link::{Holder, Link, OnDrop};
pub(crate) use memory::{Memory, MemoryLimits};
pub(crate) use random::{Cell as RandomCell, Field as RandomField};
pub use random::{Chance, Draw, DrawKey, Entropy};
pub use record::Fields;
pub(crate) use record::Record;
pub(crate) use record::{CHOICE, ballot_records};
pub(crate) use seats::{Cell as Seats, Field as SeatsField};
pub(crate) use turn::{Cell as TurnCell, Field as TurnField};
pub(crate) use undo::{Before, InTheWay, Inverse, Taken, TakenBack, TakingBack, Was};
pub(crate) use walk::Walk;

/// What a kind is called and which operations its fields take.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct KindWords {
    /// What `kind = "…"` says in a charter.
    pub name: &'static str,
    /// The operations on a field.
    pub takes: &'static [&'static str],
    /// The operations on a record or element in it.
    pub inside: &'static [&'static str],
}

/// What a declaration may refer to, and how much of what goes is remembered.
#[derive(Clone, Debug, Default)]
pub(crate) struct Declared {
    pub(crate) surfaces: Surfaces,
}

/// What a kind of field does. `rest` is what remains of a path once it has led to the field.
pub(crate) trait Kind: Sized + Clone + Debug {
    /// What the state holds for such a field.
    type Cell: Clone + Debug + PartialEq + Serialize + DeserializeOwned;

    /// Its name and its operations.
    const WORDS: KindWords;

    /// Reads the declaration. Faults go to the section; a field that has some is still returned, so
    /// that all faults of a charter are found in one go.
    fn declare(section: &mut Section<'_>, declared: &Declared) -> Self;

    /// The cell of a field for which no value was given, in a record that came with `stamp`.
    fn initial(&self, stamp: Stamp) -> Self::Cell;

    /// A cell with a plain value, as it comes in opening data and in the `value` of a `put`.
    fn load(&self, at: &Path, plain: &Value, loading: Loading) -> Result<Self::Cell, Problem>;

    /// The plain value of a cell.
    fn plain(&self, cell: &Self::Cell) -> Value;

    /// The plain value of what lies `rest` below a cell.
    fn plain_at(&self, cell: &Self::Cell, rest: &[Token]) -> Option<Value> {
        rest.is_empty().then(|| self.plain(cell))
    }

    /// What an edit would do to the cell: effects in final form and a verdict. Changes nothing.
    fn settle(
        &self,
        cell: &Self::Cell,
        rest: &[Token],
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem>;

    /// Does what a settled effect says. Fails only where the effect belongs to another state.
    fn apply(
        &self,
        cell: &mut Self::Cell,
        rest: &[Token],
        effect: &Effect,
        applying: &mut Applying<'_>,
    ) -> Result<(), String>;

    /// The updates by other clients that `site`'s proposer had not seen and whose work stands in
    /// this cell.
    fn met(&self, cell: &Self::Cell, site: &EditContext<'_>, met: &mut Vec<u64>);

    /// Writes what a settled effect does to the plain value, which is told before the effect is
    /// applied. Cost as applying it, and for a text O(its length), since a patch has no splices.
    fn patch(
        &self,
        cell: &Self::Cell,
        rest: &[Token],
        effect: &Effect,
        patch: &mut Patch,
    ) -> Option<()>;

    /// The edits that lead from one plain value to another; a problem where the field cannot have
    /// that one.
    fn rewrite(&self, was: &Value, now: &Value, rewrite: &mut Rewrite) -> Result<(), Problem>;

    /// The field to which `rest`, which is not empty, leads further in.
    fn find<'c>(&'c self, _cell: &'c Self::Cell, _rest: &[Token]) -> Option<(&'c Field, &'c Cell)> {
        None
    }

    /// Whether something is `rest` below a cell. Cost O(path × log size).
    fn has(&self, _cell: &Self::Cell, rest: &[Token]) -> bool {
        rest.is_empty()
    }

    /// The fields of the records in it.
    fn each(&self) -> Option<&Fields> {
        None
    }

    /// How many records or elements it has at most, where it is a collection.
    fn most(&self) -> Option<usize> {
        None
    }

    /// Whether no value of the type of this one can be set.
    fn excludes_type(&self, _sample: &Value) -> bool {
        false
    }

    /// Whether it is a list to which elements are only added.
    fn only_grows(&self) -> bool {
        false
    }

    /// Whether it has elements that are plain values, each with a path of its own.
    fn has_plain_elements(&self) -> bool {
        false
    }

    /// Whether its value is a value and no collection: what an expression may read of the state.
    fn is_small(&self) -> bool {
        false
    }

    /// Whether the service fills it in and nobody else.
    fn is_filled(&self) -> bool {
        false
    }

    /// Whether each participant has one record in it, under their id and theirs alone.
    fn is_own(&self) -> bool {
        false
    }

    /// Where the character is now that a view sees at an index of a text; `None` beyond its end.
    fn anchored(&self, _cell: &Self::Cell, _view: View, _index: usize) -> Option<Anchored> {
        None
    }

    /// Goes on with a walk that has come to this cell and leads further in.
    fn walk(&self, _cell: &Self::Cell, _walk: &mut Walk<'_>) {}

    /// The references that are declared at or inside the field, to which `steps` have led.
    fn links(
        &self,
        _steps: &mut Vec<Option<Token>>,
        _holder: Option<Holder>,
        _links: &mut Vec<Link>,
    ) {
    }

    /// Whether it keeps rules of play: then it is changed by its own operations alone, and undo, revert
    /// and documents leave it as it is.
    fn is_of_play(&self) -> bool {
        true
    }

    /// Whether `rest` below a cell leads to another field.
    fn is_deeper(&self, _rest: &[Token]) -> bool {
        false
    }

    /// What an effect finds here, so that it can be taken back; asked right before it is applied.
    fn before(&self, _cell: &Self::Cell, _rest: &[Token], _effect: &Effect, _: &Memory) -> Before {
        Before::Never
    }

    /// What takes a change back as things are now. Changes nothing. Cost as that of the change, for
    /// a text O(its runs).
    fn take_back(&self, _cell: &Self::Cell, _rest: &[Token], _: &TakingBack<'_>) -> TakenBack {
        Ok(Inverse::default())
    }

    /// The update that last changed the value `rest` below a cell; 0 if that is unknown.
    fn latest(&self, _cell: &Self::Cell, _rest: &[Token]) -> u64 {
        0
    }

    /// Forgets what was removed up to an update of the text or list `rest` below, and who inserted
    /// what before; gives whether it remembers something later.
    fn forget(&self, _cell: &mut Self::Cell, _rest: &[Token], _horizon: u64) -> bool {
        false
    }
}

/// When a value comes, and whether it was settled before: then it is taken as it is, since rules of
/// today say nothing about what yesterday's have let pass.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Loading {
    pub(crate) stamp: Stamp,
    pub(crate) is_settled: bool,
}

impl Loading {
    /// Of what is asked for.
    pub(crate) const ASKED: Self = Self { stamp: Stamp::OPENING, is_settled: false };

    /// Of what was settled.
    pub(crate) fn settled(stamp: Stamp) -> Self {
        Self { stamp, is_settled: true }
    }

    /// What `check` says, of what is asked for.
    pub(crate) fn check(self, check: impl FnOnce() -> Result<(), Problem>) -> Result<(), Problem> {
        if self.is_settled { Ok(()) } else { check() }
    }
}

/// Does the same with a field and its cell, whatever their kind.
macro_rules! of_one_kind {
    ($Variants:tt, $field:expr, $cell:expr, |$f:ident, $c:ident| $does:expr, else $other:expr) => {
        of_one_kind!(@ $Variants ($field, $cell) $f $c ($does) ($other))
    };
    (@ [$($Variant:ident)*] ($field:expr, $cell:expr) $f:ident $c:ident $does:tt $other:tt) => {
        match ($field, $cell) {
            $((Field::$Variant($f), Cell::$Variant($c)) => $does,)*
            _ => $other,
        }
    };
}

macro_rules! kinds {
    ($($Variant:ident $module:ident;)*) => {
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

        /// All kinds, in the order of their names.
        pub const KINDS: &[KindWords] = &[$(<$module::Field as Kind>::WORDS),*];

        impl Field {
            pub(crate) fn declare(section: &mut Section<'_>, declared: &Declared) -> Option<Self> {
                let names: Vec<&str> = KINDS.iter().map(|kind| kind.name).collect();
                let name = section.one_of("kind", &names)?;
                $(if name == <$module::Field as Kind>::WORDS.name {
                    return Some(Self::$Variant(Kind::declare(section, declared)));
                })*
                None
            }

            /// The name of its kind and its operations.
            pub fn words(&self) -> &'static KindWords {
                match self { $(Self::$Variant(_) => &<$module::Field as Kind>::WORDS),* }
            }

            /// Whether it keeps rules of play, which undo, revert and documents leave as they are.
            pub fn is_of_play(&self) -> bool {
                match self { $(Self::$Variant(field) => field.is_of_play()),* }
            }

            pub(crate) fn initial(&self, stamp: Stamp) -> Cell {
                match self { $(Self::$Variant(field) => Cell::$Variant(field.initial(stamp))),* }
            }

            pub(crate) fn load(
                &self,
                at: &Path,
                plain: &Value,
                loading: Loading,
            ) -> Result<Cell, Problem> {
                match self {
                    $(Self::$Variant(field) => field.load(at, plain, loading).map(Cell::$Variant)),*
                }
            }

            pub(crate) fn rewrite(
                &self,
                was: &Value,
                now: &Value,
                rewrite: &mut Rewrite,
            ) -> Result<(), Problem> {
                match self { $(Self::$Variant(field) => field.rewrite(was, now, rewrite)),* }
            }

            /// The fields of the records in it, where it is a map or list of records.
            pub fn each(&self) -> Option<&Fields> {
                match self { $(Self::$Variant(field) => field.each()),* }
            }

            pub(crate) fn most(&self) -> Option<usize> {
                match self { $(Self::$Variant(field) => field.most()),* }
            }

            pub(crate) fn excludes_type(&self, sample: &Value) -> bool {
                match self { $(Self::$Variant(field) => field.excludes_type(sample)),* }
            }

            pub(crate) fn only_grows(&self) -> bool {
                match self { $(Self::$Variant(field) => field.only_grows()),* }
            }

            pub(crate) fn has_plain_elements(&self) -> bool {
                match self { $(Self::$Variant(field) => field.has_plain_elements()),* }
            }

            pub(crate) fn is_small(&self) -> bool {
                match self { $(Self::$Variant(field) => field.is_small()),* }
            }

            pub(crate) fn is_filled(&self) -> bool {
                match self { $(Self::$Variant(field) => field.is_filled()),* }
            }

            pub(crate) fn is_own(&self) -> bool {
                match self { $(Self::$Variant(field) => field.is_own()),* }
            }

            pub(crate) fn links(
                &self,
                steps: &mut Vec<Option<Token>>,
                holder: Option<Holder>,
                links: &mut Vec<Link>,
            ) {
                match self { $(Self::$Variant(field) => field.links(steps, holder, links)),* }
            }
        }

        kinds!(@cells [$($Variant)*]);
    };
    (@cells $Variants:tt) => {
        impl Field {
            pub(crate) fn plain(&self, cell: &Cell) -> Value {
                of_one_kind!($Variants, self, cell, |field, cell| field.plain(cell), else Value::Null)
            }

            pub(crate) fn plain_at(&self, cell: &Cell, rest: &[Token]) -> Option<Value> {
                of_one_kind!(
                    $Variants, self, cell, |field, cell| field.plain_at(cell, rest), else None
                )
            }

            pub(crate) fn settle(
                &self,
                cell: &Cell,
                rest: &[Token],
                site: &EditContext<'_>,
            ) -> Result<Settlement, Problem> {
                of_one_kind!(
                    $Variants, self, cell, |field, cell| field.settle(cell, rest, site),
                    else Err(Problem::new(ProblemKind::Unavailable, MISMATCH).at(site.path))
                )
            }

            pub(crate) fn apply(
                &self,
                cell: &mut Cell,
                rest: &[Token],
                effect: &Effect,
                applying: &mut Applying<'_>,
            ) -> Result<(), String> {
                of_one_kind!(
                    $Variants, self, cell, |field, cell| {
                        if let Some(before) = applying.before.as_deref_mut()
                            && !field.is_deeper(rest)
                        {
                            *before = field.before(cell, rest, effect, applying.memory);
                        }
                        field.apply(cell, rest, effect, applying)
                    },
                    else Err(MISMATCH.to_owned())
                )
            }

            pub(crate) fn take_back(
                &self,
                cell: &Cell,
                rest: &[Token],
                taking: &TakingBack<'_>,
            ) -> TakenBack {
                of_one_kind!(
                    $Variants, self, cell, |field, cell| field.take_back(cell, rest, taking),
                    else Ok(Inverse::default())
                )
            }

            pub(crate) fn latest(&self, cell: &Cell, rest: &[Token]) -> u64 {
                of_one_kind!($Variants, self, cell, |field, cell| field.latest(cell, rest), else 0)
            }

            pub(crate) fn met(&self, cell: &Cell, site: &EditContext<'_>, met: &mut Vec<u64>) {
                of_one_kind!($Variants, self, cell, |field, cell| field.met(cell, site, met), else ())
            }

            pub(crate) fn patch(
                &self,
                cell: &Cell,
                rest: &[Token],
                effect: &Effect,
                patch: &mut Patch,
            ) -> Option<()> {
                of_one_kind!(
                    $Variants, self, cell, |field, cell| field.patch(cell, rest, effect, patch),
                    else None
                )
            }

            pub(crate) fn find<'c>(
                &'c self,
                cell: &'c Cell,
                rest: &[Token],
            ) -> Option<(&'c Field, &'c Cell)> {
                if rest.is_empty() {
                    return Some((self, cell));
                }
                of_one_kind!($Variants, self, cell, |field, cell| field.find(cell, rest), else None)
            }

            pub(crate) fn has(&self, cell: &Cell, rest: &[Token]) -> bool {
                of_one_kind!($Variants, self, cell, |field, cell| field.has(cell, rest), else false)
            }

            pub(crate) fn anchored(
                &self,
                cell: &Cell,
                view: View,
                index: usize,
            ) -> Option<Anchored> {
                of_one_kind!(
                    $Variants, self, cell, |field, cell| field.anchored(cell, view, index),
                    else None
                )
            }

            pub(crate) fn walk(&self, cell: &Cell, walk: &mut Walk<'_>) {
                if walk.is_there() {
                    return walk.visit(&self.plain(cell));
                }
                of_one_kind!($Variants, self, cell, |field, cell| field.walk(cell, walk), else ())
            }

            pub(crate) fn forget(&self, cell: &mut Cell, rest: &[Token], horizon: u64) -> bool {
                of_one_kind!(
                    $Variants, self, cell, |field, cell| field.forget(cell, rest, horizon),
                    else false
                )
            }
        }
    };
}

const MISMATCH: &str = "The stored state is of another kind than the charter declares.";

kinds! {
    Ballot   ballot;
    Clock    clock;
    Counter  counter;
    Deadline deadline;
    List     list;
    Map      map;
    Random   random;
    Register register;
    Seats    seats;
    Set      set;
    Text     text;
    Total    total;
    Turn     turn;
}
