//! `set`: elements that are in it or not. An include wins over a concurrent exclude of the same
//! element.

use std::collections::BTreeSet;
use std::sync::Arc;

use imbl::Vector;
use jsonschema::Validator;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::changes::Latest;
use super::{Growth, Kind, Settlement, Site, growth, shown, stored_op};
use crate::canonical::{CanonicalText, weight};
use crate::charter::{Section, check_schema};
use crate::edit::{Effect, VerdictKind};
use crate::lately::{Bounds, Lately};
use crate::op::Op;
use crate::patch::Patch;
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::state::Stamp;
use crate::wanted::Way;

/// A declared set.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    schema: Option<Arc<Validator>>,
    most: usize,
}

/// The elements in the order of their canonical texts, each with who included it last, and those
/// excluded lately.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Cell {
    elements: Vector<Element>,
    removed: Lately<CanonicalText, Stamp>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
struct Element {
    text: CanonicalText,
    value: Arc<Value>,
    stamp: Latest,
}

/// Excluded elements that a set remembers, to tell a concurrent exclude from one of what was never
/// there. Beyond that the oldest are forgotten.
const REMEMBERED: Bounds = Bounds { entries: 1_000, bytes: 1 << 20 };
const MOST: usize = 100_000;
const OPS: &[&str] = &["include", "exclude"];

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
        match (cell.get(&text), cell.removed.get(&text)) {
            (Some(Element { stamp, .. }), _) if stamp.concurrent(site).is_some() => {
                let stamp = stamp.concurrent(site).unwrap_or(stamp.stamp);
                let because =
                    format!("Update {} had included it too; both count as one.", stamp.seq);
                settlement.verdict = site.verdict(VerdictKind::Merged, vec![stamp.seq], because);
            }
            (Some(_), _) => {}
            (None, removed) => {
                self.has_space(site.path, cell.elements.len() + 1)?;
                if let Some(stamp) = removed.filter(|stamp| site.is_concurrent(**stamp)) {
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
        match (cell.get(&text), cell.removed.get(&text)) {
            (Some(Element { stamp, .. }), _) if stamp.concurrent(site).is_some() => {
                let stamp = stamp.concurrent(site).unwrap_or(stamp.stamp);
                let because = format!(
                    "Update {}, which the proposer had not seen, included it; the include stands.",
                    stamp.seq
                );
                nothing(VerdictKind::Dropped, stamp.seq, because)
            }
            (Some(_), _) => Ok(site.applied(Op::Exclude(value.clone()))),
            (None, Some(stamp)) if site.is_concurrent(*stamp) => {
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

    fn declare(section: &mut Section<'_>) -> Self {
        let schema = section.schema("schema");
        let most = section
            .integer("most", 1..=MOST as i64)
            .and_then(|most| usize::try_from(most).ok())
            .unwrap_or(MOST);
        Self { schema, most }
    }

    fn initial(&self, _stamp: Stamp) -> Cell {
        Cell::default()
    }

    fn load(&self, at: &Path, plain: &Value, stamp: Stamp) -> Result<Cell, Problem> {
        let Value::Array(values) = plain else {
            return Err(Problem::new(
                ProblemKind::WrongType,
                format!("{at} is a set: an array of its elements."),
            )
            .at(at));
        };
        self.has_space(at, values.len())?;
        values.iter().try_for_each(|value| self.check(at, value))?;
        let element = |value: &Value| Element {
            text: CanonicalText::of(value),
            value: Arc::new(value.clone()),
            stamp: Latest::of(stamp),
        };
        let mut elements: Vec<_> = values.iter().map(element).collect();
        elements.sort_by(|one, other| one.text.cmp(&other.text));
        elements.dedup_by(|one, other| one.text == other.text);
        Ok(Cell { elements: elements.into(), removed: Lately::default() })
    }

    fn plain(&self, cell: &Cell) -> Value {
        cell.elements.iter().map(|element| (*element.value).clone()).collect()
    }

    fn settle(&self, cell: &Cell, rest: &[String], site: &Site<'_>) -> Result<Settlement, Problem> {
        site.leaf(rest, "set")?;
        match site.op("A set", OPS)? {
            Op::Include(value) => self.include(cell, site, value),
            Op::Exclude(value) => Self::exclude(cell, site, value),
            _ => Err(site.unknown_op("A set", OPS)),
        }
    }

    fn apply(
        &self,
        cell: &mut Cell,
        _rest: &[String],
        effect: &Effect,
        stamp: Stamp,
    ) -> Result<Growth, String> {
        let one = |value: &Value, elements: usize| weight(value) + usize::from(elements > 0);
        match &effect.op {
            Op::Include(value) => {
                let text = CanonicalText::of(value);
                cell.removed.take(&text);
                match cell.position(&text) {
                    Ok(index) => {
                        cell.elements[index].stamp = cell.elements[index].stamp.then(stamp);
                        Ok(0)
                    }
                    Err(index) => {
                        let grown = growth(0, one(value, cell.elements.len()));
                        let stamp = Latest::of(stamp);
                        cell.elements
                            .insert(index, Element { text, value: Arc::new(value.clone()), stamp });
                        Ok(grown)
                    }
                }
            }
            Op::Exclude(value) => {
                let text = CanonicalText::of(value);
                let index = cell.position(&text).map_err(|_| format!("no element {text}"))?;
                cell.elements.remove(index);
                cell.removed.put(text, stamp, weight(value), REMEMBERED);
                Ok(growth(one(value, cell.elements.len()), 0))
            }
            _ => Err(stored_op(effect)),
        }
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

    fn wanted(&self, was: &Value, now: &Value, way: &mut Way) -> Result<(), Problem> {
        let (Some(was), Some(now)) = (was.as_array(), now.as_array()) else {
            return Err(way.unfit("is a set, given as an array of its elements."));
        };
        let texts = |values: &[Value]| -> BTreeSet<CanonicalText> {
            values.iter().map(CanonicalText::of).collect()
        };
        let (before, mut after) = (texts(was), texts(now));
        for gone in was.iter().filter(|value| !after.contains(&CanonicalText::of(value))) {
            way.push(way.edit("exclude").with("value", gone.clone()));
        }
        // Each once, also where it is given twice.
        for new in now.iter().filter(|value| !before.contains(&CanonicalText::of(value))) {
            if after.remove(&CanonicalText::of(new)) {
                way.push(way.edit("include").with("value", new.clone()));
            }
        }
        way.has_space()
    }

    fn met(&self, cell: &Cell, site: &Site<'_>, met: &mut Vec<u64>) {
        met.extend(
            cell.elements
                .iter()
                .filter_map(|element| element.stamp.concurrent(site))
                .map(|stamp| stamp.seq),
        );
        met.extend(
            cell.removed
                .values()
                .filter(|stamp| site.is_concurrent(**stamp))
                .map(|stamp| stamp.seq),
        );
    }
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
