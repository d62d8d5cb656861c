//! What goes out, in order, once everything before it is on disk.

use std::sync::Arc;

use bytestring::ByteString;
use rendel_core::{Problem, Settled};
use rendel_store::{Append, Keeping, WriteError};
use rendel_wire::{DigestAsked, FromService, OutcomeFrame, Refused};
use tokio::time::Instant;

use super::audience::{Patcher, seen, seen_update};
use super::digests::compute;
use super::task::{AppendId, Batch, Origin, Output, Task};
use super::{Answered, ConnectionId};
use crate::app::App;
use crate::connection::{Frame, Item, Run};

/// Of the snapshots of the past one is kept for so many that were taken.
const STRIDE: u64 = 16;

impl Task {
    /// Sends what was settled to the journal. What is to be shown waits for it, and for all before
    /// it.
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
                let outputs =
                    self.under_way.pop_front().map(|(_, outputs)| outputs).unwrap_or_default();
                self.release(outputs);
            }
            Err(WriteError::Superseded) => self.is_superseded = true,
            Err(error @ WriteError::Away(_)) => {
                tracing::warn!(session = %self.head.id, %error, "the journal is away; the session \
                    waits for it");
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
        let mut run = Showing::default();
        for output in outputs {
            match output {
                Output::Update { seq, json, from } => {
                    self.shown = seq;
                    match from {
                        Origin::Call { answer, audience, .. } => {
                            let json = self.audiences.all[audience].seen(&self.charter, &json);
                            let _ = answer
                                .send(Ok(Answered { seq, json: Some(ByteString::from(&*json)) }));
                        }
                        Origin::Connection { connection, n, .. } => {
                            run.own.push((connection, n, seq))
                        }
                    }
                    run.updates.push(json);
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
                    self.tell(
                        connection,
                        &FromService::Outcome(OutcomeFrame { n, outcome: outcome.into() }),
                    );
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
                        let patcher = &mut self.audiences.all[member.audience].patcher;
                        if let (Some(state), None) = (state, &patcher) {
                            *patcher = Some(Patcher(*state));
                        }
                    }
                }
                Output::Read { reading, answer } => drop(answer.send(Ok(reading))),
                Output::Begun { result, answer } => drop(answer.send(result)),
                Output::Answer { result, answer } => drop(answer.send(result)),
                Output::Status { standing, by, answer } => {
                    self.show_run(&mut run);
                    self.show_status(&standing, by);
                    let _ = answer.send(Ok(()));
                }
                Output::Said { connection, facts } => {
                    self.show_run(&mut run);
                    self.show_said(connection, facts);
                }
                Output::Acted { connection, answer } => {
                    self.show_run(&mut run);
                    self.tell(connection, &FromService::Answer(answer));
                }
                Output::Holds(change) => {
                    self.show_run(&mut run);
                    self.show_holds(&change);
                }
                Output::Cue { frame, by, to } => {
                    self.show_run(&mut run);
                    self.show_cue(&frame, &by, &to);
                }
                Output::Snapshot(snapshot) => {
                    let (app, ord, epoch, keeping) =
                        (self.app.clone(), self.ord(), self.epoch, self.keeping());
                    tokio::spawn(async move { keep(&app, ord, epoch, *snapshot, keeping).await });
                }
                Output::AskForDigests { seq, state } => {
                    self.show_run(&mut run);
                    let asked = self
                        .members
                        .iter()
                        .filter(|(_, member)| member.is_welcome && member.is_replica);
                    self.digests
                        .ask(seq, asked.map(|(id, member)| (*id, member.audience)).collect());
                    self.tell_all(&FromService::Digest(DigestAsked { seq }));
                    let sights =
                        self.audiences.all.iter().map(|audience| audience.sight.clone()).collect();
                    compute(self.charter.clone(), seq, *state, sights, self.computed.clone());
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

    /// Puts a run of updates into every queue: one that all of an audience share, encoded once.
    pub(super) fn show_run(&mut self, run: &mut Showing) {
        if run.updates.is_empty() {
            return;
        }
        let Showing { updates, own } = std::mem::take(run);
        let count = updates.len() as u64;
        let is_followed = self.presence.follows_state(&self.charter);
        let parsed: Vec<Settled> = match is_followed || self.audiences.all.len() > 1 {
            true => updates.iter().filter_map(|json| serde_json::from_str(json).ok()).collect(),
            false => Vec::new(),
        };
        let mut reached = 0;
        for (id, audience) in self.audiences.all.iter_mut().enumerate() {
            let members =
                self.members.values().filter(|member| member.is_welcome && member.audience == id);
            let members: Vec<_> = members.map(|member| &member.outbound).collect();
            if members.is_empty() && audience.patcher.is_none() {
                continue;
            }
            let shown = match audience.sight.is_whole() {
                true => updates.clone(),
                false if parsed.len() == updates.len() => {
                    let pairs = parsed.iter().zip(&updates);
                    pairs
                        .map(|(update, json)| {
                            seen_update(&audience.sight, &self.charter, update, json)
                        })
                        .collect()
                }
                false => {
                    updates.iter().map(|json| seen(&audience.sight, &self.charter, json)).collect()
                }
            };
            let patcher = audience.patcher.as_mut();
            let patches =
                patcher.map(|patcher| patcher.follow(&self.charter, &audience.sight, &updates));
            let run = Arc::new(Run::new(shown, self.shown, patches.unwrap_or_default()));
            for outbound in &members {
                if outbound.put(Item::Updates(run.clone())) {
                    self.app.metrics.fell_behind.inc();
                }
            }
            reached += count * members.len() as u64;
        }
        self.app.metrics.deliveries.inc_by(reached);
        self.tell_own(&parsed, own);
        parsed.iter().for_each(|update| self.presence.handle_settled(&self.charter, update));
        self.plan_presence_beat();
    }

    /// Who may not see what they changed themselves cannot tell their update from others by its
    /// author: they are told.
    fn tell_own(&self, parsed: &[Settled], own: Vec<(ConnectionId, u64, u64)>) {
        for (connection, n, seq) in own {
            let sight = self
                .members
                .get(&connection)
                .map(|member| &self.audiences.all[member.audience].sight);
            let Some(sight) = sight.filter(|sight| !sight.is_whole()) else { continue };
            let update = parsed.iter().find(|update| update.seq == seq);
            if update.is_some_and(|update| sight.update(&self.charter.fields, update).by.is_empty())
            {
                let outcome = rendel_core::ClientOutcome::Settled(seq);
                self.tell(
                    connection,
                    &FromService::Outcome(OutcomeFrame { n, outcome: outcome.into() }),
                );
            }
        }
    }

    pub(super) fn keeping(&self) -> Keeping {
        Keeping {
            stride: self.app.config.snapshot_every * STRIDE,
            updates: self.charter.limits.journal,
        }
    }

    /// Keeps a snapshot of where a session stopped, so that its next start reads nothing else.
    pub(super) async fn keep_last_snapshot(&mut self) {
        if self.sequencer.seq() > self.kept_snapshot {
            keep(&self.app, self.ord(), self.epoch, self.sequencer.snapshot(), self.keeping())
                .await;
        }
    }

    pub(super) fn refuse(&mut self, connection: ConnectionId, n: u64, problem: Problem) {
        self.note_refused(connection, n);
        self.tell(connection, &FromService::Refused(Refused { n, problem }));
    }

    pub(super) fn tell(&self, connection: ConnectionId, frame: &FromService) {
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

async fn keep(
    app: &App,
    ord: i64,
    epoch: u64,
    snapshot: rendel_core::SequencerSnapshot,
    keeping: Keeping,
) {
    let seq = snapshot.seq;
    let encoded = tokio::task::spawn_blocking(move || serde_json::to_string(&snapshot)).await;
    let Ok(Ok(body)) = encoded else {
        tracing::error!(seq, "a snapshot could not be encoded");
        return;
    };
    // Without it a restart reads more of the journal; nothing is lost.
    match app.store.keep_snapshot(ord, epoch, seq, body, keeping).await {
        Ok(()) => drop(app.metrics.snapshots.inc()),
        Err(error) => tracing::warn!(%error, seq, "a snapshot was not kept"),
    }
}

/// Updates that are shown together, and whose they are: connection, number and place.
#[derive(Default)]
pub(super) struct Showing {
    pub(super) updates: Vec<Arc<str>>,
    pub(super) own: Vec<(ConnectionId, u64, u64)>,
}
