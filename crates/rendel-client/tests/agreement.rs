//! Random participants over a slow, lossy, reordering world: all replicas agree at every `seq`.
//!
//! A failing case shrinks; proptest prints its seed and keeps it in
//! `agreement.proptest-regressions`.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use proptest::prelude::*;
use rendel_client::Replica;
use rendel_core::{
    Actor, Chance, Charter, Edit, Outcome, Problem, ProblemKind, Sequencer, Settled,
};
use rendel_wire::{
    ConnectionLimits, FromParticipant, FromService, OutcomeFrame, OutcomeOf, Propose, Refused,
    SessionHead, SettledFrame, Welcome, You,
};
use serde_json::{Value, json};
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "agreement"
version = 1
[state.heads]
kind = "counter"
min = -3
max = 6
[state.title]
kind = "register"
[state.ph]
kind = "register"
merge = "unchanged"
[state.opener]
kind = "register"
merge = "first"
[state.leading]
kind = "register"
merge = "max"
[state.names]
kind = "register"
merge = "all"
[state.rows]
kind = "set"
most = 3
[state.markers]
kind = "map"
most = 4
[state.markers.each.what]
kind = "register"
[state.markers.each.seen]
kind = "counter"
[state.notes]
kind = "text"
most = 40
[state.steps]
kind = "list"
most = 6
[state.steps.each.what]
kind = "register"
[state.steps.each.notes]
kind = "text"
[state.kept]
kind = "map"
drop-conflict = "revive"
[state.kept.each.what]
kind = "register"
[state.kept.each.inner]
kind = "map"
[state.kept.each.inner.each.note]
kind = "register"
merge = "unchanged"
[state.kept.each.notes]
kind = "text"
[state.seats]
kind = "seats"
count = 2
[state.turn]
kind = "turn"
seats = "/seats"
moves = 1
governs = ["/opener"]
[state.end]
kind = "deadline"
in = "1m"
[state.pace]
kind = "clock"
[[when]]
changes = "/end"
do = [{ at = "/pace", op = "start" }]
[state.bag]
kind = "random"
shuffles = ["/markers/*/what"]
[state.whats]
kind = "total"
from = "/markers"
share = true
by = "what"
[state.blend]
kind = "ballot"
choices = ["dry", "sweet"]
"#;

/// One participant: a replica, and what is on its way between it and the service.
struct Somebody {
    actor: Actor,
    replica: Replica,
    to_service: VecDeque<Propose>,
    from_service: VecDeque<FromService>,
    is_online: bool,
    /// The last proposal of this connection that was refused before the sequencer heard of it.
    refused: u64,
}

struct World {
    sequencer: Sequencer,
    journal: Vec<Settled>,
    people: Vec<Somebody>,
    /// The state after each update: the yardstick for replicas that are behind.
    states: Vec<Value>,
    /// The text that each typed into, by client and number.
    typed_into: BTreeMap<(Uuid, u64), (String, String)>,
    made: u64,
}

#[derive(Clone, Debug)]
enum Step {
    Propose(usize, Vec<Edit>),
    /// A splice of a text, at parts of 255 of what its author is shown.
    Type(usize, &'static str, u8, u8, String),
    /// An insert into the list or a move in it.
    Shift(usize, Option<u8>, u8),
    Arrive(usize),
    /// The oldest proposal is refused before the sequencer hears of it.
    RefuseEarly(usize),
    /// The oldest proposal comes too fast, and with it all behind it: they are sent again.
    TooFast(usize),
    Deliver(usize),
    Cut(usize),
    Return(usize),
    Restart,
}

impl World {
    fn new(people: usize) -> Self {
        let charter = Arc::new(Charter::parse(CHARTER).unwrap());
        let sequencer = Sequencer::open(charter, None).unwrap().with_chance(chance());
        let states = vec![sequencer.plain()];
        let people = (0..people).map(|index| {
            let client = Uuid::from_u128(index as u128 + 1);
            let actor = Actor::new(format!("p{index}"), "participant", client);
            let replica = Replica::new(client);
            Somebody {
                actor,
                replica,
                to_service: VecDeque::new(),
                from_service: VecDeque::new(),
                is_online: false,
                refused: 0,
            }
        });
        let mut world = Self {
            sequencer,
            journal: Vec::new(),
            people: people.collect(),
            states,
            typed_into: BTreeMap::new(),
            made: 0,
        };
        (0..world.people.len()).for_each(|index| world.come_back(index));
        world
    }

