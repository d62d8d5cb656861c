//! What all calls and connections share.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

use parking_lot::Mutex;
use rendel_core::{Problem, ProblemKind};
use rendel_store::{JournalWriter, Store};
use tokio::sync::{Notify, OnceCell, watch};

use crate::addresses::Addresses;
use crate::announcing::Receivers;
use crate::answers::Answers;
use crate::budget::Budget;
use crate::config::Config;
use crate::documents::Documents;
use crate::gates::Gates;
use crate::guests::Guests;
use crate::lines::Lines;
use crate::metrics::Metrics;
use crate::revoked::Revoked;
use crate::searches::Searches;
use crate::session::SessionHandle;
use crate::sign_ins::SignIns;
use crate::tickets::Tickets;
use crate::token::KeyRing;

/// The sessions in memory. A slot is filled once, however many ask at the same time.
type Slots = BTreeMap<String, Arc<OnceCell<SessionHandle>>>;

/// What all calls and connections share.
#[derive(Debug)]
pub(crate) struct App {
    pub(crate) config: Config,
    pub(crate) store: Store,
    pub(crate) writer: JournalWriter,
    pub(crate) metrics: Arc<Metrics>,
    pub(crate) tickets: Tickets,
    pub(crate) lines: Lines,
    /// The sockets of each address, of which some carry calls only.
    pub(crate) accepted: Addresses,
    pub(crate) addresses: Addresses,
    pub(crate) guests: Guests,
    pub(crate) budget: Budget,
    pub(crate) answers: Answers,
    pub(crate) keys: KeyRing,
    pub(crate) revoked: Revoked,
    pub(crate) sign_ins: SignIns,
    /// Searches for a seat that are under way.
    pub(crate) searches: Searches,
    pub(crate) gates: Gates,
    pub(crate) receivers: Receivers,
    /// Told when something was announced here, or a session was opened.
    pub(crate) announced: watch::Sender<u64>,
    pub(crate) opened: Notify,
    pub(crate) documents: Documents,
    sessions: Mutex<Slots>,
    /// Sessions that another process took over, and when that was noticed.
    fenced: Mutex<BTreeMap<String, Instant>>,
    draining: AtomicBool,
    stopping: AtomicBool,
}

impl App {
    pub(crate) fn new(
        config: Config,
        store: Store,
        writer: JournalWriter,
        metrics: Arc<Metrics>,
    ) -> Self {
        let keys = KeyRing::new(
            std::iter::once(&config.key).chain(&config.previous_keys).cloned().collect(),
        );
        Self {
            tickets: Tickets::default(),
            lines: Lines::default(),
            accepted: Addresses::new(
                config.connections_per_address.saturating_mul(2),
                "connections_per_address",
            ),
            addresses: Addresses::new(config.connections_per_address, "connections_per_address"),
            guests: Guests::new(config.guests_per_address),
            budget: Budget::new(&config),
            answers: Answers::new(&config),
            gates: Gates::new(config.gate_secret.signer(), config.variables.clone()),
            receivers: Receivers::new(config.webhooks_to_private_addresses),
            announced: watch::Sender::new(0),
            opened: Notify::new(),
            keys,
            documents: Documents::default(),
            revoked: Revoked::default(),
            sign_ins: SignIns::default(),
            searches: Searches::default(),
            config,
            store,
            writer,
            metrics,
            sessions: Mutex::default(),
            fenced: Mutex::default(),
            draining: AtomicBool::new(false),
            stopping: AtomicBool::new(false),
        }
    }

    /// The place of a session in memory, which whoever comes first fills.
    pub(crate) fn slot(&self, id: &str) -> Result<Arc<OnceCell<SessionHandle>>, Problem> {
        let mut sessions = self.sessions.lock();
        if let Some(slot) = sessions.get(id) {
            return Ok(slot.clone());
        }
        let most = self.config.sessions;
        if sessions.len() >= most {
            let detail = format!(
                "The service has its {most} sessions in memory. Try again when some of them are \
                 idle."
            );
            return Err(Problem::new(ProblemKind::Crowded, detail).with("limit", "sessions"));
        }
        Ok(sessions.entry(id.to_owned()).or_default().clone())
    }

    /// Takes a session that nobody holds out of memory; gives whether nobody did.
    pub(crate) fn let_go(&self, id: &str) -> bool {
        let mut sessions = self.sessions.lock();
        let is_alone = |slot: &Arc<OnceCell<SessionHandle>>| {
            Arc::strong_count(slot) == 1 && slot.get().is_some_and(SessionHandle::is_alone)
        };
        let is_free = sessions.get(id).is_some_and(is_alone);
        if is_free {
            sessions.remove(id);
        }
        is_free
    }

    /// A session is in memory no more.
    pub(crate) fn forget_session(&self, id: &str) {
        self.sessions.lock().remove(id);
    }

    /// Another process goes on with this session: it is not taken back at once.
    pub(crate) fn fence(&self, id: &str) {
        self.forget_session(id);
        let mut fenced = self.fenced.lock();
        fenced.retain(|_, since| since.elapsed() < self.config.fence);
        fenced.insert(id.to_owned(), Instant::now());
    }

    /// Whether another process took it over a moment ago.
    pub(crate) fn is_fenced(&self, id: &str) -> bool {
        self.fenced.lock().get(id).is_some_and(|since| since.elapsed() < self.config.fence)
    }

    /// Empties a place, unless another was made meanwhile.
    pub(crate) fn forget(&self, id: &str, slot: &Arc<OnceCell<SessionHandle>>) {
        let mut sessions = self.sessions.lock();
        if sessions.get(id).is_some_and(|present| Arc::ptr_eq(present, slot)) {
            sessions.remove(id);
        }
    }

    /// The session of that id if it is in memory.
    pub(crate) fn session_in_memory(&self, id: &str) -> Option<SessionHandle> {
        self.sessions.lock().get(id).and_then(|slot| slot.get().cloned())
    }

    /// The sessions in memory.
    pub(crate) fn sessions_in_memory(&self) -> Vec<SessionHandle> {
        self.sessions.lock().values().filter_map(|slot| slot.get().cloned()).collect()
    }

    /// Something was announced: whoever waits for that looks.
    pub(crate) fn note_announced(&self) {
        self.announced.send_modify(|count| *count = count.wrapping_add(1));
    }

    /// From now on the service says that it is not ready, and goes on.
    pub(crate) fn drain(&self) {
        self.draining.store(true, Ordering::Relaxed);
    }

    pub(crate) fn is_draining(&self) -> bool {
        self.draining.load(Ordering::Relaxed)
    }

    pub(crate) fn is_stopping(&self) -> bool {
        self.stopping.load(Ordering::Relaxed)
    }

    /// Stops all sessions: what they accepted is settled and written, then their connections are
    /// told.
    pub(crate) async fn stop_sessions(&self) {
        self.stopping.store(true, Ordering::Relaxed);
        fail::fail_point!("stop-begins", |_| std::process::abort());
        let sessions = self.sessions_in_memory();
        futures_util::future::join_all(sessions.iter().map(SessionHandle::stop)).await;
        fail::fail_point!("stop-settled", |_| std::process::abort());
    }
}
