//! `list`: elements in an order of their own, by id.
//!
//! Elements are inserted, moved and removed by what they are beside, never by what index they have:
//! so each goes where its proposer meant. Of two concurrent moves of one element the later in order
//! wins; a remove stands against moves and edits that had not seen it. Nothing is doubled or lost.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use imbl::OrdMap;
use jsonschema::Validator;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use smallvec::smallvec;

use super::changes::Changes;
use super::edit_context::stored_op;
use super::memory::{Gone, What};
use super::record::{Element, Item};
use super::{
    Applying, Before, Declared, EditContext, Fields, Holder, InTheWay, Inverse, Kind, KindWords,
    Link, Loading, Memory, Settlement, TakenBack, TakingBack, Walk, Was, listed,
};
use crate::canonical::weight;
use crate::declaration::{Section, check_schema};
use crate::edit::Edit;
use crate::op::{Made, Op};
use crate::patch::Patch;
use crate::path::{Path, Token, checked_id, inner, parent};
use crate::problem::{Problem, ProblemKind};
use crate::rewrite::{Rewrite, elements};
use crate::sequence::{Places, Target, View};
use crate::stamp::Stamp;
use crate::update::{Effect, Verdict, VerdictKind};

/// A declared list.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    each: Each,
    is_append_only: bool,
    most: usize,
    keep: Option<usize>,
}

/// What the elements are.
#[derive(Clone, Debug)]
enum Each {
    /// Records whose fields settle on their own.
    Record(Fields),
    /// JSON values that stay as they are.
    Value(Option<Arc<Validator>>),
}

/// The elements by id and their places. Behind one pointer, since a record may have many lists.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub(crate) struct Cell(Arc<Inner>);

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
struct Inner {
    places: Places,
    elements: OrdMap<Arc<str>, Arc<Element>>,
    changes: Changes,
}

/// Where something goes at present.
struct Placed {
    /// The front, or behind which element.
    to: Target,
    /// How its proposer saw it, where that is not how it is.
    made: Option<Made<Target>>,
    /// The updates that put others between it and what it was to be beside.
    met: Vec<u64>,
}

const MOST: usize = 100_000;
/// Places that are gone of which an append-only list, in which nothing is placed by them, keeps
/// none longer than this many more.
const SWEPT: usize = 1_000;

impl Field {
    fn load_item(&self, at: &Path, plain: &Value, loading: Loading) -> Result<Item, Problem> {
        match &self.each {
            Each::Record(fields) => fields.load(at, plain, loading).map(Item::Record),
            Each::Value(schema) => {
                let check = |schema: &Arc<Validator>| check_schema(schema, at, plain);
                loading.check(|| schema.as_ref().map_or(Ok(()), check))?;
                Ok(Item::Value(plain.clone()))
            }
        }
    }

    fn plain_item(&self, item: &Item) -> Value {
        match (&self.each, item) {
            (Each::Record(fields), Item::Record(record)) => fields.plain(record),
            (_, Item::Value(value)) => value.clone(),
            (Each::Value(_), Item::Record(_)) => Value::Null,
        }
    }

    fn rewrite_inside(
        &self,
        was: &Value,
        now: &Value,
        rewrite: &mut Rewrite,
    ) -> Result<(), Problem> {
        match &self.each {
            Each::Record(fields) => fields.rewrite(was, now, rewrite),
            Each::Value(_) if was == now => Ok(()),
            Each::Value(_) => Err(rewrite
                .unfit("is an element that is changed as a whole: remove it and insert another.")),
        }
    }

    fn changed(&self, cell: &mut Inner, list: &Path, applying: &mut Applying<'_>) {
        cell.changes.add(applying.stamp);
        if !self.is_append_only {
            applying.memory.count(list, applying.stamp.seq, 1);
        } else if cell.places.remembered() > cell.elements.len() + SWEPT {
            cell.places.forget(applying.stamp.seq);
        }
    }

    fn has_space(&self, at: &Path, elements: usize) -> Result<(), Problem> {
        if elements <= self.most {
            return Ok(());
        }
        let detail = format!("{at} holds at most {} elements. Remove one first.", self.most);
        Err(Problem::new(ProblemKind::Full, detail).at(at).with("limit", "most"))
    }

    /// Refuses a place that the list does not let be chosen, and an index among what may not be
    /// there.
    fn check_target(&self, site: &EditContext<'_>, target: &Target) -> Result<(), Problem> {
        if matches!(target, Target::Index(_)) {
            site.is_on_firm_ground()?;
        }
        if self.is_append_only && *target != Target::End {
            let detail = "This list is append-only: leave out \"after\", \"before\" and \"index\".";
            return Err(Problem::new(ProblemKind::Malformed, detail).at(site.path));
        }
        Ok(())
    }

