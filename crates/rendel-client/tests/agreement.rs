//! Random participants over a slow, lossy, reordering world: all replicas agree at every `seq`.
//!
//! A failing case shrinks; proptest prints its seed and keeps it in `agreement.proptest-regressions`.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::VecDeque;
use std::sync::Arc;

use proptest::prelude::*;
use rendel_client::Replica;
use rendel_core::{Actor, Charter, Edit, Outcome, Sequencer, Settled};
use rendel_wire::{
    ConnectionLimits, FromService, OutcomeFrame, OutcomeOf, Propose, Refused, SessionHead, SettledFrame, Welcome, You,
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
"#;

/// One participant: a replica, and what is on its way between it and the service.
struct Somebody {
    actor: Actor,
    replica: Replica,
    to_service: VecDeque<Propose>,
    from_service: VecDeque<FromService>,
    is_online: bool,
}

struct World {
    sequencer: Sequencer,
    journal: Vec<Settled>,
    people: Vec<Somebody>,
    /// The state after each update: the yardstick for replicas that are behind.
    states: Vec<Value>,
}

#[derive(Clone, Debug)]
enum Step {
    Propose(usize, Vec<Edit>),
    Arrive(usize),
    Deliver(usize),
    Cut(usize),
    Return(usize),
    Restart,
}

impl World {
    fn new(people: usize) -> Self {
        let charter = Arc::new(Charter::parse(CHARTER).unwrap());
        let sequencer = Sequencer::open(charter, None).unwrap();
        let states = vec![sequencer.plain()];
        let people = (0..people).map(|index| {
            let client = Uuid::from_u128(index as u128 + 1);
            let actor = Actor { id: format!("p{index}"), role: "participant".to_owned(), client };
            let replica = Replica::new(client);
            Somebody { actor, replica, to_service: VecDeque::new(), from_service: VecDeque::new(), is_online: false }
        });
        let mut world = Self { sequencer, journal: Vec::new(), people: people.collect(), states };
        (0..world.people.len()).for_each(|index| world.come_back(index));
        world
    }

    fn step(&mut self, step: Step) {
        match step {
            Step::Propose(index, edits) => {
                let somebody = &mut self.people[index];
                if let Some(frame) = somebody.replica.propose(edits, None, None)
                    && somebody.is_online
                {
                    somebody.to_service.push_back(frame);
                }
            }
            Step::Arrive(index) => self.arrive(index),
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

    fn arrive(&mut self, index: usize) {
        let Some(frame) = self.people[index].to_service.pop_front() else { return };
        let (n, actor) = (frame.n, self.people[index].actor.clone());
        match self.sequencer.handle_proposal(&actor, &frame.into(), 0) {
            Outcome::Settled(update) => {
                self.states.push(self.sequencer.plain());
                self.journal.push(update.clone());
                for somebody in self.people.iter_mut().filter(|somebody| somebody.is_online) {
                    let frame = SettledFrame { updates: vec![update.clone()] };
                    somebody.from_service.push_back(FromService::Settled(frame));
                }
            }
            Outcome::Refused(problem) => {
                self.people[index].from_service.push_back(FromService::Refused(Refused { n, problem }));
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
        let outcomes = self.sequencer.outcomes(somebody.actor.client);
        let outcomes =
            outcomes.map(|(n, outcome)| OutcomeFrame { n, outcome: OutcomeOf::from(outcome.clone()) }).collect();
        let actor = &somebody.actor;
        let welcome: Welcome = Welcome {
            you: You {
                id: actor.id.clone(),
                name: actor.id.clone(),
                role: actor.role.clone(),
                hue: 0,
                client: actor.client,
            },
            session: SessionHead { id: "s".into(), charter: "agreement".into(), version: 1, status: "open".into() },
            epoch: 1,
            seq: self.sequencer.seq(),
            state: missed.is_none().then(|| self.sequencer.plain()),
            updates: missed,
            roster: vec![],
            limits: ConnectionLimits { frame: 65_536, edits: 256, proposals_per_second: 50 },
            outcomes,
            time: 0,
        };
        somebody.is_online = true;
        somebody.replica.handle(FromService::Welcome(Box::new(welcome)));
        somebody.to_service = somebody.replica.unanswered().cloned().collect();
        self.check(index);
    }

    /// The sequencer comes back from a snapshot that went through JSON, or from the whole journal; both are the same.
    fn restart(&mut self) {
        let charter = self.sequencer.charter().clone();
        let snapshot = serde_json::to_value(self.sequencer.snapshot()).unwrap();
        let restored = Sequencer::restore(charter.clone(), serde_json::from_value(snapshot.clone()).unwrap());
        let mut replayed = Sequencer::open(charter, None).unwrap();
        self.journal.iter().for_each(|update| replayed.replay(update).unwrap());
        let replayed = serde_json::to_value(replayed.snapshot()).unwrap();
        assert_eq!(snapshot["state"], replayed["state"], "the journal gives the same state, merge memory included");
        self.sequencer = restored;
    }

    /// Everyone comes back and everything arrives.
    fn settle_down(&mut self) {
        for index in 0..self.people.len() {
            self.step(Step::Return(index));
        }
        for index in 0..self.people.len() {
            while !self.people[index].to_service.is_empty() {
                self.arrive(index);
            }
        }
        for index in 0..self.people.len() {
            while !self.people[index].from_service.is_empty() {
                self.deliver(index);
            }
            let replica = &self.people[index].replica;
            assert_eq!((replica.seq(), replica.unanswered().count()), (self.sequencer.seq(), 0));
            assert_eq!(replica.view().as_ref(), replica.confirmed(), "nothing is pending any more");
        }
    }
}

fn edit() -> impl Strategy<Value = Edit> {
    let id = prop::sample::select(vec!["a", "b", "c"]);
    let value = prop_oneof![Just(json!("dry")), Just(json!("sweet")), Just(json!(3)), Just(json!(7))];
    prop_oneof![
        (-2i64..4).prop_map(|by| Edit::new("/heads", "add").with("by", by)),
        (prop::sample::select(vec!["insert", "remove"]), 0..5u8)
            .prop_map(|(op, element)| Edit::new("/rows", op).with("value", element)),
        (prop::sample::select(vec!["/title", "/ph", "/opener", "/names", "/leading"]), value.clone())
            .prop_map(|(at, value)| Edit::new(at, "set").with("value", value)),
        prop::sample::select(vec!["/title", "/ph", "/opener", "/names"]).prop_map(|at| Edit::new(at, "clear")),
        (prop::sample::select(vec!["/markers", "/kept"]), id.clone(), value.clone())
            .prop_map(|(at, id, value)| Edit::new(at, "put").with("id", id).with("value", json!({ "what": value }))),
        (prop::sample::select(vec!["/markers", "/kept"]), id.clone())
            .prop_map(|(at, id)| Edit::new(format!("{at}/{id}"), "drop")),
        (prop::sample::select(vec!["/markers", "/kept"]), id.clone(), value.clone())
            .prop_map(|(at, id, value)| Edit::new(format!("{at}/{id}/what"), "set").with("value", value)),
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

fn step(people: usize) -> impl Strategy<Value = Step> {
    prop_oneof![
        6 => (0..people, prop::collection::vec(edit(), 1..4)).prop_map(|(who, edits)| Step::Propose(who, edits)),
        6 => (0..people).prop_map(Step::Arrive),
        8 => (0..people).prop_map(Step::Deliver),
        1 => (0..people).prop_map(Step::Cut),
        2 => (0..people).prop_map(Step::Return),
        1 => Just(Step::Restart),
    ]
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
