//! What standing queries cost: a change beside ever more of them, beside asking anew, and with many
//! who each follow a few rows of many.

use std::collections::BTreeMap;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result, ensure};
use futures_util::{SinkExt as _, StreamExt as _};
use rendel_core::{Asked, Edit, Outcome, Proposal, Queries, Rows, Ticket, Turned};
use serde_json::{Value, json};
use tokio::net::TcpStream;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::client::IntoClientRequest as _;
use tokio_tungstenite::{MaybeTlsStream, WebSocketStream};
use uuid::Uuid;

use crate::board::{BOARD, Board, FOLLOWERS, RECORDS, TEAM, opening};
use crate::plot::{Line, plot};
use crate::report::{Goal, Report};
use crate::server::Rendel;

const CHANGES: usize = 2_000;
/// Who change records, and how many changes each has on the way.
const WRITERS: usize = 4;
const WINDOW: u64 = 32;

type Socket = WebSocketStream<MaybeTlsStream<TcpStream>>;

impl Board {
    /// Microseconds that an edit takes the queries, and what it made of the results.
    fn edit(&mut self, edit: Edit) -> Result<(f64, Vec<Turned>)> {
        let before = self.sequencer.state();
        let proposal = Proposal::new(0, None, vec![edit]);
        let Outcome::Settled(update) = self.sequencer.handle_proposal(&self.actor, &proposal, 1)
        else {
            anyhow::bail!("refused");
        };
        let after = self.sequencer.state();
        let began = Instant::now();
        let turned = self.queries.handle_settled(&self.charter, &before, &after, &update);
        Ok((began.elapsed().as_secs_f64() * 1e6, turned))
    }

    /// The same for a change of one record, and how many results turned.
    fn change(&mut self, record: usize, by: i64) -> Result<(f64, usize)> {
        let edit = Edit::new(format!("/pickers/p{record}/crates"), "add").with("by", by);
        self.edit(edit).map(|(took, turned)| (took, turned.len()))
    }

    /// The median of many changes of the first so many records.
    fn median(&mut self, records: usize) -> Result<f64> {
        let mut took = Vec::new();
        for at in 0..CHANGES {
            let by = if (at / records).is_multiple_of(2) { 1 } else { -1 };
            took.push(self.change(at * 7 % records, by)?.0);
        }
        took.sort_by(f64::total_cmp);
        Ok(took[CHANGES / 2])
    }
}

pub(crate) fn measure(report: &mut Report) -> Result<()> {
    eprintln!("queries …");
    one_change(report)?;
    anew(report)?;
    shapes(report)?;
    many(report)?;
    memory(report)
}

/// What a change costs beside ever more queries, of which it matters to one, to all, or to none.
fn one_change(report: &mut Report) -> Result<()> {
    let (mut one, mut all, mut none) = (Line::new("one"), Line::new("all"), Line::new("none"));
    for count in [1, 10, 100, 1_000, 10_000] {
        // Each picker is in one team.
        let mut board = Board::open(10_000)?;
        for query in 0..count {
            board.follow_team(query)?;
        }
        one.points.push((count as f64, board.median(TEAM)?));
        if count > 1_000 {
            continue;
        }
        for (name, least, line) in
            [("above", json!(-1), &mut all), ("named", json!("n"), &mut none)]
        {
            let mut board = Board::open(200)?;
            for query in 0..count {
                let least = match &least {
                    Value::String(least) => json!(format!("{least}{query}")),
                    _ => json!(-1 - i64::try_from(query)?),
                };
                board.follow(json!({ "name": name, "with": { "least": least } }))?;
            }
            let best = (0..CHANGES / 10).map(|at| {
                let by = if at == 0 { 1_000 } else { 1 };
                board.change(7, by)
            });
            let mut best = best.collect::<Result<Vec<_>>>()?;
            let turned = if name == "above" { count } else { 0 };
            ensure!(best.iter().all(|(_, told)| *told == turned), "{name}: {turned} results turn");
            best.sort_by(|one, other| one.0.total_cmp(&other.0));
            line.points.push((count as f64, best[best.len() / 2].0));
        }
    }
    let alone = one.first();
    for (count, took) in &one.points[2..] {
        let what = format!("one change, which matters to one of {count} queries: median, µs");
        report.ratio(&what, *took, "one query", alone, Goal::AtMost(2.0));
    }
    let what = "one change, which matters to none of 1,000 queries that differ in more: median, µs";
    report.ratio(what, none.last(), "one query", none.first(), Goal::None);
    let what = "one change, which matters to each of 1,000 queries: median, µs";
    report.ratio(what, all.last(), "one query", all.first(), Goal::None);
    let title = "One change beside standing queries";
    plot(
        "docs/figures/queries.png",
        title,
        "queries, of which the change matters to",
        "µs",
        &[one, none],
    )
}

