//! Bad input: each has its problem, and changes nothing.

use futures_util::SinkExt as _;
use rand::rngs::StdRng;
use rand::seq::IndexedRandom as _;
use rand::{Rng as _, SeedableRng as _};
use serde_json::{Value, json};
use tokio_tungstenite::tungstenite::Message;

use crate::harness::{Raw, Service, name, seed, until};

#[tokio::test]
async fn a_frame_that_is_not_understood_is_told_and_the_connection_goes_on() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let token = service.token("headcount", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "headcount", &token).await;
    let deep = format!(
        "{{\"type\":\"propose\",\"n\":1,\"seen\":0,\"edits\":[{}{}]}}",
        "[".repeat(63),
        "]".repeat(63)
    );
    let table = [
        ("broken JSON", "{".to_owned(), "malformed"),
        ("no object", "[]".to_owned(), "malformed"),
        ("unknown frame", json!({ "type": "propsoe" }).to_string(), "malformed"),
        ("no type", json!({}).to_string(), "malformed"),
        (
            "unknown member",
            json!({ "type": "ping", "sent": 1, "snet": 2 }).to_string(),
            "malformed",
        ),
        (
            "entering twice",
            json!({ "type": "enter", "client": oda.client }).to_string(),
            "malformed",
        ),
        ("an infinite number", "{\"type\":\"ping\",\"sent\":1e999}".to_owned(), "malformed"),
        ("65 levels", deep, "too-deep"),
    ];
    for (what, text, kind) in table {
        oda.send_text(&text).await;
        assert_eq!(name(&oda.next("notice").await["problem"]), kind, "{what}");
    }
    let table = [
        (json!([{ "at": "/haeds", "op": "add", "by": 1 }]), "unknown-path", Some("/heads")),
        (json!([{ "at": "/heads", "op": "addd", "by": 1 }]), "unknown-op", Some("add")),
        (json!([{ "at": "/heads", "op": "add", "by": "1" }]), "wrong-type", None),
        (
            json!([{ "at": "/heads", "op": "add", "by": 9_007_199_254_740_993u64 }]),
            "out-of-bounds",
            None,
        ),
        (json!([{ "at": "/heads", "op": "add", "by": -42 }]), "out-of-bounds", None),
        (json!([]), "malformed", None),
    ];
    for (edits, kind, meant) in table {
        oda.propose(edits.clone()).await;
        let problem = oda.answer().await.unwrap_err();
        assert_eq!(
            (name(&problem).as_str(), problem["did_you_mean"].as_str()),
            (kind, meant),
            "{edits}"
        );
    }
    oda.n += 1;
    oda.send(
        &json!({ "type": "propose", "n": oda.n, "seen": 99, "edits": [{ "at": "/heads", "op": "add", "by": 1 }] }),
    )
    .await;
    assert_eq!(name(&oda.answer().await.unwrap_err()), "from-the-future");
    assert_eq!(service.state("headcount").await, json!({ "heads": 41 }));
    oda.propose(json!([{ "at": "/heads", "op": "add", "by": 1 }])).await;
    assert_eq!(oda.answer().await.unwrap()["seq"], 1, "a refusal takes no place in the order");
}

#[tokio::test]
async fn what_cannot_go_on_ends_the_connection_with_its_problem() {
    let service = Service::start_with(&[("RENDEL_ENTER_WITHIN_MS", "500")]).await;
    service.open_demo("headcount").await;
    let token = service.token("headcount", "oda", "participant").await;

    let (mut oda, _) = Raw::enter(&service, "headcount", &token).await;
    oda.send_text(&format!("\"{}\"", "x".repeat(70_000))).await;
    assert_eq!(oda.bye().await, ("too-large".to_owned(), 4006));

    let (mut oda, _) = Raw::enter(&service, "headcount", &token).await;
    oda.socket.send(Message::binary(vec![1, 2, 3])).await.unwrap();
    assert_eq!(oda.bye().await.0, "malformed");

    let mut early = Raw::connect(&service, "headcount").await;
    early.send(&json!({ "type": "ping", "sent": 1 })).await;
    assert_eq!(early.bye().await.0, "malformed");

    let mut silent = Raw::connect(&service, "headcount").await;
    assert_eq!(silent.bye().await, ("silent".to_owned(), 4036));

    let mut lost = Raw::connect(&service, "headcuont").await;
    lost.send(&json!({ "type": "enter", "token": service.key, "client": lost.client })).await;
    assert_eq!(lost.bye().await, ("no-session".to_owned(), 4026));

    let (mut oda, _) = Raw::enter(&service, "headcount", &token).await;
    for _ in 0..65 {
        oda.send_text("{").await;
    }
    assert_eq!(oda.bye().await.0, "malformed", "who never makes sense is shown out");
}

#[tokio::test]
async fn invalid_utf_8_in_a_text_frame_is_malformed() {
    use tokio_tungstenite::tungstenite::protocol::frame::Frame;
    use tokio_tungstenite::tungstenite::protocol::frame::coding::{Data, OpCode};
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let token = service.token("headcount", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "headcount", &token).await;
    let frame = Frame::message(vec![b'"', 0xff, b'"'], OpCode::Data(Data::Text), true);
    oda.socket.send(Message::Frame(frame)).await.unwrap();
    assert_eq!(oda.bye().await.0, "malformed");
}

