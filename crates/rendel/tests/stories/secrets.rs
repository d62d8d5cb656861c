//! Values that only some see, over every way out of the service, before, during and after a change of
//! who may.

use std::time::Duration;

use futures_util::StreamExt as _;
use rendel_client::{Connection, Encoding, Target};
use reqwest::Method;
use serde_json::{Value, json};
use uuid::Uuid;

use crate::harness::{Events, Heard, Raw, Service, listener, name, stream, until};

/// Stands in all that only Oda may see.
const MARK: &str = "odas7pippin";

const CHARTER: &str = r#"
charter = "hidden-hands"
version = 1
[limits]
proposals-per-second = 5000
[presence.fields]
selection = { refers = "/drafts" }
caret = { anchor = "/drafts/*/text" }
[roles.player]
edit = ["/**"]
see = ["/**",
  { but = "/cards/*/face", unless = "record.open == true || record.holder == who.id" },
  { but = "/drafts/*", unless = "record.by == who.id || who.id in record.editors || record.team == who.claims.team" },
]
[roles.onlooker]
edit = []
see = ["/**", { but = "/cards/*/face", unless = "record.open == true" }, { but = "/drafts" }]
[state.title]
kind = "register"
[state.cards]
kind = "map"
[state.cards.each.face]
kind = "register"
[state.cards.each.holder]
kind = "register"
[state.cards.each.open]
kind = "register"
[state.drafts]
kind = "map"
[state.drafts.each.by]
kind = "register"
filled = "author"
[state.drafts.each.team]
kind = "register"
[state.drafts.each.editors]
kind = "set"
[state.drafts.each.text]
kind = "text"
"#;

async fn open(service: &Service) {
    service.publish(CHARTER).await;
    let cards = json!({ "c1": { "face": MARK, "holder": "oda" }, "c2": { "face": "quince", "holder": "bram" } });
    service.open("hidden-hands", json!({ "cards": cards })).await;
}

