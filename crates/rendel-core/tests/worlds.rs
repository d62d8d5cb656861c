//! Random worlds over every kind at once: references, guards, records that come back, tight limits,
//! little memory, two tabs of one participant, resets and refusals.
//!
//! Whatever happens, a session that was started from a snapshot settles the next proposal exactly
//! as the one that went on, and a journal makes the same bytes from every snapshot.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;
use std::sync::Arc;

use proptest::prelude::*;
use rendel_core::{
    Actor, Chance, Charter, Edit, Outcome, Passage, Proposal, Sequencer, Settled, Way, Whose,
    weight,
};
use serde_json::{Value, json};
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "orchard"
version = 1
[limits]
state = "3KiB"
[roles.picker]
edit = ["/**"]
[state.heads]
kind = "counter"
[state.status]
kind = "register"
merge = "first"
[state.best]
kind = "register"
merge = "max"
[state.leads]
kind = "register"
merge = "all"
[state.lock]
kind = "register"
merge = "unchanged"
[state.rows]
kind = "set"
[state.notes]
kind = "text"
initial = "windfall"
[state.log]
kind = "list"
append-only = true
keep = 3
[state.crews]
kind = "map"
[state.crews.each.name]
kind = "register"
[state.barrels]
kind = "map"
drop-conflict = "revive"
most = 4
[state.barrels.each.notes]
kind = "text"
initial = "dry"
[state.barrels.each.crew]
kind = "register"
refers = { to = "/crews", on-drop = "RULE" }
[state.barrels.each.rows]
kind = "set"
[state.barrels.each.by]
kind = "register"
filled = "author"
[state.barrels.each.steps]
kind = "list"
[state.barrels.each.steps.each.what]
kind = "text"
[state.barrels.each.steps.each.crew]
kind = "register"
refers = { to = "/crews", on-drop = "cascade" }
[state.seats]
kind = "seats"
names = ["east", "west"]
[state.turn]
kind = "turn"
seats = "/seats"
governs = ["/best"]
moves = 1
[state.end]
kind = "deadline"
in = "1s"
extend = { by = "1s", within = "1h", when = "/barrels" }
[state.pace]
kind = "clock"
max = "1h"
[state.noted]
kind = "list"
most = 60
[state.noted.each.title]
kind = "text"
[state.sold]
kind = "counter"
[state.bag]
kind = "random"
shuffles = ["/barrels/*/crew"]
[state.blend]
kind = "ballot"
choices = ["dry", "sweet"]
[state.per-crew]
kind = "total"
from = "/barrels"
count = true
by = "crew"
[state.parts]
kind = "total"
from = "/barrels"
share = true
by = "by"
[state.crewed-steps]
kind = "total"
from = "/barrels/*/steps"
count = true
where = "record.crew != null"
[[when]]
changes = "/heads"
if = "new != 7"
do = [{ at = "/noted", op = "insert", from = { value = { title = "who.id" } } }, { at = "/sold", op = "add", by = 1 }]
[[when]]
changes = "/barrels/*"
if = "new == null"
do = [{ at = "/sold", op = "add", by = -2 }, { at = "/rows", op = "include", from = "id" }]
[[when]]
fires = "/end"
do = [{ at = "/noted", op = "insert", value = { title = "over" } }, { at = "/end", op = "set", in = "300ms" }]
[[when]]
enters = "first"
do = [{ at = "/status", op = "set", from = "who.id" }]
[[when]]
leaves = "last"
do = [{ at = "/status", op = "set", from = "who.id" }, { at = "/lock", op = "set", from = "state.heads" }]
[[when]]
all-cast = "/blend"
do = [{ at = "/blend", op = "restart" }]
[[guards]]
at = "/heads"
rule = "new != 13"
says = "Not thirteen."
[[guards]]
at = "/barrels/*/crew"
rule = "new == null || new != id"
says = "A crew is not called as its barrel."
"#;

#[derive(Clone, Debug)]
enum Step {
    /// Somebody proposes, so many updates late, on a number of its own or without one.
    Propose {
        tab: usize,
        late: u64,
        edits: Vec<Edit>,
        is_numbered: bool,
    },
    /// The last proposal of a tab comes once more.
    Again(usize),
    Reset(usize),
    /// So many milliseconds pass; then what is due is done, one after the other.
    Wait(u64),
    Due,
    /// A participant comes or goes.
    Pass(usize, Way),
}

