//! Proposals that wait for an outside check, and those of the same client that wait behind them.

use std::collections::{BTreeMap, VecDeque};

use rendel_core::{Actor, Charter, ClientKey, Edit, Gate, Path, Problem, ProblemKind, Proposal};

use crate::input::ConnectionId;
use crate::order::Origin;

/// Proposals of one client that may wait.
pub(crate) const QUEUE: usize = 256;

/// A proposal that waits.
#[derive(Debug)]
pub(crate) struct HeldProposal {
    pub(crate) actor: Actor,
    pub(crate) proposal: Proposal,
    pub(crate) from: Origin,
    /// The gate, by its place in the charter, while it is asked.
    pub(crate) gate: Option<usize>,
    /// Of an undo the edits that the gate is asked about: it comes to these or is not let through.
    pub(crate) spelled_out: Option<Vec<Edit>>,
}

impl HeldProposal {
    pub(crate) fn new(actor: Actor, proposal: Proposal, from: Origin) -> Self {
        Self { actor, proposal, from, gate: None, spelled_out: None }
    }
}

/// What waits, by client: the first of each is at its gate.
#[derive(Debug, Default)]
pub(crate) struct Gates {
    waiting: BTreeMap<ClientKey, VecDeque<HeldProposal>>,
}

/// Where a proposal went.
pub(crate) enum Queued {
    /// Behind what waits.
    Behind,
    /// It waits already, and is answered where it came from last.
    Again { connection: Option<ConnectionId>, n: u64 },
    /// There is no space.
    Full(HeldProposal),
    /// Nothing of its client waits.
    Free(HeldProposal),
}

impl Gates {
    pub(crate) fn is_empty(&self) -> bool {
        self.waiting.is_empty()
    }

    /// Proposals that are at a gate.
    pub(crate) fn at(&self, gate: usize) -> usize {
        let is_there = |queue: &&VecDeque<HeldProposal>| {
            queue.front().is_some_and(|held| held.gate == Some(gate))
        };
        self.waiting.values().filter(is_there).count()
    }

    /// Whether a proposal waits already.
    pub(crate) fn has(&self, client: ClientKey, n: u64) -> bool {
        let waits = |queue: &VecDeque<HeldProposal>| queue.iter().any(|held| held.proposal.n == n);
        n > 0 && self.waiting.get(&client).is_some_and(waits)
    }

    /// Puts a proposal behind what waits of its client.
    pub(crate) fn queue(&mut self, held: HeldProposal) -> Queued {
        let Some(queue) = self.waiting.get_mut(&held.actor.key()) else {
            return Queued::Free(held);
        };
        let n = held.proposal.n;
        if let Some(sent_before) = queue.iter_mut().find(|waiting| waiting.proposal.n == n) {
            sent_before.from = held.from;
            Queued::Again { connection: sent_before.from.connection(), n }
        } else if queue.len() < QUEUE {
            queue.push_back(held);
            Queued::Behind
        } else {
            Queued::Full(held)
        }
    }

    /// A proposal waits at a gate, before all else of its client.
    pub(crate) fn wait_at(&mut self, gate: usize, held: HeldProposal) {
        let queue = self.waiting.entry(held.actor.key()).or_default();
        queue.push_front(HeldProposal { gate: Some(gate), ..held });
    }

    /// Takes what a gate has answered. A late or second answer is about nothing.
    pub(crate) fn take_answered(&mut self, client: ClientKey, n: u64) -> Option<HeldProposal> {
        let queue = self.waiting.get_mut(&client)?;
        queue.front().filter(|held| held.proposal.n == n && held.gate.is_some())?;
        queue.pop_front()
    }

    /// Takes what a client has waiting next.
    pub(crate) fn take_next(&mut self, client: ClientKey) -> Option<HeldProposal> {
        let next = self.waiting.get_mut(&client)?.pop_front();
        if next.is_none() {
            self.waiting.remove(&client);
        }
        next
    }

    /// Takes all that waits.
    pub(crate) fn take_all(&mut self) -> impl Iterator<Item = HeldProposal> + use<> {
        std::mem::take(&mut self.waiting).into_values().flatten()
    }
}

/// The first gate from `first` on that is about one of the edits. The backend itself passes.
pub(crate) fn gate_for(
    charter: &Charter,
    actor: &Actor,
    edits: &[Edit],
    first: usize,
) -> Option<usize> {
    if actor.role == Actor::SERVICE {
        return None;
    }
    let is_about = |gate: &Gate| edits.iter().any(|edit| touches(charter, gate, edit));
    (first..charter.gates.len()).find(|gate| is_about(&charter.gates[*gate]))
}

/// Refuses a secret ballot in a proposal with other edits for which a gate is asked: the gate would
/// see it.
pub(crate) fn check_told(
    charter: &Charter,
    actor: &Actor,
    proposal: &Proposal,
) -> Result<(), Problem> {
    let edits = &proposal.edits;
    if charter.gates.is_empty() || edits.len() < 2 {
        return Ok(());
    }
    let casts = |edit: &Edit| {
        let path = Path::parse(&edit.at);
        path.is_ok_and(|path| edit.read().is_some_and(|op| charter.casts_in_secret(&path, &op)))
    };
    match edits.iter().find(|edit| casts(edit)) {
        Some(cast) if gate_for(charter, actor, edits, 0).is_some() => {
            let detail = "Cast a secret ballot in a proposal of its own: a check outside of the \
                session is asked about the other edits of this one.";
            Err(Problem::new(ProblemKind::Malformed, detail).at(cast.at.clone()))
        }
        _ => Ok(()),
    }
}

/// Whether a gate is about an edit: at, around or inside what it changes. What cannot be read is
/// refused without a gate. A secret ballot passes every gate, since asking would disclose it.
fn touches(charter: &Charter, gate: &Gate, edit: &Edit) -> bool {
    let (Ok(path), Some(op)) = (Path::parse(&edit.at), edit.read()) else { return false };
    !op.is_condition()
        && !charter.casts_in_secret(&path, &op)
        && gate.at.concerns(path.tokens(), op.makes().is_some())
}
