//! Every way of following and changing a session, and those who cannot keep up.

use std::time::Duration;

use futures_util::{SinkExt as _, StreamExt as _};
use rendel_client::{Change, Connection, Encoding, Event, Target};
use reqwest::Method;
use serde_json::{Value, json};
use tokio_tungstenite::tungstenite::Message;
use uuid::Uuid;

use crate::harness::{Events, PATIENCE, Proxy, Raw, Service, name, until};

async fn patch(
    service: &Service,
    kind: &str,
    headers: &[(&'static str, &str)],
    body: &Value,
) -> (u16, String, Value) {
    let mut request = service
        .request(Method::PATCH, "/v1/sessions/slope-plan/state")
        .header("Content-Type", kind);
    for (name, value) in headers {
        request = request.header(*name, *value);
    }
    let response = request.body(body.to_string()).send().await.unwrap();
    let tag = response.headers().get("etag").map_or("", |tag| tag.to_str().unwrap()).to_owned();
    (response.status().as_u16(), tag, response.json().await.unwrap_or_default())
}

const JSON_PATCH: &str = "application/json-patch+json";
const MERGE_PATCH: &str = "application/merge-patch+json";

/// Waits until nothing is pending any more, and gives what the application was told on the way.
async fn until_all_is_answered(connection: &mut Connection) -> Vec<Event> {
    let mut told = Vec::new();
    while !connection.is_connected() || connection.replica().pending().count() > 0 {
        told.push(
            tokio::time::timeout(crate::harness::PATIENCE, connection.next())
                .await
                .unwrap()
                .unwrap(),
        );
    }
    told
}

fn task(id: String) -> rendel_core::Edit {
    rendel_core::Edit::new("/tasks", "insert").with("id", id).with("value", 1)
}

#[tokio::test]
async fn what_was_made_offline_is_all_there_after_the_return_and_too_fast_reaches_nobody() {
    let service = Service::start().await;
    // So few are taken that two tabs are too fast on a slow machine, too.
    let charter = "charter = \"tasks\"\nversion = 1\n[limits]\nproposals-per-second = 25\n\
        [state.tasks]\nkind = \"list\"\n[state.notes]\nkind = \"text\"\n";
    service.publish(charter).await;
    service.open("tasks", json!({})).await;
    let target = Target {
        server: service.server.clone(),
        session: "tasks".to_owned(),
        token: service.token("tasks", "oda", "participant").await,
        encoding: Encoding::Json,
    };
    let mut connection = Connection::new(target.clone(), Uuid::now_v7());
    while !connection.is_connected() {
        connection.next().await.unwrap();
    }
    connection.cut();
    for n in 0..400 {
        connection.propose(vec![task(format!("t{n}"))]).await;
        if n >= 80 {
            continue;
        }
        let typed = rendel_core::Edit::new("/notes", "splice").with("index", n).with("insert", "x");
        connection.propose(vec![typed]).await;
    }
    // Another tab of the same participant takes its share of the same rate meanwhile.
    let mut other = Connection::new(target, Uuid::now_v7());
    while !other.is_connected() {
        other.next().await.unwrap();
    }
    for n in 0..120 {
        other.propose(vec![task(format!("o{n}"))]).await;
    }
    let (told, beside) =
        tokio::join!(until_all_is_answered(&mut connection), until_all_is_answered(&mut other));
    let is_refused = |event: &&Event| matches!(event, Event::Changed(Change::Refused { .. }));
    assert_eq!(told.iter().chain(&beside).find(is_refused).map(|event| format!("{event:?}")), None);
    let state = service.state("tasks").await;
    let ids: Vec<_> = state["tasks"]
        .as_array()
        .unwrap()
        .iter()
        .map(|task| task["id"].as_str().unwrap())
        .collect();
    assert_eq!((ids.len(), state["notes"].as_str().unwrap().len()), (520, 80));
    let own: Vec<_> = ids.into_iter().filter(|id| id.starts_with('t')).collect();
    assert_eq!(
        own,
        (0..400).map(|n| format!("t{n}")).collect::<Vec<_>>(),
        "in the order in which they were made"
    );
    assert!(
        service.metric("rendel_limited_total{limit=\"proposals-per-second\"}").await > 0.0,
        "two tabs were too fast"
    );
}

#[tokio::test]
async fn any_json_patch_library_follows_and_changes_a_session() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let token = service.token("slope-plan", "oda", "picker").await;
    let mut events =
        Events::open(&service, "slope-plan/events?form=json-patch", Some(&token), None).await;
    let first = events.next().await;
    assert_eq!((first.name.as_str(), first.id), ("state", Some(0)));
    let mut state = first.data;
    let steps = [
        (JSON_PATCH, json!([{ "op": "replace", "path": "/crates", "value": 9 }])),
        (
            MERGE_PATCH,
            json!({ "notes": "Wet grass near the brook.", "markers": { "ladder-1": null, "hut": { "what": "hazard" } } }),
        ),
        (
            JSON_PATCH,
            json!([{ "op": "test", "path": "/markers/hut/what", "value": "hazard" }, { "op": "remove", "path": "/markers/hut" }]),
        ),
    ];
    for (seq, (kind, body)) in (1..).zip(steps) {
        let (status, tag, update) = patch(&service, kind, &[], &body).await;
        assert_eq!(
            (status, tag, &update["seq"]),
            (200, format!("\"{seq}\""), &json!(seq)),
            "{update}"
        );
        let told = events.next().await;
        assert_eq!((told.name.as_str(), told.id), ("patch", Some(seq)));
        let ops: json_patch::Patch = serde_json::from_value(told.data).unwrap();
        json_patch::patch(&mut state, &ops).unwrap();
        assert_eq!(
            state,
            service.state("slope-plan").await,
            "what the sender got, the follower has and a newcomer gets"
        );
    }
    assert_eq!((state["crates"].clone(), state["markers"].get("ladder-1")), (json!(9), None));
}

#[tokio::test]
async fn a_change_by_patch_is_conditional_safe_to_repeat_and_says_what_is_wrong_with_it() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let nine = json!([{ "op": "replace", "path": "/crates", "value": 9 }]);
    let first =
        patch(&service, JSON_PATCH, &[("If-Match", "\"0\""), ("Idempotency-Key", "k1")], &nine)
            .await;
    assert_eq!((first.0, first.1.as_str()), (200, "\"1\""));
    let again =
        patch(&service, JSON_PATCH, &[("If-Match", "\"0\""), ("Idempotency-Key", "k1")], &nine)
            .await;
    assert_eq!(
        again, first,
        "the same call again is the same answer, though the state has moved on"
    );
    let late = patch(&service, JSON_PATCH, &[("If-Match", "\"0\"")], &nine).await;
    assert_eq!(
        (late.0, name(&late.2), &late.2["seq"], &late.2["current"]["crates"]),
        (412, "test-failed".into(), &json!(1), &json!(9))
    );
    assert_eq!(
        patch(&service, JSON_PATCH, &[("If-Match", "*")], &nine).await.0,
        204,
        "nothing was to be changed"
    );
    let table = [
        ("application/json", "\"1\"", nine.clone(), 415, "wrong-media"),
        (JSON_PATCH, "mist", nine.clone(), 400, "malformed"),
        (JSON_PATCH, "1", nine.clone(), 400, "malformed"),
        (JSON_PATCH, "*", json!({ "crates": 1 }), 400, "malformed"),
        (JSON_PATCH, "*", json!([{ "op": "plant", "path": "/crates" }]), 400, "malformed"),
        (
            JSON_PATCH,
            "*",
            json!([{ "op": "replace", "path": "/nothing", "value": 1 }]),
            404,
            "unknown-path",
        ),
        (MERGE_PATCH, "*", json!({ "carts": 1 }), 404, "unknown-path"),
        (MERGE_PATCH, "*", json!({ "crates": "many" }), 422, "wrong-type"),
        (MERGE_PATCH, "*", json!({ "crates": -5 }), 422, "out-of-bounds"),
        (MERGE_PATCH, "*", json!(7), 422, "wrong-type"),
    ];
    for (kind, tag, body, status, problem) in table {
        let answer = patch(&service, kind, &[("If-Match", tag)], &body).await;
        assert_eq!(
            (answer.0, name(&answer.2)),
            (status, problem.into()),
            "{kind} {tag} {body}: {}",
            answer.2
        );
    }
    assert_eq!(service.journal("slope-plan").await.len(), 1, "what was refused changed nothing");
    let viewer = service
        .request(Method::PATCH, "/v1/sessions/slope-plan/state?as=viewer")
        .header("Content-Type", MERGE_PATCH);
    assert_eq!(viewer.body("{\"crates\":3}").send().await.unwrap().status(), 403);
}

