//! The task of one session: it owns the sequencer.
//!
//! One loop: asks come in, the sequencer answers, what was settled goes to the journal's writer, and what is to be shown
//! waits in order until the writer says that everything before it is on disk. While one append is under way the asks that
//! arrive make the next.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;

use bytestring::ByteString;
use rendel_core::{
    Actor, Charter, ClientOutcome, Outcome, Path, Problem, ProblemKind, Proposal, Sequencer, Settled, State,
};
use rendel_store::{Append, RefusalRow, StoreError, TakenOver, UpdateRow, WriteError};
use rendel_wire::{
    ConnectionLimits, DigestAsked, FromService, OutcomeFrame, Propose, Refused, Roster, SessionHead, Welcome, You,
    settled_frame,
};
use serde::Serialize;
use serde_json::value::RawValue;
use tokio::sync::{mpsc, oneshot};
use uuid::Uuid;

use super::digests::{Digests, compute};
use super::recent::Recent;
use super::recovery::recovered;
use super::roster::{Present, hue};
use super::{Ask, ConnectionId, Entered, Entry, Figures, Rate, Reading};
use crate::app::{App, now_ms};
use crate::auth::Identity;
use crate::connection::Outbound;
use crate::failure::{from_store, shutting_down, unavailable};
use crate::metrics::OfProblem;

/// Asks that are taken out of the mailbox at one time.
const BATCH: usize = 256;
/// Appends of one session that may be under way; further asks wait in the mailbox and make a larger next one. With two, a
/// first straggler would become a commit of its own while the rest wait for it.
const UNDER_WAY: usize = 1;
/// A late joiner may get a snapshot that is this many updates old, and the updates after it.
const SNAPSHOT_AGE: u64 = 256;
/// Rates remembered of participants that only call over HTTP.
const VISITORS: usize = 4_096;

type AppendId = u64;

pub(super) struct Task {
    pub(super) app: Arc<App>,
    ord: i64,
    pub(super) head: SessionHead,
    pub(super) charter: Arc<Charter>,
    pub(super) sequencer: Sequencer,
    pub(super) epoch: u64,
    pub(super) epochs: Vec<(u64, u64)>,
    pub(super) recent: Recent,
    pub(super) snapshot: Option<(u64, Arc<RawValue>)>,
    pub(super) kept_snapshot: u64,
    pub(super) members: BTreeMap<ConnectionId, Member>,
    present: Present,
    visitors: BTreeMap<String, Arc<Rate>>,
    next_connection: ConnectionId,
    /// What was settled or refused since the last append was sent.
    pub(super) batch: Batch,
    /// Appends that are not known to be on disk, each with what waits for it.
    under_way: VecDeque<(AppendId, Vec<Output>)>,
    next_append: AppendId,
    written: mpsc::UnboundedSender<(AppendId, Result<(), WriteError>)>,
    writes: Option<mpsc::UnboundedReceiver<(AppendId, Result<(), WriteError>)>>,
    pub(super) digests: Digests,
    computed: mpsc::UnboundedSender<(u64, String)>,
    computings: Option<mpsc::UnboundedReceiver<(u64, String)>>,
    /// The last `seq` that participants were shown.
    pub(super) shown: u64,
    /// Waiting for the database to come back, with what was under way when it went.
    pub(super) adrift: Option<Vec<Output>>,
}

/// A connection that entered.
pub(super) struct Member {
    pub(super) who: Actor,
    pub(super) outbound: Arc<Outbound>,
    /// Whether its `welcome` is in its queue; updates go to it from then on.
    is_welcome: bool,
    /// Its last proposal that was refused before the sequencer heard of it.
    refused: u64,
}

/// When the database is asked again, in growing waits.
struct Retry {
    at: tokio::time::Instant,
    wait: Duration,
}

impl Default for Retry {
    fn default() -> Self {
        Self { at: tokio::time::Instant::now(), wait: Duration::from_millis(100) }
    }
}

