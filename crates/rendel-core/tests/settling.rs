//! What becomes of edits, rule by rule: each story is a charter, some proposals with what their
//! makers had seen, and the outcomes.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;
use std::sync::Arc;

use rendel_core::{
    Actor, Charter, ClientOutcome, Edit, Effect, Op, Outcome, Path, ProblemKind, Proposal,
    Sequencer, Settled, VerdictKind,
};
use serde_json::{Value, json};
use smallvec::smallvec;
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "orchard"
version = 1

[limits]
state = "1KiB"
edits = 4

[roles.steward]
edit = ["/**"]
[roles.picker]
edit = ["/markers/**", "/heads"]

[state.heads]
kind = "counter"
min = 0
max = 100

[state.title]
kind = "register"
schema = { type = "string", maxLength = 20 }
initial = "South slope"

[state.ph]
kind = "register"
schema = { type = "number", minimum = 0, maximum = 14 }
merge = "unchanged"

[state.opener]
kind = "register"
merge = "first"

[state.leading]
kind = "register"
merge = "max"
member = "amount"

[state.lowest]
kind = "register"
merge = "min"

[state.names]
kind = "register"
merge = "all"

[state.rows]
kind = "set"
schema = { type = ["string", "number"] }
most = 3

[state.markers]
kind = "map"
most = 3
[state.markers.each.what]
kind = "register"
schema = { enum = ["ladder", "crates"] }
[state.markers.each.seen]
kind = "counter"

[state.kept]
kind = "map"
drop-conflict = "revive"
[state.kept.each.what]
kind = "register"
"#;

/// A session in which anyone proposes as `who`, having seen `seen`.
struct Session {
    sequencer: Sequencer,
    sent: BTreeMap<String, u64>,
}

impl Session {
    fn open() -> Self {
        let charter = Arc::new(Charter::parse(CHARTER).unwrap());
        Self { sequencer: Sequencer::open(charter, None).unwrap(), sent: BTreeMap::new() }
    }

    fn try_all(&mut self, who: &str, seen: Option<u64>, edits: Vec<Edit>) -> Outcome {
        let n = self.sent.entry(who.to_owned()).or_default();
        *n += 1;
        let proposal = Proposal::new(*n, seen, edits);
        self.sequencer.handle_proposal(&actor(who), &proposal, *n)
    }

    fn settle(&mut self, who: &str, seen: u64, edit: Edit) -> Settled {
        match self.try_all(who, Some(seen), vec![edit]) {
            Outcome::Settled(update) => update,
            other => panic!("{other:?}"),
        }
    }

    fn refuse(&mut self, who: &str, seen: u64, edit: Edit) -> rendel_core::Problem {
        let before = (self.sequencer.plain(), self.sequencer.seq());
        let Outcome::Refused(problem) = self.try_all(who, Some(seen), vec![edit]) else {
            panic!("it was not refused")
        };
        assert_eq!(
            (self.sequencer.plain(), self.sequencer.seq()),
            before,
            "a refusal changes nothing"
        );
        problem
    }

    /// The verdict on the one edit of an update, `applied` where the update has none.
    fn verdict(update: &Settled) -> (VerdictKind, Vec<u64>) {
        update.verdicts.first().map_or((VerdictKind::Applied, vec![]), |verdict| {
            (verdict.verdict, verdict.met.clone())
        })
    }

    fn at(&self, field: &str) -> Value {
        self.sequencer.plain()[field].clone()
    }
}

fn actor(who: &str) -> Actor {
    let role = if who == "wren" { "picker" } else { "steward" };
    Actor::new(who, role, Uuid::new_v5(&Uuid::NAMESPACE_OID, who.as_bytes()))
}

fn set(at: &str, value: impl Into<Value>) -> Edit {
    Edit::new(at, "set").with("value", value)
}

fn add(at: &str, by: i64) -> Edit {
    Edit::new(at, "add").with("by", by)
}

fn put(id: &str, what: &str) -> Edit {
    Edit::new("/markers", "put").with("id", id).with("value", json!({ "what": what }))
}

#[test]
fn both_press_plus_one_a_thousand_times_and_nothing_is_lost() {
    let source = CHARTER.replace("max = 100", "max = 5000");
    let mut session = Session {
        sequencer: Sequencer::open(Arc::new(Charter::parse(&source).unwrap()), None).unwrap(),
        sent: BTreeMap::new(),
    };
    for _ in 0..1_000 {
        session.settle("oda", 0, add("/heads", 1));
        session.settle("tobin", 0, add("/heads", 1));
    }
    assert_eq!((session.at("heads"), session.sequencer.seq()), (json!(2_000), 2_000));
}

