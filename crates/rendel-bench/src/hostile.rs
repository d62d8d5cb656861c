//! What somebody who sends all that they can costs the service, its disk and everybody else. The
//! same is sent to the bare relay for comparison, since sender and service share the machine.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result, ensure};
use futures_util::{SinkExt as _, StreamExt as _};
use serde_json::json;
use tokio::io::AsyncWriteExt as _;
use tokio::net::{TcpSocket, TcpStream};
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::client::IntoClientRequest as _;
use tokio_tungstenite::tungstenite::protocol::frame::Frame;
use tokio_tungstenite::tungstenite::protocol::frame::coding::{Data, OpCode};

use crate::people::{crowd, percentile};
use crate::report::{Goal, Report};
use crate::server::{Relay, Rendel};

/// Where they come from. Everybody else comes from another address.
const FROM: [u8; 4] = [127, 0, 0, 2];
const RULES: &str = "[session]\nguests = \"participant\"\n[presence.fields]\npointer = {}\n[holds]\n\
    [cues.bell]\nto = \"everyone\"\nrate = 3\n[roles.participant]\nedit = [\"/**\"]\n\
    [roles.viewer]\nedit = []\n[limits]\njournal = 10000\n";

/// Who attacks.
#[derive(Clone, Copy, Debug)]
enum Attacker {
    /// Frames and bytes at full speed over connections.
    Client,
    /// Entries as ever new guests, and messages in fragments that never end.
    Guest,
    /// Calls and documents with a token that may edit.
    Participant,
    /// Refused proposals and reads with a token that may not.
    Viewer,
    /// Somebody else's tokens and codes, guesses at the key, and bodies that never end.
    Stranger,
}

const ALL: [Attacker; 5] = [
    Attacker::Client,
    Attacker::Guest,
    Attacker::Participant,
    Attacker::Viewer,
    Attacker::Stranger,
];

#[derive(Clone)]
struct Aim {
    port: u16,
    session: String,
    token: String,
    is_over: Arc<AtomicBool>,
    sent: Arc<AtomicU64>,
}

impl Aim {
    fn goes_on(&self) -> bool {
        self.sent.fetch_add(1, Ordering::Relaxed);
        !self.is_over.load(Ordering::Relaxed)
    }

    async fn stream(&self) -> Result<TcpStream> {
        let socket = TcpSocket::new_v4()?;
        socket.bind(SocketAddr::from((FROM, 0)))?;
        Ok(socket.connect(SocketAddr::from(([127, 0, 0, 1], self.port))).await?)
    }

    async fn connect(&self, subprotocol: &str) -> Result<WebSocketStream<TcpStream>> {
        let url = format!("ws://127.0.0.1:{}/v1/sessions/{}/connect", self.port, self.session);
        let mut request = url.into_client_request()?;
        request.headers_mut().insert("Sec-WebSocket-Protocol", subprotocol.parse()?);
        Ok(tokio_tungstenite::client_async(request, self.stream().await?).await?.0)
    }

    /// Sends what `next` makes over one connection after the other.
    async fn flood(self, enters: Option<String>, next: impl Fn(u64) -> Message) {
        let mut n = 0;
        while self.goes_on() {
            let Ok(socket) = self.connect("rendel.v1.json").await else {
                tokio::time::sleep(Duration::from_millis(5)).await;
                continue;
            };
            let (mut out, mut back) = socket.split();
            let reading = tokio::spawn(async move { while let Some(Ok(_)) = back.next().await {} });
            let enter = json!({ "type": "enter", "token": enters, "client": uuid::Uuid::now_v7() });
            let mut is_open = out.send(Message::text(enter.to_string())).await.is_ok();
            while is_open && !reading.is_finished() && self.goes_on() {
                n += 1;
                is_open = out.send(next(n)).await.is_ok();
            }
            reading.abort();
        }
    }

