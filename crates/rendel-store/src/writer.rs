//! The journal's writer: group commits across sessions.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::thread;

use diesel::pg::PgConnection;
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Text};
use tokio::sync::mpsc;
use uuid::Uuid;

use crate::error::StoreError;
use crate::schema::{journal, refusals};
use crate::store::with_timeouts;

/// Rows that one commit takes at most.
const MOST_ROWS: usize = 4_096;
/// From so many rows on `COPY` is the faster way in.
const COPY_FROM: usize = 64;
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
}

/// An update as `COPY` takes it.
#[derive(Insertable)]
#[diesel(table_name = journal, treat_none_as_default_value = false)]
struct CopiedRow<'r> {
    session: i64,
    seq: i64,
    body: &'r str,
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
    /// Another process has written on: load the session again.
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
            Ok(()) => {
                let rows = group.iter().map(|append| append.updates.len() + append.refusals.len()).sum();
                (self.on_commit)(rows, began.elapsed().as_secs_f64());
                group.into_iter().for_each(|append| (append.done)(Ok(())));
            }
            Err(StoreError::Exists) if group.len() > 1 => {
                // One session was superseded; the rest must not suffer for it.
                group.into_iter().for_each(|append| self.write(vec![append]));
            }
            Err(error) => {
                let error = match error {
                    StoreError::Exists => WriteError::Superseded,
                    other => {
                        self.conn = None;
                        tracing::warn!(%other, appends = group.len(), "a commit failed");
                        WriteError::Away(other.to_string())
                    }
                };
                for append in group {
                    self.failed.insert(append.session, append.epoch);
                    (append.done)(Err(error.clone()));
                }
            }
        }
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

    fn commit(&mut self, group: &[Append]) -> Result<(), StoreError> {
        let conn = match &mut self.conn {
            Some(conn) => conn,
            None => {
                let conn = PgConnection::establish(&self.url).map_err(|error| StoreError::Away(error.to_string()))?;
                self.conn.insert(conn)
            }
        };
        let updates: Vec<&UpdateRow> = group.iter().flat_map(|append| &append.updates).collect();
        let refused: Vec<&RefusalRow> = group.iter().flat_map(|append| &append.refusals).collect();
        if refused.is_empty() {
            return insert_updates(conn, &updates);
        }
        conn.transaction(|conn| {
            insert_updates(conn, &updates)?;
            diesel::insert_into(refusals::table).values(refused).on_conflict_do_nothing().execute(conn)?;
            Ok(())
        })
    }
}

/// One statement, and so a transaction of its own where none is open.
fn insert_updates(conn: &mut PgConnection, rows: &[&UpdateRow]) -> Result<(), StoreError> {
    if rows.is_empty() {
        return Ok(());
    }
    if rows.len() >= COPY_FROM {
        let copied: Vec<_> =
            rows.iter().map(|row| CopiedRow { session: row.session, seq: row.seq, body: &row.body }).collect();
        diesel::copy_from(journal::table).from_insertable(&copied).execute(conn)?;
        return Ok(());
    }
    // Arrays keep the statement the same for any number of rows, so that it is prepared once.
    let sessions: Vec<i64> = rows.iter().map(|row| row.session).collect();
    let seqs: Vec<i64> = rows.iter().map(|row| row.seq).collect();
    let bodies: Vec<&str> = rows.iter().map(|row| &*row.body).collect();
    diesel::sql_query("INSERT INTO journal (session, seq, body) SELECT * FROM unnest($1, $2, $3)")
        .bind::<Array<BigInt>, _>(sessions)
        .bind::<Array<BigInt>, _>(seqs)
        .bind::<Array<Text>, _>(bodies)
        .execute(conn)?;
    Ok(())
}
