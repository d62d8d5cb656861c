//! What somebody may see and do follows what the backend says, and what is deleted is gone.

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::harness::{Events, Raw, Service, name, until};

const CHARTER: &str = r#"
charter = "bidding"
version = 1
[session]
retain = "1m"
[presence.fields]
pointer = {}
[roles.steward]
edit = ["/**"]
[roles.bidder]
edit = [{ at = "/heads", if = "who.claims.row == 3" }]
see = ["/**", { but = "/reserve" }]
[roles.viewer]
edit = []
see = ["/heads"]
roster = "count"
[roles.passer-by]
edit = []
see = ["/heads"]
roster = "none"
[state.heads]
kind = "counter"
[state.reserve]
kind = "register"
"#;

/// In the part of the state that only stewards see.
const HIDDEN: &str = "hidden-reserve";

async fn start() -> Service {
    let service = Service::start().await;
    service.publish(CHARTER).await;
    service.open("bidding", json!({ "reserve": HIDDEN })).await;
    service
}

async fn amend(service: &Service, sub: &str, changes: Value) -> Value {
    let path = format!("/v1/sessions/bidding/participants/{sub}");
    let response = service.request(Method::PATCH, &path).json(&changes).send().await.unwrap();
    assert_eq!(response.status(), StatusCode::OK);
    response.json().await.unwrap()
}

fn add() -> Value {
    json!([{ "at": "/heads", "op": "add", "by": 1 }])
}

async fn state_as(service: &Service, token: &str) -> Value {
    let url = format!("{}/v1/sessions/bidding/state", service.server);
    service.http.get(url).bearer_auth(token).send().await.unwrap().json().await.unwrap()
}

#[tokio::test]
async fn whoever_gets_another_role_goes_on_under_it_at_once_on_every_way() {
    let mut service = start().await;
    let token = service.token("bidding", "oda", "bidder").await;
    let (mut oda, welcome) = Raw::enter(&service, "bidding", &token).await;
    assert!(!welcome.to_string().contains(HIDDEN));
    let mut events = Events::open(&service, "bidding/events", Some(&token), None).await;
    assert_eq!(events.next().await.data, json!({ "heads": 0 }));
    let bram_token = service.token("bidding", "bram", "bidder").await;
    let (mut bram, _) = Raw::enter(&service, "bidding", &bram_token).await;

    // More: the state that they may see now comes by itself.
    assert_eq!(
        amend(&service, "oda", json!({ "role": "steward", "name": "Oda of the gate" })).await,
        json!({ "sub": "oda", "role": "steward", "name": "Oda of the gate" })
    );
    let welcome = oda.next("welcome").await;
    assert_eq!(
        (&welcome["you"]["role"], &welcome["state"]["reserve"]),
        (&json!("steward"), &json!(HIDDEN))
    );
    assert_eq!(events.next().await.data["reserve"], HIDDEN);
    assert_eq!(state_as(&service, &token).await["reserve"], HIDDEN);
    let changed = bram.next("roster").await["changed"][0].clone();
    assert_eq!(
        (&changed["name"], &changed["role"]),
        (&json!("Oda of the gate"), &json!("steward"))
    );
    oda.propose(json!([{ "at": "/reserve", "op": "set", "value": HIDDEN }])).await;
    oda.answer().await.unwrap();

    // Less: nothing of what is hidden leaves from here on.
    amend(&service, "oda", json!({ "role": "viewer" })).await;
    let welcome = oda.next("welcome").await;
    assert_eq!(
        (&welcome["you"]["role"], &welcome["state"]),
        (&json!("viewer"), &json!({ "heads": 0 }))
    );
    let mut event = events.next().await;
    while event.name != "state" {
        event = events.next().await;
    }
    assert_eq!(event.data, json!({ "heads": 0 }));
    let reserve = json!({ "edits": [{ "at": "/reserve", "op": "set", "value": HIDDEN }] });
    for edits in [reserve, json!({ "edits": add() })] {
        let answer = service.post("/v1/sessions/bidding/proposals", &edits).await;
        assert_eq!(answer.status(), StatusCode::OK);
    }
    let mut told = String::new();
    while oda.seq < 3 {
        let frame = oda.any().await.unwrap();
        if let Some(last) = frame["updates"].as_array().and_then(|updates| updates.last()) {
            oda.seq = last["seq"].as_u64().unwrap();
        }
        told += &frame.to_string();
    }
    while !told.contains("\"id\":3") {
        let event = events.next().await;
        told += &json!({ "data": event.data, "id": event.id }).to_string();
    }
    assert!(!told.contains(HIDDEN), "{told}");
    assert_eq!(state_as(&service, &token).await, json!({ "heads": 1 }));
    oda.propose(add()).await;
    assert_eq!(name(&oda.answer().await.unwrap_err()), "not-allowed");

    // Claims, and as the token says again; also for who has not come yet, and after a restart.
    amend(&service, "oda", json!({ "role": null, "name": null, "claims": { "row": 3 } })).await;
    assert_eq!(oda.next("welcome").await["you"]["name"], "Oda");
    oda.propose(add()).await;
    oda.answer().await.unwrap();
    amend(&service, "wren", json!({ "role": "steward" })).await;
    service.kill();
    service.launch();
    let wren = service.token("bidding", "wren", "viewer").await;
    let (_wren, welcome) = Raw::enter(&service, "bidding", &wren).await;
    assert_eq!(welcome["state"]["reserve"], HIDDEN);
    let (mut oda, _) = Raw::enter(&service, "bidding", &token).await;
    oda.propose(add()).await;
    oda.answer().await.expect("claims outlive a restart");
}