    /// Where a target is at present, `id` being what goes there.
    fn placed(
        cell: &Inner,
        site: &EditContext<'_>,
        list: &Path,
        target: &Target,
        id: &str,
    ) -> Result<Placed, Problem> {
        if let Target::After(beside) | Target::Before(beside) = target {
            cell.is_beside(site, list, beside, id)?;
        }
        if matches!(target, Target::Index(_)) && cell.changes.is_made_anew(site) {
            return Err(site.came_back(list));
        }
        // The end is the end, whoever had put what there.
        if !cell.changes.has_concurrent(site) || *target == Target::End {
            let after = cell
                .places
                .before(target, id)
                .ok_or_else(|| beyond(site, list, cell.places.len(View::PRESENT)))?;
            return Ok(Placed { to: behind(after), made: None, met: vec![] });
        }
        if site.seen < site.memory.horizon() {
            let detail = format!(
                "{list} changed so often since {} that this cannot be placed any more. Look again.",
                site.seen
            );
            return Err(Problem::new(ProblemKind::TooOld, detail).at(site.path));
        }
        let view = View { seen: site.seen, client: site.client };
        // Tried on a clone, which shares everything, so that what is told is what will be.
        let mut places = cell.places.clone();
        let (id, stamp) = (Arc::from(id), Stamp { seq: u64::MAX, client: site.client });
        let placed = if places.remembers(&id) {
            places.shift(view, target, &id, stamp)
        } else {
            places.insert(view, target, &id, stamp)
        };
        placed.ok_or_else(|| beyond(site, list, cell.places.len(view)))?;
        let after = places.before(&Target::Before(id.to_string()), &id).flatten();
        let asked = match target {
            Target::Front => Some(None),
            Target::After(beside) => Some(Some(beside.as_str())),
            _ => None,
        };
        let next = places.rank(&id).and_then(|rank| places.at(View::PRESENT, rank + 1));
        let is_elsewhere = match (asked, target) {
            (Some(asked), _) => asked != after.as_deref(),
            (None, Target::Before(beside)) => next.map(AsRef::as_ref) != Some(beside.as_str()),
            (None, Target::Index(index)) => places.rank(&id) != Some(*index),
            _ => false,
        };
        let met = if is_elsewhere { cell.changes.concurrent(site) } else { vec![] };
        let made = Made { seen: site.seen, place: target.clone() };
        Ok(Placed { to: behind(after), made: Some(made), met })
    }

    fn insert(&self, cell: &Inner, site: &EditContext<'_>) -> Result<Settlement, Problem> {
        let Op::Insert { id, value, to, .. } = site.op("A list", Self::WORDS.takes)? else {
            return Err(site.unknown_op("A list", Self::WORDS.takes));
        };
        let id = id.clone().unwrap_or_default();
        if let Some(element) = cell.elements.get(id.as_str()) {
            let detail =
                format!("There is an element {id:?} in {} already. Give another id.", site.path);
            return Err(Problem::new(ProblemKind::Exists, detail)
                .at(inner(site.path, &id))
                .current(self.plain_item(&element.item)));
        }
        let gone = site.memory.get(&inner(site.path, &id));
        let is_unseen = gone.is_some_and(|gone| site.is_concurrent(gone.stamp));
        if is_unseen || (self.is_append_only && cell.places.remembers(&id)) {
            let detail =
                format!("An element {id:?} was in {} and is gone. Give another id.", site.path);
            return Err(Problem::new(ProblemKind::Exists, detail).at(inner(site.path, &id)));
        }
        if self.keep.is_none() {
            self.has_space(site.path, cell.elements.len() + 1)?;
        }
        self.check_target(site, to)?;
        let item = self.load_item(&inner(site.path, &id), value, Loading::ASKED)?;
        let placed = Self::placed(cell, site, site.path, to, &id)?;
        let verdict = placed.verdict(site);
        let Placed { to, made, .. } = placed;
        let insert = Op::Insert { id: Some(id), value: self.plain_item(&item), to, made };
        let mut settlement =
            Settlement { effects: smallvec![Effect::new(site.path, insert)], verdict };
        let over = self.keep.map_or(0, |keep| (cell.elements.len() + 1).saturating_sub(keep));
        let oldest = (0..over).filter_map(|index| cell.places.at(View::PRESENT, index));
        let oldest = oldest.map(|id| Effect::new(inner(site.path, id), Op::Remove));
        settlement.effects.extend(oldest);
        Ok(settlement)
    }

