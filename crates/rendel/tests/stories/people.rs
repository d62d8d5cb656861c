//! Who is here, what they do, what they hold, and what is done about them.

use rendel_client::{Connection, Encoding, Target};
use serde_json::{Value, json};
use uuid::Uuid;

use crate::harness::{Raw, Service, name, until};

async fn enter(service: &Service, session: &str, who: &str, role: &str) -> (Raw, Value) {
    let token = service.token(session, who, role).await;
    Raw::enter(service, session, &token).await
}

async fn enter_as(service: &Service, session: &str, token: &str, client: Uuid) -> (Raw, Value) {
    let mut raw = Raw::connect(service, session).await;
    raw.client = client;
    raw.send(&json!({ "type": "enter", "token": token, "client": client })).await;
    let welcome = raw.next("welcome").await;
    (raw, welcome)
}

/// The next presence in which `who` is told.
/// What somebody with one tab tells, as it comes to somebody else.
async fn presence_of(raw: &mut Raw, who: &str) -> Value {
    loop {
        let frame = raw.next("presence").await;
        if let Some(told) = frame["of"].get(who) {
            return only(told);
        }
    }
}

/// The facts of somebody with one tab.
fn only(told: &Value) -> Value {
    let tabs = told.as_object().unwrap();
    assert_eq!(tabs.len(), 1, "{told}");
    tabs.values().next().unwrap().clone()
}

async fn answered(raw: &mut Raw, n: u64) -> Result<(), Value> {
    loop {
        let frame = raw.next("answer").await;
        if frame["n"] == n {
            return frame.get("problem").map_or(Ok(()), |problem| Err(problem.clone()));
        }
    }
}

#[tokio::test]
async fn two_at_one_record_see_where_the_other_is_and_a_tab_that_goes_without_a_word_leaves_no_hold_behind()
 {
    let service = Service::start().await;
    service.open_demo("pressing-sheet").await;
    let oda_token = service.token("pressing-sheet", "oda", "taster").await;
    let (mut oda, welcome) = Raw::enter(&service, "pressing-sheet", &oda_token).await;
    assert_eq!(
        (welcome.get("presence"), welcome.get("holds")),
        (None, None),
        "nobody tells or holds anything yet"
    );
    let (mut bram, _) = enter(&service, "pressing-sheet", "bram", "cellar").await;
    let joined = oda.next("roster").await["joined"][0].clone();
    assert_eq!((&joined["id"], &joined["connections"]), (&json!("bram"), &json!(1)));

    // Oda is in a text; Bram is told, and her caret moves with what he types before it.
    let notes = "/pressings/p1/notes";
    oda.send(&json!({ "type": "hold", "n": 1, "at": notes, "for": 6_000 })).await;
    assert_eq!(answered(&mut oda, 1).await, Ok(()));
    let taken = bram.next("holds").await["taken"][0].clone();
    assert_eq!((&taken["at"], &taken["by"]), (&json!(notes), &json!("oda")));
    let caret = json!({ "at": notes, "index": 4 });
    oda.send(&json!({ "type": "presence", "set": { "caret": caret, "typing": true } })).await;
    assert_eq!(presence_of(&mut bram, "oda").await, json!({ "caret": caret, "typing": true }));
    bram.propose(
        json!([{ "at": notes, "op": "splice", "index": 0, "delete": 0, "insert": "Very " }]),
    )
    .await;
    let held = bram.answer().await.unwrap_err();
    assert_eq!(
        (name(&held), &held["by"]),
        ("held".to_owned(), &json!("oda")),
        "binding holds keep others out"
    );
    let edit = json!([{ "at": notes, "op": "splice", "index": 0, "delete": 0, "insert": "Very " }]);
    let backend =
        service.post("/v1/sessions/pressing-sheet/proposals", &json!({ "edits": edit })).await;
    assert_eq!(backend.status(), 200, "the backend may do all");
    let (mut late, welcome) = enter(&service, "pressing-sheet", "paloma", "viewer").await;
    assert_eq!(
        only(&welcome["presence"]["oda"])["caret"],
        json!({ "at": notes, "index": 9 }),
        "a newcomer sees it where it is now"
    );
    assert_eq!(welcome["holds"][0]["by"], "oda");

    // What lapses by itself, lapses.
    assert_eq!(
        presence_of(&mut bram, "oda").await,
        json!({ "caret": { "at": notes, "index": 9 } })
    );
    // Her tab goes without a word. She is away, what she told goes, and her hold lapses on time.
    let client = oda.client;
    drop(oda);
    let away = loop {
        let frame = bram.next("roster").await;
        if frame["changed"][0]["id"] == "oda" {
            break frame["changed"][0].clone();
        }
    };
    assert_eq!((&away["away"], &away["connections"]), (&json!(true), &json!(0)));
    while !presence_of(&mut late, "oda").await.is_null() {}
    let freed = loop {
        let frame = bram.next("holds").await;
        if let Some(freed) = frame.get("freed") {
            break freed.clone();
        }
    };
    assert_eq!(freed, json!([notes]));
    bram.propose(edit).await;
    bram.answer().await.unwrap();
    // A reload is no leaving and coming: nobody is told that she left.
    let (mut back, _) = enter_as(&service, "pressing-sheet", &oda_token, client).await;
    let roster = bram.next("roster").await;
    assert_eq!(
        (&roster["changed"][0]["id"], roster.get("left"), roster.get("joined")),
        (&json!("oda"), None, None)
    );
    back.send(&json!({ "type": "leave" })).await;
    assert_eq!(bram.next("roster").await["left"], json!([{ "id": "oda", "why": "left" }]));
}