    /// An update that was settled just now goes to everybody.
    fn tell_all(&mut self, update: &Settled) {
        self.states.push(self.sequencer.plain());
        self.journal.push(update.clone());
        for somebody in self.people.iter_mut().filter(|somebody| somebody.is_online) {
            let frame = SettledFrame { updates: vec![update.clone()] };
            somebody.from_service.push_back(FromService::Settled(frame));
        }
    }

    /// What the session does by itself is told to all.
    fn act_in_time(&mut self) {
        let bind = self.sequencer.own_edits(&|_| true, 1);
        let mut acted = (!bind.is_empty()).then(|| self.sequencer.handle_act(bind, 1));
        loop {
            match acted.or_else(|| self.sequencer.handle_timeout(1 << 40)) {
                Some(Outcome::Settled(update)) => self.tell_all(&update),
                Some(other) => panic!("{other:?}"),
                None => return,
            }
            acted = None;
        }
    }

    fn step(&mut self, step: Step) {
        match step {
            Step::Propose(index, edits) => {
                self.people[index].replica.propose(edits, None, None);
                self.send(index);
            }
            Step::Type(index, at, place, delete, insert) => {
                self.type_in(index, at, place, delete, insert)
            }
            Step::Shift(index, which, to) => self.shift(index, which, to),
            Step::Arrive(index) => self.arrive(index),
            Step::RefuseEarly(index) => self.refuse_early(index),
            Step::TooFast(index) => self.take_back(index),
            Step::Deliver(index) => self.deliver(index),
            Step::Cut(index) => {
                let somebody = &mut self.people[index];
                somebody.is_online = false;
                somebody.to_service.clear();
                somebody.from_service.clear();
            }
            Step::Return(index) if !self.people[index].is_online => self.come_back(index),
            Step::Return(_) => {}
            Step::Restart => self.restart(),
        }
    }

    fn type_in(&mut self, index: usize, at: &str, place: u8, delete: u8, insert: String) {
        let somebody = &mut self.people[index];
        let Some(shown) = somebody.replica.view().and_then(|view| text_at(&view, at)) else {
            return;
        };
        let scaled = |part: u8, len: usize| (usize::from(part) * (len + 1)) / 256;
        let len = shown.chars().count();
        let place = scaled(place, len);
        let delete = scaled(delete, len - place);
        if delete == 0 && insert.is_empty() {
            return;
        }
        let expected: String = shown
            .chars()
            .take(place)
            .chain(insert.chars())
            .chain(shown.chars().skip(place + delete))
            .collect();
        let edit = Edit::new(at, "splice")
            .with("index", place)
            .with("delete", delete)
            .with("insert", insert);
        let n = somebody.replica.propose(vec![edit], None, None).unwrap();
        assert_eq!(
            text_at(&somebody.replica.view().unwrap(), at),
            Some(expected),
            "what is typed is shown where it was typed"
        );
        self.typed_into.insert((somebody.replica.client(), n), (at.to_owned(), shown));
        self.send(index);
    }