    fn shift(
        &self,
        cell: &Inner,
        id: &str,
        element: &Element,
        to: &Target,
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
        self.check_target(site, to)?;
        let list = parent(site.path, 1);
        let placed = Self::placed(cell, site, &list, to, id)?;
        let mut verdict = placed.verdict(site);
        let Placed { to, made, .. } = placed;
        let effect = Effect::new(site.path, Op::Move { to, made });
        if site.is_concurrent(element.placed) && element.placed != element.inserted {
            let seq = element.placed.seq;
            let because = format!(
                "Update {seq}, which the proposer had not seen, had moved it elsewhere; the later \
                 move stands."
            );
            verdict = site.verdict(VerdictKind::Overrode, vec![seq], because);
            let before = cell.places.rank(id).and_then(|rank| rank.checked_sub(1));
            let before = before.and_then(|index| cell.places.at(View::PRESENT, index));
            verdict.lost = Some(json!({ "after": before.map(AsRef::as_ref) }));
        }
        Ok(Settlement { effects: smallvec![effect], verdict })
    }

    fn remove(&self, element: &Element, site: &EditContext<'_>) -> Result<Settlement, Problem> {
        let mut met = Vec::new();
        met.extend(
            [element.inserted, element.placed]
                .iter()
                .filter(|stamp| site.is_concurrent(**stamp))
                .map(|stamp| stamp.seq),
        );
        if let (Each::Record(fields), Item::Record(record)) = (&self.each, &element.item) {
            fields.met(record, site, &mut met);
        }
        met.sort_unstable();
        met.dedup();
        let mut settlement = site.applied(Op::Remove);
        if !met.is_empty() {
            let because = format!(
                "The element went, and with it what {} did to it without the proposer having seen \
                 that.",
                listed(&met)
            );
            settlement.verdict = site.verdict(VerdictKind::Overrode, met, because);
            settlement.verdict.lost = Some(self.plain_item(&element.item));
        }
        Ok(settlement)
    }

    fn settle_inside(
        &self,
        id: &str,
        item: &Item,
        rest: &[Token],
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
        match (&self.each, item) {
            (Each::Record(fields), Item::Record(record)) => fields.settle(record, rest, site),
            _ => {
                let detail = format!(
                    "The elements of this list stay as they are; remove {id:?} and insert another."
                );
                Err(Problem::new(ProblemKind::UnknownPath, detail).at(site.path))
            }
        }
    }

    /// An edit at or inside an element that is not there now.
    fn settle_absent(
        &self,
        id: &str,
        rest: &[Token],
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
        let list = parent(site.path, rest.len() + 1);
        let gone = site.memory.get(&inner(&list, id)).filter(|gone| site.is_concurrent(gone.stamp));
        let Some(Gone { stamp, what: What::Element(element) }) = gone else {
            let detail = format!("There is no element {id:?} in {list}.");
            return Err(Problem::new(ProblemKind::Gone, detail).at(site.path));
        };
        let seq = stamp.seq;
        let nothing = |verdict: Verdict| Ok(Settlement { effects: smallvec![], verdict });
        let op = site.op("An element", Self::WORDS.inside)?;
        if rest.is_empty() && *op == Op::Remove {
            self.remove(element, site)?;
            let because = format!("Update {seq} had removed it already; both count as one.");
            return nothing(site.verdict(VerdictKind::Merged, vec![seq], because));
        }
        match op {
            Op::Move { to, .. } if rest.is_empty() => self.check_target(site, to)?,
            _ => drop(self.settle_inside(id, &element.item, rest, site)?),
        }
        let because = format!(
            "Update {seq}, which the proposer had not seen, removed the element; the remove stands."
        );
        let mut verdict = site.verdict(VerdictKind::Dropped, vec![seq], because);
        verdict.lost = op.given();
        nothing(verdict)
    }
}

impl Inner {
    /// Where those are now between whom something was: behind the one, else before the other, else
    /// at the gap that one of them left.
    fn between(&self, after: Option<&str>, before: Option<&str>, id: &str) -> Option<Target> {
        let Some(after) = after else { return Some(Target::Front) };
        if self.elements.contains_key(after) {
            return Some(Target::After(after.to_owned()));
        }
        let is_there = |beside: &&str| self.elements.contains_key(*beside);
        let beside = before.filter(is_there).unwrap_or(after);
        let beside = Some(beside).into_iter().chain(before).find(|id| self.places.remembers(id))?;
        self.places.before(&Target::Before(beside.to_owned()), id).map(behind)
    }

