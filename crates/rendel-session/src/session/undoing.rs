//! What participants can undo, for those that asked, and what gates are asked about an undo.

use std::borrow::Cow;

use rendel_core::{Actor, Edit, Proposal};

use super::Session;
use crate::input::ConnectionId;
use crate::order::Waiting;

/// Milliseconds between two looks at what all participants can undo.
const BEAT: u64 = 250;

impl Session {
    /// The edits of a proposal, those of an undo as it would come out now.
    pub(super) fn spelled_out<'p>(&self, actor: &Actor, proposal: &'p Proposal) -> Cow<'p, [Edit]> {
        let spelled_out = self.order.sequencer().spelled_out(actor, proposal);
        spelled_out.map_or(Cow::Borrowed(&proposal.edits), Cow::Owned)
    }

    /// An update, or another role, may have changed what participants can undo: that of the participant
    /// who caused it is looked at at once, that of all on the next beat.
    pub(super) fn note_undoable(&mut self, by: &str) {
        let mut asked = self.members.following_undo().peekable();
        if asked.peek().is_none() {
            return;
        }
        if asked.any(|(_, member, _)| member.who.id == by) {
            self.undoable_now.insert(by.to_owned());
        }
        let at = self.now + BEAT;
        self.undoable_at = Some(self.undoable_at.map_or(at, |known| known.min(at)));
    }

    /// When what participants can undo is looked at next.
    pub(super) fn next_undoable(&self) -> Option<u64> {
        if self.undoable_now.is_empty() { self.undoable_at } else { Some(0) }
    }

    /// Tells the participants who asked what they can undo, if that has changed, after what has been
    /// settled by now.
    pub(super) fn tell_undoable(&mut self) {
        if self.order.is_adrift() || self.next_undoable().is_none_or(|at| at > self.now) {
            return;
        }
        let authors = std::mem::take(&mut self.undoable_now);
        let is_beat = self.undoable_at.take_if(|at| *at <= self.now).is_some();
        let sequencer = self.order.sequencer();
        let asked = self.members.following_undo();
        let asked = asked.filter(|(_, member, _)| is_beat || authors.contains(&member.who.id));
        let looks = asked.filter_map(|(connection, member, told)| {
            let undoable = sequencer.undoable(&member.who);
            (undoable != *told).then_some((connection, undoable))
        });
        let changed: Vec<_> = looks.collect();
        for (connection, undoable) in changed {
            self.members.note_undoable(connection, undoable.clone());
            self.order.push(Waiting::Undoable { connection, undoable });
        }
    }

    /// A connection asks for what it can undo from now on.
    pub(super) fn follow_undo(&mut self, connection: ConnectionId) {
        self.members.follow_undo(connection);
        let who = self.members.get(connection).map(|member| member.who.id.clone());
        self.undoable_now.extend(who);
    }
}
