//! The rows of all who ask the same.

use std::borrow::Borrow;
use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Bound::{Excluded, Unbounded};
use std::sync::Arc;

use super::asked::{Common, Placed};
use super::order::Position;
use crate::canonical::CanonicalText;
use crate::charter::Charter;
use crate::path::Path;
use crate::state::State;

/// About the bytes of a row but for its texts, and of a path that is still to be looked at.
const ROW: usize = 170;
const UNREAD: usize = 96;

/// The rows of all who ask the same, but for the group and where they begin.
#[derive(Debug)]
pub(super) struct Index {
    pub(super) common: Arc<Common>,
    /// The fields that have a say in what is a row and where; `None` if all have.
    deciding: Option<BTreeSet<String>>,
    /// Records that were not looked at yet, and how many wait until all are.
    pub(super) unread: Vec<Path>,
    pub(super) waiting: usize,
    rows: BTreeSet<ByPath>,
    pub(super) groups: BTreeMap<CanonicalText, Group>,
    /// What windows send, with how many do.
    pub(super) picks: BTreeMap<Option<Arc<BTreeSet<String>>>, usize>,
    pub(super) bytes: usize,
}

/// A row that is found by its path.
#[derive(Debug)]
struct ByPath(Arc<Placed>);

/// The same row, found by its position.
#[derive(Debug)]
pub(super) struct ByPosition(Arc<Placed>);

macro_rules! found_by {
    ($row:ident, $key:ty, $of:ident) => {
        impl Borrow<$key> for $row {
            fn borrow(&self) -> &$key {
                self.0.$of()
            }
        }

        impl PartialEq for $row {
            fn eq(&self, other: &Self) -> bool {
                self.cmp(other) == Ordering::Equal
            }
        }

        impl Eq for $row {}

        impl PartialOrd for $row {
            fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
                Some(self.cmp(other))
            }
        }

        impl Ord for $row {
            fn cmp(&self, other: &Self) -> Ordering {
                self.0.$of().cmp(other.0.$of())
            }
        }
    };
}

found_by!(ByPath, Path, path);
found_by!(ByPosition, Position, position);

/// What tells windows of a group apart, but for where they begin: of windows with the same, one
/// that begins later ends later.
type Frame = (usize, Option<Arc<BTreeSet<String>>>);

/// Where a window begins, and its number.
type Begin = (Option<Position>, u64);

#[derive(Debug, Default)]
pub(super) struct Group {
    rows: BTreeSet<ByPosition>,
    /// For each frame the windows by where they begin. Nearly always there is one.
    pub(super) windows: Vec<(Frame, Vec<Begin>)>,
}

impl Group {
    /// The windows in which something at a position is a row or may become one.
    pub(super) fn at<'w>(
        &self,
        position: &Position,
        bound_of_full: impl Fn(u64) -> Option<&'w Position>,
        found: &mut BTreeSet<u64>,
    ) {
        for (_, of_frame) in &self.windows {
            let before = of_frame.partition_point(|(after, _)| after.as_ref() < Some(position));
            for (_, id) in of_frame[..before].iter().rev() {
                match bound_of_full(*id) {
                    // Those that begin before it end before it too.
                    Some(last) if last < position => break,
                    _ => {
                        found.insert(*id);
                    }
                }
            }
        }
    }

    /// The windows of a frame, in the order in which they begin.
    pub(super) fn of_frame(&mut self, frame: &Frame) -> &mut Vec<Begin> {
        let known = self.windows.iter().position(|(known, _)| known == frame);
        let at = known.unwrap_or_else(|| {
            self.windows.reserve_exact(1);
            self.windows.push((frame.clone(), Vec::with_capacity(1)));
            self.windows.len() - 1
        });
        &mut self.windows[at].1
    }

    /// The rows behind a position.
    pub(super) fn behind(&self, after: Option<&Position>) -> impl Iterator<Item = &Arc<Placed>> {
        let from = after.map_or(Unbounded, Excluded);
        self.rows.range::<Position, _>((from, Unbounded)).map(|row| &row.0)
    }

    pub(super) fn is_unused(&self) -> bool {
        self.rows.is_empty() && self.windows.is_empty()
    }
}

