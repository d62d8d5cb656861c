//! Each limit has its problem and its metric, and what is beyond it changes nothing.

use std::net::SocketAddr;

use serde_json::{Value, json};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpSocket, TcpStream};

use crate::harness::{Raw, Service, name, until};

const CHARTER: &str = r#"
charter = "tight"
version = 1
[session]
participants = 2
[limits]
frame = "2KiB"
state = "4KiB"
edits = 3
proposals-per-second = 5
[state.heads]
kind = "counter"
[state.notes]
kind = "text"
"#;

fn add(count: usize) -> Value {
    json!(vec![json!({ "at": "/heads", "op": "add", "by": 1 }); count])
}

async fn tight(settings: &[(&str, &str)]) -> Service {
    let service = Service::start_with(settings).await;
    service.publish(CHARTER).await;
    service.open("tight", json!({})).await;
    service
}

async fn counted(service: &Service, limit: &str) -> f64 {
    service.metric(&format!("rendel_limited_total{{limit=\"{limit}\"}}")).await
}

#[tokio::test]
async fn what_one_participant_sends_is_bounded() {
    let service = tight(&[]).await;
    let token = service.token("tight", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "tight", &token).await;
    oda.propose(add(4)).await;
    assert_eq!(name(&oda.answer().await.unwrap_err()), "too-large");
    let wide = json!([{ "at": "/notes", "op": "splice", "index": 0, "insert": "x".repeat(1_500) }]);
    oda.propose(wide.clone()).await;
    oda.answer().await.unwrap();
    for path in ["/v1/sessions/tight/proposals"; 2] {
        service.post(path, &json!({ "edits": wide })).await;
    }
    assert_eq!(
        name(
            &service
                .post("/v1/sessions/tight/proposals", &json!({ "edits": wide }))
                .await
                .json()
                .await
                .unwrap()
        ),
        "too-large"
    );
    let body = json!({ "edits": [{ "at": "/notes", "op": "splice", "index": 0, "insert": "x".repeat(4_000) }] });
    assert_eq!(service.post("/v1/sessions/tight/proposals", &body).await.status(), 413);
    // All of them are on their way before the first is answered.
    for _ in 0..200 {
        oda.propose(add(1)).await;
    }
    let problem = oda.next("refused").await["problem"].clone();
    assert_eq!(
        (name(&problem), &problem["limit"]),
        ("too-fast".into(), &json!("proposals-per-second"))
    );
    oda.send_text(&format!("{{\"type\":\"ping\",\"sent\":1,\"x\":\"{}\"}}", "x".repeat(3_000)))
        .await;
    assert_eq!(oda.bye().await.0, "too-large");
    for limit in ["edits", "state", "proposals-per-second", "frame"] {
        assert!(counted(&service, limit).await >= 1.0, "{limit}");
    }
}

/// A frame that is begun and says that it is `length` bytes long, as a browser would never send it.
async fn begin_frame(raw: &mut Raw, length: u64, sent: usize) {
    use tokio::io::AsyncWriteExt as _;
    let tokio_tungstenite::MaybeTlsStream::Plain(stream) = raw.socket.get_mut() else {
        panic!("no plain socket")
    };
    // A text frame (RFC 6455, section 5.2) with a length of 64 bits and a mask of zeros.
    let mut bytes = vec![0x81, 0xff];
    bytes.extend(length.to_be_bytes());
    bytes.extend([0; 4]);
    bytes.extend(vec![b' '; sent]);
    stream.write_all(&bytes).await.unwrap();
}

async fn send_parts(raw: &mut Raw, parts: usize, bytes: usize) {
    use futures_util::SinkExt as _;
    use tokio_tungstenite::tungstenite::Message;
    use tokio_tungstenite::tungstenite::protocol::frame::Frame;
    use tokio_tungstenite::tungstenite::protocol::frame::coding::{Data, OpCode};
    for part in 0..parts {
        let kind = OpCode::Data(if part == 0 { Data::Text } else { Data::Continue });
        let frame = Frame::message(vec![b' '; bytes], kind, false);
        if raw.socket.send(Message::Frame(frame)).await.is_err() {
            return;
        }
    }
}

