//! `set`: elements that are in it or not. An include wins over a concurrent exclude of the same
//! element.

use std::collections::BTreeSet;
use std::sync::Arc;

use imbl::OrdMap;
use jsonschema::Validator;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::Value;
use smallvec::smallvec;

use super::changes::{Changes, Latest};
use super::edit_context::{shown, stored_op};
use super::memory::{Gone, What};
use super::{
    Applying, Before, Declared, EditContext, InTheWay, Inverse, Kind, KindWords, Loading, Memory,
    Settlement, TakenBack, TakingBack, Was,
};
use crate::canonical::{CanonicalText, weight};
use crate::declaration::{Section, check_schema};
use crate::op::Op;
use crate::patch::Patch;
use crate::path::{Path, Token, inner};
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
    #[serde(serialize_with = "write_elements", deserialize_with = "read_elements")]
    elements: OrdMap<CanonicalText, Element>,
    /// Snapshots of before have none.
    #[serde(default)]
    changes: Changes,
}

#[derive(Clone, Debug, PartialEq)]
struct Element {
    value: Arc<Value>,
    stamp: Latest,
    /// Whose work it is, where an undo brought it back.
    whose: Option<u64>,
}

impl Element {
    fn whose(&self) -> u64 {
        self.whose.unwrap_or(self.stamp.stamp.seq)
    }
}

/// An element as it stands in a snapshot.
#[derive(Serialize, Deserialize)]
struct StoredSet {
    text: CanonicalText,
    value: Arc<Value>,
    stamp: Latest,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    whose: Option<u64>,
}

fn write_elements<S: Serializer>(
    elements: &OrdMap<CanonicalText, Element>,
    serializer: S,
) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(elements.iter().map(|(text, Element { value, stamp, whose })| {
        StoredSet { text: text.clone(), value: value.clone(), stamp: *stamp, whose: *whose }
    }))
}

