//! What participants did lately, so that they can take it back.
//!
//! A history is two stacks of steps, one to undo and one to redo. Each update is a step of its own,
//! unless it shares a gesture with a recent one or continues the same typing; then it joins that step.
//! An undo pops a step and pushes what the undo itself did onto the other stack, and a redo likewise.
//! A new edit empties the redo stack.
//!
//! Histories follow from the updates alone, so every owner of a session has the same. They are
//! bounded by steps and by bytes; beyond them the oldest goes. Cost of a note: O(log participants)
//! and what it is joined with.

use std::collections::VecDeque;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use smallvec::{SmallVec, smallvec};

use crate::actor::ClientKey;
use crate::kind::Taken;
use crate::lately::{Capacity, Lately};
use crate::op::{Back, Step};
use crate::path::{Path, Token};
use crate::update::Undoes;

/// Histories of one session; beyond them those that were silent longest go.
const ALL: Capacity = Capacity { entries: 10_000, bytes: 64 << 20 };
/// Bytes of one history.
const BYTES: usize = 1 << 20;
/// Among so many of the last steps that of a gesture is looked for: two tabs take turns.
const NEAR: usize = 4;
/// Clients of a participant that are remembered as theirs.
const CLIENTS: usize = 32;
/// Typing that pauses this long is another step, in milliseconds.
const PAUSE: u64 = 1_000;

/// The histories of a session.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub(crate) struct Histories(Lately<Token, Arc<History>>);

/// What one participant, or one client, did lately.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct History {
    /// The newest last.
    undo: VecDeque<Done>,
    redo: VecDeque<Done>,
    clients: SmallVec<[ClientKey; 2]>,
    /// About the bytes of all steps.
    bytes: usize,
}

/// A step: what is taken back at once.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Done {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) gesture: Option<String>,
    /// Its updates, in their order.
    pub(crate) updates: SmallVec<[u64; 1]>,
    /// What it did, in order.
    pub(crate) taken: SmallVec<[Taken; 1]>,
    /// Where it may be gone on with by typing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) typed: Option<Typed>,
    /// About the bytes of what it did.
    bytes: usize,
}

/// Where somebody typed last.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Typed {
    pub(crate) client: ClientKey,
    /// The text, and the place in it right behind what was typed.
    pub(crate) text: Path,
    pub(crate) end: usize,
    /// When, in milliseconds since 1970 UTC.
    pub(crate) at: u64,
    /// Whether it goes on with what was typed before.
    #[serde(skip)]
    pub(crate) goes_on: bool,
}

impl Done {
    /// The last update of it, by which it is known.
    pub(crate) fn last(&self) -> u64 {
        self.updates.last().copied().unwrap_or(0)
    }

    pub(crate) fn is(&self, step: &Step) -> bool {
        match step {
            Step::Gesture(name) => self.gesture.as_ref() == Some(name),
            Step::Update(seq) => self.updates.binary_search(seq).is_ok(),
        }
    }

    /// Its name: that of its gesture, else its last update.
    pub(crate) fn name(&self) -> Step {
        self.gesture.clone().map_or_else(|| Step::Update(self.last()), Step::Gesture)
    }

    /// Whether all that it did was at or in a place.
    pub(crate) fn is_within(&self, path: &Path) -> bool {
        self.taken.iter().all(|taken| taken.at.is_within(path))
    }

    pub(crate) fn new(
        gesture: Option<String>,
        seq: u64,
        taken: SmallVec<[Taken; 1]>,
        typed: Option<Typed>,
    ) -> Self {
        let bytes = taken.iter().map(Taken::bytes).sum();
        Self { gesture, updates: smallvec![seq], taken, typed, bytes }
    }

    fn bytes(&self) -> usize {
        128 + self.gesture.as_ref().map_or(0, String::len) + 8 * self.updates.len() + self.bytes
    }

