//! The journal of a world, with the promises of the real one.
//!
//! An append is written whole or not at all, and only by the owner of the newest epoch. A take-over
//! waits for an append that is under way. What is written stays.

use std::collections::BTreeSet;
use std::sync::Arc;

use rendel_core::{Charter, ClientKey, Lens, Problem, SequencerSnapshot, Settled, State, Viewer};
use rendel_session::{Found, RefusalRow, SessionStatus, UpdateRow};
use serde_json::Value;

use crate::participant::Part;

/// The virtual time at which worlds begin.
pub(crate) const BEGIN: u64 = 1_800_000_000_000;

/// The journal, and beside it the state that follows from it alone.
#[derive(Debug)]
pub(crate) struct Journal {
    charter: Arc<Charter>,
    epoch: u64,
    epochs: Vec<(u64, u64)>,
    standing: SessionStatus,
    snapshot: Option<SequencerSnapshot>,
    updates: Vec<(Arc<str>, Settled)>,
    refusals: Vec<(u64, ClientKey, u64, Problem)>,
    /// Each proposal that was refused, likewise.
    refused: BTreeSet<(ClientKey, u64)>,
    /// Each proposal that has its place, by client and number.
    proposals: BTreeSet<(ClientKey, u64)>,
    state: State,
    /// What was announced, with the update that it was written with.
    announced: Vec<(u64, String)>,
    /// The state after each update.
    truth: Vec<State>,
}

impl Journal {
    pub(crate) fn of(charter: Arc<Charter>, opening: &Value) -> Result<Self, Problem> {
        let state = State::open(&charter, Some(opening))?;
        let truth = vec![state.clone()];
        Ok(Self {
            charter,
            epoch: 0,
            epochs: Vec::new(),
            standing: SessionStatus::default(),
            snapshot: None,
            updates: Vec::new(),
            refusals: Vec::new(),
            refused: BTreeSet::new(),
            proposals: BTreeSet::new(),
            announced: Vec::new(),
            state,
            truth,
        })
    }

    pub(crate) fn seq(&self) -> u64 {
        self.updates.len() as u64
    }

    /// Somebody else becomes the owner, and gets all that is written.
    pub(crate) fn take_over(&mut self) -> Found {
        self.epoch += 1;
        self.epochs.push((self.epoch, self.seq()));
        self.found()
    }

    fn found(&self) -> Found {
        let after = self.snapshot.as_ref().map_or(0, |snapshot| snapshot.seq);
        let skip = usize::try_from(after).unwrap_or(usize::MAX);
        Found {
            epoch: self.epoch,
            epochs: self.epochs.clone(),
            standing: self.standing.clone(),
            snapshot: self.snapshot.clone(),
            updates: self.updates.iter().skip(skip).map(|(_, update)| update.clone()).collect(),
            refusals: self.refusals.iter().filter(|(at, ..)| *at >= after).cloned().collect(),
            unseen: None,
            secret: uuid::Uuid::from_u128(7),
            opened: BEGIN,
            wakes: None,
        }
    }

    /// The state after an update.
    pub(crate) fn state_at(&self, seq: u64) -> Option<&State> {
        self.truth.get(usize::try_from(seq).ok()?)
    }

    /// The updates after `seq`.
    pub(crate) fn after(&self, seq: u64) -> Vec<Arc<str>> {
        let skip = usize::try_from(seq).unwrap_or(usize::MAX);
        self.updates.iter().skip(skip).map(|(json, _)| json.clone()).collect()
    }

    /// The update at a place.
    pub(crate) fn update(&self, seq: u64) -> Option<&(Arc<str>, Settled)> {
        self.updates.get(usize::try_from(seq.checked_sub(1)?).ok()?)
    }

    pub(crate) fn updates(&self) -> impl Iterator<Item = &Settled> {
        self.updates.iter().map(|(_, update)| update)
    }

    /// Whether a proposal has a place.
    pub(crate) fn has(&self, client: ClientKey, n: u64) -> bool {
        self.proposals.contains(&(client, n))
    }

    /// How often something was announced with an update.
    pub(crate) fn announced(&self, seq: u64, kind: &str) -> usize {
        let is_it = |(at, own): &&(u64, String)| *at == seq && own == kind;
        self.announced.iter().filter(is_it).count()
    }

    /// Whether the refusal of a proposal is written.
    pub(crate) fn has_refused(&self, client: ClientKey, n: u64) -> bool {
        self.refused.contains(&(client, n))
    }

    /// Writes rows of an owner; `false` where another one has taken over. Says what is wrong with
    /// them.
    pub(crate) fn append(
        &mut self,
        epoch: u64,
        updates: &[UpdateRow],
        refusals: &[RefusalRow],
    ) -> Result<bool, String> {
        if epoch != self.epoch {
            return Ok(false);
        }
        for row in updates {
            let update: Settled = serde_json::from_str(&row.body).map_err(|e| e.to_string())?;
            if update.seq != self.seq() + 1 {
                return Err(format!("update {} was written after {}", update.seq, self.seq()));
            }
            if update.n > 0 && !self.proposals.insert((update.key(), update.n)) {
                let (by, n) = (&update.by, update.n);
                return Err(format!("proposal {n} of {by} counts twice, at {}", update.seq));
            }
            let applied = self.state.apply(&self.charter.fields, &update);
            applied.map_err(|misfit| misfit.to_string())?;
            self.truth.push(self.state.clone());
            let announced = row.announced.iter().map(|one| (row.seq, one.kind.clone()));
            self.announced.extend(announced);
            self.updates.push((row.body.clone(), update));
        }
        for row in refusals {
            let problem = serde_json::from_str(&row.problem).map_err(|e| e.to_string())?;
            self.refused.insert((row.client, row.n));
            self.refusals.push((row.at_seq, row.client, row.n, problem));
        }
        Ok(true)
    }

    pub(crate) fn set_standing(&mut self, epoch: u64, standing: SessionStatus) -> bool {
        let is_owner = epoch == self.epoch;
        if is_owner {
            self.standing = standing;
        }
        is_owner
    }

    pub(crate) fn keep(&mut self, epoch: u64, snapshot: &SequencerSnapshot) -> Result<(), String> {
        if snapshot.seq > self.seq() {
            return Err(format!(
                "a snapshot of {} was kept where the journal has {}",
                snapshot.seq,
                self.seq()
            ));
        }
        let is_newer = self.snapshot.as_ref().is_none_or(|kept| kept.seq < snapshot.seq);
        if epoch == self.epoch && is_newer {
            // As a database gives it back.
            let text = serde_json::to_string(snapshot).map_err(|error| error.to_string())?;
            let value = serde_json::from_str(&text).map_err(|error| error.to_string())?;
            self.snapshot = Some(SequencerSnapshot::read(value).map_err(|e| e.to_string())?);
        }
        Ok(())
    }

    /// What the replica of somebody holds after `seq`, as far as the journal goes.
    pub(crate) fn truth(&self, seq: u64, id: &str, part: &Part) -> Option<Value> {
        let state = self.truth.get(usize::try_from(seq).ok()?)?;
        let viewer = Viewer::new(id, &part.claims);
        let sight = self.charter.sight(&part.role);
        Some(Lens::new(&self.charter, sight, Some(&viewer), state).plain())
    }
}
