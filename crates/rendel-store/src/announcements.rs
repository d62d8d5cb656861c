//! Announcements: the outbox into which they are written with what they are about, and the feed of
//! it.

use chrono::{DateTime, Utc};
use diesel::pg::PgConnection;
use diesel::prelude::*;
use uuid::Uuid;

use crate::error::StoreError;
use crate::schema::{announcements, deliveries};
use crate::store::Store;

/// An announcement on its way into the outbox.
#[derive(Clone, Debug, PartialEq, Eq, Insertable)]
#[diesel(table_name = announcements, treat_none_as_default_value = false)]
pub struct NewAnnouncement {
    /// Its id, the same however often it is sent.
    pub id: Uuid,
    /// The session that it is about.
    pub session: String,
    /// Its charter.
    pub charter: String,
    /// Its type.
    pub kind: String,
    /// The event as JSON.
    pub event: String,
}

/// An announcement in the outbox.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = announcements)]
pub struct AnnouncementRow {
    /// Its place in the order of all.
    pub ord: i64,
    /// Its id.
    pub id: Uuid,
    /// The session that it is about.
    pub session: String,
    /// Its type.
    pub kind: String,
    /// The event as JSON.
    pub event: String,
    /// When it was written.
    pub made: DateTime<Utc>,
}

/// Which announcements are asked for.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// Of these types; of all where there are none.
    pub types: Vec<String>,
    /// Of sessions of these charters.
    pub charters: Vec<String>,
    /// Of this session.
    pub session: Option<String>,
}

/// Held until what is written is there for all: then no row ever comes before one that was read. The
/// number stands for nothing else.
const IN_ORDER: &str = "SELECT pg_advisory_xact_lock(7241386035)";

/// Writes announcements, within a transaction.
pub(crate) fn announce(
    conn: &mut PgConnection,
    rows: &[NewAnnouncement],
) -> Result<(), StoreError> {
    if rows.is_empty() {
        return Ok(());
    }
    diesel::sql_query(IN_ORDER).execute(conn)?;
    diesel::copy_from(announcements::table).from_insertable(rows).execute(conn)?;
    Ok(())
}

/// Forgets what was announced of a session that is deleted, but for what is still to be sent.
pub(crate) fn forget_session(conn: &mut PgConnection, session: &str) -> Result<(), StoreError> {
    let waiting = deliveries::table.filter(deliveries::status.eq("waiting"));
    let own = announcements::table.filter(
        announcements::session
            .eq(session)
            .and(announcements::ord.ne_all(waiting.select(deliveries::announcement))),
    );
    diesel::delete(own).execute(conn)?;
    Ok(())
}

impl Store {
    /// The announcements after a place, in order, at most `most`, and the place after which the next
    /// are. Cost: a look into an index, and what lies between.
    pub async fn announcements(
        &self,
        after: i64,
        wanted: Wanted,
        most: i64,
    ) -> Result<(Vec<AnnouncementRow>, i64), StoreError> {
        let read = move |conn: &mut PgConnection| {
            let last = last_announcement(conn)?;
            let mut query = announcements::table
                .filter(announcements::ord.gt(after).and(announcements::ord.le(last)))
                .order(announcements::ord)
                .select(AnnouncementRow::as_select())
                .limit(most)
                .into_boxed();
            if !wanted.types.is_empty() {
                query = query.filter(announcements::kind.eq_any(wanted.types));
            }
            if !wanted.charters.is_empty() {
                query = query.filter(announcements::charter.eq_any(wanted.charters));
            }
            if let Some(session) = wanted.session {
                query = query.filter(announcements::session.eq(session));
            }
            let rows: Vec<AnnouncementRow> = query.load(conn)?;
            let is_full = i64::try_from(rows.len()).is_ok_and(|count| count == most);
            let next = rows.last().filter(|_| is_full).map_or(last, |row| row.ord);
            Ok((rows, next.max(after)))
        };
        self.run_at_one_moment(read).await
    }

    /// The place of the last announcement, 0 before the first.
    pub async fn last_announcement(&self) -> Result<i64, StoreError> {
        self.run(last_announcement).await
    }

    /// Deletes announcements that are older than that and that nobody is still to be sent; gives how
    /// many, at most `most`.
    pub async fn forget_announcements(
        &self,
        older_than: DateTime<Utc>,
        most: i64,
    ) -> Result<usize, StoreError> {
        self.run(move |conn| {
            let waiting = deliveries::table.filter(deliveries::status.eq("waiting"));
            let old: Vec<i64> = announcements::table
                .filter(announcements::made.lt(older_than))
                .filter(announcements::ord.ne_all(waiting.select(deliveries::announcement)))
                .order(announcements::ord)
                .select(announcements::ord)
                .limit(most)
                .load(conn)?;
            let old = announcements::table.filter(announcements::ord.eq_any(old));
            Ok(diesel::delete(old).execute(conn)?)
        })
        .await
    }
}

pub(crate) fn last_announcement(conn: &mut PgConnection) -> Result<i64, StoreError> {
    let last: Option<i64> =
        announcements::table.select(diesel::dsl::max(announcements::ord)).first(conn)?;
    Ok(last.unwrap_or(0))
}
