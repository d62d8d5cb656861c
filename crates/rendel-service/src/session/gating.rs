//! Proposals that wait for an outside check, and those of the same client that wait behind them.

use std::collections::{BTreeMap, VecDeque};

use rendel_core::{Actor, ClientKey, Edit, Gate, Path, Problem, ProblemKind, Proposal};
use rendel_wire::{FromService, Waiting as WaitingFrame};
use tokio::sync::mpsc;

use super::ConnectionId;
use super::task::{Origin, Task};
use crate::gates::{Asked, Verdict};

/// Proposals of one client that may wait.
const QUEUE: usize = 256;

/// What waits, by client: the first of each is at its gate.
#[derive(Default)]
pub(super) struct Gating {
    waiting: BTreeMap<ClientKey, VecDeque<Held>>,
}

struct Held {
    actor: Actor,
    proposal: Proposal,
    from: Origin,
    /// The gate, by its place in the charter, while it is asked.
    gate: Option<usize>,
}

/// What a gate said of a client's proposal.
pub(super) struct Passed {
    client: ClientKey,
    n: u64,
    verdict: Verdict,
}

impl Gating {
    fn at_gate(&self, gate: usize) -> usize {
        self.waiting
            .values()
            .filter(|queue| queue.front().is_some_and(|held| held.gate == Some(gate)))
            .count()
    }

    pub(super) fn is_empty(&self) -> bool {
        self.waiting.is_empty()
    }
}

impl Task {
    /// Takes a proposal to its gate, or behind what waits there already; gives it back where
    /// nothing holds it up.
    pub(super) fn hold_up(
        &mut self,
        actor: &Actor,
        proposal: Proposal,
        from: Origin,
    ) -> Option<(Proposal, Origin)> {
        let client = actor.key();
        if let Some(queue) = self.gating.waiting.get_mut(&client) {
            let held = Held { actor: actor.clone(), proposal, from, gate: None };
            if let Some(sent_before) =
                queue.iter_mut().find(|waiting| waiting.proposal.n == held.proposal.n)
            {
                // Sent again over another connection: it is checked once, and answered there.
                sent_before.from = held.from;
                let (n, from) = (sent_before.proposal.n, connection_of(&sent_before.from));
                self.tell_waiting(from, n);
            } else if queue.len() < QUEUE {
                queue.push_back(held);
            } else {
                let detail = format!(
                    "{QUEUE} proposals of this client wait behind one that is checked. Wait for it."
                );
                let problem = Problem::new(ProblemKind::TooFast, detail)
                    .with("limit", "gate")
                    .with("wait_ms", 1_000);
                self.refuse_at_once(held.proposal.n, problem, held.from);
            }
            return None;
        }
        let is_known = self.sequencer.has_answered(client, proposal.n);
        let gate = self
            .gate_for(actor, &proposal.edits, 0)
            .filter(|_| !is_known && self.refusal(actor).is_none());
        let Some(gate) = gate else { return Some((proposal, from)) };
        let most = self.charter.gates[gate].most;
        if self.gating.at_gate(gate) >= most {
            let detail = format!("{most} proposals wait for this check. Try again in a moment.");
            let problem = Problem::new(ProblemKind::TooFast, detail)
                .with("limit", "gate")
                .with("wait_ms", 1_000);
            self.refuse_at_once(proposal.n, problem, from);
            return None;
        }
        self.wait_at(gate, Held { actor: actor.clone(), proposal, from, gate: None });
        None
    }

    /// Asks a gate about a proposal, which waits before all else of its client.
    fn wait_at(&mut self, gate: usize, held: Held) {
        self.ask_gate(gate, &held);
        let queue = self.gating.waiting.entry(held.actor.key()).or_default();
        queue.push_front(Held { gate: Some(gate), ..held });
    }

    pub(super) fn refuse_at_once(&mut self, n: u64, problem: Problem, from: Origin) {
        self.app.metrics.refused(&problem);
        match from {
            Origin::Connection { connection, .. } => self.refuse(connection, n, problem),
            Origin::Call { answer, .. } => drop(answer.send(Err(problem))),
        }
    }

