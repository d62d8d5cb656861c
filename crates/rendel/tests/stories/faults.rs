//! A seeded schedule of kills, cuts, stalls and a database that goes, and what must hold whatever
//! happens.
//!
//! `RENDEL_SEED` runs one schedule again; `RENDEL_FAULT_ROUNDS` makes it longer than its one round.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use futures_util::SinkExt as _;
use rand::rngs::StdRng;
use rand::seq::SliceRandom as _;
use rand::{Rng as _, SeedableRng as _};
use rendel_client::{Change, Connection, Encoding, Event, Target};
use rendel_core::Edit;
use serde_json::{Value, json};
use tokio_tungstenite::tungstenite::Message;
use uuid::Uuid;

use crate::harness::{Proxy, Raw, Service, name, seed, until};

const CHARTER: &str = r#"
charter = "harvest"
version = 1
[limits]
proposals-per-second = 100000
journal = 100000
[state.heads]
kind = "counter"
[state.title]
kind = "register"
[state.notes]
kind = "text"
[state.tasks]
kind = "list"
[state.markers]
kind = "map"
[state.markers.each.what]
kind = "register"
"#;
const WRITERS: u64 = 12;

/// What a writer knows at its end.
struct Told {
    proposed: u64,
    answered: u64,
    seen: Vec<Value>,
    last: Value,
    seq: u64,
}

#[derive(Clone, Copy)]
enum Fault {
    Kill,
    Stop,
    Database,
    Stall,
    Delay,
    Slow,
    Cut,
}

/// What happens in one round, in an order of chance.
const ROUND: [Fault; 17] = {
    use Fault::{Cut, Database, Delay, Kill, Slow, Stall, Stop};
    [
        Kill, Kill, Kill, Stop, Database, Database, Stall, Stall, Stall, Delay, Delay, Delay, Slow,
        Cut, Cut, Cut, Cut,
    ]
};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_is_lost_doubled_or_different_over_kills_cuts_stalls_and_a_database_that_goes() {
    let seed = seed();
    let rounds = std::env::var("RENDEL_FAULT_ROUNDS")
        .ok()
        .and_then(|rounds| rounds.parse().ok())
        .unwrap_or(1);
    let mut random = StdRng::seed_from_u64(seed);
    let settings = [
        ("RENDEL_SNAPSHOT_EVERY", "200"),
        ("RENDEL_SILENCE_MS", "2000"),
        ("RENDEL_QUEUE_FRAMES", "64"),
        ("RENDEL_DIGEST_WITHIN_MS", "500"),
        ("RENDEL_SLOW_WITHIN_MS", "1000"),
    ];
    let mut service = Service::start_with(&settings).await;
    service.publish(CHARTER).await;
    service.open("harvest", json!({})).await;
    let (is_over, settled) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
    let mut proxies = Vec::new();
    let mut writers = Vec::new();
    for writer in 0..WRITERS {
        let proxy = Proxy::before(&service.server).await;
        let token = service.token("harvest", &format!("w{writer}"), "participant").await;
        let encoding = if writer % 2 == 0 { Encoding::Json } else { Encoding::Cbor };
        let target =
            Target { server: proxy.server.clone(), session: "harvest".to_owned(), token, encoding };
        let random = StdRng::seed_from_u64(seed + writer);
        writers.push(tokio::spawn(write(target, random, is_over.clone(), settled.clone())));
        proxies.push(proxy);
    }
    let mut faults: Vec<_> = ROUND.iter().copied().cycle().take(ROUND.len() * rounds).collect();
    faults.shuffle(&mut random);
    for fault in faults {
        let before = settled.load(Ordering::Relaxed);
        until("something is settled between the faults", async || {
            (settled.load(Ordering::Relaxed) > before + 20).then_some(())
        })
        .await;
        tokio::time::sleep(Duration::from_millis(random.random_range(0..700))).await;
        let proxy = &proxies[random.random_range(0..proxies.len())];
        match fault {
            Fault::Kill => {
                service.kill();
                service.launch();
            }
            Fault::Stop => {
                // It takes the database along.
                service.terminate();
                service.launch();
            }
            Fault::Database => {
                let port = service.database_port();
                service.kill_database();
                tokio::time::sleep(Duration::from_millis(random.random_range(0..1_500))).await;
                service.start_database(port);
            }
            Fault::Stall => {
                proxy.stall(true);
                tokio::time::sleep(Duration::from_millis(random.random_range(100..3_000))).await;
                proxy.stall(false);
            }
            Fault::Delay => proxy.delay(Duration::from_millis(random.random_range(0..80))),
            Fault::Slow => proxy.read_at(random.random_range(0..2) * 20_000),
            Fault::Cut => {
                proxies.iter().filter(|_| random.random_bool(0.4)).for_each(Proxy::cut);
            }
        }
    }
    proxies.iter().for_each(|proxy| proxy.read_at(0));
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
    for update in told.iter().flat_map(|told| &told.seen) {
        let seq = usize::try_from(update["seq"].as_u64().unwrap()).unwrap();
        assert_eq!(
            *update,
            journal[seq - 1],
            "what was seen settled is still there as it was seen"
        );
    }
    let newcomer = service.state("harvest").await;
    for told in &told {
        assert_eq!(told.answered, told.proposed, "every proposal was answered");
        assert_eq!(
            (told.seq, &told.last),
            (journal.len() as u64, &newcomer),
            "all replicas are equal"
        );
    }
    assert_eq!(service.metric("rendel_divergences_total").await, 0.0);
    assert!(told.iter().all(|told| told.proposed > 0));
}