#[test]
fn two_concurrent_sets_are_settled_by_the_register_s_rule() {
    // rule, first set, second set, what stands, the second's verdict
    let table: [(&str, Value, Value, Value, VerdictKind); 9] = [
        ("/title", json!("North"), json!("West"), json!("West"), VerdictKind::Overrode),
        ("/opener", json!("Oda"), json!("Tobin"), json!("Oda"), VerdictKind::Dropped),
        (
            "/leading",
            json!({"amount": 50}),
            json!({"amount": 60}),
            json!({"amount": 60}),
            VerdictKind::Overrode,
        ),
        (
            "/leading",
            json!({"amount": 60}),
            json!({"amount": 50}),
            json!({"amount": 60}),
            VerdictKind::Dropped,
        ),
        (
            "/leading",
            json!({"amount": 60, "by": "Oda"}),
            json!({"amount": 60}),
            json!({"amount": 60, "by": "Oda"}),
            VerdictKind::Dropped,
        ),
        ("/lowest", json!(7), json!(3), json!(3), VerdictKind::Overrode),
        ("/lowest", json!(3), json!(7), json!(3), VerdictKind::Dropped),
        ("/names", json!("dry"), json!("sweet"), json!(["dry", "sweet"]), VerdictKind::Merged),
        ("/names", json!("dry"), json!("dry"), json!(["dry"]), VerdictKind::Merged),
    ];
    for (at, one, two, stands, verdict) in table {
        let mut session = Session::open();
        assert_eq!(
            Session::verdict(&session.settle("oda", 0, set(at, one.clone()))),
            (VerdictKind::Applied, vec![])
        );
        let second = session.settle("tobin", 0, set(at, two.clone()));
        assert_eq!(Session::verdict(&second), (verdict, vec![1]), "{at} {one} {two}");
        assert_eq!(session.at(&at[1..]), stands, "{at} {one} {two}");
    }
}

#[test]
fn who_has_seen_the_other_s_set_simply_sets() {
    for at in ["/title", "/opener", "/names", "/ph"] {
        let mut session = Session::open();
        let values =
            if at == "/ph" { [json!(3.4), json!(3.5)] } else { [json!("dry"), json!("sweet")] };
        session.settle("oda", 0, set(at, values[0].clone()));
        let second = session.settle("tobin", 1, set(at, values[1].clone()));
        assert_eq!(Session::verdict(&second), (VerdictKind::Applied, vec![]), "{at}");
    }
}

#[test]
fn one_s_own_earlier_set_is_never_in_the_way() {
    let mut session = Session::open();
    session.settle("oda", 0, set("/ph", 3.4));
    assert_eq!(
        Session::verdict(&session.settle("oda", 0, set("/ph", 3.5))),
        (VerdictKind::Applied, vec![])
    );
}

#[test]
fn of_two_sets_of_an_unchanged_register_one_settles_and_the_other_is_told_the_present_value() {
    let mut session = Session::open();
    session.settle("oda", 0, set("/ph", 3.4));
    let problem = session.refuse("tobin", 0, set("/ph", 3.6));
    assert_eq!(problem.kind(), ProblemKind::Stale);
    assert_eq!(
        (problem.member("current"), problem.member("at")),
        (Some(&json!(3.4)), Some(&json!("/ph")))
    );
}

#[test]
fn values_side_by_side_stay_until_somebody_who_has_seen_them_picks() {
    let mut session = Session::open();
    session.settle("oda", 0, set("/names", "dry"));
    session.settle("tobin", 0, set("/names", "sweet"));
    session.settle("anouk", 1, set("/names", "mellow"));
    assert_eq!(session.at("names"), json!(["sweet", "mellow"]), "Anouk had seen dry and not sweet");
    session.settle("oda", 3, set("/names", "sweet"));
    assert_eq!(session.at("names"), json!(["sweet"]));
}

#[test]
fn a_lost_value_is_told_so_that_it_can_be_proposed_again() {
    let mut session = Session::open();
    session.settle("oda", 0, set("/title", "North"));
    assert_eq!(
        session.settle("tobin", 0, set("/title", "West")).verdicts[0].lost,
        Some(json!("North"))
    );
    session.settle("oda", 0, set("/opener", "Oda"));
    assert_eq!(
        session.settle("tobin", 0, set("/opener", "Tobin")).verdicts[0].lost,
        Some(json!("Tobin"))
    );
}

