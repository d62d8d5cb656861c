//! Undo and redo: of one's own, as things are now.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeSet;
use std::sync::Arc;

use proptest::prelude::*;
use rendel_core::{
    Actor, Charter, Edit, Outcome, Problem, ProblemKind, Proposal, Sequencer, Settled, Undoable,
    VerdictKind,
};
use serde_json::{Value, json};
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "slope-plan"
version = 1
[session]
undo = 100
[roles.planner]
edit = ["/**"]
[roles.visitor]
edit = ["/notes"]
[state.title]
kind = "register"
initial = "South slope"
[state.heads]
kind = "counter"
min = 0
max = 100
[state.rows]
kind = "set"
[state.notes]
kind = "text"
[state.log]
kind = "list"
append-only = true
[state.crews]
kind = "map"
[state.crews.each.name]
kind = "register"
[state.markers]
kind = "map"
most = 5
[state.markers.each.kind]
kind = "register"
[state.markers.each.spot]
kind = "register"
[state.markers.each.note]
kind = "text"
[state.markers.each.crew]
kind = "register"
refers = { to = "/crews", on-drop = "RULE" }
[state.markers.each.heads]
kind = "counter"
[state.steps]
kind = "list"
[state.steps.each.what]
kind = "register"
[state.turn]
kind = "clock"
[state.moves]
kind = "counter"
[[when]]
changes = "/title"
do = [{ at = "/moves", op = "add", by = 1 }]
[[guards]]
at = "/heads"
rule = "new != 13"
says = "Not thirteen."
"#;

struct Session {
    sequencer: Sequencer,
    journal: Vec<Settled>,
    now: u64,
}

impl Session {
    fn open() -> Self {
        Self::with("clear", "")
    }

    fn with(rule: &str, more: &str) -> Self {
        let source =
            CHARTER.replace("RULE", rule).replace("undo = 100", &format!("undo = 100\n{more}"));
        let charter = Charter::parse(&source).unwrap_or_else(|faults| panic!("{faults:?}"));
        let sequencer = Sequencer::open(Arc::new(charter), None).unwrap();
        Self { sequencer, journal: Vec::new(), now: 1_000_000 }
    }

    fn try_by(
        &mut self,
        who: &Actor,
        gesture: Option<&str>,
        edits: Vec<Edit>,
    ) -> Result<Settled, Problem> {
        self.now += 2_000;
        let proposal =
            Proposal { gesture: gesture.map(str::to_owned), ..Proposal::new(0, None, edits) };
        match self.sequencer.handle_proposal(who, &proposal, self.now) {
            Outcome::Settled(mut update) => {
                update.announced.clear();
                self.journal.push(update.clone());
                Ok(update)
            }
            Outcome::Refused(problem) => Err(problem),
            Outcome::Repeated(_) => unreachable!("proposals here have no numbers"),
        }
    }

    fn by(&mut self, who: &str, edit: Edit) -> Settled {
        self.try_by(&actor(who), None, vec![edit]).unwrap()
    }

    fn back(&mut self, who: &str, way: &str) -> Result<Settled, Problem> {
        self.try_by(&actor(who), None, vec![Edit::new("", way)])
    }

    fn undo(&mut self, who: &str) -> Settled {
        self.back(who, "undo").unwrap()
    }

    fn redo(&mut self, who: &str) -> Settled {
        self.back(who, "redo").unwrap()
    }

    fn at(&self, path: &str) -> Value {
        self.sequencer.plain().pointer(path).cloned().unwrap_or_default()
    }

    fn looks(&self, who: &str) -> Undoable {
        self.sequencer.undoable(&actor(who))
    }
}

fn actor(who: &str) -> Actor {
    Actor::new(who, "planner", Uuid::from_u128(who.len() as u128))
}

fn set(at: &str, value: impl Into<Value>) -> Edit {
    Edit::new(at, "set").with("value", value)
}

fn put(id: &str, value: Value) -> Edit {
    Edit::new("/markers", "put").with("id", id).with("value", value)
}

fn splice(at: &str, index: usize, delete: usize, insert: &str) -> Edit {
    Edit::new(at, "splice").with("index", index).with("delete", delete).with("insert", insert)
}

