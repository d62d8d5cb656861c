//! A refusal changes nothing, whatever was refused and however late that turned out; and what it
//! tells and leaves behind is small.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;
use std::sync::Arc;

use rendel_core::{
    Actor, Charter, ClientOutcome, Document, Edit, Outcome, Problem, ProblemKind, Proposal,
    Sequencer, Settled, Sight,
};
use serde_json::{Value, json};
use uuid::Uuid;

/// Every kind within 2 KiB, with references and a guard, and with records that weigh far more than
/// their `put`.
const CHARTER: &str = r#"
charter = "orchard"
version = 1
[limits]
state = "2KiB"
[state.heads]
kind = "counter"
[state.title]
kind = "register"
[state.leads]
kind = "register"
merge = "all"
[state.rows]
kind = "set"
[state.notes]
kind = "text"
[state.tasks]
kind = "list"
[state.tasks.each.text]
kind = "text"
initial = "INITIAL"
[state.barrels]
kind = "map"
drop-conflict = "revive"
[state.barrels.each.label]
kind = "register"
[state.barrels.each.notes]
kind = "text"
initial = "INITIAL"
[state.racks]
kind = "map"
[state.racks.each.barrel]
kind = "register"
refers = { to = "/barrels", on-drop = "clear" }
[[guards]]
at = "/heads"
rule = "new != 13"
says = "Not thirteen."
"#;

fn open(initial: usize) -> Sequencer {
    let source = CHARTER.replace("INITIAL", &"x".repeat(initial));
    Sequencer::open(Arc::new(Charter::parse(&source).unwrap()), None).unwrap()
}

fn actor(who: &str) -> Actor {
    Actor::new(who, "participant", Uuid::from_u128(1))
}

fn proposal(n: u64, seen: Option<u64>, edits: Vec<Edit>) -> Proposal {
    Proposal::new(n, seen, edits)
}

