//! The indexes of the records of one map or list, and which of them a change concerns.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::asked::Common;
use super::index::Index;
use crate::charter::Charter;
use crate::kind::Walk;
use crate::path::{Path, Token};
use crate::state::State;
use crate::update::Change;

/// All indexes of the records at some steps, `None` for any record on the way.
#[derive(Debug, Default)]
pub(super) struct Collection {
    indexes: BTreeMap<Arc<str>, Index>,
    /// Indexes by the fields that they read or send, and those of all fields.
    readers: BTreeMap<String, BTreeSet<Arc<str>>>,
    of_all: BTreeSet<Arc<str>>,
}

/// Records that an update touches.
#[derive(Debug, Default)]
pub(super) struct Touched {
    /// Each with its changed fields; `None` if the whole record may have changed.
    pub(super) records: BTreeMap<Path, Option<BTreeSet<Token>>>,
    /// All at or in these places.
    pub(super) areas: Vec<Path>,
}

impl Touched {
    pub(super) fn of(
        steps: &[Option<Token>],
        charter: &Charter,
        after: &State,
        changes: &[Change],
    ) -> Self {
        let mut touched = Self::default();
        let mut whole = BTreeSet::new();
        for change in changes {
            let (Change::Came(at) | Change::Went(at) | Change::Changed(at)) = change else {
                touched.areas = vec![Path::of::<Token>([])];
                break;
            };
            let tokens = at.tokens();
            let mut on_the_way = steps.iter().zip(tokens);
            if !on_the_way.all(|(step, token)| step.as_ref().is_none_or(|step| step == token)) {
                continue;
            }
            match tokens.get(steps.len()) {
                Some(field) => {
                    let record = Path::of(tokens[..steps.len()].iter().cloned());
                    let fields = touched.records.entry(record);
                    if let Some(fields) = fields.or_insert_with(|| Some(BTreeSet::new())) {
                        fields.insert(field.clone());
                    }
                }
                None if tokens.len() == steps.len() => {
                    whole.insert(at.clone());
                }
                None => touched.areas.push(at.clone()),
            }
        }
        for area in &touched.areas {
            whole.extend(records(steps, charter, after, area.tokens()));
        }
        touched.records.extend(whole.into_iter().map(|path| (path, None)));
        touched
    }
}

/// All records that are there, at or in a place.
fn records(
    steps: &[Option<Token>],
    charter: &Charter,
    state: &State,
    within: &[Token],
) -> BTreeSet<Path> {
    let mut steps = steps.to_vec();
    for (step, token) in steps.iter_mut().zip(within) {
        *step = Some(token.clone());
    }
    let mut found = BTreeSet::new();
    Walk::over(&charter.fields, state.root(), &steps, &mut |path, _| {
        found.insert(Path::of(path.iter().cloned()));
    });
    found
}

impl Collection {
    pub(super) fn is_empty(&self) -> bool {
        self.indexes.is_empty()
    }

    pub(super) fn get(&mut self, identity: &str) -> Option<&mut Index> {
        self.indexes.get_mut(identity)
    }

    /// The index of a query, made where there is none; none of its records was looked at yet.
    pub(super) fn make(
        &mut self,
        charter: &Charter,
        state: &State,
        common: &Arc<Common>,
    ) -> &mut Index {
        let identity = common.identity.clone();
        self.of_all.insert(identity.clone());
        self.indexes.entry(identity).or_insert_with(|| {
            let all = records(common.query.steps(), charter, state, &[]);
            Index::of(common.clone(), all.into_iter().collect())
        })
    }

    /// Lets an index look at some records; gives how many.
    pub(super) fn read(
        &mut self,
        identity: &str,
        charter: &Charter,
        state: &State,
        most: usize,
    ) -> u64 {
        let Some((identity, mut index)) = self.indexes.remove_entry(identity) else { return 0 };
        let sibling = self.indexes.values().max_by_key(|sibling| sibling.len());
        let looked = index.read(charter, state, most, sibling);
        self.indexes.insert(identity, index);
        looked
    }

    pub(super) fn remove(&mut self, identity: &str) {
        self.forget_reader(identity);
        self.indexes.remove(identity);
    }

    /// Notes which fields an index reads and sends, where that has changed.
    pub(super) fn note_reader(&mut self, identity: &str) {
        self.forget_reader(identity);
        let Some((identity, index)) = self.indexes.get_key_value(identity) else { return };
        match index.cares() {
            None => drop(self.of_all.insert(identity.clone())),
            Some(names) => {
                for name in names {
                    self.readers.entry(name).or_default().insert(identity.clone());
                }
            }
        }
    }

    fn forget_reader(&mut self, identity: &str) {
        self.of_all.remove(identity);
        self.readers.retain(|_, readers| {
            readers.remove(identity);
            !readers.is_empty()
        });
    }

    /// The indexes to which what was touched may matter.
    pub(super) fn concerned(&self, touched: &Touched) -> Vec<Arc<str>> {
        if !touched.areas.is_empty() || touched.records.values().any(Option::is_none) {
            return self.indexes.keys().cloned().collect();
        }
        let fields: BTreeSet<&Token> = touched.records.values().flatten().flatten().collect();
        if fields.is_empty() {
            return Vec::new();
        }
        let readers = fields.iter().filter_map(|field| self.readers.get(field.as_str()));
        let found: BTreeSet<&Arc<str>> = readers.flatten().chain(&self.of_all).collect();
        found.into_iter().cloned().collect()
    }
}
