//! The tree that keeps the runs of a sequence in document order, with counts.
//!
//! A B-tree whose nodes lie in an arena and name each other by index: a clone shares everything,
//! and a node can be reached from below, by its parent.

use parking_lot::Mutex;

use super::arena::Arena;
use super::run::{Run, View};

/// Runs in a leaf and children in an inner node, at most.
const WIDTH: usize = 32;
/// Runs for which a leaf gets space at once. Doubling would leave half of it unused.
const ROOM: usize = 8;

pub(super) use super::arena::NodeId;

/// A place between elements: before the element `offset` of run `run` of leaf `leaf`, which may be
/// one past its last.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Spot {
    pub(super) leaf: NodeId,
    pub(super) run: usize,
    pub(super) offset: u32,
}

/// Elements of a part of the sequence, dead ones included or not, as somebody sees it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Count {
    /// That are there.
    pub(super) seen: usize,
    /// That were ever there.
    pub(super) known: usize,
}

#[derive(Clone, Copy, Debug)]
struct Child {
    id: NodeId,
    /// As the present sees it.
    count: Count,
    /// The last update that touched anything in it: to who has seen that it is as it is at present.
    latest: u64,
}

/// What a parent hears of a child that has changed: how it is now, or by how much it has grown,
/// below zero by wrapping.
enum News {
    Counted(Child),
    Grown { seen: usize, known: usize, latest: u64 },
}

#[derive(Clone, Debug)]
enum Body<P> {
    Leaf(Vec<Run<P>>),
    Inner(Vec<Child>),
}

#[derive(Debug)]
struct Node<P> {
    parent: Option<NodeId>,
    body: Body<P>,
    /// What the last view that asked sees of this node. A client that comes back with many edits
    /// has one view for all of them, so each edit counts anew only the nodes that the one before it
    /// changed.
    memo: Mutex<Option<(View, Count)>>,
}

impl<P: Clone> Clone for Node<P> {
    fn clone(&self) -> Self {
        Self { parent: self.parent, body: self.body.clone(), memo: Mutex::new(*self.memo.lock()) }
    }
}

#[derive(Clone, Debug)]
pub(super) struct Tree<P> {
    nodes: Arena<Node<P>>,
    root: NodeId,
}

impl<P: Clone> Tree<P> {
    /// A tree of runs in their order. Cost O(runs).
    pub(super) fn of(runs: Vec<Run<P>>) -> Self {
        let mut tree = Self { nodes: Arena::default(), root: 0 };
        let half = WIDTH / 2;
        let mut level = Vec::new();
        let mut runs = runs.into_iter().peekable();
        while level.is_empty() || runs.peek().is_some() {
            let leaf = tree.add(Body::Leaf(runs.by_ref().take(half).collect()));
            level.push(leaf);
        }
        while level.len() > 1 {
            level = level.chunks(half).map(|ids| tree.add_inner(ids)).collect();
        }
        tree.root = level[0];
        tree
    }

    fn add(&mut self, body: Body<P>) -> NodeId {
        self.nodes.add(Node { parent: None, body, memo: Mutex::new(None) })
    }

    fn add_inner(&mut self, ids: &[NodeId]) -> NodeId {
        let children = ids.iter().map(|id| self.child(*id)).collect();
        let inner = self.add(Body::Inner(children));
        ids.iter().for_each(|id| self.node_mut(*id).parent = Some(inner));
        inner
    }

    fn node(&self, id: NodeId) -> &Node<P> {
        self.nodes.get(id)
    }

    fn node_mut(&mut self, id: NodeId) -> &mut Node<P> {
        self.nodes.get_mut(id)
    }

    fn child(&self, id: NodeId) -> Child {
        let (count, latest) = match &self.node(id).body {
            Body::Leaf(runs) => {
                (count_runs(runs, View::PRESENT), runs.iter().map(Run::latest).max())
            }
            Body::Inner(children) => (
                sum(children.iter().map(|child| child.count)),
                children.iter().map(|child| child.latest).max(),
            ),
        };
        Child { id, count, latest: latest.unwrap_or(0) }
    }

