//! People: pointers on a surface, guards, gates, and what presence costs in memory.

use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result};
use futures_util::{SinkExt as _, StreamExt as _};
use parking_lot::Mutex;
use serde_json::json;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::client::IntoClientRequest as _;

use crate::load::{self, Load, Shape};
use crate::report::{Goal, Report};
use crate::server::{Relay, Rendel};

const PARTICIPANTS: usize = 300;
/// Times a second that each moves its pointer.
const MOVES: f64 = 30.0;
/// Edits a second among them, of four writers.
const EDITS: f64 = 200.0;

const SURFACE: &str = "[session]\nparticipants = 5000\n[surfaces.slope]\nunit = \"m\"\nx = [0, \
    120]\ny = [0, 80]\n[presence]\nrate = 30\n[presence.fields]\npointer = { surface = \"slope\" \
    }\n";

#[derive(Default)]
struct Counted {
    is_measuring: AtomicBool,
    is_over: AtomicBool,
    pointers: AtomicU64,
    frames: AtomicU64,
    bytes: AtomicU64,
    latencies: Mutex<Vec<u64>>,
}

/// What a crowd got.
pub(crate) struct Got {
    seconds: f64,
    pointers: f64,
    frames: f64,
    bytes: f64,
    p99: f64,
    /// Of each edit at each who got it, in nanoseconds.
    pub(crate) latencies: Vec<u64>,
}

/// In milliseconds, of nanoseconds.
pub(crate) fn percentile(latencies: &mut [u64], percent: usize) -> f64 {
    latencies.sort_unstable();
    let at = latencies.len() * percent / 100;
    latencies.get(at).map_or(f64::NAN, |nanos| *nanos as f64 / 1e6)
}

