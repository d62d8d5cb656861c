//! What participants propose, over a connection or by a call.

use std::sync::Arc;

use bytestring::ByteString;
use rendel_core::{
    Actor, ClientOutcome, Edit, Effect, Outcome, Problem, ProblemKind, Proposal, Settled,
};
use rendel_store::{RefusalRow, StoreError, UpdateRow};
use rendel_wire::Propose;
use tokio::sync::oneshot;

use super::task::{Origin, Output, Task, signed};
use super::{Answered, Begun, ConnectionId, Rate};
use crate::app::now_ms;
use crate::failure::{from_store, unavailable};
use crate::http::Tags;

/// Rates remembered of participants.
const RATES: usize = 4_096;
/// The oldest refusals are forgotten after so many new ones.
const TIDY: usize = 1_024;
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
        if n == 0 {
            let problem = Problem::new(
                ProblemKind::Malformed,
                "\"n\" counts a client's proposals from 1; it is 0.",
            );
            self.refuse(connection, n, problem);
            return;
        }
        let key = actor.key();
        // What is positioned on top of a proposal that never got here means nothing either.
        self.sequencer.note_refused(key, member.refused);
        let origin = Origin::Connection { connection, client: key, n };
        self.pass(&actor, frame.into(), origin);
    }

    /// Settles a proposal, if it does not wait for a check.
    fn pass(&mut self, actor: &Actor, proposal: Proposal, from: Origin) {
        let is_free = self.charter.gates.is_empty();
        let free =
            if is_free { Some((proposal, from)) } else { self.hold_up(actor, proposal, from) };
        if let Some((proposal, from)) = free {
            self.settle(actor, &proposal, from);
        }
    }

    pub(super) fn call(&self, actor: &Actor, n: u64, answer: Answer) -> Origin {
        Origin::Call {
            client: actor.key(),
            n,
            audience: self.audiences.of_role(&actor.role),
            answer,
        }
    }

    pub(super) fn propose_once(&mut self, actor: &Actor, proposal: Proposal, answer: Answer) {
        if let Err(problem) = self.may_call(actor, Edit::cost(&proposal.edits)) {
            let _ = answer.send(Err(problem));
            return;
        }
        let origin = self.call(actor, proposal.n, answer);
        self.pass(actor, proposal, origin);
    }

    /// Somebody wants to change the state by a document. What stands against that is found before
    /// anybody works on it.
    pub(super) fn begin_patch(
        &mut self,
        actor: &Actor,
        n: u64,
        if_match: Option<&Tags>,
        answer: oneshot::Sender<Result<Begun, Problem>>,
    ) {
        let result = match self.may_patch(actor, n, if_match) {
            Ok(Some(outcome)) => {
                let (known, first) = oneshot::channel();
                self.repeat_to_call(outcome, self.call(actor, n, known));
                tokio::spawn(async move {
                    let first = first.await.unwrap_or_else(|_| Err(unavailable()));
                    let _ = answer.send(first.map(Begun::Known));
                });
                return;
            }
            Ok(None) => Ok(Begun::Against {
                seq: self.sequencer.seq(),
                state: Box::new(self.sequencer.state()),
            }),
            Err(problem) => Err(problem),
        };
        // What a document is refused for tells of the state, which may not be on disk yet.
        self.batch.outputs.push(Output::Begun { result, answer });
    }

    /// Whether somebody may change anything by a document now; with the first outcome of a call
    /// that was made before.
    fn may_patch(
        &mut self,
        actor: &Actor,
        n: u64,
        if_match: Option<&Tags>,
    ) -> Result<Option<ClientOutcome>, Problem> {
        self.may_call(actor, 1)?;
        self.check_key(actor, n)?;
        let known = self.sequencer.outcomes(actor.key()).find(|(known, _)| *known == n);
        if let Some((_, outcome)) = known {
            return Ok(Some(outcome.clone()));
        }
        if let Some(problem) = self.refusal(actor) {
            return Err(problem);
        }
        if !self.charter.edits_somewhere(&actor.role) {
            let detail = format!("The role {:?} may not edit anything.", actor.role);
            return Err(Problem::new(ProblemKind::NotAllowed, detail));
        }
        self.check_match(&actor.role, if_match)?;
        Ok(None)
    }

    /// Settles the edits that a document came to. They were made against the state of their `seen`.
    pub(super) fn end_patch(
        &mut self,
        actor: &Actor,
        proposal: Proposal,
        if_match: Option<&Tags>,
        answer: Answer,
    ) {
        let checked = if self.adrift.is_some() {
            Err(unavailable())
        } else {
            self.check_match(&actor.role, if_match)
        };
        match checked {
            Err(problem) => {
                self.batch.outputs.push(Output::Answer { result: Err(problem), answer })
            }
            // What is told here rests on updates that may not be on disk yet.
            Ok(()) if proposal.edits.is_empty() => {
                let seq = proposal.seen.unwrap_or(self.sequencer.seq());
                self.batch
                    .outputs
                    .push(Output::Answer { result: Ok(Answered { seq, json: None }), answer });
            }
            Ok(()) => {
                let origin = self.call(actor, proposal.n, answer);
                self.pass(actor, proposal, origin);
            }
        }
    }

    fn check_match(&self, role: &str, if_match: Option<&Tags>) -> Result<(), Problem> {
        match if_match.is_none_or(|tags| tags.has(self.sequencer.seq())) {
            true => Ok(()),
            false => Err(self.changed_meanwhile(role)),
        }
    }

    /// A key stands for one call: with another body it is a mistake.
    fn check_key(&self, actor: &Actor, n: u64) -> Result<(), Problem> {
        if n == 0 || self.sequencer.outcomes(actor.key()).all(|(known, _)| known == n) {
            return Ok(());
        }
        let detail = "This Idempotency-Key came with another call before. Every call has a key of \
            its own; only its repeat has the same.";
        Err(Problem::new(ProblemKind::KeyReused, detail))
    }

    fn changed_meanwhile(&self, role: &str) -> Problem {
        let seq = self.sequencer.seq();
        let detail = format!(
            "The state is at {seq}, which \"If-Match\" does not name. Look at it and decide again."
        );
        let problem = Problem::new(ProblemKind::TestFailed, detail).with("seq", seq);
        let shown = |plain| self.charter.sight(role).state(&self.charter.fields, plain);
        let problem = match self.sequencer.weight() <= TOLD_BYTES {
            true => problem.current(shown(self.sequencer.plain())),
            false => problem,
        };
        problem.bounded()
    }

    fn may_call(&mut self, actor: &Actor, cost: u32) -> Result<(), Problem> {
        if self.adrift.is_some() {
            return Err(unavailable());
        }
        self.rate_of(actor).check(cost).inspect_err(|problem| self.app.metrics.count(problem))
    }

    /// The rate of a participant, the same however often they come and go.
    pub(super) fn rate_of(&mut self, actor: &Actor) -> Arc<Rate> {
        if actor.role == Actor::SERVICE || actor.id == Actor::SERVICE {
            return Arc::new(Rate::unbounded());
        }
        if self.rates.len() > RATES {
            // Those that a connection uses stay.
            self.rates.retain(|_, rate| Arc::strong_count(rate) > 1);
        }
        let rate = || Arc::new(Rate::of_proposals(&self.charter.limits));
        self.rates.entry(actor.id.clone()).or_insert_with(rate).clone()
    }

    pub(super) fn settle(&mut self, actor: &Actor, proposal: &Proposal, from: Origin) {
        if let Origin::Call { .. } = from
            && let Err(problem) = self.check_key(actor, proposal.n)
        {
            return self.refuse_at_once(proposal.n, problem, from);
        }
        let held = |effects: &[Effect]| self.holds.refusal(&self.charter, actor, effects);
        let outcome = match self.refusal(actor) {
            Some(problem) => self.sequencer.handle_refusal(actor, proposal, problem),
            None => self.sequencer.handle_proposal_unless(actor, proposal, now_ms(), &held),
        };
        self.note_unanswered();
        self.note_remembered();
        self.come_out(actor, proposal.n, outcome, from);
    }

    pub(super) fn come_out(&mut self, actor: &Actor, n: u64, outcome: Outcome, from: Origin) {
        match (outcome, from) {
            (Outcome::Settled(update), from) => self.settled(&update, from),
            (Outcome::Refused(problem), from) => self.refused(actor, n, problem, from),
            (Outcome::Repeated(outcome), Origin::Connection { connection, .. }) => {
                self.batch.outputs.push(Output::Repeated { n, outcome, connection });
            }
            (Outcome::Repeated(outcome), from @ Origin::Call { .. }) => {
                self.repeat_to_call(outcome, from)
            }
        }
    }

    /// Answers a call that was made before. The update is in memory or, long after, only in the
    /// journal.
    pub(super) fn repeat_to_call(&mut self, outcome: ClientOutcome, origin: Origin) {
        let Origin::Call { answer, audience, .. } = origin else { return };
        let sight = self.audiences.all[audience].sight.clone();
        let charter = self.charter.clone();
        match outcome {
            ClientOutcome::Refused(problem) => {
                self.batch.outputs.push(Output::Answer { result: Err(problem), answer });
            }
            ClientOutcome::Settled(seq) => match self.recent.get(seq) {
                Some(json) => {
                    let json = super::seen(&sight, &charter, json);
                    let result = Ok(Answered { seq, json: Some(ByteString::from(&*json)) });
                    self.batch.outputs.push(Output::Answer { result, answer });
                }
                None => {
                    let (store, ord) = (self.app.store.clone(), self.ord());
                    tokio::spawn(async move {
                        let shown = |row: String| {
                            ByteString::from(&*super::seen(&sight, &charter, &row.into()))
                        };
                        let first = match store.journal(ord, seq, seq, 1).await {
                            Ok(mut rows) => Ok(Answered { seq, json: rows.pop().map(shown) }),
                            Err(StoreError::Forgotten { .. }) => Ok(Answered { seq, json: None }),
                            Err(error) => Err(from_store(&error)),
                        };
                        let _ = answer.send(first);
                    });
                }
            },
        }
    }

    fn settled(&mut self, update: &Settled, from: Origin) {
        self.app.metrics.settled.inc();
        self.holds.handle_settled(&update.by, &update.effects, now_ms());
        let json: Arc<str> = serde_json::to_string(update).unwrap_or_default().into();
        let met = !update.verdicts.is_empty();
        self.batch.updates.push(UpdateRow {
            session: self.ord(),
            seq: signed(update.seq),
            body: json.clone(),
            met,
        });
        self.bytes_since += json.len() as u64;
        self.recent.push(update.seq, json.clone());
        self.batch.outputs.push(Output::Update { seq: update.seq, json, from });
        let config = &self.app.config;
        if update.seq - self.kept_snapshot >= config.snapshot_every
            || self.bytes_since >= config.snapshot_bytes
        {
            self.kept_snapshot = update.seq;
            self.bytes_since = 0;
            self.batch.outputs.push(Output::Snapshot(Box::new(self.sequencer.snapshot())));
        }
        self.ask_for_digests(self.app.config.digest_every);
    }

    fn refused(&mut self, actor: &Actor, n: u64, problem: Problem, from: Origin) {
        self.app.metrics.refused(&problem);
        if n > 0 {
            self.batch.refusals.push(RefusalRow {
                session: self.ord(),
                client: actor.key().id(),
                n: signed(n),
                at_seq: signed(self.sequencer.seq()),
                problem: serde_json::to_string(&problem.clone().to_be_kept()).unwrap_or_default(),
            });
            self.bound_refusals();
        }
        self.batch.outputs.push(Output::Refused { n, problem, from });
    }

    /// The store keeps no more refusals than the session remembers.
    fn bound_refusals(&mut self) {
        self.refused_since += 1;
        if self.refused_since < TIDY {
            return;
        }
        self.refused_since = 0;
        let (store, ord) = (self.app.store.clone(), self.ord());
        tokio::spawn(async move {
            // They are forgotten at the next turn, or with the next snapshot.
            if let Err(error) = store.forget_refusals(ord).await {
                tracing::debug!(%error, "old refusals were not forgotten");
            }
        });
    }

    fn note_remembered(&mut self) {
        let now = i64::try_from(self.sequencer.remembered()).unwrap_or(i64::MAX);
        self.app.metrics.remembered.inc_by(now - self.remembered);
        self.remembered = now;
    }

    /// Expressions that had no answer are told to the backend: in the log, the metrics and the
    /// session's figures.
    fn note_unanswered(&mut self) {
        for (line, why) in self.sequencer.poll_unanswered() {
            tracing::warn!(session = %self.head.id, line, %why, "an expression of the charter has \
                no answer");
            self.app.metrics.unanswered.inc();
            self.expression_faults.push_back(format!("line {line}: {why}"));
            if self.expression_faults.len() > 8 {
                self.expression_faults.pop_front();
            }
        }
    }

    pub(super) fn note_refused(&mut self, connection: ConnectionId, n: u64) {
        if let Some(member) = self.members.get_mut(&connection) {
            member.refused = member.refused.max(n);
        }
    }
}
