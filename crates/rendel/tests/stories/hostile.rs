//! Somebody who sends all that they can, as fast as they can, and who is bothered by it.

use std::net::{IpAddr, SocketAddr};

use futures_util::{SinkExt as _, StreamExt as _};
use rand::rngs::StdRng;
use rand::{Rng as _, SeedableRng as _};
use reqwest::Method;
use serde_json::{Value, json};
use tokio::net::{TcpSocket, TcpStream};
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::client::IntoClientRequest as _;
use uuid::Uuid;

use crate::harness::{Raw, Service, seed};

const CHARTER: &str = r#"
charter = "gate"
version = 1
[session]
guests = "picker"
[limits]
proposals-per-second = 5
[presence]
rate = 1
[presence.fields]
pointer = {}
[holds]
[cues.bell]
to = "everyone"
rate = 3
[roles.picker]
edit = ["/**"]
[state.heads]
kind = "counter"
[state.title]
kind = "register"
merge = "unchanged"
[state.notes]
kind = "text"
"#;

/// Frames that each attacker sends over a connection, and calls over HTTP.
const FRAMES: usize = 20_000;
const CALLS: usize = 1_500;
/// Where they come from. Everybody else comes from another address.
const ATTACKERS: [u8; 4] = [127, 0, 0, 2];
/// Kilobytes by which the service may grow: what four attackers may cost.
const GROWTH: u64 = 256 << 10;

/// A frame of an attacker: some are good, most are not.
fn frame(random: &mut StdRng, n: usize) -> String {
    let edits = match random.random_range(0..4) {
        0 => json!([{ "at": "/heads", "op": "add", "by": 1 }]),
        1 => json!([{ "at": "", "op": "test", "value": "x".repeat(1_000) }]),
        2 => json!(vec![json!({ "at": "/title", "op": "set", "value": n }); 200]),
        _ => json!([{ "at": "/notes", "op": "splice", "index": 0, "insert": "pear ".repeat(100) }]),
    };
    match random.random_range(0..12) {
        0..4 => json!({ "type": "propose", "n": n, "seen": 0, "answered": n - 1, "edits": edits }),
        4 => json!({ "type": "presence", "set": { "pointer": { "x": n, "y": 1 } } }),
        5 => json!({ "type": "ping", "sent": n }),
        6 => json!({ "type": "digest", "seq": n, "sha256": "0".repeat(64) }),
        7 => json!({ "type": "hold", "n": n, "at": "/title" }),
        8 => json!({ "type": "release", "n": n, "at": "/notes" }),
        9 => json!({ "type": "cue", "n": n, "name": "bell" }),
        10 => json!({ "type": "renew", "n": n, "token": "x".repeat(500) }),
        _ => return format!("{}{}", "[".repeat(2_000), "]".repeat(2_000)),
    }
    .to_string()
}

/// Connects from the attackers' address; `None` if that is refused.
async fn connect(server: &str) -> Option<WebSocketStream<TcpStream>> {
    let at: SocketAddr = server.strip_prefix("http://").unwrap().parse().unwrap();
    let socket = TcpSocket::new_v4().unwrap();
    socket.bind(SocketAddr::from((ATTACKERS, 0))).unwrap();
    let stream = socket.connect(at).await.unwrap();
    let mut request = format!("ws://{at}/v1/sessions/gate/connect").into_client_request().unwrap();
    request.headers_mut().insert("Sec-WebSocket-Protocol", "rendel.v1.json".parse().unwrap());
    tokio_tungstenite::client_async(request, stream).await.ok().map(|(socket, _)| socket)
}

/// Sends frames at full speed, coming back whenever the connection is ended.
async fn flood(server: String, token: Option<String>, seed: u64) {
    let mut random = StdRng::seed_from_u64(seed);
    let mut sent = 0;
    while sent < FRAMES {
        let Some(socket) = connect(&server).await else {
            // Even attackers are told how long to wait, and may ask again at once.
            sent += 10;
            continue;
        };
        let (mut out, mut back) = socket.split();
        // What comes back is read, so that nothing waits for it.
        let reading = tokio::spawn(async move { while let Some(Ok(_)) = back.next().await {} });
        let enter = json!({ "type": "enter", "token": token, "client": Uuid::now_v7() });
        let mut is_open = out.send(Message::text(enter.to_string())).await.is_ok();
        while is_open && sent < FRAMES && !reading.is_finished() {
            sent += 1;
            is_open = out.send(Message::text(frame(&mut random, sent))).await.is_ok();
        }
        sent += 1;
        reading.abort();
    }
}