#[test]
fn a_counter_refuses_what_would_break_its_bounds() {
    let mut session = Session::open();
    session.settle("oda", 0, add("/heads", 100));
    for by in [1, -101, i64::MAX] {
        assert_eq!(
            session.refuse("oda", 1, add("/heads", by)).kind(),
            ProblemKind::OutOfBounds,
            "{by}"
        );
    }
    assert_eq!(
        session.refuse("oda", 1, Edit::new("/heads", "add").with("by", 0.5)).kind(),
        ProblemKind::WrongType
    );
    session.settle("oda", 1, Edit::new("/heads", "add").with("by", -2.0));
    assert_eq!(session.at("heads"), json!(98));
}

#[test]
fn deleting_the_record_that_another_edits_is_settled_by_drop_conflict() {
    let table = [
        // map, drop first?, who stands, verdict of the second
        ("markers", true, None, VerdictKind::Dropped),
        ("markers", false, None, VerdictKind::Overrode),
        ("kept", true, Some(json!({"what": "crates"})), VerdictKind::Overrode),
        ("kept", false, Some(json!({"what": "crates"})), VerdictKind::Dropped),
    ];
    for (map, drop_first, stands, verdict) in table {
        let mut session = Session::open();
        let made = Edit::new(format!("/{map}"), "put")
            .with("id", "m1")
            .with("value", json!({"what": "ladder"}));
        session.settle("oda", 0, made);
        let drop = Edit::new(format!("/{map}/m1"), "drop");
        let edit = set(&format!("/{map}/m1/what"), "crates");
        let (first, second) = if drop_first { (drop, edit) } else { (edit, drop) };
        session.settle("oda", 1, first);
        let second = session.settle("tobin", 1, second);
        assert_eq!(
            Session::verdict(&second),
            (verdict, vec![2]),
            "{map}, drop first: {drop_first}"
        );
        assert_eq!(session.at(map).get("m1").cloned(), stands, "{map}, drop first: {drop_first}");
    }
}

#[test]
fn two_drops_of_one_record_count_as_one() {
    let mut session = Session::open();
    session.settle("oda", 0, put("m1", "ladder"));
    session.settle("oda", 1, Edit::new("/markers/m1", "drop"));
    let second = session.settle("tobin", 1, Edit::new("/markers/m1", "drop"));
    assert_eq!(
        (Session::verdict(&second), second.effects.len()),
        ((VerdictKind::Merged, vec![2]), 0)
    );
    assert_eq!(
        session.refuse("tobin", 3, Edit::new("/markers/m1", "drop")).kind(),
        ProblemKind::Gone
    );
}

#[test]
fn an_insert_wins_over_a_concurrent_remove_of_the_same_element() {
    let insert = || Edit::new("/rows", "include").with("value", "north");
    let remove = || Edit::new("/rows", "exclude").with("value", "north");
    for (first, second, stands, verdict) in [
        (insert(), remove(), json!(["north"]), VerdictKind::Dropped),
        (remove(), insert(), json!(["north"]), VerdictKind::Overrode),
        (insert(), insert(), json!(["north"]), VerdictKind::Merged),
        (remove(), remove(), json!([]), VerdictKind::Merged),
    ] {
        let mut session = Session::open();
        session.settle("mirela", 0, insert());
        let seen = session.sequencer.seq();
        session.settle("oda", seen, first.clone());
        let second = session.settle("tobin", seen, second);
        assert_eq!(
            (Session::verdict(&second), session.at("rows")),
            ((verdict, vec![2]), stands),
            "{first:?}"
        );
    }
}

#[test]
fn a_set_holds_each_element_once_in_one_order_and_keeps_its_bound() {
    let mut session = Session::open();
    for value in [json!("b"), json!("a"), json!(1.0), json!(1), json!("a")] {
        session.settle(
            "oda",
            session.sequencer.seq(),
            Edit::new("/rows", "include").with("value", value),
        );
    }
    assert_eq!(
        session.at("rows"),
        json!(["a", "b", 1.0]),
        "the first way of writing it stays, here and at replicas"
    );
    for (op, value, kind) in [
        ("include", json!("c"), ProblemKind::Full),
        ("include", json!([]), ProblemKind::WrongType),
        ("exclude", json!("z"), ProblemKind::Gone),
        ("put", json!("a"), ProblemKind::UnknownOp),
    ] {
        assert_eq!(
            session.refuse("oda", 5, Edit::new("/rows", op).with("value", value)).kind(),
            kind,
            "{op}"
        );
    }
}