#[tokio::test]
async fn what_cannot_be_changed_of_a_participant_is_refused_and_changes_nothing() {
    let service = start().await;
    let token = service.token("bidding", "oda", "bidder").await;
    for (sub, changes, status) in [
        ("oda", json!({ "role": "stuard" }), 422),
        ("oda", json!({ "role": "service" }), 422),
        ("oda", json!({ "name": "" }), 400),
        ("oda", json!({ "claims": { "long": "x".repeat(2_000) } }), 400),
        ("oda", json!({ "claims": [] }), 400),
        ("oda", json!({ "rank": 1 }), 400),
        ("service", json!({ "role": "viewer" }), 403),
    ] {
        let path = format!("/v1/sessions/bidding/participants/{sub}");
        let response = service.request(Method::PATCH, &path).json(&changes).send().await.unwrap();
        assert_eq!(response.status().as_u16(), status, "{changes}");
    }
    let foreign =
        service.http.patch(format!("{}/v1/sessions/bidding/participants/oda", service.server));
    let foreign = foreign.bearer_auth(&token).json(&json!({ "role": "steward" })).send().await;
    assert_eq!(foreign.unwrap().status(), StatusCode::FORBIDDEN, "it is the backend's to say");
    assert_eq!(amend(&service, "oda", json!({})).await, json!({ "sub": "oda" }));
}

#[tokio::test]
async fn whoever_looks_on_is_counted_and_never_named() {
    let service = start().await;
    let (mut oda, welcome) =
        Raw::enter(&service, "bidding", &service.token("bidding", "oda", "steward").await).await;
    assert_eq!((welcome["roster"].as_array().unwrap().len(), &welcome["count"]), (1, &json!(1)));
    let mut lookers = Vec::new();
    for at in 0..5 {
        let token = service.token("bidding", &format!("looker-{at}"), "viewer").await;
        let (looker, welcome) = Raw::enter(&service, "bidding", &token).await;
        assert_eq!(welcome["roster"], json!([]), "they see no names");
        assert_eq!(welcome["count"], at + 2);
        lookers.push(looker);
    }
    let passer = service.token("bidding", "passer", "passer-by").await;
    let (mut passer, welcome) = Raw::enter(&service, "bidding", &passer).await;
    assert_eq!((&welcome["roster"], welcome.get("count")), (&json!([]), None));

    // The count comes, and no name of theirs.
    let mut told = String::new();
    loop {
        let frame = oda.next("roster").await;
        told += &frame.to_string();
        if frame["count"] == 7 {
            break;
        }
    }
    assert!(!told.contains("looker") && !told.contains("passer"), "{told}");
    oda.send(&json!({ "type": "presence", "set": { "pointer": { "x": 1, "y": 1 } } })).await;
    assert!(lookers[0].next("presence").await["of"]["oda"].is_object(), "they see what players do");
    // They tell nothing of themselves.
    let said = json!({ "type": "presence", "set": { "pointer": { "x": 2, "y": 2 } } });
    lookers[0].send(&said).await;
    assert_eq!(name(&lookers[0].next("notice").await["problem"]), "not-allowed");
    // Whoever is told nothing of people is told of what is settled.
    oda.propose(add()).await;
    loop {
        let frame = passer.any().await.unwrap();
        assert!(!["roster", "presence"].contains(&frame["type"].as_str().unwrap()), "{frame}");
        if frame["type"] == "settled" {
            break;
        }
    }
    // The backend sees all of them, and one who is named from now on has joined.
    let list: Value = service.get("/v1/sessions/bidding/participants").await.json().await.unwrap();
    assert_eq!(list["participants"].as_array().unwrap().len(), 7);
    amend(&service, "looker-3", json!({ "role": "bidder" })).await;
    let joined = loop {
        let frame = oda.next("roster").await;
        if let Some(joined) = frame.get("joined") {
            break joined[0]["id"].clone();
        }
    };
    assert_eq!(joined, "looker-3");
}

