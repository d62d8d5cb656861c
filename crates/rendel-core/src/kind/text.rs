//! `text`: characters that are spliced.
//!
//! A splice made against `seen` is read in its client's own view and takes effect in present positions: an insert stays at
//! the characters it was typed between, runs typed at one place do not interleave, deletes of the same characters count
//! once, and an insert inside text that another deletes survives. Positions count Unicode scalar values.

use std::sync::Arc;

use ropey::Rope;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::{Value, json};

use super::changes::Changes;
use super::{Growth, Kind, Settlement, Site, growth, listed, stored_op, stored_text};
use crate::charter::Section;
use crate::edit::{Edit, Effect, VerdictKind};
use crate::patch::Patch;
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::sequence::{Anchored, Cut, Sequence, View};
use crate::state::Stamp;

/// A declared text.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    initial: String,
    most: usize,
}

/// The characters, and the order in which they came and went. Behind one pointer, since a record may have many texts.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub(crate) struct Cell(Arc<Inner>);

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
struct Inner {
    #[serde(serialize_with = "write_rope", deserialize_with = "read_rope")]
    text: Rope,
    sequence: Sequence<()>,
    changes: Changes,
}

/// A splice as it is asked for, or as it takes effect.
#[derive(Clone, Copy, Debug)]
struct Splice<'e> {
    index: usize,
    delete: usize,
    insert: &'e str,
}

/// A text of this many characters is as long as one can be.
const MOST: usize = 1_000_000;

impl Field {
    fn has_space(&self, at: &Path, chars: usize) -> Result<(), Problem> {
        if chars <= self.most {
            return Ok(());
        }
        let detail = format!("{at} has at most {} characters; this would make it {chars}.", self.most);
        Err(Problem::new(ProblemKind::Full, detail).at(at))
    }

    fn concurrent(&self, cell: &Inner, site: &Site<'_>, splice: Splice<'_>) -> Result<Settlement, Problem> {
        let view = View { seen: site.seen, client: site.client };
        if site.seen < cell.sequence.horizon() {
            let detail = format!(
                "{} changed so often that a splice made against {} cannot be placed any more; make it against {} or later.",
                site.path,
                site.seen,
                cell.sequence.horizon()
            );
            return Err(Problem::new(ProblemKind::TooOld, detail).at(site.path));
        }
        check_bounds(site, splice, cell.sequence.len(view))?;
        let place = cell.sequence.place(view, splice.index);
        let cut = cell.sequence.cut(view, splice.index, splice.delete);
        let (Some(place), Some(cut)) = (place, cut) else {
            return Err(Problem::new(ProblemKind::Unavailable, "The text's own order is damaged.").at(site.path));
        };
        let effects = effects(site, splice, place, &cut);
        Ok(Settlement { effects, verdict: verdict(cell, site, splice, place, &cut) })
    }
}

/// The splice in present positions, from the right to the left, so that none moves another. What `made` says is how the
/// proposer saw it; a restart places it by that once more, replicas need not look.
fn effects(site: &Site<'_>, splice: Splice<'_>, place: usize, cut: &Cut) -> Vec<Effect> {
    let effect = |present: Splice<'_>, index: usize, delete: usize| {
        present.to_edit(site.path).with("made", json!({ "seen": site.seen, "index": index, "delete": delete }))
    };
    let mut effects: Vec<_> = cut.parts.iter().rev().map(|part| {
        let present = Splice { index: part.present.start, delete: part.present.len(), insert: "" };
        effect(present, part.viewed.start, part.viewed.len())
    }).collect();
    if !splice.insert.is_empty() {
        // The leftmost part and the insert are one splice where they meet.
        let first = cut.parts.first().filter(|part| part.present.start == place || part.present.is_empty());
        if first.is_some() {
            effects.pop();
        }
        let present = Splice { index: place, delete: first.map_or(0, |part| part.present.len()), insert: splice.insert };
        effects.push(effect(present, splice.index, first.map_or(0, |part| part.viewed.len())));
    }
    effects
}

