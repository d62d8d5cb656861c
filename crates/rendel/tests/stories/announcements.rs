//! Announcements: over webhooks whose receivers are slow, away or wrong, and as a feed.

use std::collections::BTreeSet;
use std::io::Write as _;
use std::process::{Command, Stdio};
use std::time::Duration;

use serde_json::{Value, json};

use crate::agreement::python_program;
use crate::harness::{Does, Events, Receiver, Service, until};
use crate::timing::NEAR;

const PRESS: &str = r#"
charter = "press"
version = 1
[state.pressed]
kind = "counter"
[[when]]
changes  = "/pressed"
announce = "barrel.pressed"
values   = { litres = "state.pressed", by = "who.id" }
[announcements]
built-in = ["session.opened", "session.ended"]
"#;

async fn press(service: &Service, session: &str) {
    let body = json!({ "edits": [{ "at": "/pressed", "op": "add", "by": 1 }] });
    let path = format!("/v1/sessions/{session}/proposals");
    assert_eq!(service.post(&path, &body).await.status(), 200);
}

async fn webhook(service: &Service, body: Value) -> Value {
    let made = service.post("/v1/webhooks", &body).await;
    assert_eq!(made.status(), 201);
    made.json().await.unwrap()
}

async fn read(service: &Service, path: &str) -> Value {
    service.get(path).await.json().await.unwrap()
}

