//! Values that follow by themselves: totals, turns, deadlines that are pushed back, and what rules
//! add. Whatever caused an update, the effects alone lead to the live state, each derived value is
//! reported once, and the update ends.

#![allow(clippy::unwrap_used, reason = "a test that cannot continue has failed")]

use std::sync::Arc;

use proptest::prelude::*;
use rendel_core::{
    Actor, Chance, Charter, Edit, Outcome, Passage, Problem, ProblemKind, Proposal, Sequencer,
    Settled, Way, Whose,
};
use serde_json::{Value, json};
use uuid::Uuid;

const OPENED: u64 = 1_000_000;

/// A session, and what somebody has who follows only its journal.
struct Followed {
    live: Sequencer,
    journal: Sequencer,
}

impl Followed {
    fn open(source: &str) -> Self {
        let charter = Charter::parse(source).unwrap_or_else(|faults| panic!("{faults:#?}"));
        let charter = Arc::new(charter);
        let open = || {
            let session = Sequencer::open(charter.clone(), None).unwrap().with_opened(OPENED);
            session.with_chance(Some(Chance::new([7; 32])))
        };
        let mut followed = Self { live: open(), journal: open() };
        let first = followed.live.own_edits(&|_| true, OPENED);
        if !first.is_empty() {
            let outcome = followed.live.handle_act(first, OPENED);
            followed.take(outcome).unwrap();
        }
        followed
    }

    /// The journal holds what the session holds, and says each derived value once.
    fn take(&mut self, outcome: Outcome) -> Result<Settled, Problem> {
        let update = match outcome {
            Outcome::Settled(update) => update,
            Outcome::Refused(problem) => return Err(problem),
            Outcome::Repeated(_) => panic!("it has no number"),
        };
        let read = serde_json::from_str(&serde_json::to_string(&update).unwrap()).unwrap();
        self.journal.replay(&read).unwrap();
        assert_eq!(self.journal.plain(), self.live.plain(), "{update:#?}");
        let state = |sequencer: &Sequencer| serde_json::to_value(sequencer.state()).unwrap();
        assert_eq!(state(&self.journal), state(&self.live), "{update:#?}");
        // No edit sets a total. An edit may set a turn before something else changes it again.
        let is_total = |at: &str| at == "/sum" || at.starts_with("/by-row");
        let told: Vec<String> =
            update.effects.iter().map(|effect| json!(effect).to_string()).collect();
        let places: Vec<String> =
            update.effects.iter().map(|effect| effect.at.to_string()).collect();
        for (index, place) in places.iter().enumerate() {
            let is_again = match is_total(place) {
                true => places[..index].contains(place),
                false => place == "/turn" && told[..index].contains(&told[index]),
            };
            assert!(!is_again, "{place} twice in {update:#?}");
        }
        Ok(update)
    }

    fn propose(&mut self, who: &str, edits: Vec<Edit>, now: u64) -> Result<Settled, Problem> {
        let actor = Actor::new(who, "picker", Uuid::from_u128(1));
        let outcome = self.live.handle_proposal(&actor, &Proposal::new(0, None, edits), now);
        self.take(outcome)
    }

    fn pass(&mut self, who: &str, way: Way) -> Settled {
        let actor = Actor::new(who, "picker", Uuid::from_u128(1));
        let of = Whose::Participant;
        let passage = Passage { who: who.to_owned(), role: "picker".to_owned(), way, of };
        let outcome = self.live.handle_passage(&actor, &passage, OPENED);
        self.take(outcome).unwrap()
    }

    /// What the session does automatically up to a time.
    fn due(&mut self, now: u64) -> Vec<Settled> {
        let mut updates = Vec::new();
        for _ in 0..100 {
            let Some(outcome) = self.live.handle_timeout(now) else { return updates };
            updates.extend(self.take(outcome).ok());
        }
        panic!("there is no end of it: {updates:#?}");
    }

    fn at(&self, path: &str) -> Value {
        self.live.plain().pointer(path).cloned().unwrap_or_default()
    }
}

fn edit(text: &str) -> Edit {
    serde_json::from_str(&format!("{{{text}}}")).unwrap()
}