    /// Enters as a new guest each time, and leaves a message unfinished.
    async fn enter_again_and_again(self) {
        while self.goes_on() {
            let Ok(mut socket) = self.connect("rendel.v1.json").await else { continue };
            let enter = json!({ "type": "enter", "client": uuid::Uuid::now_v7() });
            if socket.send(Message::text(enter.to_string())).await.is_err() {
                continue;
            }
            let _ = socket.next().await;
            let piece = |code| Frame::message(vec![b' '; 16_000], OpCode::Data(code), false);
            let mut is_open = socket.send(Message::Frame(piece(Data::Text))).await.is_ok();
            for _ in 0..20 {
                is_open =
                    is_open && socket.send(Message::Frame(piece(Data::Continue))).await.is_ok();
            }
        }
    }

    /// Begins bodies that never end.
    async fn send_slowly(self) {
        let mut open = Vec::new();
        while self.goes_on() {
            let Ok(mut stream) = self.stream().await else {
                tokio::time::sleep(Duration::from_millis(20)).await;
                continue;
            };
            let head = "POST /v1/invitations/accepted HTTP/1.1\r\nhost: x\r\ncontent-type: \
                application/json\r\ncontent-length: 60000\r\n\r\n{\"code\":\"";
            let _ = stream.write_all(head.as_bytes()).await;
            open.push(stream);
            if open.len() > 2_000 {
                open.drain(..1_000);
            }
            for stream in &mut open {
                let _ = stream.try_write(b"x");
            }
        }
    }

    async fn call(self, requests: fn(&reqwest::Client, &Self, u64) -> reqwest::RequestBuilder) {
        let http = reqwest::Client::builder().no_proxy().local_address(IpAddr::from(FROM));
        let Ok(http) = http.build() else { return };
        let mut n = 0;
        while self.goes_on() {
            n += 1;
            if let Ok(answer) = requests(&http, &self, n).bearer_auth(&self.token).send().await {
                let _ = answer.bytes().await;
            }
        }
    }
}

/// A frame of somebody who is here: some are good, most are not.
fn frame(n: u64) -> Message {
    let edits = match n % 4 {
        0 => json!([{ "at": "/heads", "op": "add", "by": 1 }]),
        1 => json!([{ "at": "", "op": "test", "value": "x".repeat(1_000) }]),
        _ => json!(vec![json!({ "at": "/heads", "op": "set", "value": n }); 200]),
    };
    let frame = match n % 11 {
        0..4 => json!({ "type": "propose", "n": n, "seen": 0, "answered": n - 1, "edits": edits }),
        4 => json!({ "type": "presence", "set": { "pointer": { "x": n, "y": 1 } } }),
        5 => json!({ "type": "ping", "sent": n }),
        6 => json!({ "type": "digest", "seq": n, "sha256": "0".repeat(64) }),
        7 => json!({ "type": "hold", "n": n, "at": "/heads" }),
        8 => json!({ "type": "cue", "n": n, "name": "bell" }),
        9 => json!({ "type": "renew", "n": n, "token": "x".repeat(500) }),
        _ => return Message::text(format!("{}{}", "[".repeat(2_000), "]".repeat(2_000))),
    };
    Message::text(frame.to_string())
}

fn refused(n: u64) -> Message {
    let edits = json!([{ "at": "", "op": "test", "value": n }]);
    let frame = json!({ "type": "propose", "n": n, "seen": 0, "answered": n - 1, "edits": edits });
    Message::text(frame.to_string())
}

