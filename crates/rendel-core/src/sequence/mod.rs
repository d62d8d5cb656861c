//! The versioned sequence that text and lists share: elements in document order, each with the
//! update that inserted it and those that removed it.
//!
//! An edit made against `seen` is read in its client's own view: what came up to `seen`, and all
//! that the client did itself. So no edit is ever transformed over another; it finds its place
//! among the elements that its author knew.
//!
//! # Where an insert goes
//! Between the element `l` before it and the next element `r` after `l` that its author knew, dead
//! or alive, there may be elements that they did not know. The new one goes directly beside the
//! younger of the two: before `r` if `r` came to be after `l`, else after `l`.
//!
//! Whoever goes on typing, forwards or backwards, types beside an element of their own that is
//! younger than whatever lies on the other side, so runs typed at one place by several do not
//! interleave. The idea, that an element hangs on one of its two neighbours, is that of *The Art of
//! the Fugue: Minimizing Interleaving in Collaborative Text Editing* (Weidner and Kleppmann, 2023),
//! which keeps a tree to know on which. Where all updates come in one order no tree is needed.
//!
//! # Cost
//! An edit with nothing concurrent costs O(log n). The first edit of a view counts what was changed
//! since `seen`, m parts, in O(m); each further one of the same view O(log n). Clones share
//! everything.

mod arena;
mod places;
mod run;
mod text;
mod tree;

use std::ops::Range;

use serde::de::DeserializeOwned;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::stamp::Stamp;
pub(crate) use places::{Places, Target};
pub use run::View;
use run::{Birth, Death, Run};
pub(crate) use text::Returned;
pub use text::{SettledSplice, Splice, TextPart, VersionedText};
use thin_vec::ThinVec;
use tree::{Count, NodeId, Spot, Tree};

/// Elements in document order, and what is remembered of those that are gone.
#[derive(Clone, Debug)]
pub(crate) struct Sequence<P> {
    tree: Tree<P>,
    last: Last,
    /// Views of up to this update cannot be read any more, since what they saw was taken back so
    /// often.
    floor: u64,
    /// Where the last insert ended at present: whoever types goes on there.
    finger: Option<(usize, Spot)>,
}

/// The last update that inserted, and how often it did: each run that came has a birth of its own.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
struct Last {
    #[serde(rename = "last")]
    seq: u64,
    parts: u32,
}

/// What the elements of a sequence carry: nothing for characters, whose text lies elsewhere.
pub(crate) trait Piece: Clone + PartialEq {
    /// Whether neighbours with these pieces may be one run.
    fn joins(&self, next: &Self) -> bool;
}

impl Piece for () {
    fn joins(&self, _next: &Self) -> bool {
        true
    }
}

/// What became of a range that somebody removes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Cut {
    /// The parts that stand side by side at present, from the left: where they are in the view of
    /// whoever removes, and where at present. Of a part that is gone already the latter is empty.
    pub(crate) parts: Vec<CutPart>,
    /// Who had removed some of it already.
    pub(crate) met: Vec<u64>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct CutPart {
    pub(crate) viewed: Range<usize>,
    pub(crate) present: Range<usize>,
}

/// A run that goes or comes back: where it is among what is there and among what is gone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Turned {
    pub(crate) present: usize,
    pub(crate) gone: usize,
    pub(crate) len: usize,
    pub(crate) goes: bool,
}

/// What becomes of a sequence where the work of some updates is taken back.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Returns {
    /// What goes and what comes back.
    pub(crate) turned: Vec<Turned>,
    /// By which updates what would come back is gone all the same.
    pub(crate) stay: Vec<u64>,
}

/// Where an element that somebody saw at an index is now.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Anchored {
    /// Its index now, or that of the gap which it left.
    pub index: usize,
    /// Whether it is still there.
    pub is_there: bool,
}

impl<P: Piece> Sequence<P> {
    /// A sequence that came with `stamp`, one run per piece.
    pub(crate) fn of(pieces: impl IntoIterator<Item = (u32, P)>, stamp: Stamp) -> Self {
        let mut offset = 0;
        let runs = pieces.into_iter().map(|(len, piece)| {
            let birth = Birth { stamp, part: 0, offset };
            offset += len;
            Run { len, birth, deaths: ThinVec::new(), piece }
        });
        let tree = Tree::of(runs.filter(|run| run.len > 0).collect());
        Self { tree, last: Last { seq: stamp.seq, parts: 1 }, floor: 0, finger: None }
    }

    /// Elements that a view sees.
    pub(crate) fn len(&self, view: View) -> usize {
        self.tree.count(view).seen
    }

