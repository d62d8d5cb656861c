//! What becomes of a record that others refer to.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::Arc;

use rendel_core::{
    Actor, Charter, Edit, Outcome, Problem, ProblemKind, Proposal, Sequencer, Settled,
};
use serde_json::{Value, json};
use uuid::Uuid;

const STATE: &str = r#"
charter = "orchard"
version = 1
[state.crews]
kind = "map"
[state.crews.each.name]
kind = "register"
[state.pressings]
kind = "map"
drop-conflict = "revive"
[state.pressings.each.crew]
kind = "register"
refers = { to = "/crews", on-drop = "RULE" }
[state.barrels]
kind = "map"
[state.barrels.each.parts]
kind = "list"
[state.barrels.each.parts.each.pressing]
kind = "register"
refers = { to = "/pressings", on-drop = "RULE" }
"#;

struct Session(Sequencer, u64);

impl Session {
    fn open(rule: &str) -> Self {
        let charter = Charter::parse(&STATE.replace("RULE", rule)).unwrap();
        let opening = json!({
            "crews": { "c1": { "name": "east" }, "c2": {} },
            "pressings": { "p1": { "crew": "c1" }, "p2": { "crew": "c2" }, "p3": {} },
            "barrels": { "b1": { "parts": [{ "id": "x", "value": { "pressing": "p1" } }, { "id": "y", "value": { "pressing": "p3" } }] } },
        });
        Self(Sequencer::open(Arc::new(charter), Some(&opening)).unwrap(), 0)
    }

    fn propose(&mut self, seen: u64, edits: Vec<Edit>) -> Result<Settled, Problem> {
        self.1 += 1;
        let client = Uuid::from_u128(u128::from(self.1));
        let actor = Actor::new("oda", "participant", client);
        let proposal = Proposal::new(1, Some(seen), edits);
        match self.0.handle_proposal(&actor, &proposal, 0) {
            Outcome::Settled(update) => Ok(update),
            Outcome::Refused(problem) => Err(problem),
            Outcome::Repeated(outcome) => panic!("{outcome:?}"),
        }
    }
}

fn drop_of(at: &str) -> Edit {
    Edit::new(at, "drop")
}

#[test]
fn a_record_that_something_refers_to_is_not_dropped_and_the_refusal_names_what_does() {
    let mut session = Session::open("refuse");
    let problem = session.propose(0, vec![drop_of("/crews/c1")]).unwrap_err();
    assert_eq!(
        (problem.kind(), problem.member("referenced_by")),
        (ProblemKind::Referenced, Some(&json!(["/pressings/p1/crew"])))
    );
    // The one that refers may go first, also in the same proposal.
    let all = vec![
        Edit::new("/barrels/b1/parts/x", "remove"),
        drop_of("/pressings/p1"),
        drop_of("/crews/c1"),
    ];
    session.propose(0, all).unwrap();
    assert_eq!(session.0.plain()["crews"], json!({ "c2": { "name": null } }));
}

#[test]
fn a_cascade_takes_what_refers_along_and_what_refers_to_that() {
    let mut session = Session::open("cascade");
    let update = session.propose(0, vec![drop_of("/crews/c1")]).unwrap();
    let at: Vec<_> =
        update.effects.iter().map(|effect| (effect.op.name(), effect.at.to_string())).collect();
    let all = [("remove", "/barrels/b1/parts/x"), ("drop", "/pressings/p1"), ("drop", "/crews/c1")];
    assert_eq!(at, all.map(|(op, at)| (op, at.to_owned())));
    assert_eq!(
        session.0.plain()["barrels"]["b1"]["parts"],
        json!([{ "id": "y", "value": { "pressing": "p3" } }])
    );
}

#[test]
fn a_cascade_names_the_outermost_of_records_inside_one_another() {
    let charter = STATE.replace("RULE", "cascade")
        + "[state.pressings.each.lines]\nkind = \"map\"\n[state.pressings.each.lines.each.crew]\nkind = \"register\"\n\
           refers = { to = \"/crews\", on-drop = \"cascade\" }\n";
    let opening = json!({
        "crews": { "c1": {}, "c2": {} },
        "pressings": { "p1": { "crew": "c1", "lines": { "a": { "crew": "c1" } } }, "p2": { "lines": { "b": { "crew": "c1" } } } },
    });
    let sequencer =
        Sequencer::open(Arc::new(Charter::parse(&charter).unwrap()), Some(&opening)).unwrap();
    let mut session = Session(sequencer, 0);
    let update = session.propose(0, vec![drop_of("/crews/c1")]).unwrap();
    let mut at: Vec<_> = update.effects.iter().map(|effect| effect.at.to_string()).collect();
    at.sort_unstable();
    assert_eq!(
        at,
        ["/crews/c1", "/pressings/p1", "/pressings/p2/lines/b"],
        "what lies in /pressings/p1 goes with it"
    );
}

