//! Cases are made by real runs: a sequencer, a replica that is recorded, and somebody else who
//! proposes directly.

use std::collections::VecDeque;
use std::sync::Arc;

use rendel_client::{Anchor, Replica};
use rendel_core::{Actor, Chance, Charter, ClientKey, Edit, Outcome, Proposal, Sequencer, Settled};
use rendel_wire::{FromParticipant, FromService, OutcomeFrame, Propose, Refused, SettledFrame};
use serde_json::{Value, json};
use uuid::Uuid;

pub(crate) const CLIENT: Uuid = Uuid::from_u128(0x018f_0000_0000_7000_8000_0000_0000_0001);
const OTHER: Uuid = Uuid::from_u128(0x018f_0000_0000_7000_8000_0000_0000_0002);

/// One case as it is being made.
pub(crate) struct Scenario {
    pub(crate) sequencer: Sequencer,
    pub(crate) replica: Replica,
    to_service: VecDeque<Propose>,
    to_replica: VecDeque<FromService>,
    anchors: Vec<(String, Anchor)>,
    journal: Vec<Settled>,
    steps: Vec<Value>,
    theirs: u64,
}

impl Scenario {
    pub(crate) fn open(state: &str, opening: Option<&Value>) -> Self {
        let charter = Charter::parse(&format!("charter = \"orchard\"\nversion = 1\n{state}"));
        let charter = charter.unwrap_or_else(|faults| panic!("{faults:?}"));
        let sequencer = Sequencer::open(Arc::new(charter), opening).unwrap();
        let mut sequencer = sequencer.with_chance(Some(Chance::new([7; 32])));
        let bind = sequencer.own_edits(&|_| true, 0);
        let bound = (!bind.is_empty()).then(|| sequencer.handle_act(bind, 0));
        let journal = match bound {
            Some(Outcome::Settled(update)) => vec![update],
            _ => Vec::new(),
        };
        let mut scenario = Self {
            replica: Replica::new(CLIENT),
            to_service: VecDeque::new(),
            to_replica: VecDeque::new(),
            anchors: Vec::new(),
            journal,
            steps: Vec::new(),
            theirs: 0,
            sequencer,
        };
        let state = scenario.sequencer.plain();
        scenario.welcome("state", &state);
        scenario
    }

    fn welcome(&mut self, member: &str, body: &Value) {
        let outcomes = self.sequencer.outcomes(ClientKey::of("oda", CLIENT));
        let outcomes: Vec<_> = outcomes
            .map(|(n, outcome)| OutcomeFrame { n, outcome: outcome.clone().into() })
            .collect();
        let welcome = json!({
            "type": "welcome",
            "you": { "id": "oda", "name": "Oda", "role": "participant", "hue": 10, "client": CLIENT },
            "session": { "id": "orchard", "charter": "orchard", "version": 1, "status": "open" },
            "epoch": 1, "seq": self.sequencer.seq(), member: body, "roster": [],
            "limits": { "frame": 65536, "edits": 256, "proposals_per_second": 50 }, "outcomes": outcomes, "time": 0,
        });
        self.receive(FromService::decode(welcome.to_string().as_bytes()).unwrap());
    }

    /// The connection is lost with all that was under way, and comes back with what was missed, or
    /// with a snapshot.
    pub(crate) fn come_back(&mut self, with_snapshot: bool) -> &mut Self {
        self.to_service.clear();
        self.to_replica.clear();
        if with_snapshot {
            let state = self.sequencer.plain();
            self.welcome("state", &state);
        } else {
            let seen = usize::try_from(self.replica.seq()).unwrap();
            let missed = json!(self.journal[seen..]);
            self.welcome("updates", &missed);
        }
        self.to_service = self.replica.unanswered().cloned().collect();
        let unanswered: Vec<Value> = self
            .to_service
            .iter()
            .map(|frame| {
                serde_json::from_str(&FromParticipant::Propose(frame.clone()).encode()).unwrap()
            })
            .collect();
        self.steps.push(json!({ "expect": { "unanswered": unanswered } }));
        self
    }

    fn sent(&mut self) -> Vec<Value> {
        let mut sent = Vec::new();
        while let Some(frame) = self.replica.poll_outgoing() {
            sent.push(serde_json::from_str(&frame.encode()).unwrap());
            if let FromParticipant::Propose(frame) = frame {
                self.to_service.push_back(frame);
            }
        }
        sent
    }

