//! The journal's writer: group commits across sessions.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use diesel::connection::SimpleConnection as _;
use diesel::pg::PgConnection;
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Bool, Nullable, Text};
use tokio::sync::{mpsc, oneshot};
use uuid::Uuid;

use crate::announcements::{NewAnnouncement, announce};
use crate::error::StoreError;
use crate::rows::signed;
use crate::schema::{journal, refusals, sessions};
use crate::timeouts::{WRITER_TIME_OUTS, with_timeouts};

/// Rows that one commit takes at most.
const MOST_ROWS: usize = 4_096;
/// From so many rows on `COPY` is the faster way in, also with the round trips that it needs
/// beside.
const COPY_FROM: usize = 512;
/// Appends that may wait; beyond them sessions wait, and with them their participants.
const WAITING: usize = 1_024;

/// Needs what a row of the journal needs, and leaves nothing: the table's lock, taken without
/// waiting, and a record in the write-ahead log that a commit waits for.
const PROBE: &str = "BEGIN; LOCK TABLE journal IN ROW EXCLUSIVE MODE NOWAIT; \
    SELECT pg_logical_emit_message(true, 'rendel', 'probe'); COMMIT";

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
    /// The client, as [`ClientKey`](rendel_core::ClientKey) gives it.
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
    /// What is announced with the updates, in order.
    pub announcements: Vec<NewAnnouncement>,
    /// When the session must be in memory next, where that is to be noted.
    pub wakes: Option<Option<i64>>,
    /// Called once, from the writer's thread, when all of it is on disk or none of it ever will be.
    pub done: Box<dyn FnOnce(Result<(), WriteError>) + Send>,
}

impl Append {
    /// The session, and the epoch in which it may be written.
    fn place(&self) -> (i64, i64) {
        (self.session, signed(self.epoch))
    }
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
    /// The database is away, or somebody takes the session over. What was sent may or may not be
    /// there: load the session again to know.
    #[error("what was sent may not be written: {0}")]
    Away(String),
    /// Another process has taken the session over. Nothing of the append was written.
    #[error("another process goes on with this session")]
    Superseded,
}

/// What the writer's thread is asked for.
#[derive(Debug)]
enum Work {
    Append(Append),
    /// To tell whether anything can be written.
    Probe(oneshot::Sender<Result<(), WriteError>>),
}

/// The way to the writer's thread; clones share it.
#[derive(Clone, Debug)]
pub struct JournalWriter {
    queue: mpsc::Sender<Work>,
}

impl JournalWriter {
    /// Starts the thread. `on_commit` is told of each commit: rows, and seconds that it took.
    pub fn start(
        url: &str,
        on_commit: impl Fn(usize, f64) + Send + 'static,
    ) -> std::io::Result<Self> {
        let (queue, appends) = mpsc::channel(WAITING);
        let mut writer = Writer {
            url: with_timeouts(url),
            conn: None,
            failed: BTreeMap::new(),
            on_commit: Box::new(on_commit),
        };
        thread::Builder::new().name("journal".to_owned()).spawn(move || writer.run(appends))?;
        Ok(Self { queue })
    }

    /// Whether something can be written now: asked in the writer's own queue, by its own connection.
    /// Fails if the thread has ended, if so many appends wait that another would too, if the database
    /// is away, and if its answer takes longer than `within`.
    pub async fn probe(&self, within: Duration) -> Result<(), WriteError> {
        let away = |why: &str| WriteError::Away(why.to_owned());
        let (answer, answered) = oneshot::channel();
        let ended = || away("the journal's writer has ended");
        self.queue.try_send(Work::Probe(answer)).map_err(|error| match error {
            mpsc::error::TrySendError::Full(_) => away("too many appends wait"),
            mpsc::error::TrySendError::Closed(_) => ended(),
        })?;
        let answered = tokio::time::timeout(within, answered).await;
        answered.map_err(|_| away("the journal does not answer"))?.map_err(|_| ended())?
    }

    /// Puts an append into the next group. Waits while too many wait already; gives it back if the
    /// writer has ended.
    pub async fn append(&self, append: Append) -> Result<(), Append> {
        self.queue.send(Work::Append(append)).await.map_err(|error| match error.0 {
            Work::Append(append) => append,
            Work::Probe(_) => unreachable!("an append was sent"),
        })
    }
}

struct Writer {
    url: String,
    conn: Option<PgConnection>,
    /// For each session whose append failed, the epoch of whoever appended. What the same one sent
    /// after it would leave a gap, and fails too; whoever loads the session anew has a higher
    /// epoch.
    failed: BTreeMap<i64, u64>,
    on_commit: Box<dyn Fn(usize, f64) + Send>,
}

