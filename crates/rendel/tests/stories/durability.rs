//! What was seen settled is still there: after `kill -9`, with the database away, after a clean
//! stop.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::time::Duration;

use rand::rngs::StdRng;
use rand::{Rng as _, SeedableRng as _};
use rendel_client::{Change, Connection, Encoding, Event, Target};
use rendel_core::Edit;
use serde_json::{Value, json};
use uuid::Uuid;

use crate::harness::{Raw, Service, name, seed, until};

const WRITERS: usize = 50;
/// Proposals that are answered between one end of the process and the next.
const BETWEEN: u64 = 200;
/// Where a process ends in the middle of its work, and how often it passes the place before.
const STEPS: [&str; 6] = [
    "append-begins=8*off->return",
    "append-written=8*off->return",
    "snapshot-begins=1*off->return",
    "take-over-begins=return",
    "take-over-raised=return",
    "take-over-read=return",
];
/// Steps of a stop.
const STOPS: [&str; 2] = ["stop-begins=return", "stop-settled=return"];

const CHARTER: &str = r#"
charter = "harvest"
version = 1
[limits]
proposals-per-second = 100000
[state.heads]
kind = "counter"
[state.title]
kind = "register"
[state.ph]
kind = "register"
merge = "unchanged"
[state.markers]
kind = "map"
drop-conflict = "revive"
[state.markers.each.what]
kind = "register"
[state.markers.each.seen]
kind = "counter"
"#;

