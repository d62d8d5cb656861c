//! What all calls and connections share.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{SystemTime, UNIX_EPOCH};

use parking_lot::Mutex;
use rendel_core::Problem;
use rendel_store::{JournalWriter, Store};
use tokio::sync::OnceCell;

use crate::config::Config;
use crate::failure::{from_store, no_session, shutting_down};
use crate::metrics::Metrics;
use crate::session::{SessionHandle, start_session};

/// The sessions in memory. A slot is filled once, however many ask at the same time.
type Slots = BTreeMap<String, Arc<OnceCell<SessionHandle>>>;

/// What all calls and connections share.
#[derive(Debug)]
pub(crate) struct App {
    pub(crate) config: Config,
    pub(crate) store: Store,
    pub(crate) writer: JournalWriter,
    pub(crate) metrics: Arc<Metrics>,
    sessions: Mutex<Slots>,
    stopping: AtomicBool,
}

impl App {
    pub(crate) fn new(config: Config, store: Store, writer: JournalWriter, metrics: Arc<Metrics>) -> Self {
        let sessions = Mutex::new(BTreeMap::new());
        Self { config, store, writer, metrics, sessions, stopping: AtomicBool::new(false) }
    }

    /// The session of that id, brought into memory if it is not there.
    pub(crate) async fn session(self: &Arc<Self>, id: &str) -> Result<SessionHandle, Problem> {
        if self.is_stopping() {
            return Err(shutting_down());
        }
        let slot = self.sessions.lock().entry(id.to_owned()).or_default().clone();
        let loaded = slot.get_or_try_init(|| self.load(id)).await.cloned();
        match loaded {
            Ok(session) if !session.is_closed() => Ok(session),
            Ok(_) => {
                self.forget(id, &slot);
                Err(crate::failure::unavailable())
            }
            Err(problem) => {
                self.forget(id, &slot);
                Err(problem)
            }
        }
    }

    async fn load(self: &Arc<Self>, id: &str) -> Result<SessionHandle, Problem> {
        let taken = self.store.take_over(id.to_owned()).await.map_err(|error| from_store(&error))?;
        let taken = taken.ok_or_else(|| no_session(id))?;
        start_session(self.clone(), taken)
    }

    fn forget(&self, id: &str, slot: &Arc<OnceCell<SessionHandle>>) {
        let mut sessions = self.sessions.lock();
        if sessions.get(id).is_some_and(|present| Arc::ptr_eq(present, slot)) {
            sessions.remove(id);
        }
    }

    /// The session of that id if it is in memory.
    pub(crate) fn session_in_memory(&self, id: &str) -> Option<SessionHandle> {
        self.sessions.lock().get(id).and_then(|slot| slot.get().cloned())
    }

    pub(crate) fn is_stopping(&self) -> bool {
        self.stopping.load(Ordering::Relaxed)
    }

    /// Stops all sessions: what they accepted is settled and written, then their connections are told.
    pub(crate) async fn stop_sessions(&self) {
        self.stopping.store(true, Ordering::Relaxed);
        let handles: Vec<_> = self.sessions.lock().values().filter_map(|slot| slot.get().cloned()).collect();
        futures_util::future::join_all(handles.iter().map(SessionHandle::stop)).await;
    }
}

/// Milliseconds since 1970 UTC.
pub(crate) fn now_ms() -> u64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    u64::try_from(since.as_millis()).unwrap_or(u64::MAX)
}