async fn get(service: &Service, token: &str, way: &str) -> Vec<u8> {
    let url = format!("{}/v1/sessions/hidden-hands{way}", service.server);
    let response = service.http.get(url).bearer_auth(token).send().await.unwrap();
    let mut all = format!("{:?}", response.headers()).into_bytes();
    all.extend_from_slice(&response.bytes().await.unwrap());
    all
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_one_may_see_alone_is_in_no_byte_that_others_get() {
    let mut service = Service::start_with(&[
        ("RENDEL_DIGEST_EVERY", "10"),
        ("RENDEL_SNAPSHOT_EVERY", "40"),
        ("RENDEL_LOG", "debug"),
    ])
    .await;
    open(&service).await;
    // Two who collude, and what all see: theirs is looked through together.
    let bram = service.token("hidden-hands", "bram", "player").await;
    let wren = service.token("hidden-hands", "wren", "onlooker").await;
    let mut heard = Heard::new(MARK);
    let mut sockets = Vec::new();
    for (token, subprotocol) in
        [(&bram, "rendel.v1.json"), (&bram, "rendel.v1.cbor"), (&wren, "rendel.v1.json")]
    {
        let (socket, first) = listener(&service, "hidden-hands", token, subprotocol).await;
        heard.note("welcome", first);
        sockets.push(socket);
    }
    let streams: Vec<_> = [&bram, &wren]
        .into_iter()
        .flat_map(|token| ["/events", "/events?form=json-patch"].map(|way| (token, way)))
        .map(|(token, way)| stream(&service, "hidden-hands", token, way))
        .collect();
    let oda_token = service.token("hidden-hands", "oda", "player").await;
    let (mut oda, welcome) = Raw::enter(&service, "hidden-hands", &oda_token).await;
    assert_eq!(welcome["yours"], json!({ "/cards/c1/face": MARK }));
    assert_eq!(welcome["state"]["cards"]["c1"].get("face"), None);
    let (mut second, _) = Raw::enter(&service, "hidden-hands", &oda_token).await;
    let facts = json!({ "selection": [format!("d-{MARK}")], "caret": { "at": format!("/drafts/d-{MARK}/text"), "index": 1 } });
    for round in 0..30 {
        let id = format!("d-{MARK}");
        oda.propose(json!([
            { "at": "/drafts", "op": "put", "id": id, "value": { "text": MARK, "editors": ["keziah"] } },
            { "at": format!("/drafts/{id}/text"), "op": "splice", "index": 0, "delete": 0, "insert": MARK },
            { "at": "/cards/c1/face", "op": "set", "value": format!("{MARK} {round}") },
            { "at": "/cards", "op": "put", "id": format!("c-{round}"), "value": { "face": MARK, "holder": "oda" } },
            { "at": "/title", "op": "set", "value": format!("round {round}") },
        ]))
        .await;
        oda.answer().await.unwrap();
        oda.send(&json!({ "type": "presence", "set": facts })).await;
        // Concurrent edits lose and are told of, refusals tell the present value.
        second.seq = 0;
        second
            .propose(json!([{ "at": "/cards/c1/face", "op": "set", "value": MARK }, { "at": format!("/drafts/{id}/text"), "op": "splice", "index": 0, "delete": 1, "insert": "" }]))
            .await;
        let _ = second.answer().await;
        second.propose(json!([{ "at": "/drafts", "op": "put", "id": id, "value": {} }])).await;
        let _ = second.answer().await;
        // Who sees it changes, away from her and back; what the others get then is not hers.
        let handed = [("/cards/c1/face", json!("plain")), ("/cards/c1/holder", json!("bram"))];
        for (at, value) in handed {
            oda.propose(json!([{ "at": at, "op": "set", "value": value }])).await;
            oda.answer().await.unwrap();
        }
        oda.propose(json!([
            { "at": "/cards/c1/holder", "op": "set", "value": "oda" },
            { "at": "/cards/c1/face", "op": "set", "value": MARK },
        ]))
        .await;
        oda.answer().await.unwrap();
        oda.propose(json!([
            { "at": format!("/drafts/{id}"), "op": "drop" },
            { "at": format!("/cards/c-{round}"), "op": "drop" },
        ]))
        .await;
        oda.answer().await.unwrap();
    }
    // A reset deals anew.
    let cards =
        json!({ "c1": { "face": MARK, "holder": "oda" }, "c3": { "face": "pear", "open": true } });
    let opening = json!({ "opening": { "cards": cards, "drafts": { format!("d-{MARK}"): { "by": "oda", "text": MARK } } } });
    assert_eq!(service.post("/v1/sessions/hidden-hands/reset", &opening).await.status(), 200);
    let propose = |token: &str, edits: &Value| {
        let url = format!("{}/v1/sessions/hidden-hands/proposals", service.server);
        service.http.post(url).bearer_auth(token).json(&json!({ "edits": edits, "seen": 0 })).send()
    };
    let now = service.journal("hidden-hands").await.len();
    for edits in [
        json!([{ "at": "/cards/c1/face", "op": "test", "value": 1 }]),
        json!([{ "at": "/cards/c1", "op": "test", "value": 1 }]),
        json!([{ "at": "", "op": "test", "value": 1 }]),
        json!([{ "at": "/cards", "op": "put", "id": "c1", "value": {} }]),
        json!([{ "at": "/cards/c1/face", "op": "add", "by": 1 }]),
        json!([{ "at": "/drafts/d-odas", "op": "drop" }]),
    ] {
        for token in [&bram, &wren] {
            let answer = propose(token, &edits).await.unwrap().bytes().await.unwrap();
            heard.note(&format!("proposals {edits}"), answer);
        }
    }
    let ways = [
        "/state".to_owned(),
        "/state?path=/cards".into(),
        "/state?path=/cards/c1".into(),
        "/state?path=/cards/c1/face".into(),
        "/state?path=/drafts".into(),
        format!("/state?at={}", now / 2),
        "/state?at=0".into(),
        "/state?at=0&path=/cards/c1/face".into(),
        format!("/diff?from=0&to={now}"),
        "/journal".into(),
        "/journal?form=json-patch".into(),
        "/conflicts?most=1000".into(),
        "/charter".into(),
        "/export".into(),
        "/participants".into(),
        "".into(),
    ];
    for way in &ways {
        for token in [&bram, &wren] {
            heard.note(way, get(&service, token, way).await);
        }
    }
    for document in [
        json!([{ "op": "test", "path": "/cards/c1/face", "value": 1 }]),
        json!([{ "op": "copy", "from": "/cards/c1", "path": "/title" }]),
        json!([{ "op": "move", "from": "/cards/c1/face", "path": "/title" }]),
    ] {
        let url = format!("{}/v1/sessions/hidden-hands/state", service.server);
        let call = service.http.patch(url).bearer_auth(&bram);
        let call = call.header("Content-Type", "application/json-patch+json");
        for call in [call.try_clone().unwrap().header("If-Match", "\"1\""), call] {
            let answer = call.body(document.to_string()).send().await.unwrap();
            heard.note("PATCH", answer.bytes().await.unwrap());
        }
    }
    for token in [&bram, &wren] {
        let (socket, first) = listener(&service, "hidden-hands", token, "rendel.v1.json").await;
        heard.note("a late welcome", first);
        sockets.push(socket);
    }
    // She herself gets it on every way.
    for way in &ways[..4] {
        let all = get(&service, &oda_token, way).await;
        assert!(String::from_utf8_lossy(&all).contains(MARK), "{way}");
    }
    for way in ["/journal", "/journal?form=json-patch", "/state?at=0"] {
        let all = get(&service, &oda_token, way).await;
        assert!(String::from_utf8_lossy(&all).contains(MARK), "{way}");
    }
    service.kill();
    service.launch();
    for token in [&bram, &wren] {
        let (socket, first) = listener(&service, "hidden-hands", token, "rendel.v1.json").await;
        heard.note("a welcome after a restart", first);
        sockets.push(socket);
        // From the journal.
        let mut events = service
            .http
            .get(format!("{}/v1/sessions/hidden-hands/events", service.server))
            .bearer_auth(token)
            .header("Last-Event-ID", "1")
            .send()
            .await
            .unwrap();
        let until = format!("id: {now}\n");
        let mut all = Vec::new();
        while !String::from_utf8_lossy(&all).contains(&until) {
            all.extend_from_slice(&events.chunk().await.unwrap().unwrap());
        }
        heard.note("events from the journal", all);
    }
    for socket in &mut sockets {
        while let Ok(Some(Ok(message))) =
            tokio::time::timeout(Duration::from_millis(400), socket.next()).await
        {
            heard.note("a socket", message.into_data().to_vec());
        }
    }
    for stream in streams {
        heard.note("events", stream.await.unwrap());
    }
    heard.note("the log", service.log());
    heard.check(200_000);
}

async fn follow(service: &Service, sub: &str, role: &str) -> Connection {
    let token = service.token("hidden-hands", sub, role).await;
    let target = Target {
        server: service.server.clone(),
        session: "hidden-hands".into(),
        token,
        encoding: Encoding::Cbor,
    };
    let mut connection = Connection::new(target, Uuid::now_v7());
    while connection.replica().confirmed().is_none() {
        connection.next().await.unwrap();
    }
    connection
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn each_replica_and_follower_has_what_its_owner_may_see_as_that_changes() {
    let service = Service::start_with(&[("RENDEL_DIGEST_EVERY", "5")]).await;
    open(&service).await;
    let mut all = Vec::new();
    for (sub, role) in [("oda", "player"), ("bram", "player"), ("wren", "onlooker")] {
        let token = service.token("hidden-hands", sub, role).await;
        let patches =
            Events::open(&service, "hidden-hands/events?form=json-patch", Some(&token), None);
        let mut patches = patches.await;
        let state = patches.next().await.data;
        let events = Events::open(&service, "hidden-hands/events", Some(&token), None).await;
        all.push((sub, token, follow(&service, sub, role).await, patches, state, events));
    }
    let put = |id: &str, value: Value| json!([{ "at": "/drafts", "op": "put", "id": id, "value": value }]);
    let set = |at: &str, value: Value| json!([{ "at": at, "op": "set", "value": value }]);
    let rounds = [
        set("/cards/c1/holder", json!("bram")),
        set("/cards/c1/face", json!("medlar")),
        put("d1", json!({ "text": "dry" })),
        json!([{ "at": "/drafts/d1/text", "op": "splice", "index": 3, "delete": 0, "insert": " and bright" }]),
        json!([{ "at": "/drafts/d1/editors", "op": "include", "value": "bram" }]),
        json!([{ "at": "/drafts/d1/text", "op": "splice", "index": 0, "delete": 3, "insert": "mellow" }]),
        set("/cards/c2/open", json!(true)),
        set("/cards/c2/face", json!("service")),
        set("/cards/c2/open", json!(false)),
        json!([{ "at": "/drafts/d1/editors", "op": "exclude", "value": "bram" }]),
        set("/drafts/d1/team", json!("east")),
        json!([{ "at": "/cards/c1", "op": "drop" }]),
    ];
    let oda_token = all[0].1.clone();
    for (round, edits) in rounds.iter().enumerate() {
        // Claims come with the backend's word, over the same connection.
        if round == 11 {
            let way = "/v1/sessions/hidden-hands/participants/bram";
            let call = service.request(reqwest::Method::PATCH, way);
            let answer = call.json(&json!({ "claims": { "team": "east" } })).send().await.unwrap();
            assert_eq!(answer.status(), 200);
        }
        let url = format!("{}/v1/sessions/hidden-hands/proposals", service.server);
        let call = service.http.post(url).bearer_auth(&oda_token);
        let answer = call.json(&json!({ "edits": edits })).send().await.unwrap();
        assert_eq!(answer.status(), 200, "{edits}: {}", answer.text().await.unwrap());
        let told: Value = answer.json().await.unwrap();
        let seq = told["seq"].as_u64().unwrap();
        for (sub, token, connection, patches, state, events) in &mut all {
            let read = get_json(&service, token, "/state").await;
            let is_there = |connection: &Connection| {
                connection.replica().seq() == seq && connection.replica().confirmed() == Some(&read)
            };
            while !is_there(connection) {
                let next = tokio::time::timeout(Duration::from_secs(60), connection.next()).await;
                next.unwrap_or_else(|_| {
                    panic!(
                        "{sub} has {:?} after {edits}, and should have {read}",
                        connection.replica().confirmed()
                    )
                })
                .unwrap();
            }
            // Whose sight changed gets the state anew.
            loop {
                let told = patches.next().await;
                match told.name.as_str() {
                    "patch" => {
                        let patch = serde_json::from_value(told.data).unwrap();
                        let patch: json_patch::Patch = patch;
                        json_patch::patch(state, &patch).unwrap();
                    }
                    "state" => *state = told.data,
                    _ => continue,
                }
                if told.id == Some(seq) {
                    break;
                }
            }
            assert_eq!(*state, read, "{sub} after {edits}");
            while events.next().await.id != Some(seq) {}
            let past = get_json(&service, token, &format!("/state?at={seq}")).await;
            assert_eq!(past, read, "{sub} at {seq}");
        }
    }
    let [oda, bram, wren] = [0, 1, 2].map(|at| all[at].2.replica().confirmed().unwrap().clone());
    assert_eq!(oda["drafts"]["d1"]["text"], "mellow and bright");
    assert_eq!(bram["drafts"], oda["drafts"], "by his team");
    assert_eq!((wren.get("drafts"), wren["cards"]["c2"].get("face")), (None, None));
    // The backend looks with anybody's eyes.
    for (sub, role, expected) in [("oda", "player", &oda), ("wren", "onlooker", &wren)] {
        let seen =
            service.get(&format!("/v1/sessions/hidden-hands/state?as={role}&sub={sub}")).await;
        assert_eq!(seen.json::<Value>().await.unwrap(), *expected);
    }
    // And says why.
    let may = |sub: &str, path: &str| {
        let asked = ["may", "hidden-hands", "--as", "player", "--sub", sub, "--see", path];
        let output = service.rendel(&asked);
        (output.status.success(), String::from_utf8(output.stdout).unwrap())
    };
    let (sees, words) = may("oda", "/drafts/d1/text");
    assert!(
        sees && words.starts_with("yes: \"player\" sees all of /drafts/d1/text, since record.by"),
        "{words}"
    );
    let (sees, words) = may("keziah", "/drafts/d1");
    assert!(
        !sees && words.contains("does not hold") && words.contains("see = [\"/**\","),
        "{words}"
    );
    let mut connections: Vec<_> = all.into_iter().map(|one| one.2).collect();
    until("the replicas agree", async || {
        for connection in &mut connections {
            let _ = tokio::time::timeout(Duration::from_millis(30), connection.next()).await;
        }
        let info: Value = service.get("/v1/sessions/hidden-hands").await.json().await.unwrap();
        assert_eq!(info["differed"], 0);
        (info["agreed"] == 3).then_some(())
    })
    .await;
}

async fn get_json(service: &Service, token: &str, way: &str) -> Value {
    let url = format!("{}/v1/sessions/hidden-hands{way}", service.server);
    service.http.get(url).bearer_auth(token).send().await.unwrap().json().await.unwrap()
}

const SECRET_POLL: &str = r#"
charter = "whom"
version = 1
[session]
undo = 10
[presence.fields]
pointer = {}
[roles.voter]
edit = ["/**"]
[roles.steward]
edit   = ["/**"]
powers = ["unseal", "restart"]
[state.notes]
kind = "text"
[state.brix]
kind   = "ballot"
scale  = { from = 0, to = 30, step = 0.5 }
secret = true
[[gates]]
at  = "/brix"
url = "http://127.0.0.1:1/gate"
"#;

#[tokio::test]
async fn a_secret_choice_leaves_the_service_on_no_way_out() {
    let service = Service::start().await;
    service.publish(SECRET_POLL).await;
    service.open_as("poll", "whom", json!({})).await;
    let token = service.token("poll", "oda", "voter").await;
    let (mut oda, _) = Raw::enter(&service, "poll", &token).await;
    // The gate is never asked, since asking would tell; it could not even be reached.
    oda.propose(json!([{ "at": "/brix", "op": "cast", "value": 17.5, "round": 1 }])).await;
    let settled = oda.answer().await.unwrap();
    assert!(!settled.to_string().contains("17.5"), "{settled}");
    let bram = service.token("poll", "bram", "voter").await;
    let (_, welcome) = Raw::enter(&service, "poll", &bram).await;
    let (_, again) = Raw::enter(&service, "poll", &token).await;
    let by_token = async |token: &str, path: &str| {
        let url = format!("{}/v1/sessions/poll/{path}", service.server);
        service.http.get(url).bearer_auth(token).send().await.unwrap().text().await.unwrap()
    };
    let backend = async |path: &str| {
        service.get(&format!("/v1/sessions/poll/{path}")).await.text().await.unwrap()
    };
    let mut told = vec![("welcome", welcome.to_string()), ("welcome", again.to_string())];
    for path in [
        "state",
        "state?at=1",
        "state?path=/brix-ballots/oda",
        "journal",
        "journal?form=json-patch",
        "conflicts",
        "diff?from=0",
        "why?path=/brix-ballots/oda/choice",
        "why?path=/brix",
        "undo",
        "charter",
    ] {
        told.push((path, by_token(&token, path).await));
        told.push((path, backend(path).await));
        let joint = if path.contains('?') { '&' } else { '?' };
        told.push((path, backend(&format!("{path}{joint}as=voter&sub=oda")).await));
    }
    told.push(("record", backend("participants/oda/record").await));
    told.push(("export", backend("export").await));
    for (path, text) in &told {
        assert!(!text.contains("17.5"), "{path}: {text}");
    }
    // What is exported is sealed, and a service with the same key opens it.
    let exported = backend("export").await;
    assert!(exported.lines().any(|line| line.starts_with("{\"sealed\":")), "{exported}");
    let import = async |service: &Service| {
        let request = service.request(Method::POST, "/v1/sessions/import?id=back");
        let answer = request.body(exported.clone()).send().await.unwrap();
        (answer.status().as_u16(), answer.text().await.unwrap())
    };
    let (status, problem) = import(&Service::start().await).await;
    assert!(status == 400 && problem.contains("another key"), "{status} {problem}");
    assert_eq!(import(&service).await.0, 201);
    let unseal = json!({ "edits": [{ "at": "/brix", "op": "unseal" }] });
    let unsealed = service.post("/v1/sessions/back/proposals", &unseal).await;
    assert_eq!(unsealed.status(), 200);
    assert_eq!(service.state("back").await["brix"]["results"]["median"], 17.5);
    // Beside an edit that another check is about, it would be told.
    let beside = json!([{ "at": "/brix", "op": "cast", "value": 3 },
        { "at": "/brix", "op": "withdraw" }]);
    oda.propose(beside).await;
    assert_eq!(name(&oda.answer().await.unwrap_err()), "malformed");
}