#[tokio::test]
async fn an_event_stream_goes_on_after_the_last_id_with_a_ticket_too() {
    let mut service = Service::start().await;
    service.open_demo("headcount").await;
    let token = service.token("headcount", "oda", "participant").await;
    let add = json!({ "edits": [{ "at": "/heads", "op": "add", "by": 1 }] });
    for _ in 0..5 {
        service.post("/v1/sessions/headcount/proposals", &add).await;
    }
    for form in ["updates", "json-patch"] {
        let query = format!("headcount/events?form={form}");
        let mut events = Events::open(&service, &query, Some(&token), Some("2")).await;
        let told = [events.next().await, events.next().await, events.next().await];
        assert_eq!(told.map(|told| told.id), [Some(3), Some(4), Some(5)], "{form}");
    }
    for (last, status) in [("9", 409), ("mist", 400), ("-1", 400), ("", 400)] {
        let request = service
            .http
            .get(format!("{}/v1/sessions/headcount/events", service.server))
            .bearer_auth(&token);
        assert_eq!(
            request.header("Last-Event-ID", last).send().await.unwrap().status(),
            status,
            "{last:?}"
        );
    }
    let ticket = async || {
        let asked = service
            .http
            .post(format!("{}/v1/sessions/headcount/tickets", service.server))
            .bearer_auth(&token);
        let answer: Value = asked.send().await.unwrap().json().await.unwrap();
        answer["ticket"].as_str().unwrap().to_owned()
    };
    let query = format!("headcount/events?after=4&ticket={}", ticket().await);
    let mut events = Events::open(&service, &query, None, None).await;
    assert_eq!(events.next().await.id, Some(5));
    let used =
        service.http.get(format!("{}/v1/sessions/{query}", service.server)).send().await.unwrap();
    assert_eq!(
        (used.status().as_u16(), name(&used.json().await.unwrap())),
        (401, "bad-token".into())
    );
    // A clean stop says so, and the next process goes on with the last id.
    service.terminate();
    assert_eq!(
        (events.next().await.data["type"].clone(), events.next_part().await),
        (json!("urn:rendel:problem:shutting-down"), None)
    );
    service.launch();
    service.post("/v1/sessions/headcount/proposals", &add).await;
    let mut back = Events::open(&service, "headcount/events", Some(&token), Some("5")).await;
    assert_eq!(back.next().await.id, Some(6));
}

