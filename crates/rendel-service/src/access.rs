//! Looking after who is not let in any more, and what is not kept any more.

use std::sync::Arc;
use std::time::Duration;

use chrono::{TimeDelta, Utc};
use rendel_core::Actor;
use rendel_store::{Note, Revocation, StoreError};
use serde_json::json;

use crate::app::App;
use crate::failure::{Failure, no_session};
use crate::token::MOST_SECONDS;

/// How often the service looks for what other processes revoked and which keys they added or
/// retired.
const LOOK: Duration = Duration::from_millis(400);
/// After so many looks, about ten seconds, sessions whose time has come are deleted, and callers who
/// have spent nothing lately are forgotten.
const SWEEP: u64 = 25;
/// After so many looks, about an hour, what is older than it need be is forgotten.
const TIDY: u64 = 9_000;
/// Sessions that are deleted at one time.
const DELETED: i64 = 100;

impl App {
    /// Looks for what other processes revoked, added or retired, until the service stops.
    pub(crate) async fn watch_access(self: Arc<Self>) {
        let mut tick = tokio::time::interval(LOOK);
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut looks = 0u64;
        while !self.is_stopping() {
            tick.tick().await;
            if looks.is_multiple_of(TIDY) {
                let kept = TimeDelta::days(i64::from(self.config.audit_days));
                let _ = self.store.forget_audit(Utc::now() - kept).await;
                let announced = TimeDelta::days(i64::from(self.config.announcement_days));
                let _ = self.store.forget_announcements(Utc::now() - announced, 100_000).await;
                let _ = self.store.forget_calls(Utc::now() - TimeDelta::days(1)).await;
            }
            if looks.is_multiple_of(SWEEP) {
                self.budget.tidy();
                self.guests.tidy();
                // What could not be deleted now is due still at the next time.
                let _ = self.delete_due().await;
            }
            looks += 1;
            // Without the database nothing new can have been revoked.
            let _ = self.look_at_access().await;
        }
    }

    pub(crate) async fn look_at_access(&self) -> Result<(), StoreError> {
        let last = self.revoked.last();
        let revocations = self.store.revocations(last).await?;
        let has_lost = self.keys.load(&self.store.keys().await?);
        let about = self.revoked.take(revocations);
        if !about.is_empty() {
            // Some may have been deleted, which says more than that their tokens are revoked.
            self.look_at_ownership().await?;
        }
        for session in self.sessions_in_memory() {
            if has_lost || about.contains(session.id()) {
                // One that has ended has no connections left, here and below.
                let _ = session.recheck().await;
            }
        }
        Ok(())
    }

    /// Takes in what was revoked here, and disconnects whoever is connected by it.
    pub(crate) async fn take_revocation(&self, revocation: Revocation) {
        let session = self.session_in_memory(&revocation.session);
        self.revoked.put(revocation);
        if let Some(session) = session {
            let _ = session.recheck().await;
        }
    }

    /// Deletes a session with all that is kept of it; gives whether there was one. Tokens for it
    /// are good for no later session of that id.
    pub(crate) async fn delete_session(&self, id: &str, note: Note) -> Result<bool, StoreError> {
        let is_deleted = self.store.delete(id.to_owned(), ends_of_tokens(), note).await?;
        if let Some(session) = self.session_in_memory(id) {
            self.forget_session(id);
            let _ = session.tell_deleted().await;
        }
        self.look_at_access().await?;
        Ok(is_deleted)
    }

    /// Puts all that a session holds of a participant under a made-up name, which it gives.
    pub(crate) async fn forget_participant(
        self: &Arc<Self>,
        id: &str,
        sub: &str,
    ) -> Result<String, Failure> {
        let alias = format!("forgotten-{:016x}", rand::random::<u64>());
        let note =
            Note::of_session(id, Actor::SERVICE, "forgot a participant", json!({ "alias": alias }));
        // What is under way is settled and written under the old name; whoever has it in memory
        // reads it again under the new one.
        self.let_end(id).await;
        let (session, sub) = (id.to_owned(), sub.to_owned());
        let forgotten =
            self.store.forget_participant(session, sub, alias.clone(), ends_of_tokens(), note);
        let revocation = forgotten.await?.ok_or_else(|| no_session(id))?;
        self.let_end(id).await;
        self.take_revocation(revocation).await;
        Ok(alias)
    }

    /// Ends a session in memory; whoever wants it next reads it anew.
    async fn let_end(&self, id: &str) {
        if let Some(session) = self.session_in_memory(id) {
            session.stop().await;
            self.forget_session(id);
        }
    }

    async fn delete_due(&self) -> Result<(), StoreError> {
        for id in self.store.due_to_be_deleted(DELETED).await? {
            let note = Note::of_session(&id, Actor::SERVICE, "deleted", json!({ "due": true }));
            self.delete_session(&id, note).await?;
            tracing::info!(session = %id, "a session that had ended was deleted, as its charter says");
        }
        Ok(())
    }
}

/// When all tokens that are good now have ended.
pub(crate) fn ends_of_tokens() -> chrono::DateTime<Utc> {
    Utc::now() + TimeDelta::seconds(i64::try_from(MOST_SECONDS).unwrap_or(0) + 3_600)
}