fn refused(outcome: Outcome) -> Problem {
    match outcome {
        Outcome::Refused(problem) => problem,
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_put_that_is_refused_for_its_size_is_not_in_the_state() {
    let mut sequencer = open(600);
    for n in 1..=4 {
        let put = Edit::new("/barrels", "put").with("id", format!("b{n}")).with("value", json!({}));
        let outcome = sequencer.handle_proposal(&actor("oda"), &proposal(n, None, vec![put]), 1);
        assert_eq!(matches!(outcome, Outcome::Settled(_)), n < 4, "{outcome:?}");
    }
    assert_eq!(sequencer.plain()["barrels"].as_object().unwrap().len(), 3);
}

#[test]
fn what_a_refusal_tells_is_bounded_and_what_is_remembered_of_it_more_so() {
    let source = CHARTER.replace("2KiB", "1MiB").replace("INITIAL", "");
    let mut sequencer = Sequencer::open(Arc::new(Charter::parse(&source).unwrap()), None).unwrap();
    let bytes = |problem: &Problem| serde_json::to_string(problem).unwrap().len();
    let mut settle = |n, at: &str, op: &str, name: &str, value: Value| {
        let edit = Edit::new(at, op).with(name, value);
        sequencer.handle_proposal(&actor("oda"), &proposal(n, None, vec![edit]), 1)
    };
    assert!(matches!(
        settle(1, "/title", "set", "value", "z".repeat(50_000).into()),
        Outcome::Settled(_)
    ));
    let told = refused(settle(2, "/title", "test", "value", 1.into()));
    assert!(told.member("current").is_some() && bytes(&told) > 50_000);
    assert!(matches!(
        settle(3, "/leads", "set", "value", "z".repeat(50_000).into()),
        Outcome::Settled(_)
    ));
    let long = "w".repeat(300_000);
    let problems = [
        (ProblemKind::TestFailed, refused(settle(4, "", "test", "value", 1.into()))),
        (
            ProblemKind::UnknownPath,
            refused(settle(5, &format!("/{long}"), "set", "value", 1.into())),
        ),
        (ProblemKind::UnknownOp, refused(settle(6, "/title", &long, "value", 1.into()))),
        (ProblemKind::Malformed, refused(settle(7, "/title", "set", &long, 1.into()))),
        (ProblemKind::Gone, refused(settle(8, "/rows", "exclude", "value", long.clone().into()))),
    ];
    for (kind, problem) in problems {
        assert_eq!(problem.kind(), kind);
        assert!(
            problem.member("current").is_none() && bytes(&problem) < 10_000,
            "{kind:?}: {}",
            bytes(&problem)
        );
    }
    for (n, outcome) in sequencer.outcomes(actor("oda").key()) {
        let ClientOutcome::Refused(problem) = outcome else { continue };
        assert!(bytes(&problem) < 10_000, "{n}: {}", bytes(&problem));
    }
}

#[test]
fn a_document_cannot_grow_beyond_what_the_state_may_have() {
    let opening = json!({ "title": "x".repeat(1_000) });
    let charter = open(0).charter().clone();
    let state = Sequencer::open(charter.clone(), Some(&opening)).unwrap().state();
    let kind = |document: Value| {
        let change = Document::patch(document)?;
        state.edits_for(&charter, &change, &Sight::WHOLE, None).map(drop)
    };
    let kind = |document: Value| kind(document).unwrap_err().kind();
    let many = |operation: Value, times: usize| Value::Array(vec![operation; times]);
    // The first two filled memory before: each copy doubles the document.
    let copies: Vec<_> =
        (0..40).map(|n| json!({ "op": "copy", "from": "", "path": format!("/k{n}") })).collect();
    assert_eq!(kind(copies.clone().into()), ProblemKind::TooLarge);
    assert_eq!(kind(many(copies[0].clone(), 40)), ProblemKind::TooLarge);
    // Each makes room for the next: what is copied counts together.
    let there_and_back = [
        json!({ "op": "copy", "from": "/title", "path": "/k" }),
        json!({ "op": "remove", "path": "/k" }),
    ];
    assert_eq!(
        kind(Value::Array(there_and_back.iter().cycle().take(100).cloned().collect())),
        ProblemKind::TooLarge
    );
    let add = json!({ "op": "add", "path": "/rows/-", "value": "y".repeat(300) });
    assert_eq!(kind(many(add, 9)), ProblemKind::TooLarge);
    let nested =
        (1..=70).map(|depth| json!({ "op": "add", "path": format!("/title{}", "/a".repeat(depth)), "value": {} }));
    let nested =
        std::iter::once(json!({ "op": "replace", "path": "/title", "value": {} })).chain(nested);
    assert_eq!(kind(nested.collect()), ProblemKind::TooDeep);
    assert_eq!(
        kind(many(json!({ "op": "test", "path": "/heads", "value": 0 }), 1_001)),
        ProblemKind::TooLarge
    );
    let merge = Document::Merge(json!({ "title": "x".repeat(3_000) }));
    assert_eq!(
        state.edits_for(&charter, &merge, &Sight::WHOLE, None).unwrap_err().kind(),
        ProblemKind::TooLarge
    );
    // A move, a replacement by as much, and many small tests are within the bounds.
    let fits = json!([{ "op": "move", "from": "/title", "path": "/leads/0" }, { "op": "add", "path": "/title", "value": "y".repeat(800) }]);
    assert!(
        state.edits_for(&charter, &Document::patch(fits).unwrap(), &Sight::WHOLE, None).is_ok()
    );
}

#[test]
fn somebody_else_s_client_id_is_another_client() {
    let mut sequencer = open(0);
    let add = |by: i64| vec![Edit::new("/heads", "add").with("by", by)];
    let first = sequencer.handle_proposal(&actor("oda"), &proposal(1, None, add(1)), 1);
    refused(sequencer.handle_proposal(&actor("oda"), &proposal(2, None, add(12)), 1));
    // Bram enters under Oda's id: he hears nothing of hers and takes none of her numbers.
    assert_eq!(sequencer.outcomes(actor("bram").key()).count(), 0);
    assert!(matches!(
        sequencer.handle_proposal(&actor("bram"), &proposal(1, None, add(1)), 1),
        Outcome::Settled(_)
    ));
    sequencer.note_refused(actor("bram").key(), 9);
    assert_eq!(sequencer.outcomes(actor("oda").key()).count(), 2);
    let again = sequencer.handle_proposal(&actor("oda"), &proposal(1, None, add(1)), 1);
    assert_eq!(again, Outcome::Repeated(ClientOutcome::Settled(1)));
    // His work is concurrent with hers, as anybody's.
    let set = |text: &str| vec![Edit::new("/title", "set").with("value", text)];
    sequencer.handle_proposal(&actor("bram"), &proposal(2, None, set("his")), 1);
    let Outcome::Settled(hers) =
        sequencer.handle_proposal(&actor("oda"), &proposal(3, Some(1), set("hers")), 1)
    else {
        panic!()
    };
    assert_eq!(hers.verdicts[0].met, [3]);
    assert!(matches!(first, Outcome::Settled(Settled { seq: 1, .. })));
}

#[test]
fn a_proposal_without_a_number_leaves_no_memory_whatever_became_of_it() {
    let mut sequencer = open(0);
    let before = serde_json::to_value(sequencer.snapshot()).unwrap()["clients"].clone();
    for by in [1, 12] {
        let edits = vec![Edit::new("/heads", "add").with("by", by)];
        sequencer.handle_proposal(&actor("oda"), &proposal(0, None, edits), 1);
    }
    assert_eq!((sequencer.seq(), &sequencer.plain()["heads"]), (1, &json!(1)));
    assert_eq!(serde_json::to_value(sequencer.snapshot()).unwrap()["clients"], before);
}

#[test]
fn a_value_that_no_client_could_read_and_a_number_that_none_could_count_are_refused() {
    let mut sequencer = open(0);
    let nested = |levels: usize| (0..levels).fold(Value::Null, |inner, _| json!([inner]));
    for (levels, kind) in [(48, None), (49, Some(ProblemKind::TooDeep))] {
        for (at, op) in [("/title", "set"), ("/leads", "set"), ("/rows", "include")] {
            let edits = vec![Edit::new(at, op).with("value", nested(levels))];
            let refusal =
                match sequencer.handle_proposal(&actor("oda"), &proposal(0, None, edits), 1) {
                    Outcome::Refused(problem) => Some(problem.kind()),
                    _ => None,
                };
            assert_eq!(refusal, kind, "{at} {levels}");
        }
    }
    let add = |by: Value| vec![Edit::new("/heads", "add").with("by", by)];
    for (n, by, kind) in [
        (1 << 53, json!(1), ProblemKind::Malformed),
        (u64::MAX, json!(1), ProblemKind::Malformed),
        (1, json!(i64::MIN), ProblemKind::OutOfBounds),
        (2, json!(u64::MAX), ProblemKind::OutOfBounds),
        (3, json!(1.5), ProblemKind::WrongType),
    ] {
        let problem = refused(sequencer.handle_proposal(
            &actor("oda"),
            &proposal(n, None, add(by.clone())),
            1,
        ));
        assert_eq!(problem.kind(), kind, "{n} {by}");
    }
}

#[test]
fn the_same_number_is_the_same_however_it_is_written() {
    let mut sequencer = open(0);
    let mut settle = |at: &str, op: &str, value: Value| {
        let edits = vec![Edit::new(at, op).with("value", value)];
        matches!(
            sequencer.handle_proposal(&actor("oda"), &proposal(0, None, edits), 1),
            Outcome::Settled(_)
        )
    };
    assert!(settle("/title", "set", json!({ "brix": [1.0, 12] })));
    assert!(
        settle("/title", "test", json!({ "brix": [1, 12.0] }))
            && !settle("/title", "test", json!({ "brix": [1, 12.5] }))
    );
    assert!(settle("/rows", "include", json!(1.0)) && settle("/rows", "exclude", json!(1)));
}

#[test]
fn one_s_own_include_hides_nobody_else_s() {
    let mut sequencer = open(0);
    let mut propose = |who: &str, n: u64, op: &str| {
        let edits = vec![Edit::new("/rows", op).with("value", "north")];
        match sequencer.handle_proposal(&actor(who), &proposal(n, Some(0), edits), 1) {
            Outcome::Settled(update) => update,
            other => panic!("{other:?}"),
        }
    };
    propose("bram", 1, "include");
    propose("oda", 1, "include");
    let excluded = propose("oda", 2, "exclude");
    assert_eq!((excluded.effects.len(), &excluded.verdicts[0].met), (0, &vec![1]), "Bram's stands");
    assert_eq!(sequencer.plain()["rows"], json!(["north"]));
}

/// Everyone has seen the record; one drops it, and the others' work brings it back and still is
/// where they made it.
#[test]
fn a_record_comes_back_with_its_sequences_and_what_was_made_against_them_counts() {
    let charter = "charter = \"sheet\"\nversion = 1\n[state.pages]\nkind = \"map\"\ndrop-conflict = \"revive\"\n\
        [state.pages.each.notes]\nkind = \"text\"\n[state.pages.each.steps]\nkind = \"list\"\n";
    let opening = json!({ "pages": { "p": { "notes": "dry apples", "steps": [{ "id": "a", "value": 1 }, { "id": "b", "value": 2 }] } } });
    let charter = Arc::new(Charter::parse(charter).unwrap());
    let mut sequencer = Sequencer::open(charter.clone(), Some(&opening)).unwrap();
    let splice = |index: usize, delete: usize, insert: &str| {
        Edit::new("/pages/p/notes", "splice")
            .with("index", index)
            .with("delete", delete)
            .with("insert", insert)
    };
    let insert = |id: &str, index: usize| {
        Edit::new("/pages/p/steps", "insert").with("id", id).with("index", index).with("value", 0)
    };
    let steps: [(&str, u64, Vec<Edit>); 6] = [
        ("oda", 0, vec![splice(3, 0, ",")]),
        ("bram", 1, vec![Edit::new("/pages/p", "drop")]),
        ("wren", 0, vec![splice(10, 0, "!"), insert("w", 1)]),
        ("tobin", 1, vec![splice(0, 3, "Ripe"), insert("t", 2)]),
        ("bram", 4, vec![Edit::new("/pages/p", "drop")]),
        ("oda", 1, vec![splice(4, 1, " red ")]),
    ];
    let mut journal = Vec::new();
    let mut sent = BTreeMap::<&str, u64>::new();
    for (who, seen, edits) in steps {
        let n = *sent.entry(who).and_modify(|n| *n += 1).or_insert(1);
        match sequencer.handle_proposal(&actor(who), &proposal(n, Some(seen), edits), n) {
            Outcome::Settled(update) => journal.push(update),
            other => panic!("{who}: {other:?}"),
        }
        // A start from a snapshot, and from the journal, has the same order of what is gone.
        let snapshot = serde_json::to_value(sequencer.snapshot()).unwrap();
        let mut replayed = Sequencer::open(charter.clone(), Some(&opening)).unwrap();
        journal.iter().for_each(|update| replayed.replay(update).unwrap());
        assert_eq!(
            serde_json::to_value(replayed.snapshot()).unwrap()["state"],
            snapshot["state"],
            "{n}"
        );
        sequencer = Sequencer::restore(charter.clone(), serde_json::from_value(snapshot).unwrap());
    }
    let page = &sequencer.plain()["pages"]["p"];
    let ids: Vec<_> =
        page["steps"].as_array().unwrap().iter().map(|step| step["id"].clone()).collect();
    assert_eq!(
        (&page["notes"], ids),
        (&json!("Ripe, red apples!"), vec![json!("a"), json!("w"), json!("b"), json!("t")])
    );
    let ops: Vec<Vec<&str>> = journal
        .iter()
        .map(|update| update.effects.iter().map(|effect| effect.op.name()).collect())
        .collect();
    assert_eq!((&ops[2][0], &ops[3][0], &ops[5][0]), (&"revive", &"splice", &"revive"));
}

/// What is there anew has nothing to do with what was there before it.
#[test]
fn nothing_of_what_was_before_a_reset_or_a_new_record_comes_back() {
    let charter = r#"
charter = "orchard"
version = 1
[state.barrels]
kind = "map"
drop-conflict = "revive"
most = 2
[state.barrels.each.parts]
kind = "map"
drop-conflict = "revive"
[state.barrels.each.parts.each.label]
kind = "register"
"#;
    let charter = Arc::new(Charter::parse(charter).unwrap());
    let opening = json!({ "barrels": { "b1": { "parts": { "p1": {} } } } });
    let drop = |at: &str| Edit::new(at, "drop");
    let put = |id: &str| {
        Edit::new("/barrels", "put").with("id", id).with("value", json!({ "parts": {} }))
    };
    let label = |at: &str| Edit::new(format!("{at}/label"), "set").with("value", "dry");
    let begin = || Sequencer::open(charter.clone(), Some(&opening)).unwrap();
    let settle = |sequencer: &mut Sequencer, n, edit: Edit| {
        let outcome = sequencer.handle_proposal(&actor("oda"), &proposal(n, None, vec![edit]), 1);
        assert!(matches!(outcome, Outcome::Settled(_)), "{outcome:?}");
    };
    let late = |sequencer: &mut Sequencer| {
        let edits = vec![label("/barrels/b1/parts/p1")];
        sequencer.handle_proposal(&actor("bram"), &proposal(1, Some(0), edits), 1)
    };
    // Brought back, since nothing took its place.
    let mut sequencer = begin();
    settle(&mut sequencer, 1, drop("/barrels/b1/parts/p1"));
    assert!(matches!(late(&mut sequencer), Outcome::Settled(_)));
    // The record around it was put anew.
    let mut sequencer = begin();
    for (n, edit) in (1..).zip([drop("/barrels/b1/parts/p1"), drop("/barrels/b1"), put("b1")]) {
        settle(&mut sequencer, n, edit);
    }
    assert_eq!(refused(late(&mut sequencer)).kind(), ProblemKind::Gone);
    // Everything was.
    let mut sequencer = begin();
    settle(&mut sequencer, 1, drop("/barrels/b1/parts/p1"));
    sequencer.handle_reset(&actor("oda"), 2, Some(&json!({ "barrels": { "b1": {} } })), 1);
    assert_eq!(refused(late(&mut sequencer)).kind(), ProblemKind::Gone);
    // There is no space for it any more.
    let mut sequencer = begin();
    for (n, edit) in (1..).zip([drop("/barrels/b1"), put("b2"), put("b3")]) {
        settle(&mut sequencer, n, edit);
    }
    assert_eq!(refused(late(&mut sequencer)).kind(), ProblemKind::Full);
}

/// A proposal may be late, or lost on its way: what its client made on top of it counts positions
/// that nobody has.
#[test]
fn a_number_that_was_passed_over_and_comes_late_is_refused_and_so_is_what_was_typed_on_it() {
    let mut sequencer = open(0);
    let splice =
        |insert: &str| vec![Edit::new("/notes", "splice").with("index", 0).with("insert", insert)];
    let mut send =
        |n, edits| sequencer.handle_proposal(&actor("oda"), &proposal(n, Some(0), edits), 1);
    let add = vec![Edit::new("/heads", "add").with("by", 7)];
    assert!(matches!(send(2, add), Outcome::Settled(_)));
    assert_eq!(refused(send(1, splice("late"))).kind(), ProblemKind::Forgotten);
    assert_eq!(refused(send(3, splice("on it"))).kind(), ProblemKind::FollowsRefused);
    assert_eq!(sequencer.plain()["notes"], "");
}

#[test]
fn a_snapshot_of_the_first_version_gives_its_state_and_forgets_its_clients() {
    let mut sequencer = open(0);
    let edits = vec![Edit::new("/heads", "add").with("by", 7)];
    sequencer.handle_proposal(&actor("oda"), &proposal(1, None, edits), 1);
    let mut stored = serde_json::to_value(sequencer.snapshot()).unwrap();
    stored.as_object_mut().unwrap().remove("version");
    assert!(serde_json::from_value::<rendel_core::SequencerSnapshot>(stored.clone()).is_err());
    let snapshot = rendel_core::SequencerSnapshot::read(stored).unwrap();
    let restored = Sequencer::restore(sequencer.charter().clone(), snapshot);
    assert_eq!((restored.plain(), restored.seq()), (sequencer.plain(), 1));
    assert_eq!(restored.outcomes(actor("oda").key()).count(), 0);
    let edits = vec![Edit::new("/heads", "add").with("by", 7)];
    let mut restored = restored;
    let again = restored.handle_proposal(&actor("oda"), &proposal(2, None, edits), 1);
    assert_eq!(refused(again).kind(), ProblemKind::Forgotten, "perhaps it counts already");
}