fn verdict(cell: &Inner, site: &Site<'_>, splice: Splice<'_>, place: usize, cut: &Cut) -> crate::edit::Verdict {
    let removed: usize = cut.parts.iter().map(|part| part.present.len()).sum();
    let is_whole = removed == splice.delete;
    if !is_whole && removed == 0 && splice.insert.is_empty() {
        let because = format!("{} had deleted the same characters already; both count as one.", capital(&listed(&cut.met)));
        return site.verdict(VerdictKind::Merged, cut.met.clone(), because);
    }
    if !is_whole {
        let because =
            format!("{} had deleted some of the same characters; those count once.", capital(&listed(&cut.met)));
        return site.verdict(VerdictKind::Merged, cut.met.clone(), because);
    }
    if let Some(met) = deleted_around(cell, site, splice) {
        let because = format!("It stays, though {} deleted the text around it.", listed(&met));
        return site.verdict(VerdictKind::Rebased, met, because);
    }
    let is_moved = place != splice.index || cut.parts.len() > 1;
    let is_moved = is_moved || cut.parts.first().is_some_and(|part| part.present.start != splice.index);
    if !is_moved {
        return site.verdict(VerdictKind::Applied, vec![], "Nothing concurrent was in its way.");
    }
    let met = cell.changes.concurrent(site);
    let because = if place == splice.index {
        format!("It stays at the characters it was made at, among which {} put others.", listed(&met))
    } else {
        format!("It stays at the characters it was made at, which {} moved from {} to {place}.", listed(&met), splice.index)
    };
    site.verdict(VerdictKind::Rebased, met, because)
}

/// The updates that deleted the characters on both sides of an insert.
fn deleted_around(cell: &Inner, site: &Site<'_>, splice: Splice<'_>) -> Option<Vec<u64>> {
    let view = View { seen: site.seen, client: site.client };
    if splice.delete > 0 || splice.index == 0 || splice.index >= cell.sequence.len(view) {
        return None;
    }
    let around = cell.sequence.cut(view, splice.index - 1, 2)?;
    let is_gone = around.parts.iter().all(|part| part.present.is_empty());
    is_gone.then_some(around.met)
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}

fn check_bounds(site: &Site<'_>, splice: Splice<'_>, len: usize) -> Result<(), Problem> {
    match splice.index.checked_add(splice.delete) {
        Some(end) if end <= len => Ok(()),
        _ => {
            let detail = format!(
                "{} had {len} characters as the proposer saw it at {}; a splice of {} from {} on ends beyond them. Positions count Unicode scalar values.",
                site.path, site.seen, splice.delete, splice.index
            );
            Err(Problem::new(ProblemKind::OutOfBounds, detail).at(site.path).with("length", len))
        }
    }
}

impl<'e> Splice<'e> {
    fn asked(site: &Site<'e>) -> Result<Self, Problem> {
        site.only(&["index", "delete", "insert"])?;
        let insert = match site.edit.arg("insert") {
            None => "",
            Some(Value::String(insert)) => insert,
            Some(_) => {
                return Err(Problem::new(ProblemKind::WrongType, "\"insert\" must be a string.").at(site.path));
            }
        };
        let splice = Self { index: site.index_arg("index")?, delete: site.optional_index("delete")?, insert };
        if splice.delete == 0 && insert.is_empty() {
            let detail = "A splice deletes or inserts something: give \"delete\", \"insert\" or both.";
            return Err(Problem::new(ProblemKind::Malformed, detail).at(site.path));
        }
        Ok(splice)
    }

    fn stored(effect: &'e Effect) -> Result<Self, String> {
        let number = |name| stored_index(effect.arg(name), name);
        Ok(Self { index: number("index")?, delete: number("delete")?, insert: stored_text(effect, "insert")? })
    }

    fn to_edit(self, path: &Path) -> Edit {
        Edit::new(path, "splice").with("index", self.index).with("delete", self.delete).with("insert", self.insert)
    }
}

fn stored_index(value: Option<&Value>, name: &str) -> Result<usize, String> {
    let index = value.and_then(Value::as_u64).and_then(|index| usize::try_from(index).ok());
    index.ok_or_else(|| format!("the effect lacks a whole number {name:?}"))
}

impl Kind for Field {
    type Cell = Cell;

    fn declare(section: &mut Section<'_>) -> Self {
        let most = section.number("most", 1..=MOST as i64, MOST);
        let initial = section.json("initial").map(|initial| initial.as_str().map(str::to_owned));
        let fits = |initial: &String| initial.chars().count() <= most;
        if initial.as_ref().is_some_and(|initial| !initial.as_ref().is_some_and(fits)) {
            section.fault_at("initial", "a string of no more characters than `most`", None);
        }
        Self { initial: initial.flatten().unwrap_or_default(), most }
    }

    fn initial(&self, stamp: Stamp) -> Cell {
        Cell::new(&self.initial, stamp)
    }

    fn load(&self, at: &Path, plain: &Value, stamp: Stamp) -> Result<Cell, Problem> {
        let Value::String(text) = plain else {
            return Err(Problem::new(ProblemKind::WrongType, format!("{at} is a text: a string.")).at(at));
        };
        self.has_space(at, text.chars().count())?;
        Ok(Cell::new(text, stamp))
    }

