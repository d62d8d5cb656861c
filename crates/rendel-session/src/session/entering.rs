//! Who comes and goes, and what they tell of themselves.

use std::collections::{BTreeMap, BTreeSet};

use rendel_core::{
    Actor, Charter, Fact, Facts, Path, Problem, ProblemKind, RosterSight, Teller, Viewer, Way,
    placed,
};
use rendel_wire::{
    AnswerFrame, ConnectionLimits, LeftWhy, Notice, OutcomeFrame, Roster, Said, SendCue, Welcome,
    You,
};

use serde_json::Value;

use super::Session;
use crate::audiences::Word;
use crate::input::{ConnectionId, Entry, Had, Status, WayIn};
use crate::members::Member;
use crate::order::Waiting;
use crate::output::{Output, Report};
use crate::problems::{ended, nothing_at, unavailable};

/// Somebody who waits for a welcome.
#[derive(Debug)]
pub(super) struct Arrival {
    connection: ConnectionId,
    had: Option<Had>,
    /// What they tell of themselves from the first moment on.
    presence: Option<Facts>,
}

impl Arrival {
    pub(super) fn is_of(&self, connection: ConnectionId) -> bool {
        self.connection == connection
    }
}

impl Session {
    pub(super) fn enter(&mut self, mut entry: Entry) {
        let connection = entry.connection;
        let result = self.admit(&mut entry);
        let may_enter = result.is_ok();
        self.outputs.push(Output::Entered { connection, result });
        if !may_enter {
            return;
        }
        let (way, presence) = (entry.way, entry.presence.take());
        self.seating.is_due = true;
        self.note_connection(&entry.who, Way::In);
        if let Some(seat) = entry.seat.take() {
            self.seating.promised.insert(entry.who.id.clone(), seat);
        }
        let audience = self.audiences.of_role(&entry.who.role);
        let number = self.audiences.number(audience, &Viewer::of(&entry.who));
        // A client that comes back before its old connection was missed takes its place.
        for old in self.members.add(entry, audience) {
            let detail = "The same client has entered again over another connection.";
            let problem = Problem::new(ProblemKind::Gone, detail);
            self.outputs.push(Output::Close { connection: old, problem });
            self.leave(old, LeftWhy::Lost);
        }
        let had = match way {
            WayIn::Replica { had } => had.filter(|had| had.audience == number),
            WayIn::Events { .. } | WayIn::Queries => None,
        };
        self.arrivals.push(Arrival { connection, had, presence });
    }

    fn admit(&mut self, entry: &mut Entry) -> Result<(), Problem> {
        if self.order.is_adrift() || self.is_stopping {
            return Err(unavailable());
        }
        if self.standing.status == Status::Ended {
            return Err(ended());
        }
        let seq = self.order.seq();
        if let WayIn::Events { after: Some(after), .. } = entry.way
            && after > seq
        {
            let detail = format!("The session is at {seq}, not yet at {after}.");
            return Err(Problem::new(ProblemKind::FromTheFuture, detail).with("seq", seq));
        }
        let Actor { id, role, .. } = entry.who.clone();
        let person = crate::input::Person { id, name: entry.name.clone(), role };
        self.people.enter(&person, self.settings.connections_per_participant)
    }

    /// Somebody is somebody else from now on: a connection goes on under another name or role, with
    /// all that it may see then.
    pub(super) fn amend(
        &mut self,
        connection: ConnectionId,
        name: &str,
        role: &str,
        claims: BTreeMap<String, Value>,
    ) {
        let audience = self.audiences.of_role(role);
        let Some(before) = self.members.amend(connection, name, role, audience) else {
            return self.renew(connection, claims);
        };
        self.members.renew(connection, claims);
        if !self.members.has_follower(before) {
            self.audiences.stop_following(before);
        }
        if let Some(id) = self.members.get(connection).map(|member| member.who.id.clone()) {
            self.people.amend(&id, name, role);
            self.note_role(&id);
            self.note_undoable(&id);
        }
        self.catch_up(connection, None);
        // What they told while nobody was to hear of them.
        if self.may_tell(connection)
            && let Some(arrival) = self.arrivals.last_mut()
            && arrival.connection == connection
            && let Some(kept) = self.said_meanwhile.remove(&connection)
        {
            arrival.presence = Some(kept.into_iter().flat_map(|said| said.set).collect());
        }
    }