    /// What a view sees of everything.
    pub(super) fn count(&self, view: View) -> Count {
        self.count_of(self.child(self.root), view)
    }

    fn count_of(&self, child: Child, view: View) -> Count {
        if child.latest <= view.seen {
            return child.count;
        }
        let node = self.node(child.id);
        if let Some((_, count)) = node.memo.lock().filter(|(of, _)| *of == view) {
            return count;
        }
        let count = match &node.body {
            Body::Leaf(runs) => count_runs(runs, view),
            Body::Inner(children) => sum(children.iter().map(|child| self.count_of(*child, view))),
        };
        *node.memo.lock() = Some((view, count));
        count
    }

    /// The element that a view sees at `index`. Cost O(log n) and what of the view was not counted
    /// yet.
    pub(super) fn seek(&self, view: View, index: usize) -> Option<Spot> {
        let mut left = index;
        let mut id = self.root;
        loop {
            match &self.node(id).body {
                Body::Inner(children) => {
                    let mut step = |child: &Child| {
                        let seen = self.count_of(*child, view).seen;
                        let is_here = left < seen;
                        left -= if is_here { 0 } else { seen };
                        is_here
                    };
                    id = children.iter().find(|child| step(child))?.id;
                }
                Body::Leaf(runs) => {
                    for (run, candidate) in
                        runs.iter().enumerate().filter(|(_, run)| run.is_seen_by(view))
                    {
                        match u32::try_from(left) {
                            Ok(offset) if offset < candidate.len => {
                                return Some(Spot { leaf: id, run, offset });
                            }
                            _ => left -= candidate.len as usize,
                        }
                    }
                    return None;
                }
            }
        }
    }

    pub(super) fn run(&self, spot: Spot) -> Option<&Run<P>> {
        self.runs(spot.leaf).get(spot.run)
    }

    pub(super) fn runs(&self, leaf: NodeId) -> &[Run<P>] {
        match &self.node(leaf).body {
            Body::Leaf(runs) => runs,
            Body::Inner(_) => &[],
        }
    }

    /// Elements before a spot that are there at present. Cost O(log n).
    pub(super) fn rank(&self, spot: Spot) -> usize {
        self.before(spot).seen
    }

    /// Elements before a spot, as the present sees it. Cost O(log n).
    pub(super) fn before(&self, spot: Spot) -> Count {
        let runs = self.runs(spot.leaf);
        let mut count = count_runs(&runs[..spot.run], View::PRESENT);
        count.known += spot.offset as usize;
        if runs.get(spot.run).is_some_and(Run::is_alive) {
            count.seen += spot.offset as usize;
        }
        let mut id = spot.leaf;
        while let Some(parent) = self.node(id).parent {
            let before = self.children(parent).iter().take_while(|child| child.id != id);
            count = sum([count].into_iter().chain(before.map(|child| child.count)));
            id = parent;
        }
        count
    }

    fn children(&self, id: NodeId) -> &[Child] {
        match &self.node(id).body {
            Body::Inner(children) => children,
            Body::Leaf(_) => &[],
        }
    }

    /// The first run at or after `run` of a leaf that a view knows, dead or alive. Cost O(log n).
    pub(super) fn next_known(&self, view: View, leaf: NodeId, run: usize) -> Option<Spot> {
        self.known_beside(view, leaf, run, true)
    }

    /// The last run before `run` of a leaf that a view knows, dead or alive. Cost O(log n).
    pub(super) fn previous_known(&self, view: View, leaf: NodeId, run: usize) -> Option<Spot> {
        self.known_beside(view, leaf, run, false)
    }