    fn plain(&self, cell: &Cell) -> Value {
        cell.0.text.to_string().into()
    }

    fn settle(&self, cell: &Cell, rest: &[String], site: &Site<'_>) -> Result<Settlement, Problem> {
        site.leaf(rest, "text")?;
        if site.edit.op != "splice" {
            return Err(site.unknown_op("A text", &["splice"]));
        }
        let cell = &*cell.0;
        let splice = Splice::asked(site)?;
        site.is_on_firm_ground()?;
        if cell.changes.is_made_anew(site) {
            let detail = format!("{} came back as another text after what you had seen. Look at it and decide again.", site.path);
            return Err(Problem::new(ProblemKind::Stale, detail).at(site.path));
        }
        let settlement = if cell.changes.has_concurrent(site) {
            self.concurrent(cell, site, splice)?
        } else {
            check_bounds(site, splice, cell.text.len_chars())?;
            site.applied(splice.to_edit(site.path))
        };
        if !splice.insert.is_empty() {
            let removed: usize = settlement.effects.iter().filter_map(|effect| effect.arg("delete")?.as_u64()).map(|n| usize::try_from(n).unwrap_or(0)).sum();
            let chars = cell.text.len_chars() + splice.insert.chars().count() - removed;
            if chars > cell.text.len_chars() {
                self.has_space(site.path, chars)?;
            }
        }
        Ok(settlement)
    }

    fn apply(&self, cell: &mut Cell, _rest: &[String], effect: &Effect, stamp: Stamp) -> Result<Growth, String> {
        if effect.op != "splice" {
            return Err(stored_op(effect));
        }
        let splice = Splice::stored(effect)?;
        let (view, viewed) = match effect.arg("made") {
            None => (View::PRESENT, splice),
            Some(made) => {
                let number = |name| stored_index(made.get(name), name);
                let view = View { seen: number("seen")? as u64, client: stamp.client };
                (view, Splice { index: number("index")?, delete: number("delete")?, ..splice })
            }
        };
        Arc::make_mut(&mut cell.0).splice(splice, view, viewed, stamp).ok_or_else(|| "it reaches beyond the text".to_owned())
    }

    fn patch(&self, cell: &Cell, _rest: &[String], effect: &Effect, patch: &mut Patch) -> Option<()> {
        let Splice { index, delete, insert } = Splice::stored(effect).ok()?;
        if delete > 0 || !insert.is_empty() {
            let mut text = cell.0.text.clone();
            text.try_remove(index..index.checked_add(delete)?).ok()?;
            text.try_insert(index, insert).ok()?;
            patch.replace(text.to_string().into());
        }
        Some(())
    }

    fn met(&self, cell: &Cell, site: &Site<'_>, met: &mut Vec<u64>) {
        met.extend(cell.0.changes.concurrent(site));
    }
}

impl Cell {
    fn new(text: &str, stamp: Stamp) -> Self {
        let text = Rope::from_str(text);
        let len = u32::try_from(text.len_chars()).unwrap_or(u32::MAX);
        let sequence = Sequence::of([(len, ())], stamp);
        Self(Arc::new(Inner { text, sequence, changes: Changes::since(stamp) }))
    }

    /// Where the character is now that `view` sees at `index`.
    pub(super) fn anchored(&self, view: View, index: usize) -> Option<Anchored> {
        self.0.sequence.anchored(view, index)
    }
}

impl Inner {
    /// Does the splice to the text, where it is in present positions, and to the order, as its author viewed it.
    fn splice(&mut self, splice: Splice<'_>, view: View, viewed: Splice<'_>, stamp: Stamp) -> Option<Growth> {
        let end = splice.index.checked_add(splice.delete).filter(|end| *end <= self.text.len_chars())?;
        self.sequence.remove(view, viewed.index, viewed.delete, stamp)?;
        let bytes = self.text.char_to_byte(end) - self.text.char_to_byte(splice.index);
        if splice.delete > 0 {
            self.text.remove(splice.index..end);
        }
        if !splice.insert.is_empty() {
            let len = u32::try_from(splice.insert.chars().count()).ok()?;
            self.sequence.insert(view, viewed.index, len, (), stamp)?;
            self.text.insert(splice.index, splice.insert);
        }
        self.changes.add(stamp);
        self.sequence.age(stamp.seq);
        Some(growth(bytes, splice.insert.len()))
    }
}

fn write_rope<S: Serializer>(rope: &Rope, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(rope)
}

fn read_rope<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Rope, D::Error> {
    String::deserialize(deserializer).map(|text| Rope::from_str(&text))
}
