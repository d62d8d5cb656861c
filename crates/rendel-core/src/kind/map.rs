//! `map`: records by id. Records are put and dropped; the fields of a record settle on their own.
//!
//! An edit inside a record against a concurrent drop of it is settled by `drop-conflict`: with
//! `drop` (the default) the drop stands, with `revive` the edit does and the record comes back.

use std::sync::Arc;

use imbl::OrdMap;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use smallvec::smallvec;

use super::edit_context::stored_op;
use super::memory::{Gone, What};
use super::record::Entry;
use super::{
    Applying, Before, Declared, EditContext, Fields, Holder, InTheWay, Inverse, Kind, KindWords,
    Link, Loading, Memory, Record, Settlement, TakenBack, TakingBack, Walk, Was, listed,
};
use crate::canonical::weight;
use crate::declaration::Section;
use crate::op::Op;
use crate::patch::Patch;
use crate::path::{Path, Token, checked_id, inner, parent};
use crate::problem::{Problem, ProblemKind};
use crate::rewrite::Rewrite;
use crate::stamp::Stamp;
use crate::update::{Effect, VerdictKind};

/// A declared map.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    each: Fields,
    drop_conflict: DropConflict,
    most: usize,
    /// One record for each participant, under their id, made and changed by themselves alone.
    is_own: bool,
    holds_ballots: bool,
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum DropConflict {
    Drop,
    Revive,
}

/// The records of a map.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Cell {
    records: OrdMap<Arc<str>, Arc<Entry>>,
}

const MOST: usize = 100_000;

impl Cell {
    pub(crate) fn len(&self) -> usize {
        self.records.len()
    }
}

impl Field {
    /// A map of the ballots that participants have cast, under their ids.
    pub(crate) fn of_ballots() -> Self {
        let each = Fields::of_ballot();
        let drop_conflict = DropConflict::Drop;
        Self { each, drop_conflict, most: MOST, is_own: true, holds_ballots: true }
    }

    fn put(&self, cell: &Cell, site: &EditContext<'_>) -> Result<Settlement, Problem> {
        let Op::Put { id, value } = site.op("A map", Self::WORDS.takes)? else {
            return Err(site.unknown_op("A map", Self::WORDS.takes));
        };
        let id = id.clone().unwrap_or_default();
        if let Some(entry) = cell.records.get(id.as_str()) {
            let detail = format!(
                "There is a record {id:?} in {} already. Edit its fields, or put under another id.",
                site.path
            );
            return Err(Problem::new(ProblemKind::Exists, detail)
                .at(inner(site.path, &id))
                .current(self.each.plain(&entry.record)));
        }
        self.has_space(site.path, cell.records.len() + 1)?;
        let record = self.each.load(&inner(site.path, &id), value, Loading::ASKED)?;
        Ok(site.applied(self.put_op(&id, &record)))
    }

    fn put_op(&self, id: &str, record: &Record) -> Op {
        Op::Put { id: Some(id.to_owned()), value: self.each.plain(record) }
    }

    fn has_space(&self, path: &Path, records: usize) -> Result<(), Problem> {
        if records <= self.most {
            return Ok(());
        }
        let detail = format!("{path} holds at most {} records. Drop one first.", self.most);
        Err(Problem::new(ProblemKind::Full, detail).at(path).with("limit", "most"))
    }

    fn drop(&self, entry: &Entry, site: &EditContext<'_>) -> Result<Settlement, Problem> {
        let mut met = Vec::new();
        met.extend(site.is_concurrent(entry.put).then_some(entry.put.seq));
        self.each.met(&entry.record, site, &mut met);
        met.sort_unstable();
        met.dedup();
        let mut settlement = site.applied(Op::Drop);
        if met.is_empty() {
            return Ok(settlement);
        }
        let seqs = listed(&met);
        match self.drop_conflict {
            DropConflict::Drop => {
                let because = format!(
                    "The record went, and with it what {seqs} changed without the proposer having \
                     seen it."
                );
                settlement.verdict = site.verdict(VerdictKind::Overrode, met, because);
                settlement.verdict.lost = Some(self.each.plain(&entry.record));
            }
            DropConflict::Revive => {
                let because = format!(
                    "The record stays, since {seqs} changed it and the proposer had not seen that."
                );
                settlement.effects.clear();
                settlement.verdict = site.verdict(VerdictKind::Dropped, met, because);
            }
        }
        Ok(settlement)
    }

