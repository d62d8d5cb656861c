//! Processes: what they take in and carry out, and what becomes of them.

use rendel_core::{Actor, Edit, Hold, Problem, ProblemKind, Proposal, Reader};
use rendel_session::{
    Ask, Content, Entry, GateVerdict, Heard, Input, Output, RefusalRow, Report, Session,
    SessionStatus, Settings, Spacing, Status, UpdateRow, WayIn, digests,
};
use rendel_wire::{LeftWhy, SessionHead};
use sha2::Digest as _;
use uuid::Uuid;

use super::{Event, FOLLOWERS, ROLES, World, opening};
use crate::follower::Follower;
use crate::host::Host;
use crate::participant::Part;
use crate::plan::Fault;

impl World {
    /// A process takes the session over.
    pub(super) fn start(&mut self) -> Result<(), String> {
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
        self.follow(self.hosts.len() - 1)
    }

    /// Some follow a session from its first moment on.
    fn follow(&mut self, host: usize) -> Result<(), String> {
        for role in FOLLOWERS {
            let (connection, id) = (self.next, format!("follows-as-{role}"));
            self.next += 1;
            let entry = Entry {
                connection,
                who: Actor::new(id.clone(), role, self.chance.uuid()),
                name: id.clone(),
                way: WayIn::Events { after: None, patches: true },
                presence: None,
                fields: false,
                token: None,
                seat: None,
            };
            self.hosts[host].followers.push(Follower::new(id, connection));
            self.feed(host, Input::Entered(Box::new(entry)))?;
        }
        Ok(())
    }

    pub(super) fn feed(&mut self, host: usize, input: Input) -> Result<(), String> {
        let now = self.now;
        let Some(machine) = &mut self.hosts[host].machine else { return Ok(()) };
        machine.handle(now, input);
        self.drain(host)
    }

