//! Documents that say what the state should become turn into edits that lead there; and what a
//! reset does.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::Arc;

use proptest::prelude::*;
use rendel_core::{
    Actor, Charter, Document, Edit, Outcome, Problem, ProblemKind, Proposal, Sequencer, Settled,
    Sight, State,
};
use serde_json::{Value, json};
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "orchard"
version = 1
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
[state.markers]
kind = "map"
[state.markers.each.what]
kind = "register"
[state.markers.each.crates]
kind = "counter"
[state.tasks]
kind = "list"
[state.tasks.each.text]
kind = "text"
"#;

fn charter() -> Arc<Charter> {
    Arc::new(Charter::parse(CHARTER).unwrap())
}

fn actor() -> Actor {
    Actor::new("oda", "participant", Uuid::from_u128(1))
}

fn proposal(n: u64, seen: Option<u64>, edits: Vec<Edit>) -> Proposal {
    Proposal::new(n, seen, edits)
}

fn settled(outcome: Outcome) -> Settled {
    match outcome {
        Outcome::Settled(update) => update,
        other => panic!("{other:?}"),
    }
}

fn problem(outcome: Outcome) -> Problem {
    match outcome {
        Outcome::Refused(problem) => problem,
        other => panic!("{other:?}"),
    }
}

prop_compose! {
    fn plain()(
        heads in -5i64..5,
        title in prop_oneof![Just(Value::Null), "[a-c]{1,3}".prop_map(Value::from)],
        leads in prop_oneof![Just(json!([])), "[a-b]".prop_map(|one| json!([one]))],
        rows in prop::collection::btree_set(0u8..6, 0..5),
        notes in "[ab🍎]{0,8}",
        markers in prop::collection::btree_map("[mno]", ("[xy]", 0i64..4), 0..4),
        tasks in prop::collection::vec(0u8..8, 0..7).prop_shuffle(),
        words in prop::collection::vec("[ab]{0,3}", 8),
    ) -> Value {
        let mut ids = Vec::new();
        tasks.into_iter().for_each(|id| if !ids.contains(&id) { ids.push(id) });
        let tasks: Vec<_> = ids.iter().map(|id| json!({ "id": format!("t{id}"), "value": { "text": words[usize::from(*id)] } })).collect();
        let markers: serde_json::Map<_, _> =
            markers.into_iter().map(|(id, (what, crates))| (id, json!({ "what": what, "crates": crates }))).collect();
        json!({ "heads": heads, "title": title, "leads": leads, "rows": rows, "notes": notes, "markers": markers, "tasks": tasks })
    }
}

proptest! {
    #[test]
    fn whatever_state_is_wanted_the_edits_lead_there(from in plain(), to in plain()) {
        for change in [
            Document::patch(json!([{ "op": "replace", "path": "", "value": to }])).unwrap(),
            Document::patch(to.as_object().unwrap().iter().map(|(name, value)| json!({ "op": "replace", "path": format!("/{name}"), "value": value })).collect()).unwrap(),
        ] {
            let mut sequencer = Sequencer::open(charter(), Some(&from)).unwrap();
            let edits = sequencer.state().edits_for(sequencer.charter(), &change, &Sight::WHOLE, None).unwrap();
            prop_assert_eq!(edits.is_empty(), sequencer.plain() == to);
            if !edits.is_empty() {
                settled(sequencer.handle_proposal(&actor(), &proposal(1, None, edits.clone()), 1));
            }
            prop_assert_eq!(sequencer.plain(), to.clone(), "{:?}", edits);
        }
    }

    #[test]
    fn a_reset_is_one_update_that_every_reader_of_the_journal_follows(from in plain(), to in plain()) {
        let mut sequencer = Sequencer::open(charter(), Some(&from)).unwrap();
        let mut reader = State::open(&charter(), Some(&from)).unwrap();
        let mut patched = sequencer.plain();
        let update = settled(sequencer.handle_reset(&actor(), 1, Some(&to), 5));
        prop_assert_eq!((update.seq, sequencer.plain()), (1, to.clone()));
        let ops = reader.patch(&charter().fields, &update, &Sight::WHOLE).unwrap();
        let ops: json_patch::Patch = serde_json::from_value(serde_json::to_value(ops).unwrap()).unwrap();
        json_patch::patch(&mut patched, &ops).unwrap();
        prop_assert_eq!(&patched, &to);
        prop_assert_eq!(reader.plain(&charter().fields), to.clone());
        prop_assert_eq!(reader.weight(), sequencer.weight());
        let mut back = Sequencer::open(charter(), Some(&from)).unwrap();
        back.replay(&update).unwrap();
        prop_assert_eq!(back.plain(), to);
    }
}