impl Retry {
    fn later(self) -> Self {
        Self { at: tokio::time::Instant::now() + self.wait, wait: (self.wait * 2).min(Duration::from_secs(2)) }
    }
}

#[derive(Default)]
pub(super) struct Batch {
    updates: Vec<UpdateRow>,
    refusals: Vec<RefusalRow>,
    pub(super) outputs: Vec<Output>,
}

/// What is shown to somebody once everything before it is on disk.
pub(super) enum Output {
    Update { seq: u64, json: Arc<str>, from: Origin },
    Refused { n: u64, problem: Problem, from: Origin },
    Repeated { n: u64, outcome: ClientOutcome, connection: ConnectionId },
    Welcome { connection: ConnectionId, frame: ByteString },
    Read { reading: Reading, answer: oneshot::Sender<Result<Reading, Problem>> },
    Answer { json: ByteString, answer: oneshot::Sender<Result<ByteString, Problem>> },
    Snapshot(Box<rendel_core::SequencerSnapshot>),
    AskForDigests { seq: u64, state: Box<State> },
    Resync { connection: ConnectionId, frame: ByteString },
}

/// Where a proposal came from and is answered.
pub(super) enum Origin {
    Connection { connection: ConnectionId, client: Uuid, n: u64 },
    Call { client: Uuid, n: u64, answer: oneshot::Sender<Result<ByteString, Problem>> },
}

impl Task {
    pub(super) fn new(app: Arc<App>, taken: TakenOver) -> Result<Self, Problem> {
        let charter = Charter::parse(&taken.charter_source).map_err(|faults| {
            let first = faults.first().map(ToString::to_string).unwrap_or_default();
            from_store(&StoreError::Damaged(format!("the stored charter has faults: {first}")))
        })?;
        let charter = Arc::new(charter);
        let (sequencer, recent) = recovered(&charter, &taken)?;
        let (written, writes) = mpsc::unbounded_channel();
        let (computed, computings) = mpsc::unbounded_channel();
        let row = taken.row;
        let head = SessionHead {
            id: row.id,
            charter: row.charter,
            version: u32::try_from(row.version).unwrap_or(0),
            status: row.status,
        };
        app.metrics.sessions.inc();
        Ok(Self {
            ord: row.ord,
            head,
            epoch: u64::try_from(row.epoch).unwrap_or(0),
            epochs: taken.epochs,
            shown: sequencer.seq(),
            kept_snapshot: taken.snapshot.map_or(0, |snapshot| snapshot.seq),
            charter,
            sequencer,
            recent,
            snapshot: None,
            members: BTreeMap::new(),
            present: Present::default(),
            visitors: BTreeMap::new(),
            next_connection: 1,
            batch: Batch::default(),
            under_way: VecDeque::new(),
            next_append: 1,
            written,
            writes: Some(writes),
            digests: Digests::default(),
            computed,
            computings: Some(computings),
            adrift: None,
            app,
        })
    }

    pub(super) fn ord(&self) -> i64 {
        self.ord
    }

    pub(super) fn charter(&self) -> &Arc<Charter> {
        &self.charter
    }

