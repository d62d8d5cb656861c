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
        let mut asked = self.members.iter().filter(|(_, member)| member.undo).peekable();
        if asked.peek().is_none() {
            return;
        }
        let is_own = asked.any(|(_, member)| member.who.id == by);
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
        let mut changed = Vec::new();
        for (connection, member) in self.members.iter_mut().filter(|(_, member)| member.undo) {
            let undoable = sequencer.undoable(&member.who);
            if member.undoable != undoable {
                member.undoable = undoable.clone();
                changed.push((connection, undoable));
            }
        }
        for (connection, undoable) in changed {
            self.order.push(Waiting::Undoable { connection, undoable });
        }
    }

    /// A connection wants to be told from now on.
    pub(super) fn follow_undo(&mut self, connection: ConnectionId) {
        self.members.follow_undo(connection);
        self.undoable_at = Some(self.now);
    }
}