    /// Between which elements a view sees the gap before `index`.
    fn gap(&self, view: View, index: usize) -> Option<Gap> {
        let Some(before) = index.checked_sub(1) else {
            let start = self.tree.start();
            return Some(Gap { left: None, right: self.tree.next_known(view, start.leaf, 0) });
        };
        let left = match self.finger {
            Some((end, spot)) if end == index && view == View::PRESENT => spot,
            _ => self.tree.seek(view, before)?,
        };
        Some(self.gap_after(view, left))
    }

    fn gap_after(&self, view: View, left: Spot) -> Gap {
        let after = Spot { offset: left.offset + 1, ..left };
        let is_inside = self.tree.run(left).is_some_and(|run| after.offset < run.len);
        let right = if is_inside {
            Some(after)
        } else {
            self.tree.next_known(view, left.leaf, left.run + 1)
        };
        Gap { left: Some(left), right }
    }

    fn gap_before(&self, view: View, right: Spot) -> Gap {
        let last =
            |spot: Spot| Spot { offset: self.tree.run(spot).map_or(0, |run| run.len - 1), ..spot };
        Gap {
            left: self.tree.previous_known(view, right.leaf, right.run).map(last),
            right: Some(right),
        }
    }

    fn birth(&self, spot: Spot) -> Option<Birth> {
        self.tree.run(spot).map(|run| run.birth.plus(spot.offset))
    }

    /// The rule that the head of this file explains.
    fn spot(&self, gap: Gap) -> Spot {
        let births = |left: Spot, right: Spot| Some((self.birth(left)?, self.birth(right)?));
        match (gap.left, gap.right) {
            (None, None) => self.tree.start(),
            (None, Some(right)) => right,
            (Some(left), Some(right))
                if births(left, right).is_some_and(|(left, right)| right.is_later_than(left)) =>
            {
                right
            }
            (Some(left), _) => Spot { offset: left.offset + 1, ..left },
        }
    }

    /// Where what a view inserts at `index` will stand at present; `None` beyond its end.
    pub(crate) fn place(&self, view: View, index: usize) -> Option<usize> {
        self.gap(view, index).map(|gap| self.tree.rank(self.spot(gap)))
    }

    /// Inserts `len` elements at the `index` of a view; `None` beyond its end.
    pub(crate) fn insert(
        &mut self,
        view: View,
        index: usize,
        len: u32,
        piece: P,
        stamp: Stamp,
    ) -> Option<Inserted> {
        let gap = self.gap(view, index)?;
        let inserted = self.insert_in(gap, len, piece, stamp);
        if view == View::PRESENT {
            self.finger = Some((index + len as usize, Spot { offset: len - 1, ..inserted.spot }));
        }
        Some(inserted)
    }

    fn insert_in(&mut self, gap: Gap, len: u32, piece: P, stamp: Stamp) -> Inserted {
        self.finger = None;
        let parts = if self.last.seq == stamp.seq { self.last.parts + 1 } else { 0 };
        self.last = Last { seq: stamp.seq, parts };
        let birth = Birth { stamp, part: parts, offset: 0 };
        let (spot, new_leaf) =
            self.tree.insert(self.spot(gap), Run { len, birth, deaths: ThinVec::new(), piece });
        Inserted { spot, new_leaf }
    }

    /// What removing `len` elements from the `index` of a view on would do; `None` beyond its end.
    /// Changes nothing.
    pub(crate) fn cut(&self, view: View, index: usize, len: usize) -> Option<Cut> {
        let mut cut = Cut::default();
        if len == 0 {
            return Some(cut);
        }
        let first = self.tree.seek(view, index)?;
        let (mut leaf, mut at, mut offset) = (first.leaf, first.run, first.offset);
        let (mut viewed, mut present, end) = (index, self.tree.rank(first), index + len);
        while viewed < end {
            let Some(run) = self.tree.runs(leaf).get(at) else {
                (leaf, at) = (self.tree.next_leaf(leaf)?, 0);
                continue;
            };
            let rest = (run.len - offset) as usize;
            if run.is_seen_by(view) {
                let taken = rest.min(end - viewed);
                cut.take(viewed..viewed + taken, present, run.is_alive());
                if !run.is_alive() {
                    cut.met.extend(run.holding().map(|death| death.stamp.seq));
                }
                viewed += taken;
                present += if run.is_alive() { taken } else { 0 };
            } else if run.is_alive() {
                present += rest;
            }
            (at, offset) = (at + 1, 0);
        }
        cut.met.sort_unstable();
        cut.met.dedup();
        Some(cut)
    }