#[test]
fn a_map_keeps_to_its_ids_and_its_bound() {
    let mut session = Session::open();
    session.settle("oda", 0, put("m1", "ladder"));
    let problem = session.refuse("tobin", 0, put("m1", "crates"));
    assert_eq!(
        (problem.kind(), problem.member("current")),
        (ProblemKind::Exists, Some(&json!({"seen": 0, "what": "ladder"})))
    );
    let made = session.settle("tobin", 0, Edit::new("/markers", "put").with("value", json!({})));
    let (id, _) = made.effects[0].op.makes().unwrap();
    assert!(id.is_some_and(|id| Uuid::parse_str(id).is_ok()));
    session.settle("tobin", 0, put("m3", "ladder"));
    assert_eq!(session.refuse("tobin", 0, put("m4", "ladder")).kind(), ProblemKind::Full);
}

#[test]
fn bad_edits_have_their_problem_and_no_effect() {
    let mut session = Session::open();
    session.settle("oda", 0, put("m1", "ladder"));
    let table = [
        (set("title", "x"), ProblemKind::Malformed, None),
        (set("/titel", "x"), ProblemKind::UnknownPath, Some("/title")),
        (set("/markers/m1/waht", "x"), ProblemKind::UnknownPath, Some("/markers/m1/what")),
        (set("/title/x", "x"), ProblemKind::UnknownPath, Some("/title")),
        (set("", "x"), ProblemKind::UnknownPath, None),
        (set("/markers/m9/what", "ladder"), ProblemKind::Gone, None),
        (Edit::new("/title", "sett").with("value", "x"), ProblemKind::UnknownOp, Some("set")),
        (Edit::new("/markers/m1", "put").with("value", json!({})), ProblemKind::UnknownOp, None),
        (Edit::new("/title", "set"), ProblemKind::Malformed, None),
        (set("/title", "x").with("valeu", 1), ProblemKind::Malformed, Some("value")),
        (set("/title", 5), ProblemKind::WrongType, None),
        (set("/title", Value::Null), ProblemKind::WrongType, None),
        (set("/title", "x".repeat(21)), ProblemKind::OutOfBounds, None),
        (set("/ph", 15), ProblemKind::OutOfBounds, None),
        (set("/leading", json!({"amonut": 5})), ProblemKind::WrongType, None),
        (put("m2", "hazard"), ProblemKind::WrongType, None),
        (put("", "ladder"), ProblemKind::WrongType, None),
        (put("m\n2", "ladder"), ProblemKind::WrongType, None),
        (
            Edit::new("/markers", "put").with("value", json!({"waht": 1})),
            ProblemKind::UnknownPath,
            None,
        ),
        (Edit::new("/markers", "put").with("value", 3), ProblemKind::WrongType, None),
        (set("/opener", "x".repeat(2_000)), ProblemKind::TooLarge, None),
        (Edit::new("/title", "test").with("value", "no"), ProblemKind::TestFailed, None),
    ];
    for (edit, kind, meant) in table {
        let problem = session.refuse("oda", 1, edit.clone());
        assert_eq!(problem.kind(), kind, "{edit:?}: {problem}");
        if meant.is_some() {
            assert_eq!(problem.member("did_you_mean").and_then(Value::as_str), meant, "{edit:?}");
        }
    }
    assert_eq!(session.refuse("oda", 9, add("/heads", 1)).kind(), ProblemKind::FromTheFuture);
    assert_eq!(session.refuse("wren", 1, set("/title", "x")).kind(), ProblemKind::NotAllowed);
    session.settle("wren", 1, set("/markers/m1/what", "crates"));
}

#[test]
fn a_proposal_takes_effect_as_a_whole_or_not_at_all() {
    let mut session = Session::open();
    let edits = vec![put("m1", "ladder"), set("/markers/m1/what", "crates"), set("/title", 5)];
    let Outcome::Refused(problem) = session.try_all("oda", None, edits.clone()) else { panic!() };
    assert_eq!((problem.kind(), problem.member("edit")), (ProblemKind::WrongType, Some(&json!(2))));
    assert_eq!((session.at("markers"), session.sequencer.seq()), (json!({}), 0));
    let Outcome::Settled(update) = session.try_all("oda", None, edits[..2].to_vec()) else {
        panic!()
    };
    assert_eq!((update.seq, session.at("markers")["m1"]["what"].clone()), (1, json!("crates")));
    let Outcome::Refused(problem) = session.try_all("oda", None, vec![add("/heads", 1); 5]) else {
        panic!()
    };
    assert_eq!(problem.kind(), ProblemKind::TooLarge);
    let Outcome::Refused(problem) = session.try_all("oda", None, vec![]) else { panic!() };
    assert_eq!(problem.kind(), ProblemKind::Malformed);
}