impl Writer {
    fn run(&mut self, mut queue: mpsc::Receiver<Work>) {
        while let Some(first) = queue.blocking_recv() {
            let (mut rows, mut group, mut probes) = (0, Vec::new(), Vec::new());
            let mut next = Some(first);
            while let Some(work) = next {
                match work {
                    Work::Append(append) => {
                        rows += append.updates.len() + append.refusals.len();
                        group.push(append);
                    }
                    Work::Probe(answer) => probes.push(answer),
                }
                next = if rows < MOST_ROWS { queue.try_recv().ok() } else { None };
            }
            self.write(group);
            if !probes.is_empty() {
                let found = self.probe();
                // Nobody waits any more for an answer that took too long.
                probes.into_iter().for_each(|answer| drop(answer.send(found.clone())));
            }
        }
    }

    /// Whether a row of the journal could be written: its table is not locked, and a commit gets
    /// through to the disk.
    fn probe(&mut self) -> Result<(), WriteError> {
        let probed = self.connection().and_then(|conn| Ok(conn.batch_execute(PROBE)?));
        probed.map_err(|error| {
            self.conn = None;
            WriteError::Away(error.to_string())
        })
    }

    fn connection(&mut self) -> Result<&mut PgConnection, StoreError> {
        if self.conn.is_none() {
            let mut conn = PgConnection::establish(&self.url)
                .map_err(|error| StoreError::Away(error.to_string()))?;
            conn.batch_execute(WRITER_TIME_OUTS)?;
            keep_promises(&mut conn)?;
            self.conn = Some(conn);
        }
        self.conn.as_mut().ok_or_else(|| StoreError::Away("no connection".to_owned()))
    }

