//! What a replica does beyond the cases of `conformance/`.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use rendel_client::{Change, Replica};
use rendel_core::Edit;
use rendel_wire::{FromParticipant, FromService};
use serde_json::{Value, json};
use uuid::Uuid;

const CLIENT: Uuid = Uuid::from_u128(1);

fn frame(value: Value) -> FromService {
    FromService::from_value(value).unwrap()
}

fn welcome(seq: u64, more: &Value) -> FromService {
    let mut welcome = json!({
        "type": "welcome", "epoch": 1, "seq": seq, "roster": [], "outcomes": [], "time": 0,
        "you": { "id": "oda", "name": "Oda", "role": "picker", "hue": 1, "client": CLIENT },
        "session": { "id": "gate", "charter": "headcount", "version": 1, "status": "open" },
        "limits": { "frame": 65_536, "edits": 256, "proposals_per_second": 50 },
    });
    welcome.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    frame(welcome)
}

fn add() -> Vec<Edit> {
    vec![Edit::new("/heads", "add").with("by", 1)]
}

/// The numbers of the proposals to send now.
fn sent(replica: &mut Replica) -> Vec<u64> {
    let mut numbers = Vec::new();
    while let Some(frame) = replica.poll_outgoing() {
        let FromParticipant::Propose(proposal) = frame else { panic!("{frame:?}") };
        numbers.push(proposal.n);
    }
    numbers.iter().for_each(|n| replica.note_sent(*n));
    numbers
}

#[test]
fn a_digest_is_of_the_seq_that_is_asked_for_or_is_not_given() {
    let mut replica = Replica::new(CLIENT);
    replica.handle(welcome(3, &json!({ "state": { "heads": 41 } })));
    replica.handle(frame(json!({ "type": "digest", "seq": 2 })));
    replica.handle(frame(json!({ "type": "digest", "seq": 4 })));
    assert_eq!(replica.poll_outgoing(), None);
    replica.handle(frame(json!({ "type": "digest", "seq": 3 })));
    let Some(FromParticipant::Digest(digest)) = replica.poll_outgoing() else { panic!() };
    assert_eq!((digest.seq, Some(digest.sha256)), (3, replica.digest()));
}

#[test]
fn where_nothing_is_remembered_of_it_what_was_not_sent_before_is_made_anew_and_the_rest_is_told() {
    let mut replica = Replica::new(CLIENT);
    replica.handle(welcome(3, &json!({ "state": { "heads": 41 } })));
    for _ in 0..2 {
        replica.propose(add(), None, None);
    }
    assert_eq!(sent(&mut replica), [1, 2]);
    // Away, and back.
    replica.propose(add(), None, None);
    while replica.poll_outgoing().is_some() {}
    replica.handle(welcome(3, &json!({ "updates": [] })));
    let again: Vec<u64> = replica.unanswered().map(|frame| frame.n).collect();
    assert_eq!(again, [1, 2, 3]);
    again.iter().for_each(|n| replica.note_sent(*n));
    let problem = json!({ "type": "urn:rendel:problem:forgotten", "title": "", "status": 409, "detail": "", "next_n": 1 });
    let changes = replica.handle(frame(json!({ "type": "refused", "n": 2, "problem": problem })));
    let told: Vec<_> = changes
        .iter()
        .map(|change| match change {
            Change::Unknown => ("unknown", 0),
            Change::Refused { n, .. } => ("refused", *n),
            Change::MadeAnew { was, n } => ("made anew", was * 10 + n),
            other => panic!("{other:?}"),
        })
        .collect();
    assert_eq!(told, [("unknown", 0), ("refused", 1), ("refused", 2), ("made anew", 31)]);
    replica.handle(welcome(3, &json!({ "updates": [] })));
    let frames: Vec<_> = replica.unanswered().map(|frame| (frame.n, frame.answered)).collect();
    assert_eq!((frames, replica.view()), (vec![(1, 0)], Some(json!({ "heads": 42 }))));
}
