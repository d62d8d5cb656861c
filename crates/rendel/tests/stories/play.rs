//! Rules of play: a game for two, a poll of many, draws that anybody can check.

use std::io::Write as _;
use std::process::{Command, Stdio};

use futures_util::StreamExt as _;
use futures_util::future::join_all;
use serde_json::{Value, json};
use sha2::Digest as _;
use thirtyfour::prelude::*;

use crate::harness::{Browser, Heard, Raw, Service, listener, name, until};

const SHUFFLE: &str = r#"{ "at": "/chance", "op": "shuffle", "of": "/bags", "field": "prize" }"#;

async fn enter(service: &Service, session: &str, sub: &str, role: &str) -> (Raw, Value) {
    Raw::enter(service, session, &service.token(session, sub, role).await).await
}

async fn does(raw: &mut Raw, edits: Value) -> Value {
    raw.propose(edits.clone()).await;
    raw.answer().await.unwrap_or_else(|problem| panic!("{edits}: {problem}"))
}

async fn refused(raw: &mut Raw, edits: Value) -> String {
    raw.propose(edits.clone()).await;
    name(&raw.answer().await.expect_err(&edits.to_string()))
}

fn sit(seat: &str) -> Value {
    json!([{ "at": "/seats", "op": "sit", "seat": seat }])
}