fn write_documents(http: &reqwest::Client, aim: &Aim, n: u64) -> reqwest::RequestBuilder {
    let session = format!("http://127.0.0.1:{}/v1/sessions/{}", aim.port, aim.session);
    let copies = || {
        let copy = |n| json!({ "op": "copy", "from": "", "path": format!("/k{n}") });
        json!((0..40).map(copy).collect::<Vec<_>>()).to_string()
    };
    let patch = |kind: &str| http.patch(format!("{session}/state")).header("Content-Type", kind);
    match n % 6 {
        0 => patch("application/json-patch+json").body(copies()),
        1 => patch("application/merge-patch+json").body("{\"a\":".repeat(10_000)),
        2 => patch("application/merge-patch+json").body(format!("{{\"heads\":{n}}}")),
        3 => http.post(format!("{session}/cues")).json(&json!({ "name": "bell" })),
        4 => http.post(format!("{session}/tickets")),
        _ => http
            .post(format!("{session}/proposals"))
            .header("Idempotency-Key", n.to_string())
            .json(&json!({ "edits": [{ "at": "/heads", "op": "add", "by": 1 }] })),
    }
}

fn read_all(http: &reqwest::Client, aim: &Aim, n: u64) -> reqwest::RequestBuilder {
    let parts = ["journal", "diff?from=0", "state?at=0", "state", "conflicts", "events?after=0"];
    let part = parts[usize::try_from(n).unwrap_or(0) % parts.len()];
    let url = format!("http://127.0.0.1:{}/v1/sessions/{}/{part}", aim.port, aim.session);
    http.get(url).timeout(Duration::from_secs(2))
}

fn guess(http: &reqwest::Client, aim: &Aim, n: u64) -> reqwest::RequestBuilder {
    let service = format!("http://127.0.0.1:{}/v1", aim.port);
    match n % 4 {
        0 => http.post(format!("{service}/console/sign-in")).json(&json!({ "key": n })),
        1 => http.post(format!("{service}/invitations/accepted")).json(&json!({ "code": n })),
        2 => http.get(format!("{service}/sessions/{}/state", aim.session)),
        _ => http.get(format!("{service}/sessions/none-{n}/events")),
    }
}

fn attack(attacker: Attacker, aim: &Aim) {
    let token = Some(aim.token.clone());
    match attacker {
        Attacker::Client => {
            tokio::spawn(aim.clone().flood(token.clone(), frame));
            tokio::spawn(aim.clone().flood(token, |n| Message::binary(n.to_be_bytes().repeat(50))));
        }
        Attacker::Guest => {
            tokio::spawn(aim.clone().flood(None, frame));
            tokio::spawn(aim.clone().enter_again_and_again());
        }
        Attacker::Participant => {
            (0..4).for_each(|_| drop(tokio::spawn(aim.clone().call(write_documents))));
        }
        Attacker::Viewer => {
            tokio::spawn(aim.clone().flood(token, refused));
            (0..4).for_each(|_| drop(tokio::spawn(aim.clone().call(read_all))));
        }
        Attacker::Stranger => {
            tokio::spawn(aim.clone().send_slowly());
            (0..4).for_each(|_| drop(tokio::spawn(aim.clone().call(guess))));
        }
    }
}

/// How often the service and the relay are attacked in turn.
const TURNS: u32 = 6;
/// Edits a second of the ten others.
const EDITS: f64 = 40.0;