#[test]
fn intentions_are_kept_where_the_kind_has_one() {
    let opening =
        json!({ "heads": 41, "notes": "ripe apples", "markers": { "m1": { "what": "ladder" } } });
    let sequencer = Sequencer::open(charter(), Some(&opening)).unwrap();
    let merge = Document::Merge(
        json!({ "heads": 43, "notes": "ripe red apples", "markers": { "m1": null, "m2": { "what": "crew" } }, "title": null }),
    );
    let edits = serde_json::to_value(
        sequencer.state().edits_for(sequencer.charter(), &merge, &Sight::WHOLE, None).unwrap(),
    )
    .unwrap();
    assert_eq!(
        edits,
        json!([
            { "at": "/heads", "op": "add", "by": 2 },
            { "at": "/markers/m1", "op": "drop" },
            { "at": "/markers", "op": "put", "id": "m2", "value": { "what": "crew" } },
            { "at": "/notes", "op": "splice", "index": 5, "delete": 0, "insert": "red " },
        ])
    );
}

#[test]
fn a_document_that_asks_for_what_cannot_be_is_refused_with_its_place() {
    let sequencer = Sequencer::open(charter(), None).unwrap();
    let table = [
        (
            json!([{ "op": "replace", "path": "/haeds", "value": 1 }]),
            ProblemKind::UnknownPath,
            "/haeds",
        ),
        (
            json!([{ "op": "add", "path": "/haeds", "value": 1 }]),
            ProblemKind::UnknownPath,
            "/haeds",
        ),
        (
            json!([{ "op": "add", "path": "/heads", "value": "many" }]),
            ProblemKind::WrongType,
            "/heads",
        ),
        (json!([{ "op": "remove", "path": "/heads" }]), ProblemKind::WrongType, "/heads"),
        (
            json!([{ "op": "replace", "path": "/notes", "value": 5 }]),
            ProblemKind::WrongType,
            "/notes",
        ),
        (
            json!([{ "op": "add", "path": "/tasks/0", "value": { "text": "x" } }]),
            ProblemKind::WrongType,
            "/tasks",
        ),
        (
            json!([{ "op": "add", "path": "/leads", "value": [1, 2] }]),
            ProblemKind::WrongType,
            "/leads",
        ),
        (
            json!([{ "op": "test", "path": "/heads", "value": 7 }]),
            ProblemKind::TestFailed,
            "/heads",
        ),
    ];
    for (document, kind, at) in table {
        let problem = sequencer
            .state()
            .edits_for(
                sequencer.charter(),
                &Document::patch(document.clone()).unwrap(),
                &Sight::WHOLE,
                None,
            )
            .unwrap_err();
        assert_eq!(
            (problem.kind(), problem.member("at")),
            (kind, Some(&json!(at))),
            "{document} {problem}"
        );
    }
    assert_eq!(Document::patch(json!({ "op": "add" })).unwrap_err().kind(), ProblemKind::Malformed);
    let many: Vec<_> = (0..400).collect();
    let too_many = Document::Merge(json!({ "rows": many }));
    assert_eq!(
        sequencer
            .state()
            .edits_for(sequencer.charter(), &too_many, &Sight::WHOLE, None)
            .unwrap_err()
            .kind(),
        ProblemKind::TooLarge
    );
}