    /// An edit at or inside a record that is not there now.
    fn settle_absent(
        &self,
        cell: &Cell,
        id: &str,
        rest: &[Token],
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
        let map = parent(site.path, rest.len() + 1);
        let gone = site.memory.get(&inner(&map, id)).filter(|gone| site.is_concurrent(gone.stamp));
        let Some(Gone { stamp, what: What::Record(entry) }) = gone else {
            let detail = format!("There is no record {id:?} in {map}.");
            return Err(Problem::new(ProblemKind::Gone, detail).at(site.path));
        };
        let seq = stamp.seq;
        if rest.is_empty() {
            self.drop(entry, site)?;
            let verdict = site.verdict(
                VerdictKind::Merged,
                vec![seq],
                format!("Update {seq} had dropped it already; both count as one."),
            );
            return Ok(Settlement { effects: smallvec![], verdict });
        }
        let mut settlement = self.each.settle(&entry.record, rest, site)?;
        match self.drop_conflict {
            DropConflict::Drop => {
                let because = format!(
                    "Update {seq}, which the proposer had not seen, dropped the record; the drop \
                     stands."
                );
                settlement.effects.clear();
                settlement.verdict = site.verdict(VerdictKind::Dropped, vec![seq], because);
                settlement.verdict.lost = site.op.as_ref().ok().and_then(Op::given);
            }
            DropConflict::Revive => {
                self.has_space(&map, cell.records.len() + 1)?;
                let revive =
                    Op::Revive { id: id.to_owned(), value: self.each.plain(&entry.record) };
                settlement.effects.insert(0, Effect::new(map, revive));
                let because = format!(
                    "It brought the record back, which update {seq} had dropped unseen by the \
                     proposer."
                );
                settlement.verdict = site.verdict(VerdictKind::Overrode, vec![seq], because);
            }
        }
        Ok(settlement)
    }
}

impl Kind for Field {
    type Cell = Cell;
    const WORDS: KindWords = KindWords { name: "map", takes: &["put"], inside: &["drop"] };
    fn is_of_play(&self) -> bool {
        self.holds_ballots
    }

    fn declare(section: &mut Section<'_>, declared: &Declared) -> Self {
        let drop_conflict =
            match section.choice("drop-conflict", &["drop", "revive"], "drop").as_str() {
                "revive" => DropConflict::Revive,
                _ => DropConflict::Drop,
            };
        let most = section
            .integer("most", 1..=MOST as i64)
            .and_then(|most| usize::try_from(most).ok())
            .unwrap_or(MOST);
        let is_own =
            section.has("key") && section.one_of("key", &["author"]).as_deref() == Some("author");
        let each = Fields::declare(section, "each", declared);
        Self { each, drop_conflict, most, is_own, holds_ballots: false }
    }

    fn initial(&self, _stamp: Stamp) -> Cell {
        Cell::default()
    }

    fn load(&self, at: &Path, plain: &Value, loading: Loading) -> Result<Cell, Problem> {
        let Value::Object(members) = plain else {
            return Err(Problem::new(
                ProblemKind::WrongType,
                format!("{at} is a map: an object of records by id."),
            )
            .at(at));
        };
        loading.check(|| self.has_space(at, members.len()))?;
        let load = |(id, value): (&String, &Value)| {
            let checked = || checked_id(&Value::from(id.as_str())).map(drop);
            loading.check(checked).map_err(|problem| problem.at(at))?;
            let record = self.each.load(&inner(at, id), value, loading)?;
            Ok((Arc::from(id.as_str()), Arc::new(Entry::new(record, loading.stamp))))
        };
        let records = members.iter().map(load).collect::<Result<_, Problem>>()?;
        Ok(Cell { records })
    }

    fn plain(&self, cell: &Cell) -> Value {
        let members =
            cell.records.iter().map(|(id, entry)| (id.to_string(), self.each.plain(&entry.record)));
        Value::Object(members.collect::<Map<_, _>>())
    }

    fn plain_at(&self, cell: &Cell, rest: &[Token]) -> Option<Value> {
        match rest.split_first() {
            None => Some(self.plain(cell)),
            Some((id, rest)) => self.each.plain_at(&cell.records.get(id.as_str())?.record, rest),
        }
    }

    fn settle(
        &self,
        cell: &Cell,
        rest: &[Token],
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
        let Some((id, rest)) = rest.split_first() else { return self.put(cell, site) };
        if rest.is_empty() && *site.op("A record", Self::WORDS.inside)? != Op::Drop {
            return Err(site.unknown_op("A record", Self::WORDS.inside));
        }
        match cell.records.get(id.as_str()) {
            None => self.settle_absent(cell, id, rest, site),
            Some(entry) if rest.is_empty() => self.drop(entry, site),
            Some(entry) => self.each.settle(&entry.record, rest, site),
        }
    }