    /// Whether `beside` can be gone by: it is there, or it went unseen by the proposer.
    fn is_beside(
        &self,
        site: &EditContext<'_>,
        list: &Path,
        beside: &str,
        id: &str,
    ) -> Result<(), Problem> {
        if beside == id {
            return Err(Problem::new(
                ProblemKind::Malformed,
                "An element cannot go beside itself.",
            )
            .at(site.path));
        }
        let gone = || site.memory.get(&inner(list, beside));
        let is_unseen = || gone().is_some_and(|gone| site.is_concurrent(gone.stamp));
        if self.elements.contains_key(beside) || (is_unseen() && self.places.remembers(beside)) {
            return Ok(());
        }
        let detail = format!("There is no element {beside:?} in {list} to go beside.");
        Err(Problem::new(ProblemKind::Gone, detail).at(inner(list, beside)))
    }
}

impl Placed {
    fn verdict(&self, site: &EditContext<'_>) -> Verdict {
        if self.met.is_empty() {
            return site.applied_verdict();
        }
        let because = format!(
            "It stands at the place it was meant for, where {} had put others or taken some away.",
            listed(&self.met)
        );
        site.verdict(VerdictKind::Rebased, self.met.clone(), because)
    }
}

/// The place behind an element, or the front.
fn behind(after: Option<Arc<str>>) -> Target {
    after.map_or(Target::Front, |id| Target::After(id.to_string()))
}

/// Where a settled effect puts its element, in which view.
fn seen_place<'e>(
    to: &'e Target,
    made: Option<&'e Made<Target>>,
    stamp: Stamp,
) -> (View, &'e Target) {
    match made {
        None => (View::PRESENT, to),
        Some(Made { seen, place }) => (View { seen: *seen, client: stamp.client }, place),
    }
}

impl Kind for Field {
    type Cell = Cell;
    const WORDS: KindWords =
        KindWords { name: "list", takes: &["insert"], inside: &["move", "remove"] };
    fn is_of_play(&self) -> bool {
        false
    }

    fn declare(section: &mut Section<'_>, declared: &Declared) -> Self {
        let each = match (section.has("each"), section.schema("schema")) {
            (true, None) => Each::Record(Fields::declare(section, "each", declared)),
            (true, Some(_)) => {
                section.fault_at(
                    "schema",
                    "either `each` (records) or `schema` (plain values)",
                    None,
                );
                Each::Record(Fields::declare(section, "each", declared))
            }
            (false, schema) => Each::Value(schema),
        };
        let is_append_only = section.flag("append-only");
        let most = section.number("most", 1..=MOST as i64, MOST);
        let keep =
            section.integer("keep", 1..=MOST as i64).and_then(|keep| usize::try_from(keep).ok());
        if keep.is_some() && !is_append_only {
            section.fault_at(
                "keep",
                "`append-only = true` beside it: only then is the first element the oldest",
                None,
            );
        }
        Self { each, is_append_only, most, keep }
    }

    fn initial(&self, stamp: Stamp) -> Cell {
        Cell::of(OrdMap::new(), Places::of([], stamp), stamp)
    }

    fn load(&self, at: &Path, plain: &Value, loading: Loading) -> Result<Cell, Problem> {
        let shape = || {
            Problem::new(
                ProblemKind::WrongType,
                format!("{at} is a list: an array of {{\"id\", \"value\"}}."),
            )
            .at(at)
        };
        let items = plain.as_array().ok_or_else(shape)?;
        loading.check(|| self.has_space(at, items.len()))?;
        let stamp = loading.stamp;
        let mut elements = OrdMap::new();
        let mut ids: Vec<Arc<str>> = Vec::with_capacity(items.len());
        for item in items {
            let members = item
                .as_object()
                .filter(|members| members.keys().all(|name| name == "id" || name == "value"));
            let (id, value) = members
                .and_then(|members| Some((members.get("id")?, members.get("value")?)))
                .ok_or_else(shape)?;
            let id = checked_id(id).map_err(|problem| problem.at(at))?;
            let item = self.load_item(&inner(at, id), value, loading)?;
            let id: Arc<str> = Arc::from(id);
            if elements.insert(id.clone(), Arc::new(Element::new(item, stamp))).is_some() {
                return Err(Problem::new(
                    ProblemKind::Exists,
                    format!("{at} has two elements {id:?}."),
                )
                .at(inner(at, &id)));
            }
            ids.push(id);
        }
        Ok(Cell::of(elements, Places::of(ids, stamp), stamp))
    }

