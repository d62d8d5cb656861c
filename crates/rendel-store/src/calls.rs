//! Calls of the backend that may be made again and count once.

use chrono::{DateTime, Utc};
use diesel::prelude::*;

use crate::error::StoreError;
use crate::schema::calls;
use crate::store::Store;

/// A call that counts once, and from what its answer can be made again. It is kept in the
/// transaction of what it does; `Exists` if it was made before.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = calls)]
pub struct OnceCall {
    /// By what it is known again.
    pub key: String,
    /// A digest of what it asked for.
    pub fingerprint: String,
    /// From what its answer can be made again, as JSON without secrets.
    pub answer: String,
}

impl OnceCall {
    pub(crate) fn write(&self, conn: &mut PgConnection) -> Result<(), StoreError> {
        diesel::insert_into(calls::table).values(self).execute(conn)?;
        Ok(())
    }
}

impl Store {
    /// The call of that key, if it was made before.
    pub async fn call(&self, key: String) -> Result<Option<OnceCall>, StoreError> {
        self.run(move |conn| {
            let known = calls::table.filter(calls::key.eq(key));
            Ok(known.select(OnceCall::as_select()).first(conn).optional()?)
        })
        .await
    }

    /// Forgets calls of before a time.
    pub async fn forget_calls(&self, before: DateTime<Utc>) -> Result<usize, StoreError> {
        self.run(move |conn| {
            Ok(diesel::delete(calls::table.filter(calls::at.lt(before))).execute(conn)?)
        })
        .await
    }
}