#[tokio::test]
async fn a_client_that_never_reads_is_cut_off_and_nobody_waits_for_it() {
    let service =
        Service::start_with(&[("RENDEL_QUEUE_FRAMES", "64"), ("RENDEL_QUEUE_BYTES", "65536")])
            .await;
    service
        .publish(
            "charter = \"busy\"\nversion = 1\n[limits]\nproposals-per-second = \
        100000\n[state.note]\nkind = \"register\"\n",
        )
        .await;
    service.open("busy", json!({})).await;
    let token = service.token("busy", "oda", "participant").await;
    let (asleep, _) = Raw::enter(&service, "busy", &token).await;
    let (mut oda, _) = Raw::enter(&service, "busy", &token).await;
    let note = "n".repeat(30_000);
    let mut settled = 0;
    until("the sleeper is cut off", async || {
        oda.propose(json!([{ "at": "/note", "op": "set", "value": note }])).await;
        oda.answer().await.unwrap();
        settled += 1;
        (service.metric("rendel_closed_total{problem=\"slow\"}").await > 0.0).then_some(())
    })
    .await;
    assert_eq!(service.journal("busy").await.len(), settled);
    drop(asleep);
}

#[tokio::test]
async fn who_proposes_too_fast_is_told_how_long_to_wait() {
    let service = Service::start().await;
    service
        .publish(
            "charter = \"slow\"\nversion = 1\n[limits]\nproposals-per-second = \
             1\n[state.heads]\nkind = \"counter\"\n",
        )
        .await;
    service.open("slow", json!({})).await;
    let token = service.token("slow", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "slow", &token).await;
    let mut refused = None;
    for _ in 0..100 {
        oda.propose(json!([{ "at": "/heads", "op": "add", "by": 1 }])).await;
        if let Err(problem) = oda.answer().await {
            refused = Some(problem);
            break;
        }
    }
    let problem = refused.expect("more at once than in twenty seconds are too fast");
    assert_eq!(name(&problem), "too-fast");
    assert!((1..=1_000).contains(&problem["wait_ms"].as_u64().unwrap()), "{problem}");
    assert!(problem["hint"].as_str().unwrap().contains("loop"), "{problem}");
    let url = format!("{}/v1/sessions/slow/proposals", service.server);
    let body = json!({ "edits": [{ "at": "/heads", "op": "add", "by": 1 }] });
    let mut statuses = Vec::new();
    for _ in 0..10 {
        statuses.push(
            service
                .http
                .post(&url)
                .bearer_auth(&token)
                .json(&body)
                .send()
                .await
                .unwrap()
                .status()
                .as_u16(),
        );
    }
    assert!(statuses.contains(&429), "calls over HTTP share the rate: {statuses:?}");
}

#[tokio::test]
async fn a_hundred_thousand_random_frames_leave_the_service_up_and_other_sessions_untouched() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    service.open_demo("slope-plan").await;
    let bystander = service.state("headcount").await;
    let token = service.token("slope-plan", "oda", "steward").await;
    let mut random = StdRng::seed_from_u64(seed());
    let mut sent = 0;
    let mut memory = 0;
    while sent < 100_000 {
        let (mut raw, _) = Raw::enter(&service, "slope-plan", &token).await;
        // Too many frames that make no sense end a connection; then there is another.
        for _ in 0..2_000 {
            let frame = random_frame(&mut random);
            sent += 1;
            if raw.socket.feed(Message::text(frame)).await.is_err() {
                break;
            }
        }
        let _ = raw.socket.flush().await;
        raw.drain().await;
        if sent > 20_000 && memory == 0 {
            memory = service.memory();
        }
    }
    assert_eq!(service.get("/readyz").await.status(), 200);
    assert_eq!(service.state("headcount").await, bystander);
    let after = service.memory();
    assert!(after < memory * 2, "memory grew from {memory} kB to {after} kB");
    let (mut oda, _) = Raw::enter(&service, "slope-plan", &token).await;
    let answer = until("the rate lets Oda propose", async || {
        oda.propose(json!([{ "at": "/title", "op": "set", "value": "South slope" }])).await;
        oda.answer().await.ok()
    })
    .await;
    assert_eq!(answer["effects"][0]["value"], "South slope");
}

/// Something between noise and a proposal that nearly makes sense.
fn random_frame(random: &mut StdRng) -> String {
    let text = match random.random_range(0..4) {
        0 => {
            return (0..random.random_range(0..80))
                .map(|_| random.random_range(' '..'~'))
                .collect();
        }
        1 => {
            json!({ "type": (["enter", "ping", "leave ", "settled", ""].choose(random).unwrap()), "sent": random.random::<i32>() })
        }
        _ => json!({
            "type": "propose",
            "n": random.random_range(0..1_000_000),
            "seen": random.random_range(0..3),
            "edits": (0..random.random_range(0..3)).map(|_| random_edit(random)).collect::<Vec<_>>(),
        }),
    };
    let mut text = text.to_string();
    if random.random_bool(0.2) {
        let at = random.random_range(0..text.len());
        text.replace_range(at..=at, ["\"", "{", "\u{1F34E}", "-", "9"].choose(random).unwrap());
    }
    text
}

fn random_edit(random: &mut StdRng) -> Value {
    let ats = [
        "/title",
        "/crates",
        "/markers",
        "/markers/ladder-1",
        "/markers/ladder-1/spot",
        "/markers/ladder-1/what",
        "",
        "/",
        "x",
    ];
    let ops = ["set", "clear", "add", "put", "drop", "test", "move", ""];
    let values = [
        json!(null),
        json!("ladder"),
        json!({ "x": 1, "y": 2 }),
        json!([[[]]]),
        json!(1e300),
        json!(-1),
        json!(true),
    ];
    json!({
        "at": ats.choose(random).unwrap(),
        "op": ops.choose(random).unwrap(),
        "value": values.choose(random).unwrap(),
        "by": values.choose(random).unwrap(),
        "id": values.choose(random).unwrap(),
    })
}
