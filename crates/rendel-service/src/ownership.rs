//! Noticing that another process has taken a session over or deleted it, also where nothing is
//! written.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use rendel_store::{Ownership, StoreError};

use crate::app::App;
use crate::session::{Ask, SessionHandle};

/// How often the database is asked who owns the sessions in memory.
const LOOK: Duration = Duration::from_secs(2);

impl App {
    /// Looks for sessions that another process owns now, until the service stops. Whoever writes
    /// one of them learns it at once; this is for sessions in which all only look on.
    pub(crate) async fn watch_ownership(self: Arc<Self>) {
        let mut tick = tokio::time::interval(LOOK);
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        while !self.is_stopping() {
            tick.tick().await;
            // Without the database nobody can have taken anything over, or deleted it.
            let _ = self.look_at_ownership().await;
        }
    }

    pub(crate) async fn look_at_ownership(&self) -> Result<(), StoreError> {
        let sessions: BTreeMap<i64, SessionHandle> =
            self.sessions_in_memory().into_iter().map(|session| (session.ord(), session)).collect();
        if sessions.is_empty() {
            return Ok(());
        }
        for (ord, ownership) in self.store.not_owned(sessions.keys().copied().collect()).await? {
            let Some(session) = sessions.get(&ord) else { continue };
            let ask = match ownership {
                Ownership::Elsewhere(epoch) => Ask::OwnedElsewhere { epoch },
                Ownership::Deleted => {
                    self.forget_session(session.id());
                    Ask::Deleted
                }
            };
            // One that has ended need not be told.
            let _ = session.tell(ask).await;
        }
        Ok(())
    }
}
