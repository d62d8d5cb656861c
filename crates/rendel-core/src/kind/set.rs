//! `set`: elements that are in it or not. An include wins over a concurrent exclude of the same
//! element.

use std::collections::BTreeSet;
use std::sync::Arc;

use imbl::Vector;
use jsonschema::Validator;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::changes::{Changes, Latest};
use super::memory::{Gone, What};
use super::site::{shown, stored_op};
use super::{Applying, Declared, Kind, KindWords, Loading, Settlement, Site};
use crate::canonical::{CanonicalText, weight};
use crate::declaration::{Section, check_schema};
use crate::op::Op;
use crate::patch::Patch;
use crate::path::{Path, inner};
use crate::problem::{Problem, ProblemKind};
use crate::rewrite::Rewrite;
use crate::stamp::Stamp;
use crate::update::{Effect, VerdictKind};

/// A declared set.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    schema: Option<Arc<Validator>>,
    most: usize,
}

/// The elements in the order of their canonical texts, each with who included it last.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Cell {
    elements: Vector<Element>,
    /// Snapshots of before have none.
    #[serde(default)]
    changes: Changes,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
struct Element {
    text: CanonicalText,
    value: Arc<Value>,
    stamp: Latest,
}

const MOST: usize = 100_000;

impl Field {
    fn check(&self, at: &Path, value: &Value) -> Result<(), Problem> {
        self.schema.as_ref().map_or(Ok(()), |schema| check_schema(schema, at, value))
    }

    fn has_space(&self, at: &Path, elements: usize) -> Result<(), Problem> {
        if elements <= self.most {
            return Ok(());
        }
        let detail = format!("{at} holds at most {} elements. Remove one first.", self.most);
        Err(Problem::new(ProblemKind::Full, detail).at(at))
    }

    /// An include is an effect even of what is there: it renews the element, so that an exclude
    /// made without having seen it does not win.
    fn include(&self, cell: &Cell, site: &Site<'_>, value: &Value) -> Result<Settlement, Problem> {
        self.check(site.path, value)?;
        let text = CanonicalText::of(value);
        let mut settlement = site.applied(Op::Include(value.clone()));
        match (cell.get(&text), excluded(site, &text)) {
            (Some(Element { stamp, .. }), _) if stamp.concurrent(site).is_some() => {
                let stamp = stamp.concurrent(site).unwrap_or(stamp.stamp);
                let because =
                    format!("Update {} had included it too; both count as one.", stamp.seq);
                settlement.verdict = site.verdict(VerdictKind::Merged, vec![stamp.seq], because);
            }
            (Some(_), _) => {}
            (None, removed) => {
                self.has_space(site.path, cell.elements.len() + 1)?;
                if let Some(stamp) = removed.filter(|stamp| site.is_concurrent(*stamp)) {
                    let because = format!(
                        "It stands against update {}, which excluded it unseen by the proposer.",
                        stamp.seq
                    );
                    settlement.verdict =
                        site.verdict(VerdictKind::Overrode, vec![stamp.seq], because);
                }
            }
        }
        Ok(settlement)
    }

    fn exclude(cell: &Cell, site: &Site<'_>, value: &Value) -> Result<Settlement, Problem> {
        let text = CanonicalText::of(value);
        let nothing = |kind, seq: u64, because: String| {
            Ok(Settlement { effects: vec![], verdict: site.verdict(kind, vec![seq], because) })
        };
        match (cell.get(&text), excluded(site, &text)) {
            (Some(Element { stamp, .. }), _) if stamp.concurrent(site).is_some() => {
                let stamp = stamp.concurrent(site).unwrap_or(stamp.stamp);
                let because = format!(
                    "Update {}, which the proposer had not seen, included it; the include stands.",
                    stamp.seq
                );
                nothing(VerdictKind::Dropped, stamp.seq, because)
            }
            (Some(_), _) => Ok(site.applied(Op::Exclude(value.clone()))),
            (None, Some(stamp)) if site.is_concurrent(stamp) => {
                let because =
                    format!("Update {} had excluded it already; both count as one.", stamp.seq);
                nothing(VerdictKind::Merged, stamp.seq, because)
            }
            (None, _) => {
                let detail = format!("There is no {} in {}.", shown(value), site.path);
                Err(Problem::new(ProblemKind::Gone, detail).at(site.path))
            }
        }
    }
}

impl Kind for Field {
    type Cell = Cell;
    const WORDS: KindWords = KindWords { name: "set", takes: &["include", "exclude"], inside: &[] };

    fn declare(section: &mut Section<'_>, _declared: &Declared) -> Self {
        let schema = section.schema("schema");
        let most = section
            .integer("most", 1..=MOST as i64)
            .and_then(|most| usize::try_from(most).ok())
            .unwrap_or(MOST);
        Self { schema, most }
    }

    fn initial(&self, stamp: Stamp) -> Cell {
        Cell { elements: Vector::new(), changes: Changes::since(stamp) }
    }

