//! What participants propose, and what waits for a gate.

use rendel_core::{
    Actor, ClientKey, ClientOutcome, Effect, Outcome, Problem, ProblemKind, Proposal, RuleMark,
    Settled, Turned,
};
use rendel_wire::{Propose, Refused, Waiting as WaitingFrame};

use super::Session;
use crate::audiences::Word;
use crate::gates::{HeldProposal, QUEUE, Queued, check_told, gate_for};
use crate::input::{ConnectionId, GateVerdict};
use crate::order::{Origin, RowsTold, Waiting};
use crate::output::{GateCall, Output, Report};
use crate::problems::unavailable;

impl Session {
    pub(super) fn propose(&mut self, connection: ConnectionId, frame: Propose) {
        let Some(member) = self.members.get(connection) else { return };
        let (actor, refused) = (member.who.clone(), member.refused);
        let (n, client) = (frame.n, actor.key());
        let is_known =
            || self.gates.has(client, n) || self.order.sequencer().has_answered(client, n);
        if n > 0 && n <= member.denied && !self.order.is_adrift() && !is_known() {
            return self.refuse(connection, n, unavailable());
        }
        if self.order.is_adrift() && !self.gates.has(client, n) {
            let from = Origin::Connection { connection, client, n };
            if self.order.wait_for_journal(n, from).is_err() {
                self.refuse(connection, n, unavailable());
            }
            return;
        }
        if n == 0 {
            let detail = "\"n\" counts a client's proposals from 1; it is 0.";
            return self.refuse(connection, n, Problem::new(ProblemKind::Malformed, detail));
        }
        // What is positioned on top of a proposal that never got here means nothing either.
        self.order.sequencer_mut().note_refused(client, refused);
        self.pass(actor, frame.into(), Origin::Connection { connection, client, n });
    }

    /// Settles a proposal, if it does not wait for a gate.
    pub(super) fn pass(&mut self, actor: Actor, proposal: Proposal, from: Origin) {
        if let Err(problem) = check_told(&self.charter, &actor, &proposal) {
            return self.refuse_at_once(proposal.n, problem, &from);
        }
        if self.charter.gates.is_empty() {
            return self.settle(&actor, &proposal, from);
        }
        match self.gates.queue(HeldProposal::new(actor, proposal, from)) {
            Queued::Behind => {}
            Queued::Again { connection, n } => self.tell_waiting(connection, n),
            Queued::Full(held) => {
                let detail = format!(
                    "{QUEUE} proposals of this client wait behind one that is checked. Wait for it."
                );
                self.refuse_at_once(held.proposal.n, too_many(detail), &held.from);
            }
            Queued::Free(held) => self.take_to_gate(held),
        }
    }

    fn take_to_gate(&mut self, held: HeldProposal) {
        let HeldProposal { actor, proposal, .. } = &held;
        let is_known = self.order.sequencer().has_answered(actor.key(), proposal.n);
        let gate = gate_for(&self.charter, actor, &self.spelled_out(actor, proposal), 0)
            .filter(|_| !is_known && self.standing.refusal(actor).is_none());
        let Some(gate) = gate else { return self.settle(&held.actor, &held.proposal, held.from) };
        let most = self.charter.gates[gate].most;
        if self.gates.at(gate) >= most {
            let detail = format!("{most} proposals wait for this check. Try again in a moment.");
            return self.refuse_at_once(proposal.n, too_many(detail), &held.from);
        }
        self.wait_at(gate, held);
    }

    /// Asks a gate about a proposal, which waits before all else of its client.
    fn wait_at(&mut self, gate: usize, mut held: HeldProposal) {
        held.spelled_out = self.order.sequencer().spelled_out(&held.actor, &held.proposal);
        self.tell_waiting(held.from.connection(), held.proposal.n);
        let asked = GateCall {
            session: self.head.id.clone(),
            charter: self.head.charter.clone(),
            by: held.actor.id.clone(),
            role: held.actor.role.clone(),
            client: held.actor.client,
            n: held.proposal.n,
            edits: held.spelled_out.clone().unwrap_or_else(|| held.proposal.edits.clone()),
        };
        self.outputs.push(Output::AskGate { gate, client: held.actor.key(), asked });
        self.gates.wait_at(gate, held);
    }

    fn tell_waiting(&mut self, connection: Option<ConnectionId>, n: u64) {
        if let Some(connection) = connection {
            self.tell(connection, Word::Waiting(WaitingFrame { n }));
        }
    }

    /// A gate has answered: what waited goes to the next gate that is about it, or is settled or
    /// refused, and with it what waited behind. What a gate puts in place of the edits need not
    /// pass that gate once more.
    pub(super) fn handle_verdict(&mut self, client: ClientKey, n: u64, verdict: GateVerdict) {
        if self.order.is_adrift() {
            return self.late_verdicts.push((client, n, verdict));
        }
        let Some(held) = self.gates.take_answered(client, n) else { return };
        let HeldProposal { actor, mut proposal, from, gate, spelled_out } = held;
        match verdict {
            // What it was asked about is let through, and nothing that came to be meanwhile.
            GateVerdict::Accept
                if self.order.sequencer().spelled_out(&actor, &proposal) != spelled_out =>
            {
                let detail = "What this would take back has changed while it was checked. Look at \
                    it and decide again.";
                let problem = Problem::new(ProblemKind::Stale, detail);
                let sequencer = self.order.sequencer_mut();
                let outcome = sequencer.handle_refusal(&actor, &proposal, problem);
                self.come_out(n, outcome, from);
                return self.go_on(client);
            }
            GateVerdict::Accept => {}
            GateVerdict::Replace(edits) => {
                proposal.edits = edits;
                proposal.note.get_or_insert_with(|| "changed by a check on its way".to_owned());
            }
            GateVerdict::Refuse(problem) => {
                let sequencer = self.order.sequencer_mut();
                let outcome = sequencer.handle_refusal(&actor, &proposal, problem);
                self.come_out(n, outcome, from);
                return self.go_on(client);
            }
        }
        let next = gate.map_or(0, |passed| passed + 1);
        match gate_for(&self.charter, &actor, &self.spelled_out(&actor, &proposal), next) {
            Some(gate) => self.wait_at(gate, HeldProposal::new(actor, proposal, from)),
            None => {
                self.settle(&actor, &proposal, from);
                self.go_on(client);
            }
        }
    }