#[test]
fn a_proposal_sent_again_gets_its_first_outcome_also_after_a_restart() {
    let mut session = Session::open();
    let proposal = |n, edit| Proposal::new(n, Some(0), vec![edit]);
    let first = session.sequencer.handle_proposal(&actor("oda"), &proposal(1, add("/heads", 1)), 1);
    let Outcome::Settled(update) = first else { panic!() };
    let Outcome::Refused(problem) =
        session.sequencer.handle_proposal(&actor("oda"), &proposal(2, add("/heads", -5)), 1)
    else {
        panic!()
    };
    let snapshot = serde_json::to_string(&session.sequencer.snapshot()).unwrap();
    let restored = Sequencer::restore(
        session.sequencer.charter().clone(),
        serde_json::from_str(&snapshot).unwrap(),
    );
    let mut replayed = Session::open().sequencer;
    replayed.replay(&update).unwrap();
    replayed.replay_refusal(actor("oda").key(), 2, problem.clone());
    for mut sequencer in [session.sequencer, restored, replayed] {
        let again = sequencer.handle_proposal(&actor("oda"), &proposal(1, add("/heads", 1)), 9);
        assert_eq!(again, Outcome::Repeated(ClientOutcome::Settled(1)));
        let again = sequencer.handle_proposal(&actor("oda"), &proposal(2, add("/heads", 50)), 9);
        assert_eq!(again, Outcome::Repeated(ClientOutcome::Refused(problem.clone())));
        assert_eq!((sequencer.plain()["heads"].clone(), sequencer.seq()), (json!(1), 1));
    }
}

#[test]
fn an_answered_outcome_is_forgotten_and_its_number_not_taken_again() {
    let mut session = Session::open();
    let proposal = |n, answered| Proposal {
        n,
        seen: None,
        answered,
        edits: vec![add("/heads", 1)],
        ..Proposal::new(0, None, vec![])
    };
    session.sequencer.handle_proposal(&actor("oda"), &proposal(1, 0), 1);
    session.sequencer.handle_proposal(&actor("oda"), &proposal(2, 1), 1);
    assert_eq!(session.sequencer.outcomes(actor("oda").key()).count(), 1);
    let cases = [(1, 0, ProblemKind::Forgotten), (3, 3, ProblemKind::Malformed)];
    for (n, answered, kind) in cases {
        let Outcome::Refused(problem) =
            session.sequencer.handle_proposal(&actor("oda"), &proposal(n, answered), 1)
        else {
            panic!()
        };
        assert_eq!(problem.kind(), kind);
    }
    assert_eq!(session.at("heads"), json!(2));
}

#[test]
fn an_opening_state_must_fit_the_charter() {
    let charter = Arc::new(Charter::parse(CHARTER).unwrap());
    let table = [
        (json!({"heads": -1}), ProblemKind::OutOfBounds),
        (json!({"hedas": 1}), ProblemKind::UnknownPath),
        (json!({"markers": {"m1": {"what": "hazard"}}}), ProblemKind::WrongType),
        (json!({"markers": {"1": {}, "2": {}, "3": {}, "4": {}}}), ProblemKind::Full),
        (json!({"opener": "x".repeat(2_000)}), ProblemKind::TooLarge),
        (json!([]), ProblemKind::WrongType),
    ];
    for (opening, kind) in table {
        assert_eq!(
            Sequencer::open(charter.clone(), Some(&opening)).unwrap_err().kind(),
            kind,
            "{opening}"
        );
    }
    let sequencer =
        Sequencer::open(charter, Some(&json!({"heads": 41, "names": ["dry"]}))).unwrap();
    assert_eq!(
        (sequencer.plain()["heads"].clone(), sequencer.plain()["title"].clone()),
        (json!(41), json!("South slope"))
    );
}