#[tokio::test]
async fn a_deleted_session_leaves_nothing_and_its_tokens_open_no_later_one() {
    let service = start().await;
    let beside = service.beside().await;
    let token = service.token("bidding", "oda", "steward").await;
    let (mut oda, _) = Raw::enter(&service, "bidding", &token).await;
    oda.propose(add()).await;
    oda.answer().await.unwrap();
    oda.propose(json!([{ "at": "/heads", "op": "ad", "by": 1 }])).await;
    oda.answer().await.unwrap_err();
    let invited =
        service.post("/v1/sessions/bidding/invitations", &json!({ "role": "bidder" })).await;
    assert_eq!(invited.status(), StatusCode::CREATED);
    amend(&service, "wren", json!({ "name": "Wren" })).await;
    service
        .request(Method::DELETE, "/v1/sessions/bidding/participants/sol?seconds=60")
        .send()
        .await
        .unwrap();

    // It goes on here, and is deleted elsewhere.
    let deleted = beside.request(Method::DELETE, "/v1/sessions/bidding").send().await.unwrap();
    assert_eq!(deleted.status(), StatusCode::NO_CONTENT);
    assert_eq!(oda.bye().await.0, "no-session");
    let again = service.request(Method::DELETE, "/v1/sessions/bidding").send().await.unwrap();
    assert_eq!(again.status(), StatusCode::NOT_FOUND);
    assert_eq!(service.get("/v1/sessions/bidding/state").await.status(), StatusCode::NOT_FOUND);
    for table in [
        "sessions",
        "journal",
        "snapshots",
        "refusals",
        "epochs",
        "invitations",
        "removals",
        "participants",
    ] {
        assert_eq!(service.sql(&format!("SELECT count(*) FROM {table}")), "0", "{table}");
    }
    let kept = service
        .sql("SELECT string_agg(what || by || detail, ' ') FROM audit WHERE session = 'bidding'");
    assert!(kept.contains("deleted") && !kept.contains("oda") && !kept.contains("sol"), "{kept}");

    // A later session of the same id is another one.
    service.open("bidding", json!({ "reserve": HIDDEN })).await;
    for service in [&service, &beside] {
        until("the old token is good for nothing", async || {
            (state_as(service, &token).await["status"] == 401).then_some(())
        })
        .await;
    }
    let new = service.token("bidding", "oda", "steward").await;
    assert_eq!(state_as(&service, &new).await["heads"], 0);
    service.terminate_beside(beside);
}

#[tokio::test]
async fn an_ended_session_is_deleted_when_its_charter_says_so() {
    let service = start().await;
    service.open_as("kept-open", "bidding", json!({})).await;
    let ended = service.post("/v1/sessions/bidding/end", &json!(null)).await;
    assert_eq!(ended.status(), StatusCode::OK);
    let due = "SELECT count(*) FROM sessions WHERE delete_at BETWEEN now() + interval '50s' AND now() + \
        interval '1m'";
    assert_eq!(service.sql(due), "1", "a minute after the end, and only what has ended");
    assert_eq!(service.get("/v1/sessions/bidding/state").await.status(), StatusCode::OK);
    service.sql("UPDATE sessions SET delete_at = now() WHERE delete_at IS NOT NULL");
    until("it is deleted", async || {
        let status = service.get("/v1/sessions/bidding/state").await.status();
        (status == StatusCode::NOT_FOUND).then_some(())
    })
    .await;
    assert_eq!(service.get("/v1/sessions/kept-open/state").await.status(), StatusCode::OK);
}

#[tokio::test]
async fn two_changes_of_one_participant_at_once_both_count() {
    let service = start().await;
    let token = service.token("bidding", "oda", "bidder").await;
    for round in 0..10 {
        let claims = json!({ "row": round });
        let changes = [json!({ "role": "steward" }), json!({ "claims": claims })];
        let both = changes.map(|changes| amend(&service, "oda", changes));
        futures_util::future::join_all(both).await;
        let now = amend(&service, "oda", json!({})).await;
        assert_eq!((&now["role"], &now["claims"]), (&json!("steward"), &claims), "{round}");
        amend(&service, "oda", json!({ "role": null, "claims": null })).await;
    }
    assert_eq!(state_as(&service, &token).await, json!({ "heads": 0 }));
}

const SIGNED: &str = r#"
charter = "ledger"
version = 1
[roles.picker]
edit = ["/**"]
[state.title]
kind = "register"
[state.rows]
kind = "map"
[state.rows.each.by]
kind = "register"
filled = "author"
[state.rows.each.what]
kind = "register"
"#;

