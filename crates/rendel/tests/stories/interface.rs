//! The HTTP interface, and the documents that describe it.

use std::fs;

use rendel_core::ProblemKind;
use rendel_wire::{FromParticipant, FromService};
use serde_json::{Value, json};

use crate::harness::{Service, name};

fn document(name: &str) -> String {
    fs::read_to_string(format!("{}/../../{name}", env!("CARGO_MANIFEST_DIR"))).unwrap()
}

#[test]
fn the_protocol_s_page_names_every_frame_every_problem_and_every_call() {
    let page = document("docs/protocol.md");
    for frame in FromParticipant::NAMES.iter().chain(FromService::NAMES) {
        assert!(page.contains(&format!("`{frame}`")), "the frame {frame}");
    }
    for kind in ProblemKind::ALL {
        let row = format!("| `{}` | {} | {} |", kind.name(), kind.status(), 4000 + kind.number());
        assert!(page.contains(&row), "{row}");
    }
    let openapi: Value = serde_json::from_str(&rendel_service::openapi_json()).unwrap();
    for (path, calls) in openapi["paths"].as_object().unwrap() {
        for call in calls.as_object().unwrap().keys() {
            let row = format!("`{} /v1{path}`", call.to_uppercase());
            assert!(page.contains(&row), "{row}");
        }
    }
}

#[test]
fn the_charter_s_page_names_every_kind_and_the_demo_charters_fit_the_published_schema() {
    let page = document("docs/charter.md");
    for kind in rendel_core::KINDS {
        let kind = kind.name;
        assert!(page.contains(&format!("### `{kind}`")), "{kind}");
    }
    let schema: Value = serde_json::from_str(rendel_core::charter_schema()).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    for name in ["headcount", "slope-plan", "last-barrel", "pressing-sheet", "picking-board"] {
        let charter =
            rendel_core::Charter::parse(&document(&format!("demo/charters/{name}.toml"))).unwrap();
        assert!(validator.is_valid(&charter.to_json()), "{name}");
    }
    for (key, value) in [
        ("state", json!({ "heads": { "kind": "countre" } })),
        ("vresion", json!(2)),
        ("version", json!(0)),
    ] {
        let mut charter = json!({ "charter": "headcount", "version": 1, "state": { "heads": { "kind": "counter" } } });
        assert!(validator.is_valid(&charter));
        charter[key] = value;
        assert!(!validator.is_valid(&charter), "{charter}");
    }
}

#[tokio::test]
async fn the_state_has_a_tag_and_parts() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let first = service.get("/v1/sessions/slope-plan/state").await;
    assert_eq!(first.headers()["etag"], "\"0\"");
    let again = |tag: &'static str| {
        service
            .request(reqwest::Method::GET, "/v1/sessions/slope-plan/state")
            .header("If-None-Match", tag)
            .send()
    };
    for (tag, status) in [
        ("\"0\"", 304),
        ("W/\"0\"", 304),
        ("\"7\", \"0\"", 304),
        ("*", 304),
        ("\"7\"", 200),
        ("mist", 400),
    ] {
        assert_eq!(again(tag).await.unwrap().status(), status, "{tag}");
    }
    let part: Value = service
        .get("/v1/sessions/slope-plan/state?path=/markers/ladder-1/spot")
        .await
        .json()
        .await
        .unwrap();
    assert_eq!(part, json!({ "x": 30, "y": 24 }));
    for (query, status) in [("path=/nothing", 404), ("path=markers", 400), ("paht=/markers", 400)] {
        let response = service.get(&format!("/v1/sessions/slope-plan/state?{query}")).await;
        assert_eq!(
            (response.status().as_u16(), response.headers()["content-type"].to_str().unwrap()),
            (status, "application/problem+json"),
            "{query}"
        );
    }
    let body =
        json!({ "edits": [{ "at": "/crates", "op": "add", "by": 2 }], "note": "from the cart" });
    let update: Value =
        service.post("/v1/sessions/slope-plan/proposals", &body).await.json().await.unwrap();
    assert_eq!(
        (&update["seq"], &update["by"], &update["note"]),
        (&json!(1), &json!("service"), &json!("from the cart"))
    );
    assert_eq!(again("\"0\"").await.unwrap().headers()["etag"], "\"1\"");
    assert_eq!(service.journal("slope-plan").await, [update]);
    let role = service.post("/v1/sessions/slope-plan/proposals?as=viewer", &body).await;
    assert_eq!(role.status(), 403, "the backend may speak as a role");
}

#[tokio::test]
async fn a_long_journal_comes_whole_and_in_order() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    for _ in 0..25 {
        let edits: Vec<_> =
            (0..100).map(|_| json!({ "at": "/heads", "op": "add", "by": 1 })).collect();
        for _ in 0..50 {
            assert_eq!(
                service
                    .post("/v1/sessions/headcount/proposals", &json!({ "edits": &edits[..1] }))
                    .await
                    .status(),
                200
            );
        }
    }
    let journal = service.journal("headcount").await;
    assert!(journal.iter().enumerate().all(|(index, update)| update["seq"] == index as u64 + 1));
    assert_eq!(journal.len(), 1_250);
    let part =
        service.get("/v1/sessions/headcount/journal?from=1200&to=1202").await.text().await.unwrap();
    assert_eq!(part.lines().count(), 3);
}