fn step(id: &str, after: Value) -> Edit {
    Edit::new("/steps", "insert").with("id", id).with("value", json!({})).with("after", after)
}

fn order(session: &Session) -> String {
    let steps = session.at("/steps");
    steps.as_array().unwrap().iter().map(|step| step["id"].as_str().unwrap()).collect()
}

fn skipped(update: &Settled) -> Vec<(String, Vec<u64>)> {
    let skipped = update.verdicts.iter().filter(|one| one.verdict == VerdictKind::Skipped);
    skipped.map(|one| (one.at.clone(), one.met.clone())).collect()
}

#[test]
fn each_kind_goes_back_to_what_stood_before_and_forth_again() {
    let mut session = Session::open();
    session.by("oda", put("m1", json!({ "kind": "ladder", "spot": 1, "note": "by the wall" })));
    session.by("oda", step("a", Value::Null));
    session.by("oda", step("b", json!("a")));
    session.by("oda", Edit::new("/rows", "include").with("value", "row 1"));
    let edits = [
        set("/markers/m1/spot", 2),
        Edit::new("/markers/m1/kind", "clear"),
        Edit::new("/heads", "add").with("by", 7),
        Edit::new("/rows", "include").with("value", "row 2"),
        Edit::new("/rows", "exclude").with("value", "row 1"),
        splice("/markers/m1/note", 3, 4, "at"),
        Edit::new("/steps/a", "move").with("after", "b"),
        Edit::new("/steps/b", "remove"),
        step("c", json!("a")),
        Edit::new("/markers/m1", "drop"),
        put("m2", json!({ "kind": "crates" })),
        set("/title", "North slope"),
    ];
    let mut states = vec![session.sequencer.plain()];
    for edit in edits.clone() {
        session.by("oda", edit);
        states.push(session.sequencer.plain());
    }
    // What the rule counted stays.
    let moves = session.at("/moves");
    let without = |state: &Value| {
        let mut state = state.clone();
        state.as_object_mut().unwrap().remove("moves");
        state
    };
    assert_eq!(moves, 1);
    for _ in 0..3 {
        for state in states.iter().rev().skip(1) {
            let update = session.undo("oda");
            assert!(update.verdicts.is_empty(), "{update:?}");
            assert_eq!(without(&session.sequencer.plain()), without(state));
        }
        for state in &states[1..] {
            session.redo("oda");
            assert_eq!(without(&session.sequencer.plain()), without(state));
        }
    }
    assert_eq!(session.back("oda", "redo").unwrap_err().kind(), ProblemKind::NothingToUndo);
    assert!(session.at("/moves").as_i64() > Some(1), "an undo sets off rules as any edit does");
}

#[test]
fn what_somebody_else_has_made_of_it_stays_and_is_named() {
    let mut session = Session::open();
    session.by("oda", set("/title", "Oda's"));
    let theirs = session.by("bram", set("/title", "Bram's"));
    let refusal = session.back("oda", "undo").unwrap_err();
    assert_eq!(refusal.kind(), ProblemKind::NothingToUndo);
    assert_eq!(refusal.member("skipped").unwrap()[0]["update"], theirs.seq);
    assert_eq!(session.looks("oda").undo.unwrap().skipped[0].at, "/title");
    // Once Bram takes his back, Oda's stands again, and she can.
    session.undo("bram");
    assert_eq!(session.at("/title"), "Oda's");
    session.undo("oda");
    assert_eq!(session.at("/title"), "South slope");
    // And both the other way.
    session.redo("oda");
    session.redo("bram");
    assert_eq!(session.at("/title"), "Bram's");

    let both = vec![set("/title", "Two"), Edit::new("/heads", "add").with("by", 2)];
    session.try_by(&actor("oda"), None, both).unwrap();
    let theirs = session.by("bram", set("/title", "Three"));
    let update = session.undo("oda");
    assert_eq!(skipped(&update), [("/title".to_owned(), vec![theirs.seq])]);
    assert_eq!((session.at("/title"), session.at("/heads")), (json!("Three"), json!(0)));
    assert_eq!(session.redo("oda").effects.len(), 1, "only what was undone is done again");
}

