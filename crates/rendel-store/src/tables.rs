//! The tables: bringing them up to date, and saying how far they are without changing anything.

use std::collections::BTreeSet;

use diesel::connection::SimpleConnection as _;
use diesel::migration::{Migration, MigrationSource as _};
use diesel::pg::{Pg, PgConnection};
use diesel::prelude::*;
use diesel::sql_types::{Bool, Text};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness as _, embed_migrations};

use crate::error::StoreError;
use crate::timeouts::{TIME_OUTS, with_timeouts};

const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations");

/// How far the tables of a database are, compared with what this program needs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tables {
    /// There are none.
    Missing,
    /// So many migrations have not been run.
    Behind(usize),
    /// They are what this program needs.
    UpToDate,
    /// A newer program has changed them: it ran so many migrations that this one does not know.
    Ahead(usize),
}

impl Tables {
    /// Those of a database, over a connection on which nothing can be written.
    pub async fn of(url: &str) -> Result<Self, StoreError> {
        let url = with_timeouts(url);
        let look = move || {
            let mut conn = PgConnection::establish(&url)
                .map_err(|error| StoreError::Away(error.to_string()))?;
            conn.batch_execute(TIME_OUTS)?;
            conn.build_transaction().read_only().run(Self::look)
        };
        let looked = tokio::task::spawn_blocking(look).await;
        looked.map_err(|error| StoreError::Away(error.to_string()))?
    }

    fn look(conn: &mut PgConnection) -> Result<Self, StoreError> {
        #[derive(QueryableByName)]
        struct Has {
            #[diesel(sql_type = Bool)]
            has: bool,
        }
        #[derive(QueryableByName)]
        struct Run {
            #[diesel(sql_type = Text)]
            version: String,
        }
        let has = "SELECT to_regclass('__diesel_schema_migrations') IS NOT NULL AS has";
        if !diesel::sql_query(has).get_result::<Has>(conn)?.has {
            return Ok(Self::Missing);
        }
        let run = "SELECT version FROM __diesel_schema_migrations";
        let run: BTreeSet<String> =
            diesel::sql_query(run).load::<Run>(conn)?.into_iter().map(|row| row.version).collect();
        let known: Vec<Box<dyn Migration<Pg>>> =
            MIGRATIONS.migrations().map_err(|error| StoreError::Damaged(error.to_string()))?;
        let known: BTreeSet<String> =
            known.iter().map(|one| one.name().version().to_string()).collect();
        let (behind, ahead) = (known.difference(&run).count(), run.difference(&known).count());
        Ok(match (behind, ahead) {
            (_, 1..) => Self::Ahead(ahead),
            (1.., 0) => Self::Behind(behind),
            (0, 0) => Self::UpToDate,
        })
    }
}

/// Runs the migrations that have not been run.
pub(crate) fn bring_up_to_date(conn: &mut PgConnection) -> Result<(), StoreError> {
    // Bringing large tables up to date may take its time.
    conn.batch_execute("SET statement_timeout = 0; SET lock_timeout = 0")?;
    // Several services may start at the same time.
    conn.batch_execute("SELECT pg_advisory_lock(7241386034)")?;
    let run = conn.run_pending_migrations(MIGRATIONS).map(|_| ());
    conn.batch_execute("SELECT pg_advisory_unlock(7241386034)")?;
    run.map_err(|error| {
        StoreError::Damaged(format!("the tables could not be brought up to date: {error}"))
    })?;
    Ok(conn.batch_execute(TIME_OUTS)?)
}
