//! Freezing, ending, resetting, carrying, resting, and looking into the past.

use std::fs;

use serde_json::{Value, json};

use crate::harness::{Raw, Service, name, until};

const ADD: &str = r#"[{"at":"/heads","op":"add","by":1}]"#;

fn add() -> Value {
    serde_json::from_str(ADD).unwrap()
}

async fn steer(service: &Service, session: &str, to: &str) -> (u16, Value) {
    let response = service.post(&format!("/v1/sessions/{session}/{to}"), &json!({})).await;
    (response.status().as_u16(), response.json().await.unwrap())
}

#[tokio::test]
async fn a_frozen_session_is_looked_at_and_an_ended_one_stays_ended() {
    let mut service = Service::start().await;
    service.open_demo("headcount").await;
    let token = service.token("headcount", "oda", "participant").await;
    let (mut oda, welcome) = Raw::enter(&service, "headcount", &token).await;
    assert_eq!(welcome["session"]["status"], "open");
    assert_eq!(steer(&service, "headcount", "freeze").await.1["status"], "frozen");
    assert_eq!(
        oda.next("status").await,
        json!({ "type": "status", "status": "frozen", "by": "service" })
    );
    oda.propose(add()).await;
    assert_eq!(name(&oda.answer().await.unwrap_err()), "frozen");
    assert_eq!(
        service.post("/v1/sessions/headcount/proposals", &json!({ "edits": add() })).await.status(),
        200,
        "the backend may mend it"
    );
    // It stays so over a restart, and the refusal is the proposal's outcome for good.
    service.kill();
    service.launch();
    let (mut back, welcome) = Raw::enter(&service, "headcount", &token).await;
    assert_eq!(welcome["session"]["status"], "frozen");
    assert_eq!(steer(&service, "headcount", "thaw").await.0, 200);
    assert_eq!(back.next("status").await["status"], "open");
    back.propose(add()).await;
    back.answer().await.unwrap();
    assert_eq!(steer(&service, "headcount", "end").await.1["status"], "ended");
    assert_eq!(back.bye().await, ("ended".to_owned(), 4025));
    for to in ["freeze", "thaw", "reset"] {
        assert_eq!((steer(&service, "headcount", to).await.0, to), (410, to));
    }
    assert_eq!(
        service.post("/v1/sessions/headcount/proposals", &json!({ "edits": add() })).await.status(),
        410
    );
    let mut late = Raw::connect(&service, "headcount").await;
    late.send(&json!({ "type": "enter", "token": token, "client": late.client })).await;
    assert_eq!(late.bye().await.0, "ended");
    assert_eq!(
        (
            service.state("headcount").await["heads"].clone(),
            service.journal("headcount").await.len()
        ),
        (json!(43), 2)
    );
}

#[tokio::test]
async fn a_reset_is_one_update_and_everyone_has_it() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let first = service.state("slope-plan").await;
    let token = service.token("slope-plan", "oda", "steward").await;
    let (mut oda, _) = Raw::enter(&service, "slope-plan", &token).await;
    oda.propose(
        json!([{ "at": "/notes", "op": "splice", "index": 0, "delete": 0, "insert": "Wet. " }]),
    )
    .await;
    oda.answer().await.unwrap();
    assert_eq!(steer(&service, "slope-plan", "reset").await.1["seq"], 2);
    let update = oda.next("settled").await;
    assert_eq!(
        (&update["updates"][0]["effects"][0]["op"], &update["updates"][0]["by"]),
        (&json!("reset"), &json!("service"))
    );
    assert_eq!(service.state("slope-plan").await, first, "the opening data again");
    let given = service.rendel(&["session", "reset", "slope-plan", "--opening", "/dev/stdin"]);
    assert!(!given.status.success(), "an empty file is no JSON");
    fs::write(service.path("data.json"), r#"{"title":"East slope"}"#).unwrap();
    let output = service.rendel(&[
        "session",
        "reset",
        "slope-plan",
        "--opening",
        service.path("data.json").to_str().unwrap(),
    ]);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(service.state("slope-plan").await["title"], "East slope");
    let bad = service
        .post("/v1/sessions/slope-plan/reset", &json!({ "opening": { "crates": "many" } }))
        .await;
    assert_eq!(
        (bad.status().as_u16(), service.state("slope-plan").await["title"].clone()),
        (422, json!("East slope"))
    );
}

