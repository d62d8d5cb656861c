//! What participants propose, over a connection or by a call.

use std::sync::Arc;

use bytestring::ByteString;
use rendel_core::{Actor, ClientOutcome, Outcome, Problem, ProblemKind, Proposal, Settled};
use rendel_store::{RefusalRow, UpdateRow};
use rendel_wire::Propose;
use tokio::sync::oneshot;

use super::task::{Origin, Output, Task, signed};
use super::{Answered, AskedPatch, ConnectionId, Rate};
use crate::app::now_ms;
use crate::failure::{from_store, unavailable};

/// Rates remembered of participants that only call over HTTP.
const VISITORS: usize = 4_096;
/// A state up to this size is told along with the refusal of a condition on it.
const TOLD_BYTES: u64 = 64 << 10;

pub(super) type Answer = oneshot::Sender<Result<Answered, Problem>>;

impl Task {
    pub(super) fn propose(&mut self, connection: ConnectionId, frame: Propose) {
        let Some(member) = self.members.get(&connection) else { return };
        let actor = member.who.clone();
        let n = frame.n;
        if self.adrift.is_some() {
            self.refuse(connection, n, unavailable());
            return;
        }
        // What is positioned on top of a proposal that never got here means nothing either.
        self.sequencer.handle_refused(actor.client, member.refused);
        let origin = Origin::Connection { connection, client: actor.client, n };
        self.settle(&actor, &frame.into(), origin);
    }

    pub(super) fn propose_once(&mut self, actor: &Actor, proposal: &Proposal, answer: Answer) {
        if let Err(problem) = self.may_call(actor) {
            let _ = answer.send(Err(problem));
            return;
        }
        let origin = Origin::Call { client: actor.client, n: proposal.n, answer };
        self.settle(actor, proposal, origin);
    }

    /// Turns a document into edits against the state as it is in this moment, and settles those.
    pub(super) fn patch(&mut self, actor: &Actor, asked: AskedPatch, answer: Answer) {
        if let Err(problem) = self.may_call(actor) {
            let _ = answer.send(Err(problem));
            return;
        }
        const N: u64 = 1;
        let known = self.sequencer.outcomes(actor.client).find(|(n, _)| *n == N).map(|(_, outcome)| outcome.clone());
        if let Some(outcome) = known {
            return self.repeat_to_call(outcome, Origin::Call { client: actor.client, n: N, answer });
        }
        let seq = self.sequencer.seq();
        let edits = match asked.if_match.is_none_or(|tags| tags.has(seq)) {
            true => self.sequencer.edits_for(&asked.change),
            false => Err(self.changed_meanwhile()),
        };
        match edits {
            Ok(edits) if !edits.is_empty() => {
                let proposal = Proposal { n: N, seen: None, answered: 0, edits, gesture: None, note: None };
                self.settle(actor, &proposal, Origin::Call { client: actor.client, n: N, answer });
            }
            // What is told here rests on updates that may not be on disk yet.
            Ok(_) => self.batch.outputs.push(Output::Answer { result: Ok(Answered { seq, json: None }), answer }),
            Err(problem) => self.batch.outputs.push(Output::Answer { result: Err(problem), answer }),
        }
    }

    fn changed_meanwhile(&self) -> Problem {
        let seq = self.sequencer.seq();
        let detail = format!("The state is at {seq}, which \"If-Match\" does not name. Look at it and decide again.");
        let problem = Problem::new(ProblemKind::TestFailed, detail).with("seq", seq);
        if self.sequencer.weight() <= TOLD_BYTES { problem.current(self.sequencer.plain()) } else { problem }
    }

    fn may_call(&mut self, actor: &Actor) -> Result<(), Problem> {
        if self.adrift.is_some() {
            return Err(unavailable());
        }
        self.rate_of(actor).check().inspect_err(|problem| self.app.metrics.count(problem))
    }