    pub(super) async fn run(mut self, mut asks: mpsc::Receiver<Ask>) {
        let (Some(mut writes), Some(mut computings)) = (self.writes.take(), self.computings.take()) else { return };
        self.digests.put(self.sequencer.seq());
        let mut quiet = tokio::time::interval(self.app.config.digest_within);
        quiet.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut taken = Vec::with_capacity(BATCH);
        let mut retry = Retry::default();
        loop {
            let is_ready = self.under_way.len() < UNDER_WAY || self.adrift.is_some();
            tokio::select! {
                biased;
                Some((append, result)) = writes.recv() => self.handle_written(append, result),
                count = asks.recv_many(&mut taken, BATCH), if is_ready => {
                    if count == 0 {
                        break;
                    }
                    for ask in taken.drain(..) {
                        if let Ask::Stop { answer } = ask {
                            self.stop(&mut writes, answer).await;
                            return;
                        }
                        self.handle(ask);
                    }
                    self.send_batch().await;
                }
                Some((seq, ours)) = computings.recv() => {
                    let differing = self.digests.know(seq, ours);
                    differing.into_iter().for_each(|differing| self.repair(differing));
                    self.send_batch().await;
                }
                _ = quiet.tick(), if self.adrift.is_none() && self.may_ask_for_digests(1) => {
                    self.ask_for_digests(1);
                    self.send_batch().await;
                }
                () = tokio::time::sleep_until(retry.at), if self.adrift.is_some() => {
                    retry = if self.try_to_recover().await { Retry::default() } else { retry.later() };
                }
            }
        }
        self.app.metrics.sessions.dec();
    }

    fn handle(&mut self, ask: Ask) {
        match ask {
            Ask::Enter(entry) => self.enter(*entry),
            Ask::Propose { connection, frame } => self.propose(connection, frame),
            Ask::Refused { connection, n } => self.note_refused(connection, n),
            Ask::Leave { connection } => self.leave(connection),
            Ask::Digest { connection, seq, sha256 } => {
                if let Some(differing) = self.digests.answer(connection, seq, sha256) {
                    self.repair(differing);
                }
            }
            Ask::ProposeOnce { actor, proposal, answer } => self.propose_once(&actor, &proposal, answer),
            Ask::Read { path, answer } => self.read(path.as_ref(), answer),
            Ask::Figures { answer } => {
                let (agreed_seq, agreed) = self.digests.agreement();
                let figures = Figures {
                    participants: self.present.len() as u64,
                    connections: self.members.len() as u64,
                    seq: self.shown,
                    epoch: self.epoch,
                    agreed_seq,
                    agreed,
                    differed: self.digests.differed,
                };
                // Who asked may have gone away meanwhile, here and in every answer below.
                let _ = answer.send(figures);
            }
            Ask::Stop { answer } => drop(answer),
        }
    }

    // What comes in.

    fn enter(&mut self, entry: Entry) {
        let Entry { who, client, seen, epoch, outbound, answer } = entry;
        if self.adrift.is_some() {
            let _ = answer.send(Err(unavailable()));
            return;
        }
        if self.members.values().any(|member| member.who.client == client && member.who.id != who.id) {
            let detail =
                "Another participant is here with this client id. Every tab and process makes an id of its own.";
            let _ = answer.send(Err(Problem::new(ProblemKind::Malformed, detail)));
            return;
        }
        let rules = self.charter.session;
        let added = self.present.add(&who, rules.participants, self.charter.limits.proposals_per_second);
        let (rate, change) = match added {
            Ok(added) => added,
            Err(problem) => {
                let _ = answer.send(Err(problem));
                return;
            }
        };
        // A client that comes back before its old connection was missed takes its place.
        let replaced: Vec<_> =
            self.members.iter().filter(|(_, member)| member.who.client == client).map(|(id, _)| *id).collect();
        let id = self.next_connection;
        self.next_connection += 1;
        let actor = Actor { id: who.id.clone(), role: who.role.clone(), client };
        self.members.insert(id, Member { who: actor, outbound, is_welcome: false, refused: 0 });
        for old in replaced {
            self.end_replaced(old);
        }
        self.tell_all(&FromService::Roster(change), Some(id));
        let frame = self.welcome(&who, client, seen, epoch);
        self.batch.outputs.push(Output::Welcome { connection: id, frame });
        let entered = Entered { id, rate, frame_limit: self.charter.limits.frame };
        if answer.send(Ok(entered)).is_err() {
            self.leave(id);
        }
    }

