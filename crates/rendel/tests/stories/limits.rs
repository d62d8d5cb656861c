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
        name(&service.post("/v1/sessions/tight/proposals", &json!({ "edits": wide })).await.json().await.unwrap()),
        "too-large"
    );
    let body = json!({ "edits": [{ "at": "/notes", "op": "splice", "index": 0, "insert": "x".repeat(4_000) }] });
    assert_eq!(service.post("/v1/sessions/tight/proposals", &body).await.status(), 413);
    let mut problem = None;
    for _ in 0..10 {
        oda.propose(add(1)).await;
        problem = oda.answer().await.err().or(problem);
    }
    let problem = problem.expect("ten at once are too fast");
    assert_eq!((name(&problem), &problem["limit"]), ("too-fast".into(), &json!("proposals-per-second")));
    oda.send_text(&format!("{{\"type\":\"ping\",\"sent\":1,\"x\":\"{}\"}}", "x".repeat(3_000))).await;
    assert_eq!(oda.bye().await.0, "too-large");
    for limit in ["edits", "state", "proposals-per-second", "frame"] {
        assert!(counted(&service, limit).await >= 1.0, "{limit}");
    }
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
    assert_eq!((events.status().as_u16(), name(&events.json().await.unwrap())), (409, "full".into()));
    assert_eq!(counted(&service, "connections_per_address").await, 1.0);
    service.open_as("second", "tight", json!({})).await;
    service.open_as("third", "tight", json!({})).await;
    assert_eq!(service.get("/v1/sessions/second/state").await.status(), 200);
    let beyond = service.get("/v1/sessions/third/state").await;
    assert_eq!((beyond.status().as_u16(), name(&beyond.json().await.unwrap())), (409, "full".into()));
    assert_eq!(counted(&service, "sessions").await, 1.0);
}
