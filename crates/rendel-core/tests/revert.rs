//! Revert: one update that leads back to any earlier state.

#![allow(clippy::unwrap_used, reason = "a test that cannot continue has failed")]

use std::sync::Arc;

use proptest::prelude::*;
use rendel_core::{
    Actor, Charter, Edit, Outcome, Path, Problem, Proposal, Sequencer, Settled, State,
};
use serde_json::{Value, json};
use uuid::Uuid;

const BOARD: &str = r#"
charter = "board"
version = 1
[limits]
edits = 8
[roles.planner]
edit = ["/**"]
powers = ["revert"]
[state.title]
kind = "register"
[state.crews]
kind = "map"
[state.crews.each.name]
kind = "register"
[state.markers]
kind = "map"
most = 12
[state.markers.each.crew]
kind = "register"
refers = { to = "/crews", on-drop = "ON-DROP" }
[state.markers.each.note]
kind = "text"
[state.steps]
kind = "list"
[state.steps.each.crew]
kind = "register"
refers = { to = "/crews", on-drop = "ON-DROP" }
[state.own]
kind = "map"
key = "author"
[state.own.each.heads]
kind = "counter"
[state.log]
kind = "list"
append-only = true
keep = 3
[state.blend]
kind = "ballot"
choices = ["dry", "mellow"]
[state.count]
kind = "total"
from = "/markers"
count = true
"#;

fn opened(on_drop: &str) -> Sequencer {
    let charter = Charter::parse(&BOARD.replace("ON-DROP", on_drop)).unwrap();
    Sequencer::open(Arc::new(charter), None).unwrap()
}

fn planner(who: &str) -> Actor {
    Actor::new(who, "planner", Uuid::from_u128(1))
}

fn propose(session: &mut Sequencer, who: &str, edits: &[&str]) -> Result<Settled, Problem> {
    let edit = |text: &&str| serde_json::from_str(&format!("{{{text}}}")).unwrap();
    settle(session, who, &Proposal::new(0, None, edits.iter().map(edit).collect()))
}

fn settle(session: &mut Sequencer, who: &str, proposal: &Proposal) -> Result<Settled, Problem> {
    match session.handle_proposal(&planner(who), proposal, 1_000) {
        Outcome::Settled(update) => Ok(update),
        Outcome::Refused(problem) => Err(problem),
        Outcome::Repeated(_) => panic!("it has no number"),
    }
}

/// Reverts as a participant; gives the update, or nothing if nothing differs.
fn revert(session: &mut Sequencer, who: &str, past: &State, at: &str) -> Option<Settled> {
    let charter = session.charter().clone();
    let asker = (&planner(who), charter.sight("planner"));
    let path = Path::parse(at).unwrap();
    let edits: Vec<Edit> = session.state().edits_back_to(past, &charter, &path, asker).unwrap();
    let proposal = Proposal { is_revert: true, ..Proposal::new(0, None, edits) };
    (!proposal.edits.is_empty()).then(|| settle(session, who, &proposal).unwrap())
}

/// The state without what a revert by oda leaves as it is.
fn reverted(mut plain: Value) -> Value {
    for name in ["log", "blend", "blend-ballots"] {
        plain.as_object_mut().unwrap().remove(name);
    }
    plain["own"].as_object_mut().unwrap().retain(|id, _| id == "oda");
    plain
}

fn edits() -> impl Strategy<Value = Vec<&'static str>> {
    let edits = prop::sample::select(vec![
        r#""at":"/title","op":"set","value":"South""#,
        r#""at":"/title","op":"clear""#,
        r#""at":"/crews","op":"put","id":"k","value":{"name":"Kestrel"}"#,
        r#""at":"/crews","op":"put","id":"l","value":{}"#,
        r#""at":"/crews/k","op":"drop""#,
        r#""at":"/crews/l","op":"drop""#,
        r#""at":"/markers","op":"put","id":"a","value":{"crew":"k","note":"dry"}"#,
        r#""at":"/markers","op":"put","id":"b","value":{}"#,
        r#""at":"/markers/a","op":"drop""#,
        r#""at":"/markers/b/crew","op":"set","value":"l""#,
        r#""at":"/markers/a/note","op":"splice","index":0,"delete":1,"insert":"mel""#,
        r#""at":"/steps","op":"insert","id":"s","value":{"crew":"l"}"#,
        r#""at":"/steps","op":"insert","id":"t","value":{},"after":null"#,
        r#""at":"/steps/s","op":"move","after":null"#,
        r#""at":"/steps/s","op":"remove""#,
        r#""at":"/own","op":"put","value":{"heads":1}"#,
        r#""at":"/log","op":"insert","value":"pressed""#,
        r#""at":"/blend","op":"cast","choices":["dry"]"#,
    ]);
    prop::collection::vec(edits, 1..4)
}

proptest! {
    #[test]
    fn one_update_leads_back_to_any_earlier_state(
        on_drop in prop::sample::select(vec!["refuse", "cascade", "clear"]),
        steps in prop::collection::vec((any::<bool>(), edits()), 1..40),
        back in any::<prop::sample::Index>(),
    ) {
        let mut session = opened(on_drop);
        let mut states = vec![session.state()];
        for (is_oda, edits) in steps {
            let who = if is_oda { "oda" } else { "bram" };
            // A refusal is as good: what is asked for may not be possible.
            drop(propose(&mut session, who, &edits));
            states.push(session.state());
        }
        let past = back.get(&states);
        let others = session.plain()["own"]["bram"].clone();
        let seq = session.seq();
        revert(&mut session, "oda", past, "");
        prop_assert!(session.seq() <= seq + 1);
        let fields = session.charter().fields.clone();
        prop_assert_eq!(reverted(session.plain()), reverted(past.plain(&fields)));
        prop_assert_eq!(&session.plain()["own"]["bram"], &others);
    }
}

#[test]
fn a_board_of_a_hundred_records_goes_back_with_one_call() {
    let mut session = opened("cascade");
    propose(&mut session, "oda", &[r#""at":"/crews","op":"put","id":"k","value":{}"#]).unwrap();
    let charter = session.charter().clone();
    for n in 0..12 {
        let put = format!(r#""at":"/markers","op":"put","id":"m{n}","value":{{"crew":"k"}}"#);
        propose(&mut session, "oda", &[&put]).unwrap();
    }
    let full = session.state();
    propose(&mut session, "oda", &[r#""at":"/crews/k","op":"drop""#]).unwrap();
    assert_eq!(session.plain()["markers"], json!({}));
    let update = revert(&mut session, "bram", &full, "").unwrap();
    assert_eq!((update.by.as_str(), update.verdicts.len()), ("bram", 0));
    assert_eq!(session.plain(), full.plain(&charter.fields));
    // A part alone would leave references to a crew that does not exist.
    let empty = Sequencer::open(charter.clone(), None).unwrap().state();
    let asker = (&planner("oda"), charter.sight("planner"));
    let crews = Path::parse("/crews").unwrap();
    let edits = session.state().edits_back_to(&empty, &charter, &crews, asker).unwrap();
    let proposal = Proposal { is_revert: true, ..Proposal::new(0, None, edits) };
    assert_eq!(settle(&mut session, "oda", &proposal).unwrap_err().kind().name(), "gone");
    assert_eq!(session.plain(), full.plain(&charter.fields));
}
