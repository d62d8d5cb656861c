//! Who did what among powers, tokens and charters.

use chrono::{DateTime, Utc};
use diesel::prelude::*;

use crate::error::StoreError;
use crate::schema::audit;
use crate::store::Store;

/// Something that was done.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = audit)]
pub struct AuditRow {
    /// Its place in the order.
    pub ord: i64,
    /// When.
    pub at: DateTime<Utc>,
    /// In which session, where it is of one.
    pub session: Option<String>,
    /// The participant who did it, or `service`.
    pub by: String,
    /// What.
    pub what: String,
    /// More on it, as JSON.
    pub detail: String,
}

impl Store {
    /// Writes down that something was done.
    pub async fn note(
        &self,
        session: Option<String>,
        by: String,
        what: &'static str,
        detail: String,
    ) -> Result<(), StoreError> {
        use audit::dsl;
        self.run(move |conn| {
            let row = (
                dsl::session.eq(session),
                dsl::by.eq(by),
                dsl::what.eq(what),
                dsl::detail.eq(detail),
            );
            diesel::insert_into(audit::table).values(row).execute(conn)?;
            Ok(())
        })
        .await
    }

    /// Forgets what was done before a time.
    pub async fn forget_audit(&self, before: DateTime<Utc>) -> Result<usize, StoreError> {
        self.run(move |conn| {
            Ok(diesel::delete(audit::table.filter(audit::at.lt(before))).execute(conn)?)
        })
        .await
    }

    /// What was done in a session, or of no session, newest first.
    pub async fn audit(
        &self,
        session: Option<String>,
        before: Option<i64>,
        most: i64,
    ) -> Result<Vec<AuditRow>, StoreError> {
        use audit::dsl;
        self.run(move |conn| {
            let mut query = audit::table
                .order(dsl::ord.desc())
                .limit(most)
                .select(AuditRow::as_select())
                .into_boxed();
            query = match session {
                Some(session) => query.filter(dsl::session.eq(session)),
                None => query.filter(dsl::session.is_null()),
            };
            if let Some(before) = before {
                query = query.filter(dsl::ord.lt(before));
            }
            Ok(query.load(conn)?)
        })
        .await
    }
}
