//! "Are we all looking at the same thing?" has an answer, and a replica that differs is found and
//! repaired.

use rendel_client::{Change, Replica};
use rendel_wire::FromService;
use serde_json::{Value, json};

use crate::harness::{Raw, Service, until};

/// A replica over a raw connection, so that what reaches it can be altered on the way.
struct Follower {
    raw: Raw,
    replica: Replica,
}

impl Follower {
    async fn enter(service: &Service, sub: &str) -> Self {
        let token = service.token("slope-plan", sub, "steward").await;
        let (raw, welcome) = Raw::enter(service, "slope-plan", &token).await;
        let mut replica = Replica::new(raw.client);
        replica.handle(frame(&welcome));
        Self { raw, replica }
    }

    /// Takes in the next frame, as `alter` leaves it, and answers what there is to answer.
    async fn step(&mut self, alter: impl Fn(&mut Value)) -> (String, Vec<Change>) {
        let mut came = self.raw.any().await.expect("the connection stays");
        alter(&mut came);
        let changes = self.replica.handle(frame(&came));
        while let Some(outgoing) = self.replica.poll_outgoing() {
            self.raw.send_text(&outgoing.encode()).await;
        }
        (came["type"].as_str().unwrap().to_owned(), changes)
    }

    async fn until_frame(&mut self, kind: &str, alter: impl Fn(&mut Value)) -> Vec<Change> {
        loop {
            let (came, changes) = self.step(&alter).await;
            if came == kind {
                return changes;
            }
        }
    }
}

fn frame(value: &Value) -> FromService {
    FromService::decode(value.to_string().as_bytes()).unwrap()
}

fn untouched(_: &mut Value) {}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_replica_that_differs_is_found_within_one_interval_repaired_counted_and_shown() {
    let service = Service::start_with(&[("RENDEL_DIGEST_WITHIN_MS", "200")]).await;
    service.open_demo("slope-plan").await;
    let mut honest = Follower::enter(&service, "oda").await;
    let mut altered = Follower::enter(&service, "tobin").await;
    let edits = json!([{ "at": "/title", "op": "set", "value": "West slope" }]);
    assert_eq!(
        service
            .post("/v1/sessions/slope-plan/proposals", &json!({ "edits": edits }))
            .await
            .status(),
        200
    );

    let lie = |came: &mut Value| {
        if came["type"] == "settled" {
            came["updates"][0]["effects"][0]["value"] = "East slope".into();
        }
    };
    altered.until_frame("settled", lie).await;
    assert_eq!(altered.replica.confirmed().unwrap()["title"], "East slope");
    let changes = altered.until_frame("resync", untouched).await;
    assert!(matches!(&changes[..], [Change::Repaired { seq: 1, .. }]), "{changes:?}");
    assert_eq!(altered.replica.confirmed(), Some(&service.state("slope-plan").await));

    honest.until_frame("digest", untouched).await;
    let figures = until("the honest replica is counted", async || {
        let figures: Value = service.get("/v1/sessions/slope-plan").await.json().await.unwrap();
        (figures["agreed"] == 1).then_some(figures)
    })
    .await;
    assert_eq!((&figures["agreed_seq"], &figures["differed"]), (&json!(1), &json!(1)));
    assert_eq!(service.metric("rendel_divergences_total").await, 1.0);

    // Repaired, it goes on as everybody does.
    let edits = json!([{ "at": "/crates", "op": "add", "by": 1 }]);
    assert_eq!(
        service
            .post("/v1/sessions/slope-plan/proposals", &json!({ "edits": edits }))
            .await
            .status(),
        200
    );
    altered.until_frame("settled", untouched).await;
    assert_eq!(altered.replica.confirmed(), Some(&service.state("slope-plan").await));
    altered.until_frame("digest", untouched).await;
    until("both hold the same", async || {
        let figures: Value = service.get("/v1/sessions/slope-plan").await.json().await.unwrap();
        (figures["agreed_seq"] == 2
            && figures["agreed"].as_u64() >= Some(1)
            && figures["differed"] == 1)
            .then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_digest_that_was_not_asked_for_or_makes_no_sense_changes_nothing() {
    let service = Service::start_with(&[("RENDEL_DIGEST_WITHIN_MS", "3600000")]).await;
    service.open_demo("slope-plan").await;
    let token = service.token("slope-plan", "oda", "steward").await;
    let (mut oda, _) = Raw::enter(&service, "slope-plan", &token).await;
    oda.send(&json!({ "type": "digest", "seq": 0, "sha256": "0".repeat(64) })).await;
    oda.send(&json!({ "type": "digest", "seq": 99, "sha256": "" })).await;
    oda.send(&json!({ "type": "digest", "seq": -1 })).await;
    assert_eq!(crate::harness::name(&oda.next("notice").await["problem"]), "malformed");
    oda.propose(json!([{ "at": "/crates", "op": "add", "by": 1 }])).await;
    oda.answer().await.unwrap();
    assert_eq!(service.metric("rendel_divergences_total").await, 0.0);
}