/// The litres in the order in which they came first.
fn litres(receiver: &Receiver, session: &str) -> Vec<u64> {
    let events = receiver.events("barrel.pressed");
    let own = events.iter().filter(|event| event["data"]["session"] == session);
    own.map(|event| event["data"]["values"]["litres"].as_u64().unwrap()).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_a_receiver_does_each_announcement_comes_to_it_in_order_and_to_others_at_once() {
    let service = Service::start_with(&NEAR).await;
    service.publish(PRESS).await;
    let wrong = Receiver::start(&[
        Does::Answers(500),
        Does::Redirects,
        Does::TakesLate,
        Does::Answers(404),
        Does::Answers(429),
        Does::Hangs,
    ]);
    let good = Receiver::start(&[]);
    webhook(&service, json!({ "url": wrong.url, "charters": ["press"] })).await;
    webhook(&service, json!({ "url": good.url, "types": ["barrel.pressed"] })).await;
    webhook(&service, json!({ "url": good.url, "charters": ["windfall"] })).await;
    service.open_as("press-1", "press", json!({})).await;
    for _ in 0..5 {
        press(&service, "press-1").await;
    }
    let all = async |receiver: &Receiver| {
        until("all came", async || (litres(receiver, "press-1").len() == 5).then_some(())).await;
    };
    all(&good).await;
    assert_eq!(good.calls().len(), 5, "once each, and only of the types that were asked for");
    // It hangs for as long as a receiver has for its answer, and is called again then.
    all(&wrong).await;
    assert_eq!(litres(&wrong, "press-1"), [1, 2, 3, 4, 5]);
    assert!(wrong.calls().iter().all(|call| !call.headers.contains_key("location")));
    let ids: BTreeSet<_> =
        wrong.calls().iter().map(|call| call.headers["webhook-id"].clone()).collect();
    assert_eq!(ids.len(), 6, "the same id each time: five, and that it was opened");
    assert!(wrong.calls().iter().all(|call| call.event()["id"] == call.headers["webhook-id"]));
}

#[tokio::test]
async fn one_that_holds_its_session_up_holds_up_no_other_and_none_where_no_order_is_kept() {
    let service = Service::start_with(&NEAR).await;
    service.publish(PRESS).await;
    let ordered = Receiver::start(&[Does::Hangs]);
    let unordered = Receiver::start(&[Does::Hangs]);
    for (receiver, is_ordered) in [(&ordered, true), (&unordered, false)] {
        let asked =
            json!({ "url": receiver.url, "types": ["barrel.pressed"], "ordered": is_ordered });
        webhook(&service, asked).await;
    }
    for session in ["press-1", "press-2"] {
        service.open_as(session, "press", json!({})).await;
    }
    press(&service, "press-1").await;
    until("the first has come", async || {
        (!ordered.calls().is_empty() && !unordered.calls().is_empty()).then_some(())
    })
    .await;
    for session in ["press-1", "press-2"] {
        press(&service, session).await;
    }
    until("the other session's has come", async || {
        (!litres(&ordered, "press-2").is_empty()).then_some(())
    })
    .await;
    until("both have come", async || (litres(&unordered, "press-1").len() == 2).then_some(()))
        .await;
    until("the other has come in its turn", async || {
        (litres(&ordered, "press-1") == [1, 2]).then_some(())
    })
    .await;
}

#[tokio::test]
async fn what_is_not_taken_for_good_is_kept_and_can_be_sent_again() {
    let service = Service::start_with(&NEAR).await;
    service.publish(PRESS).await;
    let receiver = Receiver::start(&[Does::Answers(410)]);
    let made = webhook(&service, json!({ "url": receiver.url, "types": ["barrel.pressed"] })).await;
    let id = made["id"].as_str().unwrap();
    let path = format!("/v1/webhooks/{id}/deliveries");
    service.open_as("press-1", "press", json!({})).await;
    press(&service, "press-1").await;
    press(&service, "press-1").await;
    // The first is dead, and holds up nothing any more.
    until("the second is taken", async || (litres(&receiver, "press-1").len() == 2).then_some(()))
        .await;
    let dead = until("the first is dead", async || {
        let dead = read(&service, &format!("{path}?status=dead")).await;
        dead["deliveries"].get(0).cloned()
    })
    .await;
    assert_eq!((&dead["attempts"], &dead["type"]), (&json!(1), &json!("barrel.pressed")));
    assert!(dead["why"].as_str().unwrap().contains("410"), "{dead}");
    let said = service.rendel(&["announcements", "resend", id]);
    assert_eq!(String::from_utf8(said.stdout).unwrap().trim(), "1 are sent again.");
    until("it is taken", async || {
        let dead = read(&service, &format!("{path}?status=delivered")).await;
        (dead["deliveries"].as_array().unwrap().len() == 2).then_some(())
    })
    .await;
    assert_eq!(receiver.calls().len(), 3);
    let one = dead["id"].as_str().unwrap();
    assert_eq!(
        service.post(&format!("/v1/webhooks/{id}/resend"), &json!({ "ids": [one] })).await.status(),
        200
    );
    until("it is taken once more", async || (receiver.calls().len() == 4).then_some(())).await;
    let said = service.rendel(&["webhook", "deliveries", id]);
    let said = String::from_utf8(said.stdout).unwrap();
    assert!(said.contains("barrel.pressed") && said.contains("delivered"), "{said}");
    assert!(service.rendel(&["webhook", "remove", id]).status.success());
    assert_eq!(service.get(&path).await.status(), 404);
}

#[tokio::test]
async fn libraries_of_another_language_read_what_comes_and_know_who_sent_it() {
    let service = Service::start_with(&NEAR).await;
    service.publish(PRESS).await;
    let receiver = Receiver::start(&[]);
    let made = webhook(&service, json!({ "url": receiver.url })).await;
    service.open_as("press-1", "press", json!({})).await;
    press(&service, "press-1").await;
    service.post("/v1/sessions/press-1/end", &json!({})).await;
    until("all came", async || (receiver.calls().len() == 3).then_some(())).await;
    let calls: Vec<_> = receiver.calls().iter().map(crate::harness::Call::to_json).collect();
    let asked = json!({ "secret": made["secret"], "calls": calls });
    let program = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/clients/receive.py");
    let mut python = Command::new(python_program("python"))
        .arg(program)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    python.stdin.take().unwrap().write_all(asked.to_string().as_bytes()).unwrap();
    let output = python.wait_with_output().unwrap();
    assert!(output.status.success());
    let events: Vec<Value> = String::from_utf8(output.stdout)
        .unwrap()
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    let kinds: Vec<_> = events.iter().map(|event| event[1].as_str().unwrap()).collect();
    assert_eq!(kinds, ["session.opened", "barrel.pressed", "session.ended"]);
    assert_eq!(events[1][2], "/v1/sessions/press-1");
    let data = json!({
        "session": "press-1", "charter": "press", "version": 1, "seq": 1, "rule": "changes /pressed",
        "values": { "litres": 1, "by": "service" },
    });
    assert_eq!(events[1][4], data);
}

#[tokio::test]
async fn a_feed_goes_on_where_it_was_left_and_waits_for_what_comes() {
    let service = Service::start().await;
    service.publish(PRESS).await;
    service.open_as("press-1", "press", json!({})).await;
    press(&service, "press-1").await;
    let all = read(&service, "/v1/announcements").await;
    let first = &all["announcements"][0];
    assert_eq!(first["event"]["type"], "session.opened");
    assert_eq!(all["announcements"].as_array().unwrap().len(), 2);
    assert_eq!(all["announcements"][1]["cursor"], all["next"]);
    let next = all["next"].as_i64().unwrap();
    let none = read(&service, &format!("/v1/announcements?after={next}")).await;
    assert_eq!(none, json!({ "announcements": [], "next": next }));
    let wait = format!("/v1/announcements?after={next}&wait_ms=60000&session=press-1");
    let (waited, ()) = tokio::join!(read(&service, &wait), async {
        tokio::time::sleep(Duration::from_millis(200)).await;
        press(&service, "press-1").await;
    });
    assert_eq!(waited["announcements"][0]["event"]["data"]["values"]["litres"], 2);
    // As a stream, after the id that was seen last.
    let request = service
        .request(reqwest::Method::GET, "/v1/announcements?types=barrel.pressed")
        .header("Accept", "text/event-stream")
        .header("Last-Event-ID", first["cursor"].to_string());
    let response = request.send().await.unwrap();
    let mut events = Events { response, text: String::new() };
    press(&service, "press-1").await;
    for expected in 1..=3 {
        let event = events.next().await;
        assert_eq!(event.name, "announcement");
        assert_eq!(event.data["data"]["values"]["litres"], expected);
    }
    for (query, status) in [
        ("after=-1", 400),
        ("after=soon", 400),
        ("most=0", 422),
        ("wait_ms=60001", 422),
        ("befor=1", 400),
    ] {
        assert_eq!(
            service.get(&format!("/v1/announcements?{query}")).await.status(),
            status,
            "{query}"
        );
    }
    let token = service.token("press-1", "oda", "participant").await;
    let response =
        service.http.get(format!("{}/v1/announcements", service.server)).bearer_auth(token);
    assert_eq!(response.send().await.unwrap().status(), 403, "it is the backend's");
    let listed =
        service.rendel(&["announcements", "list", "--type", "barrel.pressed", "--most", "1"]);
    let listed = String::from_utf8(listed.stdout).unwrap();
    assert!(listed.contains("barrel.pressed") && listed.contains("litres=1"), "{listed}");
    assert_eq!(listed.lines().count(), 1);
}

#[tokio::test]
async fn a_webhook_is_refused_where_it_could_never_be_called() {
    let service = Service::start().await;
    for (body, says) in [
        (json!({ "url": "http://127.0.0.1:9/" }), "private"),
        (json!({ "url": "http://169.254.169.254/latest" }), "private"),
        (json!({ "url": "ftp://orchard.example/" }), "http"),
        (json!({ "url": "https://orchard.example/", "secret": "whsec_c2hvcnQ=" }), "whsec_"),
        (json!({ "url": "https://orchard.example/", "types": [""] }), "types"),
    ] {
        let refused = service.post("/v1/webhooks", &body).await;
        let status = refused.status();
        let problem: Value = refused.json().await.unwrap();
        assert_eq!(status, 422, "{body}");
        assert!(problem["detail"].as_str().unwrap().contains(says), "{problem}");
    }
    let made = webhook(&service, json!({ "url": "https://orchard.example/" })).await;
    assert!(made["secret"].as_str().unwrap().starts_with("whsec_"));
    let listed = read(&service, "/v1/webhooks").await;
    assert_eq!(listed["webhooks"].as_array().unwrap().len(), 1);
    assert_eq!(listed["webhooks"][0].get("secret"), None, "it is told once");
    assert_eq!(service.get("/v1/webhooks/nothing/deliveries").await.status(), 404);
}