    /// Removes `len` elements from the `index` of a view on; `None` beyond its end, with what was
    /// there removed. Tells of each run that was there at present where it was.
    pub(crate) fn remove(
        &mut self,
        view: View,
        index: usize,
        len: usize,
        stamp: Stamp,
        mut tell: impl FnMut(Turned),
    ) -> Option<()> {
        let mut left = len;
        while left > 0 {
            let spot = self.tree.seek(view, index)?;
            let was =
                self.tree.run(spot).is_some_and(Run::is_alive).then(|| self.tree.before(spot));
            let (removed, _) = self.remove_at(spot, u32::try_from(left).unwrap_or(u32::MAX), stamp);
            let removed = removed as usize;
            if let Some(Count { seen, known }) = was {
                tell(Turned { present: seen, gone: known - seen, len: removed, goes: true });
            }
            left -= removed;
        }
        Some(())
    }

    fn remove_at(&mut self, spot: Spot, len: u32, stamp: Stamp) -> (u32, Option<NodeId>) {
        self.finger = None;
        self.tree.change(spot, len, |run| run.deaths.push(Death::of(stamp)))
    }

    /// What taking back the work of some updates would do, from the left, in places of before all
    /// of it; `None` where nothing here is theirs. Changes nothing. Cost O(runs).
    pub(crate) fn taken_back(&self, is_theirs: impl Fn(Stamp) -> bool + Copy) -> Option<Returns> {
        let mut returns = Returns::default();
        let (mut present, mut gone, mut is_any) = (0, 0, false);
        for run in self.tree.iter() {
            let (len, was) = (run.len as usize, run.is_alive());
            if let Some(deaths) = run.taken_back(is_theirs, Stamp::OPENING) {
                is_any = true;
                let holding = deaths.iter().filter(|death| death.undone.is_none());
                let holding: Vec<u64> = holding.map(|death| death.stamp.seq).collect();
                if was != holding.is_empty() {
                    returns.turn(Turned { present, gone, len, goes: was });
                } else if !run.deaths.iter().all(|death| holding.contains(&death.stamp.seq)) {
                    returns.stay.extend(holding.into_iter().max().filter(|seq| *seq > 0));
                }
            }
            *(if was { &mut present } else { &mut gone }) += len;
        }
        is_any.then_some(returns)
    }

    /// Does what [`taken_back`](Self::taken_back) tells.
    pub(crate) fn take_back(&mut self, is_theirs: impl Fn(Stamp) -> bool + Copy, stamp: Stamp) {
        self.finger = None;
        let turned = self.tree.spots().filter_map(|(spot, run)| {
            run.taken_back(is_theirs, stamp).map(|deaths| (spot, run.len, deaths))
        });
        let turned: Vec<_> = turned.collect();
        // Whole runs are changed, so no spot is another for it.
        for (spot, len, deaths) in turned {
            let floor = &mut self.floor;
            self.tree.change(spot, len, |run| {
                run.deaths = deaths;
                *floor = run.forget_undone().max(*floor);
            });
        }
    }

    /// What was removed and is there no more once an update is forgotten, as places among what is
    /// gone.
    pub(crate) fn forgotten(&self, horizon: u64) -> Vec<Range<usize>> {
        let mut gone = 0;
        let mut forgotten = Vec::new();
        for run in self.tree.iter().filter(|run| !run.is_alive()) {
            let end = gone + run.len as usize;
            forgotten.extend(run.is_forgotten(horizon).then_some(gone..end));
            gone = end;
        }
        forgotten
    }

    /// The last update of which a view cannot be read any more.
    pub(crate) fn floor(&self) -> u64 {
        self.floor
    }

    /// What is there, as so many elements of each update side by side.
    pub(crate) fn births(&self) -> Vec<(usize, u64)> {
        let mut births: Vec<(usize, u64)> = Vec::new();
        for run in self.tree.iter().filter(|run| run.is_alive()) {
            let (len, seq) = (run.len as usize, run.birth.stamp.seq);
            match births.last_mut().filter(|(_, last)| *last == seq) {
                Some((count, _)) => *count += len,
                None => births.push((len, seq)),
            }
        }
        births
    }

    /// Elements that are gone and remembered.
    pub(crate) fn gone(&self) -> usize {
        let Count { seen, known } = self.tree.count(View::PRESENT);
        known - seen
    }

