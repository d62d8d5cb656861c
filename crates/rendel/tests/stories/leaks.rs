//! What a role may not see leaves the service by no way out.

use std::time::Duration;

use futures_util::{SinkExt as _, StreamExt as _};
use serde_json::{Value, json};
use tokio_tungstenite::tungstenite::Message;

use crate::harness::{Heard, Raw, Service, listener, stream, until};

/// What is written into everything that is hidden, and looked for in every byte.
const MARK: &str = "quince7secret";

const CHARTER: &str = r#"
charter = "ledger"
version = 1
[session]
guests = "outsider"
[limits]
proposals-per-second = 5000
[presence.fields]
selection = { refers = "/ledger" }
caret = { anchor = "/ledger/*/notes" }
[holds]
kind = "binding"
[roles.keeper]
edit = ["/**"]
[roles.outsider]
edit = ["/title", "/box", "/offers"]
see = ["/**", { but = "/ledger" }, { but = "/box" }, { but = "/offers/*/limit" }, { but = "/quince7secret" }]
[state.title]
kind = "register"
[state.box]
kind = "register"
merge = "unchanged"
[state.quince7secret]
kind = "register"
initial = "quince7secret"
[state.ledger]
kind = "map"
[state.ledger.each.sum]
kind = "register"
[state.ledger.each.notes]
kind = "text"
[state.offers]
kind = "map"
[state.offers.each.amount]
kind = "counter"
[state.offers.each.limit]
kind = "register"
[state.offers.each.entry]
kind = "register"
refers = { to = "/ledger", on-drop = "refuse" }
[[guards]]
at = "/offers/*"
rule = "new == null || new.limit != 'quince7secret-never'"
says = "Not like that."
"#;