    fn rate_of(&mut self, actor: &Actor) -> Arc<Rate> {
        if actor.role == Actor::SERVICE || actor.id == Actor::SERVICE {
            return Arc::new(Rate::unbounded());
        }
        if let Some(rate) = self.present.rate(&actor.id) {
            return rate;
        }
        if self.visitors.len() > VISITORS {
            self.visitors.clear();
        }
        let rate = self.charter.limits.proposals_per_second;
        self.visitors.entry(actor.id.clone()).or_insert_with(|| Arc::new(Rate::new(rate))).clone()
    }

    fn settle(&mut self, actor: &Actor, proposal: &Proposal, from: Origin) {
        let outcome = match self.refusal(actor) {
            Some(problem) => self.sequencer.handle_refusal(actor, proposal, problem),
            None => self.sequencer.handle_proposal(actor, proposal, now_ms()),
        };
        self.come_out(actor, proposal.n, outcome, from);
    }

    pub(super) fn come_out(&mut self, actor: &Actor, n: u64, outcome: Outcome, from: Origin) {
        match (outcome, from) {
            (Outcome::Settled(update), from) => self.settled(&update, from),
            (Outcome::Refused(problem), from) => self.refused(actor, n, problem, from),
            (Outcome::Repeated(outcome), Origin::Connection { connection, .. }) => {
                self.batch.outputs.push(Output::Repeated { n, outcome, connection });
            }
            (Outcome::Repeated(outcome), from @ Origin::Call { .. }) => self.repeat_to_call(outcome, from),
        }
    }

    /// Answers a call that was made before. The update is in memory or, long after, only in the journal.
    pub(super) fn repeat_to_call(&mut self, outcome: ClientOutcome, origin: Origin) {
        let Origin::Call { answer, .. } = origin else { return };
        match outcome {
            ClientOutcome::Refused(problem) => drop(answer.send(Err(problem))),
            ClientOutcome::Settled(seq) => match self.recent.get(seq) {
                Some(json) => {
                    let result = Ok(Answered { seq, json: Some(ByteString::from(&**json)) });
                    self.batch.outputs.push(Output::Answer { result, answer });
                }
                None => {
                    let (store, ord) = (self.app.store.clone(), self.ord());
                    tokio::spawn(async move {
                        let read = store.journal(ord, seq, seq, 1).await.map_err(|error| from_store(&error));
                        let first = read.map(|mut rows| Answered { seq, json: rows.pop().map(ByteString::from) });
                        let _ = answer.send(first);
                    });
                }
            },
        }
    }

    fn settled(&mut self, update: &Settled, from: Origin) {
        self.app.metrics.settled.inc();
        let json: Arc<str> = serde_json::to_string(update).unwrap_or_default().into();
        let met = !update.verdicts.is_empty();
        self.batch.updates.push(UpdateRow { session: self.ord(), seq: signed(update.seq), body: json.clone(), met });
        self.bytes_since += json.len() as u64;
        self.recent.push(update.seq, json.clone());
        self.batch.outputs.push(Output::Update { seq: update.seq, json, from });
        let config = &self.app.config;
        if update.seq - self.kept_snapshot >= config.snapshot_every || self.bytes_since >= config.snapshot_bytes {
            self.kept_snapshot = update.seq;
            self.bytes_since = 0;
            self.batch.outputs.push(Output::Snapshot(Box::new(self.sequencer.snapshot())));
        }
        self.ask_for_digests(self.app.config.digest_every);
    }

    fn refused(&mut self, actor: &Actor, n: u64, problem: Problem, from: Origin) {
        self.app.metrics.refused(&problem);
        self.batch.refusals.push(RefusalRow {
            session: self.ord(),
            client: actor.client,
            n: signed(n),
            at_seq: signed(self.sequencer.seq()),
            problem: serde_json::to_string(&problem).unwrap_or_default(),
        });
        self.batch.outputs.push(Output::Refused { n, problem, from });
    }

    pub(super) fn note_refused(&mut self, connection: ConnectionId, n: u64) {
        if let Some(member) = self.members.get_mut(&connection) {
            member.refused = member.refused.max(n);
        }
    }
}
