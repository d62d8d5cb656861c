//! The cases that every replica passes, whatever its language.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::path::PathBuf;

use rendel_client::{Change, Replica};
use rendel_core::Edit;
use rendel_wire::{FromParticipant, FromService};
use serde_json::{Value, json};

#[test]
fn the_replica_passes_every_case() {
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../conformance");
    let mut passed = 0;
    for entry in fs::read_dir(folder).unwrap() {
        let file: Value = serde_json::from_slice(&fs::read(entry.unwrap().path()).unwrap()).unwrap();
        for case in file["cases"].as_array().unwrap() {
            run(case, &file["client"]);
            passed += 1;
        }
    }
    assert!(passed > 20, "only {passed} cases were found");
}

fn run(case: &Value, client: &Value) {
    let mut replica = Replica::new(serde_json::from_value(client.clone()).unwrap());
    let mut has_diverged = false;
    for (index, step) in case["steps"].as_array().unwrap().iter().enumerate() {
        let place = format!("{}, step {}", case["name"], index + 1);
        if let Some(frame) = step.get("receive") {
            let changes = replica.handle(FromService::decode(frame.to_string().as_bytes()).unwrap());
            has_diverged = changes.iter().any(|change| matches!(change, Change::Diverged(_)));
            let sent = std::iter::from_fn(|| replica.poll_outgoing()).map(|frame| plain(&frame));
            let sent: Vec<_> = sent.collect();
            assert_eq!(json!(sent), step.get("sends").cloned().unwrap_or(json!([])), "{place}");
        } else if let Some(edits) = step.get("propose") {
            let edits: Vec<Edit> = serde_json::from_value(edits.clone()).unwrap();
            replica.propose(edits, None, None);
            let sent = replica.poll_outgoing().map(|frame| plain(&frame));
            assert_eq!(sent.unwrap_or_default(), step["sends"], "{place}");
        } else {
            for (member, expected) in step["expect"].as_object().unwrap() {
                assert_eq!(&actual(&replica, has_diverged, member), expected, "{place}: {member}");
            }
        }
    }
}

fn actual(replica: &Replica, has_diverged: bool, member: &str) -> Value {
    match member {
        "seq" => json!(replica.seq()),
        "confirmed" => json!(replica.confirmed()),
        "view" => json!(replica.view()),
        "pending" => replica.pending().map(Value::from).collect(),
        "unanswered" => replica.unanswered().map(|frame| plain(&FromParticipant::Propose(frame.clone()))).collect(),
        "enter" => plain(&FromParticipant::Enter(replica.enter(None))),
        "digest" => json!(replica.digest()),
        "diverged" => json!(has_diverged),
        other => panic!("the runner does not know {other:?}"),
    }
}

fn plain(frame: &FromParticipant) -> Value {
    serde_json::from_str(&frame.encode()).unwrap()
}