/// What a writer knows at its end.
struct Told {
    proposed: u64,
    settled: u64,
    refused: u64,
    /// Each update that it saw settled.
    seen: Vec<(u64, Value)>,
    last: Value,
    seq: u64,
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn fifty_writers_lose_nothing_and_count_nothing_twice_wherever_the_process_ends() {
    let seed = seed();
    let mut service = Service::start_with(&[("RENDEL_SNAPSHOT_EVERY", "200")]).await;
    service.publish(CHARTER).await;
    service.open("harvest", json!({})).await;
    let mut tokens = Vec::new();
    for writer in 0..WRITERS {
        tokens.push(service.token("harvest", &format!("w{writer}"), "participant").await);
    }
    let (answered, is_over) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
    let end = Arc::new(End::default());
    let writers: Vec<_> = tokens
        .into_iter()
        .enumerate()
        .map(|(index, token)| {
            let target = Target {
                server: service.server.clone(),
                session: "harvest".to_owned(),
                token,
                encoding: Encoding::Json,
            };
            let random = StdRng::seed_from_u64(seed + index as u64);
            tokio::spawn(write(target, random, answered.clone(), is_over.clone(), end.clone()))
        })
        .collect();
    let more = async || {
        let due = answered.load(Ordering::Relaxed) + BETWEEN;
        let is_due = async || (answered.load(Ordering::Relaxed) >= due).then_some(());
        until("more is answered", is_due).await;
    };
    for step in STEPS {
        more().await;
        service.kill();
        service.launch_to_end_at(step);
        until(step, async || service.has_died().then_some(())).await;
        service.launch();
    }
    for step in STOPS {
        more().await;
        service.kill();
        service.launch_to_end_at(step);
        more().await;
        assert!(!service.terminate().success(), "{step} is passed");
        service.launch();
    }
    is_over.store(true, Ordering::Relaxed);
    let mut told = Vec::new();
    for writer in writers {
        told.push(writer.await.unwrap());
    }

    let journal = service.journal("harvest").await;
    assert!(
        journal.iter().enumerate().all(|(index, update)| update["seq"] == index as u64 + 1),
        "the order has no gap"
    );
    let once: BTreeSet<_> =
        journal.iter().map(|update| (update["client"].to_string(), update["n"].as_u64())).collect();
    assert_eq!(once.len(), journal.len(), "every proposal counts once");
    let settled: u64 = told.iter().map(|told| told.settled).sum();
    assert_eq!(settled, journal.len() as u64);
    assert!(
        told.iter().all(|told| told.settled + told.refused == told.proposed),
        "every proposal was answered"
    );
    assert!(told.iter().any(|told| told.refused > 0) && settled > BETWEEN);
    for (seq, update) in told.iter().flat_map(|told| &told.seen) {
        assert_eq!(
            *update,
            journal[usize::try_from(*seq).unwrap() - 1],
            "update {seq} is as it was seen"
        );
    }
    let newcomer = service.state("harvest").await;
    assert!(
        told.iter().all(|told| told.seq == journal.len() as u64 && told.last == newcomer),
        "all replicas are equal"
    );
}

/// How many writers have all their answers, and the last update of all of theirs.
#[derive(Default)]
struct End {
    done: AtomicUsize,
    last: AtomicU64,
}

/// Proposes edits of every kind until it is over, and follows until all of all writers is answered
/// and seen.
async fn write(
    target: Target,
    mut random: StdRng,
    answered: Arc<AtomicU64>,
    is_over: Arc<AtomicBool>,
    end: Arc<End>,
) -> Told {
    let mut connection = Connection::new(target, Uuid::from_u128(random.random()));
    let mut told =
        Told { proposed: 0, settled: 0, refused: 0, seen: Vec::new(), last: Value::Null, seq: 0 };
    let mut is_done = false;
    loop {
        let proposes = !is_over.load(Ordering::Relaxed);
        while proposes && connection.is_connected() && connection.replica().unanswered().count() < 4
        {
            connection.propose(vec![edit(&mut random)]).await;
            told.proposed += 1;
        }
        if !proposes && !is_done && told.settled + told.refused == told.proposed {
            is_done = true;
            end.last.fetch_max(connection.replica().seq(), Ordering::SeqCst);
            end.done.fetch_add(1, Ordering::SeqCst);
        }
        let are_done = end.done.load(Ordering::SeqCst) == WRITERS;
        if are_done && connection.replica().seq() == end.last.load(Ordering::SeqCst) {
            break;
        }
        let next = tokio::time::timeout(Duration::from_millis(100), connection.next());
        let Ok(event) = next.await else { continue };
        let event = event.unwrap();
        match event {
            Event::Changed(Change::Settled(update)) => {
                if update.client == connection.replica().client() {
                    told.settled += 1;
                    answered.fetch_add(1, Ordering::Relaxed);
                }
                told.seen.push((update.seq, serde_json::to_value(&update).unwrap()));
            }
            Event::Changed(Change::SettledAway { .. }) => {
                told.settled += 1;
                answered.fetch_add(1, Ordering::Relaxed);
            }
            Event::Changed(Change::Refused { problem, .. }) => {
                assert!(["stale", "exists", "gone"].contains(&problem.kind().name()), "{problem}");
                told.refused += 1;
                answered.fetch_add(1, Ordering::Relaxed);
            }
            Event::Changed(Change::Diverged(why) | Change::Repaired { reason: why, .. }) => {
                panic!("{why}")
            }
            // The rest is not about proposals.
            _ => {}
        }
    }
    told.last = connection.replica().confirmed().unwrap().clone();
    told.seq = connection.replica().seq();
    told
}

fn edit(random: &mut StdRng) -> Edit {
    let id = format!("m{}", random.random_range(0..30));
    match random.random_range(0..10) {
        0..4 => Edit::new("/heads", "add").with("by", random.random_range(-2..5)),
        4 => Edit::new("/title", "set").with("value", random.random_range(0..9)),
        5 => Edit::new("/ph", "set").with("value", random.random_range(0..9)),
        6 => Edit::new("/markers", "put").with("id", id).with("value", json!({ "what": "ladder" })),
        7 => Edit::new(format!("/markers/{id}"), "drop"),
        8 => Edit::new(format!("/markers/{id}/seen"), "add").with("by", 1),
        _ => Edit::new(format!("/markers/{id}/what"), "set").with("value", "crates"),
    }
}

#[tokio::test]
async fn without_the_database_proposals_are_refused_and_the_service_recovers_by_itself() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let token = service.token("headcount", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "headcount", &token).await;
    let (mut tobin, _) = Raw::enter(&service, "headcount", &token).await;
    let add = json!([{ "at": "/heads", "op": "add", "by": 1 }]);
    oda.propose(add.clone()).await;
    oda.answer().await.unwrap();
    let port = service.database_port();
    service.kill_database();

    // The first proposal may have been under way when the database went, and is then answered once
    // it is back.
    oda.propose(add.clone()).await;
    let first = oda.n;
    until("the session notices", async || {
        (service.get("/readyz").await.status() == 503).then_some(())
    })
    .await;
    tobin.propose(add.clone()).await;
    until("a proposal is refused", async || {
        let response =
            service.post("/v1/sessions/headcount/proposals", &json!({ "edits": add })).await;
        (response.status() == 503).then_some(())
    })
    .await;
    let problem = tobin.answer().await.unwrap_err();
    assert_eq!(name(&problem), "unavailable");

