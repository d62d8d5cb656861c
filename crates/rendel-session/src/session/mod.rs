//! The session as a whole: its parts, what comes in and what goes out.

mod calling;
mod entering;
mod following;
mod passing;
mod proposing;
mod recovering;
mod seating;
mod showing;
mod undoing;

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::Arc;

use rendel_core::{Charter, ClientKey, Hold, Problem, Reader};
use rendel_wire::{Said, SessionHead};
use serde_json::Value;

use crate::audiences::{Audiences, Shown, Word};
use crate::digests::Digests;
use crate::gates::Gates;
use crate::input::{CallId, ConnectionId, Found, GateVerdict, Heard, Input, SessionStatus};
use crate::members::Members;
use crate::order::{Order, Spacing, Waiting};
use crate::output::{Answer, Output, Report, To};
use crate::people::People;
use crate::problems::{deleted, unavailable};

/// A session that is to act within so many milliseconds stays in memory.
const AHEAD: u64 = 120_000;

/// What whoever runs the service says of its sessions.
#[derive(Clone, Copy, Debug)]
pub struct Settings {
    /// How often a snapshot is kept.
    pub snapshots: Spacing,
    /// Replicas are compared after so many updates.
    pub digest_every: u64,
    /// And within so many milliseconds of any.
    pub digest_within: u64,
    /// Connections that one participant may have.
    pub connections_per_participant: u32,
}

/// One session.
#[derive(Debug)]
pub struct Session {
    charter: Arc<Charter>,
    settings: Settings,
    head: SessionHead,
    opening: Option<Value>,
    standing: SessionStatus,
    order: Order,
    audiences: Audiences,
    members: Members,
    people: People,
    gates: Gates,
    /// What gates said while the journal was away.
    late_verdicts: Vec<(ClientKey, u64, GateVerdict)>,
    /// What was told of presence while the journal was away, or by who is not named.
    said_meanwhile: BTreeMap<ConnectionId, Vec<Said>>,
    digests: Digests,
    /// When replicas are compared next, if something has changed since the last time.
    compare_at: Option<u64>,
    /// Who came since the last append was made and waits for a welcome.
    arrivals: Vec<entering::Arrival>,
    /// What waits for the next beat, where the charter has one, and when that is.
    held: Vec<Waiting>,
    beat: Option<u64>,
    /// When those who were shown nothing of updates are told of them.
    quiet_until: Option<u64>,
    /// When those who asked are told what they can undo, if that may be another.
    undoable_at: Option<u64>,
    /// Participants for whom that is looked at now.
    undoable_now: BTreeSet<String>,
    following: following::Following,
    seating: seating::Seating,
    passing: passing::Passing,
    /// The last expressions of the charter that had no answer.
    expression_faults: VecDeque<String>,
    /// Never behind what it was before, nor behind the journal.
    now: u64,
    outputs: Vec<Output>,
    is_stopping: bool,
    has_stopped: bool,
}

impl Session {
    /// A session as its journal has it. Fails where that does not fit the charter, and says why.
    ///
    /// `head` is what a `welcome` tells of it; `opening` is what it opened with.
    pub fn new(
        charter: Arc<Charter>,
        head: SessionHead,
        opening: Option<Value>,
        found: &Found,
        settings: Settings,
        now: u64,
    ) -> Result<Self, String> {
        let order = Order::of(&charter, opening.as_ref(), found, settings.snapshots)?;
        let now = now.max(order.sequencer().at());
        let mut digests = Digests::default();
        digests.put(order.seq());
        let mut session = Self {
            audiences: Audiences::of(charter.clone()),
            people: People::of(charter.clone(), now),
            charter,
            settings,
            head: SessionHead { status: found.standing.status.name().to_owned(), ..head },
            opening,
            standing: found.standing.clone(),
            order,
            members: Members::default(),
            gates: Gates::default(),
            late_verdicts: Vec::new(),
            said_meanwhile: BTreeMap::new(),
            digests,
            compare_at: None,
            arrivals: Vec::new(),
            held: Vec::new(),
            beat: None,
            quiet_until: None,
            undoable_at: None,
            undoable_now: BTreeSet::new(),
            following: following::Following::of(found.secret),
            seating: seating::Seating { is_due: true, ..seating::Seating::default() },
            passing: passing::Passing::default(),
            expression_faults: VecDeque::new(),
            now,
            outputs: Vec::new(),
            is_stopping: false,
            has_stopped: false,
        };
        session.wait_for_those_who_were_here();
        Ok(session)
    }