#[tokio::test]
async fn every_state_of_the_past_can_be_told_and_compared() {
    let service = Service::start_with(&[("RENDEL_SNAPSHOT_EVERY", "5")]).await;
    service.open_demo("headcount").await;
    for _ in 0..200 {
        service.post("/v1/sessions/headcount/proposals", &json!({ "edits": add() })).await;
    }
    for at in [0, 1, 79, 80, 81, 137, 200] {
        let response = service.get(&format!("/v1/sessions/headcount/state?at={at}")).await;
        assert_eq!(response.headers()["etag"], format!("\"{at}\""));
        assert_eq!(response.json::<Value>().await.unwrap(), json!({ "heads": 41 + at }));
    }
    for (query, status, problem) in [
        ("at=201", 409, "from-the-future"),
        ("at=-1", 400, "malformed"),
        ("at=3&path=/x", 404, "unknown-path"),
    ] {
        let response = service.get(&format!("/v1/sessions/headcount/state?{query}")).await;
        assert_eq!(
            (response.status().as_u16(), name(&response.json().await.unwrap())),
            (status, problem.into())
        );
    }
    let output = service.rendel(&["state", "headcount", "--at", "10"]);
    assert!(String::from_utf8_lossy(&output.stdout).contains("51"));
    let output = service.rendel(&["diff", "headcount", "--from", "10", "--to", "12"]);
    assert_eq!(String::from_utf8_lossy(&output.stdout), "~ /heads   51 -> 53\n");
    let found: Value =
        service.get("/v1/sessions/headcount/diff?from=200").await.json().await.unwrap();
    assert_eq!((&found["to"], &found["differences"]), (&json!(200), &json!([])));
}

#[tokio::test]
async fn a_bounded_journal_forgets_its_oldest_and_says_so() {
    let service = Service::start_with(&[("RENDEL_SNAPSHOT_EVERY", "50")]).await;
    service
        .publish(
            "charter = \"gate\"\nversion = 1\n[limits]\njournal = \
        1000\nproposals-per-second = 100000\n[state.heads]\nkind = \"counter\"\n",
        )
        .await;
    service.open("gate", json!({})).await;
    let token = service.token("gate", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "gate", &token).await;
    for _ in 0..2_100 {
        oda.propose(add()).await;
    }
    while oda.seq < 2_100 {
        oda.next("settled").await;
    }
    let kept_from = until("the oldest is forgotten", async || {
        let info: Value = service.get("/v1/sessions/gate").await.json().await.unwrap();
        info["kept_from"].as_u64().filter(|kept| *kept > 500)
    })
    .await;
    assert!(kept_from <= 1_100, "at least a thousand are kept: {kept_from}");
    for path in ["state?at=1", "journal?from=1", "diff?from=1"] {
        let response = service.get(&format!("/v1/sessions/gate/{path}")).await;
        assert_eq!(
            (response.status().as_u16(), name(&response.json().await.unwrap())),
            (410, "too-old".into()),
            "{path}"
        );
    }
    assert_eq!(
        service
            .get(&format!("/v1/sessions/gate/state?at={kept_from}"))
            .await
            .json::<Value>()
            .await
            .unwrap()["heads"],
        kept_from
    );
    let last = format!("/v1/sessions/gate/events?after={}", kept_from - 1);
    let mut events = service.request(reqwest::Method::GET, &last).send().await.unwrap();
    let mut text = String::new();
    while !text.contains("\n\n") || text.starts_with("retry") && text.matches("\n\n").count() < 2 {
        text += std::str::from_utf8(&events.chunk().await.unwrap().unwrap()).unwrap();
    }
    assert!(
        text.contains("event: state") && text.contains("2100"),
        "who is too far back gets the state: {text}"
    );
}

