//! Those who are late, slow or many, and a service that comes back.

use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result};
use futures_util::{SinkExt as _, StreamExt as _};
use serde_json::json;
use tokio::io::AsyncReadExt as _;
use tokio::net::TcpStream;
use tokio::sync::Barrier;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::client::IntoClientRequest as _;
use tokio_tungstenite::tungstenite::protocol::WebSocketConfig;
use tokio_tungstenite::{MaybeTlsStream, WebSocketStream};
use uuid::Uuid;

use crate::load::{self, Load, Shape, Target};
use crate::plot::{Line, plot};
use crate::report::{Goal, Report};
use crate::server::{Relay, Rendel};

type Socket = WebSocketStream<MaybeTlsStream<TcpStream>>;

const RECORDS: usize = 10_000;

pub(crate) async fn late(report: &mut Report) -> Result<()> {
    eprintln!("late joiners …");
    let rendel = Rendel::start().await?;
    let (target, bytes) = rendel.with_records(RECORDS).await?;
    let relay = Relay::start().await?;
    // The relay sends as many bytes from memory as the service's welcome has.
    let beside =
        Target { port: relay.port(), sessions: vec![(format!("bytes-{bytes}"), String::new())] };
    let is_over = Arc::new(std::sync::atomic::AtomicBool::new(false));
    let busy = tokio::spawn(propose(target.clone(), 200.0, is_over.clone()));
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for _ in 0..40 {
        ours.push(join(&target).await?);
        theirs.push(join(&beside).await?);
    }
    let median = |mut times: Vec<f64>| {
        times.sort_by(f64::total_cmp);
        times[times.len() / 2]
    };
    report.ratio(
        "late joiner of 10,000 records, 200 proposals a second meanwhile: ms to the whole state",
        median(ours),
        "the same bytes from memory",
        median(theirs),
        Goal::AtMost(1.5),
    );
    let memory = rendel.memory()?;
    let ours = crowd(&target, 1_000).await?;
    let grown = rendel.memory()?.saturating_sub(memory);
    let theirs = crowd(&beside, 1_000).await?;
    report.ratio(
        "1,000 late joiners at once of 10,000 records, 200 proposals a second meanwhile: ms until \
         the last has it",
        ours,
        "the same bytes from memory",
        theirs,
        Goal::AtMost(1.5),
    );
    report.figure(
        "1,000 late joiners at once: MiB by which the service grew",
        grown as f64 / 1_024.0,
        Goal::None,
    );
    is_over.store(true, std::sync::atomic::Ordering::Relaxed);
    let settled = busy.await??;
    report.figure("proposals settled meanwhile, per second", settled, Goal::None);
    relay.stop().await;
    rendel.stop().await;
    Ok(())
}

async fn connect(target: &Target) -> Result<(Socket, String)> {
    let (id, token) = target.sessions.first().context("a session")?.clone();
    let mut request =
        format!("ws://127.0.0.1:{}/v1/sessions/{id}/connect", target.port).into_client_request()?;
    request.headers_mut().insert("Sec-WebSocket-Protocol", "rendel.v1.json".parse()?);
    let config = WebSocketConfig::default().max_message_size(None).max_frame_size(None);
    Ok((tokio_tungstenite::connect_async_with_config(request, Some(config), true).await?.0, token))
}

/// With little room for what is not read.
async fn connect_narrow(target: &Target) -> Result<(WebSocketStream<TcpStream>, String)> {
    let (id, token) = target.sessions.first().context("a session")?.clone();
    let socket = tokio::net::TcpSocket::new_v4()?;
    socket.set_recv_buffer_size(4_096)?;
    let stream = socket.connect(([127, 0, 0, 1], target.port).into()).await?;
    let address = format!("ws://127.0.0.1:{}/v1/sessions/{id}/connect", target.port);
    Ok((tokio_tungstenite::client_async(address, stream).await?.0, token))
}

fn enter(token: &str) -> Message {
    Message::text(json!({ "type": "enter", "token": token, "client": Uuid::now_v7() }).to_string())
}

/// Milliseconds from the first word to the whole first frame.
async fn join(target: &Target) -> Result<f64> {
    let (mut socket, token) = connect(target).await?;
    let began = Instant::now();
    socket.send(enter(&token)).await?;
    socket.next().await.context("nothing came")??;
    Ok(began.elapsed().as_secs_f64() * 1_000.0)
}

/// Milliseconds until the last of so many who come together has the whole first frame.
async fn crowd(target: &Target, size: usize) -> Result<f64> {
    let barrier = Arc::new(Barrier::new(size + 1));
    let mut tasks = Vec::with_capacity(size);
    for _ in 0..size {
        let (mut socket, token) = connect(target).await?;
        let barrier = barrier.clone();
        tasks.push(tokio::spawn(async move {
            barrier.wait().await;
            socket.send(enter(&token)).await?;
            socket.next().await.context("nothing came")??;
            anyhow::Ok(socket)
        }));
    }
    barrier.wait().await;
    let began = Instant::now();
    let mut sockets = Vec::with_capacity(size);
    for task in tasks {
        sockets.push(task.await??);
    }
    Ok(began.elapsed().as_secs_f64() * 1_000.0)
}