    /// Where the element is now that a view sees at `index`; `None` beyond its end.
    pub(crate) fn anchored(&self, view: View, index: usize) -> Option<Anchored> {
        let spot = self.tree.seek(view, index)?;
        let is_there = self.tree.run(spot).is_some_and(Run::is_alive);
        Some(Anchored { index: self.tree.rank(spot), is_there })
    }

    /// Forgets what was removed up to an update and who inserted what before: that is as if it had
    /// been there from the beginning, in one run where it may be. Views of before it cannot be read
    /// any more, and spots and leaves are others. Gives whether it remembers something later. Cost
    /// O(runs).
    pub(crate) fn forget(&mut self, horizon: u64) -> bool {
        let mut kept: Vec<Run<P>> = Vec::new();
        let mut offset = 0;
        for run in self.tree.iter().filter(|run| !run.is_forgotten(horizon)) {
            let mut run = run.clone();
            let is_past = |stamp: Stamp| stamp.seq <= horizon;
            run.deaths.retain(|death| !death.undone.is_some_and(is_past));
            if run.birth.stamp.seq <= horizon {
                run.birth = Birth { stamp: Stamp::OPENING, part: 0, offset };
                offset += run.len;
            }
            match kept.last_mut().filter(|last| last.continues_in(&run)) {
                Some(last) => last.len += run.len,
                None => kept.push(run),
            }
        }
        self.finger = None;
        self.tree = Tree::of(kept);
        let is_later = |run: &Run<P>| run.birth.stamp.seq > horizon || !run.deaths.is_empty();
        self.tree.iter().any(is_later)
    }
}

impl<P: Piece> Run<P> {
    /// The removals that hold.
    fn holding(&self) -> impl Iterator<Item = &Death> {
        self.deaths.iter().filter(|death| death.undone.is_none())
    }

    /// Whether it was gone at an update and is still.
    fn is_forgotten(&self, horizon: u64) -> bool {
        self.holding().any(|death| death.stamp.seq <= horizon)
    }

    fn continues_in(&self, next: &Self) -> bool {
        self.birth.plus(self.len) == next.birth
            && self.deaths == next.deaths
            && self.piece.joins(&next.piece)
    }
}

impl Cut {
    fn take(&mut self, viewed: Range<usize>, present: usize, is_alive: bool) {
        let end = present + if is_alive { viewed.len() } else { 0 };
        match self.parts.last_mut() {
            // Beside each other in both, or one of them gone: one part.
            Some(last) if last.present.end == present => {
                last.viewed.end = viewed.end;
                last.present.end = end;
            }
            Some(last) if last.present.is_empty() => {
                last.viewed.end = viewed.end;
                last.present = present..end;
            }
            Some(last) if end == present => last.viewed.end = viewed.end,
            _ => self.parts.push(CutPart { viewed, present: present..end }),
        }
    }
}

impl Returns {
    /// Adds a run, to the one before it where they are beside each other.
    fn turn(&mut self, turned: Turned) {
        let Turned { present, gone, len, goes } = turned;
        match self.turned.last_mut() {
            Some(last)
                if last.goes == goes
                    && last.present + if goes { last.len } else { 0 } == present
                    && last.gone + if goes { 0 } else { last.len } == gone =>
            {
                last.len += len;
            }
            _ => self.turned.push(turned),
        }
    }
}

/// The elements on both sides of a place, as its view knows them.
#[derive(Clone, Copy, Debug)]
struct Gap {
    left: Option<Spot>,
    right: Option<Spot>,
}

/// Where a run went.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Inserted {
    spot: Spot,
    new_leaf: Option<NodeId>,
}

impl<P: Piece> PartialEq for Sequence<P> {
    fn eq(&self, other: &Self) -> bool {
        self.last == other.last && self.tree.iter().eq(other.tree.iter())
    }
}

#[derive(Serialize, Deserialize)]
struct StoredSequence<P> {
    #[serde(flatten)]
    last: Last,
    #[serde(default, skip_serializing_if = "is_zero")]
    floor: u64,
    runs: Vec<Run<P>>,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde gives a reference")]
fn is_zero(seq: &u64) -> bool {
    *seq == 0
}

impl<P: Piece + Serialize> Serialize for Sequence<P> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        StoredSequence {
            last: self.last,
            floor: self.floor,
            runs: self.tree.iter().cloned().collect(),
        }
        .serialize(serializer)
    }
}

impl<'de, P: Piece + DeserializeOwned> Deserialize<'de> for Sequence<P> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let StoredSequence { last, floor, runs } = StoredSequence::<P>::deserialize(deserializer)?;
        Ok(Self { tree: Tree::of(runs), last, floor, finger: None })
    }
}