#[test]
fn a_step_that_cannot_be_taken_back_is_passed_over_where_that_is_asked_for() {
    let mut session = Session::open();
    session.by("oda", Edit::new("/heads", "add").with("by", 5));
    let hers = session.by("oda", set("/title", "Oda's"));
    session.by("bram", set("/title", "Bram's"));
    let skip = Edit::new("", "undo").with("of", hers.seq).with("skip", true);
    let update = session.try_by(&actor("oda"), None, vec![skip.clone()]).unwrap();
    let undoes = update.undoes.unwrap();
    assert_eq!((undoes.updates, undoes.passed), (vec![1], vec![hers.seq]));
    assert_eq!((session.at("/heads"), session.at("/title")), (json!(0), json!("Bram's")));
    let refusal = session.try_by(&actor("oda"), None, vec![skip]).unwrap_err();
    assert_eq!(refusal.kind(), ProblemKind::NothingToUndo);
    // What was passed over is given up, also once nothing is in its way any more.
    session.undo("bram");
    assert_eq!(session.at("/title"), "Oda's");
    assert_eq!(session.back("oda", "undo").unwrap_err().kind(), ProblemKind::NothingToUndo);
}

#[test]
fn a_reference_to_what_is_gone_does_not_come_back_and_what_a_rule_typed_stays() {
    let mut session = Session::with("clear", "");
    session.by("bram", Edit::new("/crews", "put").with("id", "c1").with("value", json!({})));
    session.by("bram", put("m1", json!({ "spot": 1, "crew": "c1" })));
    let clear = Edit::new("/markers/m1/crew", "clear");
    let both = vec![clear, set("/markers/m1/spot", 2)];
    session.try_by(&actor("oda"), None, both).unwrap();
    session.by("bram", Edit::new("/crews/c1", "drop"));
    let update = session.undo("oda");
    assert_eq!(skipped(&update).len(), 1, "{update:?}");
    assert_eq!(
        (session.at("/markers/m1/crew"), session.at("/markers/m1/spot")),
        (Value::Null, json!(1))
    );

    let types = "[[when]]\nchanges = \"/heads\"\n\
        do = [{ at = \"/notes\", op = \"splice\", index = 0, delete = 0, insert = \"!\" }]\n";
    let source = CHARTER.replace("RULE", "clear") + types;
    let charter = Charter::parse(&source).unwrap_or_else(|faults| panic!("{faults:?}"));
    let sequencer = Sequencer::open(Arc::new(charter), None).unwrap();
    let mut session = Session { sequencer, ..Session::open() };
    let both = vec![splice("/notes", 0, 0, "abc"), Edit::new("/heads", "add").with("by", 1)];
    session.try_by(&actor("oda"), None, both).unwrap();
    assert_eq!(session.at("/notes"), "!abc");
    session.undo("oda");
    assert_eq!(session.at("/notes"), "!!", "the rule typed again, and what it typed before stays");
}

#[test]
fn what_is_meant_must_be_what_comes_first() {
    let mut session = Session::open();
    let first = session.by("oda", Edit::new("/heads", "add").with("by", 1));
    let second = session.by("oda", Edit::new("/heads", "add").with("by", 2));
    let of = |seq: u64| Edit::new("", "undo").with("of", seq);
    session.try_by(&actor("oda"), None, vec![of(second.seq)]).unwrap();
    // Another tab showed the same step.
    let refusal = session.try_by(&actor("oda"), None, vec![of(second.seq)]).unwrap_err();
    assert_eq!(refusal.kind(), ProblemKind::Stale);
    assert_eq!(refusal.member("undo"), Some(&json!(first.seq)));
    assert_eq!(session.at("/heads"), 1);
    for wrong in [json!(-1), json!(1.5), json!(null), json!([])] {
        let edit = Edit::new("", "undo").with("of", wrong);
        let refusal = session.try_by(&actor("oda"), None, vec![edit]).unwrap_err();
        assert_eq!(refusal.kind(), ProblemKind::WrongType);
    }
    let two = vec![Edit::new("", "undo"), set("/title", "x")];
    let refusal = session.try_by(&actor("oda"), None, two).unwrap_err();
    assert_eq!(refusal.kind(), ProblemKind::Malformed);
    let refusal =
        session.try_by(&actor("oda"), None, vec![Edit::new("/title", "undo")]).unwrap_err();
    assert_eq!(refusal.kind(), ProblemKind::NothingToUndo, "nothing of it was in the title");
}