    fn end_replaced(&mut self, old: ConnectionId) {
        if let Some(member) = self.members.get(&old) {
            let detail = "The same client has entered again over another connection.";
            member.outbound.end(Problem::new(ProblemKind::Gone, detail));
        }
        self.leave(old);
    }

    fn welcome(&mut self, who: &Identity, client: Uuid, seen: Option<u64>, epoch: Option<u64>) -> ByteString {
        let you = You { id: who.id.clone(), name: who.name.clone(), role: who.role.clone(), hue: hue(&who.id), client };
        let limits = ConnectionLimits {
            frame: self.charter.limits.frame,
            edits: self.charter.limits.edits,
            proposals_per_second: self.charter.limits.proposals_per_second,
        };
        let outcomes =
            self.sequencer.outcomes(client).map(|(n, outcome)| OutcomeFrame { n, outcome: outcome.clone().into() });
        let mut welcome = Welcome::<Arc<RawValue>, Arc<RawValue>> {
            you,
            session: self.head.clone(),
            epoch: self.epoch,
            seq: self.sequencer.seq(),
            state: None,
            updates: None,
            roster: self.present.list(),
            limits,
            outcomes: outcomes.collect(),
            time: now_ms(),
        };
        match seen.filter(|seen| self.may_resume(*seen, epoch)).and_then(|seen| self.missed(seen)) {
            Some(updates) => welcome.updates = Some(updates),
            None => {
                let (seq, state) = self.encoded_snapshot();
                welcome.state = Some(state);
                welcome.updates = self
                    .recent
                    .after(seq)
                    .map(|updates| updates.map(raw).collect())
                    .filter(|updates: &Vec<_>| !updates.is_empty());
            }
        }
        tagged("welcome", &welcome)
    }

    /// Whether a replica at `seen` of `epoch` holds nothing but what the journal has. Each epoch after the replica's own
    /// tells where it began; what the replica saw beyond the first of those places was lost.
    fn may_resume(&self, seen: u64, epoch: Option<u64>) -> bool {
        let Some(epoch) = epoch else { return false };
        let next = self.epochs.iter().find(|(later, _)| *later > epoch);
        seen <= self.sequencer.seq() && epoch <= self.epoch && next.is_none_or(|(_, begins)| seen <= *begins)
    }

    /// What a replica at `seen` missed, where that is smaller than a snapshot.
    fn missed(&self, seen: u64) -> Option<Vec<Arc<RawValue>>> {
        let bytes: usize = self.recent.after(seen)?.map(|json| json.len()).sum();
        let is_smaller = bytes == 0 || (bytes as u64) < self.sequencer.weight();
        is_smaller.then(|| self.recent.after(seen).map(|updates| updates.map(raw).collect())).flatten()
    }

    /// A snapshot as JSON, made anew only when the last is too old for the updates in memory to bridge.
    fn encoded_snapshot(&mut self) -> (u64, Arc<RawValue>) {
        let now = self.sequencer.seq();
        if let Some((seq, json)) = &self.snapshot
            && now - seq <= SNAPSHOT_AGE
            && self.recent.after(*seq).is_some()
        {
            return (*seq, json.clone());
        }
        let json = raw_value(serde_json::to_string(&self.sequencer.plain()).unwrap_or_default());
        self.snapshot = Some((now, json.clone()));
        (now, json)
    }

    fn propose(&mut self, connection: ConnectionId, frame: Propose) {
        let Some(member) = self.members.get(&connection) else { return };
        let actor = member.who.clone();
        let n = frame.n;
        if self.adrift.is_some() {
            self.refuse(connection, n, unavailable());
            return;
        }
        // What is positioned on top of a proposal that never got here means nothing either.
        self.sequencer.handle_refused(actor.client, member.refused);
        let origin = Origin::Connection { connection, client: actor.client, n };
        match self.sequencer.handle_proposal(&actor, &frame.into(), now_ms()) {
            Outcome::Settled(update) => self.settled(&update, origin),
            Outcome::Refused(problem) => self.refused(&actor, n, problem, origin),
            Outcome::Repeated(outcome) => self.batch.outputs.push(Output::Repeated { n, outcome, connection }),
        }
    }

