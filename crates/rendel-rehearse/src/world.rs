//! A world: one session, its journal, processes, connections and participants on one clock.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, BinaryHeap, VecDeque};
use std::sync::Arc;

use rendel_core::{Actor, Charter, ClientKey, Edit, Hold, Problem, ProblemKind, Proposal, Settled};
use rendel_session::{
    Answer, Ask, Entry, GateVerdict, Had, Heard as Frame, Input, Output, RefusalRow, Report,
    Session, Settings, Spacing, Standing, Status, UpdateRow, WayIn, digests,
};
use rendel_wire::{FromParticipant, LeftWhy, SessionHead};
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};
use uuid::Uuid;

use crate::chance::Chance;
use crate::host::{Host, Outlet, Told};
use crate::journal::Journal;
use crate::participant::{HIDDEN, Heard, Link, Participant, Whim};
use crate::plan::{Fault, Plan};

const CHARTER: &str = include_str!("charter.toml");
const ROLES: [&str; 7] = ["steward", "picker", "viewer", "picker", "steward", "stranger", "picker"];
/// The virtual time at which worlds begin.
const BEGIN: u64 = 1_800_000_000_000;
/// Once nothing goes wrong any more, everybody has everything within this.
const REST: u64 = 60_000;
/// Who has gone holds nothing after this.
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
        let rest = self.now + REST;
        for person in 0..self.people.len() {
            if self.people[person].link.is_none() {
                self.plan_in(10, Event::Connect { person });
            }
        }
        self.thaw()?;
        while self.planned.keys().next().is_some_and(|(at, _)| *at <= rest) {
            self.step()?;
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
            Event::Deliver { person, link, frames } => self.deliver(person, link, &frames),
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

    /// A process takes the session over.
    fn start(&mut self) -> Result<(), String> {
        let found = self.journal.take_over();
        let head = SessionHead {
            id: "south-slope".to_owned(),
            charter: "rehearsed".to_owned(),
            version: 1,
            status: String::new(),
        };
        let settings = Settings {
            snapshots: Spacing { updates: 40, bytes: 1 << 20 },
            digest_every: 25,
            digest_within: 5_000,
            connections_per_participant: 8,
        };
        let opening = Some(opening("begun"));
        let machine =
            Session::new(self.charter.clone(), head, opening, &found, settings, self.now)?;
        self.note(|| format!("a process owns epoch {} from {}", found.epoch, machine.shown()));
        self.hosts.push(Host::new(machine, found.epoch));
        Ok(())
    }

    fn feed(&mut self, host: usize, input: Input) -> Result<(), String> {
        let now = self.now;
        let Some(machine) = &mut self.hosts[host].machine else { return Ok(()) };
        machine.handle(now, input);
        self.drain(host)
    }

    fn drain(&mut self, host: usize) -> Result<(), String> {
        loop {
            let Some(machine) = &mut self.hosts[host].machine else { return Ok(()) };
            let outputs = machine.poll_outputs();
            if outputs.is_empty() {
                if machine.is_writing() {
                    break;
                }
                let Some(input) = self.hosts[host].mailbox.pop_front() else { break };
                self.take_in(host, input)?;
                continue;
            }
            for output in outputs {
                let bytes = serde_json::to_vec(&output).map_err(|error| error.to_string())?;
                self.hash.update(&bytes);
                self.carry_out(host, output)?;
            }
        }
        let due = self.hosts[host].machine.as_ref().and_then(Session::next_timeout);
        let planned = self.hosts[host].timeout;
        if let Some(due) =
            due.map(|due| due.max(self.now)).filter(|due| planned.is_none_or(|at| *due < at))
        {
            self.hosts[host].timeout = Some(due);
            // A process has other things to do as well.
            let late = if self.chance.one_in(4) { self.chance.within(0..300) } else { 0 };
            self.plan_in(due - self.now + late, Event::Timeout { host });
        }
        Ok(())
    }

    /// Frames and calls wait while an append is under way.
    fn arrive(&mut self, host: usize, input: Input) -> Result<(), String> {
        let Some(machine) = &self.hosts[host].machine else { return Ok(()) };
        if machine.is_writing() {
            self.hosts[host].mailbox.push_back(input);
            return Ok(());
        }
        self.take_in(host, input)?;
        self.drain(host)
    }

    fn take_in(&mut self, host: usize, input: Input) -> Result<(), String> {
        if let Input::Left { connection, .. } = &input {
            self.hosts[host].outlets.remove(connection);
        }
        let takes_hold = matches!(&input, Input::Frame { frame: Frame::Hold { .. }, .. });
        let now = self.now;
        let Some(machine) = &mut self.hosts[host].machine else { return Ok(()) };
        let mut lapsed = machine.holds();
        lapsed.retain(|hold| hold.until <= now);
        machine.handle(now, input);
        // Edits of whoever holds something prolong that while it lasts, and not after.
        let renewed = |was: &Hold| {
            let same = |hold: &Hold| hold.at == was.at && hold.by == was.by && hold.until > now;
            machine.holds().iter().any(same)
        };
        match lapsed.iter().find(|was| renewed(was)).filter(|_| !takes_hold) {
            Some(hold) => Err(format!("{hold:?} had lapsed, and goes on")),
            None => Ok(()),
        }
    }

    fn carry_out(&mut self, host: usize, output: Output) -> Result<(), String> {
        match output {
            Output::Append { append, epoch, updates, refusals } => {
                let slow = if self.is(Fault::SlowJournal, 10) { 3_000 } else { 12 };
                let wait = 1 + self.chance.within(0..slow);
                let rows = (updates, refusals);
                self.plan_in(wait, Event::Commit { host, epoch, append, rows });
            }
            Output::Recover => {
                let wait = 100 + self.chance.within(0..2_000);
                self.plan_in(wait, Event::Recover { host });
            }
            Output::Entered { connection, result } => {
                if let Err(problem) = result {
                    self.end(host, connection, &problem);
                }
            }
            Output::Show { to, shown } => {
                self.hosts[host].show(&to, shown.into_inner())?;
                let links: Vec<u64> = self.hosts[host].outlets.keys().copied().collect();
                for link in links {
                    self.write(host, link)?;
                }
            }
            Output::Close { connection, problem } => self.end(host, connection, &problem),
            Output::Answer { call, answer } => {
                if !self.hosts[host].calls.remove(&call) {
                    return Err(format!("call {call} was answered twice, or never made"));
                }
                self.check_answer(answer.as_ref().ok())?;
            }
            Output::AskGate { client, asked, .. } => {
                let n = asked.n;
                let verdict = match self.chance.below(4) {
                    0 => GateVerdict::Refuse(Problem::new(ProblemKind::NotAllowed, "Not so.")),
                    1 => {
                        GateVerdict::Replace(vec![Edit::new("/gated", "set").with("value", "seen")])
                    }
                    _ => GateVerdict::Accept,
                };
                if !matches!(verdict, GateVerdict::Refuse(_)) {
                    self.passed.insert((client, n));
                }
                let wait = 1 + self.chance.within(0..800);
                self.plan_in(
                    wait,
                    Event::Arrive { host, input: Input::GateAnswered { client, n, verdict } },
                );
            }
            Output::WriteStanding { call, by, standing } => {
                let is_written =
                    self.journal.set_standing(self.hosts[host].epoch, standing.clone());
                let result = match is_written {
                    true => Ok(()),
                    false => Err(rendel_session::moved()),
                };
                let input = Input::StandingWritten { call, by, standing, result };
                self.plan_in(2, Event::Arrive { host, input });
            }
            Output::Fetch { call, role, seq } => {
                let row = Ok(self.journal.update(seq).map(|(json, _)| json.clone()));
                self.plan_in(
                    2,
                    Event::Arrive { host, input: Input::Fetched { call, role, seq, row } },
                );
            }
            Output::Digest { seq, state } => {
                let digests = digests(&self.charter, &state);
                self.plan_in(1, Event::Arrive { host, input: Input::Digested { seq, digests } });
            }
            Output::Keep(snapshot) => self.journal.keep(self.hosts[host].epoch, &snapshot)?,
            Output::Report(Report::Differed { who, seq }) => {
                return Err(format!("the digest of a replica of {who} differed at {seq}"));
            }
            Output::Report(Report::Unpatched(why)) => {
                return Err(format!("an update could not be told as a patch: {why}"));
            }
            Output::Report(_) | Output::ForgetRefusals => {}
            Output::Stopped => self.stop(host)?,
        }
        Ok(())
    }

    /// A connection is ended by the service.
    fn end(&mut self, host: usize, link: u64, problem: &Problem) {
        let kind = problem.kind();
        if let Some(outlet) = self.hosts[host].outlets.get_mut(&link) {
            outlet.is_ended = true;
            let person = outlet.person;
            self.note(|| format!("connection {link} is ended as {}", kind.name()));
            self.plan_in(5, Event::Cut { person, link });
        }
    }

    /// Writes to a connection what waits for it, if nothing is being written.
    fn write(&mut self, host: usize, link: u64) -> Result<(), String> {
        let slow = self.plan.faults.contains(&Fault::SlowReaders) && !self.is_calm;
        let Some(outlet) = self.hosts[host].outlets.get_mut(&link).filter(|one| !one.is_busy)
        else {
            return Ok(());
        };
        let writing = outlet.take();
        if writing.frames.is_empty() && writing.behind.is_none() {
            return Ok(());
        }
        outlet.is_busy = true;
        let person = outlet.person;
        if let Some(seen) = writing.behind {
            self.note(|| format!("connection {link} fell behind at {seen:?}"));
            self.arrive(host, Input::Behind { connection: link, seen })?;
        }
        let is_slow = slow && person.is_multiple_of(4);
        let wait = 1 + self.chance.within(0..if is_slow { 4_000 } else { 60 });
        self.plan_in(wait, Event::Deliver { person, link, frames: writing.frames });
        self.plan_in(wait, Event::Free { host, link });
        Ok(())
    }

    fn connect(&mut self, person: usize) -> Result<(), String> {
        let Some(host) = self.host() else {
            self.plan_in(500, Event::Connect { person });
            return Ok(());
        };
        if self.people[person].link.is_some() {
            return Ok(());
        }
        if self.is(Fault::Roles, 4) {
            let role = ROLES[self.chance.below(ROLES.len())].to_owned();
            self.note(|| format!("{person} comes as {role}"));
            self.people[person].role = role;
        }
        let id = self.next;
        self.next += 1;
        let of = &mut self.people[person];
        of.handle_connected(Link { id, host, is_in: false });
        let who = Actor::new(of.id.clone(), of.role.clone(), of.replica.client());
        let enter = of.replica.enter(None);
        let had = enter.seen.zip(enter.epoch).zip(enter.audience);
        let had = had.map(|((seen, epoch), audience)| Had { seen, epoch, audience });
        let entry = Entry {
            connection: id,
            who,
            name: of.id.clone(),
            way: WayIn::Replica { had },
            presence: enter.presence,
            token: None,
        };
        let outlet = Outlet::new(person, of.id.clone(), of.replica.client());
        self.hosts[host].outlets.insert(id, outlet);
        self.note(|| format!("{person} connects as {id} with {had:?}"));
        let wait = 1 + self.chance.within(0..50);
        self.plan_in(wait, Event::Arrive { host, input: Input::Entered(Box::new(entry)) });
        if self.is(Fault::Cuts, 3) {
            let wait = self.chance.within(0..20_000);
            self.plan_in(wait, Event::Cut { person, link: id });
        }
        Ok(())
    }

    /// A connection is gone on both sides; whoever had it comes back.
    fn cut(&mut self, person: usize, link: u64, why: LeftWhy) -> Result<(), String> {
        let Some(gone) = self.people[person].link.filter(|known| known.id == link) else {
            return Ok(());
        };
        self.people[person].link = None;
        self.note(|| format!("connection {link} of {person} is gone"));
        let wait = 1 + self.chance.within(0..3_000);
        let input = Input::Left { connection: link, why };
        self.plan_in(wait, Event::Arrive { host: gone.host, input });
        let wait = 100 + self.chance.within(0..4_000);
        self.plan_in(wait, Event::Connect { person });
        Ok(())
    }

    fn deliver(&mut self, person: usize, link: u64, frames: &[Arc<Told>]) -> Result<(), String> {
        let Some(known) = self.people[person].link.filter(|known| known.id == link) else {
            return Ok(());
        };
        for told in frames {
            let Told { text, frame } = &**told;
            self.frames += 1;
            self.note(|| format!("{person} gets {}", short(text)));
            if self.people[person].role != "steward" && text.contains(HIDDEN) {
                return Err(format!("{person} was shown what is hidden: {text}"));
            }
            let outgoing = self.people[person].handle(frame.clone())?;
            self.send(person, known.host, link, outgoing);
            self.check_replica(person)?;
        }
        Ok(())
    }

    fn send(&mut self, person: usize, host: usize, link: u64, frames: Vec<FromParticipant>) {
        for frame in frames {
            let frame = match frame {
                FromParticipant::Propose(frame) => {
                    self.people[person].replica.note_sent(frame.n);
                    Frame::Propose(frame)
                }
                FromParticipant::Digest(digest) => {
                    Frame::Digest { seq: digest.seq, sha256: digest.sha256 }
                }
                FromParticipant::Presence(said) => Frame::Said(said),
                FromParticipant::Hold(hold) => {
                    Frame::Hold { n: hold.n, at: hold.at, for_ms: hold.for_ms, over: hold.over }
                }
                FromParticipant::Release(release) => {
                    Frame::Release { n: release.n, at: release.at }
                }
                FromParticipant::Cue(cue) => Frame::Cue(cue),
                _ => continue,
            };
            self.note(|| format!("{person} sends {frame:?}"));
            // What is sent arrives in order: everything takes as long.
            let input = Input::Frame { connection: link, frame };
            self.plan_in(20, Event::Arrive { host, input });
        }
    }

    fn act(&mut self, person: usize) -> Result<(), String> {
        if self.is_calm {
            return Ok(());
        }
        self.steps = self.steps.saturating_sub(1);
        let wait = self.chance.within(0..2 * 400 * self.people.len().max(1) as u64 / 4 + 1);
        self.plan_in(wait, Event::Act { person });
        match self.people[person].whim(&mut self.chance) {
            Whim::Rest => Ok(()),
            Whim::Leave => match self.people[person].link {
                Some(link) => self.cut(person, link.id, LeftWhy::Left),
                None => Ok(()),
            },
            Whim::Send(frames) => {
                if let Some(link) = self.people[person].link.filter(|link| link.is_in) {
                    self.send(person, link.host, link.id, frames);
                }
                Ok(())
            }
        }
    }

    fn commit(
        &mut self,
        host: usize,
        epoch: u64,
        append: u64,
        updates: &[UpdateRow],
        refusals: &[RefusalRow],
    ) -> Result<(), String> {
        let fails = self.is(Fault::LostAnswers, 60);
        let is_lost = self.is(Fault::LostAnswers, 60);
        let is_owner = match fails {
            true => true,
            false => self.journal.append(epoch, updates, refusals)?,
        };
        if is_owner && !fails {
            self.check_gates(updates)?;
        }
        let input = match (is_owner, fails || is_lost) {
            (false, _) => Input::Superseded,
            (true, true) => Input::JournalLost,
            (true, false) => Input::Written { append },
        };
        self.note(|| format!("append {append} of {} rows: {input:?}", updates.len()));
        self.feed(host, input)
    }

    fn recover(&mut self, host: usize) -> Result<(), String> {
        let Some(machine) = &self.hosts[host].machine else { return Ok(()) };
        // Only who is the owner still takes the session over again.
        if self.host() != Some(host) {
            return self.feed(host, Input::Superseded);
        }
        let shown = machine.shown();
        let mut found = self.journal.take_over();
        if found.snapshot.as_ref().is_some_and(|snapshot| snapshot.seq > shown) {
            found.unseen = Some(self.journal.after(shown));
        }
        self.hosts[host].epoch = found.epoch;
        self.feed(host, Input::JournalFound(Box::new(found)))
    }

    /// A process has ended: its connections are cut.
    fn stop(&mut self, host: usize) -> Result<(), String> {
        self.hosts[host].machine = None;
        self.hosts[host].calls.clear();
        let outlets = std::mem::take(&mut self.hosts[host].outlets);
        for (link, outlet) in outlets {
            self.plan_in(10, Event::Cut { person: outlet.person, link });
        }
        let wait = 200 + self.chance.within(0..3_000);
        self.plan_in(wait, Event::Start);
        Ok(())
    }

    /// Something goes wrong, or the backend does something.
    fn mishap(&mut self) -> Result<(), String> {
        if self.is_calm {
            return Ok(());
        }
        let wait = 200 + self.chance.within(0..3_000);
        self.plan_in(wait, Event::Mishap);
        let Some(host) = self.host() else { return Ok(()) };
        if self.is(Fault::Crashes, 30) {
            self.note(|| "the process is killed".to_owned());
            return self.stop(host);
        }
        if self.is(Fault::Crashes, 60) {
            self.note(|| "the process is told to stop".to_owned());
            return self.feed(host, Input::Stop);
        }
        if self.is(Fault::Rivals, 40) {
            return self.start();
        }
        if self.is(Fault::Cuts, 4) {
            let person = self.chance.below(self.people.len());
            if let Some(link) = self.people[person].link {
                return self.cut(person, link.id, LeftWhy::Lost);
            }
        }
        if self.is(Fault::Backend, 2) {
            self.call(host);
        }
        Ok(())
    }

    /// The backend calls.
    fn call(&mut self, host: usize) {
        let actor = Actor::new(Actor::SERVICE, Actor::SERVICE, self.chance.uuid());
        let by = Actor::SERVICE.to_owned();
        let ask = match self.chance.below(14) {
            0 => Ask::Reset { actor, opening: Some(opening("again")) },
            1 => Ask::Stand { by, standing: Status::Frozen.into() },
            2 => Ask::Stand {
                by,
                standing: Standing { status: Status::Frozen, except: vec!["steward".to_owned()] },
            },
            3..=6 => Ask::Stand { by, standing: Status::Open.into() },
            7 => Ask::Who,
            8 => {
                let role = ROLES[self.chance.below(ROLES.len())].to_owned();
                Ask::Read { role, path: None }
            }
            9 => Ask::BeginPatch { actor, n: 0, if_match: None },
            _ => {
                let edit = Edit::new("/gated", "set").with("value", "backend");
                // The same key twice is the same call.
                let client = Uuid::from_u128(u128::from(self.chance.within(1..4)));
                let actor = Actor::new(Actor::SERVICE, Actor::SERVICE, client);
                Ask::Propose { actor, proposal: Proposal::new(1, None, vec![edit]) }
            }
        };
        let call = self.next;
        self.next += 1;
        self.hosts[host].calls.insert(call);
        self.plan_in(1, Event::Arrive { host, input: Input::Call { call, ask } });
    }

    fn thaw(&mut self) -> Result<(), String> {
        let Some(host) = self.host() else { return Ok(()) };
        let call = self.next;
        self.next += 1;
        self.hosts[host].calls.insert(call);
        let ask = Ask::Stand { by: Actor::SERVICE.to_owned(), standing: Status::Open.into() };
        self.plan_in(3_500, Event::Arrive { host, input: Input::Call { call, ask } });
        Ok(())
    }

    /// What a replica holds is what the journal says.
    fn check_replica(&self, person: usize) -> Result<(), String> {
        let of = &self.people[person];
        let (Some(ours), seq) = (of.replica.confirmed(), of.replica.seq()) else { return Ok(()) };
        let audience = of.replica.enter(None).audience.unwrap_or_default();
        match self.journal.truth(seq, audience) {
            Some(truth) if truth == ours => Ok(()),
            Some(_) => Err(format!(
                "{person} ({}) holds something else at {seq} than the journal says: {ours}",
                of.role
            )),
            None => Err(format!(
                "{person} was shown update {seq}, and the journal has {}",
                self.journal.seq()
            )),
        }
    }

    fn check_answer(&self, answer: Option<&Answer>) -> Result<(), String> {
        let (seq, json) = match answer {
            Some(Answer::Settled { seq, json }) => (*seq, json.get().clone()),
            Some(Answer::Reading { seq, .. }) => (*seq, None),
            _ => return Ok(()),
        };
        if seq > self.journal.seq() {
            return Err(format!(
                "a call was told of {seq}, and the journal has {}",
                self.journal.seq()
            ));
        }
        let written = self.journal.update(seq).map(|(json, _)| json);
        match json {
            Some(json) if written != Some(&json) => {
                Err(format!("a call was told another update {seq}: {json}"))
            }
            _ => Ok(()),
        }
    }

    /// Nothing of participants comes past a gate.
    fn check_gates(&self, updates: &[UpdateRow]) -> Result<(), String> {
        for row in updates {
            let Ok(update) = serde_json::from_str::<Settled>(&row.body) else { continue };
            let is_about = update.effects.iter().any(|effect| effect.at.to_string() == "/gated");
            if is_about
                && update.by != Actor::SERVICE
                && !self.passed.contains(&(update.key(), update.n))
            {
                return Err(format!("update {} was not asked about at its gate", update.seq));
            }
        }
        Ok(())
    }

    /// Nothing has gone wrong for a while: everybody has everything.
    fn check_rest(&mut self) -> Result<(), String> {
        let Some(host) = self.host() else { return Err("no process owns the session".to_owned()) };
        if !self.hosts[host].calls.is_empty() {
            return Err(format!("calls without an answer: {:?}", self.hosts[host].calls));
        }
        let here: BTreeSet<&str> = self.people.iter().map(|of| of.id.as_str()).collect();
        for (person, of) in self.people.iter().enumerate() {
            let seq = self.journal.seq();
            if of.link.is_none_or(|link| !link.is_in) {
                return Err(format!("{person} is not connected"));
            }
            if of.replica.seq() != seq {
                return Err(format!(
                    "{person} is at {}, and the session at {seq}",
                    of.replica.seq()
                ));
            }
            if !of.open.is_empty() {
                return Err(format!("proposals of {person} have no outcome: {:?}", of.open));
            }
            let roster: BTreeSet<&str> =
                of.replica.roster().iter().map(|one| one.id.as_str()).collect();
            if roster != here {
                return Err(format!("{person} knows {roster:?}, and here are {here:?}"));
            }
            let key = ClientKey::of(&of.id, of.replica.client());
            for (n, heard) in &of.heard {
                let is_true = match heard {
                    Heard::Settled(seq) => self
                        .journal
                        .update(*seq)
                        .is_some_and(|(_, update)| (update.key(), update.n) == (key, *n)),
                    Heard::Refused | Heard::Moot => !self.journal.has(key, *n),
                };
                if !is_true {
                    return Err(format!("proposal {n} of {person} did not come to {heard:?}"));
                }
            }
        }
        Ok(())
    }

    /// Everybody goes: nothing is left of them.
    fn empty(&mut self) -> Result<Outcome, String> {
        let Some(host) = self.host() else { return Err("no process owns the session".to_owned()) };
        for person in 0..self.people.len() {
            if let Some(link) = self.people[person].link.take() {
                let why = if self.chance.one_in(2) { LeftWhy::Left } else { LeftWhy::Lost };
                let input = Input::Left { connection: link.id, why };
                self.arrive(link.host, input)?;
            }
        }
        let passed = self.now - BEGIN;
        let until = self.now + EMPTY;
        while self.planned.keys().next().is_some_and(|(at, _)| *at <= until) {
            self.step()?;
        }
        self.now = until;
        let machine = self.hosts[host].machine.as_mut().ok_or("the process has ended")?;
        machine.handle(self.now, Input::Call { call: 0, ask: Ask::Who });
        let answer = machine.poll_outputs().into_iter().find_map(|output| match output {
            Output::Answer { answer: Ok(Answer::Who(list)), .. } => Some(list),
            _ => None,
        });
        let list = answer.ok_or("nobody says who is here")?;
        if !list.participants.is_empty() || !list.holds.is_empty() || !machine.is_idle() {
            return Err(format!("of those who have gone there is left: {list:?}"));
        }
        Ok(Outcome {
            settled: self.journal.updates().count() as u64,
            frames: self.frames,
            passed,
            sha256: hex::encode(self.hash.clone().finalize()),
        })
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