#[test]
fn several_rules_meet_at_one_drop_and_what_is_in_what_goes_is_not_asked_for() {
    let charter = r#"
charter = "orchard"
version = 1
[state.crews]
kind = "map"
[state.crews.each.name]
kind = "register"
[state.pressings]
kind = "map"
[state.pressings.each.crew]
kind = "register"
refers = { to = "/crews", on-drop = "cascade" }
[state.pressings.each.lines]
kind = "map"
[state.pressings.each.lines.each.crew]
kind = "register"
refers = { to = "/crews", on-drop = "clear" }
[state.barrels]
kind = "map"
[state.barrels.each.pressing]
kind = "register"
refers = { to = "/pressings", on-drop = "cascade" }
[state.barrels.each.parts]
kind = "list"
[state.barrels.each.parts.each.pressing]
kind = "register"
refers = { to = "/pressings", on-drop = "refuse" }
"#;
    let opening = json!({
        "crews": { "c1": {} },
        "pressings": {
            "p1": { "crew": "c1", "lines": { "a": { "crew": "c1" } } },
            "p2": { "lines": { "b": { "crew": "c1" } } },
        },
        "barrels": {
            "b1": { "pressing": "p1", "parts": [{ "id": "x", "value": { "pressing": "p1" } }] },
        },
    });
    let charter = Arc::new(Charter::parse(charter).unwrap());
    let mut session = Session(Sequencer::open(charter, Some(&opening)).unwrap(), 0);
    let told = |update: &Settled| {
        let effects = update.effects.iter();
        effects.map(|effect| format!("{} {}", effect.op.name(), effect.at)).collect::<Vec<_>>()
    };
    let update = session.propose(0, vec![drop_of("/crews/c1")]).unwrap();
    let all = [
        "clear /pressings/p2/lines/b/crew",
        "drop /barrels/b1",
        "drop /pressings/p1",
        "drop /crews/c1",
    ];
    assert_eq!(told(&update), all);
    // Who referred and is gone, or was cleared, refers no more.
    let put = Edit::new("/crews", "put").with("id", "c1").with("value", json!({}));
    let seq = session.propose(1, vec![put]).unwrap().seq;
    let update = session.propose(seq, vec![drop_of("/crews/c1")]).unwrap();
    assert_eq!(told(&update), ["drop /crews/c1"]);
    // In a barrel that stays, a part is in the way.
    let put =
        |at: &str, id: &str, value: Value| Edit::new(at, "put").with("id", id).with("value", value);
    let part = json!({ "parts": [{ "id": "x", "value": { "pressing": "p2" } }] });
    let seq = session.propose(seq + 1, vec![put("/barrels", "b2", part)]).unwrap().seq;
    let problem = session.propose(seq, vec![drop_of("/pressings/p2")]).unwrap_err();
    assert_eq!(problem.member("referenced_by"), Some(&json!(["/barrels/b2/parts/x/pressing"])));
}

#[test]
fn a_clearing_drop_leaves_the_record_that_referred() {
    let mut session = Session::open("clear");
    session.propose(0, vec![drop_of("/crews/c1")]).unwrap();
    assert_eq!(session.0.plain()["pressings"]["p1"], json!({ "crew": null }));
}

#[test]
fn a_reference_leads_to_a_record_that_is_there() {
    let mut session = Session::open("refuse");
    let before = session.0.plain();
    let set = |value: Value| Edit::new("/pressings/p3/crew", "set").with("value", value);
    let cases = [
        (vec![set("c9".into())], ProblemKind::Gone),
        (vec![set(7.into())], ProblemKind::WrongType),
        (
            vec![
                Edit::new("/pressings", "put")
                    .with("id", "p4")
                    .with("value", json!({ "crew": "c9" })),
            ],
            ProblemKind::Gone,
        ),
        (
            vec![
                Edit::new("/barrels/b1/parts", "insert").with("value", json!({ "pressing": "p9" })),
            ],
            ProblemKind::Gone,
        ),
        (
            vec![
                Edit::new("/barrels", "put").with(
                    "value",
                    json!({ "parts": [{ "id": "z", "value": { "pressing": "p9" } }] }),
                ),
            ],
            ProblemKind::Gone,
        ),
    ];
    for (edits, kind) in cases {
        assert_eq!(session.propose(0, edits.clone()).unwrap_err().kind(), kind, "{edits:?}");
        assert_eq!(session.0.plain(), before, "nothing is left of {edits:?}");
    }
    // In one proposal the record may come after what refers to it.
    session
        .propose(
            0,
            vec![
                set("c3".into()),
                Edit::new("/crews", "put").with("id", "c3").with("value", json!({})),
            ],
        )
        .unwrap();
}

#[test]
fn a_reference_to_what_another_drops_meanwhile_is_refused_also_where_an_edit_brings_a_record_back()
{
    let mut session = Session::open("refuse");
    session.propose(0, vec![drop_of("/pressings/p2")]).unwrap();
    session.propose(1, vec![drop_of("/crews/c2")]).unwrap();
    let late = session
        .propose(0, vec![Edit::new("/pressings/p3/crew", "set").with("value", "c2")])
        .unwrap_err();
    assert_eq!(late.kind(), ProblemKind::Gone);
    let revived = session
        .propose(0, vec![Edit::new("/pressings/p2/crew", "set").with("value", "c1")])
        .unwrap();
    assert_eq!(revived.effects.len(), 2);
    assert_eq!(session.0.plain()["pressings"]["p2"], json!({ "crew": "c1" }));
}

#[test]
fn a_reference_that_leads_nowhere_is_a_fault_of_the_charter() {
    let cases = [
        ("{ to = \"/crew\" }", "did_you_mean", "/crews"),
        ("{ to = \"crews\" }", "path", "state.x.refers.to"),
        ("{ to = \"/crews\", on-drop = \"vanish\" }", "path", "state.x.refers.on-drop"),
        ("{ to = \"/crews\", on-drop = \"cascade\" }", "path", "state.x.refers"),
    ];
    for (refers, member, expected) in cases {
        let source = format!("{STATE}\n[state.x]\nkind = \"register\"\nrefers = {refers}\n")
            .replace("RULE", "clear");
        let faults = serde_json::to_value(Charter::parse(&source).unwrap_err()).unwrap();
        assert_eq!(faults[0][member], expected, "{faults}");
    }
}
