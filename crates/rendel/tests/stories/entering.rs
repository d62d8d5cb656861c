//! Entering, seeing, leaving.

use serde_json::json;

use crate::harness::{Raw, Service, name};

#[tokio::test]
async fn what_one_changes_the_sender_another_and_a_newcomer_all_get() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let (oda, tobin) = (
        service.token("headcount", "oda", "participant").await,
        service.token("headcount", "tobin", "participant").await,
    );
    let (mut oda, welcome) = Raw::enter(&service, "headcount", &oda).await;
    assert_eq!(welcome["state"], json!({ "heads": 41 }));
    assert_eq!(
        (&welcome["you"]["name"], &welcome["seq"], &welcome["epoch"]),
        (&json!("Oda"), &json!(0), &json!(1))
    );
    let (mut tobin, _) = Raw::enter(&service, "headcount", &tobin).await;
    let joined = oda.next("roster").await;
    assert_eq!(joined["joined"][0]["id"], "tobin");

    tobin.propose(json!([{ "at": "/heads", "op": "add", "by": 1 }])).await;
    let sender = tobin.answer().await.unwrap();
    let other = oda.next("settled").await["updates"][0].clone();
    assert_eq!(
        (&sender["seq"], &sender["effects"]),
        (&json!(1), &json!([{ "at": "/heads", "op": "add", "by": 1, "now": 42 }]))
    );
    assert_eq!(sender, other);
    assert_eq!(service.state("headcount").await, json!({ "heads": 42 }));
    let token = service.token("headcount", "anouk", "participant").await;
    let (_anouk, welcome) = Raw::enter(&service, "headcount", &token).await;
    assert_eq!((&welcome["state"], &welcome["seq"]), (&json!({ "heads": 42 }), &json!(1)));
    assert_eq!(welcome["roster"].as_array().unwrap().len(), 3);

    tobin.send(&json!({ "type": "leave" })).await;
    assert!(
        tobin
            .any()
            .await
            .is_none_or(|frame| frame["type"] == "roster" || frame["type"] == "digest")
    );
    loop {
        let roster = oda.next("roster").await;
        if roster["left"] == json!([{ "id": "tobin", "why": "left" }]) {
            break;
        }
    }
}

#[tokio::test]
async fn a_second_tab_changes_the_connections_and_nobody_joins() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let token = service.token("headcount", "oda", "participant").await;
    let (mut first, _) = Raw::enter(&service, "headcount", &token).await;
    let (second, welcome) = Raw::enter(&service, "headcount", &token).await;
    assert_eq!(
        (welcome["roster"].as_array().unwrap().len(), &welcome["roster"][0]["connections"]),
        (1, &json!(2))
    );
    let roster = first.next("roster").await;
    assert_eq!(
        (&roster["changed"][0]["connections"], &roster["joined"]),
        (&json!(2), &json!(null))
    );
    drop(second);
    assert_eq!(first.next("roster").await["changed"][0]["connections"], 1);
}

#[tokio::test]
async fn a_client_that_comes_back_gets_what_it_missed_and_one_too_far_behind_a_snapshot() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let token = service.token("slope-plan", "oda", "steward").await;
    let (mut oda, welcome) = Raw::enter(&service, "slope-plan", &token).await;
    for title in ["North", "West"] {
        oda.propose(json!([{ "at": "/title", "op": "set", "value": title }])).await;
        oda.answer().await.unwrap();
    }
    let mut back = Raw::connect(&service, "slope-plan").await;
    let enter = json!({ "type": "enter", "token": token, "client": back.client, "seen": 1, "epoch": welcome["epoch"], "audience": 0 });
    back.send(&enter).await;
    let welcome = back.next("welcome").await;
    assert_eq!((welcome.get("state"), welcome["updates"].as_array().unwrap().len()), (None, 1));
    assert_eq!(welcome["updates"][0]["effects"][0]["value"], "West");

    for _ in 0..40 {
        oda.propose(json!([{ "at": "/title", "op": "set", "value": "x".repeat(80) }])).await;
        oda.answer().await.unwrap();
    }
    let mut late = Raw::connect(&service, "slope-plan").await;
    late.send(
        &json!({ "type": "enter", "token": token, "client": late.client, "seen": 0, "epoch": 1, "audience": 0 }),
    )
    .await;
    assert!(
        late.next("welcome").await.get("state").is_some(),
        "the snapshot is smaller than 42 updates"
    );
}

