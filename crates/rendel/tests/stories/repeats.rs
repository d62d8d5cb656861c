//! What is sent again counts once, for whoever sent it and for nobody else.

use reqwest::Method;
use serde_json::{Value, json};

use crate::harness::{Raw, Service, name};

const CHARTER: &str = r#"
charter = "gate"
version = 1
[roles.steward]
edit = ["/**"]
[roles.picker]
edit = ["/heads"]
see = ["/**", { but = "/reserve" }]
[state.heads]
kind = "counter"
max  = 50
[state.reserve]
kind = "register"
merge = "unchanged"
"#;

async fn gate() -> Service {
    let service = Service::start().await;
    service.publish(CHARTER).await;
    service.open("gate", json!({ "reserve": "plum brandy" })).await;
    service
}

fn add(by: i64) -> Value {
    json!([{ "at": "/heads", "op": "add", "by": by }])
}

/// A call with a key; gives its status and its answer.
async fn call(service: &Service, token: &str, key: &str, edits: &Value) -> (u16, Value) {
    let request = service
        .http
        .post(format!("{}/v1/sessions/gate/proposals", service.server))
        .bearer_auth(token);
    let answer = request
        .header("Idempotency-Key", key)
        .json(&json!({ "edits": edits }))
        .send()
        .await
        .unwrap();
    (answer.status().as_u16(), answer.json().await.unwrap())
}

#[tokio::test]
async fn a_key_stands_for_one_call_of_one_participant_also_after_a_restart() {
    let mut service = gate().await;
    let oda = service.token("gate", "oda", "picker").await;
    let bram = service.token("gate", "bram", "picker").await;
    let (status, first) = call(&service, &oda, "k1", &add(1)).await;
    assert_eq!((status, &first["seq"]), (200, &json!(1)));
    assert_eq!(
        call(&service, &oda, "k2", &add(500)).await.1["type"],
        "urn:rendel:problem:out-of-bounds"
    );
    for round in 0..2 {
        assert_eq!(call(&service, &oda, "k1", &add(1)).await, (200, first.clone()), "{round}");
        for (key, edits) in [("k1", add(2)), ("k2", add(1))] {
            let (status, other) = call(&service, &oda, key, &edits).await;
            assert_eq!((status, name(&other)), (422, "key-reused".to_owned()), "{round} {key}");
        }
        assert_eq!(name(&call(&service, &oda, "k2", &add(500)).await.1), "out-of-bounds");
        let patch = service
            .http
            .patch(format!("{}/v1/sessions/gate/state", service.server))
            .bearer_auth(&oda);
        let patch = patch
            .header("Idempotency-Key", "k1")
            .header("Content-Type", "application/merge-patch+json");
        let patched = patch.body(json!({ "edits": add(1) }).to_string()).send().await.unwrap();
        assert_eq!(name(&patched.json().await.unwrap()), "key-reused", "another call");
        if round == 0 {
            service.kill();
            service.launch();
        }
    }
    // The same key of somebody else is another one.
    assert_eq!(call(&service, &bram, "k1", &add(7)).await.1["seq"], 2);
    assert_eq!(service.state("gate").await["heads"], 8);
    // It goes along with the session.
    let text = service.get("/v1/sessions/gate/export").await.text().await.unwrap();
    let copied = service
        .request(Method::POST, "/v1/sessions/import?id=copy")
        .body(text)
        .send()
        .await
        .unwrap();
    assert_eq!(copied.status(), 201);
    let token = service.token("copy", "oda", "picker").await;
    let again = service
        .http
        .post(format!("{}/v1/sessions/copy/proposals", service.server))
        .bearer_auth(&token);
    let again = again
        .header("Idempotency-Key", "k1")
        .json(&json!({ "edits": add(1) }))
        .send()
        .await
        .unwrap();
    assert_eq!(again.json::<Value>().await.unwrap()["seq"], 1);
    assert_eq!(service.state("copy").await["heads"], 8);
}