    fn shift(&mut self, index: usize, which: Option<u8>, to: u8) {
        let somebody = &mut self.people[index];
        let view = somebody.replica.view().unwrap();
        let ids: Vec<&str> = view["steps"]
            .as_array()
            .unwrap()
            .iter()
            .map(|step| step["id"].as_str().unwrap())
            .collect();
        let pick = |part: u8| (!ids.is_empty()).then(|| ids[(usize::from(part) * ids.len()) / 256]);
        let (which, after) = (which.and_then(pick), pick(to));
        let edit = match which {
            Some(which) if Some(which) == after => Edit::new(format!("/steps/{which}"), "remove"),
            Some(which) => Edit::new(format!("/steps/{which}"), "move").with("after", after),
            None => {
                self.made += 1;
                let value = json!({ "what": self.made, "notes": "" });
                Edit::new("/steps", "insert")
                    .with("id", format!("s{}", self.made))
                    .with("value", value)
                    .with("after", after)
            }
        };
        somebody.replica.propose(vec![edit], None, None).unwrap();
        self.send(index);
    }

    /// The text as the service reads it for a splice has the characters that its author was shown.
    fn check_view(&self, index: usize, frame: &Propose) {
        let (client, key) = (self.people[index].actor.client, self.people[index].actor.key());
        let Some((at, shown)) = self.typed_into.get(&(client, frame.n)) else { return };
        let (state, fields) = (self.sequencer.state(), &self.sequencer.charter().fields);
        let path = rendel_core::Path::parse(at).unwrap();
        // A splice that brings its record back is read in a text that is not there before it.
        let Some(Value::String(now)) = state.plain_at(fields, &path) else { return };
        for (place, one) in shown.chars().enumerate() {
            let anchored = state.anchored(fields, &path, frame.seen, key, place);
            let anchored = anchored
                .unwrap_or_else(|| panic!("{one:?} of {shown:?} is beyond the view of {frame:?}"));
            assert!(
                !anchored.is_there || now.chars().nth(anchored.index) == Some(one),
                "{place} of {shown:?} in {now:?}"
            );
        }
        let beyond = state.anchored(fields, &path, frame.seen, key, shown.chars().count());
        assert_eq!(beyond, None, "the service sees more than {shown:?}");
    }

    fn send(&mut self, index: usize) {
        let somebody = &mut self.people[index];
        while let Some(frame) = somebody.replica.poll_outgoing() {
            if let (true, FromParticipant::Propose(frame)) = (somebody.is_online, frame) {
                somebody.to_service.push_back(frame);
            }
        }
    }

    fn refuse_early(&mut self, index: usize) {
        let somebody = &mut self.people[index];
        let Some(frame) = somebody.to_service.pop_front() else { return };
        somebody.refused = frame.n;
        let problem = Problem::new(ProblemKind::Unavailable, "The database is away.");
        somebody.from_service.push_back(FromService::Refused(Refused { n: frame.n, problem }));
    }

    fn take_back(&mut self, index: usize) {
        let somebody = &mut self.people[index];
        let refused: Vec<_> = somebody.to_service.drain(..).collect();
        for frame in &refused {
            let problem = Problem::new(ProblemKind::TooFast, "Too fast.");
            somebody.replica.handle(FromService::Refused(Refused { n: frame.n, problem }));
        }
        let first = refused.first().map_or(u64::MAX, |frame| frame.n);
        somebody
            .to_service
            .extend(somebody.replica.unanswered().filter(|frame| frame.n >= first).cloned());
    }

    fn arrive(&mut self, index: usize) {
        let Some(frame) = self.people[index].to_service.pop_front() else { return };
        let (n, actor) = (frame.n, self.people[index].actor.clone());
        self.sequencer.note_refused(actor.key(), self.people[index].refused);
        let before = self.sequencer.clone();
        match self.sequencer.handle_proposal(&actor, &frame.clone().into(), 0) {
            Outcome::Settled(update) => {
                let after = std::mem::replace(&mut self.sequencer, before);
                self.check_view(index, &frame);
                self.sequencer = after;
                self.tell_all(&update);
                self.act_in_time();
            }
            Outcome::Refused(problem) => {
                // A replica never sends a splice that reaches beyond what the service reads it in.
                let is_splice = frame.edits.iter().all(|edit| edit.op == "splice");
                assert!(
                    !(is_splice && problem.kind() == ProblemKind::OutOfBounds),
                    "{problem}: {frame:?}"
                );
                self.people[index]
                    .from_service
                    .push_back(FromService::Refused(Refused { n, problem }));
            }
            Outcome::Repeated(outcome) => {
                let frame = OutcomeFrame { n, outcome: outcome.into() };
                self.people[index].from_service.push_back(FromService::Outcome(frame));
            }
        }
    }

