//! `register`: one JSON value that is set as a whole.
//!
//! What happens to concurrent sets is declared by `merge`:
//!
//! | rule | of two concurrent sets |
//! |---|---|
//! | `last` | the later in order stands |
//! | `first` | the earlier in order stands, the later is dropped |
//! | `max`, `min` | the larger, the smaller stands, by value or by a named `member` |
//! | `all` | both stand side by side until somebody who has seen them sets one |
//! | `unchanged` | the later is refused with the present value |

use std::borrow::Cow;
use std::cmp::Ordering;
use std::sync::Arc;

use jsonschema::error::ValidationErrorKind;
use jsonschema::{ValidationError, Validator};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use smallvec::{SmallVec, smallvec};

use super::changes::Latest;
use super::edit_context::{shown, stored_op};
use super::link::Reference;
use super::{
    Applying, Before, Declared, EditContext, Holder, InTheWay, Inverse, Kind, KindWords, Link,
    Loading, Memory, Settlement, TakenBack, TakingBack, Was,
};
use crate::canonical::is_same;
use crate::declaration::{Section, check_schema};
use crate::op::Op;
use crate::patch::Patch;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::rewrite::Rewrite;
use crate::stamp::Stamp;
use crate::surface::Surface;
use crate::update::{Effect, VerdictKind};

/// A declared register.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    schema: Option<Arc<Validator>>,
    initial: Value,
    merge: Merge,
    refers: Option<Reference>,
    surface: Option<Surface>,
    is_author: bool,
}

#[derive(Clone, Debug, PartialEq)]
enum Merge {
    Last,
    First,
    Greater(Extreme, Option<String>),
    All,
    Unchanged,
}

/// Which of two values a `max` or `min` register keeps.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Extreme {
    Larger,
    Smaller,
}

/// The values that stand, each with the update that set it: at most one but for `all`; none while
/// unset.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Cell {
    values: SmallVec<[(Arc<Value>, Stamp); 1]>,
    changed: Latest,
    /// Whose work stands, where an undo brought it back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    whose: Option<u64>,
}

impl Cell {
    fn whose(&self) -> u64 {
        self.whose.unwrap_or(self.changed.stamp.seq)
    }
}

impl Field {
    /// One that takes any value.
    pub(super) fn plain() -> Self {
        Self {
            schema: None,
            initial: Value::Null,
            merge: Merge::Last,
            refers: None,
            surface: None,
            is_author: false,
        }
    }

    fn check(&self, at: &Path, value: &Value) -> Result<(), Problem> {
        if value.is_null() {
            return Err(Problem::new(
                ProblemKind::WrongType,
                "null stands for unset: send \"clear\" in place of \"set\".",
            )
            .at(at));
        }
        if self.refers.is_some() && !value.is_string() {
            return Err(Problem::new(
                ProblemKind::WrongType,
                "A reference is the id of a record, a string.",
            )
            .at(at));
        }
        self.surface.iter().try_for_each(|surface| surface.check(at, value))?;
        match &self.schema {
            Some(schema) => check_schema(schema, at, value),
            None => Ok(()),
        }
    }