    fn propose_once(
        &mut self,
        actor: &Actor,
        proposal: &Proposal,
        answer: oneshot::Sender<Result<ByteString, Problem>>,
    ) {
        if self.adrift.is_some() {
            let _ = answer.send(Err(unavailable()));
            return;
        }
        if let Err(problem) = self.rate_of(actor).check() {
            let _ = answer.send(Err(problem));
            return;
        }
        let origin = Origin::Call { client: actor.client, n: proposal.n, answer };
        match self.sequencer.handle_proposal(actor, proposal, now_ms()) {
            Outcome::Settled(update) => self.settled(&update, origin),
            Outcome::Refused(problem) => self.refused(actor, proposal.n, problem, origin),
            Outcome::Repeated(outcome) => self.repeat_to_call(outcome, origin),
        }
    }

    fn rate_of(&mut self, actor: &Actor) -> Arc<Rate> {
        if actor.role == Actor::SERVICE || actor.id == Actor::SERVICE {
            return Arc::new(Rate::unbounded());
        }
        if let Some(rate) = self.present.rate(&actor.id) {
            return rate;
        }
        if self.visitors.len() > VISITORS {
            self.visitors.clear();
        }
        let rate = self.charter.limits.proposals_per_second;
        self.visitors.entry(actor.id.clone()).or_insert_with(|| Arc::new(Rate::new(rate))).clone()
    }

    /// Answers a call that was made before. The update is in memory or, long after, only in the journal.
    pub(super) fn repeat_to_call(&mut self, outcome: ClientOutcome, origin: Origin) {
        let Origin::Call { answer, .. } = origin else { return };
        match outcome {
            ClientOutcome::Refused(problem) => drop(answer.send(Err(problem))),
            ClientOutcome::Settled(seq) => match self.recent.get(seq) {
                Some(json) => self.batch.outputs.push(Output::Answer { json: ByteString::from(&**json), answer }),
                None => {
                    let (store, ord) = (self.app.store.clone(), self.ord);
                    tokio::spawn(async move {
                        let read = store.journal(ord, seq, seq, 1).await.map_err(|error| from_store(&error));
                        let first = read.and_then(|mut rows| rows.pop().map(ByteString::from).ok_or_else(unavailable));
                        let _ = answer.send(first);
                    });
                }
            },
        }
    }

    fn settled(&mut self, update: &Settled, from: Origin) {
        self.app.metrics.settled.inc();
        let json: Arc<str> = serde_json::to_string(update).unwrap_or_default().into();
        let row = UpdateRow { session: self.ord, seq: signed(update.seq), body: json.clone() };
        self.batch.updates.push(row);
        self.recent.push(update.seq, json.clone());
        self.batch.outputs.push(Output::Update { seq: update.seq, json, from });
        if update.seq - self.kept_snapshot >= self.app.config.snapshot_every {
            self.kept_snapshot = update.seq;
            self.batch.outputs.push(Output::Snapshot(Box::new(self.sequencer.snapshot())));
        }
        self.ask_for_digests(self.app.config.digest_every);
    }

    fn refused(&mut self, actor: &Actor, n: u64, problem: Problem, from: Origin) {
        self.app.metrics.refused.get_or_create(&OfProblem { problem: problem.kind().name() }).inc();
        self.batch.refusals.push(RefusalRow {
            session: self.ord,
            client: actor.client,
            n: signed(n),
            at_seq: signed(self.sequencer.seq()),
            problem: serde_json::to_string(&problem).unwrap_or_default(),
        });
        self.batch.outputs.push(Output::Refused { n, problem, from });
    }

