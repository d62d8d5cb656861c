//! What goes out, in order, once everything before it is on disk.

use std::sync::Arc;

use bytestring::ByteString;
use rendel_core::{Problem, Settled, State};
use rendel_store::{Append, Keeping, WriteError};
use rendel_wire::{DigestAsked, FromService, OutcomeFrame, Refused};
use tokio::time::Instant;

use super::digests::compute;
use super::task::{AppendId, Batch, Origin, Output, Task};
use super::{Answered, ConnectionId};
use crate::app::App;
use crate::connection::{Frame, Item, Run};

/// Of the snapshots of the past one is kept for so many that were taken.
const STRIDE: u64 = 16;

impl Task {
    /// Sends what was settled to the journal. What is to be shown waits for it, and for all before it.
    pub(super) async fn send_batch(&mut self) {
        self.receive_arrivals();
        let Batch { updates, refusals, outputs } = std::mem::take(&mut self.batch);
        if updates.is_empty() && refusals.is_empty() {
            match self.under_way.back_mut() {
                Some((_, waiting)) => waiting.extend(outputs),
                None => self.release(outputs),
            }
            return;
        }
        let id = self.next_append;
        self.next_append += 1;
        self.under_way.push_back((id, outputs));
        let written = self.written.clone();
        // A session that has ended does not hear of its last append any more.
        let done = Box::new(move |result| drop(written.send((id, result))));
        let append = Append { session: self.ord(), epoch: self.epoch, updates, refusals, done };
        if let Err(append) = self.app.writer.append(append).await {
            (append.done)(Err(WriteError::Away("the journal's writer has ended".to_owned())));
        }
    }

    pub(super) fn handle_written(&mut self, append: AppendId, result: Result<(), WriteError>) {
        if self.adrift.is_some() || self.under_way.front().is_none_or(|(id, _)| *id != append) {
            return;
        }
        match result {
            Ok(()) => {
                let outputs = self.under_way.pop_front().map(|(_, outputs)| outputs).unwrap_or_default();
                self.release(outputs);
            }
            Err(WriteError::Superseded) => self.is_superseded = true,
            Err(error @ WriteError::Away(_)) => {
                tracing::warn!(session = %self.head.id, %error, "the journal is away; the session waits for it");
                self.app.metrics.journal_failures.inc();
                self.show_held();
                let waiting = std::mem::take(&mut self.under_way);
                self.adrift = Some(waiting.into_iter().flat_map(|(_, outputs)| outputs).collect());
            }
        }
    }

    /// Shows outputs at once, or at the next beat where the charter has one.
    fn release(&mut self, outputs: Vec<Output>) {
        let tick = self.charter.session.tick;
        if tick.is_zero() {
            return self.show(outputs);
        }
        if !outputs.is_empty() {
            self.held.extend(outputs);
            self.beat.get_or_insert_with(|| self.app.next_beat(Instant::now(), tick));
        }
    }

    /// The beat has come.
    pub(super) fn show_held(&mut self) {
        self.beat = None;
        let held = std::mem::take(&mut self.held);
        self.show(held);
    }

    fn show(&mut self, outputs: Vec<Output>) {
        let mut run: Vec<Arc<str>> = Vec::new();
        for output in outputs {
            match output {
                Output::Update { seq, json, from } => {
                    self.shown = seq;
                    if let Origin::Call { answer, .. } = from {
                        let _ = answer.send(Ok(Answered { seq, json: Some(ByteString::from(&*json)) }));
                    }
                    run.push(json);
                }
                Output::Refused { n, problem, from } => match from {
                    Origin::Connection { connection, .. } => {
                        self.show_run(&mut run);
                        self.refuse(connection, n, problem);
                    }
                    Origin::Call { answer, .. } => drop(answer.send(Err(problem))),
                },
                Output::Repeated { n, outcome, connection } => {
                    self.show_run(&mut run);
                    self.tell(connection, &FromService::Outcome(OutcomeFrame { n, outcome: outcome.into() }));
                }
                Output::Welcome { connection, arrival } => {
                    self.show_run(&mut run);
                    if let Some(member) = self.members.get_mut(&connection) {
                        member.is_welcome = true;
                        member.outbound.put_welcome(arrival);
                    }
                }
                Output::Roster(change) => {
                    self.show_run(&mut run);
                    self.tell_all(&FromService::Roster(change));
                }
                Output::Begin { connection, beginning, state } => {
                    self.show_run(&mut run);
                    if let Some(member) = self.members.get_mut(&connection) {
                        member.is_welcome = true;
                        member.outbound.put(Item::Begin(Arc::new(beginning)));
                        if let (Some(state), None) = (state, &self.patcher) {
                            self.patcher = Some(Patcher(*state));
                        }
                    }
                }
                Output::Read { reading, answer } => drop(answer.send(Ok(reading))),
                Output::Answer { result, answer } => drop(answer.send(result)),
                Output::Status { status, by, answer } => {
                    self.show_run(&mut run);
                    self.show_status(status, by);
                    let _ = answer.send(Ok(()));
                }
                Output::Snapshot(snapshot) => {
                    let (app, ord, keeping) = (self.app.clone(), self.ord(), self.keeping());
                    tokio::spawn(async move { keep(&app, ord, *snapshot, keeping).await });
                }
                Output::AskForDigests { seq, state } => {
                    self.show_run(&mut run);
                    let asked = self.members.iter().filter(|(_, member)| member.is_welcome && member.is_replica);
                    self.digests.ask(seq, asked.map(|(id, _)| *id).collect());
                    self.tell_all(&FromService::Digest(DigestAsked { seq }));
                    compute(self.charter.clone(), seq, *state, self.computed.clone());
                }
                Output::Resync { connection, frame } => {
                    self.show_run(&mut run);
                    if let Some(member) = self.members.get(&connection) {
                        member.outbound.put_frame(frame);
                    }
                }
            }
        }
        self.show_run(&mut run);
    }