    fn plain(&self, cell: &Cell) -> Value {
        let elements = cell.0.places.iter().filter_map(|id| Some((id, cell.0.elements.get(id)?)));
        elements.map(|(id, element)| json!({ "id": id.as_ref(), "value": self.plain_item(&element.item) })).collect()
    }

    fn plain_at(&self, cell: &Cell, rest: &[Token]) -> Option<Value> {
        let Some((id, rest)) = rest.split_first() else { return Some(self.plain(cell)) };
        match (&self.each, &cell.0.elements.get(id.as_str())?.item) {
            (Each::Record(fields), Item::Record(record)) => fields.plain_at(record, rest),
            (_, item) => rest.is_empty().then(|| self.plain_item(item)),
        }
    }

    fn settle(
        &self,
        cell: &Cell,
        rest: &[Token],
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
        let cell = &*cell.0;
        let Some((id, rest)) = rest.split_first() else { return self.insert(cell, site) };
        if self.is_append_only {
            return Err(site.unknown_op("An element of an append-only list", &[]));
        }
        if rest.is_empty()
            && !matches!(site.op("An element", Self::WORDS.inside)?, Op::Move { .. } | Op::Remove)
        {
            return Err(site.unknown_op("An element", Self::WORDS.inside));
        }
        match (cell.elements.get(id.as_str()), site.op) {
            (None, _) => self.settle_absent(id, rest, site),
            (Some(element), _) if !rest.is_empty() => {
                self.settle_inside(id, &element.item, rest, site)
            }
            (Some(element), Ok(Op::Move { to, .. })) => self.shift(cell, id, element, to, site),
            (Some(element), _) => self.remove(element, site),
        }
    }

    fn apply(
        &self,
        cell: &mut Cell,
        rest: &[Token],
        effect: &Effect,
        applying: &mut Applying<'_>,
    ) -> Result<(), String> {
        let cell = Arc::make_mut(&mut cell.0);
        let stamp = applying.stamp;
        let nowhere = || "no such place".to_owned();
        let comma = |elements: usize| usize::from(elements > 0);
        let Some((id, rest)) = rest.split_first() else {
            let Op::Insert { id: Some(id), value, to, made } = &effect.op else {
                return Err(stored_op(effect));
            };
            let path = inner(&effect.at, id);
            let gone = applying.memory.take(&path).filter(|_| effect.restores.is_some());
            let id: Arc<str> = Arc::from(id.as_str());
            let (view, target) = seen_place(to, made.as_ref(), stamp);
            let element = match gone {
                Some(Gone { what: What::Element(element), .. }) => {
                    cell.places.shift(view, target, &id, stamp).ok_or_else(nowhere)?;
                    element.again(stamp)
                }
                _ => {
                    let item = self.load_item(&path, value, Loading::settled(stamp));
                    let item = item.map_err(|problem| problem.to_string())?;
                    // One that was removed has its place already.
                    let placed = match cell.places.remembers(&id) {
                        true => cell.places.shift(view, target, &id, stamp),
                        false => cell.places.insert(view, target, &id, stamp),
                    };
                    placed.ok_or_else(nowhere)?;
                    Element::new(item, stamp)
                }
            };
            applying.grow(0, element_weight(&id, value) + comma(cell.elements.len()));
            cell.elements.insert(id, Arc::new(element));
            self.changed(cell, &effect.at, applying);
            return Ok(());
        };
        let found = cell.elements.get_key_value(id.as_str());
        let (id, element) = found.ok_or_else(|| format!("no element {id:?}"))?;
        let (id, element) = (id.clone(), element.clone());
        match (rest.is_empty(), &effect.op, &self.each) {
            (false, _, Each::Record(fields)) => {
                drop(element);
                let element = cell.elements.get_mut(&id).ok_or_else(nowhere)?;
                applying.record = element.whose();
                return match &mut Arc::make_mut(element).item {
                    Item::Record(record) => fields.apply(record, rest, effect, applying),
                    Item::Value(_) => Err(nowhere()),
                };
            }
            (true, Op::Move { to, made }, _) => {
                let (view, target) = seen_place(to, made.as_ref(), stamp);
                cell.places.shift(view, target, &id, stamp).ok_or_else(nowhere)?;
                let moved =
                    Element { placed: stamp, whose_place: effect.restores, ..(*element).clone() };
                cell.elements.insert(id, Arc::new(moved));
            }
            (true, Op::Remove, _) => {
                cell.places.remove(&id, stamp).ok_or_else(nowhere)?;
                cell.elements.remove(&id);
                let bytes = element_weight(&id, &self.plain_item(&element.item));
                applying.grow(bytes + comma(cell.elements.len()), 0);
                if !self.is_append_only {
                    let gone = Gone { stamp, what: What::Element(element) };
                    applying.memory.note(effect.at.clone(), gone, bytes);
                }
            }
            _ => return Err(stored_op(effect)),
        }
        self.changed(cell, &parent(&effect.at, 1), applying);
        Ok(())
    }