#[test]
fn a_gesture_is_one_step_also_where_two_take_turns_and_so_is_typing_at_one_place() {
    let mut session = Session::open();
    session.by("oda", put("m1", json!({ "spot": 0 })));
    session.by("oda", put("m2", json!({ "spot": 0 })));
    let oda = actor("oda");
    for step in 1..=100 {
        for (id, gesture) in [("m1", "drag 1"), ("m2", "drag 2")] {
            let edit = set(&format!("/markers/{id}/spot"), step);
            session.try_by(&oda, Some(gesture), vec![edit]).unwrap();
        }
    }
    let update = session.undo("oda");
    assert_eq!(update.undoes.as_ref().unwrap().updates.len(), 100);
    assert_eq!((update.gesture.as_deref(), update.effects.len()), (Some("drag 2"), 1));
    assert_eq!(
        (session.at("/markers/m1/spot"), session.at("/markers/m2/spot")),
        (json!(100), json!(0))
    );
    let named = Edit::new("", "undo").with("of", "drag 1");
    session.try_by(&oda, None, vec![named]).unwrap();
    assert_eq!(session.at("/markers/m1/spot"), 0);

    // Typing with pauses, elsewhere, and again.
    let mut typing = |index: usize, insert: &str, pause: u64| {
        session.now = session.now - 2_000 + pause;
        session.by("oda", splice("/notes", index, 0, insert));
    };
    for (index, letter) in ["o", "n", "e"].into_iter().enumerate() {
        typing(index, letter, 400);
    }
    typing(3, " two", 1_500);
    typing(7, "!", 999);
    typing(0, "> ", 10);
    let left = |session: &mut Session| {
        session.undo("oda");
        session.at("/notes")
    };
    assert_eq!(session.at("/notes"), "> one two!");
    assert_eq!(left(&mut session), "one two!");
    assert_eq!(left(&mut session), "one");
    assert_eq!(left(&mut session), "");
}

#[test]
fn typing_goes_on_where_it_was_though_somebody_else_types_before_it() {
    let mut session = Session::open();
    for (who, index, insert) in [("oda", 0, "wind"), ("bram", 0, "the "), ("oda", 8, "fall")] {
        session.now -= 1_900;
        session.by(who, splice("/notes", index, 0, insert));
    }
    assert_eq!(session.at("/notes"), "the windfall");
    assert_eq!(session.undo("oda").undoes.unwrap().updates, [1, 3]);
    assert_eq!(session.at("/notes"), "the ");
}

#[test]
fn records_come_back_whole_and_not_over_what_somebody_put_there() {
    let mut session = Session::with("cascade", "");
    session.by(
        "wren",
        Edit::new("/crews", "put").with("id", "c1").with("value", json!({ "name": "East" })),
    );
    session.by("wren", put("m1", json!({ "crew": "c1", "note": "dry" })));
    session.by("wren", splice("/markers/m1/note", 3, 0, " stone"));
    // A cascade takes along what others made, and brings it back.
    session.by("oda", Edit::new("/crews/c1", "drop"));
    assert_eq!(session.at("/markers"), json!({}));
    session.undo("oda");
    assert_eq!(session.at("/markers/m1/note"), "dry stone");
    assert_eq!(session.at("/crews/c1/name"), "East");
    // With its characters' authors: what Wren typed is still hers to take back.
    session.undo("wren");
    assert_eq!(session.at("/markers/m1/note"), "dry");

    session.by("oda", Edit::new("/markers/m1", "drop"));
    let theirs = session.by("bram", put("m1", json!({ "kind": "crew" })));
    let refusal = session.back("oda", "undo").unwrap_err();
    assert_eq!(refusal.member("skipped").unwrap()[0]["update"], theirs.seq);
    // What Bram put took the place of what she had dropped.
    session.undo("bram");
    assert_eq!(session.back("oda", "undo").unwrap_err().kind(), ProblemKind::NothingToUndo);
    assert_eq!(session.at("/markers"), json!({}));

    // What somebody else wrote in a record keeps it.
    session.by("oda", put("m2", json!({ "spot": 1 })));
    let theirs = session.by("bram", set("/markers/m2/kind", "hazard"));
    let refusal = session.back("oda", "undo").unwrap_err();
    assert_eq!(refusal.member("skipped").unwrap()[0]["update"], theirs.seq);
    // Her own later edits in it do not, from whichever tab.
    session.by("oda", put("m3", json!({ "spot": 1 })));
    let tab = Actor::new("oda", "planner", Uuid::from_u128(77));
    session.try_by(&tab, None, vec![set("/markers/m3/spot", 2)]).unwrap();
    session.undo("oda");
    session.try_by(&tab, None, vec![Edit::new("", "undo")]).unwrap();
    assert_eq!(session.at("/markers/m3"), Value::Null);

    // Nor does a record go to which something refers.
    session.by("oda", Edit::new("/crews", "put").with("id", "c2").with("value", json!({})));
    session.by("bram", set("/markers/m2/crew", "c2"));
    assert_eq!(session.back("oda", "undo").unwrap_err().kind(), ProblemKind::NothingToUndo);
    assert_eq!(session.at("/markers/m2/crew"), "c2");
}

