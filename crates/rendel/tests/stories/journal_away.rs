//! The journal goes away at each step of an append, while a session is used, stopped or taken over.
//! What was told is written, and what was not written was not told.

use serde_json::{Value, json};

use crate::harness::{HeldLock, Proxy, Raw, Service, name, until};

const CHARTER: &str = r#"
charter = "gate"
version = 1
[state.heads]
kind = "counter"
"#;

/// A database, and a service that reaches it by a way on which it can be lost.
async fn apart() -> (Service, Proxy, Service) {
    let database = Service::start().await;
    database.publish(CHARTER).await;
    database.open("gate", json!({})).await;
    let proxy = Proxy::before(&format!("http://127.0.0.1:{}", database.database_port())).await;
    let service = database.beside_through(&proxy).await;
    (database, proxy, service)
}

fn add() -> Value {
    json!([{ "at": "/heads", "op": "add", "by": 1 }])
}

fn written(database: &Service) -> u64 {
    database.sql("SELECT count(*) FROM journal").parse().unwrap()
}

/// Every row of the journal waits, after it was sent and before it is committed, while somebody
/// holds the lock 7.
const WAIT_BEFORE_COMMIT: &str = "CREATE FUNCTION hold() RETURNS trigger LANGUAGE plpgsql AS \
    $$ BEGIN PERFORM pg_advisory_xact_lock_shared(7); RETURN NEW; END $$; \
    CREATE TRIGGER hold BEFORE INSERT ON journal FOR EACH ROW EXECUTE FUNCTION hold();";

/// Before which step of an append the way to the database is lost.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Lost {
    Request,
    Commit,
    Answer,
}