    fn leave(&mut self, connection: ConnectionId) {
        let Some(member) = self.members.remove(&connection) else { return };
        self.digests.forget(connection);
        let change = self.present.remove(&member.who.id);
        if change != Roster::default() {
            self.tell_all(&FromService::Roster(change), None);
        }
    }

    fn read(&mut self, path: Option<&Path>, answer: oneshot::Sender<Result<Reading, Problem>>) {
        if self.adrift.is_some() {
            let _ = answer.send(Err(unavailable()));
            return;
        }
        let seq = self.sequencer.seq();
        let json = match path {
            None => {
                // What is asked for here is the present state, not a bridged one.
                if self.snapshot.as_ref().is_none_or(|(at, _)| *at != seq) {
                    self.snapshot = None;
                }
                Ok(ByteString::from(self.encoded_snapshot().1.get()))
            }
            Some(path) => {
                self.sequencer.plain_at(path).map(|value| ByteString::from(value.to_string())).ok_or_else(|| {
                    Problem::new(ProblemKind::UnknownPath, format!("There is nothing at {path}.")).at(path)
                })
            }
        };
        match json {
            Ok(json) => self.batch.outputs.push(Output::Read { reading: Reading { seq, json }, answer }),
            Err(problem) => drop(answer.send(Err(problem))),
        }
    }

    // What goes out.

    /// Sends what was settled to the journal. What is to be shown waits for it, and for all before it.
    pub(super) async fn send_batch(&mut self) {
        let Batch { updates, refusals, outputs } = std::mem::take(&mut self.batch);
        if updates.is_empty() && refusals.is_empty() {
            match self.under_way.back_mut() {
                Some((_, waiting)) => waiting.extend(outputs),
                None => self.show(outputs),
            }
            return;
        }
        let id = self.next_append;
        self.next_append += 1;
        self.under_way.push_back((id, outputs));
        let written = self.written.clone();
        // A session that has ended does not hear of its last append any more.
        let done = Box::new(move |result| drop(written.send((id, result))));
        let append = Append { session: self.ord, epoch: self.epoch, updates, refusals, done };
        if let Err(append) = self.app.writer.append(append).await {
            (append.done)(Err(WriteError::Away("the journal's writer has ended".to_owned())));
        }
    }

    fn handle_written(&mut self, append: AppendId, result: Result<(), WriteError>) {
        if self.adrift.is_some() || self.under_way.front().is_none_or(|(id, _)| *id != append) {
            return;
        }
        match result {
            Ok(()) => {
                let outputs = self.under_way.pop_front().map(|(_, outputs)| outputs).unwrap_or_default();
                self.show(outputs);
            }
            Err(error) => {
                tracing::warn!(session = %self.head.id, %error, "the journal is away; the session waits for it");
                self.app.metrics.journal_failures.inc();
                let waiting = std::mem::take(&mut self.under_way);
                self.adrift = Some(waiting.into_iter().flat_map(|(_, outputs)| outputs).collect());
            }
        }
    }