    /// Takes one thing in. `now` is in milliseconds since 1970 UTC; one that goes back does no
    /// harm.
    pub fn handle(&mut self, now: u64, input: Input) {
        self.now = self.now.max(now);
        if self.has_stopped {
            return self.handle_after_end(input);
        }
        // What has lapsed by now lapses before anything else counts, however late that is noticed.
        let known = self.people.len();
        self.people.handle_timeout(self.now);
        if self.people.len() != known {
            self.note_lapse();
        }
        self.act_in_time();
        match input {
            Input::Entered(entry) => self.enter(*entry),
            Input::Frame { connection, frame } => self.hear(connection, frame),
            Input::Behind { connection, seen } => self.catch_up(connection, seen),
            Input::Left { connection, why } => self.leave(connection, why),
            Input::Call { call, ask } => self.call(call, ask),
            Input::Written { append } => {
                let waiting = self.order.handle_written(append);
                self.release(waiting);
                self.stop_when_written();
            }
            Input::JournalLost => self.lose_journal(),
            Input::JournalFound(found) => self.find_journal(&found),
            Input::Superseded => self.give_up(),
            Input::GateAnswered { client, n, verdict } => self.handle_verdict(client, n, verdict),
            Input::StandingWritten { call, by, standing, result } => {
                self.handle_standing(call, by, standing, result);
            }
            Input::Fetched { call, reader, seq, row } => {
                self.handle_fetched(call, &reader, seq, row);
            }
            Input::Digested { seq, digests } => {
                let differing = self.digests.know(seq, digests);
                differing.into_iter().for_each(|connection| self.repair(connection));
            }
            Input::Removed { id, problem } => self.remove(&id, &problem),
            Input::Amended { connection, name, role, claims } => {
                self.amend(connection, &name, &role, claims);
            }
            Input::Deleted => self.end(&deleted(), &deleted()),
            Input::Revoked { connection, problem } => {
                self.outputs.push(Output::Close { connection, problem });
            }
            Input::Timeout => self.handle_timeout(),
            Input::Stop => {
                self.is_stopping = true;
                self.close_batch();
                self.stop_when_written();
            }
        }
    }

    /// What is to be done now, in this order. What was settled since the last time is one append;
    /// while one is under way the next is not made.
    pub fn poll_outputs(&mut self) -> Vec<Output> {
        self.close_batch();
        std::mem::take(&mut self.outputs)
    }

    fn close_batch(&mut self) {
        if self.has_stopped {
            return;
        }
        self.act_in_time();
        self.settle_passages();
        self.seat();
        self.tell_free_seats();
        self.receive_arrivals();
        self.tell_undoable();
        let (append, waiting) = self.order.close_batch();
        self.outputs.extend(append);
        self.release(waiting);
    }

    /// When [`Input::Timeout`] is due, if it is ever.
    pub fn next_timeout(&self) -> Option<u64> {
        if self.has_stopped {
            return None;
        }
        let away = self.order.is_adrift();
        let lapse = self.people.poll_timeout().filter(|_| !away);
        let compare = self.compare_at.filter(|_| !away && self.members.has_replicas());
        let undoable = self.next_undoable().filter(|_| !away);
        let rows = self.following.next_due().filter(|_| !away);
        let times = [lapse, compare, self.beat, self.quiet_until, undoable, rows, self.next_act()];
        let passage = self.next_passage().filter(|_| !away);
        times.into_iter().chain([passage]).flatten().min()
    }

    /// Whether an append is not known to be on disk. What comes meanwhile makes a larger next one,
    /// so it is best kept until then.
    pub fn is_writing(&self) -> bool {
        self.order.is_writing()
    }

    /// Whether nobody is here and nothing is open: the session may leave memory.
    pub fn is_idle(&self) -> bool {
        self.members.len() == 0
            && self.people.len() == 0
            && self.arrivals.is_empty()
            && self.gates.is_empty()
            && self.held.is_empty()
            && self.next_act().is_none_or(|due| due > self.now + AHEAD)
            && self.next_passage().is_none()
            && self.order.sequencer().here().next().is_none()
            && self.outputs.is_empty()
            && self.order.is_quiet()
    }

    /// The time, which is never behind the journal.
    pub fn now(&self) -> u64 {
        self.now
    }