#[test]
fn a_journal_with_a_gap_or_of_another_charter_does_not_replay() {
    let mut session = Session::open();
    let one = session.settle("oda", 0, add("/heads", 1));
    let two = session.settle("oda", 1, put("m1", "ladder"));
    let mut fresh = Session::open().sequencer;
    assert!(fresh.replay(&two).is_err());
    fresh.replay(&one).unwrap();
    let foreign = Settled {
        effects: smallvec![Effect::new(Path::of(["nothing"]), Op::Set(Arc::new(1.into())))],
        ..two.clone()
    };
    assert!(fresh.clone().replay(&foreign).is_err());
    fresh.replay(&two).unwrap();
    assert_eq!(fresh.plain(), session.sequencer.plain());
}

#[test]
fn a_map_forgets_its_oldest_drops_and_then_says_that_the_record_is_gone() {
    let source = CHARTER
        .replace("most = 3\n[state.markers.each.what]", "most = 20000\n[state.markers.each.what]")
        .replace("1KiB", "8MiB");
    let mut session = Session {
        sequencer: Sequencer::open(
            Arc::new(Charter::parse(&source).unwrap().remembering(100, 100)),
            None,
        )
        .unwrap(),
        sent: BTreeMap::new(),
    };
    for n in 0..1_000 {
        session.settle("oda", session.sequencer.seq(), put(&format!("m{n}"), "ladder"));
    }
    let seen = session.sequencer.seq();
    for n in 0..1_000 {
        session.settle("oda", session.sequencer.seq(), Edit::new(format!("/markers/m{n}"), "drop"));
    }
    assert_eq!(
        session.refuse("tobin", seen, set("/markers/m899/what", "crates")).kind(),
        ProblemKind::Gone
    );
    let late = session.settle("tobin", seen, set("/markers/m900/what", "crates"));
    assert_eq!(Session::verdict(&late).0, VerdictKind::Dropped);
    let snapshot = serde_json::to_string(&session.sequencer.snapshot()).unwrap();
    assert!(snapshot.len() < 100_000, "what is remembered is bounded: {} bytes", snapshot.len());
}

#[test]
fn what_leaves_an_append_only_list_is_not_kept_and_what_leaves_another_within_bounds() {
    let source = r#"
charter = "orchard"
version = 1
[roles.steward]
edit = ["/**"]
[state.steps]
kind = "list"
[state.log]
kind = "list"
append-only = true
keep = 1
"#;
    let mut session = Session {
        sequencer: Sequencer::open(Arc::new(Charter::parse(source).unwrap()), None).unwrap(),
        sent: BTreeMap::new(),
    };
    let line = "x".repeat(10_000);
    let insert = |list: &str, n: u64| {
        Edit::new(list, "insert").with("id", format!("s{n}")).with("value", &*line)
    };
    for n in 0..3_000 {
        session.settle("oda", session.sequencer.seq(), insert("/log", n));
    }
    let size =
        |session: &Session| serde_json::to_string(&session.sequencer.snapshot()).unwrap().len();
    let logged = size(&session);
    assert!(logged < 300_000, "{logged} bytes");

    for n in 0..2_000 {
        session.settle("oda", session.sequencer.seq(), insert("/steps", n));
        session.settle("oda", session.sequencer.seq(), Edit::new(format!("/steps/s{n}"), "remove"));
    }
    let removed = size(&session) - logged;
    let bounds = 16_000_000..18_000_000;
    assert!(bounds.contains(&removed), "16 MiB of what was removed are kept: {removed} bytes");
    assert!(session.sequencer.remembered() < 18_000_000, "{}", session.sequencer.remembered());
}

#[test]
fn the_memory_of_clients_and_refusals_is_bounded_and_the_newest_are_in_it() {
    let mut session = Session::open();
    let mut send = |client: u128, n, edit| {
        let actor = Actor::new("oda", "steward", Uuid::from_u128(client));
        session.sequencer.handle_proposal(&actor, &Proposal::new(n, None, vec![edit]), 0)
    };
    assert!(
        matches!(send(70_000, 9, add("/heads", 0)), Outcome::Settled(_)),
        "no one is forgotten"
    );
    let mut propose = |client, edit| send(client, 1, edit);
    for client in 1..=11_000 {
        let by = if client % 2 == 0 { 0 } else { -1_000 };
        propose(client, add("/heads", by));
    }
    assert!(matches!(
        propose(10_999, add("/heads", 1)),
        Outcome::Repeated(ClientOutcome::Refused(_))
    ));
    assert!(matches!(
        propose(11_000, add("/heads", 1)),
        Outcome::Repeated(ClientOutcome::Settled(_))
    ));
    assert!(
        matches!(propose(2, add("/heads", 1)), Outcome::Settled(_)),
        "the oldest are forgotten"
    );
    // Whether one of before counts already can be told no more.
    let Outcome::Refused(problem) = send(70_000, 10, add("/heads", 1)) else { panic!() };
    assert_eq!(
        (problem.kind(), problem.member("next_n")),
        (ProblemKind::Forgotten, Some(&json!(1)))
    );
    let snapshot = serde_json::to_string(&session.sequencer.snapshot()).unwrap();
    assert!(snapshot.len() < 4_000_000, "{} bytes", snapshot.len());
}

