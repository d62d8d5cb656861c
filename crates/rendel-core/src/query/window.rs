//! A stretch of one group of an index: the rows of a result.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::asked::{Bound, Place, Placed};
use super::index::Index;
use super::order::Position;
use super::rows::{Row, RowStep, Ticket};
use super::touched::Touched;
use crate::charter::Charter;
use crate::path::Path;
use crate::state::State;

#[derive(Debug)]
pub(super) struct Window {
    pub(super) bound: Bound,
    pub(super) rows: Vec<Arc<Placed>>,
    pub(super) followers: BTreeSet<Ticket>,
    /// The update after which it was made.
    pub(super) since: u64,
}

impl Window {
    /// The last row, where no more fit in.
    pub(super) fn bound_of_full(&self) -> Option<&Position> {
        let last = self.rows.last().filter(|_| self.rows.len() >= self.bound.limit);
        last.map(|last| last.position())
    }

    pub(super) fn row(&self, charter: &Charter, state: &State, at: usize) -> Row {
        let path = self.rows[at].path().clone();
        Row { value: self.bound.common.value(charter, state, &path), path }
    }

    pub(super) fn end(&self, charter: &Charter, state: &State) -> Option<Place> {
        let last = self.bound_of_full()?;
        Some(self.bound.common.place_of(charter, state, &last.1))
    }

    /// Brings the rows up to what the index says, of which only those at `paths` may have changed;
    /// gives the steps, and how many rows were looked at.
    pub(super) fn turn(
        &mut self,
        index: &Index,
        charter: &Charter,
        (before, after): (&State, &State),
        touched: &Touched,
        paths: &BTreeSet<Path>,
    ) -> (Vec<RowStep>, u64) {
        let group = index.groups.get(&self.bound.group);
        // Beyond the last row of a full result there may be others that nobody has looked at.
        let bound = self.bound_of_full().cloned();
        let came = paths.iter().filter_map(|path| {
            let placed = index.row(path)?;
            let is_here = placed.groups.contains(&self.bound.group)
                && self.bound.after.as_ref().is_none_or(|after| placed.position() > after)
                && bound.as_ref().is_none_or(|bound| placed.position() <= bound);
            is_here.then(|| placed.clone())
        });
        let stays = self.rows.iter().filter(|row| !paths.contains(row.path())).cloned();
        let mut rows: Vec<Arc<Placed>> = stays.chain(came).collect();
        rows.sort_by(|one, other| one.position().cmp(other.position()));
        let mut looked = 0;
        if rows.len() < self.bound.limit
            && let Some(group) = group
        {
            let last = bound.as_ref().or(rows.last().map(|last| last.position()));
            let last = last.or(self.bound.after.as_ref()).cloned();
            let missing = self.bound.limit - rows.len();
            let more: Vec<_> = group.behind(last.as_ref()).take(missing).cloned().collect();
            looked += more.len() as u64;
            rows.extend(more);
        }
        rows.truncate(self.bound.limit);
        let was = std::mem::replace(&mut self.rows, rows);
        let mut steps = Vec::new();
        let mut list: Vec<&Path> = was.iter().map(|row| row.path()).collect();
        let now: BTreeMap<&Path, usize> =
            self.rows.iter().enumerate().map(|(at, row)| (row.path(), at)).collect();
        for at in (0..list.len()).rev() {
            if !now.contains_key(list[at]) {
                list.remove(at);
                steps.push(RowStep::Out { at });
            }
        }
        let known: BTreeSet<&Path> = list.iter().copied().collect();
        // What was not touched is in order, and what was may be. Each of the rest goes right behind
        // the last that is in its place and comes before it.
        let mut settled: BTreeSet<usize> =
            list.iter().filter(|path| !paths.contains(**path)).map(|path| now[*path]).collect();
        for (at, path) in list.iter().enumerate().filter(|(_, path)| paths.contains(**path)) {
            let is_settled = |path: &&&Path| settled.contains(&now[**path]);
            let before = list[..at].iter().rev().find(is_settled).map(|path| now[*path]);
            let after = list[at + 1..].iter().find(is_settled).map(|path| now[*path]);
            let rank = now[*path];
            if before.is_none_or(|before| before < rank) && after.is_none_or(|after| rank < after) {
                settled.insert(rank);
            }
        }
        let place = |list: &[&Path], settled: &BTreeSet<usize>, rank: usize| {
            let before = settled.range(..rank).next_back().map(|rank| self.rows[*rank].path());
            before
                .and_then(|before| list.iter().position(|path| *path == before))
                .map_or(0, |at| at + 1)
        };
        for path in paths.iter().filter(|path| known.contains(path)) {
            let rank = now[path];
            let at = list.iter().position(|known| *known == path);
            let Some(at) = at.filter(|_| !settled.contains(&rank)) else { continue };
            list.remove(at);
            let to = place(&list, &settled, rank);
            list.insert(to, path);
            settled.insert(rank);
            if at != to {
                steps.push(RowStep::Move { at, to });
            }
        }
        let comes = self.rows.iter().enumerate().filter(|(_, row)| !known.contains(row.path()));
        for (rank, row) in comes {
            let at = place(&list, &settled, rank);
            list.insert(at, row.path());
            settled.insert(rank);
            looked += 1;
            steps.push(RowStep::In { at, row: self.row(charter, after, rank) });
        }
        for path in paths.iter().filter(|path| known.contains(path)) {
            let fields = touched.records.get(path).and_then(Option::as_ref);
            let is_sent = fields.is_none_or(|fields| {
                fields.iter().any(|field| self.bound.common.sends(field.as_str()))
            });
            if is_sent {
                looked += 2;
                let value = self.bound.common.value(charter, after, path);
                if value != self.bound.common.value(charter, before, path) {
                    steps.push(RowStep::Change { at: now[path], value });
                }
            }
        }
        // The place of the last row may be another where nothing that is sent of it is.
        if steps.is_empty()
            && let Some(last) = self.bound_of_full()
            && was.last().map(|last| last.position()) != Some(last)
        {
            let value = self.bound.common.value(charter, after, &last.1);
            steps.push(RowStep::Change { at: self.rows.len() - 1, value });
        }
        (steps, looked)
    }
}
