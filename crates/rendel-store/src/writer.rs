//! The journal's writer: group commits across sessions.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::thread;

use diesel::pg::PgConnection;
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Bool, Text};
use tokio::sync::mpsc;
use uuid::Uuid;

use crate::error::StoreError;
use crate::schema::{journal, refusals, sessions};
use crate::store::with_timeouts;

/// Rows that one commit takes at most.
const MOST_ROWS: usize = 4_096;
/// From so many rows on `COPY` is the faster way in, also with the round trips that it needs beside.
const COPY_FROM: usize = 512;
/// Appends that may wait; beyond them sessions wait, and with them their participants.
const WAITING: usize = 1_024;

/// A settled update on its way into the journal.
#[derive(Clone, Debug)]
pub struct UpdateRow {
    /// The session's number.
    pub session: i64,
    /// Its place.
    pub seq: i64,
    /// The update as JSON, shared with those who are to see it.
    pub body: Arc<str>,
    /// Whether its verdicts are more than `applied`.
    pub met: bool,
}

/// An update as `COPY` takes it.
#[derive(Insertable)]
#[diesel(table_name = journal, treat_none_as_default_value = false)]
struct CopiedRow<'r> {
    session: i64,
    seq: i64,
    body: &'r str,
    met: bool,
}

/// A refusal that is remembered.
#[derive(Clone, Debug, Insertable)]
#[diesel(table_name = refusals)]
pub struct RefusalRow {
    /// The session's number.
    pub session: i64,
    /// The tab or process.
    pub client: Uuid,
    /// The client's number of the proposal.
    pub n: i64,
    /// The place of the last update before it.
    pub at_seq: i64,
    /// The problem as JSON.
    pub problem: String,
}

/// What one session wants written.
pub struct Append {
    /// The session's number.
    pub session: i64,
    /// The epoch of whoever appends.
    pub epoch: u64,
    /// Updates, in order, each the next after the one before.
    pub updates: Vec<UpdateRow>,
    /// Refusals.
    pub refusals: Vec<RefusalRow>,
    /// Called once, from the writer's thread, when all of it is on disk or none of it ever will be.
    pub done: Box<dyn FnOnce(Result<(), WriteError>) + Send>,
}

impl std::fmt::Debug for Append {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Append")
            .field("session", &self.session)
            .field("updates", &self.updates.len())
            .finish_non_exhaustive()
    }
}

/// Why an append is not known to be on disk.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum WriteError {
    /// The database is away. What was sent to it may or may not be there: load the session again to know.
    #[error("the database is away: {0}")]
    Away(String),
    /// Another process has taken the session over. Nothing of the append was written.
    #[error("another process goes on with this session")]
    Superseded,
}

/// The way to the writer's thread; clones share it.
#[derive(Clone, Debug)]
pub struct JournalWriter {
    queue: mpsc::Sender<Append>,
}

impl JournalWriter {
    /// Starts the thread. `on_commit` is told of each commit: rows, and seconds that it took.
    pub fn start(url: &str, on_commit: impl Fn(usize, f64) + Send + 'static) -> std::io::Result<Self> {
        let (queue, appends) = mpsc::channel(WAITING);
        let mut writer =
            Writer { url: with_timeouts(url), conn: None, failed: BTreeMap::new(), on_commit: Box::new(on_commit) };
        thread::Builder::new().name("journal".to_owned()).spawn(move || writer.run(appends))?;
        Ok(Self { queue })
    }

    /// Puts an append into the next group. Waits while too many wait already; gives it back if the writer has ended.
    pub async fn append(&self, append: Append) -> Result<(), Append> {
        self.queue.send(append).await.map_err(|error| error.0)
    }
}

struct Writer {
    url: String,
    conn: Option<PgConnection>,
    /// For each session whose append failed, the epoch of whoever appended. What the same one sent after it would leave
    /// a gap, and fails too; whoever loads the session anew has a higher epoch.
    failed: BTreeMap<i64, u64>,
    on_commit: Box<dyn Fn(usize, f64) + Send>,
}

impl Writer {
    fn run(&mut self, mut appends: mpsc::Receiver<Append>) {
        while let Some(first) = appends.blocking_recv() {
            let mut rows = first.updates.len() + first.refusals.len();
            let mut group = vec![first];
            while rows < MOST_ROWS {
                let Ok(next) = appends.try_recv() else { break };
                rows += next.updates.len() + next.refusals.len();
                group.push(next);
            }
            self.write(group);
        }
    }

    fn write(&mut self, mut group: Vec<Append>) {
        group = self.without_followers_of_failed(group);
        if group.is_empty() {
            return;
        }
        let began = std::time::Instant::now();
        match self.commit(&group) {
            Ok(superseded) => {
                let rows = group.iter().map(|append| append.updates.len() + append.refusals.len()).sum();
                (self.on_commit)(rows, began.elapsed().as_secs_f64());
                for (index, append) in group.into_iter().enumerate() {
                    if superseded.contains(&index) {
                        self.fail(append, WriteError::Superseded);
                    } else {
                        (append.done)(Ok(()));
                    }
                }
            }
            Err(StoreError::Exists) if group.len() > 1 => {
                // One session was superseded in this very moment; the rest must not suffer for it.
                group.into_iter().for_each(|append| self.write(vec![append]));
            }
            Err(StoreError::Exists) => group.into_iter().for_each(|append| self.fail(append, WriteError::Superseded)),
            Err(error) => {
                self.conn = None;
                tracing::warn!(%error, appends = group.len(), "a commit failed");
                group.into_iter().for_each(|append| self.fail(append, WriteError::Away(error.to_string())));
            }
        }
    }