#[tokio::test]
async fn who_does_not_come_back_in_time_was_lost_and_several_tabs_are_one_participant() {
    let service = Service::start().await;
    let charter = "charter = \"brief\"\nversion = 1\n[presence]\nlinger = \
        \"300ms\"\n[state.heads]\nkind = \"counter\"\n";
    service.publish(charter).await;
    service.open("brief", json!({})).await;
    let token = service.token("brief", "oda", "participant").await;
    let (mut wren, _) = enter(&service, "brief", "wren", "participant").await;
    let (first, _) = Raw::enter(&service, "brief", &token).await;
    assert_eq!(wren.next("roster").await["joined"][0]["connections"], 1);
    let (second, welcome) = Raw::enter(&service, "brief", &token).await;
    assert_eq!(
        (
            wren.next("roster").await["changed"][0]["connections"].clone(),
            welcome["roster"].as_array().unwrap().len()
        ),
        (json!(2), 2)
    );
    drop(first);
    assert_eq!(wren.next("roster").await["changed"][0]["connections"], 1);
    drop(second);
    assert_eq!(wren.next("roster").await["changed"][0]["away"], true);
    assert_eq!(wren.next("roster").await["left"], json!([{ "id": "oda", "why": "lost" }]));
    let hues: Vec<_> = welcome["roster"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["hue"].as_i64().unwrap())
        .collect();
    let apart = (hues[0] - hues[1]).abs();
    assert!(apart.min(360 - apart) >= 24, "{hues:?}");
}