#[tokio::test]
async fn a_marker_that_a_role_may_not_see_is_in_no_byte_that_it_gets() {
    let mut service = Service::start_with(&[
        ("RENDEL_DIGEST_EVERY", "20"),
        ("RENDEL_SNAPSHOT_EVERY", "50"),
        ("RENDEL_LOG", "debug"),
    ])
    .await;
    service.publish(CHARTER).await;
    let offers = json!({ "o1": { "amount": 5, "limit": MARK, "entry": "e1" } });
    let ledger = json!({ "e1": {}, MARK: { "sum": MARK, "notes": MARK } });
    service.open("ledger", json!({ "offers": offers, "ledger": ledger, "box": MARK })).await;
    let mut heard = Heard::new(MARK);
    let token = service.token("ledger", "wren", "outsider").await;

    // Over sockets in both encodings, for the whole time; and as events and patches.
    let (mut json_socket, _) = listener(&service, "ledger", &token, "rendel.v1.json").await;
    let (mut cbor_socket, _) = listener(&service, "ledger", &token, "rendel.v1.cbor").await;
    let (mut guest, _) = listener(&service, "ledger", "", "rendel.v1.json").await;
    let events = stream(&service, "ledger", &token, "/events");
    let patches = stream(&service, "ledger", &token, "/events?form=json-patch");

    // A keeper's busy hour, quickly: every kind of edit on what is hidden, with presence, holds,
    // conflicts and refusals.
    let keeper_token = service.token("ledger", "oda", "keeper").await;
    let (mut keeper, _) = Raw::enter(&service, "ledger", &keeper_token).await;
    let (mut second, _) = Raw::enter(&service, "ledger", &keeper_token).await;
    keeper.send(&json!({ "type": "presence", "set": { "selection": [MARK], "caret": { "at": format!("/ledger/{MARK}/notes"), "index": 1 } } })).await;
    keeper.send(&json!({ "type": "hold", "n": 1, "at": format!("/ledger/{MARK}") })).await;
    for round in 0..60 {
        let id = format!("{MARK}-{round}");
        keeper
            .propose(json!([
                { "at": "/ledger", "op": "put", "id": id, "value": { "sum": MARK, "notes": MARK } },
                { "at": format!("/ledger/{id}/notes"), "op": "splice", "index": 0, "delete": 0, "insert": MARK },
                { "at": "/offers", "op": "put", "id": format!("o-{round}"), "value": { "amount": 1, "limit": MARK } },
                { "at": "/offers/o1/limit", "op": "set", "value": format!("{MARK} {round}") },
                { "at": "/offers/o1/amount", "op": "add", "by": 1 },
                { "at": "/title", "op": "set", "value": format!("round {round}") },
            ]))
            .await;
        keeper.answer().await.unwrap();
        second.seq = 0;
        second.propose(json!([{ "at": "/box", "op": "set", "value": MARK }])).await;
        let _ = second.answer().await;
        second.propose(json!([{ "at": "/offers/o1/limit", "op": "set", "value": MARK }])).await;
        second.answer().await.unwrap();
        second.propose(json!([{ "at": format!("/offers/o-{round}"), "op": "drop" }])).await;
        second.answer().await.unwrap();
    }
    // A word beside a hidden edit may speak of it.
    keeper.n += 1;
    let worded = json!({ "type": "propose", "n": keeper.n, "seen": keeper.seq, "answered": 0, "note": MARK, "gesture": MARK,
        "edits": [{ "at": "/offers/o1/limit", "op": "set", "value": MARK }, { "at": "/title", "op": "set", "value": "worded" }] });
    keeper.send(&worded).await;
    keeper.answer().await.unwrap();

    // The outsider asks about everything in every way, right and wrong.
    let propose = |edits: Value| {
        let body = json!({ "edits": edits, "seen": 0 });
        service
            .http
            .post(format!("{}/v1/sessions/ledger/proposals", service.server))
            .bearer_auth(&token)
            .json(&body)
    };
    let asked = [
        json!([{ "at": "/ledger/x", "op": "drop" }]),
        json!([{ "at": "/ledger", "op": "put", "id": "a", "value": {} }]),
        json!([{ "at": "/ledger", "op": "test", "value": {} }]),
        json!([{ "at": "/box", "op": "test", "value": 1 }]),
        json!([{ "at": "/box", "op": "set", "value": "mine" }]),
        json!([{ "at": "/boxx", "op": "set", "value": "mine" }]),
        json!([{ "at": "/quince7secre", "op": "set", "value": "mine" }]),
        json!([{ "at": "/offers/o1/limit", "op": "test", "value": 1 }]),
        json!([{ "at": "/offers/o1/limjt", "op": "test", "value": 1 }]),
        json!([{ "at": "/offers/o1", "op": "test", "value": 1 }]),
        json!([{ "at": "/offers", "op": "test", "value": 1 }]),
        json!([{ "at": "/offers", "op": "put", "id": "o1", "value": {} }]),
        json!([{ "at": "/offers", "op": "put", "id": "o2", "value": { "entry": "nobody" } }]),
        json!([{ "at": "/offers", "op": "put", "id": "o3", "value": { "limit": 3, "amount": "x" } }]),
        json!([{ "at": "", "op": "test", "value": 1 }]),
        json!([{ "at": "/titel", "op": "set", "value": 1 }]),
    ];
    for edits in asked {
        let shown = format!("proposals {edits}");
        heard.note(&shown, propose(edits).send().await.unwrap().bytes().await.unwrap());
    }
    let now = service.journal("ledger").await.len();
    let ways = [
        "/state".to_owned(),
        "/state?path=/ledger".into(),
        "/state?path=/box".into(),
        "/state?path=/offers".into(),
        "/state?path=/offers/o1".into(),
        "/state?path=/offers/o1/limit".into(),
        format!("/state?at={}", now / 2),
        "/state?at=0".into(),
        format!("/state?at={}&path=/offers", now / 2),
        format!("/diff?from=0&to={now}"),
        "/journal".into(),
        "/journal?form=json-patch".into(),
        format!("/journal?from={}&form=json-patch", now / 2),
        "/conflicts?most=1000".into(),
        "/charter".into(),
        "/export".into(),
        "/participants".into(),
        "/audit".into(),
        "/connections".into(),
        "/invitations".into(),
        "".into(),
    ];
    for way in &ways {
        let response = service
            .http
            .get(format!("{}/v1/sessions/ledger{way}", service.server))
            .bearer_auth(&token)
            .send()
            .await
            .unwrap();
        let headers = format!("{:?}", response.headers());
        heard.note(way, headers);
        heard.note(way, response.bytes().await.unwrap());
    }
    for (kind, document) in [
        (
            "application/json-patch+json",
            json!([{ "op": "test", "path": "/offers/o1/limit", "value": 1 }]),
        ),
        (
            "application/json-patch+json",
            json!([{ "op": "copy", "from": "/box", "path": "/title" }]),
        ),
        (
            "application/json-patch+json",
            json!([{ "op": "move", "from": "/offers/o1/limit", "path": "/title" }]),
        ),
        ("application/merge-patch+json", json!({ "ledger": { "x": 1 } })),
        ("application/merge-patch+json", json!({ "offers": { "o1": { "amount": "x" } } })),
    ] {
        let call = service
            .http
            .patch(format!("{}/v1/sessions/ledger/state", service.server))
            .bearer_auth(&token);
        let call = call.header("Content-Type", kind).header("If-Match", "\"1\"");
        heard.note(
            "PATCH with If-Match",
            call.try_clone()
                .unwrap()
                .body(document.to_string())
                .send()
                .await
                .unwrap()
                .bytes()
                .await
                .unwrap(),
        );
        let call = service
            .http
            .patch(format!("{}/v1/sessions/ledger/state", service.server))
            .bearer_auth(&token);
        heard.note(
            "PATCH",
            call.header("Content-Type", kind)
                .body(document.to_string())
                .send()
                .await
                .unwrap()
                .bytes()
                .await
                .unwrap(),
        );
    }
    // Holds and presence on what is hidden, and what a catch-up and a return bring.
    for frame in [
        json!({ "type": "hold", "n": 1, "at": format!("/ledger/{}", "x") }),
        json!({ "type": "presence", "set": { "caret": { "at": "/ledger/x/notes", "index": 0 } } }),
        json!({ "type": "cue", "n": 2, "name": "bell" }),
    ] {
        json_socket.send(Message::text(frame.to_string())).await.unwrap();
    }
    let (mut late, welcome) = listener(&service, "ledger", &token, "rendel.v1.json").await;
    heard.note("a late welcome", welcome);
    service.kill();
    service.launch();
    let (mut back, welcome) = listener(&service, "ledger", &token, "rendel.v1.json").await;
    heard.note("a welcome after a restart", welcome);
    for (way, socket) in [
        ("json", &mut json_socket),
        ("cbor", &mut cbor_socket),
        ("guest", &mut guest),
        ("late", &mut late),
        ("back", &mut back),
    ] {
        while let Ok(Some(Ok(message))) =
            tokio::time::timeout(Duration::from_millis(400), socket.next()).await
        {
            heard.note(way, message.into_data().to_vec());
        }
    }
    heard.note("events", events.await.unwrap());
    heard.note("patches", patches.await.unwrap());
    heard.note("metrics", service.get("/metrics").await.bytes().await.unwrap());
    let log = service.log();
    assert!(log.contains("\"DEBUG\""), "{log}");
    heard.note("the log", log);
    heard.check(60_000);

    // What is shown is complete: the outsider's own replica of what it may see agrees with the
    // service.
    let shown: Value = service
        .http
        .get(format!("{}/v1/sessions/ledger/state", service.server))
        .bearer_auth(&token)
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    assert_eq!(
        (&shown["title"], &shown["offers"]["o1"], shown.get("ledger")),
        (&json!("worded"), &json!({ "amount": 65, "entry": "e1" }), None)
    );
}