    /// A connection goes on with other claims, with all that they let it see.
    pub(super) fn renew(&mut self, connection: ConnectionId, claims: BTreeMap<String, Value>) {
        let number = |this: &Self| {
            let member = this.members.get(connection)?;
            Some(this.audiences.number(member.audience, &member.viewer))
        };
        let before = number(self);
        let is_other = |member: &Member| member.who.claims != claims;
        let is_other = self.members.get(connection).is_some_and(is_other);
        self.members.renew(connection, claims);
        if number(self) != before {
            self.catch_up(connection, None);
        } else if is_other {
            // What they ask for may go by their claims, where what they see does not.
            self.follow_again(connection);
        }
    }

    /// Whether others hear what somebody tells of themselves.
    fn may_tell(&self, connection: ConnectionId) -> bool {
        let sight = |member: &Member| self.charter.roster_sight(&member.who.role);
        self.members.get(connection).map(sight) == Some(RosterSight::Names)
    }

    /// What was told while the journal was away is told now.
    pub(super) fn say_what_was_kept(&mut self) {
        for (connection, kept) in std::mem::take(&mut self.said_meanwhile) {
            match self.may_tell(connection) {
                true => kept.into_iter().for_each(|said| self.said(connection, said)),
                false => drop(self.said_meanwhile.insert(connection, kept)),
            }
        }
    }

    /// Gives a connection that fell behind where the session stands now, in place of its backlog.
    pub(super) fn catch_up(&mut self, connection: ConnectionId, seen: Option<u64>) {
        let Some(audience) = self.members.get(connection).map(|member| member.audience) else {
            return;
        };
        if self.order.is_adrift() {
            self.outputs.push(Output::Close { connection, problem: unavailable() });
            return;
        }
        self.members.set_welcome(connection, false);
        let epoch = self.order.epoch();
        let had = seen.map(|seen| Had { seen, epoch, audience });
        self.arrivals.push(Arrival { connection, had, presence: None });
    }

    /// Welcomes those who came together: the roster that each gets has all of them, and whoever was
    /// here before is told once.
    pub(super) fn receive_arrivals(&mut self) {
        let (roster, holds) = self.people.poll_changed();
        if let Some(count) = self.people.poll_count(self.now) {
            self.order.push(Waiting::Roster(Roster { count: Some(count), ..Roster::default() }));
        }
        if let Some(change) = roster {
            self.order.push(Waiting::Roster(change));
        }
        if let Some(change) = holds {
            self.order.push(Waiting::Holds(change));
        }
        for Arrival { connection, had, presence } in std::mem::take(&mut self.arrivals) {
            match self.members.get(connection).map(|member| (member.way, member.audience)) {
                Some((WayIn::Replica { .. } | WayIn::Queries, _)) => {
                    self.welcome(connection, had);
                }
                Some((WayIn::Events { after, patches }, audience)) => {
                    let (seq, state) = (self.order.seq(), self.order.sequencer().state());
                    let has_state = after.is_some();
                    let Some(viewer) = self.members.get(connection).map(|member| &member.viewer)
                    else {
                        continue;
                    };
                    let number = self.audiences.number(audience, viewer);
                    let (audience, viewer) = (audience, viewer.clone());
                    let shown = self.audiences.begin((audience, &viewer), seq, has_state, &state);
                    let followed = patches.then(|| Box::new(state));
                    let presence = self.told(audience);
                    let welcome =
                        Waiting::Welcome { connection, number, shown, followed, presence };
                    self.order.push(welcome);
                }
                None => {}
            }
            self.follow_anew(connection);
            // Only now: the others hear of them before they hear what they tell.
            if let Some(set) = presence {
                self.said(connection, Said { seen: None, set });
            }
        }
    }