#[test]
fn the_weight_of_the_state_is_kept_right_by_every_effect() {
    let mut session = Session::open();
    let edits = [
        put("m1", "ladder"),
        set("/markers/m1/what", "crates"),
        set("/title", "West"),
        Edit::new("/title", "clear"),
        add("/heads", 99),
        Edit::new("/rows", "include").with("value", "north"),
        Edit::new("/rows", "include").with("value", "north"),
        Edit::new("/rows", "exclude").with("value", "north"),
        set("/names", "dry"),
        Edit::new("/markers/m1", "drop"),
    ];
    for edit in edits {
        session.settle("oda", session.sequencer.seq(), edit.clone());
        let exact = session.sequencer.plain().to_string().len() as u64;
        assert_eq!(session.sequencer.weight(), exact, "{edit:?}");
    }
}

/// Each register rule written again, slowly and obviously: from all sets ever made, with what each
/// had seen.
#[test]
fn a_register_ends_as_a_slow_model_of_its_rule_says() {
    use rand_free::Random;
    struct Made {
        seq: u64,
        by: usize,
        seen: u64,
        value: u64,
    }
    for at in ["/lowest", "/opener", "/title2", "/names"] {
        for seed in 0..300 {
            let mut random = Random(seed);
            let source = format!("{CHARTER}\n[state.title2]\nkind = \"register\"\n");
            let charter = Arc::new(Charter::parse(&source).unwrap());
            let mut session = Session {
                sequencer: Sequencer::open(charter, None).unwrap(),
                sent: BTreeMap::new(),
            };
            let (mut made, mut seen): (Vec<Made>, _) = (Vec::new(), [0u64; 3]);
            // The value that stands and who changed it when, or all values that stand.
            let mut standing: Vec<(u64, u64, usize)> = Vec::new();
            // All that ever stood: one's own later set hides from nobody what one had not seen.
            let mut stood: Vec<(u64, u64, usize)> = Vec::new();
            for _ in 0..random.below(12) {
                let by = usize::try_from(random.below(3)).unwrap();
                let now = session.sequencer.seq();
                seen[by] += random.below(now - seen[by] + 1);
                let value = random.below(5);
                let update =
                    session.settle(["oda", "tobin", "mirela"][by], seen[by], set(at, value));
                made.push(Made { seq: update.seq, by, seen: seen[by], value });
                let last = made.last().unwrap();
                let concurrent =
                    |(_, seq, whose): &(u64, u64, usize)| *seq > last.seen && *whose != last.by;
                let is_met = standing.iter().any(concurrent);
                let mine = (last.value, last.seq, last.by);
                match at {
                    "/names" => {
                        standing.retain(concurrent);
                        match standing.iter_mut().find(|(value, ..)| *value == last.value) {
                            Some(same) => *same = mine,
                            None => standing.push(mine),
                        }
                    }
                    "/opener" if is_met => {}
                    "/lowest" if stood.iter().any(concurrent) && last.value >= standing[0].0 => {}
                    _ => {
                        standing = vec![mine];
                        stood.push(mine);
                    }
                }
            }
            let model = match (at, standing.first()) {
                ("/names", _) => standing.iter().map(|(value, ..)| json!(value)).collect(),
                (_, None) => Value::Null,
                (_, Some((value, ..))) => json!(value),
            };
            assert_eq!(session.at(&at[1..]), model, "{at}, seed {seed}");
        }
    }
}

/// Random numbers that need no crate and are the same everywhere (a linear congruential generator,
/// Knuth's constants).
mod rand_free {
    pub(crate) struct Random(pub(crate) u64);

    impl Random {
        pub(crate) fn below(&mut self, bound: u64) -> u64 {
            self.0 = self
                .0
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1_442_695_040_888_963_407);
            (self.0 >> 33) % bound.max(1)
        }
    }
}