/// Calls at full speed.
async fn call(server: String, token: String) -> [usize; 2] {
    let http = reqwest::Client::builder().no_proxy().local_address(IpAddr::from(ATTACKERS));
    let http = http.build().unwrap();
    let mut counts = [0; 2];
    for at in 0..CALLS {
        let session = format!("{server}/v1/sessions/gate");
        let request = match at % 8 {
            0 => http.post(format!("{session}/tickets")),
            1 => http.get(format!("{session}/diff?from=0")),
            2 => http.get(format!("{session}/state?at=0")),
            3 => http.get(format!("{session}/journal")),
            4 => {
                http.post(format!("{server}/v1/invitations/accepted")).json(&json!({ "code": "x" }))
            }
            5 => http.post(format!("{server}/v1/console/sign-in")).json(&json!({ "key": "x" })),
            6 => http.request(Method::PATCH, format!("{session}/state")).body("[".repeat(60_000)),
            _ => http.post(format!("{session}/cues")).json(&json!({ "name": "bell" })),
        };
        let status = request.bearer_auth(&token).send().await.unwrap().status().as_u16();
        assert!(status < 500, "{at}: {status}");
        counts[usize::from(status == 429)] += 1;
    }
    counts
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whoever_sends_all_they_can_costs_little_and_stops_nobody() {
    let seed = seed();
    // So little is allowed that a slow machine sends more, too.
    let service = Service::start_with(&[("RENDEL_CALLS_PER_PARTICIPANT", "10")]).await;
    service.publish(CHARTER).await;
    service.open("gate", json!({})).await;
    service.open_as("slope", "gate", json!({})).await;
    let token = service.token("slope", "bram", "picker").await;
    let (mut bram, _) = Raw::enter(&service, "slope", &token).await;
    let before = service.memory();
    let one = service.token("gate", "oda", "picker").await;
    let mut attacks = Vec::new();
    for (attacker, token) in [(0, Some(one.clone())), (1, Some(one.clone())), (2, None)] {
        let flood = flood(service.server.clone(), token, seed + attacker);
        attacks.push(tokio::spawn(flood));
    }
    let calling = tokio::spawn(call(service.server.clone(), one));
    // Meanwhile somebody in another session goes on, and others come.
    let mut settled = 0;
    while settled <= 50
        || attacks.iter().any(|attack| !attack.is_finished())
        || !calling.is_finished()
    {
        bram.propose(json!([{ "at": "/heads", "op": "add", "by": 1 }])).await;
        if let Err(problem) = bram.answer().await {
            assert_eq!(crate::harness::name(&problem), "too-fast");
            let wait = problem["wait_ms"].as_u64().unwrap();
            tokio::time::sleep(std::time::Duration::from_millis(wait)).await;
            bram.n -= 1;
            continue;
        }
        settled += 1;
        if settled % 50 == 0 {
            let wren = service.token("slope", &format!("wren-{settled}"), "picker").await;
            let (_, welcome) = Raw::enter(&service, "slope", &wren).await;
            assert_eq!(welcome["seq"], settled);
        }
    }
    for attack in attacks {
        attack.await.unwrap();
    }
    let [answered, refused] = calling.await.unwrap();
    assert!(answered > 0 && refused > 0, "{answered} and {refused}");
    let grown = service.memory().saturating_sub(before);
    eprintln!("{settled} settled beside it; the service grew by {grown} KB");
    assert!(grown < GROWTH, "{grown} KB");
    let heads = service.state("slope").await["heads"].clone();
    assert_eq!(heads, settled);
    for limit in ["proposals-per-second", "words-per-second", "calls-per-participant"] {
        let counted = service.metric(&format!("rendel_limited_total{{limit=\"{limit}\"}}")).await;
        assert!(counted > 0.0, "{limit}");
    }
    assert_eq!(service.metric("rendel_session_panics_total").await, 0.0);
    let rows: u64 = service.sql("SELECT count(*) FROM refusals").parse().unwrap();
    let noted: u64 = service.sql("SELECT count(*) FROM audit").parse().unwrap();
    assert!(rows <= 8_192 && noted < 1_000, "{rows} refusals and {noted} notes are stored");
    let state: Value = service.state("gate").await;
    assert!(state["heads"].as_u64().is_some_and(|heads| heads > 0), "what was good took effect");
}
