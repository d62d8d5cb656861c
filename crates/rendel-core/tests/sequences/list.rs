use proptest::prelude::*;
use rendel_core::{Edit, Effect, Op, Path, Place, ProblemKind, Settled, VerdictKind};
use serde_json::{Value, json};

use crate::model::Model;
use crate::session::Session;

const STEPS: &str = r#"
[state.steps]
kind = "list"
[state.steps.each.what]
kind = "register"
[state.steps.each.done]
kind = "counter"
[state.steps.each.inner]
kind = "list"
[state.steps.each.inner.each.notes]
kind = "text"
"#;

fn session(ids: &[&str]) -> Session {
    let steps: Vec<_> = ids.iter().map(|id| json!({ "id": id, "value": { "what": id } })).collect();
    Session::open(STEPS, Some(json!({ "steps": steps })))
}

fn insert(id: &str) -> Edit {
    Edit::new("/steps", "insert").with("id", id).with("value", json!({ "what": id }))
}

fn shift(id: &str) -> Edit {
    Edit::new(format!("/steps/{id}"), "move")
}

fn remove(id: &str) -> Edit {
    Edit::new(format!("/steps/{id}"), "remove")
}

fn ids(session: &Session) -> String {
    let steps = session.sequencer.plain()["steps"].clone();
    steps
        .as_array()
        .unwrap()
        .iter()
        .map(|step| step["id"].as_str().unwrap())
        .collect::<Vec<_>>()
        .join(" ")
}

#[test]
fn two_add_at_the_front() {
    let mut session = session(&["m"]);
    session.settle("mirela", 0, insert("a").with("after", Value::Null));
    let second = session.settle("tobin", 0, insert("b").with("after", Value::Null));
    assert_eq!(ids(&session), "a b m");
    let verdict = Session::verdict(&second);
    assert_eq!((verdict.verdict, &verdict.met[..]), (VerdictKind::Rebased, &[1][..]));
    session.check_recovery();
}

#[test]
fn rows_added_one_after_another_at_one_place_do_not_interleave() {
    let mut session = session(&["m", "n"]);
    for k in 0..3 {
        for who in ["x", "y"] {
            let before = if k == 0 { "m".to_owned() } else { format!("{who}{}", k - 1) };
            session.settle(who, 0, insert(&format!("{who}{k}")).with("after", before));
        }
    }
    assert_eq!(ids(&session), "m x0 x1 x2 y0 y1 y2 n");
    for k in 0..3 {
        for who in ["v", "w"] {
            let after = if k == 0 { "m".to_owned() } else { format!("{who}{}", k - 1) };
            session.settle(who, 6, insert(&format!("{who}{k}")).with("before", after));
        }
    }
    assert_eq!(ids(&session), "v2 v1 v0 w2 w1 w0 m x0 x1 x2 y0 y1 y2 n");
    session.check_recovery();
}

#[test]
fn move_a_against_move_b_after_a() {
    let mut session = session(&["a", "b", "c"]);
    session.settle("mirela", 0, shift("a").with("before", Value::Null));
    session.settle("tobin", 0, shift("b").with("after", "a"));
    assert_eq!(ids(&session), "c a b", "b follows a to where it is now");
    session.check_recovery();
}

#[test]
fn of_two_concurrent_moves_the_later_stands_and_nothing_is_doubled_or_lost() {
    let mut session = session(&["a", "b", "c"]);
    session.settle("mirela", 0, shift("a").with("after", "b"));
    let later = session.settle("tobin", 0, shift("a").with("before", Value::Null));
    assert_eq!(ids(&session), "b c a");
    let verdict = Session::verdict(&later);
    assert_eq!(
        (verdict.verdict, &verdict.met[..], &verdict.lost),
        (VerdictKind::Overrode, &[1][..], &Some(json!({ "after": "b" })))
    );
    session.check_recovery();
}

#[test]
fn a_remove_stands_against_moves_and_edits_that_had_not_seen_it() {
    let mut session = session(&["a", "b"]);
    session.settle("mirela", 0, remove("a"));
    let moved = session.settle("tobin", 0, shift("a").with("after", "b"));
    let edited = session.settle("oda", 0, Edit::new("/steps/a/what", "set").with("value", "late"));
    let again = session.settle("wren", 0, remove("a"));
    let beside = session.settle("bram", 0, insert("c").with("after", "a"));
    assert_eq!(ids(&session), "c b", "what goes after the removed one goes where it was");
    let kinds = [&moved, &edited, &again, &beside].map(|update| Session::verdict(update).verdict);
    assert_eq!(
        kinds,
        [VerdictKind::Dropped, VerdictKind::Dropped, VerdictKind::Merged, VerdictKind::Rebased]
    );
    assert_eq!(Session::verdict(&edited).lost, Some(json!("late")));
    let lost = session.settle("keziah", 0, remove("b"));
    assert!(lost.verdicts.is_empty(), "nobody did anything to b");
    assert_eq!(
        session.refuse("mirela", 6, shift("a").with("after", "b")).kind(),
        ProblemKind::Gone
    );
    session.check_recovery();
}