#[tokio::test]
async fn answers_are_compressed_where_asked_and_pages_of_known_origins_may_call() {
    let service = Service::start_with(&[("RENDEL_ORIGINS", "[\"https://orchard.example\"]")]).await;
    service.open_demo("slope-plan").await;
    let path = "/v1/sessions/slope-plan/state";
    for encoding in ["gzip", "br", "zstd"] {
        let response = service
            .request(Method::GET, path)
            .header("Accept-Encoding", encoding)
            .send()
            .await
            .unwrap();
        assert_eq!(response.headers()["content-encoding"], encoding);
    }
    let plain = service.get(path).await;
    assert!(plain.headers().get("content-encoding").is_none());
    for (origin, allowed) in [
        ("https://orchard.example", Some("https://orchard.example")),
        ("https://elsewhere.example", None),
    ] {
        let response =
            service.request(Method::GET, path).header("Origin", origin).send().await.unwrap();
        let header = |name: &str| {
            response.headers().get(name).map(|value| value.to_str().unwrap().to_owned())
        };
        assert_eq!(
            (response.status().as_u16(), header("access-control-allow-origin").as_deref()),
            (200, allowed)
        );
        let asked = service
            .http
            .request(Method::OPTIONS, format!("{}{path}", service.server))
            .header("Origin", origin);
        let asked = asked
            .header("Access-Control-Request-Method", "PATCH")
            .header("Access-Control-Request-Headers", "authorization,if-match");
        let answer = asked.send().await.unwrap();
        assert_eq!(
            answer.headers().get("access-control-allow-methods").is_some(),
            allowed.is_some(),
            "{origin}"
        );
    }
}