#[test]
fn elements_go_back_to_where_their_neighbours_are() {
    let mut session = Session::open();
    for (id, after) in [("a", json!(null)), ("b", json!("a")), ("c", json!("b")), ("d", json!("c"))]
    {
        session.by("wren", step(id, after));
    }
    session.by("oda", Edit::new("/steps/b", "move").with("after", "d"));
    session.by("bram", Edit::new("/steps/a", "move").with("after", "d"));
    assert_eq!(order(&session), "cdab");
    session.undo("oda");
    assert_eq!(order(&session), "cdab", "behind its old neighbour, wherever that is");
    session.redo("oda");
    session.undo("bram");
    assert_eq!(order(&session), "acdb");
    // The neighbours went: it goes to the gap that they left.
    session.by("bram", Edit::new("/steps/a", "remove"));
    session.by("bram", Edit::new("/steps/c", "remove"));
    session.undo("oda");
    assert_eq!(order(&session), "bd");
    // Somebody else moved it: it stays.
    session.by("oda", Edit::new("/steps/d", "move").with("after", Value::Null));
    let theirs = session.by("bram", Edit::new("/steps/d", "move").with("after", "b"));
    let refusal = session.back("oda", "undo").unwrap_err();
    assert_eq!(refusal.member("skipped").unwrap()[0]["update"], theirs.seq);
    // What was removed comes back to its place, with its id.
    session.by("oda", Edit::new("/steps/b", "remove"));
    session.by("bram", step("e", json!("d")));
    session.undo("oda");
    assert_eq!(order(&session), "bde");
    // What was said in a list that only grows was said.
    session.by("oda", Edit::new("/log", "insert").with("value", "hello"));
    assert_eq!(session.redo("oda").effects.len(), 1, "it leaves the steps as they were");
}

#[test]
fn permission_guards_and_what_is_counted_on_are_asked_as_for_any_edit() {
    let mut session = Session::open();
    session.by("oda", Edit::new("/heads", "add").with("by", 13 - 3));
    session.by("bram", Edit::new("/heads", "add").with("by", 13));
    let before = session.sequencer.plain();
    let refusal = session.back("oda", "undo").unwrap_err();
    assert_eq!((refusal.kind(), session.sequencer.plain()), (ProblemKind::Guard, before));
    session.by("bram", Edit::new("/heads", "add").with("by", -15));
    let refusal = session.back("oda", "undo").unwrap_err();
    assert_eq!(refusal.kind(), ProblemKind::NothingToUndo, "it would leave its range");
    assert!(refusal.member("skipped").unwrap()[0]["because"].as_str().unwrap().contains("range"));
    // She is a visitor by now.
    session.by("oda", set("/title", "Oda's"));
    let visitor = Actor::new("oda", "visitor", Uuid::from_u128(3));
    let refusal = session.try_by(&visitor, None, vec![Edit::new("", "undo")]).unwrap_err();
    assert_eq!(refusal.kind(), ProblemKind::NothingToUndo);
    let because = "Your role may not edit it now.";
    assert_eq!(refusal.member("skipped").unwrap()[0]["because"], because);
    let look = session.sequencer.undoable(&visitor).undo.unwrap();
    assert_eq!((look.edits.len(), look.skipped[0].because.as_str()), (0, because));
    // What was a move in play stays, and all that was done with it.
    let both = vec![Edit::new("/turn", "start"), set("/title", "Played")];
    session.try_by(&actor("oda"), None, both).unwrap();
    let refusal = session.back("oda", "undo").unwrap_err();
    assert_eq!(refusal.member("skipped").unwrap()[0]["at"], "/title");
    assert_eq!(session.at("/title"), "Played");
}