#[test]
fn an_index_is_read_in_its_proposer_s_own_view() {
    let mut session = session(&["a", "b", "c"]);
    session.settle("mirela", 0, insert("x").with("index", 0));
    session.settle("mirela", 0, remove("a"));
    session.settle("tobin", 0, insert("y").with("index", 2));
    assert_eq!(ids(&session), "x b y c");
    assert_eq!(
        session.refuse("tobin", 0, insert("z").with("index", 5)).kind(),
        ProblemKind::OutOfBounds
    );
    session.check_recovery();
}

#[test]
fn an_index_counts_in_a_list_that_came_back_with_its_record_and_is_stale_in_one_that_was_put_anew()
{
    let pages = "[state.pages]\nkind = \"map\"\ndrop-conflict = \"revive\"\n[state.pages.each.what]\nkind = \"register\"\n\
                 [state.pages.each.lines]\nkind = \"list\"";
    let lines = json!([{ "id": "a", "value": 1 }, { "id": "b", "value": 2 }]);
    let mut session = Session::open(pages, Some(json!({ "pages": { "p": { "lines": &lines } } })));
    session.settle("mirela", 0, Edit::new("/pages/p", "drop"));
    session.settle("tobin", 0, Edit::new("/pages/p/what", "set").with("value", "back"));
    let line = |id: &str| Edit::new("/pages/p/lines", "insert").with("id", id).with("value", 3);
    session.settle("oda", 0, line("c").with("index", 1));
    let found = session.sequencer.plain()["pages"]["p"]["lines"].clone();
    assert_eq!(
        found
            .as_array()
            .unwrap()
            .iter()
            .map(|line| line["id"].as_str().unwrap())
            .collect::<String>(),
        "acb"
    );
    session.check_recovery();
    let now = session.sequencer.seq();
    session.settle("mirela", now, Edit::new("/pages/p", "drop"));
    let put = Edit::new("/pages", "put").with("id", "p").with("value", json!({ "lines": lines }));
    session.settle("mirela", now + 1, put);
    assert_eq!(session.refuse("oda", now, line("d").with("index", 1)).kind(), ProblemKind::Stale);
    session.settle("oda", now, line("d").with("after", "a"));
}

#[test]
fn records_in_lists_in_records_settle_on_their_own() {
    let mut session = session(&["a"]);
    let inner = Edit::new("/steps/a/inner", "insert")
        .with("id", "i")
        .with("value", json!({ "notes": "dry" }));
    session.settle("mirela", 0, inner);
    let typed = |index, insert| {
        Edit::new("/steps/a/inner/i/notes", "splice").with("index", index).with("insert", insert)
    };
    session.settle("mirela", 1, typed(0, "very "));
    session.settle("tobin", 1, typed(3, "!"));
    let found =
        session.sequencer.plain_at(&rendel_core::Path::parse("/steps/a/inner/i/notes").unwrap());
    assert_eq!(found, Some(json!("very dry!")));
    session.check_recovery();
}

#[test]
fn an_append_only_list_grows_at_its_end_and_keeps_the_newest() {
    let mut session = Session::open(
        "[state.remarks]\nkind = \"list\"\nappend-only = true\nkeep = 2\nschema = { type = \
         \"string\" }",
        None,
    );
    let say =
        |id: &str, what: &str| Edit::new("/remarks", "insert").with("id", id).with("value", what);
    session.settle("mirela", 0, say("1", "one"));
    session.settle("tobin", 0, say("2", "two"));
    let third = session.settle("oda", 2, say("3", "three"));
    assert_eq!(third.effects[1], Effect::new(Path::of(["remarks", "1"]), Op::Remove));
    assert_eq!(
        session.sequencer.plain()["remarks"],
        json!([{ "id": "2", "value": "two" }, { "id": "3", "value": "three" }])
    );
    let cases = [
        (say("4", "x").with("after", Value::Null), ProblemKind::Malformed),
        (Edit::new("/remarks/2", "remove"), ProblemKind::UnknownOp),
        (Edit::new("/remarks/2", "move").with("after", "3"), ProblemKind::UnknownOp),
        (Edit::new("/remarks/2/what", "set").with("value", 1), ProblemKind::UnknownOp),
        (Edit::new("/remarks", "insert").with("value", 7), ProblemKind::WrongType),
        (say("3", "again"), ProblemKind::Exists),
        (say("1", "again"), ProblemKind::Exists),
    ];
    for (edit, kind) in cases {
        assert_eq!(session.refuse("wren", 3, edit.clone()).kind(), kind, "{edit:?}");
    }
    session.check_recovery();
}

