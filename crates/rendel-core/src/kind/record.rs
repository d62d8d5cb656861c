//! Records: named fields side by side. The root of a state is one, and so is each element of a map.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use smallvec::SmallVec;

use super::{
    Applying, Cell, Declared, EditContext, Field, Holder, Inverse, Link, Loading, Settlement,
    TakenBack, TakingBack, Walk,
};
use crate::canonical::is_same;
use crate::declaration::{Section, is_field_name};
use crate::patch::Patch;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::rewrite::Rewrite;
use crate::stamp::Stamp;
use crate::suggest::nearest;
use crate::update::Effect;

/// What a ballot holds.
pub(crate) const CHOICE: &str = "choice";

/// The name of the map of ballots of a field of ballots.
pub(crate) fn ballot_records(ballot: &str) -> String {
    format!("{ballot}-ballots")
}

/// Records may lie in records this deep.
const DEEPEST: usize = 16;

/// The declared fields of a record, in the order of their names.
#[derive(Clone, Debug, Default)]
pub struct Fields(Vec<(String, Field)>);

/// The cells of a record, in the order of its [`Fields`].
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub(crate) struct Record(Vec<Cell>);

/// A record of a map.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct Entry {
    pub(super) record: Record,
    /// When it came, or came back.
    pub(super) put: Stamp,
    /// Whose work it is, where it came back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) whose: Option<u64>,
}

impl Entry {
    /// One that comes.
    pub(super) fn new(record: Record, put: Stamp) -> Self {
        Self { record, put, whose: None }
    }

    pub(super) fn whose(&self) -> u64 {
        self.whose.unwrap_or(self.put.seq)
    }
}

/// An element of a list.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct Element {
    pub(super) item: Item,
    pub(super) inserted: Stamp,
    /// Its last move, or its insert.
    pub(super) placed: Stamp,
    /// Whose work it is and whose place it has, where an undo brought that back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) whose: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) whose_place: Option<u64>,
}

impl Element {
    /// One that comes.
    pub(super) fn new(item: Item, inserted: Stamp) -> Self {
        Self { item, inserted, placed: inserted, whose: None, whose_place: None }
    }

    pub(super) fn whose(&self) -> u64 {
        self.whose.unwrap_or(self.inserted.seq)
    }

    /// The same, back after it was gone.
    pub(super) fn again(&self, stamp: Stamp) -> Self {
        let whose = Some(self.whose());
        Self {
            item: self.item.clone(),
            inserted: stamp,
            placed: stamp,
            whose,
            whose_place: Some(self.whose_place()),
        }
    }

    pub(super) fn whose_place(&self) -> u64 {
        self.whose_place.unwrap_or(self.placed.seq)
    }
}

/// What an element is.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(super) enum Item {
    Record(Record),
    Value(Value),
}

impl Fields {
    fn new(mut fields: Vec<(String, Field)>) -> Self {
        fields.sort_by(|(one, _), (other, _)| one.cmp(other));
        Self(fields)
    }

    /// The fields of one ballot.
    pub(super) fn of_ballot() -> Self {
        Self::new(vec![(CHOICE.to_owned(), Field::Register(super::register::Field::plain()))])
    }

    /// Adds a field.
    pub(super) fn add(&mut self, name: String, field: Field) {
        self.0.push((name, field));
        *self = Self::new(std::mem::take(&mut self.0));
    }

    /// Reads a needed table of declared fields.
    pub(crate) fn declare(
        section: &mut Section<'_>,
        key: &'static str,
        declared: &Declared,
    ) -> Self {
        if section.depth() > 2 * DEEPEST {
            section.fault_at(key, &format!("records at most {DEEPEST} deep"), None);
            section.know(key);
            return Self::default();
        }
        let Some(mut inner_section) = section.known_section(key) else {
            if !section.has(key) {
                section.fault_at(
                    key,
                    &format!("at least one field, as in [{}.notes]", section.inner_path(key)),
                    None,
                );
            }
            return Self::default();
        };
        let names = inner_section.keys();
        if names.is_empty() {
            section.fault_at(key, "at least one field", None);
        }
        let mut fields = Vec::new();
        for name in names {
            if !is_field_name(&name) {
                inner_section.fault_at(
                    &name,
                    "a field name of 1 to 64 letters, digits, dashes and underscores",
                    None,
                );
            }
            let Some(mut inner) = inner_section.section(&name) else { continue };
            if let Some(field) = Field::declare(&mut inner, declared) {
                inner.finish();
                fields.push((name, field));
            }
        }
        Self::new(fields)
    }

    /// The fields of the record that a path leads to.
    pub(crate) fn each_at(&self, tokens: &[Token]) -> Option<&Self> {
        let pairs = tokens.chunks_exact(2);
        if tokens.is_empty() || !pairs.remainder().is_empty() {
            return None;
        }
        pairs.into_iter().try_fold(self, |fields, pair| fields.field(&pair[0])?.each())
    }

