//! What the driver of a session asks of the store: rows in, and what is found back.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicI32, Ordering};
use std::time::{Duration, Instant};

use backon::{ExponentialBuilder, Retryable as _};
use chrono::{TimeDelta, Utc};
use rendel_core::{BuiltIn, Charter, Reader, SequencerSnapshot};
use rendel_session::{CallId, Found, Input, SessionStatus, Status, Wake, moved};
use rendel_store::{
    Append, Claim, Keeping, NewAnnouncement, Note, RefusalRow, StandingRow, StoreError, TakenOver,
    UpdateRow, WriteError,
};
use serde_json::{Value, json};
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

use crate::announcing::{Subject, event};
use crate::app::App;
use crate::clock::now_ms;
use crate::failure::from_store;

/// When a database that is away is asked again, at first and in the end.
const SOON: Duration = Duration::from_millis(100);
const LATE: Duration = Duration::from_secs(2);
/// Of the snapshots of the past one is kept for so many that were taken.
const STRIDE: u64 = 16;

/// A session's way to the store. What it finds comes back to the machine as inputs.
pub(super) struct StoreSide {
    app: Arc<App>,
    id: String,
    ord: i64,
    epoch: u64,
    /// What its announcements are about.
    about: Subject,
    /// Whether it is announced that it has ended.
    announces_end: bool,
    /// Updates that the journal keeps, where it is bounded.
    journal_limit: Option<u64>,
    /// How long an ended session is kept, where that is bounded.
    retain: Option<TimeDelta>,
    returns: mpsc::UnboundedSender<Input>,
    /// The snapshot that is being kept.
    keeping: Option<JoinHandle<()>>,
    /// What waits for a journal that is away.
    recovering: Option<JoinHandle<()>>,
    /// How often that was begun since something was written.
    recoveries: u32,
    /// How many seats are free, and who notes that now.
    free_seats: Arc<(AtomicI32, tokio::sync::Mutex<()>)>,
}

impl StoreSide {
    pub(super) fn new(
        app: Arc<App>,
        taken: &TakenOver,
        charter: &Charter,
        returns: mpsc::UnboundedSender<Input>,
    ) -> Self {
        Self {
            app,
            id: taken.row.id.clone(),
            ord: taken.row.ord,
            epoch: u64::try_from(taken.row.epoch).unwrap_or(0),
            about: Subject::of(&taken.row.id, charter),
            announces_end: charter.rules.announces(BuiltIn::Ended),
            journal_limit: charter.limits.journal,
            retain: charter.session.retain.and_then(|retain| TimeDelta::from_std(retain).ok()),
            returns,
            keeping: None,
            recovering: None,
            recoveries: 0,
            free_seats: Arc::default(),
        }
    }

    /// The epoch of which the session is here.
    pub(super) fn epoch(&self) -> u64 {
        self.epoch
    }

    /// Notes what comes back to the machine of what was asked here.
    pub(super) fn note(&mut self, input: &Input) {
        match input {
            Input::JournalFound(found) => self.epoch = found.epoch,
            Input::Written { .. } => self.recoveries = 0,
            _ => {}
        }
    }

    /// Waits for the snapshot that is being kept, and for nothing else any more.
    pub(super) async fn end(&mut self) {
        self.recovering.iter().for_each(JoinHandle::abort);
        if let Some(keeping) = self.keeping.take() {
            // What went wrong with it is in the log.
            let _ = keeping.await;
        }
    }

    /// Forgets all but the newest refusals.
    pub(super) fn forget_refusals(&self) {
        let (store, ord) = (self.app.store.clone(), self.ord);
        tokio::spawn(async move {
            // They are forgotten at the next turn, or with the next snapshot.
            if let Err(error) = store.forget_refusals(ord).await {
                tracing::debug!(%error, "old refusals were not forgotten");
            }
        });
    }

    /// Notes how many seats are free, for whoever looks for one. The newest number is noted last.
    pub(super) fn note_free_seats(&self, free: usize) {
        let (store, ord, epoch) = (self.app.store.clone(), self.ord, self.epoch);
        self.free_seats.0.store(i32::try_from(free).unwrap_or(i32::MAX), Ordering::Relaxed);
        let free_seats = self.free_seats.clone();
        tokio::spawn(async move {
            let (newest, noting) = &*free_seats;
            let _alone = noting.lock().await;
            let free = newest.load(Ordering::Relaxed);
            // Whoever looks asks the session itself; it is noted anew with the next change.
            if let Err(error) = store.note_free_seats(ord, epoch, free).await {
                tracing::debug!(%error, "the free seats were not noted");
            }
        });
    }