#[tokio::test]
async fn a_cbor_client_and_a_json_client_hold_the_same() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let mut clients = Vec::new();
    for (sub, encoding) in [("oda", Encoding::Cbor), ("bram", Encoding::Json)] {
        let token = service.token("slope-plan", sub, "steward").await;
        let target = Target {
            server: service.server.clone(),
            session: "slope-plan".into(),
            token,
            encoding,
        };
        let mut connection = Connection::new(target, Uuid::now_v7());
        assert_eq!(connection.next().await.unwrap(), Event::Changed(Change::Welcomed));
        clients.push(connection);
    }
    for round in 0..20 {
        for (index, connection) in clients.iter_mut().enumerate() {
            let text = format!("{round}🍎{index} ");
            let edits = vec![
                rendel_core::Edit::new("/notes", "splice").with("index", 0).with("insert", text),
                rendel_core::Edit::new("/markers/ladder-1/spot", "set")
                    .with("value", json!({ "x": 0.25 * f64::from(round), "y": 3 })),
            ];
            connection.propose(edits).await.unwrap();
        }
    }
    for connection in &mut clients {
        let settled = async {
            while connection.replica().seq() < 40 || connection.replica().pending().count() > 0 {
                let event = connection.next().await.unwrap();
                assert!(
                    !matches!(
                        event,
                        Event::Changed(Change::Diverged(_) | Change::Refused { .. })
                            | Event::Away { .. }
                    ),
                    "{event:?}"
                );
            }
        };
        tokio::time::timeout(PATIENCE, settled).await.unwrap();
    }
    let newcomer = service.state("slope-plan").await;
    clients
        .iter()
        .for_each(|connection| assert_eq!(connection.replica().confirmed(), Some(&newcomer)));
}

#[tokio::test]
async fn a_binary_frame_that_is_no_cbor_is_told_and_the_other_kind_of_frame_ends_the_connection() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let token = service.token("headcount", "oda", "participant").await;
    let mut raw = Raw::connect_as(&service, "headcount", "rendel.v1.cbor").await;
    let enter = json!({ "type": "enter", "token": token, "client": raw.client });
    raw.socket.send(Message::binary(rendel_wire::encode_cbor(&enter))).await.unwrap();
    let next = async |raw: &mut Raw| loop {
        match tokio::time::timeout(PATIENCE, raw.socket.next()).await.unwrap().unwrap().unwrap() {
            Message::Binary(bytes) => return rendel_wire::decode_cbor(&bytes).unwrap(),
            Message::Close(_) => panic!("closed"),
            _ => {}
        }
    };
    assert_eq!(next(&mut raw).await["type"], "welcome");
    for bytes in [vec![0x41, 0x00], vec![0x01, 0x02], vec![]] {
        raw.socket.send(Message::binary(bytes)).await.unwrap();
        let notice = next(&mut raw).await;
        assert_eq!(
            (notice["type"].as_str(), name(&notice["problem"])),
            (Some("notice"), "malformed".into())
        );
    }
    raw.socket.send(Message::text("{}")).await.unwrap();
    assert_eq!(next(&mut raw).await["type"], "bye");
}