    fn load(&self, at: &Path, plain: &Value, loading: Loading) -> Result<Cell, Problem> {
        let Value::Array(values) = plain else {
            return Err(Problem::new(
                ProblemKind::WrongType,
                format!("{at} is a set: an array of its elements."),
            )
            .at(at));
        };
        loading.check(|| {
            self.has_space(at, values.len())?;
            values.iter().try_for_each(|value| self.check(at, value))
        })?;
        let stamp = loading.stamp;
        let element = |value: &Value| Element {
            text: CanonicalText::of(value),
            value: Arc::new(value.clone()),
            stamp: Latest::of(stamp),
        };
        let mut elements: Vec<_> = values.iter().map(element).collect();
        elements.sort_by(|one, other| one.text.cmp(&other.text));
        elements.dedup_by(|one, other| one.text == other.text);
        Ok(Cell { elements: elements.into(), changes: Changes::since(stamp) })
    }

    fn plain(&self, cell: &Cell) -> Value {
        cell.elements.iter().map(|element| (*element.value).clone()).collect()
    }

    fn settle(&self, cell: &Cell, rest: &[String], site: &Site<'_>) -> Result<Settlement, Problem> {
        site.leaf(rest, "set")?;
        match site.op("A set", Self::WORDS.takes)? {
            Op::Include(value) => self.include(cell, site, value),
            Op::Exclude(value) => Self::exclude(cell, site, value),
            _ => Err(site.unknown_op("A set", Self::WORDS.takes)),
        }
    }

    fn apply(
        &self,
        cell: &mut Cell,
        _rest: &[String],
        effect: &Effect,
        applying: &mut Applying<'_>,
    ) -> Result<(), String> {
        let stamp = applying.stamp;
        let comma = |elements: usize| usize::from(elements > 0);
        match &effect.op {
            Op::Include(value) => {
                let text = CanonicalText::of(value);
                applying.memory.take(&inner(&effect.at, text.as_str()));
                match cell.position(&text) {
                    Ok(index) => {
                        cell.elements[index].stamp = cell.elements[index].stamp.then(stamp);
                    }
                    Err(index) => {
                        applying.grow(0, weight(value) + comma(cell.elements.len()));
                        let (value, stamp) = (Arc::new(value.clone()), Latest::of(stamp));
                        cell.elements.insert(index, Element { text, value, stamp });
                    }
                }
            }
            Op::Exclude(value) => {
                let text = CanonicalText::of(value);
                let index = cell.position(&text).map_err(|_| format!("no element {text}"))?;
                cell.elements.remove(index);
                let bytes = weight(value);
                let gone = Gone { stamp, what: What::Value };
                applying.memory.note(inner(&effect.at, text.as_str()), gone, bytes);
                applying.grow(bytes + comma(cell.elements.len()), 0);
            }
            _ => return Err(stored_op(effect)),
        }
        cell.changes.add(stamp);
        Ok(())
    }

    fn patch(
        &self,
        cell: &Cell,
        _rest: &[String],
        effect: &Effect,
        patch: &mut Patch,
    ) -> Option<()> {
        let position = |value| cell.position(&CanonicalText::of(value));
        match &effect.op {
            Op::Include(value) => {
                if let Err(index) = position(value) {
                    patch.add_at(&index.to_string(), value.clone());
                }
            }
            Op::Exclude(value) => {
                if let Ok(index) = position(value) {
                    patch.remove_at(index);
                }
            }
            _ => return None,
        }
        Some(())
    }

    fn rewrite(&self, was: &Value, now: &Value, rewrite: &mut Rewrite) -> Result<(), Problem> {
        let (Some(was), Some(now)) = (was.as_array(), now.as_array()) else {
            return Err(rewrite.unfit("is a set, given as an array of its elements."));
        };
        let texts = |values: &[Value]| -> BTreeSet<CanonicalText> {
            values.iter().map(CanonicalText::of).collect()
        };
        let (before, mut after) = (texts(was), texts(now));
        for gone in was.iter().filter(|value| !after.contains(&CanonicalText::of(value))) {
            rewrite.push(rewrite.edit("exclude").with("value", gone.clone()));
        }
        // Each once, also where it is given twice.
        for new in now.iter().filter(|value| !before.contains(&CanonicalText::of(value))) {
            if after.remove(&CanonicalText::of(new)) {
                rewrite.push(rewrite.edit("include").with("value", new.clone()));
            }
        }
        rewrite.has_space()
    }

    fn met(&self, cell: &Cell, site: &Site<'_>, met: &mut Vec<u64>) {
        met.extend(cell.changes.concurrent(site));
    }
}

/// Which update excluded an element, where that is remembered.
fn excluded(site: &Site<'_>, text: &CanonicalText) -> Option<Stamp> {
    site.memory.get(&inner(site.path, text.as_str())).map(|gone| gone.stamp)
}

impl Cell {
    /// Where an element is, or would be. Cost O(log² n).
    fn position(&self, text: &CanonicalText) -> Result<usize, usize> {
        self.elements.binary_search_by(|element| element.text.cmp(text))
    }

    fn get(&self, text: &CanonicalText) -> Option<&Element> {
        self.position(text).ok().and_then(|index| self.elements.get(index))
    }
}