    fn write(&mut self, mut group: Vec<Append>) {
        group = self.without_followers_of_failed(group);
        if group.is_empty() {
            return;
        }
        let began = std::time::Instant::now();
        fail::fail_point!("append-begins", |_| std::process::abort());
        match self.commit(&group) {
            Ok(left_out) => {
                fail::fail_point!("append-written", |_| std::process::abort());
                let rows =
                    group.iter().map(|append| append.updates.len() + append.refusals.len()).sum();
                (self.on_commit)(rows, began.elapsed().as_secs_f64());
                for (index, append) in group.into_iter().enumerate() {
                    match left_out.get(&index) {
                        Some(error) => self.fail(append, error.clone()),
                        None => (append.done)(Ok(())),
                    }
                }
            }
            Err(StoreError::Exists) if group.len() > 1 => {
                // The rest must not suffer for the one whose place is taken.
                group.into_iter().for_each(|append| self.write(vec![append]));
            }
            Err(StoreError::Exists) => {
                // Nobody but its owner writes a session, so this is of its own: a commit whose
                // answer was lost.
                let why = "the journal has something at this place already";
                group
                    .into_iter()
                    .for_each(|append| self.fail(append, WriteError::Away(why.to_owned())));
            }
            Err(error) => {
                self.conn = None;
                tracing::warn!(%error, appends = group.len(), "a commit failed");
                group
                    .into_iter()
                    .for_each(|append| self.fail(append, WriteError::Away(error.to_string())));
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
                    (append.done)(Err(WriteError::Away(
                        "an earlier append of the session failed".to_owned(),
                    )));
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

    /// Writes a group; gives the appends that were left out as a whole, by their indices.
    fn commit(&mut self, group: &[Append]) -> Result<BTreeMap<usize, WriteError>, StoreError> {
        let conn = self.connection()?;
        let rows: usize = group.iter().map(|append| append.updates.len()).sum();
        let is_plain = |append: &Append| {
            append.refusals.is_empty() && append.announcements.is_empty() && append.wakes.is_none()
        };
        let held = if rows < COPY_FROM && group.iter().all(is_plain) {
            insert(conn, group)?
        } else {
            conn.transaction(|conn| {
                let held = hold(conn, group)?;
                let current = || group.iter().filter(|append| held.contains(&append.place()));
                copy_updates(conn, current().flat_map(|append| &append.updates))?;
                let refused: Vec<&RefusalRow> =
                    current().flat_map(|append| &append.refusals).collect();
                diesel::insert_into(refusals::table)
                    .values(refused)
                    .on_conflict_do_nothing()
                    .execute(conn)?;
                note_wakes(conn, current())?;
                let announced: Vec<_> =
                    current().flat_map(|append| append.announcements.iter().cloned()).collect();
                announce(conn, &announced)?;
                Ok::<_, StoreError>(held)
            })?
        };
        let left_out = |(_, append): &(usize, &Append)| !held.contains(&append.place());
        let left_out: Vec<_> = group.iter().enumerate().filter(left_out).collect();
        if left_out.is_empty() {
            return Ok(BTreeMap::new());
        }
        let epochs = epochs(conn, group)?;
        let why = |append: &Append| match epochs.get(&append.session) == Some(&signed(append.epoch))
        {
            true => WriteError::Away("the session is being taken over".to_owned()),
            false => WriteError::Superseded,
        };
        Ok(left_out.into_iter().map(|(index, append)| (index, why(append))).collect())
    }
}

/// What was told settled must outlive the database's end: a commit waits for its disk, whatever the
/// server's own configuration says.
fn keep_promises(conn: &mut PgConnection) -> Result<(), StoreError> {
    #[derive(QueryableByName)]
    struct Setting {
        #[diesel(sql_type = Text)]
        setting: String,
    }
    let mut is = |name: &str| -> Result<String, StoreError> {
        let query = format!("SELECT current_setting('{name}') AS setting");
        Ok(diesel::sql_query(query).get_result::<Setting>(conn)?.setting)
    };
    let (commits, fsync) = (is("synchronous_commit")?, is("fsync")?);
    if commits == "off" {
        tracing::warn!("the database has synchronous_commit = off; the journal waits for its disk");
        conn.batch_execute("SET synchronous_commit = on")?;
    }
    if fsync == "off" {
        tracing::error!(
            "the database has fsync = off: what is settled may be lost with its machine"
        );
    }
    Ok(())
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

/// The sessions of a group and the epochs of those who append, each once, as arrays.
fn places(group: &[Append]) -> (Vec<i64>, Vec<i64>) {
    group.iter().map(Append::place).collect::<BTreeSet<_>>().into_iter().unzip()
}

/// A session whose row is held, and its epoch.
#[derive(Debug, QueryableByName)]
struct Held {
    #[diesel(sql_type = BigInt)]
    session: i64,
    #[diesel(sql_type = BigInt)]
    epoch: i64,
}

/// A share of the row of each session that is still of the epoch of whoever appends: a take-over
/// waits for it. A row that is being taken over is passed over, so that the others need not wait.
const HOLD: &str = "SELECT s.ord AS session, s.epoch FROM sessions s \
    JOIN unnest($1, $2) AS a (session, epoch) ON s.ord = a.session AND s.epoch = a.epoch FOR KEY SHARE OF s SKIP LOCKED";

/// Takes a share of the rows of a group's sessions, within a transaction; gives those that it got.
fn hold(conn: &mut PgConnection, group: &[Append]) -> Result<BTreeSet<(i64, i64)>, StoreError> {
    let (sessions, epochs) = places(group);
    let held =
        diesel::sql_query(HOLD).bind::<Array<BigInt>, _>(sessions).bind::<Array<BigInt>, _>(epochs);
    Ok(held.load::<Held>(conn)?.into_iter().map(|held| (held.session, held.epoch)).collect())
}

/// Holds the rows and writes the updates in one statement, which is a transaction of its own.
/// Arrays keep it the same for any number of rows, so that it is prepared once.
fn insert(conn: &mut PgConnection, group: &[Append]) -> Result<BTreeSet<(i64, i64)>, StoreError> {
    let rows =
        || group.iter().flat_map(|append| append.updates.iter().map(|row| (append.epoch, row)));
    let (sessions, epochs) = places(group);
    let held = diesel::sql_query(format!(
        "WITH held AS ({HOLD}), written AS (INSERT INTO journal (session, seq, body, met) \
         SELECT u.session, u.seq, u.body, u.met FROM unnest($3, $4, $5, $6, $7) AS u (session, epoch, seq, body, met) \
         JOIN held h ON h.session = u.session AND h.epoch = u.epoch) SELECT session, epoch FROM held"
    ))
    .bind::<Array<BigInt>, _>(sessions)
    .bind::<Array<BigInt>, _>(epochs)
    .bind::<Array<BigInt>, _>(rows().map(|(_, row)| row.session).collect::<Vec<_>>())
    .bind::<Array<BigInt>, _>(rows().map(|(epoch, _)| signed(epoch)).collect::<Vec<_>>())
    .bind::<Array<BigInt>, _>(rows().map(|(_, row)| row.seq).collect::<Vec<_>>())
    .bind::<Array<Text>, _>(rows().map(|(_, row)| &*row.body).collect::<Vec<_>>())
    .bind::<Array<Bool>, _>(rows().map(|(_, row)| row.met).collect::<Vec<_>>());
    Ok(held.load::<Held>(conn)?.into_iter().map(|held| (held.session, held.epoch)).collect())
}

/// Notes when sessions must be in memory next.
fn note_wakes<'a>(
    conn: &mut PgConnection,
    group: impl Iterator<Item = &'a Append>,
) -> Result<(), StoreError> {
    let wakes: BTreeMap<i64, Option<i64>> =
        group.filter_map(|append| Some((append.session, append.wakes?))).collect();
    if wakes.is_empty() {
        return Ok(());
    }
    let (sessions, wakes): (Vec<i64>, Vec<Option<i64>>) = wakes.into_iter().unzip();
    diesel::sql_query(
        "UPDATE sessions s SET wakes = w.wakes FROM unnest($1, $2) AS w (session, wakes) \
         WHERE s.ord = w.session",
    )
    .bind::<Array<BigInt>, _>(sessions)
    .bind::<Array<Nullable<BigInt>>, _>(wakes)
    .execute(conn)?;
    Ok(())
}

/// The present epochs of a group's sessions.
fn epochs(conn: &mut PgConnection, group: &[Append]) -> Result<BTreeMap<i64, i64>, StoreError> {
    let known = sessions::table.filter(sessions::ord.eq_any(places(group).0));
    Ok(known
        .select((sessions::ord, sessions::epoch))
        .load::<(i64, i64)>(conn)?
        .into_iter()
        .collect())
}
