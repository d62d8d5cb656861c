//! Each limit has its problem and its metric, and what is beyond it changes nothing.

use serde_json::{Value, json};

use crate::harness::{Raw, Service, name};

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
    let mut problem = None;
    for _ in 0..200 {
        oda.propose(add(1)).await;
        problem = oda.answer().await.err().or(problem);
    }
    let problem = problem.expect("more at once than in twenty seconds are too fast");
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
    assert_eq!(enter(&tokens[0]).await.bye().await.0, "full");
    assert_eq!(counted(&service, "connections_per_participant").await, 1.0);
    let mut third = enter(&tokens[1]).await;
    third.next("welcome").await;
    assert_eq!(enter(&tokens[2]).await.bye().await.0, "full");
    assert_eq!(counted(&service, "participants").await, 1.0);
    let _fourth = Raw::connect(&service, "tight").await;
    let events = service.get("/v1/sessions/tight/events").await;
    assert_eq!(
        (events.status().as_u16(), name(&events.json().await.unwrap())),
        (409, "full".into())
    );
    assert_eq!(counted(&service, "connections_per_address").await, 1.0);
    service.open_as("second", "tight", json!({})).await;
    service.open_as("third", "tight", json!({})).await;
    assert_eq!(service.get("/v1/sessions/second/state").await.status(), 200);
    let beyond = service.get("/v1/sessions/third/state").await;
    assert_eq!(
        (beyond.status().as_u16(), name(&beyond.json().await.unwrap())),
        (409, "full".into())
    );
    assert_eq!(counted(&service, "sessions").await, 1.0);
}