    fn apply(
        &self,
        cell: &mut Cell,
        rest: &[Token],
        effect: &Effect,
        applying: &mut Applying<'_>,
    ) -> Result<(), String> {
        let stamp = applying.stamp;
        let comma = |records: usize| usize::from(records > 0);
        let Some((id, rest)) = rest.split_first() else {
            let (Op::Put { id: Some(id), value } | Op::Revive { id, value }) = &effect.op else {
                return Err(stored_op(effect));
            };
            let path = inner(&effect.at, id);
            let is_back = matches!(effect.op, Op::Revive { .. });
            let entry = match applying.memory.take(&path).filter(|_| is_back) {
                // With the order in which its texts and lists came to be: what was made against it
                // still counts.
                Some(Gone { what: What::Record(entry), .. }) => {
                    Entry { record: entry.record.clone(), put: stamp, whose: Some(entry.whose()) }
                }
                _ => {
                    applying.memory.forget_within(&path);
                    let loaded = self.each.load(&path, value, Loading::settled(stamp));
                    Entry::new(loaded.map_err(|problem| problem.to_string())?, stamp)
                }
            };
            let id: Arc<str> = Arc::from(id.as_str());
            applying.grow(0, member_weight(&id, value) + comma(cell.records.len()));
            cell.records.insert(id, Arc::new(entry));
            return Ok(());
        };
        if !rest.is_empty() {
            let entry = cell.records.get_mut(id.as_str());
            let entry = entry.ok_or_else(|| format!("no record {id:?}"))?;
            applying.record = entry.whose();
            return self.each.apply(&mut Arc::make_mut(entry).record, rest, effect, applying);
        }
        if effect.op != Op::Drop {
            return Err(stored_op(effect));
        }
        let (id, entry) =
            cell.records.remove_with_key(id.as_str()).ok_or_else(|| format!("no record {id:?}"))?;
        let bytes = member_weight(&id, &self.each.plain(&entry.record));
        applying.grow(bytes + comma(cell.records.len()), 0);
        applying.memory.note(effect.at.clone(), Gone { stamp, what: What::Record(entry) }, bytes);
        Ok(())
    }

    fn patch(&self, cell: &Cell, rest: &[Token], effect: &Effect, patch: &mut Patch) -> Option<()> {
        let Some((id, rest)) = rest.split_first() else {
            let (Op::Put { .. } | Op::Revive { .. }, Some((id, value))) =
                (&effect.op, effect.op.makes())
            else {
                return None;
            };
            patch.add_at(id?, value.clone());
            return Some(());
        };
        patch.step(id);
        if rest.is_empty() {
            if patch.turn(&effect.op).is_none() {
                patch.remove();
            }
            return Some(());
        }
        self.each.patch(&cell.records.get(id.as_str())?.record, rest, effect, patch)
    }

    fn is_deeper(&self, rest: &[Token]) -> bool {
        rest.len() > 1
    }

    fn before(&self, cell: &Cell, rest: &[Token], effect: &Effect, memory: &Memory) -> Before {
        let Some(id) = rest.first() else {
            let Some((Some(id), _)) = effect.op.makes() else { return Before::Nothing };
            let path = inner(&effect.at, id);
            let left = match (&effect.op, memory.get(&path)) {
                (Op::Revive { .. }, Some(Gone { what: What::Record(entry), .. })) => {
                    Some(entry.whose())
                }
                _ => None,
            };
            return Before::Was { at: Some(path), was: Was::Nothing, left };
        };
        match cell.records.contains_key(id.as_str()) {
            true => Before::here(Was::There),
            false => Before::Nothing,
        }
    }