fn anew(report: &mut Report) -> Result<()> {
    let mut board = Board::open(10_000)?;
    board.follow(json!({ "name": "leaders" }))?;
    let took = board.median(10_000)?;
    let state = board.sequencer.state();
    let asked: Asked = serde_json::from_value(json!({ "name": "leaders" }))?;
    let began = Instant::now();
    for _ in 0..5 {
        Queries::once(&board.charter, &state, 1, &board.actor, &asked)?;
    }
    let anew = began.elapsed().as_secs_f64() * 1e6 / 5.0;
    let what = "the ten best of 10,000 records evaluated anew, µs";
    report.ratio(what, anew, "kept up to date by one change", took, Goal::AtLeast(100.0));
    Ok(())
}

/// Two hundred queries of different shapes over 10,000 records, each of which has the right rows at
/// the end.
fn shapes(report: &mut Report) -> Result<()> {
    let mut board = Board::open(10_000)?;
    let mut followed: BTreeMap<Ticket, (Value, Rows)> = BTreeMap::new();
    for at in 0..200 {
        let condition = match at % 5 {
            0 => format!("record.crates > {}", at / 2),
            1 => format!("record.team == \"t{at}\""),
            2 => format!("record.crates < {} && record.name != \"n{at}\"", at / 3 + 2),
            3 => format!("record.name > \"n{at}\" || record.crates == {}", at % 90),
            _ => format!("!(record.crates > {})", at / 2),
        };
        let order = [json!(["-crates"]), json!(["name"]), json!(["team", "-crates"]), json!([])];
        let shape = json!({ "from": "/pickers", "where": condition, "order": order[at % 4], "limit": 5 + at % 20 });
        let asked = json!({ "of": shape });
        let (ticket, rows) = board.follow(asked.clone())?;
        followed.insert(ticket, (asked, rows));
    }
    let (mut took, mut told) = (0.0, 0);
    for at in 0..CHANGES {
        let record = at * 7_919 % 10_000;
        let path = format!("/pickers/p{record}");
        let by = i64::try_from(at % 7)? - 3;
        let edit = match at % 8 {
            0 => Edit::new(path + "/name", "set").with("value", format!("n{at}")),
            1 => Edit::new(path + "/team", "set").with("value", format!("t{}", at % 200)),
            2 => Edit::new(path, "drop"),
            3 => Edit::new("/pickers", "put").with("id", format!("q{at}")).with(
                "value",
                json!({ "name": format!("n{at}"), "team": format!("t{}", at % 200), "crates": at % 99 }),
            ),
            _ => Edit::new(path + "/crates", "add").with("by", by),
        };
        let Ok((micros, turned)) = board.edit(edit) else { continue };
        took += micros / 1e6;
        for turned in turned {
            for ticket in turned.tickets {
                told += 1;
                let (_, rows) = followed.get_mut(&ticket).context("somebody who follows")?;
                rows.apply(&turned.steps).map_err(|why| anyhow::anyhow!(why))?;
            }
        }
    }
    let (state, seq) = (board.sequencer.state(), board.sequencer.seq());
    for (asked, rows) in followed.values() {
        let asked: Asked = serde_json::from_value(asked.clone())?;
        let fresh = Queries::once(&board.charter, &state, seq, &board.actor, &asked)?;
        ensure!(fresh.rows == rows.rows && fresh.end == rows.end, "{asked:?}");
    }
    ensure!(told > CHANGES / 10, "results turn: {told}");
    let what = "changes per second in the core, 200 queries of different shapes, 10,000 records";
    report.figure(what, seq as f64 / took, Goal::AtLeast(1_000.0));
    Ok(())
}

fn many(report: &mut Report) -> Result<()> {
    let mut board = Board::open(RECORDS)?;
    for query in 0..FOLLOWERS {
        board.follow_team(query)?;
    }
    let (began, mut told) = (Instant::now(), 0);
    for at in 0..CHANGES {
        told += board.change(at * 7_919 % RECORDS, 1)?.1;
    }
    let per_second = CHANGES as f64 / began.elapsed().as_secs_f64();
    ensure!(told == CHANGES, "each change turns one result");
    let what = "changes per second in the core, 10,000 follow ten rows each of 100,000";
    report.figure(what, per_second, Goal::None);
    Ok(())
}