    pub(super) async fn append(
        &mut self,
        append: u64,
        epoch: u64,
        updates: Vec<rendel_session::UpdateRow>,
        refusals: Vec<rendel_session::RefusalRow>,
        wake: Option<Wake>,
    ) {
        let session = self.ord;
        self.app.metrics.settled.inc_by(updates.len() as u64);
        let announcements: Vec<_> = updates.iter().flat_map(|row| self.announced(row)).collect();
        let app = (!announcements.is_empty()).then(|| self.app.clone());
        let update = |row: rendel_session::UpdateRow| UpdateRow {
            session,
            seq: signed(row.seq),
            body: row.body,
            met: row.met,
        };
        let refusal = |row: rendel_session::RefusalRow| RefusalRow {
            session,
            client: row.client.id(),
            n: signed(row.n),
            at_seq: signed(row.at_seq),
            problem: row.problem,
        };
        let (returns, id, metrics) =
            (self.returns.clone(), self.id.clone(), self.app.metrics.clone());
        let began = Instant::now();
        let done = Box::new(move |result| {
            let input = match result {
                Ok(()) => {
                    metrics.written_seconds.observe(began.elapsed().as_secs_f64());
                    if let Some(app) = app {
                        app.note_announced();
                    }
                    Input::Written { append }
                }
                Err(WriteError::Superseded) => Input::Superseded,
                Err(error @ WriteError::Away(_)) => {
                    tracing::warn!(session = %id, %error, "the journal is away; the session waits \
                        for it");
                    metrics.journal_failures.inc();
                    Input::JournalLost
                }
            };
            let _ = returns.send(input);
        });
        let updates = updates.into_iter().map(update).collect();
        let refusals = refusals.into_iter().map(refusal).collect();
        let wakes = wake.map(wakes);
        let rows = Append { session, epoch, updates, refusals, announcements, wakes, done };
        if let Err(rows) = self.app.writer.append(rows).await {
            (rows.done)(Err(WriteError::Away("the journal's writer has ended".to_owned())));
        }
    }