#[test]
fn a_session_acts_when_somebody_comes_or_goes_and_nobody_else_does_in_its_name() {
    let mut session = Session::open();
    let sequencer = &mut session.sequencer;
    let Outcome::Settled(act) = sequencer.handle_act(vec![add("/heads", 2)], 1) else { panic!() };
    assert_eq!((act.by.as_str(), act.n, act.seq), ("service", 0, 1));
    let refused = sequencer.handle_act(vec![add("/heads", -1_000)], 2);
    assert!(matches!(refused, Outcome::Refused(problem)
        if problem.kind() == ProblemKind::OutOfBounds));
    let outside = sequencer.handle_proposal(
        &Actor::session(),
        &Proposal::new(1, None, vec![add("/heads", 1)]),
        3,
    );
    assert!(matches!(outside, Outcome::Refused(problem)
        if problem.kind() == ProblemKind::NotAllowed));
}

#[test]
fn a_journal_is_taken_as_it_is_whatever_a_rule_says_now() {
    let charter = r#"
charter = "orchard"
version = 1
[state.heads]
kind = "counter"
max = 5
[state.barrels]
kind = "map"
most = 1
[state.barrels.each.label]
kind = "register"
schema = { type = "string" }
[state.barrels.each.rows]
kind = "set"
most = 1
[state.remarks]
kind = "list"
most = 1
schema = { type = "string" }
[state.notes]
kind = "text"
most = 3
"#;
    let mut sequencer = Sequencer::open(Arc::new(Charter::parse(charter).unwrap()), None).unwrap();
    let plain = json!({
        "heads": 9, "notes": "longer",
        "barrels": { "b1": { "label": 7, "rows": [1, 2] }, "b2": { "label": null, "rows": [] } },
        "remarks": [{ "id": "r1", "value": 7 }, { "id": "r2", "value": 8 }],
    });
    let update = |seq: u64, effects: Value| -> Settled {
        serde_json::from_value(json!({
            "seq": seq, "by": "oda", "client": Uuid::nil(), "n": 0, "at": 0, "effects": effects,
        }))
        .unwrap()
    };
    let made = json!([
        { "at": "/barrels", "op": "put", "id": "b1", "value": plain["barrels"]["b1"] },
        { "at": "/remarks", "op": "insert", "id": "r1", "value": 7, "after": null },
    ]);
    sequencer.replay(&update(1, made)).unwrap();
    assert_eq!(sequencer.plain()["barrels"]["b1"], plain["barrels"]["b1"]);
    let reset = json!([{ "at": "", "op": "reset", "value": plain }]);
    sequencer.replay(&update(2, reset)).unwrap();
    assert_eq!(sequencer.plain(), plain);
    // Who proposes is bound by them.
    let actor = Actor::new("oda", "participant", Uuid::nil());
    let edits = vec![Edit::new("/barrels/b1/label", "set").with("value", 8)];
    let outcome = sequencer.handle_proposal(&actor, &Proposal::new(0, None, edits), 0);
    assert!(matches!(outcome, Outcome::Refused(_)), "{outcome:?}");
    let early = Proposal::new(0, Some(3), vec![add("/heads", -9)]);
    let Outcome::Refused(problem) = sequencer.handle_proposal(&actor, &early, 0) else { panic!() };
    assert_eq!(problem.kind(), ProblemKind::FromTheFuture);
}

#[test]
fn a_set_is_opened_in_its_one_order_with_each_element_once() {
    let charter = "charter = \"orchard\"\nversion = 1\n[state.rows]\nkind = \"set\"\n";
    let charter = Arc::new(Charter::parse(charter).unwrap());
    let opening = json!({ "rows": ["b", { "n": 1.0 }, 10, "a", 9, "b", { "n": 1 }, "\u{ff21}", "\u{1f34e}"] });
    let sequencer = Sequencer::open(charter, Some(&opening)).unwrap();
    let one_order = json!(["a", "b", "\u{1f34e}", "\u{ff21}", 10, 9, { "n": 1.0 }]);
    assert_eq!(sequencer.plain()["rows"], one_order);
}

#[test]
fn only_a_list_that_grows_at_its_end_keeps_the_newest() {
    let charter = "charter = \"orchard\"\nversion = 1\n[state.log]\nkind = \"list\"\nkeep = 3\n";
    let faults = Charter::parse(charter).unwrap_err();
    assert_eq!((faults[0].path.as_str(), faults[0].line), ("state.log.keep", 5));
    assert!(Charter::parse(&format!("{charter}append-only = true\n")).is_ok());
}
