//! How a session comes back after the journal failed.

use std::sync::Arc;

use rendel_core::{Charter, ClientOutcome, Problem, Sequencer};
use rendel_store::{Claim, StoreError, TakenOver};
use rendel_wire::{FromService, OutcomeFrame};

use super::life::Standing;
use super::recent::Recent;
use super::showing::Showing;
use super::task::{Origin, Output, Task};
use crate::failure::{from_store, unavailable};

impl Task {
    /// Loads the session again after the journal failed; gives whether that worked. What was under
    /// way turns out to be in the journal or not: who proposed it is told which.
    pub(super) async fn try_to_recover(&mut self) -> bool {
        let taken = match self.app.store.take_over(self.head.id.clone(), Claim::Again).await {
            Ok(Some(taken)) => taken,
            Ok(None) => {
                // Meanwhile another process took it over.
                self.under_way =
                    self.adrift.take().map(|outputs| (0, outputs)).into_iter().collect();
                self.is_superseded = true;
                return true;
            }
            Err(_) => return false,
        };
        let Ok((sequencer, recent)) = recovered(&self.charter, &taken) else { return false };
        self.standing = Standing::stored(&taken.row);
        self.standing.status.name().clone_into(&mut self.head.status);
        self.epoch = u64::try_from(taken.row.epoch).unwrap_or(self.epoch);
        self.epochs = taken.epochs;
        self.sequencer = sequencer;
        self.recent = recent;
        self.audiences.forget_snapshots();
        self.bytes_since = 0;
        self.kept_snapshot = taken.snapshot.map_or(0, |snapshot| snapshot.seq);
        tracing::info!(session = %self.head.id, seq = self.sequencer.seq(), "the journal is back");
        let waiting = self.adrift.take().unwrap_or_default();
        self.show_what_was_written_unseen().await;
        waiting.into_iter().for_each(|output| self.answer_after_recovery(output));
        self.send_batch().await;
        true
    }

    async fn show_what_was_written_unseen(&mut self) {
        let now = self.sequencer.seq();
        if self.shown == now {
            return;
        }
        let updates: Vec<Arc<str>> = match self.recent.after(self.shown) {
            Some(updates) => updates.cloned().collect(),
            None => {
                let Ok(rows) =
                    self.app.store.journal(self.ord(), self.shown + 1, now, i64::MAX).await
                else {
                    // They come back and get what they missed; to go on without it would leave a
                    // gap.
                    self.shown = now;
                    return self
                        .members
                        .values()
                        .for_each(|member| member.outbound.end(unavailable()));
                };
                rows.into_iter().map(Into::into).collect()
            }
        };
        self.shown = now;
        self.show_run(&mut Showing { updates, own: Vec::new() });
    }

    pub(super) fn answer_after_recovery(&mut self, output: Output) {
        match output {
            Output::Update { from, .. } | Output::Refused { from, .. } => {
                let (client, n) = match &from {
                    Origin::Connection { client, n, .. } | Origin::Call { client, n, .. } => {
                        (*client, *n)
                    }
                };
                let outcome = self
                    .sequencer
                    .outcomes(client)
                    .find(|(known, _)| *known == n)
                    .map(|(_, outcome)| outcome.clone());
                match (outcome, from) {
                    (Some(outcome), from @ Origin::Call { .. }) => {
                        self.repeat_to_call(outcome, from)
                    }
                    (None, Origin::Call { answer, .. }) => drop(answer.send(Err(unavailable()))),
                    // A settled one was shown above with all that was written unseen; who may not
                    // see it is told of it.
                    (Some(ClientOutcome::Settled(seq)), Origin::Connection { connection, .. }) => {
                        let frame = OutcomeFrame { n, outcome: ClientOutcome::Settled(seq).into() };
                        self.tell(connection, &FromService::Outcome(frame));
                    }
                    (
                        Some(ClientOutcome::Refused(problem)),
                        Origin::Connection { connection, .. },
                    ) => self.refuse(connection, n, problem),
                    (None, Origin::Connection { connection, .. }) => {
                        self.refuse(connection, n, unavailable())
                    }
                }
            }
            Output::Welcome { connection, .. } | Output::Begin { connection, .. } => {
                if let Some(member) = self.members.get(&connection) {
                    member.outbound.end(unavailable());
                }
            }
            Output::Repeated { n, connection, .. } => self.refuse(connection, n, unavailable()),
            Output::Begun { answer, .. } => drop(answer.send(Err(unavailable()))),
            Output::Read { answer, .. } => drop(answer.send(Err(unavailable()))),
            Output::Answer { answer, .. } => drop(answer.send(Err(unavailable()))),
            Output::Status { standing, by, answer } => {
                // It was on disk before it came here.
                self.show_status(&standing, by);
                let _ = answer.send(Ok(()));
            }
            Output::Roster(change) => self.tell_all(&FromService::Roster(change)),
            Output::Holds(change) => self.show_holds(&change),
            Output::Acted { connection, answer } => {
                self.tell(connection, &FromService::Answer(answer))
            }
            Output::Cue { frame, by, to } => self.show_cue(&frame, &by, &to),
            // A place in a text meant something in the order of updates only, and the next will
            // come.
            Output::Said { .. } => {}
            // What was asked or repaired meanwhile is asked again.
            Output::Snapshot(_) | Output::AskForDigests { .. } | Output::Resync { .. } => {}
        }
    }
}

/// The sequencer as the journal has it, and the last updates.
pub(super) fn recovered(
    charter: &Arc<Charter>,
    taken: &TakenOver,
) -> Result<(Sequencer, Recent), Problem> {
    let damaged = |why: String| {
        from_store(&StoreError::Damaged(format!("session {:?}: {why}", taken.row.id)))
    };
    let mut sequencer = match taken.snapshot.clone() {
        Some(snapshot) => Sequencer::restore(charter.clone(), snapshot),
        None => {
            let opening = taken.row.opening.as_deref().map(serde_json::from_str).transpose();
            let opening: Option<serde_json::Value> =
                opening.map_err(|error| damaged(error.to_string()))?;
            Sequencer::open(charter.clone(), opening.as_ref())
                .map_err(|problem| damaged(problem.to_string()))?
        }
    };
    let mut recent = Recent::from(sequencer.seq());
    // Refusals in their places among the updates: what is forgotten of clients follows from the
    // order.
    let mut refusals = taken.refusals.iter().peekable();
    for update in &taken.updates {
        while let Some((_, client, n, problem)) = refusals.next_if(|(at, ..)| *at < update.seq) {
            sequencer.replay_refusal(*client, *n, problem.clone());
        }
        sequencer.replay(update).map_err(|misfit| damaged(misfit.to_string()))?;
        recent.push(update.seq, serde_json::to_string(update).unwrap_or_default().into());
    }
    for (_, client, n, problem) in refusals {
        sequencer.replay_refusal(*client, *n, problem.clone());
    }
    Ok((sequencer, recent))
}