    /// What somebody of an audience is told of presence by now.
    fn told(&self, audience: usize) -> (BTreeSet<Teller>, u64) {
        let tellers = self.audiences.tellers(audience, self.people.presence());
        (tellers, self.people.times_told())
    }

    fn welcome(&mut self, connection: ConnectionId, had: Option<Had>) {
        let Some(member) = self.members.get(connection) else { return };
        let (who, audience) = (&member.who, member.audience);
        let sequencer = self.order.sequencer();
        let outcomes = sequencer
            .outcomes(who.key())
            .map(|(n, outcome)| OutcomeFrame { n, outcome: outcome.into() });
        let greeting = Welcome {
            you: You {
                id: who.id.clone(),
                name: member.name.clone(),
                role: who.role.clone(),
                hue: self.people.hue(&who.id),
                client: who.client,
            },
            session: self.head.clone(),
            epoch: self.order.epoch(),
            audience,
            seq: sequencer.seq(),
            state: None,
            updates: None,
            yours: BTreeMap::new(),
            beside: Vec::new(),
            roster: match self.audiences.roster_sight(audience) {
                RosterSight::Names => self.people.named(),
                _ => Vec::new(),
            },
            count: self.people.count(),
            presence: self.audiences.present_facts(audience, self.people.presence()),
            holds: self.people.holds().list(),
            token: member.token.clone(),
            fields: member.fields.then(|| self.charter.fields_shown_to(&who.role)),
            limits: limits(&self.charter),
            outcomes: outcomes.collect(),
            time: self.now,
        };
        let had = had.filter(|had| self.order.may_resume(*had)).map(|had| had.seen);
        let (recent, state) = (self.order.recent(), sequencer.state());
        let viewer = member.viewer.clone();
        let number = self.audiences.number(audience, &viewer);
        let shown = match member.way {
            WayIn::Queries => self.audiences.bare_welcome((audience, &viewer), greeting, &state),
            _ => self.audiences.welcome((audience, &viewer), had, greeting, recent, &state),
        };
        let presence = self.told(audience);
        let welcome = Waiting::Welcome { connection, number, shown, followed: None, presence };
        self.order.push(welcome);
    }

    pub(super) fn leave(&mut self, connection: ConnectionId, why: LeftWhy) {
        let Some(member) = self.members.remove(connection) else { return };
        self.seating.is_due = true;
        self.note_connection(&member.who, Way::Out);
        self.digests.forget(connection);
        self.following.part(connection, self.now);
        self.said_meanwhile.remove(&connection);
        if !self.members.has_follower(member.audience) {
            self.audiences.stop_following(member.audience);
        }
        self.people.leave(&member.teller(), connection, why, self.now);
    }

    /// Ends the connections of a participant who was removed.
    pub(super) fn remove(&mut self, id: &str, problem: &Problem) {
        for connection in self.members.of_participant(id) {
            self.outputs.push(Output::Close { connection, problem: problem.clone() });
            self.leave(connection, LeftWhy::Removed);
        }
        self.people.remove(id);
        self.note_lapse();
    }

    /// Takes what somebody tells of themselves. A place in a text means something in the order of
    /// the updates around it only.
    pub(super) fn said(&mut self, connection: ConnectionId, said: Said) {
        let Some(member) = self.members.get(connection) else { return };
        if !self.may_tell(connection) {
            let detail = "Whoever looks on without being named tells nothing of themselves.";
            let problem = Problem::new(ProblemKind::NotAllowed, detail);
            self.tell(connection, Word::Notice(Notice { problem }));
            // They may get a role in which they are named.
            return self.keep_said(connection, said);
        }
        if self.order.is_adrift() {
            return self.keep_said(connection, said);
        }
        let sequencer = self.order.sequencer();
        let seen = said.seen.unwrap_or(sequencer.seq()).min(sequencer.seq());
        let key = member.who.key();
        match placed(&self.charter, &sequencer.state(), said.set.clone(), seen, key) {
            Ok(facts) => self.order.push(Waiting::Said { connection, facts, said }),
            Err(problem) => {
                self.report(Report::Limited(problem.clone()));
                self.tell(connection, Word::Notice(Notice { problem }));
            }
        }
    }

