//! The pool, and how a call gets to it.

use std::time::Duration;

use diesel::connection::SimpleConnection as _;
use diesel::pg::PgConnection;
use diesel::r2d2::{self, ConnectionManager, CustomizeConnection, Pool};
use uuid::Uuid;

use crate::error::StoreError;
use crate::tables::bring_up_to_date;
use crate::timeouts::{TIME_OUTS, with_timeouts};

/// A pool of connections; clones share it.
#[derive(Clone)]
pub struct Store {
    pool: Pool<ConnectionManager<PgConnection>>,
    /// Names this process as the owner of the sessions that it takes over.
    pub(crate) owner: Uuid,
}

impl std::fmt::Debug for Store {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Store").finish_non_exhaustive()
    }
}

impl Store {
    /// Connects, with at most `connections` at a time, and brings the tables up to date.
    pub async fn connect(url: &str, connections: u32) -> Result<Self, StoreError> {
        let manager = ConnectionManager::new(with_timeouts(url));
        let build = move || {
            Pool::builder()
                .max_size(connections)
                .min_idle(Some(1))
                .connection_timeout(Duration::from_secs(3))
                .connection_customizer(Box::new(TimeOuts))
                .build(manager)
                .map_err(|error| StoreError::Away(error.to_string()))
        };
        let pool = tokio::task::spawn_blocking(build)
            .await
            .map_err(|error| StoreError::Away(error.to_string()))??;
        let store = Self { pool, owner: Uuid::now_v7() };
        store.run(bring_up_to_date).await?;
        Ok(store)
    }

    /// Runs `call` on a blocking thread with a connection of the pool.
    pub(crate) async fn run<T: Send + 'static>(
        &self,
        call: impl FnOnce(&mut PgConnection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let pool = self.pool.clone();
        let on_thread = move || {
            let mut conn = pool.get().map_err(|error| StoreError::Away(error.to_string()))?;
            call(&mut conn)
        };
        tokio::task::spawn_blocking(on_thread)
            .await
            .map_err(|error| StoreError::Away(error.to_string()))?
    }

    /// As [`Store::run`], but all that `call` reads is as it was at one moment.
    pub(crate) async fn run_at_one_moment<T: Send + 'static>(
        &self,
        call: impl FnOnce(&mut PgConnection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.run(|conn| conn.build_transaction().read_only().repeatable_read().run(call)).await
    }
}

/// Sets the time-outs of each connection of the pool.
#[derive(Debug)]
struct TimeOuts;

impl CustomizeConnection<PgConnection, r2d2::Error> for TimeOuts {
    fn on_acquire(&self, conn: &mut PgConnection) -> Result<(), r2d2::Error> {
        conn.batch_execute(TIME_OUTS).map_err(r2d2::Error::QueryError)
    }
}