    fn patch(&self, cell: &Cell, rest: &[Token], effect: &Effect, patch: &mut Patch) -> Option<()> {
        let places = &cell.0.places;
        let index_of = |to: &Target| match to {
            Target::Front => Some(0),
            Target::After(id) => places.rank(id).map(|rank| rank + 1),
            Target::End | Target::Before(_) | Target::Index(_) => None,
        };
        let Some((id, rest)) = rest.split_first() else {
            let Op::Insert { id: Some(id), value, to, .. } = &effect.op else { return None };
            patch.add_at(&index_of(to)?.to_string(), json!({ "id": id, "value": value }));
            return Some(());
        };
        let index = places.rank(id)?;
        match (rest.is_empty(), &effect.op) {
            (true, Op::Remove) => patch.remove_at(index),
            (true, op) => {
                let Op::Move { to, .. } = op else { return None };
                let to = index_of(to)?;
                patch.shift(index, if to > index { to - 1 } else { to });
            }
            (false, _) => {
                let Item::Record(record) = &cell.0.elements.get(id.as_str())?.item else {
                    return None;
                };
                let Each::Record(fields) = &self.each else { return None };
                patch.step(&index.to_string());
                patch.step("value");
                fields.patch(record, rest, effect, patch)?;
            }
        }
        Some(())
    }

    fn is_deeper(&self, rest: &[Token]) -> bool {
        rest.len() > 1
    }

    fn before(&self, cell: &Cell, rest: &[Token], effect: &Effect, memory: &Memory) -> Before {
        let cell = &*cell.0;
        // What was said in a list that only grows was said.
        if self.is_append_only {
            return Before::Nothing;
        }
        let Some(id) = rest.first() else {
            let Some((Some(id), _)) = effect.op.makes() else { return Before::Nothing };
            let path = inner(&effect.at, id);
            let left = match memory.get(&path).filter(|_| effect.restores.is_some()) {
                Some(Gone { what: What::Element(element), .. }) => Some(element.whose()),
                _ => None,
            };
            return Before::Was { at: Some(path), was: Was::Nothing, left };
        };
        let Some(element) = cell.elements.get(id.as_str()) else { return Before::Nothing };
        match &effect.op {
            Op::Move { .. } => {
                let beside = |step: isize| {
                    let index = cell.places.rank(id)?.checked_add_signed(step)?;
                    cell.places.at(View::PRESENT, index).cloned()
                };
                let (after, before) = (beside(-1), beside(1));
                Before::here(Was::Place { after, before, whose: element.whose_place() })
            }
            Op::Remove => Before::here(Was::There),
            _ => Before::Nothing,
        }
    }