#[tokio::test]
async fn two_tabs_have_two_pointers_nobody_hears_their_own_and_what_lapsed_is_not_said_again() {
    let service = Service::start().await;
    let charter = "charter = \"brief\"\nversion = 1\n[surfaces.slope]\nunit = \"m\"\n\
        x = [0, 120]\ny = [0, 80]\n[presence.fields]\npointer = { surface = \"slope\" }\n\
        typing = { type = \"boolean\", linger = \"100ms\" }\n\
        [state.heads]\nkind = \"counter\"\n";
    service.publish(charter).await;
    service.open("brief", json!({})).await;
    let token = service.token("brief", "oda", "participant").await;
    let (mut bram, _) = enter(&service, "brief", "bram", "participant").await;
    let (mut left, one) = Raw::enter(&service, "brief", &token).await;
    let (mut right, two) = Raw::enter(&service, "brief", &token).await;
    let client = |welcome: &Value| welcome["you"]["client"].as_str().unwrap().to_owned();
    let (one, two) = (client(&one), client(&two));
    for (tab, x) in [(&mut left, 10), (&mut right, 20)] {
        let set = json!({ "pointer": { "x": x, "y": 1 } });
        tab.send(&json!({ "type": "presence", "set": set })).await;
    }
    let mut seen = serde_json::Map::new();
    while seen.len() < 2 {
        let frame = bram.next("presence").await;
        seen.extend(frame["of"]["oda"].as_object().unwrap().clone());
    }
    assert_eq!(
        (&seen[&one]["pointer"]["x"], &seen[&two]["pointer"]["x"]),
        (&json!(10), &json!(20))
    );
    let (_, welcome) = enter(&service, "brief", "wren", "participant").await;
    assert_eq!(welcome["presence"]["oda"], Value::Object(seen), "a newcomer sees both");
    while right.next("presence").await["of"]["oda"].get(&one).is_none() {}
    // The next frame of presence that a tab gets is not of its own next word.
    left.send(&json!({ "type": "presence", "set": { "pointer": { "x": 11, "y": 1 } } })).await;
    while right.next("presence").await["of"]["oda"][&one]["pointer"]["x"] != 11 {}
    bram.send(&json!({ "type": "presence", "set": { "pointer": { "x": 5, "y": 5 } } })).await;
    let mut heard = left.next("presence").await;
    while heard["of"].get("bram").is_none() {
        assert!(heard["of"]["oda"].get(&one).is_none() || heard["of"]["oda"].get(&two).is_some());
        heard = left.next("presence").await;
    }
    drop(left);
    while !right.next("presence").await["of"]["oda"][&one].is_null() {}

    let target = Target {
        server: service.server.clone(),
        session: "brief".to_owned(),
        token: service.token("brief", "tobin", "participant").await,
        encoding: Encoding::Json,
    };
    let mut tobin = Connection::new(target, uuid::Uuid::now_v7());
    while !tobin.is_connected() {
        tobin.next().await.unwrap();
    }
    let say = |connection: &mut Connection, set: Value| {
        connection.say(set.as_object().unwrap().clone());
    };
    say(&mut tobin, json!({ "typing": true, "pointer": { "x": 1, "y": 1 } }));
    let mut told = Value::Null;
    while told.get("typing").is_some() || told.get("pointer").is_none() {
        tokio::select! {
            event = tobin.next() => drop(event.unwrap()),
            now = presence_of(&mut bram, "tobin") => told = now,
        }
    }
    tobin.cut();
    while !tobin.is_connected() {
        tobin.next().await.unwrap();
    }
    let (_, welcome) = enter(&service, "brief", "paloma", "participant").await;
    assert_eq!(only(&welcome["presence"]["tobin"]), json!({ "pointer": { "x": 1, "y": 1 } }));
}

#[tokio::test]
async fn presence_is_the_newest_of_each_at_the_rate_of_the_charter_and_wrong_facts_are_told() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let (mut oda, welcome) = enter(&service, "slope-plan", "oda", "picker").await;
    assert_eq!(welcome["limits"]["presence_per_second"], 20);
    let (mut bram, _) = enter(&service, "slope-plan", "bram", "picker").await;
    for x in 0..40 {
        oda.send(&json!({ "type": "presence", "set": { "pointer": { "x": x, "y": 1 } } })).await;
    }
    let mut told = 0;
    loop {
        told += 1;
        if presence_of(&mut bram, "oda").await["pointer"]["x"] == 39 {
            break;
        }
    }
    assert!(told <= 20, "{told} of 40 were told");
    for (set, kind) in [
        (json!({ "pointer": { "x": 500, "y": 1 } }), "out-of-bounds"),
        (json!({ "pointr": { "x": 5, "y": 1 } }), "unknown-path"),
        (json!({ "caret": { "at": "/title", "index": 0 } }), "wrong-type"),
    ] {
        oda.send(&json!({ "type": "presence", "set": set })).await;
        assert_eq!(name(&oda.next("notice").await["problem"]), kind);
    }
    // What is selected and goes is selected no more.
    oda.send(&json!({ "type": "presence", "set": { "selection": ["ladder-1", "hazard-wasps"] } }))
        .await;
    while presence_of(&mut bram, "oda").await.get("selection").is_none() {}
    bram.propose(json!([{ "at": "/markers/ladder-1", "op": "drop" }])).await;
    bram.answer().await.unwrap();
    assert_eq!(presence_of(&mut bram, "oda").await["selection"], json!(["hazard-wasps"]));
    let journal = service.journal("slope-plan").await;
    assert_eq!(journal.len(), 1, "nothing of it is in the journal");
    let words = service.rendel(&["who", "slope-plan"]);
    let words = String::from_utf8(words.stdout).unwrap();
    assert!(words.contains("at 39.0, 1.0") && words.contains("has hazard-wasps"), "{words}");
}