#[tokio::test]
async fn a_session_that_nobody_uses_leaves_memory_and_comes_back_at_the_next_touch() {
    let service = Service::start().await;
    service
        .publish(
            "charter = \"gate\"\nversion = 1\n[session]\nidle = \"1s\"\n[state.heads]\nkind \
            = \"counter\"\n",
        )
        .await;
    service.open("gate", json!({})).await;
    let token = service.token("gate", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "gate", &token).await;
    oda.propose(add()).await;
    oda.answer().await.unwrap();
    let gone = async || (service.metric("rendel_sessions").await == 0.0).then_some(());
    tokio::time::sleep(std::time::Duration::from_millis(1_500)).await;
    assert_eq!(service.metric("rendel_sessions").await, 1.0, "somebody is here");
    oda.send(&json!({ "type": "leave" })).await;
    until("it leaves memory", gone).await;
    assert_eq!(service.metric("rendel_rested_total").await, 1.0);
    assert_eq!(
        service.get("/v1/sessions/gate").await.json::<Value>().await.unwrap()["seq"],
        1,
        "looking at its figures does not wake it"
    );
    assert_eq!(service.metric("rendel_sessions").await, 0.0);
    let mut back = Raw::connect(&service, "gate").await;
    back.send(
        &json!({ "type": "enter", "token": token, "client": oda.client, "seen": 1, "epoch": 1, "audience": 0 }),
    )
    .await;
    let welcome = back.next("welcome").await;
    assert_eq!(
        (&welcome["epoch"], &welcome["seq"], welcome.get("state")),
        (&json!(2), &json!(1), None),
        "it resumes"
    );
}

#[tokio::test]
async fn a_session_is_carried_as_one_file_and_a_damaged_one_is_refused_whole() {
    let service = Service::start_with(&[("RENDEL_SNAPSHOT_EVERY", "10")]).await;
    service.open_demo("slope-plan").await;
    let token = service.token("slope-plan", "oda", "steward").await;
    let (mut oda, _) = Raw::enter(&service, "slope-plan", &token).await;
    for n in 0..25 {
        oda.propose(
            json!([{ "at": "/notes", "op": "splice", "index": n, "delete": 0, "insert": "n" }]),
        )
        .await;
        oda.answer().await.unwrap();
    }
    oda.propose(json!([{ "at": "/crates", "op": "add", "by": -500 }])).await;
    let refusal = oda.answer().await.unwrap_err();
    let file = service.path("slope.jsonl");
    assert!(
        service
            .rendel(&["session", "export", "slope-plan", "--to", file.to_str().unwrap()])
            .status
            .success()
    );
    let text = fs::read_to_string(&file).unwrap();
    let other = Service::start().await;
    let output = other.rendel(&["session", "import", file.to_str().unwrap()]);
    assert_eq!(
        String::from_utf8_lossy(&output.stdout),
        "slope-plan is here, at #25.\n",
        "{}",
        String::from_utf8_lossy(&output.stderr)
    );
    assert_eq!(other.state("slope-plan").await, service.state("slope-plan").await);
    assert_eq!(other.journal("slope-plan").await, service.journal("slope-plan").await);
    let (mut back, _) = (Raw::connect(&other, "slope-plan").await, ());
    back.send(&json!({ "type": "enter", "token": other.token("slope-plan", "oda", "steward").await, "client": oda.client, "seen": 25, "epoch": 1, "audience": 0 })).await;
    assert_eq!(back.next("welcome").await.get("state"), None, "who was there goes on here");
    back.send(&json!({ "type": "propose", "n": 26, "seen": 25, "edits": [{ "at": "/crates", "op": "add", "by": 1 }] }))
        .await;
    assert_eq!(back.next("outcome").await["problem"], refusal, "with the first outcomes");
    let import = async |text: String, query: &str| {
        let request = other.request(reqwest::Method::POST, &format!("/v1/sessions/import{query}"));
        let response = request.body(text).send().await.unwrap();
        (response.status().as_u16(), response.json::<Value>().await.unwrap())
    };
    assert_eq!(import(text.clone(), "").await.0, 409, "the id is taken");
    assert_eq!(import(text.clone(), "?id=copy").await.0, 201);
    let head_end = text.find('\n').unwrap() + 1;
    let table = [
        text.replace("\"insert\":\"n\"", "\"insert\":\"m\""),
        text.lines().take(10).collect::<Vec<_>>().join("\n"),
        text[..text.len() - 1].to_owned(),
        text[head_end..].to_owned(),
        text.replace("\"rendel\":3", "\"rendel\":4"),
        "{}".to_owned(),
        String::new(),
    ];
    for (index, damaged) in table.into_iter().enumerate() {
        let (status, problem) = import(damaged, "?id=third").await;
        assert_eq!((status, name(&problem)), (400, "malformed".into()), "{index}: {problem}");
    }
    assert_eq!(other.get("/v1/sessions/third").await.status(), 404, "nothing was kept");
}