    fn deliver(&mut self, index: usize) {
        let Some(frame) = self.people[index].from_service.pop_front() else { return };
        self.people[index].replica.handle(frame);
        self.send(index);
        self.check(index);
    }

    fn check(&self, index: usize) {
        let replica = &self.people[index].replica;
        let at = usize::try_from(replica.seq()).unwrap();
        assert_eq!(replica.confirmed(), Some(&self.states[at]), "replica {index} at {at}");
    }

    fn come_back(&mut self, index: usize) {
        let somebody = &mut self.people[index];
        let enter = somebody.replica.enter(None);
        let missed = enter.seen.map(|seen| self.journal[usize::try_from(seen).unwrap()..].to_vec());
        let outcomes = self.sequencer.outcomes(somebody.actor.key());
        let outcomes = outcomes
            .map(|(n, outcome)| OutcomeFrame { n, outcome: OutcomeOf::from(outcome.clone()) })
            .collect();
        let actor = &somebody.actor;
        let welcome: Welcome = Welcome {
            you: You {
                id: actor.id.clone(),
                name: actor.id.clone(),
                role: actor.role.clone(),
                hue: 0,
                client: actor.client,
            },
            session: SessionHead {
                id: "s".into(),
                charter: "agreement".into(),
                version: 1,
                status: "open".into(),
            },
            epoch: 1,
            audience: 0,
            seq: self.sequencer.seq(),
            state: missed.is_none().then(|| self.sequencer.plain()),
            updates: missed,
            yours: BTreeMap::new(),
            beside: vec![],
            fields: None,
            count: None,
            roster: vec![],
            presence: BTreeMap::new(),
            holds: vec![],
            token: None,
            limits: ConnectionLimits {
                frame: 65_536,
                edits: 256,
                proposals_per_second: 50,
                burst: 1_000,
                presence_lapses_ms: BTreeMap::new(),
                presence_per_second: 30,
            },
            outcomes,
            time: 0,
        };
        somebody.is_online = true;
        somebody.refused = 0;
        somebody.replica.handle(FromService::Welcome(Box::new(welcome)));
        while somebody.replica.poll_outgoing().is_some() {}
        somebody.to_service = somebody.replica.unanswered().cloned().collect();
        self.check(index);
    }

    /// The sequencer comes back from a snapshot that went through JSON, or from the whole journal;
    /// both are the same.
    fn restart(&mut self) {
        let charter = self.sequencer.charter().clone();
        let snapshot = serde_json::to_value(self.sequencer.snapshot()).unwrap();
        let restored =
            Sequencer::restore(charter.clone(), serde_json::from_value(snapshot.clone()).unwrap());
        let mut replayed = Sequencer::open(charter, None).unwrap();
        self.journal.iter().for_each(|update| replayed.replay(update).unwrap());
        let replayed = serde_json::to_value(replayed.snapshot()).unwrap();
        assert_eq!(
            snapshot["state"], replayed["state"],
            "the journal gives the same state, merge memory included"
        );
        self.sequencer = restored.with_chance(chance());
        self.act_in_time();
    }

