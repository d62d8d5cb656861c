//! Bringing sessions into memory.

use std::sync::Arc;

use rendel_core::{Charter, Problem};
use rendel_session::{Session, Settings, Spacing, moved, unavailable};
use rendel_store::{Claim, StoreError, TakenOver};
use rendel_wire::SessionHead;
use tokio::sync::{Mutex, mpsc};

use super::driver::Driver;
use super::handle::{Inside, MAILBOX, SessionHandle};
use super::keeping::found;
use crate::app::App;
use crate::clock::{SteadyClock, now_ms};
use crate::failure::{from_store, no_session, shutting_down};

impl App {
    /// The session of that id, brought into memory if it is not there.
    pub(crate) async fn session(self: &Arc<Self>, id: &str) -> Result<SessionHandle, Problem> {
        if self.is_stopping() {
            return Err(shutting_down());
        }
        let slot = self.slot(id).inspect_err(|problem| self.metrics.count(problem))?;
        let loaded = slot.get_or_try_init(|| self.load(id)).await.cloned();
        match loaded {
            Ok(session) if !session.is_closed() => Ok(session),
            Ok(_) => {
                self.forget(id, &slot);
                Err(unavailable())
            }
            Err(problem) => {
                self.forget(id, &slot);
                Err(problem)
            }
        }
    }

    /// Whether a session has guests; one that is not in memory stays so, and stays whose it is.
    pub(crate) async fn lets_guests_in(&self, id: &str) -> bool {
        if let Some(session) = self.session_in_memory(id) {
            return session.charter().session.guests.is_some();
        }
        let Ok(Some((row, _))) = self.store.session(id.to_owned()).await else { return false };
        let charter = self.store.charter(row.charter, Some(row.version)).await.ok().flatten();
        let charter = charter.and_then(|row| Charter::parse(&row.source).ok());
        charter.is_some_and(|charter| charter.session.guests.is_some())
    }

    async fn load(self: &Arc<Self>, id: &str) -> Result<SessionHandle, Problem> {
        if self.is_fenced(id) {
            return Err(moved());
        }
        let began = std::time::Instant::now();
        let taken = self
            .store
            .take_over(id.to_owned(), Claim::Anew)
            .await
            .map_err(|error| from_store(&error))?;
        let taken = taken.ok_or_else(|| no_session(id))?;
        let started = start(self.clone(), &taken);
        self.metrics.load_seconds.observe(began.elapsed().as_secs_f64());
        started
    }
}

/// Starts to drive a session that was taken over, on the thread of whoever first asked for it:
/// connections of the same thread then reach it without waking another one.
fn start(app: Arc<App>, taken: &TakenOver) -> Result<SessionHandle, Problem> {
    let id = &taken.row.id;
    let damaged = |why: String| from_store(&StoreError::Damaged(format!("session {id:?}: {why}")));
    let charter = Charter::parse(&taken.charter_source).map_err(|faults| {
        let first = faults.first().map(ToString::to_string).unwrap_or_default();
        damaged(format!("the stored charter has faults: {first}"))
    })?;
    let charter = Arc::new(charter);
    let opening = taken.row.opening.as_deref().map(serde_json::from_str).transpose();
    let opening = opening.map_err(|error| damaged(error.to_string()))?;
    let head = SessionHead {
        id: id.clone(),
        charter: taken.row.charter.clone(),
        version: u32::try_from(taken.row.version).unwrap_or(0),
        status: taken.row.status.clone(),
    };
    let config = &app.config;
    let settings = Settings {
        snapshots: Spacing { updates: config.snapshot_every, bytes: config.snapshot_bytes },
        digest_every: config.digest_every,
        digest_within: u64::try_from(config.digest_within.as_millis()).unwrap_or(u64::MAX),
        connections_per_participant: config.connections_per_participant,
    };
    let machine = Session::new(charter.clone(), head, opening, &found(taken), settings, now_ms());
    let machine = machine.map_err(damaged)?;
    // Where the journal is ahead of the machine's clock, time goes on from there.
    let clock = SteadyClock::at(machine.now());
    let (mailbox, asks) = mpsc::channel(MAILBOX);
    let (returns, returned) = mpsc::unbounded_channel();
    let driver = Driver::new(app, taken, machine, charter, clock, returns);
    let handle = SessionHandle(Arc::new(Inside {
        id: driver.id.clone(),
        ord: driver.ord,
        charter: driver.charter.clone(),
        secret: taken.row.secret,
        removals: driver.removals.clone(),
        amendments: driver.amendments.clone(),
        amending: Mutex::default(),
        mailbox,
    }));
    tokio::spawn(driver.run(asks, returned));
    Ok(handle)
}
