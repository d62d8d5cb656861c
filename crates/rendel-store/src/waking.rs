//! Sessions that are to act by themselves, and the processes that may take them over for that.

use chrono::{TimeDelta, Utc};
use diesel::prelude::*;

use crate::error::StoreError;
use crate::rows::signed;
use crate::schema::{instances, sessions};
use crate::store::Store;

impl Store {
    /// Says that this process runs, and forgets those that have not said so for a day.
    pub async fn note_running(&self) -> Result<(), StoreError> {
        let owner = self.owner;
        self.run(move |conn| {
            let now = instances::seen.eq(diesel::dsl::now);
            diesel::insert_into(instances::table)
                .values((instances::owner.eq(owner), now))
                .on_conflict(instances::owner)
                .do_update()
                .set(now)
                .execute(conn)?;
            let long_ago = Utc::now() - TimeDelta::days(1);
            diesel::delete(instances::table.filter(instances::seen.lt(long_ago))).execute(conn)?;
            Ok(())
        })
        .await
    }

    /// Says that this process runs no more: others need not wait for it.
    pub async fn note_stopped(&self) -> Result<(), StoreError> {
        let owner = self.owner;
        self.run(move |conn| {
            diesel::delete(instances::table.filter(instances::owner.eq(owner))).execute(conn)?;
            Ok(())
        })
        .await
    }

    /// The sessions that must be in memory before a time, in milliseconds since 1970 UTC, and that
    /// no other process which has said that it runs within `lease` owns; the first of them first,
    /// with their times, at most `most`, and only those that come after one.
    ///
    /// A lease only permits a take-over. That two processes never write one session is what epochs
    /// are for.
    pub async fn to_wake(
        &self,
        before: u64,
        lease: TimeDelta,
        after: Option<(u64, String)>,
        most: i64,
    ) -> Result<Vec<(String, u64)>, StoreError> {
        let owner = self.owner;
        self.run(move |conn| {
            let running = instances::table
                .filter(instances::seen.gt(Utc::now() - lease).and(instances::owner.ne(owner)))
                .select(instances::owner.nullable());
            let query = sessions::table
                .filter(sessions::wakes.le(signed(before)).and(sessions::status.ne("ended")))
                .filter(sessions::owner.is_null().or(sessions::owner.ne_all(running)))
                .order((sessions::wakes, sessions::id))
                .select((sessions::id, sessions::wakes))
                .limit(most)
                .into_boxed();
            let due: Vec<(String, Option<i64>)> = match after {
                Some((wakes, id)) => {
                    let wakes = signed(wakes);
                    let same = sessions::wakes.eq(wakes).and(sessions::id.gt(id));
                    query.filter(sessions::wakes.gt(wakes).or(same)).load(conn)?
                }
                None => query.load(conn)?,
            };
            let due = due.into_iter();
            Ok(due.map(|(id, wakes)| (id, wakes.map_or(0, i64::unsigned_abs))).collect())
        })
        .await
    }

    /// Notes when a session must be in memory next, unless another process owns it.
    pub async fn note_wake(
        &self,
        session: i64,
        epoch: u64,
        wakes: Option<i64>,
    ) -> Result<(), StoreError> {
        self.run(move |conn| {
            let own = sessions::table
                .filter(sessions::ord.eq(session).and(sessions::epoch.eq(signed(epoch))));
            diesel::update(own).set(sessions::wakes.eq(wakes)).execute(conn)?;
            Ok(())
        })
        .await
    }
}