#[tokio::test]
async fn a_frame_is_refused_while_it_is_read_before_and_after_entering() {
    let service = tight(&[]).await;
    let token = service.token("tight", "oda", "participant").await;
    for has_entered in [false, true] {
        // No more is sent than what shows that it is too large: the end of the frame never comes.
        let limit = if has_entered { 2 << 10 } else { 64 << 10 };
        let open = async || match has_entered {
            false => Raw::connect(&service, "tight").await,
            true => Raw::enter(&service, "tight", &token).await.0,
        };
        let mut declared = open().await;
        begin_frame(&mut declared, 1 << 40, limit + 100).await;
        assert_eq!(declared.bye().await, ("too-large".to_owned(), 4006));
        let mut in_parts = open().await;
        send_parts(&mut in_parts, limit / 16 + 2, 16).await;
        assert_eq!(in_parts.bye().await, ("too-large".to_owned(), 4006));
        let mut within = open().await;
        send_parts(&mut within, 20, 16).await;
        within.socket.close(None).await.unwrap();
    }
}

#[tokio::test]
async fn what_a_refusal_tells_and_leaves_behind_is_small() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let token = service.token("slope-plan", "lucjan", "viewer").await;
    let (mut lucjan, _) = Raw::enter(&service, "slope-plan", &token).await;
    let long = "w".repeat(50_000);
    let edits = [
        json!([{ "at": "", "op": "test", "value": 1 }]),
        json!([{ "at": format!("/{long}"), "op": "test", "value": 1 }]),
        json!([{ "at": "/title", "op": long, "value": 1 }]),
    ];
    for edits in edits {
        lucjan.propose(edits).await;
        let problem = lucjan.answer().await.unwrap_err();
        assert!(problem.to_string().len() < 80_000, "{}", problem.to_string().len());
    }
    assert_eq!(service.sql("SELECT count(*), max(length(problem)) < 8000 FROM refusals"), "3|t");
}

#[tokio::test]
async fn a_document_that_grows_or_may_not_change_anything_is_refused_before_it_costs_anybody() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let tokens = [
        service.token("slope-plan", "lucjan", "viewer").await,
        service.token("slope-plan", "oda", "picker").await,
    ];
    let patch = async |token: &str, kind: &str, body: String| {
        let call = service
            .http
            .patch(format!("{}/v1/sessions/slope-plan/state", service.server))
            .bearer_auth(token);
        let answer = call.header("Content-Type", kind).body(body).send().await.unwrap();
        (answer.status().as_u16(), name(&answer.json().await.unwrap()))
    };
    // Thirty of these filled eight gigabytes: each copies the whole into itself.
    let copies: Vec<_> =
        (0..40).map(|n| json!({ "op": "copy", "from": "", "path": format!("/k{n}") })).collect();
    let copies = json!(copies).to_string();
    let before = service.memory();
    let json_patch = "application/json-patch+json";
    assert_eq!(
        patch(&tokens[0], json_patch, copies.clone()).await,
        (403, "not-allowed".to_owned())
    );
    assert_eq!(patch(&tokens[1], json_patch, copies).await, (413, "too-large".to_owned()));
    // Not even looked at: it is no document, and may not be one.
    assert_eq!(
        patch(&tokens[0], json_patch, "{".to_owned()).await,
        (403, "not-allowed".to_owned())
    );
    assert!(service.memory() < before + 200_000, "{} kB more", service.memory() - before);
    let frozen = service
        .request(reqwest::Method::POST, "/v1/sessions/slope-plan/freeze")
        .send()
        .await
        .unwrap();
    assert_eq!(frozen.status(), 200);
    let merge = "application/merge-patch+json";
    assert_eq!(
        patch(&tokens[1], merge, r#"{"notes":"x"}"#.to_owned()).await,
        (409, "frozen".to_owned())
    );
}

#[tokio::test]
async fn how_many_come_is_bounded() {
    let service = tight(&[
        ("RENDEL_CONNECTIONS_PER_PARTICIPANT", "2"),
        ("RENDEL_CONNECTIONS_PER_ADDRESS", "4"),
        ("RENDEL_SESSIONS", "2"),
    ])
    .await;
    let tokens = [
        service.token("tight", "oda", "participant").await,
        service.token("tight", "bram", "participant").await,
        service.token("tight", "wren", "participant").await,
    ];
    let enter = async |token: &str| {
        let mut raw = Raw::connect(&service, "tight").await;
        raw.send(&json!({ "type": "enter", "token": token, "client": raw.client })).await;
        raw
    };
    let (mut first, mut second) = (enter(&tokens[0]).await, enter(&tokens[0]).await);
    first.next("welcome").await;
    second.next("welcome").await;
    assert_eq!(enter(&tokens[0]).await.bye().await.0, "crowded");
    assert_eq!(counted(&service, "connections_per_participant").await, 1.0);
    let mut third = enter(&tokens[1]).await;
    third.next("welcome").await;
    assert_eq!(enter(&tokens[2]).await.bye().await.0, "crowded");
    assert_eq!(counted(&service, "participants").await, 1.0);
    let _fourth = Raw::connect(&service, "tight").await;
    let events = service.get("/v1/sessions/tight/events").await;
    assert_eq!(
        (events.status().as_u16(), name(&events.json().await.unwrap())),
        (503, "crowded".into())
    );
    assert_eq!(counted(&service, "connections_per_address").await, 1.0);
    service.open_as("second", "tight", json!({})).await;
    service.open_as("third", "tight", json!({})).await;
    assert_eq!(service.get("/v1/sessions/second/state").await.status(), 200);
    let beyond = service.get("/v1/sessions/third/state").await;
    assert_eq!(
        (beyond.status().as_u16(), name(&beyond.json().await.unwrap())),
        (503, "crowded".into())
    );
    assert_eq!(counted(&service, "sessions").await, 1.0);
}

