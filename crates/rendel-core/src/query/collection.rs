//! The indexes of the records of one map or list, and which of them a change concerns.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::asked::Common;
use super::index::Index;
use super::rows::{RowSteps, Turned};
use super::touched::{Touched, records};
use super::window::Window;
use crate::charter::Charter;
use crate::path::{Path, Token};
use crate::state::State;

/// All indexes of the records at some steps, `None` for any record on the way.
#[derive(Debug, Default)]
pub(super) struct Collection {
    indexes: BTreeMap<Arc<str>, Index>,
    /// Indexes by the fields that they read or send, and those of all fields.
    readers: BTreeMap<String, BTreeSet<Arc<str>>>,
    of_all: BTreeSet<Arc<str>>,
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

    /// Records which fields an index reads and sends, after these have changed.
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

/// Takes changes in; gives how many records and rows were looked at, and what each window that
/// turned is told.
pub(super) fn turn(
    index: &mut Index,
    windows: &mut BTreeMap<u64, Window>,
    charter: &Charter,
    states: (&State, &State),
    (touched, seq): (&Touched, u64),
) -> (u64, Vec<(u64, Turned)>) {
    // Of what is gone as a whole only the index knows that it was there.
    let gone: BTreeSet<Path> = touched
        .areas
        .iter()
        .flat_map(|area| index.within(area))
        .filter(|path| !touched.records.contains_key(*path))
        .cloned()
        .collect();
    let records = touched.records.iter().map(|(path, fields)| (path, fields.as_ref()));
    let records = records.chain(gone.iter().map(|path| (path, None)));
    let mut affected: BTreeMap<u64, BTreeSet<Path>> = BTreeMap::new();
    let (mut moved, mut turned, mut looked) = (Vec::new(), Vec::new(), 0);
    for (path, fields) in records {
        let is_any = |matters: &dyn Fn(&str) -> bool| {
            fields.is_none_or(|fields| fields.iter().any(|field| matters(field.as_str())))
        };
        let decides = is_any(&|field| index.decides(field));
        if !decides && !is_any(&|field| index.sends(field)) {
            continue;
        }
        let was = index.row(path);
        let now = match decides {
            true => {
                looked += 1;
                index.placed(charter, states.1, path)
            }
            false => was.cloned(),
        };
        let mut at = BTreeSet::new();
        for placed in [was, now.as_ref()].into_iter().flatten() {
            for group in placed.groups.iter().filter_map(|group| index.groups.get(group)) {
                group.at(placed.position(), |id| windows.get(&id)?.bound_of_full(), &mut at);
            }
        }
        for window in at {
            affected.entry(window).or_default().insert(path.clone());
        }
        if was != now.as_ref() {
            moved.push((path.clone(), now));
        }
    }
    for (path, now) in moved {
        index.put(&path, now);
    }
    for (id, paths) in affected {
        let Some(window) = windows.get_mut(&id) else { continue };
        let (steps, rows) = window.turn(index, charter, states, touched, &paths);
        looked += rows;
        if !steps.is_empty() {
            let end = window.end(charter, states.1);
            let tickets = window.followers.clone();
            let steps = RowSteps { seq, since: None, steps, end };
            turned.push((id, Turned { tickets, steps }));
        }
    }
    (looked, turned)
}