/// A move: apples are taken from a basket, and it is said so.
fn take(game: &Value, seat: &str, basket: &str, apples: i64) -> Value {
    let leaves = game["baskets"][basket]["apples"].as_i64().unwrap() - apples;
    let last = game["left"].as_i64().unwrap() == apples;
    let value =
        json!({ "basket": basket, "apples": apples, "leaves": leaves, "seat": seat, "last": last });
    json!([
        { "at": format!("/baskets/{basket}/apples"), "op": "add", "by": -apples },
        { "at": "/takes", "op": "insert", "value": value },
    ])
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_game_is_played_to_its_end_through_a_kill_and_nobody_moves_out_of_turn() {
    let mut service = Service::start().await;
    service.open_demo("windfall").await;
    let (mut oda, welcome) = enter(&service, "windfall", "oda", "player").await;
    assert_eq!(
        (&welcome["state"]["left"], &welcome["state"]["seats"]["gathering"]),
        (&json!(15), &json!(true))
    );
    does(&mut oda, sit("east")).await;
    let (mut bram, _) = enter(&service, "windfall", "bram", "player").await;
    assert_eq!(refused(&mut bram, sit("east")).await, "seat-taken");
    // Until both sit only bags are dealt and drawn.
    let game = service.state("windfall").await;
    assert_eq!(refused(&mut oda, take(&game, "east", "gale", 1)).await, "gathering");
    let shuffle: Value = serde_json::from_str(SHUFFLE).unwrap();
    does(&mut oda, json!([shuffle])).await;
    let draw = |bag: &str, seat: &str| json!([{ "at": format!("/bags/{bag}/holder"), "op": "set", "value": seat }]);
    let drawn = does(&mut oda, draw("straw", "east")).await;
    let prize = drawn["effects"]
        .as_array()
        .unwrap()
        .iter()
        .find(|one| one["op"] == "show")
        .unwrap()["value"]
        .clone();
    assert_eq!(refused(&mut oda, draw("linen", "east")).await, "guard");
    assert_eq!(refused(&mut oda, json!([shuffle])).await, "not-allowed", "not once a bag is drawn");
    does(&mut bram, sit("west")).await;
    assert_eq!(refused(&mut bram, draw("straw", "west")).await, "guard");
    does(&mut bram, draw("canvas", "west")).await;

    // A wrong turn, a wrong number, a lie about it, and half of a move.
    let game = service.state("windfall").await;
    assert_eq!(refused(&mut bram, take(&game, "west", "gale", 1)).await, "not-your-turn");
    assert_eq!(refused(&mut oda, take(&game, "east", "path", 4)).await, "out-of-bounds");
    assert_eq!(refused(&mut oda, take(&game, "west", "path", 1)).await, "guard");
    let mut half = take(&game, "east", "path", 1);
    half.as_array_mut().unwrap().pop();
    assert_eq!(refused(&mut oda, half).await, "guard");
    assert_eq!(service.state("windfall").await, game, "a refusal changes nothing");

    let mut heard = Heard::new(prize.as_str().unwrap());
    let wren = service.token("windfall", "wren", "onlooker").await;
    let bram_again = service.token("windfall", "bram", "player").await;
    let mut sockets = Vec::new();
    for token in [&wren, &bram_again] {
        let (socket, first) = listener(&service, "windfall", token, "rendel.v1.json").await;
        heard.note("welcome", first);
        sockets.push(socket);
    }
    does(&mut oda, take(&game, "east", "path", 3)).await;
    // A double click moves once.
    let game = service.state("windfall").await;
    bram.propose(take(&game, "west", "path", 1)).await;
    bram.propose(take(&game, "west", "path", 1)).await;
    assert_eq!(name(&bram.answer().await.unwrap_err()), "not-your-turn");
    assert_eq!(service.state("windfall").await["baskets"]["path"]["apples"], 3);
    for (way, socket) in ["onlooker", "other player"].iter().zip(&mut sockets) {
        let updates = async {
            loop {
                let text = socket.next().await.unwrap().unwrap().into_data();
                heard.note(way, text.to_vec());
                if String::from_utf8_lossy(&text).contains("\"leaves\":3") {
                    return;
                }
            }
        };
        tokio::time::timeout(crate::harness::PATIENCE, updates).await.unwrap();
    }

    service.kill();
    service.launch();
    // Oda goes on from another device; her seat and her bag are hers.
    let (mut oda, welcome) = enter(&service, "windfall", "oda", "player").await;
    assert_eq!(welcome["yours"], json!({ "/bags/straw/prize": prize }));
    let (mut bram, _) = enter(&service, "windfall", "bram", "player").await;
    until("both are known to be back", async || {
        (service.state("windfall").await["seats"]["away"] == json!({})).then_some(())
    })
    .await;
    let moves = [
        ("east", "path", 3),
        ("west", "gale", 3),
        ("east", "orchard", 1),
        ("west", "orchard", 1),
        ("east", "orchard", 3),
    ];
    heard.check(1_000);
    for (seat, basket, apples) in moves {
        let game = service.state("windfall").await;
        assert_eq!(game["turn"]["seat"], seat);
        let player = if seat == "east" { &mut oda } else { &mut bram };
        does(player, take(&game, seat, basket, apples)).await;
    }
    let game = service.state("windfall").await;
    assert_eq!((&game["winner"], &game["left"]), (&json!({ "east": 1 }), &json!(0)));
    assert_eq!(game["taken"], json!({ "east": 10, "west": 5 }));
    // Now all see what was in the bags.
    let (_, welcome) = enter(&service, "windfall", "wren", "onlooker").await;
    assert_eq!(welcome["state"]["bags"]["straw"]["prize"], prize);

    let verified = service.rendel(&["verify", "windfall"]);
    let said = String::from_utf8_lossy(&verified.stdout).into_owned();
    assert!(verified.status.success() && said.contains("not opened"), "{said}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn draws_are_checked_by_a_program_in_another_language() {
    let service = Service::start().await;
    service.open_demo("windfall").await;
    let (mut keziah, _) = enter(&service, "windfall", "keziah", "steward").await;
    for (sides, count) in [(6, 20), (1_000_000, 100), (2, 1)] {
        does(
            &mut keziah,
            json!([{ "at": "/chance", "op": "roll", "sides": sides, "count": count }]),
        )
        .await;
    }
    let before = service.state("windfall").await;
    does(&mut keziah, json!([serde_json::from_str::<Value>(SHUFFLE).unwrap()])).await;
    let mixed = json!([{ "at": "/bags/linen/holder", "op": "clear" }, serde_json::from_str::<Value>(SHUFFLE).unwrap()]);
    assert_eq!(refused(&mut keziah, mixed).await, "malformed");
    does(&mut keziah, json!([{ "at": "/chance", "op": "open", "draw": 4 }])).await;
    does(&mut keziah, json!([{ "at": "/chance", "op": "roll", "sides": 6 }])).await;

    let said = checked_in_python(&service, "windfall").await;
    assert_eq!(said.lines().filter(|line| line.starts_with("roll")).count(), 4, "{said}");
    let bags = before["bags"].as_object().unwrap();
    let mut ids: Vec<&String> = bags.keys().collect();
    ids.sort();
    let prizes: Vec<&str> = ids.iter().map(|id| bags[*id]["prize"].as_str().unwrap()).collect();
    assert!(said.contains(&format!("shuffle|4|{}", prizes.join("|"))), "{said}");

    let verified = service.rendel(&["verify", "windfall"]);
    let said = String::from_utf8_lossy(&verified.stdout).into_owned();
    assert_eq!(said.matches("as it was bound").count(), 5, "{said}");
    // A journal that was tampered with is not what was bound.
    service.sql("update journal set body = replace(body, '\"sides\":2,\"values\":[1]', '\"sides\":2,\"values\":[3]')");
    service.sql("update journal set body = replace(body, '\"sides\":2,\"values\":[2]', '\"sides\":2,\"values\":[3]')");
    let verified = service.rendel(&["verify", "windfall"]);
    assert!(!verified.status.success(), "{}", String::from_utf8_lossy(&verified.stdout));
}

/// What a program that knows the page on charters alone makes of the draws of a session.
async fn checked_in_python(service: &Service, session: &str) -> String {
    let script = format!("{}/tests/clients/draws.py", env!("CARGO_MANIFEST_DIR"));
    let mut python = Command::new("python3")
        .arg(script)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let journal = format!("/v1/sessions/{session}/journal");
    let journal = service.get(&journal).await.text().await.unwrap();
    python.stdin.take().unwrap().write_all(journal.as_bytes()).unwrap();
    let output = python.wait_with_output().unwrap();
    assert!(output.status.success());
    String::from_utf8(output.stdout).unwrap()
}

const FAIR: &str = r#"
charter = "fair"
version = 1
[roles.player]
edit = ["/**"]
powers = ["open-draws"]
[state.seats]
kind = "seats"
names = ["east", "west"]
[state.chance]
kind = "random"
entropy = "seats"
shuffles = ["/bags/*/prize"]
[state.bags]
kind = "map"
[state.bags.each.prize]
kind = "register"
"#;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_both_seats_add_is_in_a_draw_that_another_language_checks() {
    let mut service = Service::start().await;
    service.publish(FAIR).await;
    let bags = json!({ "a": { "prize": 1 }, "b": { "prize": 2 }, "c": { "prize": 3 } });
    service.open("fair", json!({ "bags": bags })).await;
    for (draw, edit) in [
        (1, json!({ "at": "/chance", "op": "roll", "sides": 100, "count": 9 })),
        (2, json!({ "at": "/chance", "op": "shuffle", "of": "/bags", "field": "prize" })),
    ] {
        let mut players = Vec::new();
        for (who, byte) in [("oda", 10 * draw), ("bram", 10 * draw + 1)] {
            let (mut player, _) = enter(&service, "fair", who, "player").await;
            let hash = hex::encode(sha2::Sha256::digest([byte; 32]));
            does(&mut player, json!([{ "at": "/seats", "op": "sit" }])).await;
            does(&mut player, json!([{ "at": "/chance", "op": "commit", "sha256": hash }])).await;
            players.push((player, hex::encode([byte; 32])));
        }
        assert_eq!(refused(&mut players[0].0, json!([edit])).await, "not-allowed");
        // What was committed outlives the service.
        service.kill();
        service.launch();
        for (who, (_, value)) in ["oda", "bram"].iter().zip(players) {
            let (mut player, _) = enter(&service, "fair", who, "player").await;
            does(&mut player, json!([{ "at": "/chance", "op": "reveal", "value": value }])).await;
        }
        let (mut oda, _) = enter(&service, "fair", "oda", "player").await;
        does(&mut oda, json!([edit])).await;
    }
    let (mut oda, _) = enter(&service, "fair", "oda", "player").await;
    does(&mut oda, json!([{ "at": "/chance", "op": "open", "draw": 2 }])).await;
    let said = checked_in_python(&service, "fair").await;
    assert!(said.contains("roll 1") && said.contains("shuffle|2|1|2|3"), "{said}");
    let verified = service.rendel(&["verify", "fair"]);
    let said = String::from_utf8_lossy(&verified.stdout).into_owned();
    assert_eq!(said.matches("as it was bound").count(), 2, "{said}");
    // Another value of one seat makes another draw.
    service.sql(&format!(
        "update journal set body = replace(body, '{}', '{}')",
        hex::encode([10u8; 32]),
        hex::encode([99u8; 32])
    ));
    let verified = service.rendel(&["verify", "fair"]);
    assert!(!verified.status.success(), "{}", String::from_utf8_lossy(&verified.stdout));
}

const SEATS: &str = r#"
charter = "estimate"
version = 1
[roles.player]
edit = ["/**"]
[roles.steward]
edit = ["/**"]
powers = ["seat"]
[state.seats]
kind = "seats"
names = ["east", "west"]
reserve = "1s"
"#;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_seat_is_kept_for_a_time_and_a_token_may_promise_one() {
    let service = Service::start().await;
    service.publish(SEATS).await;
    service.open("estimate", json!({})).await;
    let asked = json!({ "session": "estimate", "sub": "oda", "role": "player", "seat": "west" });
    let token: Value = service.post("/v1/tokens", &asked).await.json().await.unwrap();
    let (oda, _) = Raw::enter(&service, "estimate", token["token"].as_str().unwrap()).await;
    let by = async |seat: &str| service.state("estimate").await["seats"]["by"][seat].clone();
    until("the promised seat is hers", async || (by("west").await == "oda").then_some(())).await;
    let wrong = json!({ "session": "estimate", "sub": "oda", "role": "player", "seat": "north" });
    let problem: Value = service.post("/v1/tokens", &wrong).await.json().await.unwrap();
    assert_eq!(name(&problem), "out-of-bounds");

    drop(oda);
    until("she is away", async || {
        service.state("estimate").await["seats"]["away"]["west"].is_u64().then_some(())
    })
    .await;
    until("her seat is free", async || by("west").await.is_null().then_some(())).await;
    let journal = service.journal("estimate").await;
    assert!(journal.iter().all(|update| update["by"] == "service"), "{journal:?}");
    // What is kept is freed in time also where nobody is there to see it, and the session was not.
    let (mut bram, _) = enter(&service, "estimate", "bram", "player").await;
    does(&mut bram, sit("west")).await;
    assert_eq!(by("west").await, "bram");
}