#[tokio::test]
async fn who_reads_too_slowly_gets_one_catch_up_and_nobody_waits_for_them() {
    let service =
        Service::start_with(&[("RENDEL_QUEUE_FRAMES", "16"), ("RENDEL_SLOW_WITHIN_MS", "20000")])
            .await;
    service
        .publish(
            "charter = \"wide\"\nversion = 1\n[limits]\nproposals-per-second = \
        100000\nframe = \"1MiB\"\n[state.title]\nkind = \"register\"\n[state.heads]\nkind = \
        \"counter\"\n",
        )
        .await;
    service.open("wide", json!({})).await;
    let (oda, bram) = (
        service.token("wide", "oda", "participant").await,
        service.token("wide", "bram", "participant").await,
    );
    let proxy = Proxy::before(&service.server).await;
    let mut slow = Raw::connect_to(&proxy.server, "wide", "rendel.v1.json").await;
    slow.send(&json!({ "type": "enter", "token": bram, "client": slow.client })).await;
    slow.next("welcome").await;
    // Nothing gets through, and what the system itself holds back is soon full.
    proxy.stall(true);
    let (mut raw, _) = Raw::enter(&service, "wide", &oda).await;
    let wide = "x".repeat(100_000);
    for _ in 0..200 {
        raw.propose(json!([{ "at": "/title", "op": "set", "value": wide }, { "at": "/heads", "op": "add", "by": 1 }]))
            .await;
        raw.answer().await.unwrap();
    }
    assert!(service.metric("rendel_fell_behind_total").await >= 1.0);
    let table: Value = service.get("/v1/sessions/wide/connections").await.json().await.unwrap();
    let of = |sub: &str| {
        table["connections"]
            .as_array()
            .unwrap()
            .iter()
            .find(|one| one["participant"] == sub)
            .unwrap()
            .clone()
    };
    assert!(
        of("bram")["lag"].as_u64().unwrap() > 0 && of("bram")["lag_ms"].as_u64().unwrap() > 0,
        "{table}"
    );
    assert_eq!((of("oda")["lag"].clone(), of("oda")["way"].clone()), (json!(0), json!("json")));
    proxy.stall(false);
    let welcome = slow.next("welcome").await;
    assert_eq!(service.metric("rendel_catch_ups_total").await, 1.0);
    assert_eq!(welcome["state"]["heads"], 200, "one snapshot in place of the backlog");
    raw.propose(json!([{ "at": "/heads", "op": "add", "by": 1 }])).await;
    raw.answer().await.unwrap();
    let update = slow.next("settled").await;
    assert_eq!(update["updates"][0]["seq"], 201, "and then it goes on");
}