impl Index {
    pub(super) fn of(common: Arc<Common>, records: Vec<Path>) -> Self {
        let deciding = common.query.deciding();
        let deciding = deciding.map(|names| names.into_iter().map(str::to_owned).collect());
        let bytes = records.len() * UNREAD;
        Self {
            common,
            deciding,
            unread: records,
            waiting: 0,
            rows: BTreeSet::new(),
            groups: BTreeMap::new(),
            picks: BTreeMap::new(),
            bytes,
        }
    }

    /// Whether nobody follows any of it or is about to.
    pub(super) fn is_unused(&self) -> bool {
        self.picks.is_empty() && self.waiting == 0
    }

    pub(super) fn len(&self) -> usize {
        self.rows.len()
    }

    pub(super) fn row(&self, path: &Path) -> Option<&Arc<Placed>> {
        self.rows.get(path).map(|row| &row.0)
    }

    /// The paths of all rows at or in a place.
    pub(super) fn within<'i>(&'i self, place: &'i Path) -> impl Iterator<Item = &'i Path> {
        let rows = self.rows.range::<Path, _>(place..).map(|row| row.0.path());
        rows.take_while(|path| path.is_within(place))
    }

    /// The fields whose change makes a difference here; `None` if all do.
    pub(super) fn cares(&self) -> Option<BTreeSet<String>> {
        let mut names = self.deciding.clone()?;
        for pick in self.picks.keys() {
            names.extend(pick.as_ref()?.iter().cloned());
        }
        Some(names)
    }

    pub(super) fn decides(&self, field: &str) -> bool {
        self.deciding.as_ref().is_none_or(|names| names.contains(field))
    }

    /// Whether some window may send a field.
    pub(super) fn sends(&self, field: &str) -> bool {
        self.picks.keys().any(|pick| pick.as_ref().is_none_or(|pick| pick.contains(field)))
    }

    /// Looks at some records for the first time; gives how many. What changes meanwhile is put where
    /// it belongs whether it was looked at or not. Paths are shared with those of a `sibling`.
    pub(super) fn read(
        &mut self,
        charter: &Charter,
        state: &State,
        most: usize,
        sibling: Option<&Self>,
    ) -> u64 {
        let rest = self.unread.len().saturating_sub(most);
        let read = self.unread.split_off(rest);
        for path in &read {
            self.bytes -= UNREAD;
            let path = sibling.and_then(|sibling| sibling.row(path)).map_or(path, |row| row.path());
            let placed = self.placed(charter, state, path);
            self.put(path, placed);
        }
        if rest == 0 {
            self.unread = Vec::new();
        }
        read.len() as u64
    }

    /// Where a record belongs; the names of groups are shared.
    pub(super) fn placed(
        &self,
        charter: &Charter,
        state: &State,
        path: &Path,
    ) -> Option<Arc<Placed>> {
        let mut placed = self.common.place(charter, state, path)?;
        for group in &mut placed.groups {
            if let Some((known, _)) = self.groups.get_key_value(group) {
                group.clone_from(known);
            }
        }
        Some(Arc::new(placed))
    }

    /// Puts a record where it belongs now.
    pub(super) fn put(&mut self, path: &Path, now: Option<Arc<Placed>>) {
        if let Some(ByPath(was)) = self.rows.take(path) {
            for group in &was.groups {
                let Some(of) = self.groups.get_mut(group) else { continue };
                of.rows.remove(was.position());
                if of.is_unused() {
                    self.groups.remove(group);
                }
            }
            self.bytes -= bytes(&was);
        }
        let Some(now) = now else { return };
        for group in &now.groups {
            let of = self.groups.entry(group.clone()).or_default();
            of.rows.insert(ByPosition(now.clone()));
        }
        self.bytes += bytes(&now);
        self.rows.insert(ByPath(now));
    }
}

/// About the bytes of a row in an index.
fn bytes(placed: &Placed) -> usize {
    let groups: usize = placed.groups.iter().map(|group| group.as_str().len() + 24).sum();
    ROW + groups + placed.position().bytes()
}