#[test]
fn a_session_is_as_it_was_after_a_thousand_times_and_remembers_no_more() {
    let mut session = Session::open();
    session.by("oda", put("m1", json!({ "spot": 0 })));
    let oda = actor("oda");
    for step in 0..200 {
        let edits = vec![set("/markers/m1/spot", step), splice("/markers/m1/note", 0, 0, "é")];
        session.try_by(&oda, Some("drag"), edits).unwrap();
    }
    session.undo("oda");
    session.redo("oda");
    let (digest, weight) =
        (rendel_core::digest(&session.sequencer.plain()), session.sequencer.weight());
    let history = |session: &Session| {
        let snapshot = serde_json::to_value(session.sequencer.snapshot()).unwrap();
        snapshot["histories"].to_string().len()
    };
    let before = history(&session);
    for _ in 0..1_000 {
        session.undo("oda");
        session.redo("oda");
    }
    assert_eq!(rendel_core::digest(&session.sequencer.plain()), digest);
    assert_eq!(session.sequencer.weight(), weight);
    assert!(history(&session) < before + 200, "numbers have become longer, and nothing else");
}

#[test]
fn a_history_is_bounded_by_steps_and_by_bytes_and_ends_with_a_reset() {
    let mut session = Session::with("clear", "undo-by = \"client\"");
    for _ in 0..150 {
        session.by("oda", Edit::new("/moves", "add").with("by", 1));
    }
    // Each tab has a history of its own here.
    let tab = Actor::new("oda", "planner", Uuid::from_u128(78));
    let refusal = session.try_by(&tab, None, vec![Edit::new("", "undo")]).unwrap_err();
    assert_eq!(refusal.kind(), ProblemKind::NothingToUndo);
    let undone = (0..200).take_while(|_| session.back("oda", "undo").is_ok()).count();
    assert_eq!((undone, session.at("/moves")), (100, json!(50)));
    for round in 0..40 {
        session.by("oda", set("/title", format!("{round}{}", "x".repeat(100_000))));
    }
    let undone = (0..40).take_while(|_| session.back("oda", "undo").is_ok()).count();
    assert!((5..12).contains(&undone), "a history has at most a megabyte: {undone}");
    assert!(session.sequencer.remembered() < 3 << 20);
    session.by("oda", set("/title", "last"));
    let service = Actor::new(Actor::SERVICE, Actor::SERVICE, Uuid::from_u128(9));
    session.sequencer.handle_reset(&service, 0, None, session.now);
    assert_eq!(session.looks("oda"), Undoable::default());
}

/// A character as the slow model knows it: by which proposal it came, and by which it went.
#[derive(Clone, Debug)]
struct Letter {
    char: char,
    born: usize,
    gone: BTreeSet<usize>,
}

/// A text of which every character is kept, and which proposals are undone.
#[derive(Clone, Debug, Default)]
struct Model {
    letters: Vec<Letter>,
    undone: BTreeSet<usize>,
    /// Of each author what they did and what they undid, the newest last.
    done: [Vec<usize>; 2],
    taken_back: [Vec<usize>; 2],
}

impl Model {
    fn is_there(&self, letter: &Letter) -> bool {
        !self.undone.contains(&letter.born) && letter.gone.is_subset(&self.undone)
    }

    fn text(&self) -> String {
        self.letters
            .iter()
            .filter(|letter| self.is_there(letter))
            .map(|letter| letter.char)
            .collect()
    }

    fn splice(&mut self, by: usize, step: usize, (index, delete, insert): (usize, usize, &str)) {
        let there = self.letters.iter().enumerate().filter(|(_, letter)| self.is_there(letter));
        let there: Vec<usize> = there.map(|(at, _)| at).collect();
        for at in &there[index..index + delete] {
            self.letters[*at].gone.insert(step);
        }
        // Right behind what stands before it.
        let at = index.checked_sub(1).map_or(0, |before| there[before] + 1);
        let letter = |char| Letter { char, born: step, gone: BTreeSet::new() };
        self.letters.splice(at..at, insert.chars().map(letter));
        self.done[by].push(step);
        self.taken_back[by].clear();
    }
}