fn edit() -> impl Strategy<Value = Edit> {
    let id = || prop::sample::select(vec!["a", "b", "c"]);
    let word = || prop::sample::select(vec!["", "x", "🍎é", "the long way round the hill"]);
    let text = |at: &str| Edit::new(at, "splice");
    let splice = move |at: BoxedStrategy<String>| {
        (at, 0..9usize, 0..4usize, word()).prop_map(move |(at, index, delete, insert)| {
            text(&at).with("index", index).with("delete", delete).with("insert", insert)
        })
    };
    let op = |at: BoxedStrategy<String>, op: &'static str| at.prop_map(move |at| Edit::new(at, op));
    let barrel =
        move |rest: &'static str| id().prop_map(move |id| format!("/barrels/{id}{rest}")).boxed();
    let step = move |rest: &'static str| {
        (id(), id()).prop_map(move |(b, s)| format!("/barrels/{b}/steps/{s}{rest}")).boxed()
    };
    let whole = |at: &'static str| Just(at.to_owned()).boxed();
    let valued = move |at: BoxedStrategy<String>, op: &'static str| {
        (at, word()).prop_map(move |(at, word)| Edit::new(at, op).with("value", word))
    };
    let place = || {
        prop_oneof![
            Just(("after", Value::Null)),
            id().prop_map(|id| ("after", id.into())),
            id().prop_map(|id| ("before", id.into())),
            (0..3usize).prop_map(|index| ("index", index.into())),
        ]
    };
    let scalars = prop_oneof![
        (-9..15i64).prop_map(|by| Edit::new("/heads", "add").with("by", by)),
        prop::sample::select(vec!["/status", "/best", "/leads", "/lock"])
            .prop_flat_map(move |at| valued(whole(at), "set")),
        prop::sample::select(vec!["/status", "/best", "/leads", "/lock"])
            .prop_map(|at| Edit::new(at, "clear")),
        valued(whole("/rows"), "include"),
        valued(whole("/rows"), "exclude"),
        valued(barrel("/rows"), "include"),
        valued(barrel("/rows"), "exclude"),
        valued(whole("/log"), "insert"),
        valued(whole("/status"), "test"),
    ];
    let records = prop_oneof![
        id().prop_map(|id| Edit::new("/crews", "put").with("id", id).with("value", json!({}))),
        (id(), prop::option::of(id())).prop_map(|(id, crew)| {
            let value = json!({ "crew": crew, "steps": [{ "id": "a", "value": {} }] });
            Edit::new("/barrels", "put").with("id", id).with("value", value)
        }),
        op(barrel(""), "drop"),
        id().prop_map(|id| Edit::new(format!("/crews/{id}"), "drop")),
        (barrel("/crew"), id()).prop_map(|(at, crew)| Edit::new(at, "set").with("value", crew)),
        op(barrel("/crew"), "clear"),
        (step("/crew"), id()).prop_map(|(at, crew)| Edit::new(at, "set").with("value", crew)),
    ];
    let sequences = prop_oneof![
        splice(whole("/notes")),
        splice(barrel("/notes")),
        splice(step("/what")),
        (barrel("/steps"), id(), place()).prop_map(|(at, id, (place, beside))| {
            let value = json!({ "what": "press" });
            Edit::new(at, "insert").with("id", id).with("value", value).with(place, beside)
        }),
        op(step(""), "remove"),
        (step(""), place()).prop_map(|(at, (place, beside))| {
            let place = if place == "index" { "after" } else { place };
            let beside = if beside.is_u64() { Value::Null } else { beside };
            Edit::new(at, "move").with(place, beside)
        }),
    ];
    let seat = || prop::sample::select(vec!["east", "west"]);
    let play = prop_oneof![
        seat().prop_map(|seat| Edit::new("/seats", "sit").with("seat", seat)),
        prop::sample::select(vec!["stand", "accept"]).prop_map(|op| Edit::new("/seats", op)),
        prop::sample::select(vec!["oda", "bram"])
            .prop_map(|to| Edit::new("/seats", "offer").with("to", to)),
        prop::sample::select(vec!["advance", "reverse"]).prop_map(|op| Edit::new("/turn", op)),
        (0..9u64).prop_map(|sides| Edit::new("/bag", "roll").with("sides", sides).with("count", 3)),
        prop::sample::select(vec!["dry", "sweet"])
            .prop_map(|choice| Edit::new("/blend", "cast").with("choices", json!([choice]))),
        prop::sample::select(vec!["withdraw", "unseal"]).prop_map(|op| Edit::new("/blend", op)),
        prop::sample::select(vec![50u64, 200, 900])
            .prop_map(|ms| Edit::new("/end", "set").with("in", ms)),
        prop::sample::select(vec!["cancel", "start"]).prop_map(|op| Edit::new("/end", op)),
        Just(Edit::new("/end", "extend").with("by", "2s")),
        prop::sample::select(vec!["start", "stop", "cancel"]).prop_map(|op| Edit::new("/pace", op)),
        prop::sample::select(vec![-5i64, 5_000, 7_200_000])
            .prop_map(|to| Edit::new("/pace", "seek").with("to", to)),
        prop::sample::select(vec![json!(-1.5), json!(2), json!("fast")])
            .prop_map(|rate| Edit::new("/pace", "rate").with("rate", rate)),
        Just(Edit::new("/bag", "shuffle").with("of", "/barrels").with("field", "crew")),
    ];
    prop_oneof![2 => scalars, 3 => records, 4 => sequences, 2 => play]
}