    pub(super) fn drain(&mut self, host: usize) -> Result<(), String> {
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
    pub(super) fn arrive(&mut self, host: usize, input: Input) -> Result<(), String> {
        let Some(machine) = &self.hosts[host].machine else {
            // Nobody hears: whoever says something finds out.
            let link = match input {
                Input::Entered(entry) => entry.connection,
                Input::Frame { connection, .. } => connection,
                _ => return Ok(()),
            };
            let whose =
                |person: &usize| self.people[*person].link.is_some_and(|known| known.id == link);
            let whose = (0..self.people.len()).find(whose);
            return whose.map_or(Ok(()), |person| self.cut(person, link, LeftWhy::Lost));
        };
        if machine.is_writing() {
            self.hosts[host].mailbox.push_back(input);
            return Ok(());
        }
        self.take_in(host, input)?;
        self.drain(host)
    }

    pub(super) fn take_in(&mut self, host: usize, mut input: Input) -> Result<(), String> {
        if let Input::Left { connection, .. } = &input {
            self.hosts[host].outlets.remove(connection);
        }
        match &mut input {
            Input::Amended { connection, role, claims, .. } => {
                let outlet = self.hosts[host].outlets.get_mut(connection);
                let Some(outlet) = outlet else { return Ok(()) };
                let who = outlet.who.clone();
                let part = Part { role: role.clone(), claims: claims.clone() };
                // Claims count where something is seen by them.
                let is_other = match outlet.part.role == *role {
                    true => self.charter.sees_by_claims(role) && outlet.part != part,
                    false => true,
                };
                outlet.part = part.clone();
                if is_other {
                    outlet.drop_shown();
                }
                // It stands over what any of their tokens says.
                for of in self.people.iter_mut().filter(|of| of.id == who) {
                    of.part.clone_from(&part);
                    of.is_amended = true;
                }
                if !is_other {
                    return Ok(());
                }
                self.note(|| format!("{who} is {part:?} from now on"));
            }
            // What they are by now counts, and not what they were when they set out.
            Input::Entered(entry) => {
                if let Some(outlet) = self.hosts[host].outlets.get_mut(&entry.connection) {
                    outlet.part.clone_from(&self.people[outlet.person].part);
                    entry.who = outlet.part.actor(&entry.who.id, entry.who.client);
                }
            }
            _ => {}
        }
        let takes_hold = matches!(&input, Input::Frame { frame: Heard::Hold { .. }, .. });
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

    pub(super) fn carry_out(&mut self, host: usize, output: Output) -> Result<(), String> {
        match output {
            Output::Append { append, epoch, updates, refusals, wake: _ } => {
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
                let content = shown.into_inner();
                for follower in &mut self.hosts[host].followers {
                    follower.handle(&to, &content)?;
                }
                if matches!(content, Content::Begin { .. } | Content::Updates(_)) {
                    self.check_followers(host)?;
                }
                self.hosts[host].show(&to, content)?;
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
                self.check_answer(call, answer)?;
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
            Output::Fetch { call, reader, seq } => {
                let row = Ok(self.journal.update(seq).map(|(json, _)| json.clone()));
                self.plan_in(
                    2,
                    Event::Arrive { host, input: Input::Fetched { call, reader, seq, row } },
                );
            }
            Output::Digest { seq, state, viewers } => {
                let digests = digests(&self.charter, &state, &viewers);
                self.plan_in(1, Event::Arrive { host, input: Input::Digested { seq, digests } });
            }
            Output::Keep(snapshot) => self.journal.keep(self.hosts[host].epoch, &snapshot)?,
            Output::Report(Report::Differed { who, seq }) => {
                return Err(format!("the digest of a replica of {who} differed at {seq}"));
            }
            Output::Report(Report::Unpatched(why)) => {
                return Err(format!("an update could not be told as a patch: {why}"));
            }
            Output::Report(_)
            | Output::ForgetRefusals
            | Output::FreeSeats(_)
            | Output::NoteWake(_) => {}
            Output::Stopped => self.leave(host)?,
        }
        Ok(())
    }

    /// A connection is ended by the service.
    pub(super) fn end(&mut self, host: usize, link: u64, problem: &Problem) {
        let followers = &mut self.hosts[host].followers;
        if let Some(at) = followers.iter().position(|follower| follower.link == link) {
            followers.remove(at);
            let input = Input::Left { connection: link, why: LeftWhy::Lost };
            self.plan_in(5, Event::Arrive { host, input });
        }
        let kind = problem.kind();
        if let Some(outlet) = self.hosts[host].outlets.get_mut(&link) {
            outlet.is_ended = true;
            let person = outlet.person;
            self.note(|| format!("connection {link} is ended as {}", kind.name()));
            self.plan_in(5, Event::Cut { person, link });
        }
    }

    /// Writes to a connection what waits for it, if nothing is being written.
    pub(super) fn write(&mut self, host: usize, link: u64) -> Result<(), String> {
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
        let (person, part) = (outlet.person, outlet.part.clone());
        if let Some(seen) = writing.behind {
            self.note(|| format!("connection {link} fell behind at {seen:?}"));
            self.arrive(host, Input::Behind { connection: link, seen })?;
        }
        let is_slow = slow && person.is_multiple_of(4);
        let wait = 1 + self.chance.within(0..if is_slow { 4_000 } else { 60 });
        self.plan_in(wait, Event::Deliver { person, link, part, frames: writing.frames });
        self.plan_in(wait, Event::Free { host, link });
        Ok(())
    }

    pub(super) fn commit(
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

    pub(super) fn recover(&mut self, host: usize) -> Result<(), String> {
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

    /// A process is killed: its connections are cut.
    pub(super) fn kill(&mut self, host: usize) -> Result<(), String> {
        let outlets = std::mem::take(&mut self.hosts[host].outlets);
        for (link, outlet) in outlets {
            self.plan_in(10, Event::Cut { person: outlet.person, link });
        }
        self.leave(host)
    }

    /// A process has done with the session. Whom it did not end by name waits for it in vain.
    pub(super) fn leave(&mut self, host: usize) -> Result<(), String> {
        self.hosts[host].machine = None;
        self.hosts[host].calls.clear();
        for input in std::mem::take(&mut self.hosts[host].mailbox) {
            self.arrive(host, input)?;
        }
        let wait = 200 + self.chance.within(0..3_000);
        self.plan_in(wait, Event::Start);
        Ok(())
    }

    /// Something goes wrong, or the backend does something.
    pub(super) fn mishap(&mut self) -> Result<(), String> {
        if self.is_calm {
            return Ok(());
        }
        let wait = 200 + self.chance.within(0..3_000);
        self.plan_in(wait, Event::Mishap);
        let Some(host) = self.host() else { return Ok(()) };
        if self.is(Fault::Crashes, 30) {
            self.note(|| "the process is killed".to_owned());
            return self.kill(host);
        }
        if self.is(Fault::Crashes, 20) {
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
        if self.is(Fault::Amends, 3) {
            self.amend(host);
        }
        Ok(())
    }

    /// The backend gives somebody who is here another role, and other claims.
    fn amend(&mut self, host: usize) {
        let links: Vec<(u64, String)> =
            self.hosts[host].outlets.iter().map(|(link, of)| (*link, of.who.clone())).collect();
        if links.is_empty() {
            return;
        }
        let (_, name) = links[self.chance.below(links.len())].clone();
        let part = Part::any(&ROLES, &mut self.chance);
        for (connection, who) in links.into_iter().filter(|(_, who)| *who == name) {
            let (name, Part { role, claims }) = (who, part.clone());
            let input = Input::Amended { connection, name, role, claims };
            self.plan_in(1, Event::Arrive { host, input });
        }
    }

    /// The backend calls.
    pub(super) fn call(&mut self, host: usize) {
        let actor = Actor::new(Actor::SERVICE, Actor::SERVICE, self.chance.uuid());
        let by = Actor::SERVICE.to_owned();
        let ask = match self.chance.below(14) {
            0 => Ask::Reset { actor, n: 0, opening: Some(opening("again")) },
            1 => Ask::Stand { by, standing: Status::Frozen.into() },
            2 => Ask::Stand {
                by,
                standing: SessionStatus {
                    status: Status::Frozen,
                    except: vec!["steward".to_owned()],
                },
            },
            3..=6 => Ask::Stand { by, standing: Status::Open.into() },
            7 => Ask::Who,
            8 => {
                let role = ROLES[self.chance.below(ROLES.len())].to_owned();
                let actor = Actor::new("reads", role, self.chance.uuid());
                Ask::Read { reader: Reader::of(&actor), path: None }
            }
            9 => Ask::BeginPatch { actor, n: 0, if_match: None },
            _ => {
                // The same key twice is the same call, whatever has become of the state meanwhile.
                let key = self.chance.within(1..20);
                let edit = match key % 2 {
                    0 => Edit::new("/gated", "set").with("value", "backend"),
                    _ => Edit::new("/heads", "add").with("by", -30),
                };
                let client = Uuid::from_u128(u128::from(key));
                let actor = Actor::new(Actor::SERVICE, Actor::SERVICE, client);
                self.keys.insert(self.next, key);
                Ask::Propose { actor, proposal: Proposal::new(1, None, vec![edit]) }
            }
        };
        let call = self.next;
        self.next += 1;
        self.hosts[host].calls.insert(call);
        self.plan_in(1, Event::Arrive { host, input: Input::Call { call, ask } });
    }

    pub(super) fn thaw(&mut self) -> Result<(), String> {
        let Some(host) = self.host() else { return Ok(()) };
        let call = self.next;
        self.next += 1;
        self.hosts[host].calls.insert(call);
        let ask = Ask::Stand { by: Actor::SERVICE.to_owned(), standing: Status::Open.into() };
        self.plan_in(3_500, Event::Arrive { host, input: Input::Call { call, ask } });
        Ok(())
    }
}
