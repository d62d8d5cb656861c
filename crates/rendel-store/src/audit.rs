//! Who did what among powers, tokens and charters.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use serde_json::Value;

use crate::calls::OnceCall;
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

/// What is written down of something that is done, in the transaction in which it is done.
#[derive(Clone, Debug)]
pub struct Note {
    /// The session, if it is about one.
    pub session: Option<String>,
    /// The participant who does it, or `service`.
    pub by: String,
    /// What.
    pub what: &'static str,
    /// More about it.
    pub detail: Value,
    /// The call by which it is done, where that counts once.
    pub once: Option<OnceCall>,
}

impl Note {
    /// Something that is done in a session.
    pub fn of_session(session: &str, by: &str, what: &'static str, detail: Value) -> Self {
        Self { session: Some(session.to_owned()), by: by.to_owned(), what, detail, once: None }
    }

    /// Something that the backend does about the service as a whole.
    pub fn of_service(what: &'static str, detail: Value) -> Self {
        Self { session: None, by: rendel_core::Actor::SERVICE.to_owned(), what, detail, once: None }
    }

    /// The same, done by a call that counts once.
    #[must_use]
    pub fn by_call(self, once: Option<OnceCall>) -> Self {
        Self { once, ..self }
    }

    pub(crate) fn write(&self, conn: &mut PgConnection) -> Result<(), StoreError> {
        use audit::dsl;
        let row = (
            dsl::session.eq(&self.session),
            dsl::by.eq(&self.by),
            dsl::what.eq(self.what),
            dsl::detail.eq(self.detail.to_string()),
        );
        diesel::insert_into(audit::table).values(row).execute(conn)?;
        self.once.iter().try_for_each(|once| once.write(conn))
    }
}

impl Store {
    /// Writes down something that is done elsewhere.
    pub async fn note(&self, note: Note) -> Result<(), StoreError> {
        self.run(move |conn| conn.transaction(|conn| note.write(conn))).await
    }

    /// Does something and writes it down, both or neither. `None` says that there was nothing to
    /// do, and nothing is written down.
    pub(crate) async fn run_noted<T: Send + 'static>(
        &self,
        note: Note,
        act: impl FnOnce(&mut PgConnection) -> Result<Option<T>, StoreError> + Send + 'static,
    ) -> Result<Option<T>, StoreError> {
        self.run(move |conn| {
            conn.transaction(|conn| {
                let done = act(conn)?;
                if done.is_some() {
                    note.write(conn)?;
                }
                Ok(done)
            })
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