#[tokio::test]
async fn who_does_not_read_at_all_is_cut_off_as_slow() {
    let service =
        Service::start_with(&[("RENDEL_QUEUE_FRAMES", "16"), ("RENDEL_SLOW_WITHIN_MS", "500")])
            .await;
    service
        .publish(
            "charter = \"wide\"\nversion = 1\n[limits]\nproposals-per-second = \
        100000\nframe = \"1MiB\"\n[state.title]\nkind = \"register\"\n",
        )
        .await;
    service.open("wide", json!({})).await;
    let (oda, bram) = (
        service.token("wide", "oda", "participant").await,
        service.token("wide", "bram", "participant").await,
    );
    let (mut stuck, _) = Raw::enter(&service, "wide", &bram).await;
    let (mut raw, _) = Raw::enter(&service, "wide", &oda).await;
    let wide = "x".repeat(100_000);
    for _ in 0..200 {
        raw.propose(json!([{ "at": "/title", "op": "set", "value": wide }])).await;
        raw.answer().await.unwrap();
    }
    until("it is cut off", async || {
        (service.metric("rendel_closed_total{problem=\"slow\"}").await == 1.0).then_some(())
    })
    .await;
    assert_eq!(service.metric("rendel_limited_total{limit=\"queue\"}").await, 1.0);
    let (mut back, token) = (Raw::connect(&service, "wide").await, bram);
    back.send(&json!({ "type": "enter", "token": token, "client": stuck.client, "seen": stuck.seq, "epoch": 1, "audience": 0 })).await;
    assert_eq!(back.next("welcome").await["seq"], 200);
    stuck.drain().await;
}

#[tokio::test]
async fn a_connection_that_is_gone_without_a_word_is_found_from_both_ends() {
    let service = Service::start_with(&[("RENDEL_SILENCE_MS", "1000")]).await;
    service.open_demo("headcount").await;
    let proxy = Proxy::before(&service.server).await;
    let token = service.token("headcount", "oda", "participant").await;
    let target = Target {
        server: proxy.server.clone(),
        session: "headcount".into(),
        token,
        encoding: Encoding::Json,
    };
    let mut connection = Connection::new(target, Uuid::now_v7());
    connection.next().await.unwrap();
    proxy.stall(true);
    until("the service has missed it", async || {
        (service.metric("rendel_connections").await == 0.0).then_some(())
    })
    .await;
    let away = async {
        loop {
            if let Event::Away { .. } = connection.next().await.unwrap() {
                return;
            }
        }
    };
    tokio::time::timeout(Duration::from_secs(40), away)
        .await
        .expect("the client does not miss the service");
    assert_eq!(connection.standing(), rendel_client::Standing::Away { unsent: 0 });
    connection.propose(vec![rendel_core::Edit::new("/heads", "add").with("by", 1)]).await;
    assert_eq!(connection.standing(), rendel_client::Standing::Away { unsent: 1 });
    proxy.cut();
    proxy.stall(false);
    let back = async {
        while connection.replica().pending().count() > 0 {
            connection.next().await.unwrap();
        }
    };
    tokio::time::timeout(PATIENCE, back).await.expect("it comes back and sends what it kept");
    assert_eq!(service.state("headcount").await["heads"], 42);
}

#[tokio::test]
async fn with_a_beat_updates_leave_together() {
    let service = Service::start().await;
    service
        .publish(
            "charter = \"run\"\nversion = 1\n[session]\ntick = \
            \"200ms\"\n[state.heads]\nkind = \"counter\"\n",
        )
        .await;
    service.open("run", json!({})).await;
    let (oda, bram) = (
        service.token("run", "oda", "participant").await,
        service.token("run", "bram", "participant").await,
    );
    let ((mut oda, _), (mut bram, _)) =
        (Raw::enter(&service, "run", &oda).await, Raw::enter(&service, "run", &bram).await);
    for _ in 0..40 {
        oda.propose(json!([{ "at": "/heads", "op": "add", "by": 1 }])).await;
    }
    let mut frames = 0;
    while bram.seq < 40 {
        bram.next("settled").await;
        frames += 1;
    }
    assert!(frames <= 4, "{frames} frames for 40 updates");
}