/// Proposes now and then, whether there is a connection or not, until it is over and all of it is
/// answered.
async fn write(
    target: Target,
    mut random: StdRng,
    is_over: Arc<AtomicBool>,
    settled: Arc<AtomicU64>,
) -> Told {
    let mut connection = Connection::new(target, Uuid::from_u128(random.random()));
    let mut told = Told { proposed: 0, answered: 0, seen: Vec::new(), last: Value::Null, seq: 0 };
    let mut quiet = Instant::now();
    loop {
        let is_waiting = connection.replica().pending().count() > 0;
        if is_over.load(Ordering::Relaxed)
            && !is_waiting
            && connection.is_connected()
            && quiet.elapsed() > Duration::from_secs(3)
        {
            break;
        }
        if !is_over.load(Ordering::Relaxed) && connection.replica().pending().count() < 6 {
            let edit = edit(&mut random, &connection);
            if connection.propose(vec![edit]).await.is_some() {
                told.proposed += 1;
            }
        }
        let pause = Duration::from_millis(random.random_range(5..60));
        let Ok(event) = tokio::time::timeout(pause, connection.next()).await else { continue };
        quiet = Instant::now();
        match event.unwrap() {
            Event::Changed(Change::Settled(update)) => {
                told.answered += u64::from(update.client == connection.replica().client());
                settled.fetch_add(1, Ordering::Relaxed);
                told.seen.push(serde_json::to_value(&update).unwrap());
            }
            Event::Changed(
                Change::SettledAway { .. } | Change::Moot { .. } | Change::Refused { .. },
            ) => told.answered += 1,
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

fn edit(random: &mut StdRng, connection: &Connection) -> Edit {
    let id = format!("m{}", random.random_range(0..12));
    match random.random_range(0..8) {
        0 | 1 => Edit::new("/heads", "add").with("by", random.random_range(1..5)),
        2 => Edit::new("/title", "set").with("value", random.random_range(0..9)),
        3 => Edit::new("/markers", "put").with("id", id).with("value", json!({ "what": "ladder" })),
        4 => Edit::new(format!("/markers/{id}"), "drop"),
        5 => {
            Edit::new("/tasks", "insert").with("index", 0).with("value", random.random_range(0..9))
        }
        _ => {
            let view = connection.replica().view().unwrap_or_default();
            let length = view["notes"].as_str().unwrap_or_default().chars().count();
            let index = random.random_range(0..=length);
            let delete = random.random_range(0..3).min(length - index);
            Edit::new("/notes", "splice")
                .with("index", index)
                .with("delete", delete)
                .with("insert", "ab")
        }
    }
}

#[tokio::test]
async fn of_two_services_on_one_database_the_older_is_fenced_off_and_nothing_is_half_written() {
    let older = Service::start().await;
    older.publish(CHARTER).await;
    older.open("harvest", json!({})).await;
    let token = older.token("harvest", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&older, "harvest", &token).await;
    let add = json!([{ "at": "/heads", "op": "add", "by": 1 }]);
    oda.propose(add.clone()).await;
    oda.answer().await.unwrap();
    let newer = older.beside().await;
    assert_eq!(newer.state("harvest").await["heads"], 1, "the newer one takes the session over");
    for n in 2..=6 {
        let frame = json!({ "type": "propose", "n": n, "seen": 1, "answered": 1, "edits": add });
        // The older one may have noticed by itself and closed.
        let _ = oda.socket.send(Message::text(frame.to_string())).await;
    }
    assert_eq!(oda.bye().await.0, "unavailable", "the older one settles nothing and ends");
    let refused = older.post("/v1/sessions/harvest/proposals", &json!({ "edits": add })).await;
    assert_eq!(
        (refused.status().as_u16(), name(&refused.json().await.unwrap())),
        (503, "unavailable".into())
    );
    let mut back = Raw::connect(&newer, "harvest").await;
    back.send(&json!({ "type": "enter", "token": token, "client": oda.client, "seen": oda.seq, "epoch": 1, "audience": 0 })).await;
    let welcome = back.next("welcome").await;
    assert_eq!(
        (&welcome["seq"], welcome["outcomes"].as_array().unwrap().len()),
        (&json!(1), 1),
        "nothing of it was written"
    );
    for n in 2..=6 {
        back.send(&json!({ "type": "propose", "n": n, "seen": 1, "answered": 1, "edits": add }))
            .await;
    }
    while back.seq < 6 {
        back.next("settled").await;
    }
    assert_eq!(
        (newer.state("harvest").await["heads"].clone(), newer.journal("harvest").await.len()),
        (json!(6), 6)
    );
    assert_eq!(older.metric("rendel_superseded_total").await, 1.0);
    older.terminate_beside(newer);
}

#[tokio::test]
async fn whoever_only_looks_on_learns_that_another_service_goes_on_with_the_session() {
    let older = Service::start().await;
    older.publish(CHARTER).await;
    older.open("harvest", json!({})).await;
    older.open_as("slope", "harvest", json!({})).await;
    let token = older.token("harvest", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&older, "harvest", &token).await;
    let token = older.token("slope", "bram", "participant").await;
    let (mut bram, _) = Raw::enter(&older, "slope", &token).await;
    let newer = older.beside().await;
    newer.state("harvest").await;
    assert_eq!(oda.bye().await.0, "unavailable");
    bram.propose(json!([{ "at": "/heads", "op": "add", "by": 1 }])).await;
    bram.answer().await.expect("its other sessions stay");
    assert_eq!(older.metric("rendel_superseded_total").await, 1.0);
    older.terminate_beside(newer);
}

#[tokio::test]
async fn a_session_that_panics_ends_its_connections_alone_and_comes_back_whole() {
    let service = Service::start_with(&[("FAILPOINTS", "session-fed=60*off->1*panic->off")]).await;
    service.publish(CHARTER).await;
    service.open("harvest", json!({})).await;
    service.open_as("slope", "harvest", json!({})).await;
    let token = service.token("slope", "bram", "participant").await;
    let (mut bram, _) = Raw::enter(&service, "slope", &token).await;
    let token = service.token("harvest", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "harvest", &token).await;
    let add = json!([{ "at": "/heads", "op": "add", "by": 1 }]);
    let mut told = 0;
    let bye = loop {
        oda.propose(add.clone()).await;
        let frame = oda.any().await.expect("a frame");
        match frame["type"].as_str() {
            Some("settled") => told += frame["updates"].as_array().unwrap().len() as u64,
            Some("bye") => break frame,
            _ => {}
        }
        oda.seq = told;
    };
    assert_eq!(name(&bye["problem"]), "unavailable");
    assert_eq!(service.metric("rendel_session_panics_total").await, 1.0);
    bram.propose(add.clone()).await;
    bram.answer().await.expect("other sessions go on");
    let (_oda, welcome) = Raw::enter(&service, "harvest", &token).await;
    let kept = welcome["state"]["heads"].as_u64().unwrap();
    assert!(told > 5 && kept >= told, "{told} were told and {kept} are there");
    assert_eq!(service.journal("harvest").await.len() as u64, kept);
}

#[tokio::test]
async fn a_full_disk_refuses_what_cannot_be_kept_and_ends_with_it() {
    let service = Service::start().await;
    service.publish(CHARTER).await;
    service.open("harvest", json!({})).await;
    let token = service.token("harvest", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "harvest", &token).await;
    let add = json!([{ "at": "/heads", "op": "add", "by": 1 }]);
    oda.propose(add.clone()).await;
    oda.answer().await.unwrap();
    // What PostgreSQL answers when its disk is full, at the same place.
    service.sql("CREATE FUNCTION full_disk() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'could not extend file: No space left on device' USING ERRCODE = '53100'; END $$; \
                 CREATE TRIGGER full_disk BEFORE INSERT ON journal FOR EACH STATEMENT EXECUTE FUNCTION full_disk(); \
                 CREATE TRIGGER full_disk BEFORE UPDATE ON sessions FOR EACH STATEMENT EXECUTE FUNCTION full_disk();");
    oda.propose(add.clone()).await;
    until("the journal is away", async || {
        (service.metric("rendel_journal_failures_total").await > 0.0).then_some(())
    })
    .await;
    let call = async || {
        service
            .post("/v1/sessions/harvest/proposals", &json!({ "edits": add }))
            .await
            .status()
            .as_u16()
    };
    until("calls are refused", async || (call().await == 503).then_some(())).await;
    assert_eq!(service.get("/healthz").await.status(), 200);
    service.sql("DROP TRIGGER full_disk ON journal; DROP TRIGGER full_disk ON sessions;");
    let problem = oda.answer().await.unwrap_err();
    assert_eq!(
        name(&problem),
        "unavailable",
        "what was under way was not kept, and its proposer is told"
    );
    oda.propose_until_taken(&add).await;
    let heads = service.state("harvest").await["heads"].as_u64().unwrap();
    assert_eq!(heads, service.journal("harvest").await.len() as u64);
}