proptest! {
    /// Two authors in one text, who undo and redo as they like: a character is there where what
    /// brought it stands and nothing that took it does, in the order in which they were put beside
    /// each other. In the end both undo everything of theirs, and exactly the other's is left.
    #[test]
    fn a_text_has_what_is_not_undone_and_nothing_else(
        steps in prop::collection::vec(
            (0..2usize, 0..4u8, any::<prop::sample::Index>(), 0..5usize, "[a-zé🍎]{0,4}"), 1..60,
        ),
        last in 0..2usize,
    ) {
        let mut session = Session::open();
        let mut model = Model::default();
        let names = ["oda", "bram"];
        for (step, (by, what, index, delete, insert)) in steps.into_iter().enumerate() {
            let text = model.text();
            let len = text.chars().count();
            let index = index.index(len + 1);
            let delete = delete.min(len - index);
            match what {
                0 | 1 if delete > 0 || !insert.is_empty() => {
                    session.by(names[by], splice("/notes", index, delete, &insert));
                    model.splice(by, step, (index, delete, &insert));
                }
                0 | 1 => {}
                _ => {
                    let way = if what == 2 { "undo" } else { "redo" };
                    let model = &mut model;
                    let (from, to) = match way {
                        "undo" => (&mut model.done[by], &mut model.taken_back[by]),
                        _ => (&mut model.taken_back[by], &mut model.done[by]),
                    };
                    match (session.back(names[by], way), from.pop()) {
                        (Ok(_), Some(step)) => {
                            to.push(step);
                            let undone = &mut model.undone;
                            if way == "undo" { undone.insert(step) } else { undone.remove(&step) };
                        }
                        (Err(problem), None) => {
                            prop_assert_eq!(problem.kind(), ProblemKind::NothingToUndo);
                        }
                        (outcome, step) => prop_assert!(false, "{outcome:?} of {step:?}"),
                    }
                }
            }
            prop_assert_eq!(session.at("/notes"), model.text());
        }
        for by in [last, 1 - last] {
            while session.back(names[by], "undo").is_ok() {}
            model.undone.extend(&model.done[by]);
            prop_assert_eq!(session.at("/notes"), model.text());
        }
        prop_assert_eq!(session.at("/notes"), "");
    }
}

/// What somebody proposed, and whether it is undone.
#[derive(Clone, Debug)]
struct Told {
    by: usize,
    edit: Edit,
    is_undone: bool,
}

const NAMES: [&str; 2] = ["oda", "bram"];

/// The state without what is undone: all the rest is proposed anew, in its order. `None` where
/// something of that cannot be as it was.
fn replayed(told: &[Told]) -> Option<Value> {
    let mut session = Session::open();
    for Told { by, edit, .. } in told.iter().filter(|told| !told.is_undone) {
        let update = session.try_by(&actor(NAMES[*by]), None, vec![edit.clone()]).ok()?;
        if !update.verdicts.is_empty() {
            return None;
        }
    }
    Some(without_moves(&session))
}

/// Without what rules count, since they count with undos, too; and steps in the order of their ids,
/// since what is put at a gap that something gone has left may be on either side of it.
fn without_moves(session: &Session) -> Value {
    let mut state = session.sequencer.plain();
    state.as_object_mut().unwrap().remove("moves");
    let steps = state["steps"].as_array_mut().unwrap();
    steps.sort_by_key(|step| step["id"].as_str().unwrap().to_owned());
    state
}

fn whim(op: u8, id: usize, n: usize) -> Edit {
    let (marker, step) = (format!("/markers/m{id}"), format!("/steps/s{id}"));
    match op {
        0 => set("/title", format!("title {n}")),
        1 => Edit::new("/title", "clear"),
        2 => Edit::new("/heads", "add").with("by", id + 1),
        3 => Edit::new("/rows", "include").with("value", id),
        4 => Edit::new("/rows", "exclude").with("value", id),
        5 => put(&format!("m{id}"), json!({ "spot": n, "note": "dry" })),
        6 => Edit::new(marker, "drop"),
        7 => set(&format!("{marker}/spot"), n),
        8 => Edit::new("/steps", "insert").with("id", format!("s{id}")).with("value", json!({})),
        9 => Edit::new(step, "remove"),
        _ => set(&format!("{step}/what"), n),
    }
}

