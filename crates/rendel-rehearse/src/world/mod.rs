//! A world: one session, its journal, processes, connections and participants on one clock.

mod checks;
mod people;
mod play;
mod service;
mod timing;

use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, BinaryHeap, VecDeque};
use std::sync::Arc;

use rendel_core::{Charter, ClientKey, ProblemKind};
use rendel_session::{Input, RefusalRow, UpdateRow};
use rendel_wire::LeftWhy;
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};

use crate::chance::Chance;
use crate::host::{Host, Told};
use crate::journal::{BEGIN, Journal};
use crate::participant::{Part, Participant};
use crate::plan::{Fault, Plan};

const CHARTER: &str = include_str!("../charter.toml");
const ROLES: [&str; 7] = ["steward", "picker", "viewer", "picker", "steward", "stranger", "picker"];
/// Those who follow by patches, by their roles.
const FOLLOWERS: [&str; 3] = ["steward", "picker", "viewer"];
/// How long it may take until an update has come to everybody, where nothing is wrong.
const ON_ITS_WAY: u64 = 3_000;
/// Once nothing goes wrong any more, everybody has everything within this.
const REST: u64 = 60_000;
/// After this nothing is left of those who went.
const EMPTY: u64 = 20 * 60_000;
/// Lines of what happened last that a failure tells.
const TRACE: usize = 200;

/// What came of a world in which nothing was wrong.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Outcome {
    /// Updates that were settled.
    pub settled: u64,
    /// Frames that reached somebody.
    pub frames: u64,
    /// Virtual milliseconds that passed until everything had come to rest.
    pub passed: u64,
    /// SHA-256 of all that the session wanted done, in order: the same for the same plan.
    pub sha256: String,
}

/// Something was wrong.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// What, and when.
    pub why: String,
    /// What happened before.
    pub trace: Vec<String>,
}

enum Event {
    Act {
        person: usize,
    },
    Connect {
        person: usize,
    },
    /// Over the network, to a process.
    Arrive {
        host: usize,
        input: Input,
    },
    /// Over the network, to a participant.
    Deliver {
        person: usize,
        link: u64,
        /// As what they took part when it left the service.
        part: Part,
        frames: Vec<Arc<Told>>,
    },
    /// A connection has written what it had.
    Free {
        host: usize,
        link: u64,
    },
    Cut {
        person: usize,
        link: u64,
    },
    Commit {
        host: usize,
        epoch: u64,
        append: u64,
        rows: (Vec<UpdateRow>, Vec<RefusalRow>),
    },
    Timeout {
        host: usize,
    },
    Recover {
        host: usize,
    },
    Start,
    Mishap,
}

struct World {
    plan: Plan,
    charter: Arc<Charter>,
    chance: Chance,
    now: u64,
    events: BinaryHeap<Reverse<(u64, u64)>>,
    planned: BTreeMap<(u64, u64), Event>,
    next: u64,
    journal: Journal,
    hosts: Vec<Host>,
    people: Vec<Participant>,
    /// Steps that are left, and whether things go wrong.
    steps: usize,
    is_calm: bool,
    /// Proposals that a gate let pass, with what it put in their place.
    passed: BTreeSet<(ClientKey, u64)>,
    /// The keys of calls that are open, and what the first call with each came to.
    keys: BTreeMap<u64, u64>,
    first: BTreeMap<u64, Result<u64, ProblemKind>>,
    frames: u64,
    hash: Sha256,
    trace: VecDeque<String>,
    is_traced: bool,
}

/// Runs a world to its end, and checks all the time that
///
/// * replicas at the same `seq` hold what the journal says, and nothing that it does not have;
/// * every proposal comes to one outcome, counts at most once and is answered;
/// * what is hidden from a role does not reach it;
/// * gates are asked; holds that lapsed are freed before they are taken anew;
/// * calls are answered once;
/// * and, once nothing goes wrong any more: that everybody has everything, knows who is here, and
///   that nothing is left of those who have gone.
pub fn rehearse(plan: &Plan) -> Result<Outcome, Failure> {
    World::of(plan).run().map_err(|_| {
        // The same once more, written down.
        let mut world = World { is_traced: true, ..World::of(plan) };
        let why = world.run().err().unwrap_or_else(|| "it failed once, and not again".to_owned());
        Failure {
            why: format!("at {} ms: {why}", world.now - BEGIN),
            trace: world.trace.into_iter().collect(),
        }
    })
}

