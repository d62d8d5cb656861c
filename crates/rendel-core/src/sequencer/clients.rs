//! What each client was answered, so that a proposal sent again counts once.

use std::collections::BTreeMap;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::actor::ClientKey;
use crate::lately::{Capacity, Lately};
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
const OUTCOMES: usize = 2_048;
/// Clients remembered; beyond them those that were silent longest are forgotten.
const CLIENTS: Capacity = Capacity { entries: 10_000, bytes: 16 << 20 };
/// Refusals remembered in one session.
const REFUSALS: Capacity = Capacity { entries: 4_096, bytes: 8 << 20 };

#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(super) struct Clients {
    /// Whether some client was forgotten: then one that is not known may be it.
    #[serde(default)]
    has_forgotten: bool,
    clients: Lately<ClientKey, Arc<Client>>,
    refusals: Lately<(ClientKey, u64), Problem>,
}

#[derive(Clone, Debug, Default, Serialize, Deserialize)]
struct Client {
    /// Its last proposal that has an outcome.
    highest: u64,
    /// Its last proposal that was refused.
    refused: u64,
    /// Of those that were settled, the updates.
    settled: BTreeMap<u64, u64>,
}

impl Client {
    /// The approximate bytes that it occupies.
    fn bytes(&self) -> usize {
        96 + 16 * self.settled.len()
    }
}

impl Clients {
    /// Of a session whose clients of before are not known.
    pub(super) fn forgetful() -> Self {
        Self { has_forgotten: true, ..Self::default() }
    }

    /// The first outcome of a proposal that was sent before, or `None` for a new one and for one
    /// without a number.
    pub(super) fn known(
        &self,
        client: ClientKey,
        n: u64,
        answered: u64,
    ) -> Result<Option<ClientOutcome>, Problem> {
        if n == 0 {
            return Ok(None);
        }
        let known = self.clients.get(&client);
        let highest = known.map_or(0, |known| known.highest);
        if answered >= n || n > MOST_NUMBER {
            let detail = format!(
                "\"n\" counts from 1 to 2^53 - 1 per client and lies above \"answered\"; it is \
                 {n}, and \"answered\" {answered}."
            );
            return Err(Problem::new(ProblemKind::Malformed, detail));
        }
        if known.is_none() && n > 1 && self.has_forgotten {
            // Perhaps it counts already.
            let detail = format!(
                "Nothing is remembered of this client, so whether its proposal {n} was settled \
                 cannot be told. Come as another client, whose first proposal is 1."
            );
            return Err(Problem::new(ProblemKind::Forgotten, detail).with("next_n", 1));
        }
        if n > highest {
            return Ok(None);
        }
        let refused = || self.refusals.get(&(client, n)).cloned().map(ClientOutcome::Refused);
        let settled = known.and_then(|known| known.settled.get(&n));
        settled.copied().map(ClientOutcome::Settled).or_else(refused).map(Some).ok_or_else(|| {
            let detail = format!(
                "Proposal {n} of this client was answered and is forgotten. The next is {}.",
                highest + 1
            );
            Problem::new(ProblemKind::Forgotten, detail).with("next_n", highest + 1)
        })
    }

    /// Whether a proposal of the client was refused that did not know it while it knew the outcomes
    /// up to `answered`.
    pub(super) fn has_refused_beyond(&self, client: ClientKey, answered: u64) -> bool {
        self.clients.get(&client).is_some_and(|known| known.refused > answered)
    }

    /// A number that was passed over, or whose outcome is forgotten, has no effect any more.
    pub(super) fn note_forgotten(&mut self, client: ClientKey, n: u64) {
        if self.clients.get(&client).is_some_and(|known| n <= known.highest) {
            self.note_refused(client, n);
        }
    }

    pub(super) fn note_refused(&mut self, client: ClientKey, n: u64) {
        self.touch(client, |known| known.refused = known.refused.max(n));
    }

    /// Remembers the outcome of a numbered proposal, and forgets what its client says it knows: the
    /// outcomes up to `answered`.
    pub(super) fn record(
        &mut self,
        client: ClientKey,
        n: u64,
        outcome: ClientOutcome,
        answered: u64,
    ) {
        if n == 0 {
            return;
        }
        self.touch(client, |known| {
            if known.settled.keys().next().is_some_and(|n| *n <= answered) {
                known.settled = known.settled.split_off(&(answered + 1));
            }
            known.highest = known.highest.max(n);
            match outcome {
                ClientOutcome::Refused(_) => known.refused = known.refused.max(n),
                ClientOutcome::Settled(seq) => {
                    known.settled.insert(n, seq);
                    if known.settled.len() > OUTCOMES {
                        known.settled.pop_first();
                    }
                }
            }
        });
        let refused: Vec<u64> =
            self.refused(client).map(|(n, _)| n).take_while(|n| *n <= answered).collect();
        refused.into_iter().for_each(|n| drop(self.refusals.take(&(client, n))));
        if let ClientOutcome::Refused(problem) = outcome {
            let problem = problem.to_be_kept();
            let bytes = problem.bytes();
            self.refusals.put((client, n), problem, bytes, REFUSALS);
        }
    }

    /// Changes what is known of a client, which is the last to be forgotten then.
    fn touch(&mut self, client: ClientKey, change: impl FnOnce(&mut Client)) {
        let changed = |known: &mut Arc<Client>| {
            let known = Arc::make_mut(known);
            change(known);
            known.bytes()
        };
        self.has_forgotten |= self.clients.change(client, changed, CLIENTS) > 0;
    }

    /// About the bytes that it takes.
    pub(super) fn bytes(&self) -> usize {
        self.clients.bytes() + self.refusals.bytes()
    }

    /// The outcomes that are remembered of a client, by `n`.
    pub(super) fn outcomes(&self, client: ClientKey) -> impl Iterator<Item = (u64, ClientOutcome)> {
        let settled = self.clients.get(&client).into_iter().flat_map(|known| &known.settled);
        let settled = settled.map(|(n, seq)| (*n, ClientOutcome::Settled(*seq)));
        let refused =
            self.refused(client).map(|(n, problem)| (n, ClientOutcome::Refused(problem.clone())));
        let mut outcomes: Vec<_> = settled.chain(refused).collect();
        outcomes.sort_unstable_by_key(|(n, _)| *n);
        outcomes.into_iter()
    }

    fn refused(&self, client: ClientKey) -> impl Iterator<Item = (u64, &Problem)> {
        self.refusals
            .between((client, 0), (client, u64::MAX))
            .map(|((_, n), problem)| (*n, problem))
    }
}
