//! What each client was answered, so that a proposal sent again counts once.

use std::collections::{BTreeMap, VecDeque};

use serde::{Deserialize, Serialize};

use crate::edit::ClientKey;
use crate::problem::{Problem, ProblemKind};

/// The first outcome of a proposal.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ClientOutcome {
    /// It is this update.
    Settled(u64),
    /// It was refused.
    Refused(Problem),
}

/// Numbers stay where every client's arithmetic is exact.
const MOST_NUMBER: u64 = (1 << 53) - 1;
/// Outcomes remembered for one client while it has not said that it knows them.
const OUTCOMES: usize = 256;
/// Clients remembered; beyond twice as many, those that were silent longest are forgotten.
const CLIENTS: usize = 5_000;
/// Refusals remembered in one session; they are larger than a number.
const REFUSALS: usize = 4_096;

#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(super) struct Clients {
    clients: BTreeMap<ClientKey, Client>,
    refusals: VecDeque<(ClientKey, u64)>,
}

#[derive(Clone, Debug, Default, Serialize, Deserialize)]
struct Client {
    highest: u64,
    /// The `seq` of the session when it was last answered.
    touched: u64,
    /// Its last proposal that was refused.
    refused: u64,
    outcomes: BTreeMap<u64, ClientOutcome>,
}

impl Clients {
    /// The first outcome of a proposal that was sent before, or `None` for a new one and for one without a number.
    pub(super) fn known(&self, client: ClientKey, n: u64, answered: u64) -> Result<Option<ClientOutcome>, Problem> {
        if n == 0 {
            return Ok(None);
        }
        let highest = self.clients.get(&client).map_or(0, |known| known.highest);
        if answered >= n || n > MOST_NUMBER {
            let detail = format!(
                "\"n\" counts from 1 to 2^53 - 1 per client and lies above \"answered\"; it is {n}, and \"answered\" {answered}."
            );
            return Err(Problem::new(ProblemKind::Malformed, detail));
        }
        if n > highest {
            return Ok(None);
        }
        let outcome = self.clients.get(&client).and_then(|known| known.outcomes.get(&n));
        outcome.cloned().map(Some).ok_or_else(|| {
            let detail =
                format!("Proposal {n} of this client was answered and is forgotten. The next is {}.", highest + 1);
            Problem::new(ProblemKind::Malformed, detail).with("next_n", highest + 1)
        })
    }

    /// Whether a proposal of the client was refused that did not know it while it knew the outcomes up to `answered`.
    pub(super) fn has_refused_beyond(&self, client: ClientKey, answered: u64) -> bool {
        self.clients.get(&client).is_some_and(|known| known.refused > answered)
    }

    /// A number that was passed over, or whose outcome is forgotten, has no effect any more.
    pub(super) fn note_forgotten(&mut self, client: ClientKey, n: u64) {
        if let Some(known) = self.clients.get_mut(&client).filter(|known| n <= known.highest) {
            known.refused = known.refused.max(n);
        }
    }

    pub(super) fn note_refused(&mut self, client: ClientKey, n: u64) {
        let known = self.clients.entry(client).or_default();
        known.refused = known.refused.max(n);
    }

    /// Remembers the outcome of a numbered proposal.
    pub(super) fn record(&mut self, client: ClientKey, n: u64, outcome: ClientOutcome, seq: u64) {
        if n == 0 {
            return;
        }
        let is_refused = matches!(outcome, ClientOutcome::Refused(_));
        let outcome = match outcome {
            ClientOutcome::Refused(problem) => {
                self.refusals.push_back((client, n));
                ClientOutcome::Refused(problem.to_be_kept())
            }
            settled @ ClientOutcome::Settled(_) => settled,
        };
        let known = self.clients.entry(client).or_default();
        known.highest = known.highest.max(n);
        known.touched = seq;
        known.refused = if is_refused { known.refused.max(n) } else { known.refused };
        known.outcomes.insert(n, outcome);
        if known.outcomes.len() > OUTCOMES {
            known.outcomes.pop_first();
        }
        self.forget();
    }

    /// Forgets what the client says it knows.
    pub(super) fn answered(&mut self, client: ClientKey, answered: u64) {
        if let Some(known) =
            self.clients.get_mut(&client).filter(|known| known.outcomes.keys().next().is_some_and(|n| *n <= answered))
        {
            known.outcomes = known.outcomes.split_off(&(answered + 1));
        }
    }

    pub(super) fn outcomes(&self, client: ClientKey) -> impl Iterator<Item = (u64, &ClientOutcome)> {
        self.clients.get(&client).into_iter().flat_map(|known| known.outcomes.iter().map(|(n, outcome)| (*n, outcome)))
    }

    fn forget(&mut self) {
        while self.refusals.len() > REFUSALS {
            let Some((client, n)) = self.refusals.pop_front() else { break };
            if let Some(known) = self.clients.get_mut(&client) {
                known.outcomes.remove(&n);
            }
        }
        if self.clients.len() > 2 * CLIENTS {
            let mut touched: Vec<_> = self.clients.values().map(|known| known.touched).collect();
            touched.sort_unstable();
            let oldest_kept = touched[touched.len() - CLIENTS];
            self.clients.retain(|_, known| known.touched >= oldest_kept);
        }
    }
}