#[tokio::test]
async fn a_hold_is_taken_over_by_who_has_the_power_and_is_advisory_where_the_charter_says_so() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let (mut oda, _) = enter(&service, "slope-plan", "oda", "picker").await;
    let (mut bram, _) = enter(&service, "slope-plan", "bram", "picker").await;
    let (mut anouk, _) = enter(&service, "slope-plan", "anouk", "steward").await;
    let hold = |n: u64, at: &str| json!({ "type": "hold", "n": n, "at": at });
    oda.send(&hold(1, "/markers/ladder-1")).await;
    assert_eq!(answered(&mut oda, 1).await, Ok(()));
    bram.send(&hold(1, "/markers/ladder-1")).await;
    assert_eq!(name(&answered(&mut bram, 1).await.unwrap_err()), "held");
    bram.send(&json!({ "type": "hold", "n": 2, "at": "/markers/ladder-1", "over": true })).await;
    assert_eq!(name(&answered(&mut bram, 2).await.unwrap_err()), "not-allowed");
    for (n, at, kind) in [
        (3, "/markers/none", "unknown-path"),
        (4, "/title", "not-allowed"),
        (5, "title", "malformed"),
    ] {
        bram.send(&hold(n, at)).await;
        assert_eq!((name(&answered(&mut bram, n).await.unwrap_err()), at), (kind.to_owned(), at));
    }
    // Here a hold is seen by all and keeps nobody out.
    bram.propose(json!([{ "at": "/markers/ladder-1/note", "op": "set", "value": "mine too" }]))
        .await;
    bram.answer().await.unwrap();
    anouk.send(&json!({ "type": "hold", "n": 1, "at": "/markers/ladder-1", "over": true })).await;
    assert_eq!(answered(&mut anouk, 1).await, Ok(()));
    while bram.next("holds").await["taken"][0]["by"] != "anouk" {}
    // Nobody holds or releases for somebody else: a frame has no place for another's name.
    oda.send(&json!({ "type": "release", "n": 2, "at": "/markers/ladder-1" })).await;
    assert_eq!(answered(&mut oda, 2).await, Ok(()));
    oda.send(&json!({ "type": "hold", "n": 3, "at": "/markers/ladder-2", "by": "anouk" })).await;
    assert_eq!(name(&oda.next("notice").await["problem"]), "malformed");
    oda.send(&json!({ "type": "presence", "of": "anouk", "set": {} })).await;
    assert_eq!(name(&oda.next("notice").await["problem"]), "malformed");
    let who: Value =
        service.get("/v1/sessions/slope-plan/participants").await.json().await.unwrap();
    assert_eq!(
        (&who["holds"][0]["by"], who["holds"].as_array().unwrap().len()),
        (&json!("anouk"), 1)
    );
    let audit: Value = service.get("/v1/sessions/slope-plan/audit").await.json().await.unwrap();
    assert_eq!(
        (&audit["entries"][0]["what"], &audit["entries"][0]["by"]),
        (&json!("took over"), &json!("anouk"))
    );
}