const FOUND: &str = r#"
charter = "duel"
version = 1
[session]
labels = ["level", "row"]
[roles.player]
edit = ["/**"]
[state.seats]
kind = "seats"
names = ["east", "west"]
needed = 2
reserve = "RESERVE"
"#;

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn a_hundred_look_for_a_seat_at_one_moment_and_none_waits_alone() {
    let service = Service::start().await;
    service.publish(&FOUND.replace("RESERVE", "10m")).await;
    service.publish(&FOUND.replace("RESERVE", "2s").replace("\"duel\"", "\"soon\"")).await;
    let look = |sub: String, level: &str| {
        let asked = json!({ "charter": "soon", "labels": { "level": level }, "sub": sub, "role": "player" });
        let service = &service;
        async move {
            let response = service.post("/v1/seats", &asked).await;
            assert_eq!(response.status(), 201);
            response.json::<Value>().await.unwrap()
        }
    };
    let beside = service.beside().await;
    // Over two services on one database.
    let looks = (0..100).map(|who| {
        let level = if who % 4 == 0 { "hard" } else { "easy" };
        let (service, sub) = (if who % 2 == 0 { &service } else { &beside }, format!("p{who}"));
        let asked = json!({ "charter": "duel", "labels": { "level": level }, "sub": sub, "role": "player" });
        async move {
            // A session that another service owns is taken over, and its callers come again.
            let found = until("a seat", async || {
                let response = service.post("/v1/seats", &asked).await;
                (response.status() == 201).then_some(response)
            })
            .await;
            let found: Value = found.json().await.unwrap();
            (level, found["session"].as_str().unwrap().to_owned(), found["seat"].as_str().unwrap().to_owned())
        }
    });
    let found = join_all(looks).await;
    let mut seats: Vec<(String, String)> =
        found.iter().map(|(_, session, seat)| (session.clone(), seat.clone())).collect();
    seats.sort();
    seats.dedup();
    assert_eq!(seats.len(), 100, "nobody has the seat of somebody else");
    for level in ["easy", "hard"] {
        let mut sessions: Vec<_> =
            found.iter().filter(|(of, ..)| *of == level).map(|(_, session, _)| session).collect();
        sessions.sort();
        let all = sessions.len();
        sessions.dedup();
        assert!(
            sessions.len() <= all / 2 + 1,
            "{} sessions for {all} who play {level}",
            sessions.len()
        );
    }
    service.terminate_beside(beside);

    // Whoever comes with the token sits there; the second finds the session of the first.
    let one = look("mirela".to_owned(), "row 3").await;
    let other = look("tobin".to_owned(), "row 3").await;
    assert_eq!(
        (one["session"].clone(), one["opened"].clone(), other["opened"].clone()),
        (other["session"].clone(), json!(true), json!(false))
    );
    assert_ne!(one["seat"], other["seat"]);
    let session = one["session"].as_str().unwrap();
    let (_mirela, welcome) = Raw::enter(&service, session, one["token"].as_str().unwrap()).await;
    assert_eq!(welcome["state"]["seats"]["gathering"], false);
    let third = look("wren".to_owned(), "row 3").await;
    assert_ne!(third["session"], one["session"], "both seats there are taken");
    let listed = |query: &str| {
        let query = query.to_owned();
        let service = &service;
        async move {
            let list: Value =
                service.get(&format!("/v1/sessions?{query}")).await.json().await.unwrap();
            list["sessions"]
                .as_array()
                .unwrap()
                .iter()
                .map(|one| one["id"].as_str().unwrap().to_owned())
                .collect::<Vec<_>>()
        }
    };
    assert_eq!(listed("charter=soon&label=level=row%203").await.len(), 2);
    assert_eq!(listed("charter=soon&label=level=row%203&free-seats=true").await.len(), 1);
    assert!(listed("charter=soon&label=level=none").await.is_empty());
    // Tobin never comes: his seat is free again in time, and found.
    until("his seat is found", async || {
        listed("charter=soon&label=level=row%203&free-seats=true")
            .await
            .iter()
            .any(|id| id == session)
            .then_some(())
    })
    .await;
    let found =
        service.rendel(&["session", "find", "soon", "--label", "level=row 3", "--free-seats"]);
    assert!(String::from_utf8_lossy(&found.stdout).contains(session), "{found:?}");
    for (asked, kind) in [
        (
            json!({ "charter": "soon", "labels": { "levl": "x" }, "sub": "oda", "role": "player" }),
            "out-of-bounds",
        ),
        (
            json!({ "charter": "soon", "labels": { "level": "a,b" }, "sub": "oda", "role": "player" }),
            "out-of-bounds",
        ),
        (json!({ "charter": "soon", "sub": "oda", "role": "plaier" }), "out-of-bounds"),
        (json!({ "charter": "soon", "sub": "oda", "role": "player", "opening": [] }), "wrong-type"),
        (
            json!({ "charter": "soon", "sub": "oda", "role": "player", "seat": "north" }),
            "out-of-bounds",
        ),
        (json!({ "charter": "headcount", "sub": "oda", "role": "participant" }), "out-of-bounds"),
        (json!({ "charter": "dule", "sub": "oda", "role": "player" }), "not-found"),
    ] {
        let problem: Value = service.post("/v1/seats", &asked).await.json().await.unwrap();
        assert_eq!(name(&problem), kind, "{asked}");
    }
}