    fn go_on(&mut self, client: ClientKey) {
        while let Some(held) = self.gates.take_next(client) {
            let is_known = self.order.sequencer().has_answered(client, held.proposal.n);
            let edits = self.spelled_out(&held.actor, &held.proposal);
            let gate = gate_for(&self.charter, &held.actor, &edits, 0);
            match gate.filter(|_| !is_known) {
                Some(gate) => return self.wait_at(gate, held),
                None => self.settle(&held.actor, &held.proposal, held.from),
            }
        }
    }

    pub(super) fn settle(&mut self, actor: &Actor, proposal: &Proposal, from: Origin) {
        if let Origin::Call { .. } = from
            && let Err(problem) = self.check_key(actor, proposal.n)
        {
            return self.refuse_at_once(proposal.n, problem, &from);
        }
        let outcome = match self.standing.refusal(actor) {
            Some(problem) => self.order.sequencer_mut().handle_refusal(actor, proposal, problem),
            None => {
                let (holds, charter) = (self.people.holds(), &self.charter);
                let held = |effects: &[Effect]| holds.refusal(charter, actor, effects);
                let sequencer = self.order.sequencer_mut();
                sequencer.handle_proposal_unless(actor, proposal, self.now, &held)
            }
        };
        self.note_unanswered();
        self.come_out(proposal.n, outcome, from);
    }

    pub(super) fn come_out(&mut self, n: u64, outcome: Outcome, from: Origin) {
        match (outcome, from) {
            (Outcome::Settled(update), from) => self.settled(update, from),
            (Outcome::Refused(problem), from) => {
                self.report(Report::Refused(problem.clone()));
                if self.order.push_refusal(n, problem, from) {
                    self.outputs.push(Output::ForgetRefusals);
                }
            }
            (Outcome::Repeated(outcome), from) => {
                self.order.push(Waiting::Repeated { outcome, from });
            }
        }
    }

    fn settled(&mut self, update: Settled, from: Origin) {
        self.seating.is_due |= self.charter.has_seats();
        for RuleMark { rule, failed, .. } in &update.rules {
            if let Some(why) = failed {
                self.note_fault(format!("rule {rule:?}: {why}"));
                self.report(Report::RuleFailed { rule: rule.clone(), why: why.clone() });
            }
        }
        self.note_undoable(&update.by);
        self.audiences.handle_settled(&update);
        self.people.handle_settled(&update.by, &update.effects, self.now);
        let turned = self.turned_rows(&update);
        self.order.push_update(update, from);
        for Turned { tickets, steps } in turned {
            self.order.push(Waiting::Rows { tickets, told: RowsTold::Steps(steps) });
        }
        self.compare_at.get_or_insert(self.now + self.settings.digest_within);
        self.ask_for_digests(self.settings.digest_every);
    }

    /// A key stands for one call: with another body it is a mistake.
    pub(super) fn check_key(&self, actor: &Actor, n: u64) -> Result<(), Problem> {
        let sequencer = self.order.sequencer();
        if n == 0 || sequencer.outcomes(actor.key()).all(|(known, _)| known == n) {
            return Ok(());
        }
        let detail = "This Idempotency-Key came with another call before. Every call has a key of \
            its own; only its repeat has the same.";
        Err(Problem::new(ProblemKind::KeyReused, detail))
    }

    /// Refuses what the sequencer never heard of.
    pub(super) fn refuse_at_once(&mut self, n: u64, problem: Problem, from: &Origin) {
        self.report(Report::Refused(problem.clone()));
        match from {
            Origin::Connection { connection, .. } => self.refuse(*connection, n, problem),
            Origin::Call { call, reader, .. } => self.answer(*call, Err(problem), reader),
            Origin::Own => {}
        }
    }

    pub(super) fn refuse(&mut self, connection: ConnectionId, n: u64, problem: Problem) {
        if problem.kind() == ProblemKind::Unavailable {
            self.report(Report::Refused(problem.clone()));
        }
        match problem.kind() {
            // It is sent again in a moment.
            ProblemKind::TooFast => self.members.note_refused(connection, n),
            _ => self.members.note_denied(connection, n),
        }
        self.tell(connection, Word::Refused(Refused { n, problem }));
    }

    /// The outcome of a proposal that a client is known to have made, if it has one.
    pub(super) fn outcome(&self, client: ClientKey, n: u64) -> Option<ClientOutcome> {
        let mut outcomes = self.order.sequencer().outcomes(client);
        outcomes.find(|(known, _)| *known == n).map(|(_, outcome)| outcome)
    }
}

fn too_many(detail: String) -> Problem {
    Problem::new(ProblemKind::TooFast, detail).with("limit", "gate").with("wait_ms", 1_000)
}