#[tokio::test]
async fn a_client_that_enters_again_takes_its_own_place() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let token = service.token("headcount", "oda", "participant").await;
    let (mut old, _) = Raw::enter(&service, "headcount", &token).await;
    let mut new = Raw::connect(&service, "headcount").await;
    new.send(&json!({ "type": "enter", "token": token, "client": old.client })).await;
    assert_eq!(new.next("welcome").await["roster"][0]["connections"], 1);
    assert_eq!(old.bye().await, ("gone".to_owned(), 4013));

    let other = service.token("headcount", "tobin", "participant").await;
    let mut tobin = Raw::connect(&service, "headcount").await;
    tobin.send(&json!({ "type": "enter", "token": other, "client": old.client })).await;
    tobin.next("welcome").await;
    new.send(&json!({ "type": "ping", "sent": 1 })).await;
    new.next("pong").await;
}

#[tokio::test]
async fn a_late_joiner_of_ten_thousand_records_is_welcomed_with_all_of_them() {
    let service = Service::start().await;
    let charter = "charter = \"large\"\nversion = 1\n[state.markers]\nkind = \
        \"map\"\n[state.markers.each.note]\nkind = \"register\"\n";
    service.publish(charter).await;
    let records: serde_json::Map<_, _> =
        (0..10_000).map(|n| (format!("m{n:05}"), json!({ "note": format!("tree {n}") }))).collect();
    service.open("large", json!({ "markers": records })).await;
    let token = service.token("large", "oda", "participant").await;
    let (_, welcome) = Raw::enter(&service, "large", &token).await;
    assert_eq!(welcome["state"]["markers"].as_object().unwrap(), &records);
}

#[tokio::test]
async fn a_joiner_amid_updates_gets_a_state_and_the_updates_after_it_that_fit() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let token = service.token("headcount", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "headcount", &token).await;
    for round in 1..=20u64 {
        oda.propose(json!([{ "at": "/heads", "op": "add", "by": 1 }])).await;
        oda.answer().await.unwrap();
        let mut late = Raw::connect(&service, "headcount").await;
        late.send(&json!({ "type": "enter", "token": token, "client": late.client })).await;
        let welcome = late.next("welcome").await;
        let after = welcome["updates"].as_array().map_or(&[][..], Vec::as_slice);
        let heads =
            after.last().map_or(&welcome["state"]["heads"], |update| &update["effects"][0]["now"]);
        assert_eq!((heads, &welcome["seq"]), (&json!(41 + round), &json!(round)));
        let first = welcome["seq"].as_u64().unwrap() - after.len() as u64 + 1;
        assert!(
            after.iter().enumerate().all(|(index, update)| update["seq"] == first + index as u64)
        );
    }
}

#[tokio::test]
async fn a_full_session_says_so() {
    let service = Service::start().await;
    service
        .publish(
            "charter = \"small\"\nversion = 1\n[session]\nparticipants = \
            1\n[state.heads]\nkind = \"counter\"\n",
        )
        .await;
    service.open("small", json!({})).await;
    let (oda, tobin) = (
        service.token("small", "oda", "participant").await,
        service.token("small", "tobin", "participant").await,
    );
    let (_oda, _) = Raw::enter(&service, "small", &oda).await;
    let (_second, _) = Raw::enter(&service, "small", &oda).await;
    let mut late = Raw::connect(&service, "small").await;
    late.send(&json!({ "type": "enter", "token": tobin, "client": late.client })).await;
    assert_eq!(late.bye().await, ("crowded".to_owned(), 4042));
}

#[tokio::test]
async fn two_sets_of_an_unchanged_register_against_the_same_seen_one_settles_on_every_way_in() {
    let service = Service::start().await;
    let set = |value: u64| json!([{ "at": "/reserve", "op": "set", "value": value }]);
    for way in ["socket", "http", "command"] {
        let session = format!("barrel-{way}");
        service.open_as(&session, "last-barrel", json!({})).await;
        let token = service.token(&session, "oda", "steward").await;
        let (mut winner, _) = Raw::enter(&service, &session, &token).await;
        let (mut loser, _) = Raw::enter(&service, &session, &token).await;
        winner.propose(set(50)).await;
        winner.answer().await.unwrap();
        let (kind, current) = match way {
            "socket" => {
                loser.propose(set(60)).await;
                let problem = loser.answer().await.unwrap_err();
                (name(&problem), problem["current"].clone())
            }
            "http" => {
                let body = json!({ "edits": set(60), "seen": 0 });
                let response =
                    service.post(&format!("/v1/sessions/{session}/proposals"), &body).await;
                assert_eq!(response.status(), 409);
                let problem: serde_json::Value = response.json().await.unwrap();
                (name(&problem), problem["current"].clone())
            }
            _ => {
                let output = service.rendel(&[
                    "--json",
                    "propose",
                    &session,
                    "/reserve set 60",
                    "--seen",
                    "0",
                    "--as",
                    "steward",
                ]);
                assert_eq!(output.status.code(), Some(1));
                let problem: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
                (name(&problem), problem["current"].clone())
            }
        };
        assert_eq!((kind.as_str(), current), ("stale", json!(50)), "{way}");
        assert_eq!(service.state(&session).await["reserve"], 50);
    }
}
