//! Telling a database apart from an earlier state of itself.
//!
//! A database that was restored from a dump, or a standby that was promoted before it had all that
//! its primary had, goes on from an earlier place. Epochs that it gives out then must not be ones
//! that were given out before, or a client would take another history for its own. The server's own
//! marks tell: those of its data directory, of the database and of the journal's table, and its
//! timeline. When they have changed, epochs go on from the present time in seconds, which is above
//! all that were given out before: they grow by one with each take-over.

use chrono::Utc;
use diesel::prelude::*;
use diesel::sql_types::{Bool, Text};

use crate::error::StoreError;
use crate::schema::timelines;

/// Names the lock that whoever writes down a new timeline takes.
const TIMELINE: i64 = 0x7469_6d65;

#[derive(QueryableByName)]
struct Marks {
    #[diesel(sql_type = Text)]
    marks: String,
}

#[derive(QueryableByName)]
struct May {
    #[diesel(sql_type = Bool)]
    may: bool,
}

/// The epoch that new ones are not below, in a transaction that gives one out. Cost: two or three
/// small reads.
pub(crate) fn floor(conn: &mut PgConnection) -> Result<i64, StoreError> {
    let marks = marks(conn)?;
    if let Some((known, floor)) = newest(conn)?
        && known == marks
    {
        return Ok(floor);
    }
    diesel::sql_query(format!("SELECT pg_advisory_xact_lock({TIMELINE})")).execute(conn)?;
    // Somebody else may have written it down meanwhile.
    let floor = match newest(conn)? {
        Some((known, floor)) if known == marks => return Ok(floor),
        Some(_) => {
            tracing::warn!(
                "the database was restored or promoted: epochs begin anew from the time"
            );
            Utc::now().timestamp()
        }
        None => 0,
    };
    let row = (timelines::marks.eq(&marks), timelines::floor.eq(floor));
    diesel::insert_into(timelines::table).values(row).execute(conn)?;
    Ok(floor)
}

fn newest(conn: &mut PgConnection) -> Result<Option<(String, i64)>, StoreError> {
    let all = timelines::table.order(timelines::ord.desc());
    Ok(all.select((timelines::marks, timelines::floor)).first(conn).optional()?)
}

/// What a restored or promoted database does not share with what it was. A hosted server may not
/// let the marks of its data directory be read; the others tell most cases then.
fn marks(conn: &mut PgConnection) -> Result<String, StoreError> {
    let may = "SELECT has_function_privilege('pg_control_system()', 'execute') AS may";
    let system = match diesel::sql_query(may).get_result::<May>(conn)?.may {
        true => "(SELECT system_identifier FROM pg_control_system())::text",
        false => "''",
    };
    let marks = format!(
        "SELECT {system} || '/' || (SELECT oid FROM pg_database WHERE datname = current_database()) \
         || '/' || 'journal'::regclass::oid || '/' || left(pg_walfile_name(pg_current_wal_lsn()), 8) \
         AS marks"
    );
    Ok(diesel::sql_query(marks).get_result::<Marks>(conn)?.marks)
}