#[tokio::test]
async fn a_call_without_a_key_is_forgotten_whatever_became_of_it() {
    let service = gate().await;
    for by in [1, 500, 1] {
        service.post("/v1/sessions/gate/proposals", &json!({ "edits": add(by) })).await;
    }
    let merge = service.request(Method::PATCH, "/v1/sessions/gate/state");
    let merge =
        merge.header("Content-Type", "application/merge-patch+json").body(r#"{"heads":900}"#);
    assert_eq!(merge.send().await.unwrap().status(), 422);
    assert_eq!(service.sql("SELECT count(*) FROM refusals"), "0");
    let journal = service.journal("gate").await;
    assert!(journal.len() == 2 && journal.iter().all(|update| update["n"] == 0), "{journal:?}");
    let oda = service.token("gate", "oda", "picker").await;
    let (mut oda, _) = Raw::enter(&service, "gate", &oda).await;
    oda.send(&json!({ "type": "propose", "n": 0, "seen": 2, "answered": 0, "edits": add(1) }))
        .await;
    assert_eq!(
        name(&oda.next("refused").await["problem"]),
        "malformed",
        "a client numbers what it proposes"
    );
}

#[tokio::test]
async fn somebody_else_s_client_id_gives_nothing_of_theirs() {
    let mut service = gate().await;
    let steward = service.token("gate", "mirela", "steward").await;
    let (mut mirela, _) = Raw::enter(&service, "gate", &steward).await;
    mirela.propose(add(1)).await;
    mirela.answer().await.unwrap();
    // Hers is refused with a value that pickers do not see, and she goes away without having heard
    // all.
    mirela
        .send(&json!({ "type": "propose", "n": 2, "seen": 1, "answered": 0, "edits": [
        { "at": "/reserve", "op": "test", "value": "cider" }] }))
        .await;
    assert_eq!(mirela.next("refused").await["problem"]["current"], "plum brandy");
    let client = mirela.client;
    for is_here in [true, false] {
        if !is_here {
            mirela.socket.close(None).await.unwrap();
            service.kill();
            service.launch();
        }
        let token = service.token("gate", "lucjan", "picker").await;
        let mut lucjan = Raw::connect(&service, "gate").await;
        lucjan.client = client;
        let enter = json!({ "type": "enter", "token": token, "client": client, "seen": 0, "epoch": 1, "audience": 0 });
        lucjan.send(&enter).await;
        let welcome = lucjan.next("welcome").await;
        let told = if is_here { json!([]) } else { json!([{ "n": 1, "seq": 2 }]) };
        assert_eq!(welcome["outcomes"], told, "his own and no other");
        assert!(!welcome.to_string().contains("plum"));
        // He numbers his own from 1, and they count; hers are where they were.
        let seq = welcome["seq"].as_u64().unwrap();
        let n = if is_here { 1 } else { 2 };
        lucjan.send(&json!({ "type": "propose", "n": n, "seen": seq, "answered": n - 1, "edits": add(10) })).await;
        let update = lucjan.next("settled").await["updates"][0].clone();
        assert_eq!((&update["by"], &update["n"]), (&json!("lucjan"), &json!(n)));
        if is_here {
            mirela.seq = 1;
            assert_eq!(
                mirela.next("settled").await["updates"][0]["by"],
                "lucjan",
                "she is still here"
            );
        }
    }
    let mut back = Raw::connect(&service, "gate").await;
    back.send(&json!({ "type": "enter", "token": steward, "client": client })).await;
    let welcome = back.next("welcome").await;
    let outcomes: Vec<_> =
        welcome["outcomes"].as_array().unwrap().iter().map(|one| one["n"].clone()).collect();
    assert_eq!(outcomes, [1, 2], "hers alone");
    assert_eq!(welcome["state"]["heads"], 21);
}

/// A call of the backend with a key; gives its status and its answer.
async fn backend(service: &Service, path: &str, key: &str, body: &Value) -> (u16, Value) {
    let request = service.request(Method::POST, path).header("Idempotency-Key", key).json(body);
    let answer = request.send().await.unwrap();
    (answer.status().as_u16(), answer.json().await.unwrap())
}

#[tokio::test]
async fn the_backend_s_own_calls_count_once_too() {
    let mut service = gate().await;
    let calls = [
        ("/v1/tokens", json!({ "session": "gate", "sub": "oda", "role": "picker" })),
        ("/v1/sessions/gate/invitations", json!({ "role": "picker", "uses": 2 })),
        ("/v1/sessions", json!({ "charter": "gate" })),
        ("/v1/sessions/gate/reset", json!({})),
    ];
    // At the same moment, and again after a restart: one thing is done, with one answer.
    let mut first = Vec::new();
    for (path, body) in &calls {
        let twice = [backend(&service, path, "k1", body), backend(&service, path, "k1", body)];
        let answers = futures_util::future::join_all(twice).await;
        assert!(answers[0].0 < 300, "{path}: {answers:?}");
        assert_eq!(answers[0], answers[1], "{path}");
        first.push(answers[0].clone());
    }
    service.kill();
    service.launch();
    for ((path, body), first) in calls.iter().zip(&first) {
        assert_eq!(backend(&service, path, "k1", body).await, *first, "{path}");
        let mut other = body.clone();
        other["note"] = json!("another");
        let other = match *path {
            "/v1/tokens" => json!({ "session": "gate", "sub": "bram", "role": "picker" }),
            "/v1/sessions" => json!({ "charter": "gate", "id": "another" }),
            "/v1/sessions/gate/reset" => json!({ "opening": { "heads": 7 } }),
            _ => json!({ "role": "picker" }),
        };
        let (status, answer) = backend(&service, path, "k1", &other).await;
        assert_eq!((status, name(&answer)), (422, "key-reused".to_owned()), "{path}");
        assert_ne!(backend(&service, path, "k2", body).await, *first, "{path}");
    }
    let counts = "SELECT (SELECT count(*) FROM sessions) || ' ' || (SELECT count(*) FROM \
        invitations) || ' ' || (SELECT count(*) FROM audit WHERE what = 'issued a token')";
    assert_eq!(service.sql(counts), "3 2 2");
    assert_eq!(service.journal("gate").await.len(), 2, "two resets");
    // The code is told again, and stored nowhere.
    let code = first[1].1["code"].as_str().unwrap();
    assert_eq!(
        service.sql(&format!("SELECT count(*) FROM calls WHERE answer LIKE '%{code}%'")),
        "0"
    );
    let token = first[0].1["token"].as_str().unwrap();
    Raw::enter(&service, "gate", token).await;
}

#[tokio::test]
async fn a_session_is_opened_or_got_by_its_id() {
    let service = gate().await;
    let put = async |id: &str, body: Value| {
        let path = format!("/v1/sessions/{id}");
        let answer = service.request(Method::PUT, &path).json(&body).send().await.unwrap();
        (answer.status().as_u16(), answer.json::<Value>().await.unwrap())
    };
    let wanted = json!({ "charter": "gate", "opening": { "heads": 3 } });
    let both = [put("east", wanted.clone()), put("east", wanted.clone())];
    let mut statuses: Vec<_> =
        futures_util::future::join_all(both).await.into_iter().map(|(status, _)| status).collect();
    statuses.sort_unstable();
    assert_eq!(statuses, [200, 201], "one opens it and the other gets it");
    let (status, info) = put("east", json!({ "charter": "gate", "version": 1 })).await;
    assert_eq!((status, &info["id"]), (200, &json!("east")));
    assert_eq!(service.state("east").await["heads"], 3);
    // What is not used has to fit all the same, or it is found out on the day when it is.
    let unfit = put("east", json!({ "charter": "gate", "opening": [3] })).await;
    assert_eq!((unfit.0, name(&unfit.1)), (422, "wrong-type".to_owned()));
    service.publish(&CHARTER.replace("charter = \"gate\"", "charter = \"other\"")).await;
    let (status, problem) = put("east", json!({ "charter": "other" })).await;
    assert_eq!((status, name(&problem)), (409, "exists".to_owned()));
    assert_eq!(put("west", json!({ "charter": "gate", "id": "east" })).await.0, 400);
    assert_eq!(put("west", json!({ "charter": "none" })).await.0, 404);
    assert_eq!(service.get("/v1/sessions/west").await.status(), 404);
}