    fn show(&mut self, outputs: Vec<Output>) {
        let mut run: Vec<Arc<str>> = Vec::new();
        for output in outputs {
            match output {
                Output::Update { seq, json, from } => {
                    self.shown = seq;
                    if let Origin::Call { answer, .. } = from {
                        let _ = answer.send(Ok(ByteString::from(&*json)));
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
                Output::Welcome { connection, frame } => {
                    self.show_run(&mut run);
                    if let Some(member) = self.members.get_mut(&connection) {
                        member.is_welcome = true;
                        member.outbound.put_frame(frame);
                    }
                }
                Output::Read { reading, answer } => drop(answer.send(Ok(reading))),
                Output::Answer { json, answer } => drop(answer.send(Ok(json))),
                Output::Snapshot(snapshot) => self.keep_snapshot(*snapshot),
                Output::AskForDigests { seq, state } => {
                    self.show_run(&mut run);
                    let welcomed = self.members.iter().filter(|(_, member)| member.is_welcome);
                    self.digests.ask(seq, welcomed.map(|(id, _)| *id).collect());
                    self.tell_all(&FromService::Digest(DigestAsked { seq }), None);
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

    /// Puts a run of updates into every queue: encoded once, joined once, shared by all.
    pub(super) fn show_run(&self, run: &mut Vec<Arc<str>>) {
        if run.is_empty() {
            return;
        }
        let frame = ByteString::from(settled_frame(run.iter().map(|json| &**json)));
        let mut reached = 0;
        for member in self.members.values().filter(|member| member.is_welcome) {
            member.outbound.put_updates(frame.clone());
            reached += run.len() as u64;
        }
        self.app.metrics.deliveries.inc_by(reached);
        run.clear();
    }

    fn keep_snapshot(&self, snapshot: rendel_core::SequencerSnapshot) {
        let (store, ord) = (self.app.store.clone(), self.ord);
        tokio::spawn(async move {
            let seq = snapshot.seq;
            let encoded = tokio::task::spawn_blocking(move || serde_json::to_string(&snapshot)).await;
            let Ok(Ok(body)) = encoded else {
                tracing::error!(seq, "a snapshot could not be encoded");
                return;
            };
            // Without it a restart reads more of the journal; nothing is lost.
            if let Err(error) = store.keep_snapshot(ord, seq, body).await {
                tracing::warn!(%error, seq, "a snapshot was not kept");
            }
        });
    }

    fn note_refused(&mut self, connection: ConnectionId, n: u64) {
        if let Some(member) = self.members.get_mut(&connection) {
            member.refused = member.refused.max(n);
        }
    }

    pub(super) fn refuse(&mut self, connection: ConnectionId, n: u64, problem: Problem) {
        self.note_refused(connection, n);
        self.tell(connection, &FromService::Refused(Refused { n, problem }));
    }

    fn tell(&self, connection: ConnectionId, frame: &FromService) {
        if let Some(member) = self.members.get(&connection) {
            member.outbound.put_frame(frame.encode().into());
        }
    }

    fn tell_all(&self, frame: &FromService, but: Option<ConnectionId>) {
        let text = ByteString::from(frame.encode());
        for (_, member) in self.members.iter().filter(|(id, member)| Some(**id) != but && member.is_welcome) {
            member.outbound.put_frame(text.clone());
        }
    }

    /// Writes what was accepted, keeps a snapshot, and tells the connections.
    async fn stop(
        &mut self,
        writes: &mut mpsc::UnboundedReceiver<(AppendId, Result<(), WriteError>)>,
        answer: oneshot::Sender<()>,
    ) {
        self.send_batch().await;
        while !self.under_way.is_empty() && self.adrift.is_none() {
            let Some((append, result)) = writes.recv().await else { break };
            self.handle_written(append, result);
        }
        for output in self.adrift.take().unwrap_or_default() {
            self.answer_after_recovery(output);
        }
        for member in self.members.values() {
            member.outbound.end(shutting_down());
        }
        self.app.metrics.sessions.dec();
        let _ = answer.send(());
    }
}

fn signed(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

pub(super) fn raw_value(json: String) -> Arc<RawValue> {
    // The text was serialised from a value a moment ago, so it is JSON.
    RawValue::from_string(json).unwrap_or_default().into()
}

fn raw(json: &Arc<str>) -> Arc<RawValue> {
    raw_value(json.to_string())
}

/// A frame whose body has parts that are JSON text already.
pub(super) fn tagged<T: Serialize>(name: &'static str, body: &T) -> ByteString {
    #[derive(Serialize)]
    struct Tagged<'b, T> {
        r#type: &'static str,
        #[serde(flatten)]
        body: &'b T,
    }
    serde_json::to_string(&Tagged { r#type: name, body }).unwrap_or_default().into()
}