    fn take_back(&self, cell: &Cell, rest: &[Token], taking: &TakingBack<'_>) -> TakenBack {
        let (cell, taken) = (&*cell.0, taking.taken);
        let Some((id, rest)) = rest.split_first() else { return Ok(Inverse::default()) };
        let element = cell.elements.get(id.as_str());
        match (element, &taken.was) {
            (Some(element), _) if !rest.is_empty() => match (&self.each, &element.item) {
                (Each::Record(fields), Item::Record(record)) => {
                    taking.check_record(rest, element.whose())?;
                    fields.take_back(record, rest, taking)
                }
                _ => Ok(Inverse::default()),
            },
            (None, _) if !rest.is_empty() => {
                let gone = taking.memory.get(&parent(&taken.at, rest.len()));
                Err(gone.map_or_else(InTheWay::forgotten, |gone| InTheWay::gone(gone.stamp.seq)))
            }
            (Some(element), Was::Nothing) if element.whose() == taken.left => {
                let inside = taking.met(|site, met| {
                    met.extend(site.is_concurrent(element.placed).then_some(element.placed.seq));
                    if let (Each::Record(fields), Item::Record(record)) =
                        (&self.each, &element.item)
                    {
                        fields.met(record, site, met);
                    }
                });
                match inside {
                    Some(update) => Err(InTheWay::changed(update)),
                    None => Ok(Effect::new(&taken.at, Op::Remove).into()),
                }
            }
            (Some(element), Was::Place { after, before, whose }) => {
                if element.whose_place() != taken.left {
                    return Err(InTheWay::changed(element.placed.seq));
                }
                let to = cell.between(after.as_deref(), before.as_deref(), id);
                let to = to.ok_or_else(InTheWay::forgotten)?;
                Ok(taking.effect(&taken.at, Op::Move { to, made: None }, *whose))
            }
            (None, Was::There) => {
                let gone = taking.memory.get(&taken.at).ok_or_else(InTheWay::forgotten)?;
                let What::Element(element) = &gone.what else { return Err(InTheWay::forgotten()) };
                if gone.stamp.seq != taken.left {
                    return Err(InTheWay::changed(gone.stamp.seq));
                }
                if cell.elements.len() >= self.most {
                    return Err(InTheWay {
                        update: None,
                        because: "There is no space left for it",
                    });
                }
                let after = cell.places.before(&Target::Before(id.to_string()), id);
                let to = after.map(behind).ok_or_else(InTheWay::forgotten)?;
                let value = self.plain_item(&element.item);
                let insert = Op::Insert { id: Some(id.to_string()), value, to, made: None };
                Ok(taking.effect(parent(&taken.at, 1), insert, element.whose()))
            }
            (Some(element), _) => Err(InTheWay::changed(element.placed.seq)),
            (None, _) => Ok(Inverse::default()),
        }
    }

    fn latest(&self, cell: &Cell, rest: &[Token]) -> u64 {
        let Some((id, rest)) = rest.split_first() else { return cell.0.changes.latest() };
        let Some(element) = cell.0.elements.get(id.as_str()) else { return 0 };
        match (&self.each, &element.item) {
            (Each::Record(fields), Item::Record(record)) => {
                let inside = fields.latest(record, rest);
                if rest.is_empty() { inside.max(element.placed.seq) } else { inside }
            }
            _ => element.placed.seq,
        }
    }

    fn most(&self) -> Option<usize> {
        Some(self.most)
    }

    fn each(&self) -> Option<&Fields> {
        match &self.each {
            Each::Record(fields) => Some(fields),
            Each::Value(_) => None,
        }
    }