/// Counted by an allocator, in a program of its own.
fn memory(report: &mut Report) -> Result<()> {
    let program = std::env::current_exe()?.with_file_name("rendel-bench-memory");
    let counted = Command::new(&program)
        .output()
        .with_context(|| format!("{} is not built", program.display()))?;
    let counted: Value = serde_json::from_slice(&counted.stdout)?;
    let bytes = |name: &str| counted[name].as_f64().context("so many bytes");
    let what = "KiB of one query of ten rows, of 10,000 of them";
    report.figure(what, bytes("query")? / 1_024.0, Goal::AtMost(2.0));
    report.figure("bytes of a record in an index", bytes("row")?, Goal::None);
    report.figure("… and in a second one of the same records", bytes("second")?, Goal::None);
    Ok(())
}

/// The same with the service: who follow have a connection each, and no state.
pub(crate) async fn connected(report: &mut Report, time: Duration) -> Result<()> {
    let rendel = Rendel::start().await?;
    rendel.post("/charters", BOARD.to_owned()).await?;
    let session = json!({ "id": "board", "charter": "board", "opening": opening(RECORDS) });
    rendel.post("/sessions", session.to_string()).await?;
    let token = rendel.token_as("board", "oda", "participant").await?;
    let theirs = rendel.token_as("board", "tobin", "participant").await?;
    let alone = write(&rendel, &token, time).await?;

    // The first follower waits until every record has been read. Writers must not wait for that.
    let mut writer = enter(&rendel, &token).await?;
    let mut n = 0;
    let quiet = longest(&mut writer, &mut n, tokio::time::sleep(Duration::from_secs(2))).await?;
    let mut first = enter(&rendel, &token).await?;
    first.send(follow(&json!({ "name": "leaders" }))).await?;
    let began = Instant::now();
    let wait = longest(&mut writer, &mut n, frames(&mut first, "\"rows\"")).await?;
    let took = began.elapsed().as_secs_f64() * 1e3;
    report.figure("ms until the first follower has the ten best of 100,000", took, Goal::None);
    let what = "longest that a proposal waited meanwhile, ms";
    report.ratio(what, wait, "while nobody asks", quiet, Goal::None);

    let before = rendel.memory()?;
    let mut idle = Vec::with_capacity(FOLLOWERS);
    for _ in 0..FOLLOWERS {
        idle.push(enter(&rendel, &theirs).await?);
    }
    let bare = rendel.memory()?.saturating_sub(before) as f64 / FOLLOWERS as f64;
    let told = Arc::new(AtomicU64::new(0));
    let here = Arc::new(AtomicU64::new(0));
    let mut followers = Vec::with_capacity(FOLLOWERS);
    for (team, mut socket) in idle.into_iter().enumerate() {
        let (told, here) = (told.clone(), here.clone());
        let asked = json!({ "name": "team", "with": { "team": format!("t{team}") } });
        followers.push(tokio::spawn(async move {
            socket.send(follow(&asked)).await.ok()?;
            frames(&mut socket, "\"rows\"").await.ok()?;
            here.fetch_add(1, Ordering::Relaxed);
            while frames(&mut socket, "\"row-steps\"").await.is_ok() {
                told.fetch_add(1, Ordering::Relaxed);
            }
            Some(())
        }));
    }
    while here.load(Ordering::Relaxed) < FOLLOWERS as u64 {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    tokio::time::sleep(Duration::from_secs(1)).await;
    let whole = rendel.memory()?.saturating_sub(before) as f64 / FOLLOWERS as f64;
    let beside = write(&rendel, &token, time).await?;
    let (told, all) = (told.load(Ordering::Relaxed), beside.total);
    ensure!(told >= all * 9 / 10, "each change is told to one: {told} of {all}");
    report.ratio(
        "changes per second with the service, 10,000 connections follow ten rows each of 100,000",
        beside.per_second,
        "the same without followers",
        alone.per_second,
        Goal::None,
    );
    report.figure("KiB of the service for each connection without a state", bare, Goal::None);
    report.figure("… and with ten rows that it follows, KiB more", whole - bare, Goal::None);
    followers.iter().for_each(tokio::task::JoinHandle::abort);
    rendel.stop().await;
    Ok(())
}

async fn enter(rendel: &Rendel, token: &str) -> Result<Socket> {
    let url = format!("ws://127.0.0.1:{}/v1/sessions/board/connect", rendel.port());
    let mut request = url.into_client_request()?;
    request.headers_mut().insert("Sec-WebSocket-Protocol", "rendel.v1.json".parse()?);
    let (mut socket, _) = tokio_tungstenite::connect_async_with_config(request, None, true).await?;
    let client = Uuid::now_v7();
    let enter = json!({ "type": "enter", "token": token, "client": client, "stateless": true });
    socket.send(Message::text(enter.to_string())).await?;
    frames(&mut socket, "\"welcome\"").await?;
    Ok(socket)
}

fn follow(asked: &Value) -> Message {
    Message::text(json!({ "type": "follow-query", "query": 1, "ask": asked }).to_string())
}

fn propose(n: u64, record: u64) -> Message {
    let edits = json!([{ "at": format!("/pickers/p{record}/crates"), "op": "add", "by": 1 }]);
    let frame = json!({ "type": "propose", "n": n, "seen": 0, "answered": n - 1, "edits": edits });
    Message::text(frame.to_string())
}

/// The longest in milliseconds that one proposal after another waits for its outcome until something
/// else is over.
async fn longest<T>(
    writer: &mut Socket,
    n: &mut u64,
    until: impl Future<Output = T>,
) -> Result<f64> {
    let mut longest = 0.0_f64;
    tokio::pin!(until);
    loop {
        *n += 1;
        let sent = Instant::now();
        writer.send(propose(*n, 0)).await?;
        tokio::select! {
            _ = &mut until => {
                frames(writer, "\"outcome\"").await?;
                return Ok(longest.max(sent.elapsed().as_secs_f64() * 1e3));
            }
            answered = frames(writer, "\"outcome\"") => {
                answered?;
                longest = longest.max(sent.elapsed().as_secs_f64() * 1e3);
            }
        }
    }
}

/// Goes on to the next frame of a type.
async fn frames(socket: &mut Socket, kind: &str) -> Result<()> {
    loop {
        let message = socket.next().await.context("the connection goes on")??;
        let Message::Text(text) = message else { continue };
        ensure!(!text.contains("\"refused\"") && !text.contains("\"bye\""), "{text}");
        if text.get(..40.min(text.len())).is_some_and(|head| head.contains(kind)) {
            return Ok(());
        }
    }
}

struct Written {
    per_second: f64,
    total: u64,
}

/// How many changes are settled for writers who always have some on the way.
async fn write(rendel: &Rendel, token: &str, time: Duration) -> Result<Written> {
    let (is_measuring, is_over) =
        (Arc::new(AtomicBool::new(false)), Arc::new(AtomicBool::new(false)));
    let (settled, total) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicU64::new(0)));
    let mut tasks = Vec::new();
    for writer in 0..WRITERS as u64 {
        let mut socket = enter(rendel, token).await?;
        let (is_measuring, is_over) = (is_measuring.clone(), is_over.clone());
        let (settled, total) = (settled.clone(), total.clone());
        tasks.push(tokio::spawn(async move {
            let record = |n: u64| (n * 7_919 + writer * 31) % RECORDS as u64;
            for n in 1..=WINDOW {
                socket.send(propose(n, record(n))).await?;
            }
            let (mut n, mut answered) = (WINDOW, 0);
            while answered < n {
                frames(&mut socket, "\"outcome\"").await?;
                answered += 1;
                total.fetch_add(1, Ordering::Relaxed);
                settled
                    .fetch_add(u64::from(is_measuring.load(Ordering::Relaxed)), Ordering::Relaxed);
                if !is_over.load(Ordering::Relaxed) {
                    n += 1;
                    socket.send(propose(n, record(n))).await?;
                }
            }
            anyhow::Ok(())
        }));
    }
    tokio::time::sleep(Duration::from_secs(1)).await;
    is_measuring.store(true, Ordering::Relaxed);
    let from = Instant::now();
    tokio::time::sleep(time).await;
    is_measuring.store(false, Ordering::Relaxed);
    let per_second = settled.load(Ordering::Relaxed) as f64 / from.elapsed().as_secs_f64();
    is_over.store(true, Ordering::Relaxed);
    for task in tasks {
        task.await??;
    }
    tokio::time::sleep(Duration::from_secs(1)).await;
    Ok(Written { per_second, total: total.load(Ordering::Relaxed) })
}