#[tokio::test]
async fn a_participant_is_handed_out_and_forgotten_and_everything_else_stays() {
    let mut service = Service::start().await;
    service.publish(SIGNED).await;
    service.open("ledger", json!({})).await;
    let tokens = [
        service.token("ledger", "oda", "picker").await,
        service.token("ledger", "bram", "picker").await,
    ];
    let (mut oda, _) = Raw::enter(&service, "ledger", &tokens[0]).await;
    let (mut bram, welcome) = Raw::enter(&service, "ledger", &tokens[1]).await;
    let row = |id: &str, what: &str| json!([{ "at": "/rows", "op": "put", "id": id, "value": { "what": what } }]);
    for (who, id, what) in [(&mut oda, "a", "oda"), (&mut bram, "b", "plums")] {
        who.propose(row(id, what)).await;
        who.answer().await.unwrap();
    }
    oda.propose(json!([{ "at": "/title", "op": "set", "value": "by oda" }])).await;
    oda.answer().await.unwrap();
    let amended = service.request(Method::PATCH, "/v1/sessions/ledger/participants/oda");
    amended.json(&json!({ "name": "Oda of the gate" })).send().await.unwrap();
    // A snapshot has it, too.
    service.terminate();
    service.launch();

    let refused = service.rendel(&["session", "forget", "ledger", "--sub", "oda"]);
    assert!(!refused.status.success() && service.journal("ledger").await[0]["by"] == "oda");
    let next = service.get("/v1/sessions/ledger/participants/oda/record?after=1").await;
    let next: Value = next.json().await.unwrap();
    assert_eq!(
        (&next["updates"][0]["seq"], &next["acts"]),
        (&json!(3), &json!([])),
        "the first page has what they did"
    );
    let (mut bram, again) = Raw::enter(&service, "ledger", &tokens[1]).await;
    let output = service.rendel(&["session", "forget", "ledger", "--sub", "oda", "--yes"]);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let held: Value = serde_json::from_slice(&output.stdout).unwrap();
    let seqs: Vec<_> =
        held["updates"].as_array().unwrap().iter().map(|update| &update["seq"]).collect();
    assert_eq!((seqs, &held["name"]), (vec![&json!(1), &json!(3)], &json!("Oda of the gate")));
    let acts: Vec<_> =
        held["acts"].as_array().unwrap().iter().map(|act| act["what"].as_str().unwrap()).collect();
    assert_eq!(acts, ["issued a token", "changed a participant"]);

    // Whoever is here comes back to the same session, newcomers see the same, and nothing of theirs
    // was touched.
    assert_eq!(bram.bye().await.0, "shutting-down");
    let (_, welcome_back) = Raw::enter(&service, "ledger", &tokens[1]).await;
    let state = &welcome_back["state"];
    let alias = state["rows"]["a"]["by"].as_str().unwrap().to_owned();
    assert!(alias.starts_with("forgotten-"), "{alias}");
    let expected = json!({ "title": "by oda", "rows": {
        "a": { "by": alias, "what": "oda" }, "b": { "by": "bram", "what": "plums" } } });
    assert_eq!((state, &service.state("ledger").await), (&expected, &expected));
    assert!(welcome_back["epoch"].as_u64() > again["epoch"].as_u64());
    assert!(again["epoch"].as_u64() > welcome["epoch"].as_u64());
    let by: Vec<_> = service.journal("ledger").await.iter().map(|row| row["by"].clone()).collect();
    assert_eq!(by, [json!(alias), json!("bram"), json!(alias)]);
    // Nowhere but in the words of people, and in what keeps their tokens out.
    let left = "SELECT count(*) FROM (SELECT body FROM journal UNION ALL SELECT body FROM snapshots \
        UNION ALL SELECT by || detail FROM audit UNION ALL SELECT sub FROM participants) AS t (body) \
        WHERE replace(replace(body, '\"what\":\"oda\"', ''), 'by oda', '') ~ '\\moda\\M' AND body !~ \
        '\"what\":\\{\"[^}]*\"oda\"'";
    assert_eq!(service.sql(left), "0");
    let mut back = Raw::connect(&service, "ledger").await;
    back.send(&json!({ "type": "enter", "token": tokens[0], "client": back.client })).await;
    assert_eq!(back.bye().await.0, "bad-token");
    let record = service.get("/v1/sessions/ledger/participants/oda/record").await;
    let record: Value = record.json().await.unwrap();
    assert_eq!((&record["updates"], &record["acts"]), (&json!([]), &json!([])));
    assert_eq!(service.get("/v1/sessions/none/participants/oda/record").await.status(), 404);
}
