//! Baselines and measurements that speak to PostgreSQL alone.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use anyhow::Result;
use diesel::pg::PgConnection;
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Text};
use rendel_store::{Append, Findable, JournalWriter, Store, UpdateRow};
use tokio::sync::Semaphore;

use crate::server::{database, folder};

/// Sessions in the measurement, as in the one of the whole service.
const SESSIONS: i64 = 64;
/// Connections of the hand-written way.
const CONNECTIONS: i64 = 8;
/// Rows of one append, as a busy session sends them.
const ROWS: i64 = 16;

diesel::table! {
    copied (session, seq) {
        session -> BigInt,
        seq -> BigInt,
        body -> Text,
    }
}

#[derive(Insertable)]
#[diesel(table_name = copied, treat_none_as_default_value = false)]
struct CopiedRow {
    session: i64,
    seq: i64,
    body: String,
}

fn body(seq: i64) -> String {
    format!(
        r#"{{"seq":{seq},"by":"oda","client":"018f0000-0000-7000-8000-000000000001","n":{seq},"at":1791878400000,"effects":[{{"at":"/heads","op":"add","by":1,"now":{seq}}}]}}"#
    )
}

/// Edits per second of the way that one would write by hand: lock the row, change the state in it,
/// notify.
pub(crate) fn by_hand(time: Duration) -> Result<f64> {
    let dir = folder()?;
    let database = database(&dir)?;
    let mut conn = PgConnection::establish(database.url())?;
    diesel::sql_query("CREATE TABLE states (id bigint PRIMARY KEY, state jsonb NOT NULL)")
        .execute(&mut conn)?;
    for id in 0..SESSIONS {
        let fill = "INSERT INTO states VALUES ($1, jsonb_build_object('heads', 0, 'markers', \
            (SELECT jsonb_object_agg('m' || n, jsonb_build_object('what', 'ladder', 'x', n, 'y', \
            n)) FROM generate_series(1, 100) n)))";
        diesel::sql_query(fill).bind::<BigInt, _>(id).execute(&mut conn)?;
    }
    let until = Instant::now() + time;
    let workers: Vec<_> = (0..CONNECTIONS)
        .map(|worker| {
            let url = database.url().to_owned();
            thread::spawn(move || -> Result<u64> {
                let mut conn = PgConnection::establish(&url)?;
                let (mut edits, mut id) = (0, worker);
                while Instant::now() < until {
                    conn.transaction(|conn| {
                        diesel::sql_query("SELECT 1 FROM states WHERE id = $1 FOR UPDATE")
                            .bind::<BigInt, _>(id)
                            .execute(conn)?;
                        let change = "UPDATE states SET state = jsonb_set(state, '{heads}', \
                            to_jsonb((state->>'heads')::bigint + 1)) WHERE id = $1";
                        diesel::sql_query(change).bind::<BigInt, _>(id).execute(conn)?;
                        diesel::sql_query("SELECT pg_notify('changed', $1)")
                            .bind::<Text, _>(body(id))
                            .execute(conn)
                    })?;
                    edits += 1;
                    id = (id + CONNECTIONS) % SESSIONS;
                }
                Ok(edits)
            })
        })
        .collect();
    let mut edits = 0;
    for worker in workers {
        edits += worker.join().map_err(|_| anyhow::anyhow!("a worker broke"))??;
    }
    drop(conn);
    database.stop()?;
    Ok(edits as f64 / time.as_secs_f64())
}

/// Rows per second of the journal's writer, and of `COPY` of the same rows.
pub(crate) async fn journal(time: Duration) -> Result<(f64, f64)> {
    let dir = folder()?;
    let database = database(&dir)?;
    let url = database.url().to_owned();
    // Makes the tables, and the sessions whose epochs the writer looks at.
    let store = Store::connect(&url, 1).await?;
    let note = rendel_store::Note::of_service("published a charter", serde_json::json!({}));
    store.publish_charter("bench".into(), 1, "Bench".into(), String::new(), note).await?;
    for session in 0..SESSIONS {
        store
            .open_session(format!("s{session}"), "bench".into(), 1, None, Findable::default(), None)
            .await?;
    }
    let ours = append(&url, time).await?;
    let copied = tokio::task::spawn_blocking(move || copy(&url, time)).await??;
    database.stop()?;
    Ok((ours, copied))
}

async fn append(url: &str, time: Duration) -> Result<f64> {
    let writer = JournalWriter::start(url, |_, _| {})?;
    let written = Arc::new(AtomicU64::new(0));
    // As many appends wait as the writer can put into its next commit.
    let free = Arc::new(Semaphore::new(1_024));
    let mut next = vec![1i64; usize::try_from(SESSIONS)? + 1];
    let began = Instant::now();
    'measured: loop {
        for session in 1..=SESSIONS {
            if began.elapsed() > time {
                break 'measured;
            }
            let next = &mut next[usize::try_from(session)?];
            let updates = (*next..*next + ROWS)
                .map(|seq| UpdateRow { session, seq, body: body(seq).into(), met: false })
                .collect();
            *next += ROWS;
            free.acquire().await?.forget();
            let (written, free) = (written.clone(), free.clone());
            let done = Box::new(move |result: Result<(), _>| {
                if result.is_ok() {
                    written.fetch_add(u64::try_from(ROWS).unwrap_or(0), Ordering::Relaxed);
                }
                free.add_permits(1);
            });
            let append = Append {
                session,
                epoch: 0,
                updates,
                refusals: vec![],
                announcements: vec![],
                wakes: None,
                done,
            };
            writer.append(append).await.map_err(|_| anyhow::anyhow!("the writer ended"))?;
        }
    }
    Ok(written.load(Ordering::Relaxed) as f64 / began.elapsed().as_secs_f64())
}

fn copy(url: &str, time: Duration) -> Result<f64> {
    let mut conn = PgConnection::establish(url)?;
    diesel::sql_query(
        "CREATE TABLE copied (session bigint NOT NULL, seq bigint NOT NULL, body \
        text NOT NULL, PRIMARY KEY (session, seq))",
    )
    .execute(&mut conn)?;
    let mut seq = 0;
    let began = Instant::now();
    while began.elapsed() < time {
        let per_session = 4_096 / SESSIONS;
        let rows: Vec<CopiedRow> = (0..SESSIONS)
            .flat_map(|session| {
                (seq..seq + per_session).map(move |seq| CopiedRow { session, seq, body: body(seq) })
            })
            .collect();
        seq += per_session;
        diesel::copy_from(copied::table).from_insertable(&rows).execute(&mut conn)?;
    }
    Ok((seq * SESSIONS) as f64 / began.elapsed().as_secs_f64())
}