#[tokio::test]
async fn the_conflicts_are_told_newest_first_and_nothing_else_is() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let set = |seen: u64, value: Value| json!({ "seen": seen, "edits": [{ "at": "/title", "op": "set", "value": value }] });
    for body in [
        set(0, json!("North")),
        set(0, json!("West")),
        json!({ "edits": [{ "at": "/markers/ladder-1/note", "op": "set", "value": "says \
            \"verdicts\":[{ in its note" }] }),
        set(0, json!("East")),
    ] {
        assert_eq!(
            service.post("/v1/sessions/slope-plan/proposals", &body).await.status(),
            200,
            "{body}"
        );
    }
    let told: Value = service.get("/v1/sessions/slope-plan/conflicts").await.json().await.unwrap();
    let seqs: Vec<_> =
        told.as_array().unwrap().iter().map(|update| update["seq"].as_u64().unwrap()).collect();
    assert_eq!(seqs, [4, 2]);
    assert_eq!(
        (&told[0]["verdicts"][0]["verdict"], &told[0]["verdicts"][0]["lost"]),
        (&json!("overrode"), &json!("West"))
    );
    let older: Value = service
        .get("/v1/sessions/slope-plan/conflicts?before=4&most=1")
        .await
        .json()
        .await
        .unwrap();
    assert_eq!((older.as_array().unwrap().len(), &older[0]["seq"]), (1, &json!(2)));
    assert_eq!(service.get("/v1/sessions/slope-plan/conflicts?most=0").await.status(), 422);
    let said = String::from_utf8(service.rendel(&["conflicts", "slope-plan"]).stdout).unwrap();
    assert!(said.contains("/title overrode: It replaced \"West\" of update 2"), "{said}");
}

#[tokio::test]
async fn charters_are_published_once_and_a_session_keeps_its_version() {
    let service = Service::start().await;
    let one = crate::harness::HEADCOUNT.to_owned();
    let publish = async |source: &str| {
        let response = service
            .request(reqwest::Method::POST, "/v1/charters")
            .body(source.to_owned())
            .send()
            .await
            .unwrap();
        (response.status().as_u16(), response.json::<Value>().await.unwrap())
    };
    assert_eq!(publish(&one).await.0, 200, "the same text again");
    let changed = publish(&one.replace("min  = 0", "min  = 1")).await;
    assert_eq!((changed.0, name(&changed.1)), (409, "exists".to_owned()));
    service.open("headcount", json!({})).await;
    assert_eq!(
        publish(&one.replace("version = 1", "version = 2").replace("min  = 0", "min  = -5"))
            .await
            .0,
        201
    );
    let faulty = publish(&one.replace("counter", "countre")).await;
    assert_eq!((faulty.0, name(&faulty.1)), (422, "charter".to_owned()));
    assert_eq!(
        (&faulty.1["faults"][0]["line"], &faulty.1["faults"][0]["did_you_mean"]),
        (&json!(7), &json!("counter"))
    );
    let info: Value = service.get("/v1/sessions/headcount").await.json().await.unwrap();
    assert_eq!(info["version"], 1);
    let text = service.get("/v1/charters/headcount?version=1").await.text().await.unwrap();
    assert_eq!(text, one);
    let again =
        service.post("/v1/sessions", &json!({ "id": "headcount", "charter": "headcount" })).await;
    assert_eq!(again.status(), 409);
    for body in [
        json!({ "charter": "nowhere" }),
        json!({ "charter": "headcount", "id": "a b" }),
        json!({ "charter": "headcount", "opening": { "heads": "x" } }),
    ] {
        let status = service.post("/v1/sessions", &body).await.status();
        assert!(status.is_client_error(), "{body}: {status}");
    }
    let list: Value = service.get("/v1/charters").await.json().await.unwrap();
    let versions: Vec<_> = list["charters"]
        .as_array()
        .unwrap()
        .iter()
        .map(|entry| (entry["charter"].clone(), entry["version"].clone()))
        .collect();
    assert!(versions.contains(&(json!("headcount"), json!(2))));
}

#[tokio::test]
async fn the_service_describes_and_watches_itself() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    assert_eq!(service.get("/healthz").await.status(), 200);
    assert_eq!(service.get("/readyz").await.status(), 200);
    let openapi: Value = service.get("/v1/openapi.json").await.json().await.unwrap();
    assert!(openapi["openapi"].as_str().unwrap().starts_with("3.1"));
    let schema: Value = service.get("/v1/charter-schema.json").await.json().await.unwrap();
    assert_eq!(schema["title"], "Rendel charter");
    let missing = service.get("/v1/sesions").await;
    assert_eq!(
        (missing.status().as_u16(), name(&missing.json().await.unwrap())),
        (404, "not-found".to_owned())
    );
    service
        .post(
            "/v1/sessions/headcount/proposals",
            &json!({ "edits": [{ "at": "/heads", "op": "add", "by": 1 }] }),
        )
        .await;
    assert!(service.metric("rendel_settled_total").await >= 1.0);
    let text = service.get("/metrics").await.text().await.unwrap();
    assert!(text.ends_with("# EOF\n"), "OpenMetrics has an end");
    let page = service.get("/sessions/headcount").await;
    assert!(
        page.headers()["content-security-policy"].to_str().unwrap().contains("default-src 'self'")
    );
    assert!(page.text().await.unwrap().contains("<div id=\"root\">"));
}
