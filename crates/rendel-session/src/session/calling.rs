//! Calls by HTTP.

use std::sync::Arc;

use rendel_core::{Actor, ClientOutcome, Lens, Path, Problem, ProblemKind, Proposal, Reader};
use rendel_wire::http::{ParticipantInfo, ParticipantList};
use serde_json::Value;

use super::Session;
use crate::input::{Ask, CallId, IfMatch, SessionStatus, Status};
use crate::order::{Origin, Waiting};
use crate::output::{Answer, Figures, Output};
use crate::problems::{ended, nothing_at, unavailable};

/// A state up to this size is told along with the refusal of a condition on it.
const TOLD_BYTES: u64 = 64 << 10;

impl Session {
    pub(super) fn call(&mut self, call: CallId, ask: Ask) {
        match ask {
            Ask::Propose { actor, proposal } => self.propose_once(call, actor, proposal),
            Ask::BeginPatch { actor, n, if_match } => {
                self.begin_patch(call, &actor, n, if_match.as_ref());
            }
            Ask::EndPatch { actor, proposal, if_match } => {
                self.end_patch(call, actor, proposal, if_match.as_ref());
            }
            Ask::Cue { actor, cue } => {
                let away = self.order.is_adrift().then(unavailable);
                let sent = away.map_or_else(|| self.cue(&actor, cue), Err);
                let result = sent.map(|()| Answer::Done);
                self.answer(call, result, &Reader::of(&actor));
            }
            Ask::May { actor, edit } => {
                let result = self.order.sequencer().may(&actor, &edit).map(Answer::May);
                self.answer(call, result, &Reader::of(&actor));
            }
            Ask::Undoable { actor } => {
                let undoable = self.order.sequencer().undoable(&actor);
                self.answer_in_turn(call, Ok(Answer::Undoable(undoable)), &Reader::of(&actor));
            }
            Ask::State => {
                let sequencer = self.order.sequencer();
                let (seq, state) = (sequencer.seq(), Box::new(sequencer.state()));
                self.answer_in_turn(call, Ok(Answer::Against { seq, state }), &Reader::service());
            }
            Ask::Who => {
                let list = self.who();
                self.answer(call, Ok(Answer::Who(list)), &Reader::service());
            }
            Ask::Read { reader, path } => self.read(call, &reader, path.as_ref()),
            Ask::Reset { actor, n, opening } => self.reset(call, &actor, n, opening),
            Ask::Stand { by, standing } => self.stand(call, by, standing),
            Ask::Seat { who, seat } => {
                let result = self.give_seat(&who, seat.as_deref()).map(Answer::Seat);
                self.answer_in_turn(call, result, &Reader::service());
            }
            Ask::Figures => {
                let figures = self.figures();
                self.answer(call, Ok(Answer::Figures(figures)), &Reader::service());
            }
        }
    }

    fn origin(call: CallId, actor: &Actor, n: u64) -> Origin {
        Origin::Call { call, client: actor.key(), n, reader: Reader::of(actor) }
    }

    /// An answer that rests on what may not be on disk yet. While the journal is away there is none.
    fn answer_in_turn(&mut self, call: CallId, answer: Result<Answer, Problem>, reader: &Reader) {
        if self.order.is_adrift() {
            return self.answer(call, Err(unavailable()), reader);
        }
        let answer = answer.map_err(|problem| self.problem(reader, problem));
        self.order.push(Waiting::Answer { call, answer });
    }

    fn propose_once(&mut self, call: CallId, actor: Actor, proposal: Proposal) {
        let origin = Self::origin(call, &actor, proposal.n);
        if !self.order.is_adrift() {
            return self.pass(actor, proposal, origin);
        }
        if self.order.wait_for_journal(proposal.n, origin).is_err() {
            self.answer(call, Err(unavailable()), &Reader::of(&actor));
        }
    }