#[tokio::test]
async fn where_no_websocket_gets_through_the_same_frames_come_as_events_and_are_posted() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let tokens = [
        service.token("headcount", "oda", "participant").await,
        service.token("headcount", "bram", "participant").await,
    ];
    let mut line = Events::open(&service, "headcount/lines", None, None).await;
    let id = line.next().await;
    assert_eq!(id.name, "line");
    let url =
        format!("{}/v1/sessions/headcount/lines/{}", service.server, id.data.as_str().unwrap());
    let say = async |text: String| {
        service.http.post(&url).body(text).send().await.unwrap().status().as_u16()
    };
    let client = uuid::Uuid::now_v7();
    let propose = |n: u64| {
        json!({ "type": "propose", "n": n, "seen": 0, "answered": n - 1, "edits": [
            { "at": "/heads", "op": "add", "by": 1 }] })
    };
    // Several frames go together, and what is wrong with one is told as on any connection.
    let enter = json!({ "type": "enter", "token": tokens[0], "client": client, "fields": true });
    let several = format!("{enter}\n{}\n{{}}\n{}\n", propose(1), propose(2));
    assert_eq!(say(several).await, 204);
    let welcome = line.next().await.data;
    assert_eq!((&welcome["type"], &welcome["seq"]), (&json!("welcome"), &json!(0)));
    assert_eq!(welcome["fields"]["heads"]["kind"], "counter");
    let heads = welcome["state"]["heads"].as_i64().unwrap();
    let mut told = Vec::new();
    while told.len() < 3 {
        let frame = line.next().await.data;
        match frame["type"].as_str().unwrap() {
            "settled" => {
                told.extend(frame["updates"].as_array().unwrap().iter().map(|one| one["n"].clone()))
            }
            "notice" => told.push(json!(name(&frame["problem"]))),
            _ => {}
        }
    }
    told.sort_by_key(Value::to_string);
    assert_eq!(told, [json!("malformed"), json!(1), json!(2)]);
    // Another participant sees it, and a newcomer; and what they do comes here.
    let (mut bram, welcome) = Raw::enter(&service, "headcount", &tokens[1]).await;
    assert_eq!(
        (&welcome["seq"], &service.state("headcount").await["heads"]),
        (&json!(2), &json!(heads + 2))
    );
    bram.propose(json!([{ "at": "/heads", "op": "add", "by": 5 }])).await;
    bram.answer().await.unwrap();
    let mut frame = line.next().await.data;
    while frame["type"] != "settled" {
        frame = line.next().await.data;
    }
    assert_eq!(
        (&frame["updates"][0]["by"], &frame["updates"][0]["seq"]),
        (&json!("bram"), &json!(3))
    );
    let list =
        service.get("/v1/sessions/headcount/connections").await.json::<Value>().await.unwrap();
    let ways: Vec<_> =
        list["connections"].as_array().unwrap().iter().map(|one| one["way"].clone()).collect();
    assert!(ways.contains(&json!("line")) && ways.contains(&json!("json")), "{ways:?}");
    // Who leaves has left, and the line with them.
    assert_eq!(say(json!({ "type": "leave" }).to_string()).await, 204);
    assert_eq!(line.next_part().await, None);
    let left = bram.next("roster").await["left"][0].clone();
    assert_eq!((&left["id"], &left["why"]), (&json!("oda"), &json!("left")));
    until("the line is gone", async || (say("{}".into()).await == 404).then_some(())).await;
    // Who is gone without a word is lost, and what is too large ends a line as it ends a socket.
    let mut lost = Events::open(&service, "headcount/lines", Some(&tokens[0]), None).await;
    let id = lost.next().await.data.as_str().unwrap().to_owned();
    let url = format!("{}/v1/sessions/headcount/lines/{id}", service.server);
    let enter = json!({ "type": "enter", "client": client }).to_string();
    service.http.post(&url).body(enter).send().await.unwrap();
    assert_eq!(lost.next().await.data["you"]["id"], "oda");
    let large = service.http.post(&url).body("x".repeat(100_000)).send().await.unwrap();
    assert_eq!(large.status(), 413);
    drop(lost);
    let mut away = bram.next("roster").await;
    while away["changed"][0]["away"] != true {
        away = bram.next("roster").await;
    }
    assert_eq!(away["changed"][0]["id"], "oda");
}
