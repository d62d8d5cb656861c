//! Bringing sessions into memory in time for what they do by themselves.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use chrono::TimeDelta;
use futures_util::{StreamExt as _, stream};
use rendel_core::ProblemKind;
use rendel_store::StoreError;

use crate::app::App;
use crate::clock::now_ms;

/// How long before its time a session is brought into memory, in milliseconds.
const AHEAD: u64 = 60_000;
/// How often it is looked for those whose time comes, and that this process runs is said.
const LOOK: Duration = Duration::from_secs(2);
/// A process that has not said so for as long runs no more: others may take its sessions over.
const LEASE: TimeDelta = TimeDelta::seconds(6);
/// Sessions that are brought into memory at one time, and that are looked at.
const AT_ONCE: usize = 16;
const PAGE: i64 = 1_000;
/// One that cannot be brought into memory is left alone for so long.
const REST: Duration = Duration::from_secs(60);

impl App {
    /// Brings sessions into memory in time until the service stops.
    pub(crate) async fn watch_waking(self: Arc<Self>) {
        let mut failed = HashMap::new();
        while !self.is_stopping() {
            let opened = self.opened.notified();
            // Without the database nothing can be brought into memory anyhow.
            let woken = self.wake_due(&mut failed).await;
            if let Err(error) = woken {
                tracing::debug!(%error, "sessions that are due were not looked for");
            }
            let _ = tokio::time::timeout(LOOK, opened).await;
        }
    }

    async fn wake_due(
        self: &Arc<Self>,
        failed: &mut HashMap<String, Instant>,
    ) -> Result<(), StoreError> {
        self.store.note_running().await?;
        failed.retain(|_, since| since.elapsed() < REST);
        let mut after = None;
        loop {
            let before = now_ms() + AHEAD;
            let due = self.store.to_wake(before, LEASE, after.clone(), PAGE).await?;
            let is_last = due.len() < usize::try_from(PAGE).unwrap_or(usize::MAX);
            after = due.last().map(|(id, wakes)| (*wakes, id.clone()));
            let ids: Vec<String> = due
                .into_iter()
                .map(|(id, _)| id)
                .filter(|id| self.session_in_memory(id).is_none() && !failed.contains_key(id))
                .collect();
            let wake = |id: String| async {
                let woken = self.session(&id).await;
                woken.err().map(|problem| (id, problem))
            };
            let woken = stream::iter(ids).map(wake).buffer_unordered(AT_ONCE);
            let refused: Vec<_> = woken.filter_map(std::future::ready).collect().await;
            for (id, problem) in refused {
                // What is deleted or another's meanwhile need not be looked at again.
                if !matches!(problem.kind(), ProblemKind::NoSession | ProblemKind::ShuttingDown) {
                    tracing::warn!(session = %id, %problem, "a session is due and cannot be \
                        brought into memory");
                }
                failed.insert(id, Instant::now());
            }
            if is_last || self.is_stopping() {
                return Ok(());
            }
        }
    }
}