    /// Somebody wants to change the state by a document. What stands against that is found before
    /// anybody works on it.
    fn begin_patch(&mut self, call: CallId, actor: &Actor, n: u64, if_match: Option<&IfMatch>) {
        let reader = &Reader::of(actor);
        match self.may_patch(actor, n, if_match) {
            Ok(Some(outcome)) => {
                let from = Self::origin(call, actor, n);
                self.order.push(Waiting::Repeated { outcome, from });
            }
            Ok(None) => {
                let sequencer = self.order.sequencer();
                let (seq, state) = (sequencer.seq(), Box::new(sequencer.state()));
                self.answer_in_turn(call, Ok(Answer::Against { seq, state }), reader);
            }
            // What a document is refused for tells of the state.
            Err(problem) => self.answer_in_turn(call, Err(problem), reader),
        }
    }

    /// Whether somebody may change anything by a document now; with the first outcome of a call
    /// that was made before.
    fn may_patch(
        &self,
        actor: &Actor,
        n: u64,
        if_match: Option<&IfMatch>,
    ) -> Result<Option<ClientOutcome>, Problem> {
        self.check_key(actor, n)?;
        if let Some(outcome) = self.outcome(actor.key(), n) {
            return Ok(Some(outcome));
        }
        if let Some(problem) = self.standing.refusal(actor) {
            return Err(problem);
        }
        if !self.charter.edits_somewhere(&actor.role) {
            let detail = format!("The role {:?} may not edit anything.", actor.role);
            return Err(Problem::new(ProblemKind::NotAllowed, detail));
        }
        self.check_match(&Reader::of(actor), if_match)?;
        Ok(None)
    }

    /// Settles the edits that a document came to. They were made against the state of their `seen`.
    fn end_patch(
        &mut self,
        call: CallId,
        actor: Actor,
        proposal: Proposal,
        if_match: Option<&IfMatch>,
    ) {
        let reader = Reader::of(&actor);
        match self.check_match(&reader, if_match) {
            Err(problem) => self.answer_in_turn(call, Err(problem), &reader),
            Ok(()) if proposal.edits.is_empty() => {
                let seq = proposal.seen.unwrap_or(self.order.seq());
                let json = self.audiences.update(&reader, None);
                self.answer_in_turn(call, Ok(Answer::Settled { seq, json }), &reader);
            }
            Ok(()) => {
                let origin = Self::origin(call, &actor, proposal.n);
                self.pass(actor, proposal, origin);
            }
        }
    }

    fn check_match(&self, reader: &Reader, if_match: Option<&IfMatch>) -> Result<(), Problem> {
        let sequencer = self.order.sequencer();
        let seq = sequencer.seq();
        if if_match.is_none_or(|states| states.has(seq)) {
            return Ok(());
        }
        let detail = format!(
            "The state is at {seq}, which \"If-Match\" does not name. Look at it and decide again."
        );
        let problem = Problem::new(ProblemKind::TestFailed, detail).with("seq", seq);
        let state = sequencer.state();
        let sight = self.charter.sight(&reader.role);
        let lens = Lens::new(&self.charter, sight, Some(&reader.viewer), &state);
        let problem = match sequencer.weight() <= TOLD_BYTES {
            true => problem.current(lens.plain()),
            false => problem,
        };
        Err(problem.bounded())
    }

    /// Answers a call that was made before. The update is in memory or, long after, only in the
    /// journal.
    pub(super) fn repeat_to_call(&mut self, outcome: ClientOutcome, call: CallId, reader: Reader) {
        match outcome {
            ClientOutcome::Refused(problem) => self.answer(call, Err(problem), &reader),
            ClientOutcome::Settled(seq) => match self.order.recent().get(seq) {
                Some(json) => {
                    let json = self.audiences.update(&reader, Some(json));
                    self.answer(call, Ok(Answer::Settled { seq, json }), &reader);
                }
                None => self.outputs.push(Output::Fetch { call, reader, seq }),
            },
        }
    }

