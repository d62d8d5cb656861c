//! The load: participants that connect, some of whom write, all of whom listen.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result};
use futures_util::{SinkExt as _, StreamExt as _};
use parking_lot::Mutex;
use serde_json::json;
use tokio::net::TcpStream;
use tokio::sync::Semaphore;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::client::IntoClientRequest as _;
use tokio_tungstenite::{MaybeTlsStream, WebSocketStream};
use uuid::Uuid;

const WARM_UP: Duration = Duration::from_secs(1);

/// Where to connect. Without sessions it is the relay, which knows no tokens.
#[derive(Clone)]
pub(crate) struct Target {
    pub(crate) port: u16,
    pub(crate) sessions: Vec<(String, String)>,
}

/// How many sessions, participants in each, and writers among them.
#[derive(Clone, Copy)]
pub(crate) struct Shape {
    pub(crate) sessions: usize,
    pub(crate) participants: usize,
    pub(crate) writers: usize,
}

/// How much is written.
#[derive(Clone, Copy)]
pub(crate) enum Load {
    /// Each writer has so many messages on the way: as much as the server takes.
    Window(usize),
    /// So many messages per second, all writers together.
    Rate(f64),
}

/// What was measured.
pub(crate) struct Measured {
    messages: u64,
    deliveries: u64,
    seconds: f64,
    latencies: Vec<u64>,
}

impl Measured {
    pub(crate) fn messages_per_second(&self) -> f64 {
        self.messages as f64 / self.seconds
    }

    pub(crate) fn deliveries_per_second(&self) -> f64 {
        self.deliveries as f64 / self.seconds
    }

    pub(crate) fn latency_ms(&self, quantile: f64) -> f64 {
        let mut sorted = self.latencies.clone();
        sorted.sort_unstable();
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "an index between 0 and the length"
        )]
        let index = ((sorted.len() as f64 * quantile) as usize).min(sorted.len().saturating_sub(1));
        sorted.get(index).map_or(f64::NAN, |nanos| *nanos as f64 / 1e6)
    }
}

struct Shared {
    began: Instant,
    /// Whether all are here: nobody writes before, since a busy server takes long to let so many
    /// in.
    has_begun: AtomicBool,
    is_measuring: AtomicBool,
    is_over: AtomicBool,
    messages: AtomicU64,
    deliveries: AtomicU64,
    latencies: Mutex<Vec<u64>>,
}

type Socket = WebSocketStream<MaybeTlsStream<TcpStream>>;

pub(crate) async fn run(
    target: &Target,
    shape: Shape,
    load: Load,
    time: Duration,
) -> Result<Measured> {
    let shared = Arc::new(Shared {
        began: Instant::now(),
        has_begun: AtomicBool::new(false),
        is_measuring: AtomicBool::new(false),
        is_over: AtomicBool::new(false),
        messages: AtomicU64::new(0),
        deliveries: AtomicU64::new(0),
        latencies: Mutex::default(),
    });
    let mut tasks = Vec::new();
    let all_writers = (shape.sessions * shape.writers) as f64;
    for session in 0..shape.sessions {
        for participant in 0..shape.participants {
            let client = Uuid::now_v7();
            let socket = enter(target, session, client).await?;
            let is_writer = participant < shape.writers;
            let load = is_writer.then_some(match load {
                Load::Window(window) => Load::Window(window),
                Load::Rate(rate) => Load::Rate(rate / all_writers),
            });
            tasks.push(tokio::spawn(take_part(socket, client, load, shared.clone())));
        }
    }
    shared.has_begun.store(true, Ordering::Relaxed);
    tokio::time::sleep(WARM_UP).await;
    shared.is_measuring.store(true, Ordering::Relaxed);
    let from = Instant::now();
    tokio::time::sleep(time).await;
    shared.is_measuring.store(false, Ordering::Relaxed);
    let seconds = from.elapsed().as_secs_f64();
    shared.is_over.store(true, Ordering::Relaxed);
    tasks.iter().for_each(tokio::task::JoinHandle::abort);
    Ok(Measured {
        messages: shared.messages.load(Ordering::Relaxed),
        deliveries: shared.deliveries.load(Ordering::Relaxed),
        seconds,
        latencies: std::mem::take(&mut shared.latencies.lock()),
    })
}