#[test]
fn a_new_element_without_an_id_gets_one() {
    let opening = json!({ "tasks": [{ "id": "a", "value": { "text": "" } }] });
    let mut sequencer = Sequencer::open(charter(), Some(&opening)).unwrap();
    let patch = json!([{ "op": "add", "path": "/tasks/0", "value": { "value": { "text": "first" } } }, { "op": "add", "path": "/tasks/-", "value": { "value": { "text": "last" } } }]);
    let edits = sequencer
        .state()
        .edits_for(sequencer.charter(), &Document::patch(patch).unwrap(), &Sight::WHOLE, None)
        .unwrap();
    settled(sequencer.handle_proposal(&actor(), &proposal(1, None, edits), 1));
    let texts: Vec<_> = sequencer.plain()["tasks"]
        .as_array()
        .unwrap()
        .iter()
        .map(|task| task["value"]["text"].clone())
        .collect();
    assert_eq!(texts, [json!("first"), json!(""), json!("last")]);
}

#[test]
fn positions_counted_before_a_reset_are_stale_after_it_and_adds_still_count() {
    let mut sequencer =
        Sequencer::open(charter(), Some(&json!({ "notes": "ripe", "heads": 3 }))).unwrap();
    settled(sequencer.handle_reset(&actor(), 1, None, 5));
    assert_eq!(
        (sequencer.plain()["notes"].clone(), sequencer.plain()["heads"].clone()),
        (json!(""), json!(0))
    );
    let bram = Actor::new("bram", "participant", Uuid::from_u128(2));
    let splice = Edit::new("/notes", "splice").with("index", 4).with("insert", "!");
    assert_eq!(
        problem(sequencer.handle_proposal(&bram, &proposal(1, Some(0), vec![splice]), 6)).kind(),
        ProblemKind::Stale
    );
    let add = Edit::new("/heads", "add").with("by", 1);
    settled(sequencer.handle_proposal(&bram, &proposal(2, Some(0), vec![add]), 6));
    assert_eq!(sequencer.plain()["heads"], 1);
    let too_wide = json!({ "heads": "many" });
    assert_eq!(
        problem(sequencer.handle_reset(&actor(), 2, Some(&too_wide), 7)).kind(),
        ProblemKind::WrongType
    );
}

#[test]
fn nobody_resets_by_an_edit() {
    let mut sequencer = Sequencer::open(charter(), None).unwrap();
    let edit = Edit::new("", "reset").with("value", json!({}));
    assert_eq!(
        problem(sequencer.handle_proposal(&actor(), &proposal(1, None, vec![edit]), 1)).kind(),
        ProblemKind::UnknownPath
    );
}

#[test]
fn a_clock_that_steps_back_does_not_take_the_journal_back() {
    let add = || vec![Edit::new("/heads", "add").with("by", 1)];
    let mut sequencer = Sequencer::open(charter(), None).unwrap();
    let first = settled(sequencer.handle_proposal(&actor(), &proposal(1, None, add()), 1_000));
    let second = settled(sequencer.handle_proposal(&actor(), &proposal(2, None, add()), 400));
    let restored = |sequencer: &Sequencer| Sequencer::restore(charter(), sequencer.snapshot());
    let third =
        settled(restored(&sequencer).handle_proposal(&actor(), &proposal(3, None, add()), 500));
    let mut replayed = Sequencer::open(charter(), None).unwrap();
    [&first, &second].into_iter().for_each(|update| replayed.replay(update).unwrap());
    let again = settled(replayed.handle_proposal(&actor(), &proposal(3, None, add()), 500));
    assert_eq!([first.at, second.at, third.at, again.at], [1_000; 4]);
}

#[test]
fn a_refusal_from_outside_is_remembered_and_what_was_settled_before_keeps_its_outcome() {
    let add = || vec![Edit::new("/heads", "add").with("by", 1)];
    let frozen = || Problem::new(ProblemKind::Frozen, "The session is frozen.");
    let mut sequencer = Sequencer::open(charter(), None).unwrap();
    settled(sequencer.handle_proposal(&actor(), &proposal(1, None, add()), 1));
    assert!(matches!(
        sequencer.handle_refusal(&actor(), &proposal(1, None, add()), frozen()),
        Outcome::Repeated(_)
    ));
    assert_eq!(
        problem(sequencer.handle_refusal(&actor(), &proposal(2, None, add()), frozen())).kind(),
        ProblemKind::Frozen
    );
    assert!(matches!(
        sequencer.handle_proposal(&actor(), &proposal(2, None, add()), 2),
        Outcome::Repeated(_)
    ));
    assert_eq!((sequencer.seq(), sequencer.plain()["heads"].clone()), (1, json!(1)));
}
