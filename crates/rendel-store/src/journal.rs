//! Reading the journal, and the snapshots that shorten it.

use diesel::dsl::sql;
use diesel::prelude::*;
use diesel::sql_types::Bool;

use crate::error::StoreError;
use crate::schema::{journal, refusals, snapshots};
use crate::store::Store;

impl Store {
    /// The updates of a session from `from` to `to`, both included, as JSON texts in order; at most `most`.
    pub async fn journal(&self, session: i64, from: u64, to: u64, most: i64) -> Result<Vec<String>, StoreError> {
        let (from, to) = (i64::try_from(from).unwrap_or(i64::MAX), i64::try_from(to).unwrap_or(i64::MAX));
        self.run(move |conn| {
            let rows = journal::table
                .filter(journal::session.eq(session).and(journal::seq.ge(from)).and(journal::seq.le(to)))
                .order(journal::seq)
                .select(journal::body)
                .limit(most);
            Ok(rows.load(conn)?)
        })
        .await
    }

    /// The updates before `before` whose verdicts are more than `applied`, newest first; at most `most`. Quotes within a JSON
    /// string are escaped, so only a member of that name can match.
    ///
    /// Cost: the journal is read backwards until enough are found.
    pub async fn conflicts(&self, session: i64, before: u64, most: i64) -> Result<Vec<String>, StoreError> {
        let before = i64::try_from(before).unwrap_or(i64::MAX);
        self.run(move |conn| {
            let rows = journal::table
                .filter(journal::session.eq(session).and(journal::seq.lt(before)))
                .filter(sql::<Bool>("body LIKE '%\"verdicts\":[{%'"))
                .order(journal::seq.desc())
                .select(journal::body)
                .limit(most);
            Ok(rows.load(conn)?)
        })
        .await
    }

    /// Keeps a snapshot, and forgets older ones and the refusals that it holds.
    pub async fn keep_snapshot(&self, session: i64, seq: u64, body: String) -> Result<(), StoreError> {
        let seq = i64::try_from(seq).unwrap_or(i64::MAX);
        self.run(move |conn| {
            conn.transaction(|conn| {
                let row = (snapshots::session.eq(session), snapshots::seq.eq(seq), snapshots::body.eq(body));
                diesel::insert_into(snapshots::table).values(row).on_conflict_do_nothing().execute(conn)?;
                diesel::delete(snapshots::table.filter(snapshots::session.eq(session).and(snapshots::seq.lt(seq))))
                    .execute(conn)?;
                diesel::delete(refusals::table.filter(refusals::session.eq(session).and(refusals::at_seq.lt(seq))))
                    .execute(conn)?;
                Ok(())
            })
        })
        .await
    }
}