/// Proposes at a rate until it is over; gives how many a second were settled.
async fn propose(
    target: Target,
    rate: f64,
    is_over: Arc<std::sync::atomic::AtomicBool>,
) -> Result<f64> {
    let (mut socket, token) = connect(&target).await?;
    socket.send(enter(&token)).await?;
    let mut tick = tokio::time::interval(Duration::from_secs_f64(1.0 / rate));
    let (began, mut n, mut settled) = (Instant::now(), 0u64, 0usize);
    while !is_over.load(std::sync::atomic::Ordering::Relaxed) {
        tokio::select! {
            _ = tick.tick() => {
                n += 1;
                let record = n % RECORDS as u64;
                let edit = json!({ "at": format!("/records/r{record}/crates"), "op": "add", "by": 1 });
                let frame = json!({ "type": "propose", "n": n, "seen": 0, "answered": n - 1, "edits": [edit] });
                socket.send(Message::text(frame.to_string())).await?;
            }
            message = socket.next() => {
                if let Some(Ok(Message::Text(text))) = message {
                    settled += text.matches("\"seq\":").count();
                }
            }
        }
    }
    Ok(settled as f64 / began.elapsed().as_secs_f64())
}

/// Two hundred participants of whom twenty never read and twenty read at 1 kB a second.
pub(crate) async fn slow(report: &mut Report, time: Duration) -> Result<()> {
    eprintln!("slow participants …");
    let shape = Shape { sessions: 1, participants: 160, writers: 4 };
    let load = Load::Rate(1_500.0);
    // Short queues, so that backlogs are dropped within the measurement.
    let rendel = Rendel::start_with(&[("RENDEL_QUEUE_FRAMES", "512")]).await?;
    let target = rendel.target(shape).await?;
    let without = load::run(&target, shape, load, time * 6).await?;
    let target = rendel.target(shape).await?;
    let memory = rendel.memory()?;
    let mut idlers = Vec::new();
    for index in 0..40 {
        let (mut socket, token) = connect_narrow(&target).await?;
        socket.send(enter(&token)).await?;
        idlers.push(tokio::spawn(async move {
            let stream = socket.get_mut();
            let mut buffer = [0; 100];
            loop {
                tokio::time::sleep(Duration::from_millis(100)).await;
                if index % 2 == 0 && !matches!(stream.read(&mut buffer).await, Ok(1..)) {
                    return;
                }
            }
        }));
    }
    let with = load::run(&target, shape, load, time * 6).await?;
    let grown = rendel.memory()?.saturating_sub(memory);
    idlers.iter().for_each(tokio::task::JoinHandle::abort);
    let catch_ups = rendel.metric("rendel_fell_behind_total").await?;
    rendel.stop().await;
    report.ratio(
        "p99 latency in ms of 160 participants, beside 20 who never read and 20 who read at 1 kB/s",
        with.latency_ms(0.99),
        "the same 160 alone",
        without.latency_ms(0.99),
        Goal::AtMost(1.5),
    );
    report.figure(
        "slow participants: MiB by which the service grew meanwhile",
        grown as f64 / 1_024.0,
        Goal::AtMost(400.0),
    );
    report.figure("slow participants: times that a backlog was dropped", catch_ups, Goal::None);
    Ok(())
}

/// From `kill -9` to the first settled proposal.
pub(crate) async fn recovery(report: &mut Report) -> Result<()> {
    eprintln!("coming back after kill -9 …");
    let mut line = Line::new("Rendel");
    for (sessions, rows) in [(10, 1_000), (100, 1_000), (1_000, 1_000)] {
        let mut rendel = Rendel::start().await?;
        let target = rendel.with_journals(sessions, rows).await?;
        // Each session is in memory, as it was when the process was killed.
        for session in target.sessions.iter().take(50) {
            first_settled(&Target { port: target.port, sessions: vec![session.clone()] }).await?;
        }
        let began = Instant::now();
        rendel.kill_and_start().await?;
        let last = target.sessions.last().context("a session")?.clone();
        first_settled(&Target { port: target.port, sessions: vec![last] }).await?;
        let seconds = began.elapsed().as_secs_f64();
        line.points.push(((sessions * rows) as f64, seconds));
        if sessions == 1_000 {
            report.figure(
                "kill -9 with 1,000 sessions and 1,000,000 journal rows: seconds to the first \
                 settled proposal",
                seconds,
                Goal::None,
            );
            let began = Instant::now();
            let all = target.sessions.iter().map(|session| {
                let target = Target { port: target.port, sessions: vec![session.clone()] };
                async move { first_settled(&target).await }
            });
            let mut all = futures_util::stream::iter(all).buffer_unordered(64);
            while let Some(done) = all.next().await {
                done?;
            }
            report.figure(
                "and until each of the 1,000 sessions has settled one more, in seconds",
                began.elapsed().as_secs_f64(),
                Goal::None,
            );
        }
        rendel.stop().await;
    }
    plot(
        "docs/figures/recovery.png",
        "From kill -9 to the first settled proposal",
        "rows in the journal",
        "seconds",
        &[line],
    )
}