const POLL: &str = r#"
charter = "blend-vote"
version = 1
[roles.picker]
edit = ["/**"]
[state.blend]
kind = "ballot"
choices = ["dry", "mellow"]
[state.asked]
kind = "counter"
[[when]]
name = "again"
all-cast = "/blend"
do = [{ at = "/asked", op = "add", by = 1 }]
"#;

#[test]
fn a_rule_for_all_who_cast_runs_once_when_somebody_leaves() {
    let mut poll = Followed::open(POLL);
    for who in ["oda", "bram", "wren"] {
        poll.pass(who, Way::In);
    }
    poll.propose("oda", vec![edit(r#""at":"/blend","op":"cast","choices":["dry"]"#)], OPENED)
        .unwrap();
    assert!(poll.pass("bram", Way::Out).rules.is_empty(), "wren has not cast");
    let update = poll.pass("wren", Way::Out);
    assert_eq!(update.rules.iter().map(|mark| mark.rule.as_str()).collect::<Vec<_>>(), ["again"]);
    assert_eq!(poll.at("/asked"), 1);
}

#[test]
fn an_arrival_that_runs_too_many_rules_counts_without_them() {
    let rules: String = (0..60)
        .map(|n| format!("[[when]]\nname = \"r{n}\"\nchanges = \"/rows/*/n\"\ndo = [{{ at = \"/count\", op = \"add\", by = 1 }}]\n"))
        .collect();
    let puts: Vec<String> = (0..5)
        .map(|n| format!("{{ at = \"/rows\", op = \"put\", id = \"r{n}\", value = {{}} }}"))
        .collect();
    let source = format!(
        "charter = \"c\"\nversion = 1\n[roles.picker]\nedit = [\"/**\"]\n[state.count]\nkind = \"counter\"\n\
        [state.rows]\nkind = \"map\"\n[state.rows.each.n]\nkind = \"counter\"\n\
        [[when]]\nname = \"first\"\nenters = \"first\"\ndo = [{}]\n{rules}",
        puts.join(", ")
    );
    let mut session = Followed::open(&source);
    let update = session.pass("oda", Way::In);
    assert!(update.effects.is_empty() && update.passage.is_some(), "{update:?}");
    let [mark] = &update.rules[..] else { panic!("{:?}", update.rules) };
    assert_eq!(mark.failed.as_deref(), Some("One update carries out at most 256 rules."));
    assert_eq!(session.at("/rows"), json!({}));
    assert!(session.live.has_here("oda"));
}

const DICE: &str = r#"
charter = "windfall"
version = 1
[roles.picker]
edit = ["/**"]
[state.rows]
kind = "map"
[state.rows.each.n]
kind = "counter"
[state.sum]
kind = "total"
from = "/rows"
sum = "n"
[state.dice]
kind = "random"
[[when]]
name = "tax"
changes = "/dice"
if = "state.sum > 0"
do = [{ at = "/rows/a/n", op = "add", by = -1 }]
"#;

#[test]
fn a_total_is_told_as_it_is_after_a_draw_and_what_follows_from_it() {
    let mut game = Followed::open(DICE);
    game.propose("oda", vec![edit(r#""at":"/rows","op":"put","id":"a","value":{}"#)], OPENED)
        .unwrap();
    let roll = || edit(r#""at":"/dice","op":"roll","sides":6"#);
    let add = |by: i64| edit(&format!(r#""at":"/rows/a/n","op":"add","by":{by}"#));
    let update = game.propose("oda", vec![add(1), roll()], OPENED).unwrap();
    assert_eq!((game.at("/sum"), game.at("/rows/a/n")), (json!(0), json!(0)), "{update:?}");
    game.propose("oda", vec![add(5), roll()], OPENED).unwrap();
    assert_eq!(game.at("/sum"), 4);
}

const LATE: &str = r#"
charter = "windfall"
version = 1
[roles.picker]
edit = ["/**"]
[state.seats]
kind = "seats"
names = ["east", "west"]
needed = 2
[state.moves]
kind = "counter"
[state.turn]
kind = "turn"
seats = "/seats"
governs = ["/moves"]
moves = 1
time = "30s"
late = "rule"
[[when]]
changes = "/moves"
do = [{ at = "/turn", op = "advance", to = "east" }]
"#;

#[test]
fn a_turn_that_a_move_and_a_rule_change_is_told_once() {
    let mut game = Followed::open(LATE);
    for (who, seat) in [("oda", "east"), ("bram", "west")] {
        let sit = edit(&format!(r#""at":"/seats","op":"sit","seat":"{seat}""#));
        game.propose(who, vec![sit], OPENED).unwrap();
    }
    let update = game.propose("oda", vec![edit(r#""at":"/moves","op":"add","by":1"#)], OPENED + 5);
    let turns =
        update.unwrap().effects.iter().filter(|effect| effect.at.to_string() == "/turn").count();
    assert_eq!(turns, 1);
    assert_eq!(
        (game.at("/turn/seat"), game.at("/turn/due")),
        (json!("east"), json!(OPENED + 30_005))
    );
}

const GUARDED: &str = r#"
charter = "pressing"
version = 1
[roles.picker]
edit = ["/**"]
[state.rows]
kind = "map"
[state.rows.each.litres]
kind = "counter"
[state.sum]
kind = "total"
from = "/rows"
sum = "litres"
[state.end]
kind = "deadline"
in = "10s"
[[when]]
name = "rest"
fires = "/end"
do = [{ at = "/rows/a/litres", op = "add", by = 50 }]
announce = "rest.added"
[[when]]
name = "welcome"
enters = "first"
do = [{ at = "/rows/a/litres", op = "add", by = 50 }]
[[guards]]
at = "/sum"
rule = "new <= 10"
says = "The press holds 10 litres."
"#;

#[test]
fn a_guard_on_a_total_is_asked_whatever_set_the_rule_off() {
    let mut session = Followed::open(GUARDED);
    session.due(OPENED);
    let put = edit(r#""at":"/rows","op":"put","id":"a","value":{"litres":4}"#);
    session.propose("oda", vec![put], OPENED).unwrap();
    let more = edit(r#""at":"/rows/a/litres","op":"add","by":7"#);
    let refused = session.propose("oda", vec![more], OPENED).unwrap_err();
    assert_eq!(refused.kind(), ProblemKind::Guard);
    let update = session.pass("oda", Way::In);
    assert_eq!(update.rules[0].failed.as_deref(), Some("The press holds 10 litres."));
    let fired = session.due(OPENED + 20_000);
    assert!(fired.iter().all(|update| update.announced.is_empty()), "{fired:?}");
    assert!(!session.at("/end/fired").is_null());
    assert_eq!((session.at("/sum"), session.at("/rows/a/litres")), (json!(4), json!(4)));
}

/// Rules with every cause, totals that they change, and guards on those totals. With seats a turn
/// passes with each move; without them everybody in the session may cast.
fn world(has_seats: bool) -> String {
    let seats = r#"
[state.seats]
kind = "seats"
names = ["east", "west"]
[state.turn]
kind = "turn"
seats = "/seats"
governs = ["/moves"]
moves = 2
time = "1s"
late = "pass"
[[when]]
seated = true
do = [{ at = "/log", op = "insert", value = "seated" }]
[[when]]
changes = "/moves"
if = "new == 3 || new == 6"
do = [{ at = "/turn", op = "reverse" }, { at = "/turn", op = "advance" }]
[[when]]
fires = "/turn"
do = [{ at = "/rows/a/n", op = "add", by = 2 }]
"#;
    let world = r#"
charter = "world"
version = 1
[roles.picker]
edit = ["/**"]
[state.rows]
kind = "map"
[state.rows.each.n]
kind = "counter"
[state.rows.each.row]
kind = "register"
[state.sum]
kind = "total"
from = "/rows"
sum = "n"
[state.by-row]
kind = "total"
from = "/rows"
count = true
by = "row"
[state.moves]
kind = "counter"
[state.dice]
kind = "random"
shuffles = ["/rows/*/row"]
[state.log]
kind = "list"
append-only = true
keep = 5
[state.end]
kind = "deadline"
in = "1s"
extend = { by = "500ms", within = "1s", when = "/moves" }
[state.blend]
kind = "ballot"
choices = ["dry", "mellow"]
sealed = true
[[when]]
changes = "/dice"
do = [{ at = "/rows/a/n", op = "add", by = -1 }]
[[when]]
changes = "/rows/*/row"
if = "new != old"
do = [{ at = "/rows/b/n", op = "add", by = 1 }]
[[when]]
fires = "/end"
do = [{ at = "/rows/b/n", op = "add", by = 3 }, { at = "/end", op = "set", in = "200ms" }]
[[when]]
enters = "first"
do = [{ at = "/rows/{who.id}/n", op = "add", by = 1 }]
[[when]]
leaves = "last"
do = [{ at = "/rows/{who.id}", op = "drop" }]
[[when]]
all-cast = "/blend"
do = [{ at = "/log", op = "insert", value = "all" }]
[[guards]]
at = "/sum"
rule = "new <= 12"
says = "At most 12."
[[guards]]
at = "/end"
rule = "state.moves < 9"
says = "No more time after nine moves."
"#;
    if has_seats { format!("{world}{seats}") } else { world.to_owned() }
}

#[derive(Clone, Debug)]
enum Step {
    Propose(usize, Vec<Edit>),
    Pass(usize, Way),
    Wait(u64),
}

const PEOPLE: [&str; 3] = ["oda", "bram", "wren"];

fn step() -> impl Strategy<Value = Step> {
    let edits = prop::sample::select(vec![
        r#""at":"/rows","op":"put","id":"a","value":{"row":"r1"}"#,
        r#""at":"/rows","op":"put","id":"b","value":{"row":"r2"}"#,
        r#""at":"/rows","op":"put","id":"oda","value":{"n":1}"#,
        r#""at":"/rows/a","op":"drop""#,
        r#""at":"/rows/a/n","op":"add","by":1"#,
        r#""at":"/rows/b/n","op":"add","by":-2"#,
        r#""at":"/rows/a/row","op":"set","value":"r2""#,
        r#""at":"/rows/b/row","op":"clear""#,
        r#""at":"/moves","op":"add","by":1"#,
        r#""at":"/turn","op":"advance""#,
        r#""at":"/end","op":"extend","by":"1s""#,
        r#""at":"/end","op":"cancel""#,
        r#""at":"/blend","op":"cast","choices":["dry"]"#,
        r#""at":"/blend","op":"withdraw""#,
        r#""at":"/blend","op":"cast","choices":["dry"],"round":2"#,
        r#""at":"/seats","op":"sit""#,
        r#""at":"/seats","op":"stand""#,
        r#""at":"","op":"undo""#,
    ]);
    let draw = prop::option::weighted(
        0.3,
        prop::sample::select(vec![
            r#""at":"/dice","op":"roll","sides":6"#,
            r#""at":"/dice","op":"shuffle","of":"/rows","field":"row""#,
        ]),
    );
    let edits = (prop::collection::vec(edits, 0..4), draw)
        .prop_map(|(edits, draw)| edits.into_iter().chain(draw).map(edit).collect());
    prop_oneof![
        12 => (0..PEOPLE.len(), edits).prop_map(|(who, edits)| Step::Propose(who, edits)),
        3 => (0..PEOPLE.len(), prop::sample::select(vec![Way::In, Way::Out]))
            .prop_map(|(who, way)| Step::Pass(who, way)),
        2 => (1..2_000u64).prop_map(Step::Wait),
    ]
}

proptest! {
    #[test]
    fn the_effects_alone_lead_to_the_live_state(
        has_seats in any::<bool>(),
        steps in prop::collection::vec(step(), 1..60),
    ) {
        let mut world = Followed::open(&world(has_seats));
        let mut now = OPENED;
        for step in steps {
            match step {
                // A refusal is as good: what is asked for may not be possible.
                Step::Propose(who, edits) => drop(world.propose(PEOPLE[who], edits, now)),
                Step::Pass(who, way) => {
                    let is_here = world.live.has_here(PEOPLE[who]);
                    if is_here == (way == Way::Out) {
                        world.pass(PEOPLE[who], way);
                    }
                }
                Step::Wait(ms) => now += ms,
            }
            world.due(now);
            prop_assert!(world.at("/sum").as_i64().is_some_and(|sum| sum <= 12));
        }
    }
}