    fn known_beside(&self, view: View, leaf: NodeId, run: usize, is_forward: bool) -> Option<Spot> {
        let known = |(_, run): &(usize, &Run<P>)| run.is_known_to(view);
        let runs = self.runs(leaf);
        let here = if is_forward {
            runs.iter().enumerate().skip(run).find(known)
        } else {
            runs.iter().enumerate().take(run).rfind(known)
        };
        if let Some((run, _)) = here {
            return Some(Spot { leaf, run, offset: 0 });
        }
        let mut id = leaf;
        while let Some(parent) = self.node(id).parent {
            let children = self.children(parent);
            let at = children.iter().position(|child| child.id == id)?;
            let has_known = |child: &&Child| self.count_of(**child, view).known > 0;
            let beside = if is_forward {
                children[at + 1..].iter().find(has_known)
            } else {
                children[..at].iter().rfind(has_known)
            };
            match beside {
                Some(child) => return self.known_within(view, child.id, is_forward),
                None => id = parent,
            }
        }
        None
    }

    fn known_within(&self, view: View, mut id: NodeId, is_first: bool) -> Option<Spot> {
        loop {
            match &self.node(id).body {
                Body::Leaf(runs) => {
                    return self.known_beside(
                        view,
                        id,
                        if is_first { 0 } else { runs.len() },
                        is_first,
                    );
                }
                Body::Inner(children) => {
                    let has_known = |child: &&Child| self.count_of(**child, view).known > 0;
                    id = if is_first {
                        children.iter().find(has_known)
                    } else {
                        children.iter().rfind(has_known)
                    }?
                    .id;
                }
            }
        }
    }

    /// The first run of the leaf after this one.
    pub(super) fn next_leaf(&self, leaf: NodeId) -> Option<NodeId> {
        self.known_beside(View::PRESENT, leaf, usize::MAX, true).map(|spot| spot.leaf)
    }

    /// The place before everything.
    pub(super) fn start(&self) -> Spot {
        let mut id = self.root;
        while let Body::Inner(children) = &self.node(id).body {
            id = children[0].id;
        }
        Spot { leaf: id, run: 0, offset: 0 }
    }

    /// Puts a run at a spot; gives where it lies, and the leaf that took the second half of a full
    /// one.
    pub(super) fn insert(&mut self, spot: Spot, run: Run<P>) -> (Spot, Option<NodeId>) {
        let runs = self.runs_mut(spot.leaf);
        let at = split_at(runs, spot);
        runs.insert(at, run);
        let at = Spot { run: at, offset: 0, ..spot };
        let second = self.settle_size(spot.leaf);
        match second {
            Some(second) if at.run >= self.runs(at.leaf).len() => (
                Spot { leaf: second, run: at.run - self.runs(at.leaf).len(), offset: 0 },
                Some(second),
            ),
            _ => (at, second),
        }
    }

    /// Changes at most `len` elements of a run from a spot on, which become a run of their own;
    /// gives how many they are.
    pub(super) fn change(
        &mut self,
        spot: Spot,
        len: u32,
        change: impl FnOnce(&mut Run<P>),
    ) -> (u32, Option<NodeId>) {
        let runs = self.runs_mut(spot.leaf);
        let at = split_at(runs, spot);
        let len = len.min(runs[at].len);
        split_at(runs, Spot { run: at, offset: len, ..spot });
        change(&mut runs[at]);
        (len, self.settle_size(spot.leaf))
    }

    fn runs_mut(&mut self, leaf: NodeId) -> &mut Vec<Run<P>> {
        let node = self.node_mut(leaf);
        *node.memo.get_mut() = None;
        match &mut node.body {
            Body::Leaf(runs) => {
                // A run that is cut in the middle becomes three.
                if runs.capacity() - runs.len() < 2 {
                    runs.reserve_exact(ROOM);
                }
                runs
            }
            Body::Inner(_) => unreachable!("spots lie in leaves"),
        }
    }