fn read_elements<'de, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<OrdMap<CanonicalText, Element>, D::Error> {
    let stored = Vec::<StoredSet>::deserialize(deserializer)?;
    let element = |StoredSet { text, value, stamp, whose }| (text, Element { value, stamp, whose });
    Ok(stored.into_iter().map(element).collect())
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
        Err(Problem::new(ProblemKind::Full, detail).at(at).with("limit", "most"))
    }

    /// An include is an effect even of what is there: it renews the element, so that an exclude
    /// made without having seen it does not win.
    fn include(
        &self,
        cell: &Cell,
        site: &EditContext<'_>,
        value: &Value,
    ) -> Result<Settlement, Problem> {
        self.check(site.path, value)?;
        let text = CanonicalText::of(value);
        let mut settlement = site.applied(Op::Include(value.clone()));
        match (cell.elements.get(&text), excluded(site, &text)) {
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

    fn exclude(cell: &Cell, site: &EditContext<'_>, value: &Value) -> Result<Settlement, Problem> {
        let text = CanonicalText::of(value);
        let nothing = |kind, seq: u64, because: String| {
            Ok(Settlement { effects: smallvec![], verdict: site.verdict(kind, vec![seq], because) })
        };
        match (cell.elements.get(&text), excluded(site, &text)) {
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
    fn is_of_play(&self) -> bool {
        false
    }

    fn declare(section: &mut Section<'_>, _declared: &Declared) -> Self {
        let schema = section.schema("schema");
        let most = section
            .integer("most", 1..=MOST as i64)
            .and_then(|most| usize::try_from(most).ok())
            .unwrap_or(MOST);
        Self { schema, most }
    }

    fn initial(&self, stamp: Stamp) -> Cell {
        Cell { elements: OrdMap::new(), changes: Changes::since(stamp) }
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
        let mut elements = OrdMap::new();
        for value in values {
            let (value, whose) = (Arc::new(value.clone()), None);
            let text = CanonicalText::of(&value);
            let element = || Element { value, stamp: Latest::of(stamp), whose };
            elements.entry(text).or_insert_with(element);
        }
        Ok(Cell { elements, changes: Changes::since(stamp) })
    }

    fn plain(&self, cell: &Cell) -> Value {
        cell.elements.values().map(|element| (*element.value).clone()).collect()
    }

    fn settle(
        &self,
        cell: &Cell,
        rest: &[Token],
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
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
        _rest: &[Token],
        effect: &Effect,
        applying: &mut Applying<'_>,
    ) -> Result<(), String> {
        let stamp = applying.stamp;
        let comma = |elements: usize| usize::from(elements > 0);
        match &effect.op {
            Op::Include(value) => {
                let text = CanonicalText::of(value);
                applying.memory.take(&inner(&effect.at, text.as_str()));
                if let Some(element) = cell.elements.get_mut(&text) {
                    element.stamp = element.stamp.then(stamp);
                    element.whose = effect.restores;
                } else {
                    applying.grow(0, weight(value) + comma(cell.elements.len()));
                    let (value, stamp) = (Arc::new(value.clone()), Latest::of(stamp));
                    let whose = effect.restores;
                    cell.elements.insert(text, Element { value, stamp, whose });
                }
            }
            Op::Exclude(value) => {
                let text = CanonicalText::of(value);
                cell.elements.remove(&text).ok_or_else(|| format!("no element {text}"))?;
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
        _rest: &[Token],
        effect: &Effect,
        patch: &mut Patch,
    ) -> Option<()> {
        let (Op::Include(value) | Op::Exclude(value)) = &effect.op else { return None };
        let text = CanonicalText::of(value);
        let index = cell.elements.range::<_, CanonicalText>(..&text).count();
        match (&effect.op, cell.elements.contains_key(&text)) {
            (Op::Include(value), false) => patch.add_at(&index.to_string(), value.clone()),
            (Op::Exclude(_), true) => patch.remove_at(index),
            _ => {}
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

    fn before(&self, cell: &Cell, _rest: &[Token], effect: &Effect, _memory: &Memory) -> Before {
        let (Op::Include(value) | Op::Exclude(value)) = &effect.op else { return Before::Nothing };
        match (&effect.op, cell.elements.get(&CanonicalText::of(value))) {
            // Who includes what is there renews it, and would leave it there.
            (Op::Include(_), Some(_)) | (Op::Exclude(_), None) => Before::Nothing,
            (_, None) => Before::here(Was::Without(Arc::new(value.clone()))),
            (_, Some(there)) => Before::here(Was::With(there.value.clone(), there.whose())),
        }
    }

    fn take_back(&self, cell: &Cell, _rest: &[Token], taking: &TakingBack<'_>) -> TakenBack {
        let taken = taking.taken;
        let (Was::Without(value) | Was::With(value, _)) = &taken.was else {
            return Ok(Inverse::default());
        };
        let text = CanonicalText::of(value);
        match (&taken.was, cell.elements.get(&text)) {
            (Was::With(_, whose), None) => {
                let gone = taking.memory.get(&inner(&taken.at, text.as_str()));
                let gone = gone.ok_or_else(InTheWay::forgotten)?.stamp.seq;
                if gone != taken.left {
                    return Err(InTheWay::changed(gone));
                }
                if cell.elements.len() >= self.most {
                    let because = "has filled the set";
                    return Err(InTheWay { update: Some(cell.changes.latest()), because });
                }
                Ok(taking.effect(&taken.at, Op::Include((**value).clone()), *whose))
            }
            (Was::Without(_), Some(there)) if there.whose() == taken.left => {
                Ok(Effect::new(&taken.at, Op::Exclude((**value).clone())).into())
            }
            (Was::Without(_), Some(there)) => Err(InTheWay::changed(there.stamp.stamp.seq)),
            _ => Ok(Inverse::default()),
        }
    }

    fn latest(&self, cell: &Cell, _rest: &[Token]) -> u64 {
        cell.changes.latest()
    }

    fn most(&self) -> Option<usize> {
        Some(self.most)
    }

    fn met(&self, cell: &Cell, site: &EditContext<'_>, met: &mut Vec<u64>) {
        met.extend(cell.changes.concurrent(site));
    }
}

/// Which update excluded an element, where that is remembered.
fn excluded(site: &EditContext<'_>, text: &CanonicalText) -> Option<Stamp> {
    site.memory.get(&inner(site.path, text.as_str())).map(|gone| gone.stamp)
}