#[tokio::test]
async fn cues_go_to_whom_the_charter_says_and_leave_no_trace() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let (mut oda, _) = enter(&service, "slope-plan", "oda", "picker").await;
    let (mut anouk, _) = enter(&service, "slope-plan", "anouk", "steward").await;
    oda.send(&json!({ "type": "cue", "n": 1, "name": "bell" })).await;
    assert_eq!(name(&answered(&mut oda, 1).await.unwrap_err()), "not-allowed");
    for (n, frame, kind) in [
        (2, json!({ "name": "horn" }), "unknown-path"),
        (3, json!({ "name": "wave", "data": 7 }), "wrong-type"),
        (4, json!({ "name": "wave", "to": "everyone" }), "not-allowed"),
    ] {
        let mut frame = frame;
        frame["type"] = "cue".into();
        frame["n"] = n.into();
        oda.send(&frame).await;
        assert_eq!(name(&answered(&mut oda, n).await.unwrap_err()), kind, "{frame}");
    }
    oda.send(&json!({ "type": "cue", "n": 5, "name": "wave" })).await;
    assert_eq!(anouk.next("cue").await, json!({ "type": "cue", "name": "wave", "by": "oda" }));
    anouk.send(&json!({ "type": "cue", "n": 1, "name": "bell" })).await;
    assert_eq!(oda.next("cue").await["name"], "bell", "her own wave did not come back to her");
    assert_eq!(anouk.next("cue").await["name"], "bell", "everyone includes its sender");
    for n in 10..40 {
        oda.send(&json!({ "type": "cue", "n": n, "name": "wave" })).await;
    }
    let mut problem = None;
    for n in 10..40 {
        problem = answered(&mut oda, n).await.err().or(problem);
    }
    assert_eq!(problem.map(|problem| name(&problem)).as_deref(), Some("too-fast"));
    let rung = service.post("/v1/sessions/slope-plan/cues", &json!({ "name": "bell" })).await;
    assert_eq!(rung.status(), 204);
    assert_eq!(oda.next("cue").await["by"], "service");
    assert!(service.journal("slope-plan").await.is_empty());
}

#[tokio::test]
async fn a_removal_counts_on_every_way_in_until_it_is_over_or_lifted() {
    let mut service = Service::start().await;
    service.open_demo("slope-plan").await;
    let token = service.token("slope-plan", "anouk", "steward").await;
    let base = format!("{}/v1/sessions/slope-plan", service.server);
    let http = service.http.clone();
    let call = |method: &str, path: &str| {
        let call =
            http.request(method.parse().unwrap(), format!("{base}{path}")).bearer_auth(&token);
        let call = call.header(
            "Content-Type",
            if method == "PATCH" { "application/merge-patch+json" } else { "application/json" },
        );
        async move {
            let answer = call.send().await.unwrap();
            (answer.status().as_u16(), answer.text().await.unwrap())
        }
    };
    let ticket: Value = serde_json::from_str(&call("POST", "/tickets").await.1).unwrap();
    let ticket = ticket["ticket"].as_str().unwrap().to_owned();
    let remove = "/v1/sessions/slope-plan/participants/anouk?seconds=3600";
    assert_eq!(
        service.request("DELETE".parse().unwrap(), remove).send().await.unwrap().status(),
        204
    );
    let ways = [
        ("GET", "/state"),
        ("GET", "/state?at=0"),
        ("GET", "/diff?from=0"),
        ("GET", "/journal"),
        ("GET", "/conflicts"),
        ("GET", "/charter"),
        ("GET", "/events"),
        ("GET", "/removals"),
        ("PATCH", "/state"),
        ("POST", "/proposals"),
        ("POST", "/tickets"),
        ("POST", "/cues"),
        ("POST", "/freeze"),
        ("POST", "/thaw"),
        ("POST", "/reset"),
        ("DELETE", "/participants/bram"),
        ("DELETE", "/removals/anouk"),
    ];
    let until: Value = service.get("/v1/sessions/slope-plan/removals").await.json().await.unwrap();
    for round in 0..2 {
        for (method, path) in ways {
            let (status, text) = call(method, path).await;
            assert!(
                status == 403 && text.contains("problem:removed"),
                "{round} {method} {path}: {status} {text}"
            );
        }
        let mut again = Raw::connect(&service, "slope-plan").await;
        again.send(&json!({ "type": "enter", "token": token, "client": again.client })).await;
        assert_eq!(again.bye().await.0, "removed");
        let kept: Value =
            service.get("/v1/sessions/slope-plan/removals").await.json().await.unwrap();
        assert_eq!(
            (&kept["removals"][0]["sub"], &kept),
            (&json!("anouk"), &until),
            "to the moment, after a reload too"
        );
        if round == 0 {
            assert_eq!(
                http.get(format!("{base}/events?ticket={ticket}")).send().await.unwrap().status(),
                403
            );
            service.kill();
            service.launch();
        }
    }
    let lifted = service.rendel(&["remove", "slope-plan", "anouk", "--lift"]);
    assert!(lifted.status.success(), "{}", String::from_utf8_lossy(&lifted.stderr));
    assert!(
        !service.rendel(&["remove", "slope-plan", "anouk", "--lift"]).status.success(),
        "there is nothing to lift"
    );
    for round in 0..2 {
        assert_eq!(call("GET", "/state").await.0, 200, "{round}");
        service.kill();
        service.launch();
    }
    // Another removal without a time ends an earlier one.
    for seconds in ["?seconds=3600", ""] {
        let path = format!("/v1/sessions/slope-plan/participants/anouk{seconds}");
        assert_eq!(
            service.request("DELETE".parse().unwrap(), &path).send().await.unwrap().status(),
            204
        );
    }
    assert_eq!(call("GET", "/state").await.0, 200);
    let (status, text) = call("DELETE", "/participants/service").await;
    assert!(status == 403 && text.contains("not-allowed"), "{text}");
    assert_eq!(
        service.get("/v1/sessions/slope-plan/state").await.status(),
        200,
        "the backend is never out"
    );
}