proptest! {
    /// Beside a slow model: whatever is not undone, proposed anew in its order. Where an undo says
    /// that it leaves something out it is not made, since the model knows nothing of that.
    #[test]
    fn a_session_is_as_if_what_is_undone_had_never_been(
        whims in prop::collection::vec((0..2usize, 0..16u8, 0..3usize), 1..50),
    ) {
        let mut session = Session::open();
        let mut told: Vec<Told> = Vec::new();
        let mut stacks: [[Vec<usize>; 2]; 2] = Default::default();
        let mut compared = 0;
        for (n, (by, op, id)) in whims.into_iter().enumerate() {
            if op < 11 {
                let edit = whim(op, id, n);
                let Ok(update) = session.try_by(&actor(NAMES[by]), None, vec![edit.clone()]) else {
                    continue;
                };
                let is_step = session.looks(NAMES[by]).undo.is_some_and(|look| look.of == update.seq);
                told.push(Told { by, edit, is_undone: false });
                if is_step {
                    stacks[by][0].push(told.len() - 1);
                    stacks[by][1].clear();
                }
            } else {
                let (way, from) = if op < 14 { ("undo", 0) } else { ("redo", 1) };
                let looks = session.looks(NAMES[by]);
                let look = if from == 0 { looks.undo } else { looks.redo };
                let Some(look) = look else { continue };
                if !look.skipped.is_empty() || look.edits.is_empty() {
                    continue;
                }
                // A guard may be against it.
                if session.back(NAMES[by], way).is_err() {
                    continue;
                }
                let step = stacks[by][from].pop().unwrap();
                stacks[by][1 - from].push(step);
                told[step].is_undone = from == 0;
            }
            if let Some(expected) = replayed(&told) {
                prop_assert_eq!(without_moves(&session), expected);
                compared += 1;
            }
        }
        prop_assert!(compared > 0 || told.is_empty());
    }
}

#[test]
fn an_undo_leaves_a_later_record_under_the_same_id_alone() {
    let mut session = Session::open();
    let put = |heads: i64| {
        Edit::new("/markers", "put").with("id", "b7").with("value", json!({ "heads": heads }))
    };
    session.by("bram", put(10));
    session.by("oda", Edit::new("/markers/b7/heads", "add").with("by", 3));
    session.by("bram", Edit::new("/markers/b7", "drop"));
    let second = session.by("bram", put(100));
    let refusal = session.back("oda", "undo").unwrap_err();
    assert_eq!(refusal.member("skipped").unwrap()[0]["update"], second.seq);
    assert_eq!(session.sequencer.plain()["markers"]["b7"]["heads"], 100);
    // A record that comes back by undo is the same record.
    session.by("oda", Edit::new("/markers/b7/heads", "add").with("by", 4));
    session.by("bram", Edit::new("/markers/b7", "drop"));
    session.undo("bram");
    session.undo("oda");
    assert_eq!(session.sequencer.plain()["markers"]["b7"]["heads"], 100);
}

#[test]
fn a_part_that_may_not_be_edited_blocks_no_other_part() {
    let mut session = Session::with("cascade", "");
    let visitor = Actor::new("oda", "visitor", Uuid::from_u128(3));
    session.by("oda", Edit::new("/notes", "splice").with("index", 0).with("insert", "dry"));
    let both = vec![
        set("/title", "Oda's"),
        Edit::new("/notes", "splice").with("index", 3).with("insert", " 5"),
    ];
    session.try_by(&actor("oda"), None, both).unwrap();
    // As a visitor she may edit the notes alone.
    let update = session.try_by(&visitor, None, vec![Edit::new("", "undo")]).unwrap();
    assert_eq!((update.effects.len(), update.verdicts[0].at.as_str()), (1, "/title"));
    session.try_by(&visitor, None, vec![Edit::new("", "undo")]).unwrap();
    assert_eq!(session.sequencer.plain()["notes"], "");
}