    /// The value or member by which `max` and `min` compare.
    fn key<'v>(&self, at: &Path, value: &'v Value) -> Result<Option<&'v Value>, Problem> {
        let Merge::Greater(_, member) = &self.merge else { return Ok(None) };
        let key = member.as_ref().map_or(Some(value), |member| value.get(member));
        match key {
            Some(key @ (Value::Number(_) | Value::String(_))) => Ok(Some(key)),
            _ => {
                let what = member
                    .as_ref()
                    .map_or("the value".to_owned(), |member| format!("its member {member:?}"));
                let detail = format!(
                    "{at} keeps the largest or smallest, so {what} must be a number or a string."
                );
                Err(Problem::new(ProblemKind::WrongType, detail).at(at))
            }
        }
    }

    /// What stands, as it is shown; a copy only where several values stand side by side.
    fn present<'c>(&self, cell: &'c Cell) -> Cow<'c, Value> {
        match (&self.merge, cell.values.first()) {
            (Merge::All, _) => {
                let values = cell.values.iter().map(|(value, _)| (**value).clone());
                Cow::Owned(Value::Array(values.collect()))
            }
            (_, Some((value, _))) => Cow::Borrowed(value),
            (_, None) => Cow::Owned(Value::Null),
        }
    }

    /// The change that a set or clear meets. Of `max` and `min` one's own set does not hide what
    /// another had set before: of concurrent values the larger stands.
    fn concurrent(&self, cell: &Cell, site: &EditContext<'_>) -> Option<Stamp> {
        match self.merge {
            Merge::Greater(..) => cell.changed.concurrent(site),
            _ => Some(cell.changed.stamp).filter(|stamp| site.is_concurrent(*stamp)),
        }
    }

    fn set(
        &self,
        cell: &Cell,
        site: &EditContext<'_>,
        value: &Arc<Value>,
    ) -> Result<Settlement, Problem> {
        let plain = site.applied(Op::Set(value.clone()));
        let Some(changed) = self.concurrent(cell, site) else { return Ok(plain) };
        let met = vec![changed.seq];
        let (seq, present) = (cell.changed.stamp.seq, self.plain(cell));
        let overrode = |because: String| {
            let mut verdict = site.verdict(VerdictKind::Overrode, met.clone(), because);
            verdict.lost = Some(present.clone());
            Settlement { effects: plain.effects.clone(), verdict }
        };
        let dropped = |because: String| {
            let mut verdict = site.verdict(VerdictKind::Dropped, met.clone(), because);
            verdict.lost = Some((**value).clone());
            Settlement { effects: smallvec![], verdict }
        };
        Ok(match &self.merge {
            Merge::First => dropped(format!(
                "Update {seq}, which the proposer had not seen, came first with {}; the first \
                 stands.",
                shown(&present)
            )),
            Merge::Greater(extreme, _) => {
                let (name, order) = match extreme {
                    Extreme::Larger => ("larger", Ordering::Greater),
                    Extreme::Smaller => ("smaller", Ordering::Less),
                };
                let standing = self.key(site.path, &present).ok().flatten();
                let mine = self.key(site.path, value)?;
                let Some(standing) = standing else {
                    let because = format!("It stands where update {seq} had left nothing.");
                    return Ok(overrode(because));
                };
                let is_it = mine.and_then(|mine| compare(mine, standing)) == Some(order);
                let of = format!("{} of update {seq}; the {name} stands.", shown(&present));
                if is_it {
                    overrode(format!("It is {name} than {of}"))
                } else {
                    dropped(format!("It is not {name} than {of}"))
                }
            }
            Merge::Last | Merge::All | Merge::Unchanged => overrode(format!(
                "It replaced {} of update {seq}, which the proposer had not seen; the later stands.",
                shown(&present)
            )),
        })
    }

    /// A set or clear of a register that keeps concurrent values side by side: what the proposer
    /// had seen goes, what they had not stays.
    fn set_beside(&self, cell: &Cell, site: &EditContext<'_>, value: Option<&Value>) -> Settlement {
        let kept = || cell.values.iter().filter(|(_, stamp)| site.is_concurrent(*stamp));
        let mut values: Vec<Value> = kept().map(|(kept, _)| (**kept).clone()).collect();
        values.extend(value.filter(|value| kept().all(|(kept, _)| !is_same(kept, value))).cloned());
        let met: Vec<u64> = kept().map(|(_, stamp)| stamp.seq).collect();
        let mut settlement = site.applied(Op::SetBeside { values, value: value.cloned() });
        if !met.is_empty() {
            let because =
                "Values that the proposer had not seen stay beside it until somebody picks one.";
            settlement.verdict = site.verdict(VerdictKind::Merged, met, because);
        }
        settlement
    }
}

/// Numbers by size, strings by their characters; values of different types do not compare.
fn compare(one: &Value, other: &Value) -> Option<Ordering> {
    match (one, other) {
        (Value::String(one), Value::String(other)) => Some(one.cmp(other)),
        _ => one.as_f64()?.partial_cmp(&other.as_f64()?),
    }
}