#[tokio::test]
async fn a_removed_participant_is_out_for_the_time_and_what_was_done_is_written_down() {
    let mut service = Service::start().await;
    service.open_demo("slope-plan").await;
    let oda_token = service.token("slope-plan", "oda", "picker").await;
    let (mut oda, _) = Raw::enter(&service, "slope-plan", &oda_token).await;
    let anouk_token = service.token("slope-plan", "anouk", "steward").await;
    let (mut anouk, _) = Raw::enter(&service, "slope-plan", &anouk_token).await;
    let call = |token: &str, path: &str| {
        service
            .http
            .delete(format!("{}/v1/sessions/slope-plan/participants/{path}", service.server))
            .bearer_auth(token)
    };
    assert_eq!(
        call(&oda_token, "anouk").send().await.unwrap().status(),
        403,
        "a picker has not the power"
    );
    assert_eq!(call(&anouk_token, "oda?seconds=60").send().await.unwrap().status(), 204);
    assert_eq!(oda.bye().await.0, "removed");
    assert_eq!(anouk.next("roster").await["left"], json!([{ "id": "oda", "why": "removed" }]));
    // It holds over a restart.
    service.kill();
    service.launch();
    let mut again = Raw::connect(&service, "slope-plan").await;
    again.send(&json!({ "type": "enter", "token": oda_token, "client": again.client })).await;
    assert_eq!(again.bye().await.0, "removed");
    let (mut bram, _) = enter(&service, "slope-plan", "bram", "picker").await;
    let output = service.rendel(&["remove", "slope-plan", "bram"]);
    assert!(output.status.success());
    assert_eq!(bram.bye().await.0, "removed");
    let (mut bram, _) = enter(&service, "slope-plan", "bram", "picker").await;

    // Frozen to a role: the steward goes on. A role with the power freezes too.
    let freeze = |token: &str, body: Value| {
        service
            .http
            .post(format!("{}/v1/sessions/slope-plan/freeze", service.server))
            .bearer_auth(token)
            .json(&body)
            .send()
    };
    let bram_token = service.token("slope-plan", "bram", "picker").await;
    assert_eq!(freeze(&bram_token, json!({})).await.unwrap().status(), 403);
    assert_eq!(freeze(&anouk_token, json!({ "except": ["stewart"] })).await.unwrap().status(), 422);
    assert_eq!(freeze(&anouk_token, json!({ "except": ["steward"] })).await.unwrap().status(), 200);
    let status = bram.next("status").await;
    assert_eq!(
        (&status["status"], &status["except"], &status["by"]),
        (&json!("frozen"), &json!(["steward"]), &json!("anouk"))
    );
    let edit = json!([{ "at": "/markers/ladder-1/note", "op": "set", "value": "x" }]);
    bram.propose(edit.clone()).await;
    assert_eq!(name(&bram.answer().await.unwrap_err()), "frozen");
    let (mut anouk, _) = Raw::enter(&service, "slope-plan", &anouk_token).await;
    anouk.propose(edit).await;
    anouk.answer().await.unwrap();
    let audit: Value = service.get("/v1/sessions/slope-plan/audit").await.json().await.unwrap();
    let told: Vec<_> = audit["entries"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|entry| entry["what"] != "issued a token")
        .collect();
    let told: Vec<_> = told
        .iter()
        .map(|entry| {
            format!("{} {}", entry["by"].as_str().unwrap(), entry["what"].as_str().unwrap())
        })
        .collect();
    assert_eq!(told, ["anouk froze", "service removed", "anouk removed"]);
    let words = String::from_utf8(service.rendel(&["audit", "slope-plan"]).stdout).unwrap();
    assert!(words.contains("sub=oda seconds=60"), "{words}");
}