async fn first_settled(target: &Target) -> Result<()> {
    let (mut socket, token) = connect(target).await?;
    socket.send(enter(&token)).await?;
    let edit = json!({ "at": "/heads", "op": "add", "by": 1 });
    socket
        .send(Message::text(
            json!({ "type": "propose", "n": 1, "seen": 0, "edits": [edit] }).to_string(),
        ))
        .await?;
    while let Some(Ok(message)) = socket.next().await {
        if matches!(&message, Message::Text(text) if text.starts_with("{\"type\":\"settled\"")) {
            return Ok(());
        }
    }
    anyhow::bail!("the connection ended before the update came")
}

/// What those cost who do nothing.
pub(crate) async fn idle(report: &mut Report) -> Result<()> {
    eprintln!("idle participants and sessions …");
    const MANY: usize = 2_000;
    let hold = async |target: &Target| -> Result<Vec<Socket>> {
        let mut sockets = Vec::with_capacity(MANY);
        for _ in 0..MANY {
            let (mut socket, token) = connect(target).await?;
            if !token.is_empty() {
                socket.send(enter(&token)).await?;
                socket.next().await.context("no welcome")??;
            }
            sockets.push(socket);
        }
        tokio::time::sleep(Duration::from_secs(2)).await;
        Ok(sockets)
    };
    let relay = Relay::start().await?;
    let beside = Target { port: relay.port(), sessions: vec![("idle".to_owned(), String::new())] };
    let before = relay.memory()?;
    let sockets = hold(&beside).await?;
    let theirs = relay.memory()?.saturating_sub(before) as f64 / MANY as f64;
    drop(sockets);
    relay.stop().await;
    let rendel = Rendel::start().await?;
    // Each of the session's participants is one of its own, as in life.
    let target = rendel.target(Shape { sessions: 1, participants: 1, writers: 0 }).await?;
    let before = rendel.memory()?;
    let sockets = hold(&target).await?;
    let ours = rendel.memory()?.saturating_sub(before) as f64 / MANY as f64;
    drop(sockets);
    report.ratio(
        "memory of an idle participant, in KiB",
        ours,
        "connection of the bare relay",
        theirs,
        Goal::None,
    );
    report.figure(
        "KiB that an idle participant costs more than a connection of the bare relay",
        ours - theirs,
        Goal::AtMost(4.0),
    );
    rendel.stop().await;
    let rendel = Rendel::start().await?;
    let sessions = rendel.with_journals(1_000, 1).await?;
    let before = rendel.memory()?;
    for session in &sessions.sessions {
        first_settled(&Target { port: sessions.port, sessions: vec![session.clone()] }).await?;
    }
    let inside = rendel.memory()?.saturating_sub(before) as f64 / 1_000.0;
    let deadline = Instant::now() + Duration::from_secs(30);
    while rendel.metric("rendel_rested_total").await? < 1_000.0 && Instant::now() < deadline {
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    let resting = (rendel.memory()? as f64 - before as f64) / 1_000.0;
    report.figure("KiB of a small session in memory", inside, Goal::None);
    report.figure(
        "KiB that is left of each session after all 1,000 have left memory",
        resting,
        Goal::None,
    );
    rendel.stop().await;
    Ok(())
}

/// What a beat saves.
pub(crate) async fn beat(report: &mut Report, time: Duration) -> Result<()> {
    eprintln!("a beat of 50 ms …");
    let shape = Shape { sessions: 1, participants: 500, writers: 8 };
    let load = Load::Rate(800.0);
    let rendel = Rendel::start().await?;
    let mut shares = Vec::new();
    for tick in ["0ms", "50ms"] {
        let target = rendel
            .target_with(shape, &format!("[session]\nparticipants = 5000\ntick = \"{tick}\"\n"))
            .await?;
        let before = rendel.cpu_seconds()?;
        let began = Instant::now();
        let measured = load::run(&target, shape, load, time * 2).await?;
        shares.push((rendel.cpu_seconds()? - before) / began.elapsed().as_secs_f64() * 100.0);
        let what = format!(
            "500 participants, 800 proposals a second, beat of {tick}: deliveries per second"
        );
        report.figure(&what, measured.deliveries_per_second(), Goal::None);
    }
    rendel.stop().await;
    report.ratio(
        "server CPU in % of one core, 500 participants and 800 proposals a second, at a beat of \
         50 ms",
        shares[1],
        "the same without a beat",
        shares[0],
        Goal::AtMost(1.0),
    );
    Ok(())
}