    /// Everyone comes back and everything arrives.
    fn settle_down(&mut self) {
        for index in 0..self.people.len() {
            self.step(Step::Return(index));
        }
        // What waited is sent when what was before it is answered.
        while self
            .people
            .iter()
            .any(|somebody| !somebody.to_service.is_empty() || !somebody.from_service.is_empty())
        {
            for index in 0..self.people.len() {
                while !self.people[index].to_service.is_empty() {
                    self.arrive(index);
                }
            }
            for index in 0..self.people.len() {
                while !self.people[index].from_service.is_empty() {
                    self.deliver(index);
                }
            }
        }
        for index in 0..self.people.len() {
            let replica = &self.people[index].replica;
            assert_eq!((replica.seq(), replica.pending().count()), (self.sequencer.seq(), 0));
            assert_eq!(replica.view().as_ref(), replica.confirmed(), "nothing is pending any more");
        }
    }
}

fn chance() -> Option<Chance> {
    Some(Chance::new([7; 32]))
}

/// What rules of play make of edits.
fn act() -> impl Strategy<Value = Edit> {
    prop_oneof![
        prop::sample::select(vec!["sit", "stand", "accept"]).prop_map(|op| Edit::new("/seats", op)),
        prop::sample::select(vec!["p0", "p1"])
            .prop_map(|to| Edit::new("/seats", "offer").with("to", to)),
        prop::sample::select(vec!["advance", "reverse"]).prop_map(|op| Edit::new("/turn", op)),
        Just(Edit::new("/end", "set").with("in", "1h")),
        prop::sample::select(vec!["cancel", "start"]).prop_map(|op| Edit::new("/end", op)),
        prop::sample::select(vec!["start", "stop"]).prop_map(|op| Edit::new("/pace", op)),
        Just(Edit::new("/pace", "seek").with("to", 500)),
        Just(Edit::new("/bag", "roll").with("sides", 6)),
        Just(Edit::new("/bag", "shuffle").with("of", "/markers").with("field", "what")),
        prop::sample::select(vec!["dry", "sweet"])
            .prop_map(|choice| Edit::new("/blend", "cast").with("choices", json!([choice]))),
        Just(Edit::new("/blend", "withdraw")),
    ]
}

fn edit() -> impl Strategy<Value = Edit> {
    prop_oneof![6 => value_edit(), 1 => act()]
}

fn value_edit() -> impl Strategy<Value = Edit> {
    let id = prop::sample::select(vec!["a", "b", "c"]);
    let value =
        prop_oneof![Just(json!("dry")), Just(json!("sweet")), Just(json!(3)), Just(json!(7))];
    prop_oneof![
        (-2i64..4).prop_map(|by| Edit::new("/heads", "add").with("by", by)),
        (prop::sample::select(vec!["include", "exclude"]), 0..5u8)
            .prop_map(|(op, element)| Edit::new("/rows", op).with("value", element)),
        (
            prop::sample::select(vec!["/title", "/ph", "/opener", "/names", "/leading"]),
            value.clone()
        )
            .prop_map(|(at, value)| Edit::new(at, "set").with("value", value)),
        prop::sample::select(vec!["/title", "/ph", "/opener", "/names"])
            .prop_map(|at| Edit::new(at, "clear")),
        (prop::sample::select(vec!["/markers", "/kept"]), id.clone(), value.clone()).prop_map(
            |(at, id, value)| {
                let value = if at == "/kept" {
                    json!({ "what": value, "notes": "dry" })
                } else {
                    json!({ "what": value })
                };
                Edit::new(at, "put").with("id", id).with("value", value)
            }
        ),
        (prop::sample::select(vec!["/markers", "/kept"]), id.clone())
            .prop_map(|(at, id)| Edit::new(format!("{at}/{id}"), "drop")),
        (prop::sample::select(vec!["/markers", "/kept"]), id.clone(), value.clone()).prop_map(
            |(at, id, value)| Edit::new(format!("{at}/{id}/what"), "set").with("value", value)
        ),
        id.clone().prop_map(|id| Edit::new(format!("/markers/{id}/seen"), "add").with("by", 1)),
        (id.clone(), id.clone(), value.clone()).prop_map(|(id, inner, value)| Edit::new(
            format!("/kept/{id}/inner"),
            "put"
        )
        .with("id", inner)
        .with("value", json!({ "note": value }))),
        (id.clone(), id, value).prop_map(|(id, inner, value)| Edit::new(
            format!("/kept/{id}/inner/{inner}/note"),
            "set"
        )
        .with("value", value)),
    ]
}

fn text_at(state: &Value, at: &str) -> Option<String> {
    state.pointer(at).and_then(Value::as_str).map(str::to_owned)
}

fn step(people: usize) -> impl Strategy<Value = Step> {
    let text = prop_oneof![4 => "[a-z]{0,3}", 1 => Just("\u{1f34e}".to_owned())];
    let at = prop::sample::select(vec!["/notes", "/notes", "/notes", "/kept/a/notes"]);
    prop_oneof![
        8 => (0..people, at, any::<u8>(), prop_oneof![2 => Just(0), 1 => 0..90u8], text)
            .prop_map(|(who, at, place, delete, insert)| Step::Type(who, at, place, delete, insert)),
        3 => (0..people, prop::option::of(any::<u8>()), any::<u8>()).prop_map(|(who, which, to)| Step::Shift(who, which, to)),
        6 => (0..people, prop::collection::vec(edit(), 1..4)).prop_map(|(who, edits)| Step::Propose(who, edits)),
        6 => (0..people).prop_map(Step::Arrive),
        1 => (0..people).prop_map(Step::RefuseEarly),
        1 => (0..people).prop_map(Step::TooFast),
        8 => (0..people).prop_map(Step::Deliver),
        1 => (0..people).prop_map(Step::Cut),
        2 => (0..people).prop_map(Step::Return),
        1 => Just(Step::Restart),
    ]
}

#[test]
fn a_splice_into_a_record_that_was_dropped_unseen_brings_it_back_with_what_was_typed() {
    let mut world = World::new(2);
    let kept = json!({ "what": "dry", "notes": "dry" });
    world.step(Step::Propose(
        0,
        vec![Edit::new("/kept", "put").with("id", "a").with("value", kept)],
    ));
    [Step::Arrive(0), Step::Deliver(0), Step::Deliver(1)]
        .into_iter()
        .for_each(|step| world.step(step));
    world.step(Step::Type(1, "/kept/a/notes", 255, 0, "er".to_owned()));
    world.step(Step::Propose(0, vec![Edit::new("/kept/a", "drop")]));
    [Step::Arrive(0), Step::Arrive(1)].into_iter().for_each(|step| world.step(step));
    world.settle_down();
    assert_eq!(world.sequencer.plain()["kept"]["a"]["notes"], "dryer");
}

#[test]
fn what_is_typed_into_a_record_that_one_dropped_and_put_anew_waits_until_that_is_settled() {
    let mut world = World::new(1);
    let put = Edit::new("/kept", "put")
        .with("id", "a")
        .with("value", json!({ "what": "dry", "notes": "dry" }));
    world.step(Step::Propose(0, vec![put.clone()]));
    world.step(Step::Type(0, "/kept/a/notes", 0, 0, "a".to_owned()));
    world.step(Step::Propose(0, vec![Edit::new("/kept/a", "drop"), put]));
    world.step(Step::Type(0, "/kept/a/notes", 255, 0, "er".to_owned()));
    world.settle_down();
    assert_eq!(world.sequencer.plain()["kept"]["a"]["notes"], "dryer");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    #[test]
    fn replicas_agree_at_every_seq_whatever_is_late_lost_or_restarted(steps in prop::collection::vec(step(4), 1..120)) {
        let mut world = World::new(4);
        steps.into_iter().for_each(|step| world.step(step));
        world.settle_down();
        world.restart();
    }
}