/// Each for `time`.
pub(crate) async fn measure(report: &mut Report, time: Duration) -> Result<()> {
    for attacker in ALL {
        eprintln!("hostile: {attacker:?} …");
        // As it is shipped, with the bounds that are for life.
        let bounds = [
            ("RENDEL_CONNECTIONS_PER_ADDRESS", "1000"),
            ("RENDEL_CONNECTIONS_PER_PARTICIPANT", "32"),
            ("RENDEL_CALLS_PER_ADDRESS", "200"),
            ("RENDEL_CALLS_PER_PARTICIPANT", "50"),
        ];
        let rendel = Rendel::start_with(&bounds).await?;
        let relay = Relay::start().await?;
        let (quiet, players) = rendel.people(10, RULES).await?;
        let (session, _) = rendel.people(0, RULES).await?;
        let role = if matches!(attacker, Attacker::Viewer) { "viewer" } else { "participant" };
        let of = if matches!(attacker, Attacker::Stranger) { &quiet } else { &session };
        let token = rendel.token_as(of, "attacker", role).await?;
        let sent = Arc::new(AtomicU64::new(0));
        let (mut ours, mut theirs) = (Vec::new(), Vec::new());
        let (mut peak, mut entered, mut minutes) = (0, 0, 0.0);
        // By the others while the relay is attacked, and by all while the service is.
        let mut written = [0, 0];
        let (memory, slice) = (rendel.memory()?, time / TURNS);
        for turn in 0..TURNS * 2 {
            let is_relay = turn % 2 == 0;
            let aim = Aim {
                port: if is_relay { relay.port() } else { rendel.port() },
                session: session.clone(),
                token: token.clone(),
                is_over: Arc::new(AtomicBool::new(false)),
                sent: if is_relay { Arc::default() } else { sent.clone() },
            };
            attack(attacker, &aim);
            let (disk, began) = (rendel.disk()?, Instant::now());
            let others = crowd(rendel.port(), &quiet, &players, 0.0, EDITS, slice);
            if is_relay {
                theirs.extend(others.await?.latencies);
            } else {
                let watching = watch(&rendel, &quiet, entered, slice);
                let (got, watched) = tokio::join!(others, watching);
                ours.extend(got?.latencies);
                let (most, came) = watched?;
                (peak, entered) = (peak.max(most), entered + came);
                minutes += began.elapsed().as_secs_f64() / 60.0;
            }
            written[usize::from(!is_relay)] += rendel.disk()?.saturating_sub(disk);
            aim.is_over.store(true, Ordering::Relaxed);
            // What is still on its way is no part of the next turn.
            tokio::time::sleep(Duration::from_secs(2)).await;
        }
        let name = format!("{attacker:?}").to_lowercase();
        eprintln!("  {} frames and calls, {entered} others entered", sent.load(Ordering::Relaxed));
        report.ratio(
            &format!("hostile {name}: p99 in ms among ten in another session"),
            percentile(&mut ours, 99),
            "the same sent to the bare relay",
            percentile(&mut theirs, 99),
            Goal::AtMost(2.0),
        );
        report.ratio(
            &format!("hostile {name}: median ms among ten in another session"),
            percentile(&mut ours, 50),
            "the same sent to the bare relay",
            percentile(&mut theirs, 50),
            Goal::None,
        );
        let grown = peak.saturating_sub(memory) as f64 / 1024.0;
        report.figure(
            &format!("hostile {name}: MiB by which the service grew"),
            grown,
            Goal::AtMost(256.0),
        );
        report.figure(
            &format!("hostile {name}: MB of tables and indexes a minute beyond the others'"),
            written[1].saturating_sub(written[0]) as f64 / 1e6 / minutes,
            Goal::AtMost(1.0),
        );
        relay.stop().await;
        rendel.stop().await;
    }
    Ok(())
}

/// Lets others enter every two seconds; gives the most KiB that the service held, and how many
/// entered.
async fn watch(rendel: &Rendel, session: &str, before: u64, time: Duration) -> Result<(u64, u64)> {
    let until = Instant::now() + time;
    let (mut peak, mut entered) = (0, 0);
    while Instant::now() < until {
        peak = peak.max(rendel.memory()?);
        let token =
            rendel.token_as(session, &format!("late-{}", before + entered), "participant").await?;
        let url = format!("ws://127.0.0.1:{}/v1/sessions/{session}/connect", rendel.port());
        let mut request = url.into_client_request()?;
        request.headers_mut().insert("Sec-WebSocket-Protocol", "rendel.v1.json".parse()?);
        let (mut socket, _) = tokio_tungstenite::connect_async(request).await?;
        let enter = json!({ "type": "enter", "token": token, "client": uuid::Uuid::now_v7() });
        socket.send(Message::text(enter.to_string())).await?;
        let first = socket.next().await.context("nobody answers")??;
        ensure!(first.to_text()?.contains("\"welcome\""), "{first}");
        entered += 1;
        tokio::time::sleep(Duration::from_secs(2)).await;
    }
    Ok((peak, entered))
}