async fn enter(target: &Target, session: usize, client: Uuid) -> Result<Socket> {
    let (id, token) = target
        .sessions
        .get(session)
        .cloned()
        .unwrap_or_else(|| (session.to_string(), String::new()));
    let mut request =
        format!("ws://127.0.0.1:{}/v1/sessions/{id}/connect", target.port).into_client_request()?;
    request.headers_mut().insert("Sec-WebSocket-Protocol", "rendel.v1.json".parse()?);
    let (mut socket, _) = tokio_tungstenite::connect_async_with_config(request, None, true).await?;
    if !token.is_empty() {
        let enter = json!({ "type": "enter", "token": token, "client": client });
        socket.send(Message::text(enter.to_string())).await?;
        socket.next().await.context("no welcome came")??;
    }
    Ok(socket)
}

async fn take_part(socket: Socket, client: Uuid, load: Option<Load>, shared: Arc<Shared>) {
    let (mut sink, mut stream) = socket.split();
    let window = Arc::new(Semaphore::new(match load {
        Some(Load::Window(window)) => window,
        Some(Load::Rate(_)) | None => 0,
    }));
    let mark = client.simple().to_string();
    if let Some(load) = load {
        let (shared, window, mark) = (shared.clone(), window.clone(), mark.clone());
        tokio::spawn(async move {
            while !shared.has_begun.load(Ordering::Relaxed) {
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
            let mut n = 0u64;
            let mut tick = match load {
                Load::Rate(rate) => {
                    Some(tokio::time::interval(Duration::from_secs_f64(1.0 / rate)))
                }
                Load::Window(_) => None,
            };
            while !shared.is_over.load(Ordering::Relaxed) {
                match &mut tick {
                    Some(tick) => drop(tick.tick().await),
                    None => match window.acquire().await {
                        Ok(permit) => permit.forget(),
                        Err(_) => return,
                    },
                }
                n += 1;
                let now = shared.began.elapsed().as_nanos();
                // The relay sends the frame back as it is; the service gives the note back in the
                // update.
                let frame = format!(
                    r#"{{"type":"propose","n":{n},"seen":0,"answered":{},"note":"{now}-{mark}","edits":[{{"at":"/heads","op":"add","by":1}}]}}"#,
                    n - 1
                );
                if sink.send(Message::text(frame)).await.is_err() {
                    return;
                }
            }
        });
    }
    while let Some(Ok(message)) = stream.next().await {
        let Message::Text(text) = message else { continue };
        let arrived = shared.began.elapsed().as_nanos();
        let is_measuring = shared.is_measuring.load(Ordering::Relaxed);
        let (mut deliveries, mut own) = (0u64, 0u64);
        // Every message carries one note, whoever wrapped it in what: when it was sent, and by
        // whom.
        for part in text.split("\"note\":\"").skip(1) {
            let note = part.split('"').next().unwrap_or_default();
            let Some((sent, writer)) = note.split_once('-') else { continue };
            deliveries += 1;
            own += u64::from(writer == mark);
            if is_measuring && deliveries % 16 == 1 {
                let sent = sent.parse().unwrap_or(arrived);
                shared
                    .latencies
                    .lock()
                    .push(u64::try_from(arrived.saturating_sub(sent)).unwrap_or(u64::MAX));
            }
        }
        if is_measuring {
            shared.deliveries.fetch_add(deliveries, Ordering::Relaxed);
            shared.messages.fetch_add(own, Ordering::Relaxed);
        }
        window.add_permits(usize::try_from(own).unwrap_or(0));
    }
}
