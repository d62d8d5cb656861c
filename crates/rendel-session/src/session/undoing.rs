//! What participants can undo, for those who asked to be told, and what gates are asked about an
//! undo.

use std::borrow::Cow;

use rendel_core::{Actor, Edit, Proposal};

use super::Session;
use crate::input::ConnectionId;
use crate::order::Waiting;

/// What others have changed is looked at together, after so many milliseconds.
const OTHERS: u64 = 250;

impl Session {
    /// The edits of a proposal, those of an undo as it would come out now.
    pub(super) fn spelled_out<'p>(&self, actor: &Actor, proposal: &'p Proposal) -> Cow<'p, [Edit]> {
        let spelled_out = self.order.sequencer().spelled_out(actor, proposal);
        spelled_out.map_or(Cow::Borrowed(&proposal.edits), Cow::Owned)
    }

    /// An update may have changed what somebody can undo: at once for whoever made it.
    pub(super) fn note_undoable(&mut self, by: &str) {
        let mut asked = self.members.following_undo().peekable();
        if asked.peek().is_none() {
            return;
        }
        let is_own = asked.any(|(_, member, _)| member.who.id == by);
        let at = if is_own { self.now } else { self.now + OTHERS };
        self.undoable_at = Some(self.undoable_at.map_or(at, |known| known.min(at)));
    }

    /// Tells those who asked what they can undo, where it is time and that is another, after what
    /// has been settled by now.
    pub(super) fn tell_undoable(&mut self) {
        if self.order.is_adrift() || self.undoable_at.is_none_or(|at| at > self.now) {
            return;
        }
        self.undoable_at = None;
        let sequencer = self.order.sequencer();
        let looks = self.members.following_undo().filter_map(|(connection, member, told)| {
            let undoable = sequencer.undoable(&member.who);
            (undoable != *told).then_some((connection, undoable))
        });
        let changed: Vec<_> = looks.collect();
        for (connection, undoable) in changed {
            self.members.note_undoable(connection, undoable.clone());
            self.order.push(Waiting::Undoable { connection, undoable });
        }
    }

    /// A connection wants to be told from now on.
    pub(super) fn follow_undo(&mut self, connection: ConnectionId) {
        self.members.follow_undo(connection);
        self.undoable_at = Some(self.now);
    }
}