impl Kind for Field {
    type Cell = Cell;
    const WORDS: KindWords = KindWords { name: "register", takes: &["set", "clear"], inside: &[] };
    fn excludes_type(&self, sample: &Value) -> bool {
        let is_of_whole = |error: ValidationError<'_>| {
            matches!(error.kind(), ValidationErrorKind::Type { .. })
                && error.instance_path().as_str().is_empty()
        };
        let schema = self.schema.as_ref();
        schema.is_some_and(|schema| schema.iter_errors(sample).any(is_of_whole))
    }

    fn is_of_play(&self) -> bool {
        false
    }

    fn declare(section: &mut Section<'_>, declared: &Declared) -> Self {
        let schema = section.schema("schema");
        let merge = match section
            .choice("merge", &["last", "first", "max", "min", "all", "unchanged"], "last")
            .as_str()
        {
            "first" => Merge::First,
            "max" => Merge::Greater(Extreme::Larger, section.text("member")),
            "min" => Merge::Greater(Extreme::Smaller, section.text("member")),
            "all" => Merge::All,
            "unchanged" => Merge::Unchanged,
            _ => Merge::Last,
        };
        let surface =
            section.has("surface").then(|| Surface::named(section, "surface", &declared.surfaces));
        let surface = surface.flatten();
        let is_author = section.has("filled") && section.one_of("filled", &["author"]).is_some();
        let refers = Reference::declare(section, "refers");
        if refers.is_some() && merge == Merge::All {
            section.fault_at(
                "merge",
                "a rule that keeps one value, since it refers to one record",
                None,
            );
        }
        let initial = section.json("initial").unwrap_or(Value::Null);
        let field = Self { schema, initial: Value::Null, merge, refers, surface, is_author };
        let faulty = !initial.is_null()
            && field.load(&Path::of(["initial"]), &initial, Loading::ASKED).is_err();
        if faulty {
            section.fault_at(
                "initial",
                "a value that the field's own schema and merge rule accept",
                None,
            );
        }
        Self { initial, ..field }
    }

    fn initial(&self, stamp: Stamp) -> Cell {
        self.load(&Path::of::<String>([]), &self.initial, Loading::settled(stamp)).unwrap_or(Cell {
            values: smallvec![],
            changed: Latest::of(stamp),
            whose: None,
        })
    }

    fn load(&self, at: &Path, plain: &Value, loading: Loading) -> Result<Cell, Problem> {
        let values = match (&self.merge, plain) {
            (_, Value::Null) => vec![],
            (Merge::All, Value::Array(values)) => values.clone(),
            (Merge::All, _) => {
                let detail =
                    format!("{at} keeps values side by side and is given as an array of them.");
                return Err(Problem::new(ProblemKind::WrongType, detail).at(at));
            }
            (_, value) => vec![value.clone()],
        };
        loading.check(|| {
            values.iter().try_for_each(|value| {
                self.check(at, value)?;
                self.key(at, value).map(drop)
            })
        })?;
        let stamp = loading.stamp;
        Ok(Cell {
            values: values.into_iter().map(|value| (Arc::new(value), stamp)).collect(),
            changed: Latest::of(stamp),
            whose: None,
        })
    }

    fn plain(&self, cell: &Cell) -> Value {
        self.present(cell).into_owned()
    }

    fn settle(
        &self,
        cell: &Cell,
        rest: &[Token],
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
        site.leaf(rest, "register")?;
        let value = match site.op("A register", Self::WORDS.takes)? {
            Op::Set(value) => {
                self.check(site.path, value)?;
                self.key(site.path, value)?;
                Some(value)
            }
            Op::Clear => None,
            _ => return Err(site.unknown_op("A register", Self::WORDS.takes)),
        };
        match self.merge {
            Merge::All => return Ok(self.set_beside(cell, site, value.map(|value| &**value))),
            Merge::Unchanged if site.is_concurrent(cell.changed.stamp) => {
                let seq = cell.changed.stamp.seq;
                let detail = format!(
                    "{} was changed by update {} after what you had seen ({}). Look at the \
                     present value and decide again.",
                    site.path, seq, site.seen
                );
                return Err(Problem::new(ProblemKind::Stale, detail)
                    .at(site.path)
                    .current(self.plain(cell))
                    .with("changed_by_seq", seq));
            }
            _ => {}
        }
        if let Some(value) = value {
            return self.set(cell, site, value);
        }
        let mut settlement = site.applied(Op::Clear);
        if let Some(changed) = self.concurrent(cell, site) {
            let (seq, present) = (changed.seq, self.plain(cell));
            // An empty register has no size, so `max` and `min` keep what is there, as `first`
            // does.
            let is_kept = matches!(self.merge, Merge::First | Merge::Greater(..));
            let (kind, outcome) = if is_kept {
                settlement.effects.clear();
                (VerdictKind::Dropped, "stays")
            } else {
                (VerdictKind::Overrode, "was cleared")
            };
            let because = format!(
                "{} of update {seq}, which the proposer had not seen, {outcome}.",
                shown(&present)
            );
            settlement.verdict = site.verdict(kind, vec![seq], because);
            settlement.verdict.lost = (!is_kept).then_some(present);
        }
        Ok(settlement)
    }

    fn apply(
        &self,
        cell: &mut Cell,
        _rest: &[Token],
        effect: &Effect,
        applying: &mut Applying<'_>,
    ) -> Result<(), String> {
        let stamp = applying.stamp;
        let values = match &effect.op {
            Op::Set(value) => smallvec![(value.clone(), stamp)],
            Op::SetBeside { values, value: new } => {
                // What stays beside the new value keeps the stamp under which it was set.
                let known = |value: &Value| {
                    cell.values
                        .iter()
                        .find(|(known, _)| **known == *value && new.as_ref() != Some(value))
                        .cloned()
                };
                values
                    .iter()
                    .map(|value| known(value).unwrap_or_else(|| (Arc::new(value.clone()), stamp)))
                    .collect()
            }
            Op::Clear => smallvec![],
            _ => return Err(stored_op(effect)),
        };
        let next = Cell { values, changed: cell.changed.then(stamp), whose: effect.restores };
        applying.grow_to(&self.present(cell), &self.present(&next));
        *cell = next;
        Ok(())
    }

    fn patch(
        &self,
        _cell: &Cell,
        _rest: &[Token],
        effect: &Effect,
        patch: &mut Patch,
    ) -> Option<()> {
        patch.replace(match &effect.op {
            Op::Set(value) => (**value).clone(),
            Op::SetBeside { values, .. } => values.clone().into(),
            Op::Clear => Value::Null,
            _ => return None,
        });
        Some(())
    }

    fn before(&self, cell: &Cell, _rest: &[Token], _effect: &Effect, _memory: &Memory) -> Before {
        let values = cell.values.iter().map(|(value, _)| value.clone());
        Before::here(Was::Values(values.collect(), cell.whose()))
    }

    fn take_back(&self, cell: &Cell, _rest: &[Token], taking: &TakingBack<'_>) -> TakenBack {
        let taken = taking.taken;
        let Was::Values(values, whose) = &taken.was else { return Ok(Inverse::default()) };
        if cell.whose() != taken.left {
            return Err(InTheWay::changed(cell.changed.stamp.seq));
        }
        let op = match (&self.merge, values.first()) {
            (Merge::All, _) => {
                let values = values.iter().map(|value| (**value).clone()).collect();
                Op::SetBeside { values, value: None }
            }
            (_, Some(value)) => Op::Set(value.clone()),
            (_, None) => Op::Clear,
        };
        Ok(taking.effect(&taken.at, op, *whose))
    }

    fn latest(&self, cell: &Cell, _rest: &[Token]) -> u64 {
        cell.changed.stamp.seq
    }

    fn is_small(&self) -> bool {
        true
    }

    fn is_filled(&self) -> bool {
        self.is_author
    }

    fn links(&self, steps: &mut Vec<Option<Token>>, holder: Option<Holder>, links: &mut Vec<Link>) {
        links.extend(self.refers.clone().map(|reference| Link {
            steps: steps.clone(),
            holder,
            reference,
        }));
    }

    fn rewrite(&self, was: &Value, now: &Value, rewrite: &mut Rewrite) -> Result<(), Problem> {
        if is_same(was, now) {
            return Ok(());
        }
        let now = match (&self.merge, now) {
            (Merge::All, Value::Array(values)) if values.len() > 1 => {
                return Err(rewrite
                    .unfit("takes one value, in the place of those that stand side by side."));
            }
            (Merge::All, Value::Array(values)) => values.first().unwrap_or(&Value::Null),
            (_, now) => now,
        };
        let edit = if now.is_null() {
            rewrite.edit("clear")
        } else {
            rewrite.edit("set").with("value", now.clone())
        };
        rewrite.push(edit);
        Ok(())
    }

    fn met(&self, cell: &Cell, site: &EditContext<'_>, met: &mut Vec<u64>) {
        met.extend(self.concurrent(cell, site).map(|stamp| stamp.seq));
    }
}