/// Lets a crowd move pointers, and four of it write edits.
pub(crate) async fn crowd(
    port: u16,
    session: &str,
    tokens: &[String],
    moves: f64,
    edits: f64,
    time: Duration,
) -> Result<Got> {
    let counted = Arc::new(Counted::default());
    let began = Instant::now();
    let mut tasks = Vec::new();
    for (index, token) in tokens.iter().enumerate() {
        let mut request =
            format!("ws://127.0.0.1:{port}/v1/sessions/{session}/connect").into_client_request()?;
        request.headers_mut().insert("Sec-WebSocket-Protocol", "rendel.v1.json".parse()?);
        let (mut socket, _) =
            tokio_tungstenite::connect_async_with_config(request, None, true).await?;
        if !token.is_empty() {
            let enter = json!({ "type": "enter", "token": token, "client": uuid::Uuid::now_v7() });
            socket.send(Message::text(enter.to_string())).await?;
            socket.next().await.context("no welcome")??;
        }
        let (mut sink, mut stream) = socket.split();
        let writer = counted.clone();
        tasks.push(tokio::spawn(async move {
            let every = |rate: f64| Duration::from_secs_f64(if rate > 0.0 { 1.0 / rate } else { 3_600.0 });
            let mut moving = tokio::time::interval(every(moves));
            let mut editing = tokio::time::interval(every(if index < 4 { edits / 4.0 } else { 0.0 }));
            let (mut step, mut n) = (0u64, 0u64);
            while !writer.is_over.load(Ordering::Relaxed) {
                let frame = tokio::select! {
                    _ = moving.tick(), if moves > 0.0 => {
                        step += 1;
                        let x = (index as u64 * 7 + step) % 120;
                        format!(r#"{{"type":"presence","set":{{"pointer":{{"x":{x}.25,"y":{}.5}}}}}}"#, step % 80)
                    }
                    _ = editing.tick() => {
                        n += 1;
                        let now = began.elapsed().as_nanos();
                        format!(r#"{{"type":"propose","n":{n},"seen":0,"answered":{},"note":"{now}-x","edits":[{{"at":"/heads","op":"add","by":1}}]}}"#, n - 1)
                    }
                };
                if sink.send(Message::text(frame)).await.is_err() {
                    return;
                }
            }
        }));
        let reader = counted.clone();
        tasks.push(tokio::spawn(async move {
            while let Some(Ok(Message::Text(text))) = stream.next().await {
                if !reader.is_measuring.load(Ordering::Relaxed) {
                    continue;
                }
                let arrived = began.elapsed().as_nanos();
                reader.frames.fetch_add(1, Ordering::Relaxed);
                reader.bytes.fetch_add(text.len() as u64, Ordering::Relaxed);
                reader
                    .pointers
                    .fetch_add(text.matches("\"pointer\"").count() as u64, Ordering::Relaxed);
                for part in text.split("\"note\":\"").skip(1) {
                    let sent: u128 =
                        part.split('-').next().unwrap_or_default().parse().unwrap_or(arrived);
                    let late = u64::try_from(arrived.saturating_sub(sent)).unwrap_or(u64::MAX);
                    reader.latencies.lock().push(late);
                }
            }
        }));
    }
    tokio::time::sleep(Duration::from_secs(2)).await;
    counted.is_measuring.store(true, Ordering::Relaxed);
    let from = Instant::now();
    tokio::time::sleep(time).await;
    counted.is_measuring.store(false, Ordering::Relaxed);
    let seconds = from.elapsed().as_secs_f64();
    counted.is_over.store(true, Ordering::Relaxed);
    tasks.iter().for_each(tokio::task::JoinHandle::abort);
    let mut latencies = std::mem::take(&mut *counted.latencies.lock());
    let p99 = percentile(&mut latencies, 99);
    let per_second = |count: &AtomicU64| count.load(Ordering::Relaxed) as f64 / seconds;
    Ok(Got {
        seconds,
        pointers: per_second(&counted.pointers),
        frames: per_second(&counted.frames),
        bytes: per_second(&counted.bytes),
        p99,
        latencies,
    })
}

/// Three hundred pointers beside the bare relay, and the latency of edits among them.
pub(crate) async fn presence(report: &mut Report, time: Duration) -> Result<()> {
    eprintln!("presence of {PARTICIPANTS} …");
    let relay = Relay::start().await?;
    let nobody = vec![String::new(); PARTICIPANTS];
    let theirs = crowd(relay.port(), "pointers", &nobody, MOVES, 0.0, time).await?;
    relay.stop().await;
    let rendel = Rendel::start().await?;
    let (session, tokens) = rendel.people(PARTICIPANTS, SURFACE).await?;
    let without = crowd(rendel.port(), &session, &tokens, 0.0, EDITS, time).await?;
    let cpu = rendel.cpu_seconds()?;
    let began = Instant::now();
    let with = crowd(rendel.port(), &session, &tokens, MOVES, EDITS, time).await?;
    let share = (rendel.cpu_seconds()? - cpu) / began.elapsed().as_secs_f64() * 100.0;
    rendel.stop().await;
    report.ratio(
        "300 participants who move pointers 30 times a second: pointers told per second",
        with.pointers,
        "bare relay, the same bytes uncoalesced",
        theirs.pointers,
        Goal::AtLeast(3.0),
    );
    report.ratio(
        "p99 latency in ms of 200 edits a second among 300 who move pointers 30 times a second",
        with.p99,
        "the same edits without pointers",
        without.p99,
        Goal::AtMost(1.5),
    );
    report.figure("300 pointers: frames out per second", with.frames, Goal::None);
    report.figure("300 pointers: MB out per second", with.bytes / 1e6, Goal::None);
    report.figure("300 pointers: server CPU in % of one core", share, Goal::None);
    let told = with.pointers / (PARTICIPANTS * PARTICIPANTS) as f64;
    report.figure("300 pointers: times a second that each is told to each", told, Goal::None);
    eprintln!("  measured over {:.1} s", with.seconds);
    memory(report).await
}

async fn memory(report: &mut Report) -> Result<()> {
    const MANY: usize = 1_000;
    let mut grown = Vec::new();
    for says in [false, true] {
        let rendel = Rendel::start().await?;
        let (session, tokens) = rendel.people(MANY, SURFACE).await?;
        let before = rendel.memory()?;
        let mut sockets = Vec::with_capacity(MANY);
        for (index, token) in tokens.iter().enumerate() {
            let mut request =
                format!("ws://127.0.0.1:{}/v1/sessions/{session}/connect", rendel.port())
                    .into_client_request()?;
            request.headers_mut().insert("Sec-WebSocket-Protocol", "rendel.v1.json".parse()?);
            let (mut socket, _) =
                tokio_tungstenite::connect_async_with_config(request, None, true).await?;
            let mut enter =
                json!({ "type": "enter", "token": token, "client": uuid::Uuid::now_v7() });
            if says {
                enter["presence"] = json!({ "pointer": { "x": index % 120, "y": index % 80 } });
            }
            socket.send(Message::text(enter.to_string())).await?;
            sockets
                .push(tokio::spawn(async move { while let Some(Ok(_)) = socket.next().await {} }));
        }
        tokio::time::sleep(Duration::from_secs(2)).await;
        grown.push(rendel.memory()?.saturating_sub(before) as f64 / MANY as f64);
        sockets.iter().for_each(tokio::task::JoinHandle::abort);
        rendel.stop().await;
    }
    report.ratio(
        "memory of a participant with presence, in KiB",
        grown[1],
        "one without",
        grown[0],
        Goal::None,
    );
    Ok(())
}

/// What a guard adds to a proposal, all of it counted; and what a gate with an instant answer adds
/// to its way.
pub(crate) async fn guards(report: &mut Report, time: Duration) -> Result<()> {
    eprintln!("guards and gates …");
    let guard = "[[guards]]\nat = \"/heads\"\nrule = \"new >= old && (who.role == 'participant' \
        || new < 100)\"\nsays = \"Only more.\"\n";
    let shape = Shape { sessions: 8, participants: 1, writers: 1 };
    let rendel = Rendel::start().await?;
    // In turn and the least of three each: the first run of a service costs more than the next.
    let mut cost = [f64::INFINITY; 2];
    for (which, rule) in ["", guard].into_iter().enumerate().cycle().take(6) {
        let target =
            rendel.target_with(shape, &format!("{rule}[session]\nparticipants = 5000\n")).await?;
        let before = rendel.cpu_seconds()?;
        let began = Instant::now();
        let measured = load::run(&target, shape, Load::Rate(8_000.0), time * 2).await?;
        let cpu = (rendel.cpu_seconds()? - before) / began.elapsed().as_secs_f64();
        cost[which] = cost[which].min(cpu / measured.messages_per_second() * 1e6);
    }
    rendel.stop().await;
    report.figure("server CPU of a proposal without a guard, in µs", cost[0], Goal::None);
    report.figure(
        "a guard's share of a proposal's cost, in %",
        (1.0 - cost[0] / cost[1]) * 100.0,
        Goal::AtMost(20.0),
    );

    let port = 20_900;
    let program = std::env::current_exe()?.with_file_name("rendel");
    let mut stand_in = Command::new(program);
    stand_in.args([
        "stand-in",
        "gate",
        "--port",
        &port.to_string(),
        "--secret",
        "whsec_dGhlIGJlbmNoJ3Mgb3duIHNlY3JldCBvZiBieXRlcw==",
    ]);
    let mut stand_in = stand_in.stdout(Stdio::null()).spawn()?;
    let gate = format!(
        "[[gates]]\nat = \"/heads\"\nurl = \"http://127.0.0.1:{port}\"\ntimeout = \"5s\"\n"
    );
    let rendel = Rendel::start_with(&[(
        "RENDEL_GATE_SECRET",
        "whsec_dGhlIGJlbmNoJ3Mgb3duIHNlY3JldCBvZiBieXRlcw==",
    )])
    .await?;
    let mut middle = Vec::new();
    for rule in ["", &gate] {
        let target =
            rendel.target_with(shape, &format!("{rule}[session]\nparticipants = 5000\n")).await?;
        let measured = load::run(&target, shape, Load::Rate(160.0), time).await?;
        middle.push(measured.latency_ms(0.5));
    }
    rendel.stop().await;
    stand_in.kill()?;
    stand_in.wait()?;
    report.ratio(
        "a proposal that passes a gate with an instant answer: median ms",
        middle[1],
        "one without a gate",
        middle[0],
        Goal::None,
    );
    Ok(())
}

/// Those who look on beside ten who play.
const LOOKERS: usize = 10_000;
/// So many where all are named: each arrival is told to all.
const NAMED: usize = 1_000;

/// Lets people come in a row; gives the seconds that it took, and keeps them connected until what is
/// given is dropped.
async fn arrive(
    rendel: &Rendel,
    session: &str,
    tokens: &[String],
) -> Result<(f64, tokio::task::JoinSet<()>)> {
    let mut here = tokio::task::JoinSet::new();
    let began = Instant::now();
    for token in tokens {
        let address = format!("ws://127.0.0.1:{}/v1/sessions/{session}/connect", rendel.port());
        let mut request = address.into_client_request()?;
        request.headers_mut().insert("Sec-WebSocket-Protocol", "rendel.v1.json".parse()?);
        let (mut socket, _) =
            tokio_tungstenite::connect_async_with_config(request, None, true).await?;
        let enter = json!({ "type": "enter", "token": token, "client": uuid::Uuid::now_v7() });
        socket.send(Message::text(enter.to_string())).await?;
        socket.next().await.context("no welcome")??;
        here.spawn(async move { while let Some(Ok(_)) = socket.next().await {} });
    }
    Ok((began.elapsed().as_secs_f64(), here))
}

/// What ten thousand who look on cost ten who play.
pub(crate) async fn lookers(report: &mut Report, time: Duration) -> Result<()> {
    eprintln!("ten thousand who look on …");
    let rules = |roster: &str| {
        format!(
            "[session]\nparticipants = 20000\n[roles.participant]\nedit = [\"/**\"]\n\
             [roles.looker]\nedit = []\nroster = \"{roster}\"\n"
        )
    };
    let rendel = Rendel::start().await?;
    let mut each = Vec::new();
    for roster in ["names", "count"] {
        let (session, _) = rendel.people(10, &rules(roster)).await?;
        let mut tokens = Vec::with_capacity(NAMED);
        for at in 0..NAMED {
            tokens.push(rendel.token_as(&session, &format!("looker-{at}"), "looker").await?);
        }
        let (seconds, here) = arrive(&rendel, &session, &tokens).await?;
        each.push(seconds / NAMED as f64 * 1e3);
        drop(here);
    }
    report.ratio(
        "milliseconds an arrival among 1,000 who look on and are counted",
        each[1],
        "the same where all are named",
        each[0],
        Goal::AtMost(1.0),
    );
    let (session, players) = rendel.people(10, &rules("count")).await?;
    let alone = crowd(rendel.port(), &session, &players, 0.0, 8.0, time).await?;
    let mut tokens = Vec::with_capacity(LOOKERS);
    for at in 0..LOOKERS {
        tokens.push(rendel.token_as(&session, &format!("looker-{at}"), "looker").await?);
    }
    let before = rendel.memory()?;
    let (seconds, here) = arrive(&rendel, &session, &tokens).await?;
    report.figure("seconds in which 10,000 who look on entered in a row", seconds, Goal::None);
    let kib = rendel.memory()?.saturating_sub(before) as f64 / LOOKERS as f64;
    report.figure("KiB of memory for each of 10,000 who look on", kib, Goal::None);
    let beside = crowd(rendel.port(), &session, &players, 0.0, 8.0, time * 2).await?;
    report.ratio(
        "p99 in ms among ten who play, 8 edits a second, beside 10,000 who look on",
        beside.p99,
        "the same alone",
        alone.p99,
        Goal::None,
    );
    drop(here);
    rendel.stop().await;
    Ok(())
}