/// What the page of limits says of each, by its name: the default and who sets it.
fn page_of_limits() -> std::collections::BTreeMap<String, (String, String)> {
    let rows =
        include_str!("../../../../docs/limits.md").lines().filter(|line| line.starts_with("| `"));
    let cells =
        |row: &str| row.trim_matches('|').split('|').map(str::trim).map(str::to_owned).collect();
    let rows = rows.map(cells).filter(|cells: &Vec<String>| cells.len() == 6);
    rows.map(|cells| {
        let name = cells[0].trim_matches('`').to_owned();
        (name, (cells[2].replace(',', ""), cells[3].trim_matches('`').to_owned()))
    })
    .collect()
}

#[test]
fn the_page_of_limits_names_each_and_says_its_default() {
    let page = page_of_limits();
    let mut named = std::collections::BTreeSet::new();
    let mut folders = vec![std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("..")];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() && !path.ends_with("tests") && !path.ends_with("target") {
                folders.push(path);
            } else if path.extension().is_some_and(|kind| kind == "rs") {
                let text = std::fs::read_to_string(&path).unwrap();
                let told = text.split("with(\"limit\", \"").skip(1);
                named.extend(told.map(|rest| rest.split('"').next().unwrap().to_owned()));
            }
        }
    }
    // Those whose name the place that counts them is given.
    for given in [
        "connections_per_address",
        "calls-per-address",
        "calls-per-participant",
        "words-per-second",
        "answer-bytes",
        "answer-bytes-per-address",
        "answer-bytes-per-participant",
    ] {
        named.insert(given.to_owned());
    }
    assert!(named.len() > 15, "{named:?}");
    assert_eq!(page.keys().cloned().collect::<std::collections::BTreeSet<_>>(), named);

    let listen = std::net::SocketAddr::from(([127, 0, 0, 1], 0));
    let config =
        rendel_service::Config::new(listen, String::new(), rendel_service::ServiceKey::generate());
    let limits = rendel_core::Limits::default();
    for (name, default) in [
        ("calls-per-address", u64::from(config.calls_per_address)),
        ("calls-per-participant", u64::from(config.calls_per_participant)),
        ("answer-bytes-per-participant", config.answer_bytes.participant),
        ("answer-bytes-per-address", config.answer_bytes.address),
        ("answer-bytes", config.answer_bytes.all),
        ("connections_per_address", config.connections_per_address as u64),
        ("connections_per_participant", u64::from(config.connections_per_participant)),
        ("guests_per_address", config.guests_per_address as u64),
        ("sessions", config.sessions as u64),
        ("queue", config.queue.frames as u64),
        ("body", config.import_bytes as u64),
        ("proposals-per-second", u64::from(limits.proposals_per_second)),
        ("frame", limits.frame as u64),
        ("state", limits.state),
        ("edits", limits.edits as u64),
        ("participants", rendel_core::SessionRules::default().participants as u64),
        ("holds", rendel_core::HoldRules::default().most as u64),
    ] {
        assert_eq!(page[name].0, default.to_string(), "{name}");
    }
    let operations = include_str!("../../../../docs/operations.md");
    let settings = page.values().map(|(_, set_by)| set_by).filter(|set_by| !set_by.is_empty());
    for setting in
        settings.filter(|set_by| *set_by != "charter").flat_map(|set_by| set_by.split("`, `"))
    {
        assert!(operations.contains(&format!("`{setting}`")), "{setting}");
    }
}