    /// Keeps what is told while the order of updates is not known, or while nobody is to hear of it:
    /// the newest of each fact.
    pub(super) fn keep_said(&mut self, connection: ConnectionId, said: Said) {
        if let Err(problem) = self.charter.presence.check(&said.set) {
            self.report(Report::Limited(problem.clone()));
            return self.tell(connection, Word::Notice(Notice { problem }));
        }
        let kept = self.said_meanwhile.entry(connection).or_default();
        for earlier in &mut *kept {
            earlier.set.retain(|name, _| !said.set.contains_key(name));
        }
        kept.retain(|earlier| !earlier.set.is_empty());
        kept.push(said);
    }

    /// Something that was asked for is answered, after what came before it.
    pub(super) fn acted(&mut self, connection: ConnectionId, n: u64, result: Result<(), Problem>) {
        let problem = result.err();
        if let Some(problem) = &problem {
            self.report(Report::Refused(problem.clone()));
        }
        let answer = AnswerFrame { n, problem };
        match self.order.is_adrift() {
            // It would have to be kept for as long as the journal is away.
            true => self.tell(connection, Word::Answer(answer)),
            false => self.order.push(Waiting::Acted { connection, answer }),
        }
    }

    pub(super) fn hold(
        &mut self,
        connection: ConnectionId,
        at: &str,
        for_ms: Option<u64>,
        over: bool,
    ) -> Result<(), Problem> {
        let Some(member) = self.members.get(connection) else { return Ok(()) };
        if let Some(problem) = self.standing.refusal(&member.who) {
            return Err(problem);
        }
        let path = Path::parse(at)?;
        let state = self.order.sequencer().state();
        let is_seen = self.audiences.reader_sees(&member.reader(), &state, &path);
        if !is_seen || self.order.sequencer().plain_at(&path).is_none() {
            return Err(nothing_at(&path));
        }
        let by = member.who.id.clone();
        self.people.hold(&member.who, &path, for_ms, over, self.now)?;
        if over {
            self.report(Report::TookOver { by, at: at.to_owned() });
        }
        Ok(())
    }

    pub(super) fn free(&mut self, connection: ConnectionId, at: &str) -> Result<(), Problem> {
        let path = Path::parse(at)?;
        if let Some(member) = self.members.get(connection) {
            self.people.release(&member.who.id, &path);
        }
        Ok(())
    }

    pub(super) fn cue(&mut self, actor: &Actor, cue: SendCue) -> Result<(), Problem> {
        let (frame, to) = self.people.cue(actor, cue, self.now)?;
        self.order.push(Waiting::Cue { frame, to });
        Ok(())
    }
}

fn limits(charter: &Charter) -> ConnectionLimits {
    ConnectionLimits {
        frame: charter.limits.frame,
        edits: charter.limits.edits,
        proposals_per_second: charter.limits.proposals_per_second,
        burst: charter.limits.burst(),
        presence_per_second: charter.presence.rate,
        presence_lapses_ms: lapses(charter),
    }
}

/// The facts that lapse after they were said, with the time in milliseconds.
fn lapses(charter: &Charter) -> BTreeMap<String, u64> {
    let linger = |fact: &Fact| fact.linger.map(|linger| linger.as_millis());
    let ms = |ms: u128| u64::try_from(ms).unwrap_or(u64::MAX);
    let facts = charter.presence.facts.iter();
    facts.filter_map(|(name, fact)| Some((name.clone(), ms(linger(fact)?)))).collect()
}