#[tokio::test]
async fn whether_a_role_may_is_told_with_the_line_of_the_charter() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let may = |role: &str, edit: &str| service.rendel(&["may", "slope-plan", "--as", role, edit]);
    let yes = may("picker", "/markers/ladder-1 drop");
    let words = String::from_utf8(yes.stdout).unwrap();
    assert!(
        yes.status.success()
            && words.starts_with("yes: Line ")
            && words.contains("[\"/markers/**\", \"/notes\"]"),
        "{words}"
    );
    let no = may("viewer", "/title set \"x\"");
    let words = String::from_utf8(no.stdout).unwrap();
    assert!(!no.status.success() && words.starts_with("no: No line of [roles.viewer]"), "{words}");
    let stopped = may("steward", "/title set 7");
    let words = String::from_utf8(stopped.stdout).unwrap();
    assert!(words.starts_with("yes:") && words.contains("wrong-type"), "{words}");
    assert!(service.journal("slope-plan").await.is_empty());
}

#[tokio::test]
async fn an_expression_without_an_answer_is_told_to_the_backend_and_not_to_the_participant() {
    let service = Service::start().await;
    let charter = "charter = \"bids\"\nversion = 1\n[state.leading]\nkind = \
        \"register\"\n[[guards]]\nat = \"/leading\"\nrule = \"new.amount > 5\"\nsays = \"Bid more \
        than 5.\"\n";
    service.publish(charter).await;
    service.open("bids", json!({})).await;
    let (mut oda, _) = enter(&service, "bids", "oda", "participant").await;
    for (value, is_settled) in [
        (json!({ "amount": 6 }), true),
        (json!({ "amount": 5.5 }), true),
        (json!({ "amount": 5 }), false),
        (json!({}), false),
    ] {
        oda.propose(json!([{ "at": "/leading", "op": "set", "value": value }])).await;
        match oda.answer().await {
            Ok(_) => assert!(is_settled, "{value}"),
            Err(problem) => assert_eq!(
                (name(&problem), &problem["detail"], is_settled),
                ("guard".into(), &json!("Bid more than 5."), false)
            ),
        }
    }
    let info: Value = service.get("/v1/sessions/bids").await.json().await.unwrap();
    let faults = info["expression_faults"].as_array().unwrap();
    assert!(faults.len() == 1 && faults[0].as_str().unwrap().contains("new.amount"), "{faults:?}");
    assert_eq!(service.metric("rendel_unanswered_total").await, 1.0);
    assert!(
        until("the words", async || {
            let words =
                String::from_utf8(service.rendel(&["session", "show", "bids"]).stdout).unwrap();
            Some(words.contains("fault"))
        })
        .await
    );
}