#[tokio::test]
async fn a_role_that_sees_a_part_agrees_on_that_part_and_hears_of_its_own_hidden_edits() {
    let service = Service::start_with(&[("RENDEL_DIGEST_EVERY", "5")]).await;
    service.publish(CHARTER).await;
    service.open("ledger", json!({ "box": null })).await;
    let token = service.token("ledger", "wren", "outsider").await;
    let target = rendel_client::Target {
        server: service.server.clone(),
        session: "ledger".into(),
        token,
        encoding: rendel_client::Encoding::Json,
    };
    let mut wren = rendel_client::Connection::new(target, uuid::Uuid::now_v7());
    while wren.replica().confirmed().is_none() {
        wren.next().await.unwrap();
    }
    let n = wren
        .propose(vec![rendel_core::Edit::new("/box", "set").with("value", "mine")])
        .await
        .unwrap();
    while wren.replica().pending().any(|open| open == n) {
        wren.next().await.unwrap();
    }
    for round in 0..30 {
        let edits = json!([{ "at": "/title", "op": "set", "value": round }, { "at": "/offers", "op": "put", "id": format!("o{round}"), "value": { "limit": 3 } }]);
        assert_eq!(
            service
                .post("/v1/sessions/ledger/proposals", &json!({ "edits": edits }))
                .await
                .status(),
            200
        );
    }
    while wren.replica().seq() < 31 {
        wren.next().await.unwrap();
    }
    assert_eq!(
        wren.replica().confirmed().unwrap()["offers"]["o3"],
        json!({ "amount": 0, "entry": null })
    );
    until("the replicas agree", async || {
        let _ = tokio::time::timeout(Duration::from_millis(50), wren.next()).await;
        let info: Value = service.get("/v1/sessions/ledger").await.json().await.unwrap();
        (info["agreed"] == 1 && info["differed"] == 0).then_some(())
    })
    .await;
}