    pub(super) fn handle_fetched(
        &mut self,
        call: CallId,
        reader: &Reader,
        seq: u64,
        row: Result<Option<Arc<str>>, Problem>,
    ) {
        let answer = row.map(|row| {
            let json = self.audiences.update(reader, row.as_ref());
            Answer::Settled { seq, json }
        });
        self.answer(call, answer, reader);
    }

    fn read(&mut self, call: CallId, reader: &Reader, path: Option<&Path>) {
        if self.order.is_adrift() {
            return self.answer(call, Err(unavailable()), reader);
        }
        let sequencer = self.order.sequencer();
        let (seq, state) = (sequencer.seq(), sequencer.state());
        match (self.audiences.reading(reader, seq, &state, path), path) {
            (Some(json), _) => self.answer_in_turn(call, Ok(Answer::Reading { seq, json }), reader),
            (None, path) => {
                let nowhere = Path::of::<String>([]);
                self.answer(call, Err(nothing_at(path.unwrap_or(&nowhere))), reader);
            }
        }
    }

    fn reset(&mut self, call: CallId, actor: &Actor, n: u64, opening: Option<Value>) {
        let problem = self.order.is_adrift().then(unavailable);
        let problem = problem.or_else(|| self.check_key(actor, n).err());
        if let Some(problem) = problem.or_else(|| self.standing.refusal(actor)) {
            return self.answer(call, Err(problem), &Reader::of(actor));
        }
        let opening = opening.or_else(|| self.opening.clone());
        let sequencer = self.order.sequencer_mut();
        let outcome = sequencer.handle_reset(actor, n, opening.as_ref(), self.now);
        self.audiences.forget_snapshots();
        self.come_out(n, outcome, Self::origin(call, actor, n));
    }

    /// Writes another standing. It counts once it is on disk, for what comes after that.
    fn stand(&mut self, call: CallId, by: String, standing: SessionStatus) {
        let is_over = self.standing.status == Status::Ended;
        if self.order.is_adrift() {
            self.answer(call, Err(unavailable()), &Reader::service());
        } else if is_over {
            let is_same = standing.status == Status::Ended;
            let answer = if is_same { Ok(Answer::Done) } else { Err(ended()) };
            self.answer(call, answer, &Reader::service());
        } else {
            self.outputs.push(Output::WriteStanding { call, by, standing });
        }
    }

    pub(super) fn handle_standing(
        &mut self,
        call: CallId,
        by: String,
        standing: SessionStatus,
        result: Result<(), Problem>,
    ) {
        match result {
            Ok(()) => {
                standing.status.name().clone_into(&mut self.head.status);
                self.standing = standing.clone();
                self.order.push(Waiting::Status { call, by, standing });
            }
            Err(problem) => self.answer(call, Err(problem), &Reader::service()),
        }
    }

    fn figures(&self) -> Figures {
        let (agreed_seq, agreed, differed) = self.digests.agreement();
        Figures {
            participants: self.people.len() as u64,
            connections: self.members.len() as u64,
            seq: self.order.shown(),
            state_bytes: self.order.sequencer().weight(),
            epoch: self.order.epoch(),
            agreed_seq,
            agreed,
            differed,
            remembered: self.remembered() as u64,
            status: self.standing.status,
            expression_faults: self.expression_faults.iter().cloned().collect(),
        }
    }

    fn who(&mut self) -> ParticipantList {
        let holds = self.people.holds().list();
        let whole = self.audiences.of_role(Actor::SERVICE);
        let mut presence = self.audiences.present_facts(whole, self.people.presence());
        let info = |shown: rendel_wire::Participant| {
            let theirs = holds.iter().filter(|hold| hold.by == shown.id);
            ParticipantInfo {
                presence: presence.remove(&shown.id).unwrap_or_default(),
                holds: theirs.map(|hold| hold.at.clone()).collect(),
                id: shown.id,
                name: shown.name,
                role: shown.role,
                hue: shown.hue,
                connections: shown.connections,
                away: shown.away,
            }
        };
        let participants = self.people.all().into_iter().map(info).collect();
        ParticipantList { participants, holds: holds.clone() }
    }
}