    fn take_back(&self, cell: &Cell, rest: &[Token], taking: &TakingBack<'_>) -> TakenBack {
        let Some((id, rest)) = rest.split_first() else { return Ok(Inverse::default()) };
        let (taken, entry) = (taking.taken, cell.records.get(id.as_str()));
        match (entry, &taken.was) {
            (Some(entry), _) if !rest.is_empty() => {
                taking.check_record(rest, entry.whose())?;
                self.each.take_back(&entry.record, rest, taking)
            }
            (None, _) if !rest.is_empty() => {
                let gone = taking.memory.get(&parent(&taken.at, rest.len()));
                Err(gone.map_or_else(InTheWay::forgotten, |gone| InTheWay::gone(gone.stamp.seq)))
            }
            (Some(entry), Was::Nothing) if entry.whose() == taken.left => {
                let inside = taking.met(|site, met| self.each.met(&entry.record, site, met));
                match inside {
                    Some(update) => Err(InTheWay::changed(update)),
                    None => Ok(Effect::new(&taken.at, Op::Drop).into()),
                }
            }
            (None, Was::There) => {
                let gone = taking.memory.get(&taken.at).ok_or_else(InTheWay::forgotten)?;
                let What::Record(entry) = &gone.what else { return Err(InTheWay::forgotten()) };
                if gone.stamp.seq != taken.left {
                    return Err(InTheWay::changed(gone.stamp.seq));
                }
                if cell.records.len() >= self.most {
                    return Err(InTheWay {
                        update: None,
                        because: "There is no space left for it",
                    });
                }
                let value = self.each.plain(&entry.record);
                let revive = Op::Revive { id: id.to_string(), value };
                Ok(taking.effect(parent(&taken.at, 1), revive, entry.whose()))
            }
            (Some(entry), _) => Err(InTheWay::changed(entry.put.seq)),
            (None, _) => Ok(Inverse::default()),
        }
    }

    fn latest(&self, cell: &Cell, rest: &[Token]) -> u64 {
        let Some((id, rest)) = rest.split_first() else { return 0 };
        let Some(entry) = cell.records.get(id.as_str()) else { return 0 };
        let inside = self.each.latest(&entry.record, rest);
        if rest.is_empty() { inside.max(entry.put.seq) } else { inside }
    }

    fn is_own(&self) -> bool {
        self.is_own
    }

    fn most(&self) -> Option<usize> {
        Some(self.most)
    }

    fn each(&self) -> Option<&Fields> {
        Some(&self.each)
    }

    fn find<'c>(
        &'c self,
        cell: &'c Cell,
        rest: &[Token],
    ) -> Option<(&'c super::Field, &'c super::Cell)> {
        let (id, rest) = rest.split_first()?;
        self.each.find(&cell.records.get(id.as_str())?.record, rest)
    }

    fn rewrite(&self, was: &Value, now: &Value, rewrite: &mut Rewrite) -> Result<(), Problem> {
        let (Some(was), Some(now)) = (was.as_object(), now.as_object()) else {
            return Err(rewrite.unfit("is a map, given as an object of its records by id."));
        };
        for gone in was.keys().filter(|id| !now.contains_key(*id)) {
            rewrite.push(rewrite.edit_at(gone, "drop"));
        }
        for (id, record) in now {
            match was.get(id) {
                Some(was) => rewrite.step(id, |rewrite| self.each.rewrite(was, record, rewrite))?,
                None => rewrite
                    .push(rewrite.edit("put").with("id", id.clone()).with("value", record.clone())),
            }
            rewrite.has_space()?;
        }
        Ok(())
    }

    fn met(&self, cell: &Cell, site: &EditContext<'_>, met: &mut Vec<u64>) {
        for entry in cell.records.values() {
            met.extend(site.is_concurrent(entry.put).then_some(entry.put.seq));
            self.each.met(&entry.record, site, met);
        }
    }

    fn has(&self, cell: &Cell, rest: &[Token]) -> bool {
        let Some((id, rest)) = rest.split_first() else { return true };
        let entry = cell.records.get(id.as_str());
        entry.is_some_and(|entry| self.each.has(&entry.record, rest))
    }

    fn forget(&self, cell: &mut Cell, rest: &[Token], horizon: u64) -> bool {
        let Some((id, rest)) = rest.split_first() else { return false };
        let Some(entry) = cell.records.get_mut(id.as_str()) else { return false };
        self.each.forget(&mut Arc::make_mut(entry).record, rest, horizon)
    }

    fn links(
        &self,
        steps: &mut Vec<Option<Token>>,
        _holder: Option<Holder>,
        links: &mut Vec<Link>,
    ) {
        steps.push(None);
        self.each.links(steps, Some(Holder::Map), links);
        steps.pop();
    }

    fn walk(&self, cell: &Cell, walk: &mut Walk<'_>) {
        walk.each(
            |id| cell.records.get_key_value(id).map(|(id, entry)| (&**id, &**entry)),
            || cell.records.iter().map(|(id, entry)| (&**id, &**entry)),
            |entry, walk| self.each.walk(&entry.record, walk),
        );
    }
}

/// What a record is in its object: its name with quotes, a colon, and its value.
fn member_weight(id: &str, value: &Value) -> usize {
    id.len() + 3 + weight(value)
}