    service.start_database(port);
    until("the service settles again", async || {
        let response =
            service.post("/v1/sessions/headcount/proposals", &json!({ "edits": add })).await;
        response.status().is_success().then_some(())
    })
    .await;
    let mut answers = Vec::new();
    until("the proposal that was under way is answered", async || {
        let frame = oda.any().await?;
        if frame["type"] == "refused" && frame["n"] == first {
            answers.push("refused");
        }
        let updates = frame["updates"].as_array().cloned().unwrap_or_default();
        if updates
            .iter()
            .any(|update| update["client"] == oda.client.to_string() && update["n"] == first)
        {
            answers.push("settled");
        }
        (!answers.is_empty()).then_some(())
    })
    .await;
    let journal = service.journal("headcount").await;
    let heads = 41 + journal.len() as u64;
    assert_eq!(service.state("headcount").await, json!({ "heads": heads }));
    let is_in_journal = journal
        .iter()
        .any(|update| update["client"] == oda.client.to_string() && update["n"] == first);
    assert_eq!(answers == ["settled"], is_in_journal, "the answer is what the journal says");
}

#[tokio::test]
async fn a_clean_stop_settles_what_was_accepted_and_tells_everyone() {
    let mut service = Service::start().await;
    service.publish(CHARTER).await;
    service.open("harvest", json!({})).await;
    let token = service.token("harvest", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "harvest", &token).await;
    for _ in 0..200 {
        oda.propose(json!([{ "at": "/heads", "op": "add", "by": 1 }])).await;
    }
    let last = oda.answer();
    last.await.unwrap();
    let status = service.terminate();
    assert!(status.success(), "{status}");
    assert_eq!(oda.bye().await, ("shutting-down".to_owned(), 4032));
    service.launch();
    assert_eq!(service.state("harvest").await["heads"], 200);
}

#[tokio::test]
async fn a_restart_reads_the_newest_snapshot_and_the_journal_after_it() {
    let mut service = Service::start_with(&[("RENDEL_SNAPSHOT_EVERY", "10")]).await;
    service.publish(CHARTER).await;
    service.open("harvest", json!({})).await;
    let token = service.token("harvest", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "harvest", &token).await;
    for n in 0..35 {
        oda.propose(json!([{ "at": "/markers", "op": "put", "id": format!("m{n}"), "value": { "what": "ladder" } }]))
            .await;
        oda.answer().await.unwrap();
    }
    let before = service.state("harvest").await;
    service.kill();
    service.launch();
    assert_eq!(service.state("harvest").await, before);
    let mut back = Raw::connect(&service, "harvest").await;
    back.send(
        &json!({ "type": "enter", "token": token, "client": oda.client, "seen": 35, "epoch": 1, "audience": 0 }),
    )
    .await;
    let welcome = back.next("welcome").await;
    assert_eq!(
        (&welcome["epoch"], &welcome["seq"], welcome.get("state")),
        (&json!(2), &json!(35), None),
        "it resumes"
    );
    back.send(&json!({ "type": "propose", "n": 35, "seen": 34, "edits": [{ "at": "/heads", "op": "add", "by": 1 }] }))
        .await;
    let outcome = back.next("outcome").await;
    assert_eq!(
        (&outcome["n"], &outcome["seq"]),
        (&json!(35), &json!(35)),
        "what was sent again counts once"
    );
    assert_eq!(service.journal("harvest").await.len(), 35);
}

#[tokio::test]
async fn a_call_repeated_with_its_key_counts_once_also_across_a_restart() {
    let mut service = Service::start().await;
    service.open_demo("headcount").await;
    let call = async |service: &Service, key: &str, by: i64| {
        let body = json!({ "edits": [{ "at": "/heads", "op": "add", "by": by }] });
        let request = service.request(reqwest::Method::POST, "/v1/sessions/headcount/proposals");
        let response = request.header("Idempotency-Key", key).json(&body).send().await.unwrap();
        (response.status().as_u16(), response.json::<Value>().await.unwrap())
    };
    let first = call(&service, "gate-1", 1).await;
    let refused = call(&service, "gate-2", -1_000).await;
    assert_eq!((first.0, refused.0), (200, 422));
    assert_eq!(call(&service, "gate-1", 1).await, first);
    service.kill();
    service.launch();
    assert_eq!(call(&service, "gate-1", 1).await, first);
    assert_eq!(call(&service, "gate-2", -1_000).await, refused, "a refusal is remembered too");
    assert_eq!(service.state("headcount").await, json!({ "heads": 42 }));
}
