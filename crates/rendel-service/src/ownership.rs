//! Noticing that another process has taken a session over or deleted it, also where nothing is
//! written.

use std::sync::Arc;
use std::time::Duration;

use rendel_store::Ownership;

use crate::app::App;
use crate::session::Ask;

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
            let sessions = self.sessions_in_memory();
            let numbers: Vec<_> = sessions.iter().map(|session| session.ord()).collect();
            if numbers.is_empty() {
                continue;
            }
            // Without the database nobody can have taken anything over, or deleted it.
            for (ord, ownership) in self.store.not_owned(numbers).await.unwrap_or_default() {
                for session in sessions.iter().filter(|session| session.ord() == ord) {
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
            }
        }
    }
}