    /// What is announced with an update.
    fn announced<'r>(
        &'r self,
        row: &'r rendel_session::UpdateRow,
    ) -> impl Iterator<Item = NewAnnouncement> + 'r {
        row.announced.iter().map(|announced| {
            let mut told = BTreeMap::from([
                ("seq", Value::from(row.seq)),
                ("values", announced.values.clone().into_iter().collect()),
            ]);
            told.extend(announced.rule.as_ref().map(|rule| ("rule", rule.as_str().into())));
            event(&self.about, &announced.kind, row.at, told)
        })
    }

    /// Notes when the session must be in memory next. Where it is not noted, it is there too early.
    pub(super) async fn note_wake(&self, wake: Wake) {
        if let Err(error) = self.app.store.note_wake(self.ord, self.epoch, wakes(wake)).await {
            tracing::debug!(%error, "when a session is due next was not noted");
        }
    }

    /// Takes the session over again once the database is there, which is asked in growing waits.
    pub(super) fn recover(&mut self, shown: u64) {
        let (app, id, ord) = (self.app.clone(), self.id.clone(), self.ord);
        let returns = self.returns.clone();
        // One that is found and lost again at once is not asked for at once again.
        let first = (SOON * 2u32.saturating_pow(self.recoveries)).min(LATE);
        self.recoveries = (self.recoveries + 1).min(5);
        let waits = ExponentialBuilder::default()
            .with_min_delay(SOON)
            .with_max_delay(LATE)
            .with_jitter()
            .without_max_times();
        self.recovering = Some(tokio::spawn(async move {
            tokio::time::sleep(first).await;
            let take = || async {
                let Some(taken) = app.store.take_over(id.clone(), Claim::Again).await? else {
                    return Ok(Input::Superseded);
                };
                let mut found = found(&taken);
                if found.snapshot.as_ref().is_some_and(|snapshot| snapshot.seq > shown) {
                    let rows = app.store.journal(ord, shown + 1, u64::MAX >> 1, i64::MAX).await;
                    found.unseen = rows.ok().map(|rows| rows.into_iter().map(Into::into).collect());
                }
                tracing::info!(session = %id, "the journal is back");
                Ok::<_, StoreError>(Input::JournalFound(Box::new(found)))
            };
            if let Ok(input) = take.retry(waits).await {
                let _ = returns.send(input);
            }
        }));
    }

    pub(super) fn write_standing(&self, call: CallId, by: String, standing: SessionStatus) {
        let (store, ord, epoch, returns) =
            (self.app.store.clone(), self.ord, self.epoch, self.returns.clone());
        let what = match standing.status {
            Status::Open => "thawed",
            Status::Frozen => "froze",
            Status::Ended => "ended",
        };
        let detail = match standing.except.is_empty() {
            true => json!({}),
            false => json!({ "except": standing.except }),
        };
        let note = Note::of_session(&self.id, &by, what, detail);
        let retained = self.retain.filter(|_| standing.status == Status::Ended);
        let ended = standing.status == Status::Ended && self.announces_end;
        let announcement =
            ended.then(|| event(&self.about, BuiltIn::Ended.name(), now_ms(), BTreeMap::new()));
        let app = self.app.clone();
        let delete_at = retained.and_then(|retained| Utc::now().checked_add_signed(retained));
        tokio::spawn(async move {
            let except = serde_json::to_string(&standing.except).unwrap_or_default();
            let status = standing.status.name();
            let row = StandingRow { status, except, delete_at, announcement };
            let written = store.set_status(ord, epoch, row, note).await;
            app.note_announced();
            let result = match &written {
                Ok(true) => Ok(()),
                Ok(false) => Err(moved()),
                Err(error) => Err(from_store(error)),
            };
            let _ = returns.send(Input::StandingWritten { call, by, standing, result });
            if let Ok(false) = written {
                let _ = returns.send(Input::Superseded);
            }
        });
    }

    pub(super) fn fetch(&self, call: CallId, reader: Reader, seq: u64) {
        let (store, ord, returns) = (self.app.store.clone(), self.ord, self.returns.clone());
        tokio::spawn(async move {
            let row = match store.journal(ord, seq, seq, 1).await {
                Ok(mut rows) => Ok(rows.pop().map(Into::into)),
                Err(StoreError::Forgotten { .. }) => Ok(None),
                Err(error) => Err(from_store(&error)),
            };
            let _ = returns.send(Input::Fetched { call, reader, seq, row });
        });
    }

    pub(super) fn keep(&mut self, snapshot: SequencerSnapshot) {
        let keeping = Keeping {
            stride: self.app.config.snapshot_every * STRIDE,
            updates: self.journal_limit,
        };
        let (app, ord, epoch) = (self.app.clone(), self.ord, self.epoch);
        let before = self.keeping.take();
        self.keeping = Some(tokio::spawn(async move {
            if let Some(before) = before {
                // One after the other, so that a newer one is never followed by an older.
                let _ = before.await;
            }
            let seq = snapshot.seq;
            let encoded =
                tokio::task::spawn_blocking(move || serde_json::to_string(&snapshot)).await;
            let Ok(Ok(body)) = encoded else {
                tracing::error!(seq, "a snapshot could not be encoded");
                return;
            };
            // Without it a restart reads more of the journal; nothing is lost.
            match app.store.keep_snapshot(ord, epoch, seq, body, keeping).await {
                Ok(()) => drop(app.metrics.snapshots.inc()),
                Err(error) => tracing::warn!(%error, seq, "a snapshot was not kept"),
            }
        }));
    }
}

/// A session as its journal has it.
pub(super) fn found(taken: &TakenOver) -> Found {
    let status = match taken.row.status.as_str() {
        "frozen" => Status::Frozen,
        "ended" => Status::Ended,
        _ => Status::Open,
    };
    let except = serde_json::from_str(&taken.row.frozen_except).unwrap_or_default();
    Found {
        epoch: u64::try_from(taken.row.epoch).unwrap_or(0),
        epochs: taken.epochs.clone(),
        standing: SessionStatus { status, except },
        snapshot: taken.snapshot.clone(),
        updates: taken.updates.clone(),
        refusals: taken.refusals.clone(),
        unseen: None,
        secret: taken.row.secret,
        opened: u64::try_from(taken.row.opened.timestamp_millis()).unwrap_or(0),
        wakes: taken.row.wakes.map(i64::unsigned_abs),
    }
}

/// When a session must be in memory next, as it is stored.
fn wakes(wake: Wake) -> Option<i64> {
    match wake {
        Wake::At(at) => Some(signed(at)),
        Wake::Never => None,
    }
}

fn signed(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}