    /// The last update that participants were shown.
    pub fn shown(&self) -> u64 {
        self.order.shown()
    }

    /// What is held.
    pub fn holds(&self) -> Vec<Hold> {
        self.people.holds().list()
    }

    /// About the bytes that it remembers of what is gone and was answered.
    pub fn remembered(&self) -> usize {
        self.order.sequencer().remembered()
    }

    fn handle_timeout(&mut self) {
        if self.beat.is_some_and(|beat| beat <= self.now) {
            self.show_held();
        }
        if self.quiet_until.is_some_and(|until| until <= self.now) {
            self.end_quiet();
        }
        if self.order.is_adrift() {
            return;
        }
        self.follow_in_turn();
        // In its turn: told at once it would overtake who came and went.
        if self.people.queue_presence(self.now) {
            self.receive_arrivals();
            self.order.push(Waiting::Presence);
        }
        if self.compare_at.is_some_and(|at| at <= self.now) {
            self.compare_at = None;
            self.ask_for_digests(1);
        }
    }

    fn hear(&mut self, connection: ConnectionId, frame: Heard) {
        if self.order.is_adrift()
            && let Some(n) = frame.act()
        {
            return self.acted(connection, n, Err(unavailable()));
        }
        match frame {
            Heard::Propose(frame) => self.propose(connection, frame),
            Heard::NoteRefused(n) => self.members.note_refused(connection, n),
            Heard::Said(said) => self.said(connection, said),
            Heard::Hold { n, at, for_ms, over } => {
                let result = self.hold(connection, &at, for_ms, over);
                self.acted(connection, n, result);
            }
            Heard::Release { n, at } => {
                let result = self.free(connection, &at);
                self.acted(connection, n, result);
            }
            Heard::Cue(cue) => {
                let Some(who) = self.members.get(connection).map(|member| member.who.clone())
                else {
                    return;
                };
                let n = cue.n;
                let result = self.cue(&who, cue);
                self.acted(connection, n, result);
            }
            Heard::FollowUndo => self.follow_undo(connection),
            Heard::FollowQuery(frame) => self.follow_query(connection, *frame),
            Heard::LeaveQuery(query) => self.following.leave(connection, query),
            Heard::Renewed { n, claims } => {
                self.renew(connection, claims);
                self.acted(connection, n, Ok(()));
            }
            Heard::Digest { seq, sha256, yours } => {
                if let Some(differing) = self.digests.answer(connection, seq, (sha256, yours)) {
                    self.repair(differing);
                }
            }
        }
    }

    /// Shows one connection a frame at once.
    fn tell(&mut self, connection: ConnectionId, word: Word) {
        let Some(member) = self.members.get(connection) else { return };
        let state = self.order.sequencer().state();
        let eye = Some((&member.viewer, &state));
        if let Some(shown) = self.audiences.word(member.audience, eye, word) {
            self.outputs.push(Output::Show { to: To::One(connection), shown });
        }
    }

    /// Shows everybody a frame at once.
    fn tell_all(&mut self, word: &Word) {
        for audience in self.audiences.ids() {
            if self.members.has_audience(audience)
                && let Some(shown) = self.audiences.word(audience, None, word.clone())
            {
                self.outputs.push(Output::Show { to: To::Audience(audience), shown });
            }
        }
    }

    /// A refusal, for who reads it.
    fn problem(&self, reader: &Reader, problem: Problem) -> Shown<Problem> {
        self.audiences.problem(reader, &self.order.sequencer().state(), problem)
    }

    fn answer(&mut self, call: CallId, answer: Result<Answer, Problem>, reader: &Reader) {
        let answer = answer.map_err(|problem| self.problem(reader, problem));
        self.outputs.push(Output::Answer { call, answer });
    }

    fn report(&mut self, report: Report) {
        self.outputs.push(Output::Report(report));
    }

    fn note_fault(&mut self, fault: String) {
        self.expression_faults.push_back(fault);
        if self.expression_faults.len() > 8 {
            self.expression_faults.pop_front();
        }
    }

    /// Expressions that had no answer are told to the backend.
    fn note_unanswered(&mut self) {
        for (line, why) in self.order.sequencer_mut().poll_unanswered() {
            let why = why.to_string();
            self.note_fault(format!("line {line}: {why}"));
            self.report(Report::Unanswered { line, why });
        }
    }
}