    fn receive(&mut self, frame: FromService) {
        let told: Value = serde_json::from_str(&frame.encode()).unwrap();
        self.replica.handle(frame);
        let sent = self.sent();
        self.steps.push(if sent.is_empty() {
            json!({ "receive": told })
        } else {
            json!({ "receive": told, "sends": sent })
        });
    }

    /// The replica's user proposes.
    pub(crate) fn me(&mut self, edits: Vec<Edit>) -> &mut Self {
        let told = json!(edits);
        self.replica.propose(edits, None, None).unwrap();
        let sent = self.sent().pop();
        self.steps.push(json!({ "propose": told, "sends": sent }));
        self
    }

    /// Somebody else proposes, having seen `seen`; gives whether it was settled.
    pub(crate) fn they(&mut self, seen: u64, edits: Vec<Edit>) -> Option<Settled> {
        self.theirs += 1;
        let answered = self.theirs - 1;
        let proposal = Proposal { answered, ..Proposal::new(self.theirs, Some(seen), edits) };
        let actor = Actor::new("tobin", "participant", OTHER);
        match self.sequencer.handle_proposal(&actor, &proposal, 0) {
            Outcome::Settled(update) => {
                self.journal.push(update.clone());
                self.to_replica.push_back(FromService::Settled(SettledFrame {
                    updates: vec![update.clone()],
                }));
                Some(update)
            }
            _ => None,
        }
    }

    /// The oldest proposal of the replica reaches the service.
    pub(crate) fn arrive(&mut self) -> Option<Outcome> {
        let frame = self.to_service.pop_front()?;
        let n = frame.n;
        let actor = Actor::new("oda", "participant", CLIENT);
        let outcome = self.sequencer.handle_proposal(&actor, &frame.into(), 0);
        if let Outcome::Settled(update) = &outcome {
            self.journal.push(update.clone());
        }
        self.to_replica.push_back(match outcome.clone() {
            Outcome::Settled(update) => {
                FromService::Settled(SettledFrame { updates: vec![update] })
            }
            Outcome::Refused(problem) => FromService::Refused(Refused { n, problem }),
            Outcome::Repeated(outcome) => {
                FromService::Outcome(OutcomeFrame { n, outcome: outcome.into() })
            }
        });
        Some(outcome)
    }

    /// The oldest frame of the service reaches the replica.
    pub(crate) fn deliver(&mut self) -> bool {
        let Some(frame) = self.to_replica.pop_front() else { return false };
        self.receive(frame);
        true
    }

    /// Everything arrives everywhere.
    pub(crate) fn settle(&mut self) -> &mut Self {
        while self.arrive().is_some() || self.deliver() {}
        assert_eq!(self.replica.confirmed(), Some(&self.sequencer.plain()));
        self
    }

    pub(crate) fn ask_for_digest(&mut self) -> &mut Self {
        self.receive(FromService::Digest(rendel_wire::DigestAsked { seq: self.replica.seq() }));
        self
    }

    pub(crate) fn anchor(
        &mut self,
        name: &str,
        at: &str,
        index: usize,
        is_left: bool,
    ) -> &mut Self {
        let anchor = self.replica.anchor(at, index, is_left);
        self.anchors.push((name.to_owned(), anchor));
        self.steps
            .push(json!({ "anchor": { "name": name, "at": at, "index": index, "left": is_left } }));
        self
    }

    /// Writes down what holds now.
    pub(crate) fn expect(&mut self) -> &mut Self {
        let replica = &self.replica;
        // The view is written down even where it equals the confirmed state: a replica may show
        // something stale.
        let mut expected = json!({
            "seq": replica.seq(), "confirmed": replica.confirmed(), "view": replica.view(),
            "pending": replica.pending().collect::<Vec<_>>(),
        });
        for (name, anchor) in &self.anchors {
            let (index, is_there) = replica.anchored(*anchor).unwrap();
            expected["anchors"][name] = json!({ "index": index, "there": is_there });
        }
        self.steps.push(json!({ "expect": expected }));
        self
    }

    pub(crate) fn case(&mut self, name: &str) -> Value {
        let digest = self.replica.digest();
        self.steps.push(json!({ "expect": { "digest": digest, "diverged": false } }));
        json!({ "name": name, "steps": self.steps })
    }
}
