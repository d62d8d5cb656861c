//! Sessions, and how a process takes one over.

use chrono::{DateTime, Utc};
use diesel::dsl::max;
use diesel::prelude::*;
use rendel_core::{Problem, SequencerSnapshot, Settled};
use uuid::Uuid;

use crate::error::StoreError;
use crate::schema::{charters, epochs, journal, refusals, sessions, snapshots};
use crate::store::Store;

/// A stored session.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = sessions)]
pub struct SessionRow {
    /// Its number, by which other tables refer to it.
    pub ord: i64,
    /// Its id.
    pub id: String,
    /// The name of its charter.
    pub charter: String,
    /// The charter's version.
    pub version: i32,
    /// `open`.
    pub status: String,
    /// The plain JSON that it opened with.
    pub opening: Option<String>,
    /// How often a process took it over.
    pub epoch: i64,
    /// When it was opened.
    pub opened: DateTime<Utc>,
}

/// All that a process needs to go on with a session.
#[derive(Debug)]
pub struct TakenOver {
    /// The session, with its new epoch.
    pub row: SessionRow,
    /// The text of its charter.
    pub charter_source: String,
    /// The newest snapshot, if there is one.
    pub snapshot: Option<SequencerSnapshot>,
    /// The settled updates after the snapshot, in order.
    pub updates: Vec<Settled>,
    /// The remembered refusals: client, `n`, problem.
    pub refusals: Vec<(Uuid, u64, Problem)>,
    /// Each epoch and the `seq` at which it began, in order.
    pub epochs: Vec<(u64, u64)>,
}

impl Store {
    /// Keeps a new session. `Exists` if its id is taken.
    pub async fn open_session(
        &self,
        id: String,
        charter: String,
        version: i32,
        opening: Option<String>,
    ) -> Result<SessionRow, StoreError> {
        use sessions::dsl;
        self.run(move |conn| {
            let row = (dsl::id.eq(id), dsl::charter.eq(charter), dsl::version.eq(version), dsl::opening.eq(opening));
            let insert = diesel::insert_into(sessions::table).values(row);
            Ok(insert.returning(SessionRow::as_returning()).get_result(conn)?)
        })
        .await
    }

    /// The session of that id and the `seq` of its last update.
    pub async fn session(&self, id: String) -> Result<Option<(SessionRow, u64)>, StoreError> {
        self.run(move |conn| {
            let row =
                sessions::table.filter(sessions::id.eq(id)).select(SessionRow::as_select()).first(conn).optional()?;
            let Some(row) = row else { return Ok(None) };
            let seq = last_seq(conn, row.ord)?;
            Ok(Some((row, seq)))
        })
        .await
    }

    /// A page of sessions by id, each with the `seq` of its last update and the title of its charter.
    pub async fn sessions(
        &self,
        charter: Option<String>,
        after: Option<String>,
        page: i64,
    ) -> Result<Vec<(SessionRow, u64, String)>, StoreError> {
        self.run(move |conn| {
            let mut query = sessions::table
                .inner_join(
                    charters::table
                        .on(charters::name.eq(sessions::charter).and(charters::version.eq(sessions::version))),
                )
                .select((SessionRow::as_select(), charters::title))
                .into_boxed();
            if let Some(charter) = charter {
                query = query.filter(sessions::charter.eq(charter));
            }
            if let Some(after) = after {
                query = query.filter(sessions::id.gt(after));
            }
            let rows: Vec<(SessionRow, String)> = query.order(sessions::id).limit(page).load(conn)?;
            rows.into_iter().map(|(row, title)| last_seq(conn, row.ord).map(|seq| (row, seq, title))).collect()
        })
        .await
    }

    /// Raises the session's epoch and reads all that is needed to go on with it; `None` if there is no such session.
    ///
    /// Cost: the newest snapshot and the journal after it.
    pub async fn take_over(&self, id: String) -> Result<Option<TakenOver>, StoreError> {
        self.run(move |conn| conn.transaction(|conn| take_over(conn, &id))).await
    }
}

fn take_over(conn: &mut PgConnection, id: &str) -> Result<Option<TakenOver>, StoreError> {
    let raise =
        diesel::update(sessions::table.filter(sessions::id.eq(id))).set(sessions::epoch.eq(sessions::epoch + 1));
    let Some(row) = raise.returning(SessionRow::as_returning()).get_result(conn).optional()? else { return Ok(None) };
    let begins = i64::try_from(last_seq(conn, row.ord)?).unwrap_or(i64::MAX);
    let epoch = (epochs::session.eq(row.ord), epochs::epoch.eq(row.epoch), epochs::begins.eq(begins));
    diesel::insert_into(epochs::table).values(epoch).execute(conn)?;
    let charter_source = charters::table
        .filter(charters::name.eq(&row.charter).and(charters::version.eq(row.version)))
        .select(charters::source)
        .first(conn)?;
    let snapshot: Option<SequencerSnapshot> = snapshots::table
        .filter(snapshots::session.eq(row.ord))
        .order(snapshots::seq.desc())
        .select(snapshots::body)
        .first::<String>(conn)
        .optional()?
        .and_then(|body| match read(&body) {
            Ok(snapshot) => Some(snapshot),
            Err(error) => {
                // It only shortens the journal, which has everything.
                tracing::warn!(session = %row.id, %error, "a snapshot of another version is passed over for the journal");
                None
            }
        });
    let from = snapshot.as_ref().map_or(0, |snapshot| i64::try_from(snapshot.seq).unwrap_or(i64::MAX));
    let updates = journal::table
        .filter(journal::session.eq(row.ord).and(journal::seq.gt(from)))
        .order(journal::seq)
        .select(journal::body)
        .load::<String>(conn)?
        .iter()
        .map(|body| read(body))
        .collect::<Result<_, _>>()?;
    let refusals = refusals::table
        .filter(refusals::session.eq(row.ord))
        .order((refusals::client, refusals::n))
        .select((refusals::client, refusals::n, refusals::problem))
        .load::<(Uuid, i64, String)>(conn)?
        .into_iter()
        .map(|(client, n, problem)| Ok((client, unsigned(n), read(&problem)?)))
        .collect::<Result<_, StoreError>>()?;
    let epochs = epochs::table
        .filter(epochs::session.eq(row.ord))
        .order(epochs::epoch)
        .select((epochs::epoch, epochs::begins))
        .load::<(i64, i64)>(conn)?
        .into_iter()
        .map(|(epoch, begins)| (unsigned(epoch), unsigned(begins)))
        .collect();
    Ok(Some(TakenOver { row, charter_source, snapshot, updates, refusals, epochs }))
}

fn last_seq(conn: &mut PgConnection, session: i64) -> Result<u64, StoreError> {
    let last: Option<i64> =
        journal::table.filter(journal::session.eq(session)).select(max(journal::seq)).first(conn)?;
    Ok(last.map_or(0, unsigned))
}

/// Places and counts are stored as `bigint` and never below zero.
fn unsigned(number: i64) -> u64 {
    u64::try_from(number).unwrap_or(0)
}

fn read<T: serde::de::DeserializeOwned>(body: &str) -> Result<T, StoreError> {
    serde_json::from_str(body).map_err(|error| StoreError::Damaged(error.to_string()))
}
