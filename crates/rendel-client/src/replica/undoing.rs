//! Undo and redo of one's own.

use rendel_core::{Back, Edit, Undoable};
use rendel_wire::{FollowUndo, FromParticipant};
use serde_json::Value;

use super::pending::Pending;
use super::{Change, Replica};

/// What an undo came to at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Undoing {
    /// The last gesture had not been sent: it is as if it had never been.
    Cancelled,
    /// It is a proposal of that number, which the service settles.
    Proposed(u64),
}

impl Replica {
    /// Asks to be told what its participant can undo, now and after each return.
    pub fn follow_undo(&mut self) {
        self.follows_undo = true;
        if self.welcomes > 0 {
            self.outgoing.push_back(FromParticipant::FollowUndo(FollowUndo {}));
        }
    }

    /// Whether it asks to be told what its participant can undo, after each `welcome`.
    pub fn follows_undo(&self) -> bool {
        self.follows_undo
    }

    /// What its participant can undo and redo, as the service told last.
    pub fn undoable(&self) -> &Undoable {
        &self.undoable
    }

    /// Undoes what its participant did last, or redoes what they undid last; `None` before the first
    /// `welcome`. What was not sent yet is cancelled. What cannot be taken back now is passed over.
    pub fn take_back(&mut self, way: Back) -> Option<Undoing> {
        if way == Back::Undo && self.cancel_unsent() {
            return Some(Undoing::Cancelled);
        }
        let look = match way {
            Back::Undo => &self.undoable.undo,
            Back::Redo => &self.undoable.redo,
        };
        let edit = Edit::new("", way.name()).with("skip", true);
        // While something of one's own is on its way, what comes first is that.
        let of = match self.pending.back() {
            Some(last) => last.gesture.clone().map(Value::from),
            None => look.as_ref().map(|look| look.of.clone()),
        };
        let edit = of.map_or(edit.clone(), |of| edit.with("of", of));
        self.propose(vec![edit], None, None).map(Undoing::Proposed)
    }

    /// Takes out the last gesture where nothing of it was sent; gives whether there was one.
    fn cancel_unsent(&mut self) -> bool {
        let Some(last) = self.pending.back() else { return false };
        let gesture = last.gesture.clone();
        let is_of_it = |one: &Pending| gesture.is_some() && one.gesture == gesture;
        let others = self.pending.iter().rev().skip(1).take_while(|one| is_of_it(one));
        let keys: Vec<u64> = std::iter::once(last).chain(others).map(|one| one.key).collect();
        let is_unsent = |one: &Pending| one.sent.is_none();
        if !self.pending.iter().filter(|one| keys.contains(&one.key)).all(is_unsent) {
            return false;
        }
        for key in keys {
            self.pending.retain(|one| one.key != key);
            self.forget(key);
        }
        let kept: Vec<u64> =
            self.pending.iter().filter_map(|one| Some(one.frame.as_ref()?.n)).collect();
        self.outgoing.retain(|frame| match frame {
            FromParticipant::Propose(frame) => kept.contains(&frame.n),
            _ => true,
        });
        self.drop_idle_drafts();
        self.count_answered();
        true
    }

    pub(super) fn handle_undoable(&mut self, undoable: Undoable) -> Vec<Change> {
        self.undoable = undoable.clone();
        vec![Change::Undoable(undoable)]
    }
}