    /// How many tokens of a path lead to the innermost record around what it leads to; 0 for a
    /// field of the state itself.
    pub(crate) fn record_prefix(&self, path: &Path) -> usize {
        let mut fields = self;
        let mut tokens = 0;
        for pair in path.tokens().chunks_exact(2) {
            match fields.field(&pair[0]).and_then(Field::each) {
                Some(each) => fields = each,
                None => break,
            }
            tokens += 2;
        }
        tokens
    }

    /// Each field with its name.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &Field)> {
        self.0.iter().map(|(name, field)| (name.as_str(), field))
    }

    /// The field of that name.
    pub fn field(&self, name: &str) -> Option<&Field> {
        self.position(name).map(|at| &self.0[at].1)
    }

    fn position(&self, name: &str) -> Option<usize> {
        self.0.binary_search_by(|(known, _)| known.as_str().cmp(name)).ok()
    }

    pub(crate) fn initial(&self, stamp: Stamp) -> Record {
        Record(self.0.iter().map(|(_, field)| field.initial(stamp)).collect())
    }

    pub(crate) fn load(
        &self,
        at: &Path,
        plain: &Value,
        loading: Loading,
    ) -> Result<Record, Problem> {
        let Value::Object(members) = plain else {
            return Err(Problem::new(
                ProblemKind::WrongType,
                "A record is given as an object of its fields.",
            )
            .at(at));
        };
        if let Some(name) = members.keys().find(|name| self.position(name).is_none()) {
            return Err(self.unknown(at, name));
        }
        let mut inner = at.tokens().to_vec();
        let cells = self.0.iter().map(|(name, field)| match members.get(name) {
            None => Ok(field.initial(loading.stamp)),
            Some(value) => {
                inner.push(name.into());
                let cell = field.load(&Path::of(inner.iter().cloned()), value, loading);
                inner.pop();
                cell
            }
        });
        cells.collect::<Result<_, _>>().map(Record)
    }

    pub(crate) fn plain(&self, record: &Record) -> Value {
        let members = self
            .0
            .iter()
            .zip(&record.0)
            .map(|((name, field), cell)| (name.clone(), field.plain(cell)));
        Value::Object(members.collect::<Map<_, _>>())
    }

    pub(crate) fn plain_at(&self, record: &Record, rest: &[Token]) -> Option<Value> {
        let Some((name, rest)) = rest.split_first() else { return Some(self.plain(record)) };
        let at = self.position(name)?;
        self.0[at].1.plain_at(record.0.get(at)?, rest)
    }

    pub(crate) fn settle(
        &self,
        record: &Record,
        rest: &[Token],
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
        let Some((name, rest)) = rest.split_first() else {
            return Err(
                Problem::new(ProblemKind::UnknownPath, "The path must name a field.").at(site.path)
            );
        };
        let parent = &site.path.tokens()[..site.path.tokens().len() - rest.len() - 1];
        let found = self.position(name).and_then(|at| Some((&self.0[at].1, record.0.get(at)?)));
        let (field, cell) = found
            .ok_or_else(|| self.unknown(&Path::of(parent.iter().cloned()), name).at(site.path))?;
        field.settle(cell, rest, site)
    }

    pub(crate) fn apply(
        &self,
        record: &mut Record,
        rest: &[Token],
        effect: &Effect,
        applying: &mut Applying<'_>,
    ) -> Result<(), String> {
        let (name, rest) = rest.split_first().ok_or("the path names no field")?;
        let at = self.position(name).ok_or_else(|| format!("no field {name:?}"))?;
        let cell = record.0.get_mut(at).ok_or_else(|| format!("no cell for {name:?}"))?;
        self.0[at].1.apply(cell, rest, effect, applying)
    }

    fn cell<'r>(
        &self,
        record: &'r Record,
        tokens: &'r [Token],
    ) -> Option<(&Field, &'r Cell, &'r [Token])> {
        let (name, rest) = tokens.split_first()?;
        let at = self.position(name)?;
        Some((&self.0[at].1, record.0.get(at)?, rest))
    }

    pub(crate) fn take_back(
        &self,
        record: &Record,
        rest: &[Token],
        taking: &TakingBack<'_>,
    ) -> TakenBack {
        let found = self.cell(record, rest);
        found.map_or(Ok(Inverse::default()), |(field, cell, rest)| {
            field.take_back(cell, rest, taking)
        })
    }

    /// The update that last changed what a path leads to; of a whole record the last in it.
    pub(crate) fn latest(&self, record: &Record, rest: &[Token]) -> u64 {
        match self.cell(record, rest) {
            Some((field, cell, rest)) => field.latest(cell, rest),
            None => {
                let cells = self.0.iter().zip(&record.0);
                cells.map(|((_, field), cell)| field.latest(cell, &[])).max().unwrap_or(0)
            }
        }
    }

    pub(crate) fn met(&self, record: &Record, site: &EditContext<'_>, met: &mut Vec<u64>) {
        self.0.iter().zip(&record.0).for_each(|((_, field), cell)| field.met(cell, site, met));
    }

    pub(crate) fn walk(&self, record: &Record, walk: &mut Walk<'_>) {
        if walk.is_there() {
            // Nobody who walks to records asks what is in them.
            return walk.visit(&Value::Null);
        }
        let Some(name) = walk.name().map(str::to_owned) else { return };
        if let Some((at, cell)) = self.position(&name).and_then(|at| Some((at, record.0.get(at)?)))
        {
            walk.step(&name, |walk| self.0[at].1.walk(cell, walk));
        }
    }

    pub(crate) fn patch(
        &self,
        record: &Record,
        rest: &[Token],
        effect: &Effect,
        patch: &mut Patch,
    ) -> Option<()> {
        let (name, rest) = rest.split_first()?;
        let at = self.position(name)?;
        patch.step(name);
        if rest.is_empty() && patch.turn(&effect.op).is_some() {
            return Some(());
        }
        self.0[at].1.patch(record.0.get(at)?, rest, effect, patch)
    }

    /// See [`Kind::rewrite`](super::Kind::rewrite). A field that the new record lacks is unset,
    /// if it can be.
    pub(crate) fn rewrite(
        &self,
        was: &Value,
        now: &Value,
        rewrite: &mut Rewrite,
    ) -> Result<(), Problem> {
        let (Some(was), Some(now)) = (was.as_object(), now.as_object()) else {
            return Err(rewrite.unfit("is a record, given as an object of its fields."));
        };
        if let Some(name) = now.keys().find(|name| self.position(name).is_none()) {
            return Err(self.unknown(&rewrite.path(), name));
        }
        for (name, field) in self.iter() {
            let before = was.get(name).unwrap_or(&Value::Null);
            let after = now.get(name).unwrap_or(&Value::Null);
            if !is_same(before, after) {
                rewrite.step(name, |rewrite| field.rewrite(before, after, rewrite))?;
            }
        }
        Ok(())
    }

    pub(crate) fn find<'c>(
        &'c self,
        record: &'c Record,
        rest: &[Token],
    ) -> Option<(&'c Field, &'c Cell)> {
        let (name, rest) = rest.split_first()?;
        let at = self.position(name)?;
        self.0[at].1.find(record.0.get(at)?, rest)
    }

    /// The declared fields that a path passes, each with what remains of the path after it.
    pub(crate) fn along<'f, 't>(&'f self, tokens: &'t [Token]) -> Vec<(&'f Field, &'t [Token])> {
        let (mut fields, mut rest, mut found) = (Some(self), tokens, Vec::new());
        while let (Some(here), Some((name, after))) = (fields, rest.split_first()) {
            let Some(field) = here.field(name) else { break };
            found.push((field, after));
            (fields, rest) = (field.each(), after.get(1..).unwrap_or_default());
        }
        found
    }

    /// A member of the record at `tokens`, or the whole value there. A list of plain values reads as
    /// those values.
    pub(crate) fn member(
        &self,
        record: &Record,
        tokens: &[Token],
        member: Option<&str>,
    ) -> Option<Value> {
        let mut path = SmallVec::<[Token; 4]>::from_iter(tokens.iter().cloned());
        path.extend(member.map(Token::from));
        if let Some((field, cell)) = self.find(record, &path)
            && field.has_plain_elements()
            && let Value::Array(elements) = field.plain(cell)
        {
            let value = |mut element: Value| element.get_mut("value").map(Value::take);
            return Some(elements.into_iter().filter_map(value).collect());
        }
        match self.plain_at(record, &path) {
            // A register is one value, so a path cannot lead into it.
            None => self.plain_at(record, tokens)?.get(member?).cloned(),
            found => found,
        }
    }

    pub(crate) fn has(&self, record: &Record, rest: &[Token]) -> bool {
        let Some((name, rest)) = rest.split_first() else { return true };
        let Some(at) = self.position(name) else { return false };
        record.0.get(at).is_some_and(|cell| self.0[at].1.has(cell, rest))
    }

    pub(crate) fn forget(&self, record: &mut Record, rest: &[Token], horizon: u64) -> bool {
        let Some((name, rest)) = rest.split_first() else { return false };
        let Some(at) = self.position(name) else { return false };
        record.0.get_mut(at).is_some_and(|cell| self.0[at].1.forget(cell, rest, horizon))
    }

    pub(crate) fn links(
        &self,
        steps: &mut Vec<Option<Token>>,
        holder: Option<Holder>,
        links: &mut Vec<Link>,
    ) {
        for (name, field) in &self.0 {
            steps.push(Some(name.into()));
            field.links(steps, holder, links);
            steps.pop();
        }
    }

    fn unknown(&self, parent: &Path, name: &str) -> Problem {
        let names: Vec<_> = self.iter().map(|(name, _)| name).collect();
        let whole = |name: &str| format!("{parent}{}", Path::of([name]));
        let place =
            if parent.tokens().is_empty() { "the state".to_owned() } else { parent.to_string() };
        Problem::new(
            ProblemKind::UnknownPath,
            format!("There is no {name:?} in {place}; the charter declares {}.", names.join(", ")),
        )
        .at(whole(name))
        .did_you_mean(nearest(name, names).map(|meant| whole(&meant)))
    }
}