    /// The first gate from `first` on that is about one of the edits. The backend itself passes.
    fn gate_for(&self, actor: &Actor, edits: &[Edit], first: usize) -> Option<usize> {
        if actor.role == Actor::SERVICE {
            return None;
        }
        let is_about = |gate: &Gate| edits.iter().any(|edit| touches(gate, edit));
        (first..self.charter.gates.len()).find(|gate| is_about(&self.charter.gates[*gate]))
    }

    fn ask_gate(&self, gate: usize, held: &Held) {
        self.tell_waiting(connection_of(&held.from), held.proposal.n);
        let asked = Asked {
            session: self.head.id.clone(),
            charter: self.head.charter.clone(),
            by: held.actor.id.clone(),
            role: held.actor.role.clone(),
            client: held.actor.client,
            n: held.proposal.n,
            edits: held.proposal.edits.clone(),
        };
        let client = held.actor.key();
        let (app, declared, gated) =
            (self.app.clone(), self.charter.gates[gate].clone(), self.gated.clone());
        tokio::spawn(async move {
            let n = asked.n;
            let verdict = app.gates.ask(&app, &declared, &asked).await;
            // A session that has gone meanwhile settles nothing.
            let _ = gated.send(Passed { client, n, verdict });
        });
    }

    fn tell_waiting(&self, connection: Option<ConnectionId>, n: u64) {
        if let Some(connection) = connection {
            self.tell(connection, &FromService::Waiting(WaitingFrame { n }));
        }
    }

    /// A gate has answered: what waited goes to the next gate that is about it, or is settled or
    /// refused, and with it what waited behind. What a gate puts in place of the edits need not
    /// pass that gate once more.
    pub(super) fn handle_passed(&mut self, passed: Passed) {
        let Passed { client, n, verdict } = passed;
        let Some(queue) = self.gating.waiting.get_mut(&client) else { return };
        if queue.front().is_none_or(|held| held.proposal.n != n) {
            return;
        }
        let Some(held) = queue.pop_front() else { return };
        let Held { actor, mut proposal, from, gate } = held;
        match verdict {
            Verdict::Accept => {}
            Verdict::Replace(edits) => {
                proposal.edits = edits;
                proposal.note.get_or_insert_with(|| "changed by a check on its way".to_owned());
            }
            Verdict::Refuse(problem) => {
                let outcome = self.sequencer.handle_refusal(&actor, &proposal, problem);
                self.come_out(&actor, n, outcome, from);
                return self.go_on(client);
            }
        }
        match self.gate_for(&actor, &proposal.edits, gate.map_or(0, |passed| passed + 1)) {
            Some(gate) => self.wait_at(gate, Held { actor, proposal, from, gate: None }),
            None => {
                self.settle(&actor, &proposal, from);
                self.go_on(client);
            }
        }
    }

    fn go_on(&mut self, client: ClientKey) {
        while let Some(queue) = self.gating.waiting.get_mut(&client) {
            let Some(held) = queue.pop_front() else {
                self.gating.waiting.remove(&client);
                return;
            };
            let is_known = self.sequencer.has_answered(client, held.proposal.n);
            match self.gate_for(&held.actor, &held.proposal.edits, 0).filter(|_| !is_known) {
                Some(gate) => return self.wait_at(gate, held),
                None => self.settle(&held.actor, &held.proposal, held.from),
            }
        }
    }
}

fn connection_of(from: &Origin) -> Option<ConnectionId> {
    match from {
        Origin::Connection { connection, .. } => Some(*connection),
        Origin::Call { .. } => None,
    }
}

/// Whether a gate is about an edit: at, around or inside what it changes. What cannot be read is
/// refused without a gate.
fn touches(gate: &Gate, edit: &Edit) -> bool {
    let (Ok(path), Some(op)) = (Path::parse(&edit.at), edit.read()) else { return false };
    !op.is_condition() && gate.at.concerns(path.tokens(), op.makes().is_some())
}

/// The way on which gates answer.
pub(super) type Gated = mpsc::UnboundedSender<Passed>;
