//! How a session stands: open, frozen or ended.

use rendel_core::{Actor, Problem};

use crate::input::{SessionStatus, Status};
use crate::problems::{ended, frozen};

impl SessionStatus {
    /// Why nothing of `actor` is settled now, if it is so.
    pub(crate) fn refusal(&self, actor: &Actor) -> Option<Problem> {
        match self.status {
            Status::Ended => Some(ended()),
            Status::Frozen
                if actor.role != Actor::SERVICE && !self.except.contains(&actor.role) =>
            {
                Some(frozen())
            }
            _ => None,
        }
    }
}