    /// Puts a run of updates into every queue: one that all share, encoded once.
    pub(super) fn show_run(&mut self, run: &mut Vec<Arc<str>>) {
        if run.is_empty() {
            return;
        }
        let updates = std::mem::take(run);
        let count = updates.len() as u64;
        let patches = self.patcher.as_mut().map(|patcher| patcher.follow(&self.charter, &updates)).unwrap_or_default();
        let run = Arc::new(Run::new(updates, self.shown, patches));
        let mut reached = 0;
        for member in self.members.values().filter(|member| member.is_welcome) {
            if member.outbound.put(Item::Updates(run.clone())) {
                self.app.metrics.fell_behind.inc();
            }
            reached += count;
        }
        self.app.metrics.deliveries.inc_by(reached);
    }

    pub(super) fn keeping(&self) -> Keeping {
        Keeping { stride: self.app.config.snapshot_every * STRIDE, updates: self.charter.limits.journal }
    }

    /// Keeps a snapshot of where a session stopped, so that its next start reads nothing else.
    pub(super) async fn keep_last_snapshot(&mut self) {
        let is_new = self.sequencer.seq() > self.kept_snapshot;
        if is_new && self.adrift.is_none() && !self.is_superseded {
            keep(&self.app, self.ord(), self.sequencer.snapshot(), self.keeping()).await;
        }
    }

    pub(super) fn refuse(&mut self, connection: ConnectionId, n: u64, problem: Problem) {
        self.note_refused(connection, n);
        self.tell(connection, &FromService::Refused(Refused { n, problem }));
    }

    fn tell(&self, connection: ConnectionId, frame: &FromService) {
        if let Some(member) = self.members.get(&connection) {
            member.outbound.put_frame(frame.encode());
        }
    }

    pub(super) fn tell_all(&self, frame: &FromService) {
        let frame = Frame::new(frame.encode());
        for member in self.members.values().filter(|member| member.is_welcome) {
            member.outbound.put(Item::Frame(frame.clone()));
        }
    }
}

async fn keep(app: &App, ord: i64, snapshot: rendel_core::SequencerSnapshot, keeping: Keeping) {
    let seq = snapshot.seq;
    let encoded = tokio::task::spawn_blocking(move || serde_json::to_string(&snapshot)).await;
    let Ok(Ok(body)) = encoded else {
        tracing::error!(seq, "a snapshot could not be encoded");
        return;
    };
    // Without it a restart reads more of the journal; nothing is lost.
    match app.store.keep_snapshot(ord, seq, body, keeping).await {
        Ok(()) => drop(app.metrics.snapshots.inc()),
        Err(error) => tracing::warn!(%error, seq, "a snapshot was not kept"),
    }
}

/// The state as it was last shown, which patches are made against.
pub(super) struct Patcher(State);

impl Patcher {
    fn follow(&mut self, charter: &rendel_core::Charter, updates: &[Arc<str>]) -> Vec<ByteString> {
        let patch = |json: &Arc<str>| {
            let update: Settled = serde_json::from_str(json).map_err(|error| error.to_string())?;
            let ops = self.0.patch(&charter.fields, &update).map_err(|misfit| misfit.to_string())?;
            serde_json::to_string(&ops).map(ByteString::from).map_err(|error| error.to_string())
        };
        let patches: Result<Vec<_>, String> = updates.iter().map(patch).collect();
        // Without its patch a follower ends, and comes back for the state.
        patches
            .inspect_err(|error| tracing::error!(%error, "an update could not be told as a patch"))
            .unwrap_or_default()
    }
}