/// Settles one proposal, and makes another that gets as far as `lost` says.
async fn propose_until(
    lost: Lost,
    database: &Service,
    proxy: &Proxy,
    oda: &mut Raw,
) -> Option<HeldLock> {
    oda.propose(add()).await;
    oda.answer().await.unwrap();
    match lost {
        Lost::Request => proxy.hold_requests(true),
        Lost::Commit => drop(database.sql(WAIT_BEFORE_COMMIT)),
        Lost::Answer => proxy.hold_answers(true),
    }
    let holding = (lost == Lost::Commit).then(|| database.hold_lock(7));
    oda.propose(add()).await;
    let is_there = async || match lost {
        Lost::Request => proxy.has_held(),
        Lost::Commit => database.is_waiting("journal"),
        Lost::Answer => written(database) == 2,
    };
    until("the append gets there", async || is_there().await.then_some(())).await;
    holding
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_stop_while_the_journal_is_away_tells_no_outcome_and_keeps_no_snapshot() {
    for lost in [Lost::Request, Lost::Commit, Lost::Answer] {
        let (database, proxy, mut service) = apart().await;
        let token = database.token("gate", "oda", "participant").await;
        let (mut oda, _) = Raw::enter(&service, "gate", &token).await;
        let holding = propose_until(lost, &database, &proxy, &mut oda).await;
        let call = service.request(reqwest::Method::POST, "/v1/sessions/gate/proposals");
        let call = tokio::spawn(
            call.header("Idempotency-Key", "k").json(&json!({ "edits": add() })).send(),
        );
        proxy.cut();
        let stopped = tokio::task::spawn_blocking(move || service.terminate());
        // The server may have given the append up by then, and the session found that nothing was
        // written.
        let mut is_refused = false;
        while let Some(frame) = oda.any().await {
            assert!(frame["type"] != "settled" && frame["type"] != "outcome", "{lost:?}: {frame}");
            is_refused |= frame["type"] == "refused" && name(&frame["problem"]) == "unavailable";
        }
        let status = call.await.unwrap().map(|answer| answer.status().as_u16());
        assert!(
            status.as_ref().is_ok_and(|status| *status == 503) || status.is_err(),
            "{lost:?}: {status:?}"
        );
        assert!(stopped.await.unwrap().success(), "{lost:?}");
        drop(holding);
        until("nothing is under way", async || (!database.is_waiting("journal")).then_some(()))
            .await;
        let is_written = written(&database) == 2;
        assert!(lost == Lost::Commit || is_written == (lost == Lost::Answer), "{lost:?}");
        assert!(!(is_written && is_refused), "{lost:?}: it was told that nothing was settled");
        assert_eq!(
            database
                .sql("SELECT count(*) FROM snapshots WHERE seq > (SELECT max(seq) FROM journal)"),
            "0"
        );
        // Whoever comes back learns the outcome, and what is sent again counts once.
        let mut back = Raw::connect(&database, "gate").await;
        back.send(&json!({ "type": "enter", "token": token, "client": oda.client, "seen": 1, "epoch": 1, "audience": 0 })).await;
        let welcome = back.next("welcome").await;
        assert_eq!(welcome["seq"], json!(if is_written { 2 } else { 1 }), "{lost:?}");
        back.send(&json!({ "type": "propose", "n": 2, "seen": 1, "answered": 1, "edits": add() }))
            .await;
        until("the proposal counts", async || {
            (database.state("gate").await["heads"] == 2).then_some(())
        })
        .await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_session_whose_journal_was_lost_goes_on_with_what_is_written() {
    for lost in [Lost::Request, Lost::Commit, Lost::Answer] {
        let (database, proxy, service) = apart().await;
        let token = database.token("gate", "oda", "participant").await;
        let (mut oda, _) = Raw::enter(&service, "gate", &token).await;
        let holding = propose_until(lost, &database, &proxy, &mut oda).await;
        proxy.cut();
        proxy.stall(false);
        drop(holding);
        let outcome = oda.answer().await;
        let is_written = written(&database) == 2;
        match outcome {
            Ok(update) => assert!(is_written && update["seq"] == 2, "{lost:?}"),
            Err(problem) => {
                assert!(!is_written && name(&problem) == "unavailable", "{lost:?}: {problem}")
            }
        }
        assert!(lost == Lost::Commit || is_written == (lost == Lost::Answer), "{lost:?}");
        let next = oda.propose_until_taken(&add()).await;
        assert_eq!(next["seq"], json!(if is_written { 3 } else { 2 }));
        assert_eq!(service.state("gate").await["heads"], next["seq"]);
        database.terminate_beside(service);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_is_shown_before_it_is_written() {
    let service = Service::start().await;
    service.publish(CHARTER).await;
    service.open("gate", json!({})).await;
    let token = service.token("gate", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "gate", &token).await;
    let token = service.token("gate", "bram", "participant").await;
    let (mut bram, _) = Raw::enter(&service, "gate", &token).await;
    while oda.next("roster").await["joined"][0]["id"] != "bram" {}
    service.sql(WAIT_BEFORE_COMMIT);
    let holding = service.hold_lock(7);
    oda.propose(add()).await;
    until("the append waits", async || service.is_waiting("journal").then_some(())).await;
    for somebody in [&mut oda, &mut bram] {
        somebody.send(&json!({ "type": "ping", "sent": 1 })).await;
        assert_eq!(somebody.any().await.unwrap()["type"], "pong", "and no update before it");
    }
    drop(holding);
    assert_eq!(oda.answer().await.unwrap()["seq"], 1);
    assert_eq!(bram.next("settled").await["updates"][0]["seq"], 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_take_over_in_the_middle_of_an_append_has_what_was_told() {
    let older = Service::start().await;
    older.publish(CHARTER).await;
    older.open("gate", json!({})).await;
    let newer = older.beside().await;
    let token = older.token("gate", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&older, "gate", &token).await;
    oda.propose(add()).await;
    oda.answer().await.unwrap();
    older.sql(WAIT_BEFORE_COMMIT);
    let holding = older.hold_lock(7);
    oda.propose(add()).await;
    until("the append waits", async || older.is_waiting("journal").then_some(())).await;
    let reading =
        tokio::spawn(newer.request(reqwest::Method::GET, "/v1/sessions/gate/state").send());
    until("the take-over waits for it", async || older.is_waiting("FOR UPDATE").then_some(()))
        .await;
    assert!(!reading.is_finished());
    drop(holding);
    assert_eq!(oda.answer().await.unwrap()["seq"], 2, "it was written before the session went");
    let state: Value = reading.await.unwrap().unwrap().json().await.unwrap();
    assert_eq!(state["heads"], 2, "and whoever has the session now has it");
    assert_eq!(oda.bye().await.0, "unavailable");
    assert_eq!(newer.journal("gate").await.len(), 2);
    older.terminate_beside(newer);
}

#[tokio::test]
async fn readiness_says_whether_anything_can_be_written_and_what_is_refused_meanwhile_is_counted() {
    let service = Service::start().await;
    service.publish(CHARTER).await;
    service.open("gate", json!({})).await;
    let token = service.token("gate", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "gate", &token).await;
    let ready = async || service.get("/readyz").await.status().as_u16();
    let is_ready = async |status: u16| {
        let what = format!("/readyz is {status}");
        until(&what, async || (ready().await == status).then_some(())).await;
    };
    is_ready(200).await;
    // Somebody holds the journal: its database answers all the while.
    let locked = service.lock_journal();
    is_ready(503).await;
    oda.propose(add()).await;
    until("the commit has failed", async || {
        service.log().contains("a commit failed").then_some(())
    })
    .await;
    // Whether it was written is known once the journal can be read again.
    drop(locked);
    assert_eq!(name(&oda.answer().await.unwrap_err()), "unavailable");
    is_ready(200).await;
    // And when the database is gone.
    let port = service.database_port();
    service.kill_database();
    is_ready(503).await;
    service.start_database(port);
    is_ready(200).await;
    let counted = service.metric("rendel_refused_total{problem=\"unavailable\"}").await;
    assert!(counted >= 1.0, "{counted}");
}
