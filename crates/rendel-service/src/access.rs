//! Looking after who is not let in any more.

use std::sync::Arc;
use std::time::Duration;

use rendel_store::Revocation;

use crate::app::App;

/// How often the service looks for what other processes revoked and which keys they added or
/// retired.
const LOOK: Duration = Duration::from_millis(400);
/// After so many looks, about an hour, what is older than it need be is forgotten.
const TIDY: u64 = 9_000;

impl App {
    /// Looks for what other processes revoked, added or retired, until the service stops.
    pub(crate) async fn watch_access(self: Arc<Self>) {
        let mut tick = tokio::time::interval(LOOK);
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut looks = 0u64;
        while !self.is_stopping() {
            tick.tick().await;
            if looks.is_multiple_of(TIDY) {
                let kept = chrono::TimeDelta::days(i64::from(self.config.audit_days));
                let _ = self.store.forget_audit(chrono::Utc::now() - kept).await;
            }
            looks += 1;
            // Without the database nothing new can have been revoked.
            let _ = self.look_at_access().await;
        }
    }

    pub(crate) async fn look_at_access(&self) -> Result<(), rendel_store::StoreError> {
        let last = self.revoked.last();
        let revocations = self.store.revocations(last).await?;
        self.keys.load(&self.store.keys().await?);
        self.take_revocations(revocations).await;
        Ok(())
    }

    /// Takes revocations in, and lets go of who is connected by what was revoked.
    pub(crate) async fn take_revocations(&self, revocations: Vec<Revocation>) {
        for session in self.revoked.take(revocations) {
            if let Some(session) = self.session_in_memory(&session) {
                // One that has ended has nobody to let go of.
                let _ = session.recheck().await;
            }
        }
    }
}