#[tokio::test]
async fn calls_of_one_participant_cost_what_is_left_and_others_go_on() {
    let service = tight(&[("RENDEL_CALLS_PER_PARTICIPANT", "10")]).await;
    let oda = service.token("tight", "oda", "participant").await;
    let bram = service.token("tight", "bram", "participant").await;
    let read = async |token: &str, path: &str| {
        let url = format!("{}/v1/sessions/tight/{path}", service.server);
        service.http.get(url).bearer_auth(token).send().await.unwrap()
    };
    // A bucket holds ten seconds of its rate, and differences cost ten.
    let mut refused = loop {
        let answer = read(&oda, "diff?from=0").await;
        if answer.status() != 200 {
            break answer;
        }
    };
    assert_eq!(refused.status(), 429);
    assert!(refused.headers()["retry-after"].to_str().unwrap().parse::<u64>().unwrap() >= 1);
    let problem: Value = serde_json::from_slice(&refused.chunk().await.unwrap().unwrap()).unwrap();
    assert_eq!(
        (name(&problem), &problem["limit"]),
        ("too-fast".into(), &json!("calls-per-participant"))
    );
    assert!(counted(&service, "calls-per-participant").await >= 1.0);
    assert_eq!(read(&bram, "state").await.status(), 200);
    assert_eq!(
        service.get("/v1/sessions/tight/diff?from=0").await.status(),
        200,
        "nor the backend"
    );
}

#[tokio::test]
async fn an_address_that_tries_keys_and_codes_is_slowed_down_and_the_backend_is_not() {
    let service = tight(&[("RENDEL_CALLS_PER_ADDRESS", "10")]).await;
    let url = format!("{}/v1/console/sign-in", service.server);
    let mut tries = 0;
    let refused = loop {
        let answer =
            service.http.post(&url).json(&json!({ "key": "k".repeat(40) })).send().await.unwrap();
        if answer.status() == 429 {
            break answer;
        }
        assert_eq!(answer.status(), 401);
        tries += 1;
    };
    assert!((1..10).contains(&tries), "{tries}");
    assert_eq!(name(&refused.json().await.unwrap()), "too-fast");
    let right = service.http.post(&url).json(&json!({ "key": service.key })).send().await.unwrap();
    assert_eq!(right.status(), 429, "a right one is not told from a wrong one by then");
    assert_eq!(service.get("/v1/sessions").await.status(), 200);
    let audit: Value = service.get("/v1/audit").await.json().await.unwrap();
    let failed = audit["entries"].as_array().unwrap().iter();
    let failed = failed.filter(|entry| entry["what"] == "failed to sign in to the console");
    assert_eq!(failed.count(), tries);
}

#[tokio::test]
async fn a_stranger_brings_no_session_into_memory() {
    let service = tight(&[]).await;
    let before = service.metric("rendel_sessions").await;
    let mut stranger = Raw::connect(&service, "tight").await;
    stranger.send(&json!({ "type": "enter", "client": stranger.client })).await;
    assert_eq!(stranger.bye().await.0, "no-token");
    assert_eq!(service.metric("rendel_sessions").await, before);
}

#[tokio::test]
async fn the_operations_page_names_every_setting_and_every_metric() {
    let page = include_str!("../../../../docs/operations.md");
    let service = tight(&[]).await;
    std::fs::write(service.path("wrong.toml"), "nothing = 1\n").unwrap();
    let refused = service.rendel(&["serve", "--config", "wrong.toml"]);
    let told = String::from_utf8_lossy(&refused.stderr).into_owned();
    let names =
        told.split("they are ").nth(1).unwrap().split([':', '\n']).next().unwrap().to_owned();
    let names: Vec<&str> = names.split(", ").collect();
    assert!(names.len() > 25, "{told}");
    for name in names {
        assert!(page.contains(&format!("`{name}`")), "the setting {name}");
    }
    let made_up = reqwest::Method::from_bytes(b"PLANT").unwrap();
    assert_eq!(service.request(made_up, "/v1/sessions").send().await.unwrap().status(), 405);
    let metrics = service.get("/metrics").await.text().await.unwrap();
    assert!(metrics.contains("method=\"other\"") && !metrics.contains("PLANT"), "{metrics}");
    let families = metrics.lines().filter_map(|line| line.strip_prefix("# TYPE ")?.split_once(' '));
    let families: Vec<(&str, &str)> = families.collect();
    assert!(families.len() > 20, "{}", families.len());
    for (family, kind) in families {
        let end = match kind {
            "counter" => "_total",
            "info" => "_info",
            _ => "",
        };
        assert!(page.contains(&format!("`{family}{end}")), "the metric {family}{end}");
    }
}