impl World {
    fn of(plan: &Plan) -> Self {
        let charter = match Charter::parse(CHARTER) {
            Ok(charter) => Arc::new(charter),
            Err(faults) => panic!("the charter of the worlds has faults: {faults:?}"),
        };
        let journal = match Journal::of(charter.clone(), &opening("begun")) {
            Ok(journal) => journal,
            Err(problem) => panic!("the charter of the worlds does not open: {problem}"),
        };
        let mut chance = Chance::of(plan.seed);
        let person = |at: usize| {
            // Every third is another tab of the one before.
            let id = format!("p{}", if at % 3 == 2 { at - 1 } else { at });
            let role = ROLES[if at % 3 == 2 { at - 1 } else { at } % ROLES.len()];
            Participant::new(id, role, chance.uuid())
        };
        let people = (0..plan.participants).map(person).collect();
        Self {
            plan: plan.clone(),
            charter,
            chance,
            now: BEGIN,
            events: BinaryHeap::new(),
            planned: BTreeMap::new(),
            next: 1,
            journal,
            hosts: Vec::new(),
            people,
            steps: plan.steps,
            is_calm: false,
            passed: BTreeSet::new(),
            keys: BTreeMap::new(),
            first: BTreeMap::new(),
            frames: 0,
            hash: Sha256::new(),
            trace: VecDeque::new(),
            is_traced: false,
        }
    }

    fn run(&mut self) -> Result<Outcome, String> {
        self.start()?;
        for person in 0..self.people.len() {
            let after = self.chance.within(0..2_000);
            self.plan_in(after, Event::Connect { person });
            self.plan_in(after + 500, Event::Act { person });
        }
        self.plan_in(1_000, Event::Mishap);
        while self.steps > 0 {
            self.step()?;
        }
        self.is_calm = true;
        if self.host().is_none() {
            self.start()?;
        }
        // A process that writes nothing does not learn by itself that another one has taken over.
        for older in 0..self.hosts.len().saturating_sub(1) {
            self.feed(older, Input::Superseded)?;
        }
        let mut rest = self.now + REST;
        // One of them is lost for good: all others are to know.
        if let Some(last) = self.people.len().checked_sub(1).filter(|last| *last % 3 == 0) {
            if let Some(link) = self.people[last].link {
                self.cut(last, link.id, LeftWhy::Lost)?;
            }
            self.people[last].has_gone = true;
        }
        for person in 0..self.people.len() {
            if self.people[person].link.is_none() {
                self.plan_in(10, Event::Connect { person });
            }
        }
        self.thaw()?;
        loop {
            while self.planned.keys().next().is_some_and(|(at, _)| *at <= rest) {
                self.step()?;
            }
            // What the session did by itself a moment ago is still on its way.
            let last = self.journal.updates().last().map_or(0, |update| update.at);
            if last + ON_ITS_WAY <= rest {
                break;
            }
            rest += ON_ITS_WAY;
        }
        self.check_rest()?;
        self.empty()
    }

    fn is(&mut self, fault: Fault, once_in: u64) -> bool {
        self.plan.faults.contains(&fault) && !self.is_calm && self.chance.one_in(once_in)
    }

    fn plan_in(&mut self, wait: u64, event: Event) -> (u64, u64) {
        let at = (self.now + wait, self.next);
        self.next += 1;
        self.events.push(Reverse(at));
        self.planned.insert(at, event);
        at
    }

    fn note(&mut self, what: impl FnOnce() -> String) {
        if !self.is_traced {
            return;
        }
        if self.trace.len() == TRACE {
            self.trace.pop_front();
        }
        let at = self.now - BEGIN;
        self.trace.push_back(format!("{at:>9} {}", what()));
    }

    /// The process that participants come to.
    fn host(&self) -> Option<usize> {
        self.hosts.len().checked_sub(1).filter(|last| self.hosts[*last].machine.is_some())
    }

    fn step(&mut self) -> Result<(), String> {
        let Some(Reverse(at)) = self.events.pop() else {
            self.steps = 0;
            return Ok(());
        };
        let Some(event) = self.planned.remove(&at) else { return Ok(()) };
        self.now = at.0;
        match event {
            Event::Act { person } => self.act(person),
            Event::Connect { person } => self.connect(person),
            Event::Arrive { host, input } => self.arrive(host, input),
            Event::Deliver { person, link, part, frames } => {
                self.deliver(person, link, &part, &frames)
            }
            Event::Free { host, link } => {
                if let Some(outlet) = self.hosts[host].outlets.get_mut(&link) {
                    outlet.is_busy = false;
                }
                self.write(host, link)
            }
            Event::Cut { person, link } => self.cut(person, link, LeftWhy::Lost),
            Event::Commit { host, epoch, append, rows } => {
                self.commit(host, epoch, append, &rows.0, &rows.1)
            }
            Event::Timeout { host } => {
                self.hosts[host].timeout = None;
                self.feed(host, Input::Timeout)
            }
            Event::Recover { host } => self.recover(host),
            Event::Start => {
                if self.host().is_none() {
                    self.start()?;
                }
                Ok(())
            }
            Event::Mishap => self.mishap(),
        }
    }
}

/// What a session opens with: enough that a few updates are less to send than the state.
fn opening(title: &str) -> Value {
    json!({ "title": title, "book": "pressed on the second day ".repeat(200) })
}

/// The beginning of a frame.
fn short(text: &str) -> String {
    text.chars().take(160).collect()
}