    fn find<'c>(
        &'c self,
        cell: &'c Cell,
        rest: &[Token],
    ) -> Option<(&'c super::Field, &'c super::Cell)> {
        let (id, rest) = rest.split_first()?;
        match (&self.each, &cell.0.elements.get(id.as_str())?.item) {
            (Each::Record(fields), Item::Record(record)) => fields.find(record, rest),
            _ => None,
        }
    }

    fn rewrite(&self, was: &Value, now: &Value, rewrite: &mut Rewrite) -> Result<(), Problem> {
        let (Some(was), Some(now)) = (elements(was), now.as_array()) else {
            return Err(rewrite.unfit("is a list, given as an array of {\"id\", \"value\"}."));
        };
        let now =
            now.iter().map(|element| given(element, rewrite)).collect::<Result<Vec<_>, _>>()?;
        let before: BTreeMap<&str, &Value> = was.iter().copied().collect();
        let kept: BTreeSet<&str> = now.iter().filter_map(|(id, _)| *id).collect();
        let mut order: Vec<Option<&str>> = Vec::new();
        for (id, _) in &was {
            if kept.contains(id) {
                order.push(Some(id));
            } else {
                rewrite.push(rewrite.edit_at(id, "remove"));
            }
        }
        // From the front on, so that what stands before `index` is in its order already.
        for (index, (id, value)) in now.iter().enumerate() {
            rewrite.has_space()?;
            match id.and_then(|id| before.get_key_value(id)) {
                None => {
                    let edit = rewrite.edit("insert").with("value", (*value).clone());
                    let edit = if index < order.len() { edit.with("index", index) } else { edit };
                    rewrite.push(id.map_or(edit.clone(), |id| edit.with("id", id)));
                    order.insert(index, *id);
                }
                Some((id, was)) => {
                    let at = order
                        .get(index..)
                        .and_then(|rest| rest.iter().position(|known| *known == Some(*id)));
                    let at = index + at.ok_or_else(|| rewrite.unfit("names an element twice."))?;
                    if at != index {
                        rewrite.push(moved(id, &order, index, rewrite)?);
                        order.remove(at);
                        order.insert(index, Some(*id));
                    }
                    rewrite.step(id, |rewrite| self.rewrite_inside(was, value, rewrite))?;
                }
            }
        }
        Ok(())
    }

    fn met(&self, cell: &Cell, site: &EditContext<'_>, met: &mut Vec<u64>) {
        met.extend(cell.0.changes.concurrent(site));
        if let Each::Record(fields) = &self.each {
            for element in cell.0.elements.values() {
                if let Item::Record(record) = &element.item {
                    fields.met(record, site, met);
                }
            }
        }
    }

    fn has(&self, cell: &Cell, rest: &[Token]) -> bool {
        let Some((id, rest)) = rest.split_first() else { return true };
        let Some(element) = cell.0.elements.get(id.as_str()) else { return false };
        match (&self.each, &element.item) {
            (Each::Record(fields), Item::Record(record)) => fields.has(record, rest),
            _ => rest.is_empty(),
        }
    }

    fn forget(&self, cell: &mut Cell, rest: &[Token], horizon: u64) -> bool {
        let cell = Arc::make_mut(&mut cell.0);
        let Some((id, rest)) = rest.split_first() else { return cell.places.forget(horizon) };
        let Some(element) = cell.elements.get_mut(id.as_str()) else { return false };
        match (&self.each, &mut Arc::make_mut(element).item) {
            (Each::Record(fields), Item::Record(record)) => fields.forget(record, rest, horizon),
            _ => false,
        }
    }

    fn only_grows(&self) -> bool {
        self.is_append_only
    }

    fn has_plain_elements(&self) -> bool {
        matches!(self.each, Each::Value(_))
    }

    fn links(
        &self,
        steps: &mut Vec<Option<Token>>,
        _holder: Option<Holder>,
        links: &mut Vec<Link>,
    ) {
        steps.push(None);
        if let Each::Record(fields) = &self.each {
            fields.links(steps, Some(Holder::List), links);
        }
        steps.pop();
    }

    fn walk(&self, cell: &Cell, walk: &mut Walk<'_>) {
        let elements = &cell.0.elements;
        walk.each(
            |id| elements.get_key_value(id).map(|(id, element)| (&**id, &**element)),
            || elements.iter().map(|(id, element)| (&**id, &**element)),
            |element, walk| match (&self.each, &element.item) {
                (Each::Record(fields), Item::Record(record)) => fields.walk(record, walk),
                (_, item) if walk.is_there() => walk.visit(&self.plain_item(item)),
                _ => {}
            },
        );
    }
}

/// What an element is as JSON.
fn element_weight(id: &str, value: &Value) -> usize {
    id.len() + r#"{"id":"","value":}"#.len() + weight(value)
}

impl Cell {
    fn of(elements: OrdMap<Arc<str>, Arc<Element>>, places: Places, stamp: Stamp) -> Self {
        Self(Arc::new(Inner { places, elements, changes: Changes::since(stamp) }))
    }
}

/// An element as a document gives it: its id, where it has one, and its value.
fn given<'v>(
    element: &'v Value,
    rewrite: &Rewrite,
) -> Result<(Option<&'v str>, &'v Value), Problem> {
    let members = element
        .as_object()
        .filter(|members| members.keys().all(|name| name == "id" || name == "value"));
    let value = members.and_then(|members| members.get("value"));
    let id = members.and_then(|members| members.get("id"));
    match (value, id) {
        (Some(value), None) => Ok((None, value)),
        (Some(value), Some(Value::String(id))) => Ok((Some(id), value)),
        _ => Err(rewrite.unfit("is a list, whose elements are {\"id\", \"value\"}.")),
    }
}

/// The move that brings an element to an index of the order that there is.
fn moved(
    id: &str,
    order: &[Option<&str>],
    index: usize,
    rewrite: &Rewrite,
) -> Result<Edit, Problem> {
    let edit = rewrite.edit_at(id, "move");
    let before = index.checked_sub(1).and_then(|index| order.get(index));
    match (before, order.get(index)) {
        (None, _) => Ok(edit.with("after", Value::Null)),
        (Some(Some(before)), _) => Ok(edit.with("after", *before)),
        (Some(None), Some(Some(next))) => Ok(edit.with("before", *next)),
        _ => Err(rewrite.unfit("needs an id for each new element that others move beside.")),
    }
}

fn beyond(site: &EditContext<'_>, list: &Path, len: usize) -> Problem {
    let detail = format!("{list} had {len} elements as the proposer saw it at {}.", site.seen);
    Problem::new(ProblemKind::OutOfBounds, detail).at(site.path).with("length", len)
}