    fn add(&mut self, next: Self) {
        self.updates.extend(next.updates);
        self.typed = next.typed;
        for next in next.taken {
            if let Some(next) = Taken::join(&mut self.taken, next) {
                self.bytes += next.bytes();
                self.taken.push(next);
            }
        }
    }
}

impl History {
    /// The steps that can be taken back that way, the newest first.
    pub(crate) fn steps(&self, way: Back) -> impl Iterator<Item = &Done> {
        let steps = match way {
            Back::Undo => &self.undo,
            Back::Redo => &self.redo,
        };
        steps.iter().rev()
    }

    /// The clients that are its participant's.
    pub(crate) fn clients(&self) -> &[ClientKey] {
        &self.clients
    }

    /// Where its participant typed last and by which update, if nothing came after it.
    pub(crate) fn typed(&self, at: u64) -> Option<(&Typed, u64)> {
        let done = self.undo.back()?;
        let typed = done.typed.as_ref()?;
        (at.saturating_sub(typed.at) < PAUSE).then_some((typed, done.last()))
    }

    fn note_client(&mut self, client: ClientKey) {
        if !self.clients.contains(&client) {
            if self.clients.len() == CLIENTS {
                self.clients.remove(0);
            }
            self.clients.push(client);
        }
    }

    fn done(&mut self, done: Done) {
        self.bytes -= self.redo.iter().map(Done::bytes).sum::<usize>();
        self.redo.clear();
        let goes_on = done.typed.as_ref().is_some_and(|typed| typed.goes_on);
        let is_same = |step: &&mut Done| done.gesture.is_some() && step.gesture == done.gesture;
        let same = match goes_on {
            true => self.undo.back_mut(),
            false => self.undo.iter_mut().rev().take(NEAR).find(is_same),
        };
        match same {
            Some(same) => {
                let before = same.bytes();
                same.add(done);
                self.bytes = self.bytes - before + same.bytes();
            }
            None => {
                self.bytes += done.bytes();
                self.undo.push_back(done);
            }
        }
    }

    /// A step was taken back by an update, which did what `done` says.
    fn taken_back(&mut self, undoes: &Undoes, done: Done) {
        let (from, to) = match undoes.way {
            Back::Undo => (&mut self.undo, &mut self.redo),
            Back::Redo => (&mut self.redo, &mut self.undo),
        };
        let last = undoes.updates.last().copied().unwrap_or(0);
        from.retain(|step| step.last() != last && !undoes.passed.contains(&step.last()));
        if !done.taken.is_empty() {
            to.push_back(done);
        }
        self.bytes = self.undo.iter().chain(&self.redo).map(Done::bytes).sum();
    }

    /// Forgets the oldest beyond the bounds; gives its bytes.
    fn shrink(&mut self, steps: usize) -> usize {
        while self.undo.len() + self.redo.len() > steps || self.bytes > BYTES {
            let oldest = self.undo.pop_front().or_else(|| self.redo.pop_front());
            let Some(oldest) = oldest else { break };
            self.bytes -= oldest.bytes();
        }
        128 + self.bytes
    }
}

impl Histories {
    pub(crate) fn get(&self, owner: &str) -> Option<&History> {
        self.0.get(owner).map(|history| &**history)
    }

    /// Notes what somebody did, or took back, with `client`.
    pub(crate) fn note(
        &mut self,
        owner: Token,
        client: ClientKey,
        done: Done,
        undoes: Option<&Undoes>,
        steps: usize,
    ) {
        let change = |history: &mut Arc<History>| {
            let history = Arc::make_mut(history);
            history.note_client(client);
            match undoes {
                None => history.done(done),
                Some(undoes) => history.taken_back(undoes, done),
            }
            history.shrink(steps)
        };
        self.0.change(owner, change, ALL);
    }

    /// About the bytes that they take.
    pub(crate) fn bytes(&self) -> usize {
        self.0.bytes()
    }
}