    fn fail(&mut self, append: Append, error: WriteError) {
        self.failed.insert(append.session, append.epoch);
        (append.done)(Err(error));
    }

    fn without_followers_of_failed(&mut self, group: Vec<Append>) -> Vec<Append> {
        let mut kept = Vec::with_capacity(group.len());
        for append in group {
            match self.failed.get(&append.session) {
                Some(failed) if append.epoch <= *failed => {
                    (append.done)(Err(WriteError::Away("an earlier append of the session failed".to_owned())));
                }
                Some(_) => {
                    self.failed.remove(&append.session);
                    kept.push(append);
                }
                None => kept.push(append),
            }
        }
        kept
    }

    /// Writes a group; gives the indices of those whose session another process has taken over, which are left out as a
    /// whole. The primary key holds where a take-over comes in between: then the statement fails.
    fn commit(&mut self, group: &[Append]) -> Result<BTreeSet<usize>, StoreError> {
        let conn = match &mut self.conn {
            Some(conn) => conn,
            None => {
                let conn = PgConnection::establish(&self.url).map_err(|error| StoreError::Away(error.to_string()))?;
                self.conn.insert(conn)
            }
        };
        let rows: usize = group.iter().map(|append| append.updates.len()).sum();
        if rows < COPY_FROM && group.iter().all(|append| append.refusals.is_empty()) {
            return insert_current(conn, group);
        }
        conn.transaction(|conn| {
            let superseded = superseded(conn, group)?;
            let current = || group.iter().enumerate().filter(|(index, _)| !superseded.contains(index));
            copy_updates(conn, current().flat_map(|(_, append)| &append.updates))?;
            let refused: Vec<&RefusalRow> = current().flat_map(|(_, append)| &append.refusals).collect();
            diesel::insert_into(refusals::table).values(refused).on_conflict_do_nothing().execute(conn)?;
            Ok(superseded)
        })
    }
}

impl<'r> CopiedRow<'r> {
    fn of(row: &'r UpdateRow) -> Self {
        Self { session: row.session, seq: row.seq, body: &row.body, met: row.met }
    }
}

/// Writes updates by `COPY`.
pub(crate) fn copy_updates<'r>(
    conn: &mut PgConnection,
    rows: impl Iterator<Item = &'r UpdateRow>,
) -> Result<(), StoreError> {
    let copied: Vec<_> = rows.map(CopiedRow::of).collect();
    if !copied.is_empty() {
        diesel::copy_from(journal::table).from_insertable(&copied).execute(conn)?;
    }
    Ok(())
}

/// The appends whose epoch is not their session's any more.
fn superseded(conn: &mut PgConnection, group: &[Append]) -> Result<BTreeSet<usize>, StoreError> {
    let ords: Vec<i64> = group.iter().map(|append| append.session).collect();
    let known = sessions::table.filter(sessions::ord.eq_any(ords)).select((sessions::ord, sessions::epoch));
    let epochs: BTreeMap<i64, i64> = known.load::<(i64, i64)>(conn)?.into_iter().collect();
    let is_current = |append: &Append| epochs.get(&append.session) == i64::try_from(append.epoch).ok().as_ref();
    Ok(group.iter().enumerate().filter(|(_, append)| !is_current(append)).map(|(index, _)| index).collect())
}

/// One statement, which is a transaction of its own, writes what is of the present epoch. Arrays keep it the same for any
/// number of rows, so that it is prepared once.
fn insert_current(conn: &mut PgConnection, group: &[Append]) -> Result<BTreeSet<usize>, StoreError> {
    let rows = || group.iter().flat_map(|append| append.updates.iter().map(|row| (append.epoch, row)));
    let count = rows().count();
    if count == 0 {
        return Ok(BTreeSet::new());
    }
    let written = diesel::sql_query(
        "INSERT INTO journal (session, seq, body, met) SELECT u.session, u.seq, u.body, u.met \
         FROM unnest($1, $2, $3, $4, $5) AS u (session, epoch, seq, body, met) \
         JOIN sessions s ON s.ord = u.session AND s.epoch = u.epoch",
    )
    .bind::<Array<BigInt>, _>(rows().map(|(_, row)| row.session).collect::<Vec<_>>())
    .bind::<Array<BigInt>, _>(rows().map(|(epoch, _)| i64::try_from(epoch).unwrap_or(-1)).collect::<Vec<_>>())
    .bind::<Array<BigInt>, _>(rows().map(|(_, row)| row.seq).collect::<Vec<_>>())
    .bind::<Array<Text>, _>(rows().map(|(_, row)| &*row.body).collect::<Vec<_>>())
    .bind::<Array<Bool>, _>(rows().map(|(_, row)| row.met).collect::<Vec<_>>())
    .execute(conn)?;
    if written == count {
        return Ok(BTreeSet::new());
    }
    // Which they were is asked of the journal itself: an epoch may have risen again since.
    let mut missing = BTreeSet::new();
    for (index, append) in group.iter().enumerate() {
        let Some(last) = append.updates.last() else { continue };
        let place = journal::session.eq(last.session).and(journal::seq.eq(last.seq));
        let there: Option<String> = journal::table.filter(place).select(journal::body).first(conn).optional()?;
        if there.as_deref() != Some(&*last.body) {
            missing.insert(index);
        }
    }
    Ok(missing)
}