const POLL: &str = r#"
charter = "brix-vote"
version = 1
[session]
participants = 1000
[limits]
proposals-per-second = 5000
[roles.voter]
edit = ["/brix"]
[roles.steward]
edit = ["/**"]
powers = ["unseal", "restart"]
[state.brix]
kind = "ballot"
scale = { from = 0, to = 1000, step = 0.0001 }
sealed = true
"#;

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn two_hundred_cast_in_two_tabs_each_through_a_kill_and_each_counts_once() {
    const VOTERS: usize = 200;
    let settings =
        [("RENDEL_CALLS_PER_ADDRESS", "100000"), ("RENDEL_CONNECTIONS_PER_ADDRESS", "1000")];
    let mut service = Service::start_with(&settings).await;
    // At most 10,000 steps.
    service.publish(&POLL.replace("1000, step = 0.0001", "1000, step = 0.125")).await;
    service.open("brix-vote", json!({})).await;
    // Stands in no other number.
    const MARK: f64 = 717.125;
    let mut heard = Heard::new("717.125");
    let keziah = service.token("brix-vote", "keziah", "steward").await;
    let (mut looks, first) = listener(&service, "brix-vote", &keziah, "rendel.v1.json").await;
    heard.note("welcome", first);
    let cast = |value: f64| json!([{ "at": "/brix", "op": "cast", "value": value }]);
    let tokens = join_all((0..VOTERS).map(|who| {
        let service = &service;
        async move { service.token("brix-vote", &format!("v{who}"), "voter").await }
    }))
    .await;
    let votes = |service: &Service, value: f64| {
        let server = service.server.clone();
        let tokens = tokens.clone();
        async move {
            let mut tabs = Vec::new();
            // They come a few at a time, since the service waits for no request for ever, and cast
            // at one moment.
            for some in tokens.chunks(10) {
                tabs.extend(
                    join_all(some.iter().flat_map(|token| [token, token]).map(async |token| {
                        let mut tab = Raw::connect_to(&server, "brix-vote", "rendel.v1.json").await;
                        tab.send(&json!({ "type": "enter", "token": token, "client": tab.client }))
                            .await;
                        tab.next("welcome").await;
                        tab
                    }))
                    .await,
                );
            }
            join_all(tabs.iter_mut().enumerate().map(async |(at, tab)| {
                tab.propose(cast(value + (at / 2) as f64 / 8.0)).await;
                tab.answer().await.unwrap();
            }))
            .await
        }
    };
    votes(&service, 1.0).await;
    let (mut marked, _) = enter(&service, "brix-vote", "v7", "voter").await;
    does(&mut marked, cast(MARK)).await;
    does(&mut marked, json!([{ "at": "/brix", "op": "withdraw" }])).await;
    does(&mut marked, cast(MARK)).await;
    service.kill();
    service.launch();
    votes(&service, 301.0).await;
    until("all are counted", async || {
        (service.state("brix-vote").await["brix"]["cast"] == VOTERS).then_some(())
    })
    .await;
    while let Ok(Some(Ok(message))) =
        tokio::time::timeout(std::time::Duration::from_millis(1), looks.next()).await
    {
        heard.note("steward", message.into_data().to_vec());
    }
    for way in [
        "/state",
        "/journal",
        "/journal?form=json-patch",
        "/conflicts",
        "/state?at=300",
        "/diff?from=1",
    ] {
        let url = format!("{}/v1/sessions/brix-vote{way}", service.server);
        let response = service.http.get(url).bearer_auth(&keziah).send().await.unwrap();
        heard.note(way, response.bytes().await.unwrap().to_vec());
    }
    let (mut steward, _) = Raw::enter(&service, "brix-vote", &keziah).await;
    let unsealed = does(&mut steward, json!([{ "at": "/brix", "op": "unseal" }])).await;
    heard.note("unsealed", unsealed.to_string());
    // What was replaced is nobody's to know, also not once all is open.
    heard.check(1_000);
    let brix = service.state("brix-vote").await["brix"].clone();
    let tally = brix["results"]["tally"].as_object().unwrap();
    assert_eq!(tally.values().map(|count| count.as_u64().unwrap()).sum::<u64>(), VOTERS as u64);
    assert!(tally.keys().all(|value| value.parse::<f64>().unwrap() >= 301.0), "{tally:?}");
    // As whoever counts the journal by hand.
    let mut last = std::collections::BTreeMap::new();
    for update in service.journal("brix-vote").await {
        for effect in update["effects"].as_array().unwrap() {
            match (effect["op"].as_str().unwrap(), effect["at"].as_str().unwrap()) {
                ("put", "/brix-ballots") => drop(last.insert(
                    effect["id"].as_str().unwrap().to_owned(),
                    effect["value"]["choice"].clone(),
                )),
                ("set", at) if at.starts_with("/brix-ballots/") => {
                    drop(
                        last.insert(
                            at.split('/').nth(2).unwrap().to_owned(),
                            effect["value"].clone(),
                        ),
                    );
                }
                ("drop", at) if at.starts_with("/brix-ballots/") => {
                    drop(last.remove(at.split('/').nth(2).unwrap()))
                }
                _ => {}
            }
        }
    }
    let mut counted = serde_json::Map::new();
    for value in last.values() {
        let count = counted.entry(value.to_string()).or_insert(json!(0));
        *count = json!(count.as_u64().unwrap() + 1);
    }
    assert_eq!(&counted, tally);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_play_a_game_on_one_page() {
    let service = Service::start().await;
    service.open_demo("windfall").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/windfall/table").await;
    browser.reads("Two seats, three baskets. Sit down.").await;
    let press = async |who: &str, label: &str| {
        let by = By::XPath(format!(
            "//section[@aria-label='{who}']//button[normalize-space()='{label}' or @aria-label='{label}']"
        ));
        // What bears the label may be another button once somebody else has moved.
        until(&format!("{who} can press {label}"), async || {
            let button = browser.web.find(by.clone()).await.ok()?;
            if !button.is_enabled().await.ok()? {
                return None;
            }
            button.click().await.ok()
        })
        .await;
    };
    press("Oda", "Sit east").await;
    browser.reads("Waiting for somebody to sit.").await;
    press("Oda", "Shuffle them").await;
    press("Oda", "Draw").await;
    press("Tobin", "Sit west").await;
    browser.reads("Draw a bag first.").await;
    press("Tobin", "Draw").await;
    for (who, picked, label) in [
        ("Oda", "3 apples of path", "Take 3 apples from path"),
        ("Tobin", "2 apples of gale", "Take 2 apples from gale"),
        ("Oda", "1 apple of gale", "Take 1 apple from gale"),
        ("Tobin", "3 apples of orchard", "Take 3 apples from orchard"),
    ] {
        press(who, picked).await;
        press(who, label).await;
    }
    press("Oda", "2 apples of path").await;
    browser.reads("Take 2 apples from path").await;
    browser.picture("windfall").await;
    assert!(browser.fits().await);
    press("Oda", "Take 2 apples from path").await;
    press("Tobin", "2 apples of path").await;
    press("Tobin", "Take 2 apples from path").await;
    press("Oda", "2 apples of orchard").await;
    press("Oda", "Take 2 apples from orchard").await;
    browser.reads("You took the last apple: your bag is yours.").await;
    browser.reads("east took the last apple.").await;
    assert_eq!(service.state("windfall").await["winner"], json!({ "east": 1 }));
    browser.picture("windfall-over").await;
    browser.close().await;

    let narrow = Browser::open(390, 800).await;
    narrow.sign_in(&service, "/sessions/windfall/table").await;
    narrow.reads("took the last apple").await;
    narrow.picture("windfall-narrow").await;
    assert!(narrow.fits().await);
    narrow.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_poll_is_cast_on_its_page_and_unsealed_by_the_steward() {
    let service = Service::start().await;
    service.open_demo("blend-vote").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/blend-vote/table").await;
    browser.reads("Which blend do we press this year?").await;
    for (sub, choice, sweetness) in [
        ("mirela", "mellow", json!(12)),
        ("anouk", "dry", json!(12.5)),
        ("ishaan", "mellow", json!(13.5)),
        ("lucjan", "mellow", json!(12)),
        ("wren", "sweet", json!(27)),
        ("paloma", "dry", json!("unsure")),
    ] {
        let (mut voter, _) = enter(&service, "blend-vote", sub, "voter").await;
        does(&mut voter, json!([
            { "at": "/blend", "op": "cast", "choices": [choice] }, { "at": "/sweetness", "op": "cast", "value": sweetness },
        ]))
        .await;
    }
    browser
        .find(By::XPath("//section[@aria-label='Oda']//li[.//*[.='mellow']]/button"))
        .await
        .click()
        .await
        .unwrap();
    browser.reads("7 ballots").await;
    browser.picture("blend-vote-sealed").await;
    assert!(!service.state("blend-vote").await["blend"]["open"].as_bool().unwrap());
    browser.find(By::Css("[aria-label='Role of Tobin']")).await.click().await.unwrap();
    browser.find(By::XPath("//*[@role='option'][.='as steward']")).await.click().await.unwrap();
    browser.press("Unseal").await;
    browser.reads("4 ballots · 57.1 %").await;
    browser.reads("Wren, above the rest").await;
    browser.picture("blend-vote").await;
    assert!(browser.fits().await);
    browser.close().await;

    let narrow = Browser::open(390, 800).await;
    narrow.sign_in(&service, "/sessions/blend-vote/table").await;
    narrow.reads("57.1 %").await;
    narrow.picture("blend-vote-narrow").await;
    assert!(narrow.fits().await);
    narrow.close().await;
}