#[tokio::test]
async fn a_service_that_drains_goes_on_and_is_not_ready_and_its_probes_may_stand_apart() {
    let port = crate::harness::free_port();
    let probes = format!("http://127.0.0.1:{port}");
    let listen = format!("127.0.0.1:{port}");
    let mut service = tight(&[("RENDEL_DRAIN_MS", "1500"), ("RENDEL_PROBE_LISTEN", &listen)]).await;
    let probe = async |path: &str| {
        service.http.get(format!("{probes}{path}")).send().await.unwrap().status().as_u16()
    };
    assert_eq!(
        (probe("/readyz").await, probe("/metrics").await, probe("/v1/sessions").await),
        (200, 200, 404)
    );
    assert_ne!(
        service.get("/metrics").await.headers()["content-type"],
        "application/openmetrics-text; version=1.0.0; charset=utf-8"
    );
    let token = service.token("tight", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "tight", &token).await;
    service.begin_to_terminate();
    crate::harness::until("it is not ready", async || {
        (probe("/readyz").await == 503).then_some(())
    })
    .await;
    oda.propose(add(1)).await;
    oda.answer().await.expect("it goes on meanwhile");
    assert_eq!(oda.bye().await.0, "shutting-down");
    assert!(service.terminate().success());
}

/// Asks for a state over a connection of its own, and reads no more than the first bytes.
async fn ask_and_wait(service: &Service, token: &str, small: bool) -> (TcpStream, String) {
    let at: SocketAddr = service.server.strip_prefix("http://").unwrap().parse().unwrap();
    let socket = TcpSocket::new_v4().unwrap();
    if small {
        socket.set_recv_buffer_size(4_096).unwrap();
    }
    let mut stream = socket.connect(at).await.unwrap();
    let asked = format!(
        "GET /v1/sessions/large/state HTTP/1.1\r\nHost: {at}\r\nAuthorization: Bearer {token}\r\n\
         Connection: close\r\n\r\n"
    );
    stream.write_all(asked.as_bytes()).await.unwrap();
    let mut head = vec![0; 12];
    stream.read_exact(&mut head).await.unwrap();
    (stream, String::from_utf8(head).unwrap())
}

/// The kernel takes some megabytes of an answer that nobody reads; the service keeps the rest.
#[tokio::test]
async fn answers_that_nobody_reads_are_bounded_and_count_until_they_are_read() {
    let mebibytes = |count: u64| (count << 20).to_string();
    let service = Service::start_with(&[
        ("RENDEL_ANSWER_BYTES_PER_PARTICIPANT", &mebibytes(20)),
        ("RENDEL_ANSWER_BYTES_PER_ADDRESS", &mebibytes(30)),
    ])
    .await;
    let charter = "charter = \"large\"\nversion = 1\n[limits]\nstate = \"16MiB\"\n\
        [state.notes]\nkind = \"register\"\n";
    service.publish(charter).await;
    service.open("large", json!({ "notes": "pear ".repeat(2_700_000) })).await;
    let oda = service.token("large", "oda", "participant").await;
    let (mut first, head) = ask_and_wait(&service, &oda, true).await;
    assert_eq!(head, "HTTP/1.1 200");
    let before = service.memory();
    for _ in 0..40 {
        let (mut other, head) = ask_and_wait(&service, &oda, true).await;
        assert_eq!(head, "HTTP/1.1 429");
        let mut rest = String::new();
        other.read_to_string(&mut rest).await.unwrap();
        assert!(rest.contains("answer-bytes-per-participant") && rest.contains("retry-after: 1"));
    }
    assert!(service.memory() < before + (16 << 10), "what is refused costs nothing");
    // Somebody else has their own, until their address has what it may have.
    let bram = service.token("large", "bram", "participant").await;
    let (second, head) = ask_and_wait(&service, &bram, true).await;
    assert_eq!(head, "HTTP/1.1 200");
    let wren = service.token("large", "wren", "participant").await;
    let (mut third, head) = ask_and_wait(&service, &wren, true).await;
    assert_eq!(head, "HTTP/1.1 429");
    let mut rest = String::new();
    third.read_to_string(&mut rest).await.unwrap();
    assert!(rest.contains("answer-bytes-per-address"), "{rest}");
    // The backend is not bounded by either.
    assert_eq!(service.get("/v1/sessions/large/state").await.status(), 200);
    // Who reads theirs, or goes away, may ask again.
    let mut whole = Vec::new();
    first.read_to_end(&mut whole).await.unwrap();
    assert!(whole.len() > 13_500_000, "{}", whole.len());
    drop(second);
    until("there is space again", async || {
        let (_, head) = ask_and_wait(&service, &oda, false).await;
        (head == "HTTP/1.1 200").then_some(())
    })
    .await;
    let limit = "rendel_limited_total{limit=\"answer-bytes-per-participant\"}";
    assert!(service.metric(limit).await >= 40.0);
}