#[test]
fn bad_list_edits_say_what_is_wrong() {
    let mut session = session(&["a", "b"]);
    let cases = [
        (insert("a"), ProblemKind::Exists),
        (insert(""), ProblemKind::WrongType),
        (insert("x").with("after", "zz"), ProblemKind::Gone),
        (insert("x").with("after", "a").with("before", "b"), ProblemKind::Malformed),
        (insert("x").with("index", 3), ProblemKind::OutOfBounds),
        (insert("x").with("value", json!({ "colour": 1 })), ProblemKind::UnknownPath),
        (shift("a"), ProblemKind::Malformed),
        (shift("a").with("after", "a"), ProblemKind::Malformed),
        (shift("a").with("index", 1), ProblemKind::Malformed),
        (shift("zz").with("after", "a"), ProblemKind::Gone),
        (Edit::new("/steps/a", "drop"), ProblemKind::UnknownOp),
        (
            Edit::new("/steps", "put").with("id", "x").with("value", json!({})),
            ProblemKind::UnknownOp,
        ),
    ];
    for (edit, kind) in cases {
        assert_eq!(session.refuse("mirela", 0, edit.clone()).kind(), kind, "{edit:?}");
    }
}

/// One edit of a list, with what it is beside as a part of 255 of what its proposer sees.
#[derive(Clone, Debug)]
enum Change {
    Insert(u8),
    Move(u8, u8),
    Remove(u8),
}

fn change() -> impl Strategy<Value = Change> {
    prop_oneof![
        3 => any::<u8>().prop_map(Change::Insert),
        2 => (any::<u8>(), any::<u8>()).prop_map(|(which, to)| Change::Move(which, to)),
        1 => any::<u8>().prop_map(Change::Remove),
    ]
}

/// A list as a replica keeps it: effects name what they go after.
fn follow(shown: &mut Vec<String>, update: &Settled) {
    for effect in &update.effects {
        let made = effect.op.makes().and_then(|(id, _)| id);
        let id = made.unwrap_or_else(|| effect.at.tokens().last().unwrap()).to_owned();
        shown.retain(|here| *here != id);
        let at = match &effect.op {
            Op::Remove => continue,
            Op::Insert { to: Place::Front, .. } | Op::Move { to: Place::Front, .. } => 0,
            Op::Insert { to: Place::After(after), .. }
            | Op::Move { to: Place::After(after), .. } => {
                shown.iter().position(|here| here == after).unwrap() + 1
            }
            other => panic!("{other:?}"),
        };
        shown.insert(at, id);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, ..ProptestConfig::default() })]

    #[test]
    fn a_list_ends_as_the_literal_rule_says(steps in prop::collection::vec((0..4usize, 0..6u64, change()), 1..80)) {
        let opening = ["a", "b", "c", "d", "e"];
        let mut session = session(&opening);
        let mut shown: Vec<String> = opening.iter().map(|id| (*id).to_owned()).collect();
        let mut model = Model::new(shown.clone());
        let mut seen = [0u64; 4];
        for (made, (by, catches_up, change)) in steps.into_iter().enumerate() {
            let seq = session.sequencer.seq();
            seen[by] = (seen[by] + catches_up).min(seq);
            let (seen, stamp) = (seen[by], (seq + 1, by));
            let view = model.view(seen, by);
            let pick = |part: u8| (usize::from(part) * view.len()) / 256;
            let there = |id: &String| shown.contains(id);
            // What is put after an element that is gone, or has moved away, goes where that stood;
            // which place that is the proposer's view of the past says, so the model is asked only
            // for what is where they saw it.
            let (edit, next) = match change {
                Change::Insert(part) => {
                    let index = (usize::from(part) * (view.len() + 1)) / 256;
                    let id = format!("n{made}");
                    let mut next = model.clone();
                    next.insert(stamp, seen, index, id.clone());
                    (insert(&id).with("index", index), next)
                }
                Change::Remove(part) if !view.is_empty() && there(&view[pick(part)]) && once(&model, &view[pick(part)], seen, by) => {
                    let mut next = model.clone();
                    next.remove(stamp, seen, pick(part));
                    (remove(&view[pick(part)]), next)
                }
                Change::Move(which, to) if view.len() > 1 => {
                    let (which, to) = (pick(which), pick(to));
                    let (id, beside) = (&view[which], &view[to]);
                    if which == to || !there(id) || !there(beside) || !once(&model, id, seen, by) || !once(&model, beside, seen, by) {
                        continue;
                    }
                    let mut next = model.clone();
                    next.remove(stamp, seen, which);
                    let to = if to > which { to - 1 } else { to };
                    next.insert(stamp, seen, to + 1, id.clone());
                    (shift(id).with("after", beside.clone()), next)
                }
                _ => continue,
            };
            let update = session.settle(&by.to_string(), seen, edit);
            model = next;
            follow(&mut shown, &update);
            prop_assert_eq!(&shown, &model.values());
            prop_assert_eq!(shown.join(" "), ids(&session));
        }
        session.check_recovery();
    }
}

/// Whether an element stands where its proposer saw it: nobody else has moved or removed it
/// meanwhile.
fn once(model: &Model<String>, id: &String, seen: u64, by: usize) -> bool {
    let index = |values: &[String]| values.iter().filter(|here| *here == id).count();
    let view = model.view(seen, by);
    index(&view) == 1 && index(&model.values()) == 1 && model.is_same(id, seen, by)
}