    /// After a change of a leaf: halves what is too wide, and brings the counts above up to date.
    /// Gives the leaf that took a second half.
    fn settle_size(&mut self, leaf: NodeId) -> Option<NodeId> {
        let new_leaf = self.halve(leaf);
        let (mut id, mut second) = (leaf, new_leaf);
        let mut news = News::Counted(self.child(leaf));
        while let Some(parent) = self.node(id).parent {
            let beside = second.map(|second| self.child(second));
            let node = self.node_mut(parent);
            *node.memo.get_mut() = None;
            let Body::Inner(children) = &mut node.body else { break };
            let Some(at) = children.iter().position(|child| child.id == id) else { break };
            let before = children[at].count;
            match news {
                News::Counted(child) => children[at] = child,
                News::Grown { seen, known, latest } => {
                    let child = &mut children[at];
                    child.count.seen = child.count.seen.wrapping_add(seen);
                    child.count.known = child.count.known.wrapping_add(known);
                    child.latest = child.latest.max(latest);
                }
            }
            let mut after = children[at];
            if let Some(beside) = beside {
                children.insert(at + 1, beside);
                after.count = sum([after.count, beside.count].into_iter());
                after.latest = after.latest.max(beside.latest);
            }
            second = if children.len() > WIDTH { self.halve(parent) } else { None };
            news = match second {
                Some(_) => News::Counted(self.child(parent)),
                None => News::Grown {
                    seen: after.count.seen.wrapping_sub(before.seen),
                    known: after.count.known.wrapping_sub(before.known),
                    latest: after.latest,
                },
            };
            id = parent;
        }
        if let Some(second) = second {
            self.root = self.add_inner(&[id, second]);
        }
        new_leaf
    }

    fn halve(&mut self, id: NodeId) -> Option<NodeId> {
        let width = match &self.node(id).body {
            Body::Leaf(runs) => runs.len(),
            Body::Inner(children) => children.len(),
        };
        if width <= WIDTH {
            return None;
        }
        let node = self.node_mut(id);
        let parent = node.parent;
        // Half of the space would stay unused.
        let body = match &mut node.body {
            Body::Leaf(runs) => {
                let second = Body::Leaf(runs.split_off(width / 2));
                runs.shrink_to(runs.len() + ROOM);
                second
            }
            Body::Inner(children) => Body::Inner(children.split_off(width / 2)),
        };
        let second = self.add(body);
        self.node_mut(second).parent = parent;
        let moved: Vec<_> = self.children(second).iter().map(|child| child.id).collect();
        moved.into_iter().for_each(|child| self.node_mut(child).parent = Some(second));
        Some(second)
    }

    /// All runs in their order, each with its place.
    pub(super) fn spots(&self) -> impl Iterator<Item = (Spot, &Run<P>)> {
        let mut leaf = Some(self.start().leaf);
        std::iter::from_fn(move || {
            let here = leaf?;
            leaf = self.next_leaf(here);
            let spot = move |run| Spot { leaf: here, run, offset: 0 };
            Some(self.runs(here).iter().enumerate().map(move |(run, of)| (spot(run), of)))
        })
        .flatten()
    }

    /// All runs in their order.
    pub(super) fn iter(&self) -> impl Iterator<Item = &Run<P>> {
        self.spots().map(|(_, run)| run)
    }
}

/// Makes the run begin at the spot, and gives its index.
fn split_at<P: Clone>(runs: &mut Vec<Run<P>>, spot: Spot) -> usize {
    match runs.get_mut(spot.run) {
        Some(run) if spot.offset == run.len => spot.run + 1,
        Some(run) if spot.offset > 0 => {
            let rest = run.split_off(spot.offset);
            runs.insert(spot.run + 1, rest);
            spot.run + 1
        }
        _ => spot.run,
    }
}

fn count_runs<P: Clone>(runs: &[Run<P>], view: View) -> Count {
    runs.iter().filter(|run| run.is_known_to(view)).fold(Count::default(), |count, run| Count {
        seen: count.seen + if run.is_seen_by(view) { run.len as usize } else { 0 },
        known: count.known + run.len as usize,
    })
}

fn sum(counts: impl Iterator<Item = Count>) -> Count {
    counts.fold(Count::default(), |sum, count| Count {
        seen: sum.seen + count.seen,
        known: sum.known + count.known,
    })
}