fn step() -> impl Strategy<Value = Step> {
    let edits = prop::collection::vec(edit(), 1..4);
    prop_oneof![
        20 => (0..4usize, 0..6u64, edits, prop::bool::weighted(0.9)).prop_map(
            |(tab, late, edits, is_numbered)| Step::Propose { tab, late, edits, is_numbered }
        ),
        6 => (0..4usize, prop::sample::select(vec!["undo", "undo", "redo"]), any::<bool>()).prop_map(
            |(tab, way, skip)| {
                let edits = vec![Edit::new("", way).with("skip", skip)];
                Step::Propose { tab, late: 0, edits, is_numbered: true }
            }
        ),
        1 => (0..4usize).prop_map(Step::Again),
        1 => (0..4usize).prop_map(Step::Reset),
        3 => (1..1_500u64).prop_map(Step::Wait),
        1 => (0..4usize, prop::sample::select(vec![Way::In, Way::Out]))
            .prop_map(|(tab, way)| Step::Pass(tab, way)),
    ]
}

/// Four tabs: two of one participant, one of another, and one with the first's client id.
fn actor(tab: usize) -> Actor {
    let (who, client) = [("oda", 1), ("oda", 2), ("bram", 3), ("bram", 1)][tab];
    Actor::new(who, "picker", Uuid::from_u128(client))
}

fn stored(sequencer: &Sequencer) -> Value {
    serde_json::to_value(sequencer.snapshot()).unwrap()
}

fn restored(charter: &Arc<Charter>, snapshot: &Value) -> Sequencer {
    let snapshot = serde_json::from_value(snapshot.clone()).unwrap();
    Sequencer::restore(charter.clone(), snapshot).with_chance(chance())
}

fn chance() -> Option<Chance> {
    Some(Chance::new([7; 32]))
}

/// All that a sequencer goes on with but for what it remembers of clients.
fn without_clients(snapshot: &Value) -> Value {
    let mut snapshot = snapshot.clone();
    snapshot.as_object_mut().unwrap().remove("clients");
    snapshot
}

fn run(rule: &str, steps: Vec<Step>) {
    let source = CHARTER.replace("RULE", rule);
    let charter = Charter::parse(&source).unwrap_or_else(|faults| panic!("{faults:?}"));
    let charter = Arc::new(charter.remembering(6, 10));
    let mut sequencer = Sequencer::open(charter.clone(), None).unwrap().with_chance(chance());
    let first = sequencer.own_edits(&|_| true, 1);
    assert!(matches!(sequencer.handle_act(first, 1), Outcome::Settled(_)));
    let first = sequencer.seq();
    let mut snapshots = vec![stored(&sequencer)];
    let mut journal: Vec<Settled> = Vec::new();
    let (mut sent, mut last) = ([0u64; 4], [const { None }; 4]);
    let mut before = snapshots[0].clone();
    let (mut now, mut ticks) = (1, 0);
    let mut steps = steps.into_iter();
    while let Some(step) = if ticks > 0 { Some(Step::Due) } else { steps.next() } {
        let mut twin = restored(&charter, &before);
        let (outcome, same) = match step {
            Step::Wait(ms) => {
                now += ms;
                ticks = 8;
                continue;
            }
            Step::Due => {
                ticks -= 1;
                if sequencer.next_due().is_none_or(|due| due > now) {
                    ticks = 0;
                    continue;
                }
                (sequencer.handle_timeout(now).unwrap(), twin.handle_timeout(now).unwrap())
            }
            Step::Pass(tab, way) => {
                let who = actor(tab);
                let of = Whose::Participant;
                let passage = Passage { who: who.id.clone(), role: who.role.clone(), way, of };
                let pass = |s: &mut Sequencer| s.handle_passage(&who, &passage, now);
                (pass(&mut sequencer), pass(&mut twin))
            }
            Step::Reset(tab) => {
                let opening = json!({ "heads": 1, "crews": { "a": {} } });
                let reset = |s: &mut Sequencer| s.handle_reset(&actor(tab), 0, Some(&opening), now);
                (reset(&mut sequencer), reset(&mut twin))
            }
            Step::Again(tab) => {
                let Some(proposal) = &last[tab] else { continue };
                let again = |s: &mut Sequencer| s.handle_proposal(&actor(tab), proposal, now);
                let outcome = again(&mut sequencer);
                assert!(matches!(outcome, Outcome::Repeated(_)), "{outcome:?}");
                (outcome, again(&mut twin))
            }
            Step::Propose { tab, late, edits, is_numbered } => {
                sent[tab] += u64::from(is_numbered);
                let n = if is_numbered { sent[tab] } else { 0 };
                let seen = Some(sequencer.seq().saturating_sub(late));
                let proposal = Proposal::new(n, seen, edits);
                let propose = |s: &mut Sequencer| s.handle_proposal(&actor(tab), &proposal, now);
                let outcomes = (propose(&mut sequencer), propose(&mut twin));
                if is_numbered {
                    last[tab] = Some(proposal);
                }
                outcomes
            }
        };
        assert_eq!(outcome, same, "a session that was started anew settles the same");
        let after = stored(&sequencer);
        assert_eq!(after, stored(&twin));
        match outcome {
            Outcome::Settled(mut update) => {
                // What is announced is kept beside the journal.
                update.announced.clear();
                let text = serde_json::to_string(&update).unwrap();
                assert_eq!(serde_json::from_str::<Settled>(&text).unwrap(), update);
                journal.push(update);
                snapshots.push(after.clone());
                let state = sequencer.plain();
                assert_eq!(state, with_totals(&state), "totals are those of the records");
                let plain = weight(&state) as u64;
                assert_eq!(sequencer.weight(), plain, "the weight is that of the state");
            }
            Outcome::Refused(_) | Outcome::Repeated(_) => {
                assert_eq!(without_clients(&after), without_clients(&before));
            }
        }
        before = after;
    }
    let end = without_clients(&stored(&sequencer));
    assert_eq!(snapshots.len() as u64 + first - 1, sequencer.seq());
    for (seq, snapshot) in snapshots.iter().enumerate() {
        let mut replayed = restored(&charter, snapshot);
        journal[seq..].iter().for_each(|update| replayed.replay(update).unwrap());
        assert_eq!(without_clients(&stored(&replayed)), end, "from the snapshot at {seq}");
    }
}

/// A state with its totals counted anew.
fn with_totals(state: &Value) -> Value {
    let barrels: Vec<&Value> = state["barrels"].as_object().unwrap().values().collect();
    let count = |field: &str| {
        let mut groups: BTreeMap<String, u64> = BTreeMap::new();
        for group in barrels.iter().filter_map(|barrel| barrel[field].as_str()) {
            *groups.entry(group.to_owned()).or_default() += 1;
        }
        groups
    };
    let mut state = state.clone();
    let by = count("by");
    let whole: u64 = by.values().sum();
    let told = state["parts"].as_object().unwrap();
    let sum: f64 = told.values().map(|part| part.as_f64().unwrap()).sum();
    assert!(whole == 0 || (sum - 100.0).abs() < 1e-9, "{told:?}");
    for (group, part) in told {
        let exact = by[group] as f64 * 100.0 / whole as f64;
        assert!((part.as_f64().unwrap() - exact).abs() < 0.1, "{told:?}");
    }
    assert!(told.keys().eq(by.keys()), "{told:?}");
    let steps = barrels.iter().flat_map(|barrel| barrel["steps"].as_array().unwrap());
    let crewed = steps.filter(|step| !step["value"]["crew"].is_null()).count();
    state["per-crew"] = json!(count("crew"));
    state["crewed-steps"] = crewed.into();
    state
}

/// Fewer than usual, since each of them is started anew at every step.
fn cases() -> ProptestConfig {
    let usual = ProptestConfig::default();
    ProptestConfig { cases: usual.cases * 3 / 8, ..usual }
}

proptest! {
    #![proptest_config(cases())]

    #[test]
    fn a_session_goes_on_as_it_would_have_from_any_snapshot_and_a_refusal_changes_nothing(
        rule in prop::sample::select(vec!["refuse", "cascade", "clear"]),
        steps in prop::collection::vec(step(), 1..70),
    ) {
        run(rule, steps);
    }
}
