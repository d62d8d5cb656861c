//! The task of one session: it owns the sequencer.
//!
//! One loop: asks come in, the sequencer answers, what was settled goes to the journal's writer,
//! and what is to be shown waits in order until the writer says that everything before it is on
//! disk. While one append is under way the asks that arrive make the next. `entering.rs` is about
//! who comes, `proposing.rs` about what they propose, `showing.rs` about what goes out, `life.rs`
//! about freezing, ending, resting and losing a session, `recovery.rs` about a journal that failed.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;

use bytestring::ByteString;
use rendel_core::{
    Actor, Charter, ClientKey, ClientOutcome, Facts, HoldChange, Holds, Path, Presence, Problem,
    Sequencer, State, Teller,
};
use rendel_store::{RefusalRow, StoreError, TakenOver, UpdateRow, WriteError};
use rendel_wire::{AnswerFrame, CueFor, Roster, SessionHead};
use serde::Serialize;
use serde_json::value::RawValue;
use tokio::sync::{mpsc, oneshot};
use tokio::time::Instant;
use uuid::Uuid;

use super::audience::{AudienceId, Audiences, nothing_at};
use super::digests::Digests;
use super::gating::{Gated, Gating, Passed};
use super::life::{Change, Standing};
use super::people::{CueRates, cue_rates};
use super::recent::Recent;
use super::recovery::recovered;
use super::removals::Removals;
use super::roster::Present;
use super::{
    Answered, Ask, Begun, ConnectionId, Figures, Inside, Rate, Reading, SessionHandle, WayIn,
};
use crate::app::App;
use crate::auth::Identity;
use crate::connection::{Arrival, Beat, Beginning, Frame, Outbound};
use crate::failure::{from_store, moved, shutting_down, unavailable};

/// Asks that are taken out of the mailbox at one time.
const BATCH: usize = 256;
/// Appends of one session that may be under way; further asks wait in the mailbox and make a larger
/// next one. With two, a first straggler would become a commit of its own while the rest wait for
/// it.
const UNDER_WAY: usize = 1;

pub(super) type AppendId = u64;
pub(super) type Written = (AppendId, Result<(), WriteError>);

pub(super) struct Task {
    pub(super) app: Arc<App>,
    ord: i64,
    pub(super) head: SessionHead,
    pub(super) standing: Standing,
    pub(super) opening: Option<String>,
    pub(super) charter: Arc<Charter>,
    pub(super) sequencer: Sequencer,
    pub(super) epoch: u64,
    pub(super) epochs: Vec<(u64, u64)>,
    pub(super) recent: Recent,
    pub(super) audiences: Audiences,
    /// The `seq` of the newest snapshot in the store, and the bytes of updates since.
    pub(super) kept_snapshot: u64,
    pub(super) bytes_since: u64,
    pub(super) members: BTreeMap<ConnectionId, Member>,
    pub(super) present: Present,
    pub(super) rates: BTreeMap<String, Arc<Rate>>,
    pub(super) next_connection: ConnectionId,
    /// Who came since the last append was sent and waits for a welcome, and what that changed in
    /// the roster.
    pub(super) arrivals: Vec<(ConnectionId, WayIn)>,
    pub(super) roster: Roster,
    /// What was settled or refused since the last append was sent.
    pub(super) batch: Batch,
    /// Appends that are not known to be on disk, each with what waits for it.
    pub(super) under_way: VecDeque<(AppendId, Vec<Output>)>,
    pub(super) next_append: AppendId,
    /// What waits for the next beat, where the charter has one, and when that is.
    pub(super) held: Vec<Output>,
    pub(super) beat: Option<Instant>,
    pub(super) digests: Digests,
    /// What people tell of themselves, and when that was last told and is told next.
    pub(super) presence: Presence,
    /// Bytes of its memory that the metric has of it.
    pub(super) remembered: i64,
    pub(super) last_presence: Instant,
    /// What was told of presence last, by audience.
    pub(super) last_beats: Vec<Arc<Beat>>,
    pub(super) presence_beat: Option<Instant>,
    pub(super) holds: Holds,
    pub(super) cue_rates: CueRates,
    pub(super) removals: Arc<Removals>,
    secret: Uuid,
    /// Refusals that were written since the store was last told to forget the oldest.
    pub(super) refused_since: usize,
    /// Proposals that wait for an outside check.
    pub(super) gating: Gating,
    /// The last expressions of the charter that had no answer.
    pub(super) expression_faults: VecDeque<String>,
    /// The last `seq` that participants were shown.
    pub(super) shown: u64,
    /// Waiting for the database to come back, with what was under way when it went.
    pub(super) adrift: Option<Vec<Output>>,
    /// Another process has taken the session over.
    pub(super) is_superseded: bool,
    /// When somebody last asked for something.
    touched: Instant,
    pub(super) written: mpsc::UnboundedSender<Written>,
    pub(super) computed: mpsc::UnboundedSender<(u64, Vec<String>)>,
    pub(super) changed: mpsc::UnboundedSender<Change>,
    pub(super) gated: Gated,
    inbox: Option<Inbox>,
}

/// Where what was begun elsewhere comes back.
pub(super) struct Inbox {
    pub(super) writes: mpsc::UnboundedReceiver<Written>,
    computings: mpsc::UnboundedReceiver<(u64, Vec<String>)>,
    changes: mpsc::UnboundedReceiver<Change>,
    passed: mpsc::UnboundedReceiver<Passed>,
}

/// A connection that entered.
pub(super) struct Member {
    pub(super) who: Actor,
    pub(super) identity: Identity,
    pub(super) audience: AudienceId,
    /// A guest's token, which its first welcome tells.
    pub(super) token: Option<String>,
    pub(super) outbound: Arc<Outbound>,
    pub(super) way: &'static str,
    pub(super) address: String,
    pub(super) since: u64,
    /// Whether its `welcome` is in its queue; updates go to it from then on.
    pub(super) is_welcome: bool,
    /// Whether it keeps a replica and can be asked for its digest.
    pub(super) is_replica: bool,
    /// Its last proposal that was refused before the sequencer heard of it.
    pub(super) refused: u64,
}

impl Member {
    /// Whose presence it tells.
    pub(super) fn teller(&self) -> Teller {
        (self.who.id.clone(), self.who.client)
    }
}

/// When the database is asked again, in growing waits.
struct Retry {
    at: Instant,
    wait: Duration,
}

impl Default for Retry {
    fn default() -> Self {
        Self { at: Instant::now(), wait: Duration::from_millis(100) }
    }
}

impl Retry {
    fn later(self) -> Self {
        Self { at: Instant::now() + self.wait, wait: (self.wait * 2).min(Duration::from_secs(2)) }
    }
}

#[derive(Default)]
pub(super) struct Batch {
    pub(super) updates: Vec<UpdateRow>,
    pub(super) refusals: Vec<RefusalRow>,
    pub(super) outputs: Vec<Output>,
}

/// What is shown to somebody once everything before it is on disk.
pub(super) enum Output {
    Update { seq: u64, json: Arc<str>, from: Origin },
    Refused { n: u64, problem: Problem, from: Origin },
    Repeated { n: u64, outcome: ClientOutcome, connection: ConnectionId },
    Welcome { connection: ConnectionId, arrival: Arrival },
    Roster(Roster),
    Begin { connection: ConnectionId, beginning: Beginning, state: Option<Box<State>> },
    Read { reading: Reading, answer: oneshot::Sender<Result<Reading, Problem>> },
    Begun { result: Result<Begun, Problem>, answer: oneshot::Sender<Result<Begun, Problem>> },
    Answer { result: Result<Answered, Problem>, answer: oneshot::Sender<Result<Answered, Problem>> },
    Status { standing: Standing, by: String, answer: oneshot::Sender<Result<(), Problem>> },
    Said { connection: ConnectionId, facts: Facts },
    Acted { connection: ConnectionId, answer: AnswerFrame },
    Holds(HoldChange),
    Cue { frame: Arc<Frame>, by: String, to: CueFor },
    Snapshot(Box<rendel_core::SequencerSnapshot>),
    AskForDigests { seq: u64, state: Box<State> },
    Resync { connection: ConnectionId, frame: ByteString },
}

/// Where a proposal came from and is answered.
pub(super) enum Origin {
    Connection {
        connection: ConnectionId,
        client: ClientKey,
        n: u64,
    },
    Call {
        client: ClientKey,
        n: u64,
        audience: AudienceId,
        answer: oneshot::Sender<Result<Answered, Problem>>,
    },
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
        let (changed, changes) = mpsc::unbounded_channel();
        let (gated, passed) = mpsc::unbounded_channel();
        let row = taken.row;
        let standing = Standing::stored(&row);
        let removals = taken
            .removals
            .into_iter()
            .map(|(sub, until)| (sub, u64::try_from(until.timestamp_millis()).unwrap_or(0)));
        let head = SessionHead {
            id: row.id,
            charter: row.charter,
            version: u32::try_from(row.version).unwrap_or(0),
            status: standing.status.name().to_owned(),
        };
        Ok(Self {
            ord: row.ord,
            head,
            standing,
            opening: row.opening,
            epoch: u64::try_from(row.epoch).unwrap_or(0),
            epochs: taken.epochs,
            shown: sequencer.seq(),
            kept_snapshot: taken.snapshot.map_or(0, |snapshot| snapshot.seq),
            bytes_since: 0,
            audiences: Audiences::of(&charter),
            cue_rates: cue_rates(&charter),
            charter,
            sequencer,
            recent,
            members: BTreeMap::new(),
            present: Present::default(),
            rates: BTreeMap::new(),
            next_connection: 1,
            arrivals: Vec::new(),
            roster: Roster::default(),
            batch: Batch::default(),
            under_way: VecDeque::new(),
            next_append: 1,
            held: Vec::new(),
            beat: None,
            digests: Digests::default(),
            presence: Presence::default(),
            remembered: 0,
            last_presence: Instant::now(),
            last_beats: Vec::new(),
            presence_beat: None,
            holds: Holds::default(),
            removals: Arc::new(Removals::of(removals.collect())),
            secret: row.secret,
            refused_since: 0,
            gating: Gating::default(),
            expression_faults: VecDeque::new(),
            adrift: None,
            is_superseded: false,
            touched: Instant::now(),
            written,
            computed,
            changed,
            gated,
            inbox: Some(Inbox { writes, computings, changes, passed }),
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
        let Some(mut inbox) = self.inbox.take() else { return };
        self.app.metrics.sessions.inc();
        self.live(&mut asks, &mut inbox).await;
        self.app.metrics.sessions.dec();
        self.app.metrics.remembered.dec_by(self.remembered);
    }

    async fn live(&mut self, asks: &mut mpsc::Receiver<Ask>, inbox: &mut Inbox) {
        self.digests.put(self.sequencer.seq());
        let mut quiet = tokio::time::interval(self.app.config.digest_within);
        quiet.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut taken = Vec::with_capacity(BATCH);
        let mut retry = Retry::default();
        while !self.is_superseded {
            let is_ready = self.under_way.len() < UNDER_WAY || self.adrift.is_some();
            let beat = self.beat.unwrap_or_else(Instant::now);
            let presence_beat = self.presence_beat.unwrap_or_else(Instant::now);
            let lapse = self.next_timeout();
            tokio::select! {
                biased;
                Some((append, result)) = inbox.writes.recv() => self.handle_written(append, result),
                () = tokio::time::sleep_until(beat), if self.beat.is_some() => self.show_held(),
                Some(passed) = inbox.passed.recv(), if is_ready && self.adrift.is_none() => {
                    self.handle_passed(passed);
                    self.send_batch().await;
                }
                () = tokio::time::sleep_until(presence_beat), if self.presence_beat.is_some() => self.show_presence(),
                () = tokio::time::sleep_until(lapse.unwrap_or(beat)), if lapse.is_some() && self.adrift.is_none() => {
                    self.handle_timeout();
                    self.send_batch().await;
                }
                count = asks.recv_many(&mut taken, BATCH), if is_ready => {
                    if count == 0 {
                        return;
                    }
                    for ask in taken.drain(..) {
                        if let Ask::Stop { answer } = ask {
                            return self.stop(&mut inbox.writes, answer).await;
                        }
                        self.handle(ask);
                    }
                    self.send_batch().await;
                }
                Some((seq, ours)) = inbox.computings.recv() => {
                    let differing = self.digests.know(seq, ours);
                    differing.into_iter().for_each(|differing| self.repair(differing));
                    self.send_batch().await;
                }
                Some(change) = inbox.changes.recv() => {
                    self.handle_change(change);
                    self.send_batch().await;
                }
                _ = quiet.tick(), if self.adrift.is_none() && self.may_ask_for_digests(1) => {
                    self.ask_for_digests(1);
                    self.send_batch().await;
                }
                () = tokio::time::sleep_until(retry.at), if self.adrift.is_some() => {
                    retry = if self.try_to_recover().await { Retry::default() } else { retry.later() };
                }
                () = tokio::time::sleep_until(self.touched + self.charter.session.idle), if self.is_idle() => {
                    if self.app.let_go(&self.head.id) {
                        return self.rest().await;
                    }
                    self.touched = Instant::now();
                }
            }
        }
        self.give_up();
    }

    fn handle(&mut self, ask: Ask) {
        if !matches!(
            ask,
            Ask::Figures { .. } | Ask::Connections { .. } | Ask::Who { .. } | Ask::Recheck { .. }
        ) {
            self.touched = Instant::now();
        }
        match ask {
            Ask::Enter(entry) => self.enter(*entry),
            Ask::CatchUp { connection } => self.catch_up(connection),
            Ask::Propose { connection, frame } => self.propose(connection, frame),
            Ask::Refused { connection, n } => self.note_refused(connection, n),
            Ask::Leave { connection, why } => self.leave(connection, why),
            Ask::Said { connection, said } => self.said(connection, said),
            Ask::Act { connection, n, act } => self.act(connection, n, act),
            Ask::SendCue { actor, cue, answer } => drop(answer.send(self.cue(&actor, cue))),
            Ask::Recheck { answer } => {
                self.recheck();
                let _ = answer.send(());
            }
            Ask::Remove { sub, answer } => {
                self.remove(&sub);
                let _ = answer.send(());
            }
            Ask::May { actor, edit, answer } => {
                drop(answer.send(self.sequencer.may(&actor, &edit)))
            }
            Ask::Who { answer } => drop(answer.send(self.who())),
            Ask::Digest { connection, seq, sha256 } => {
                if let Some(differing) = self.digests.answer(connection, seq, sha256) {
                    self.repair(differing);
                }
            }
            Ask::ProposeOnce { actor, proposal, answer } => {
                self.propose_once(&actor, proposal, answer)
            }
            Ask::BeginPatch { actor, n, if_match, answer } => {
                self.begin_patch(&actor, n, if_match.as_ref(), answer)
            }
            Ask::EndPatch { actor, proposal, if_match, answer } => {
                self.end_patch(&actor, proposal, if_match.as_ref(), answer);
            }
            Ask::Read { path, role, answer } => self.read(path.as_ref(), &role, answer),
            Ask::Status { standing, by, answer } => self.change_status(standing, by, answer),
            Ask::Reset { opening, actor, answer } => self.reset(opening, &actor, answer),
            // Who asked may have gone away meanwhile, here and in every answer below.
            Ask::Figures { answer } => drop(answer.send(self.figures())),
            Ask::Connections { answer } => drop(answer.send(self.connections())),
            Ask::Stop { answer } => drop(answer),
        }
    }

    fn figures(&self) -> Figures {
        let (agreed_seq, agreed) = self.digests.agreement();
        Figures {
            participants: self.present.len() as u64,
            connections: self.members.len() as u64,
            seq: self.shown,
            epoch: self.epoch,
            agreed_seq,
            remembered: self.sequencer.remembered() as u64,
            agreed,
            differed: self.digests.differed,
            status: self.standing.status,
            expression_faults: self.expression_faults.iter().cloned().collect(),
        }
    }

    fn read(
        &mut self,
        path: Option<&Path>,
        role: &str,
        answer: oneshot::Sender<Result<Reading, Problem>>,
    ) {
        if self.adrift.is_some() {
            let _ = answer.send(Err(unavailable()));
            return;
        }
        let seq = self.sequencer.seq();
        let json = match path {
            None => {
                Ok(ByteString::from(self.present_snapshot(self.audiences.of_role(role)).text()))
            }
            Some(path) => {
                let sight = self.charter.sight(role);
                let plain = self.sequencer.plain_at(path);
                let shown = plain.and_then(|plain| sight.value(&self.charter.fields, path, plain));
                shown
                    .map(|value| ByteString::from(value.to_string()))
                    .ok_or_else(|| nothing_at(path))
            }
        };
        match json {
            Ok(json) => {
                self.batch.outputs.push(Output::Read { reading: Reading { seq, json }, answer })
            }
            Err(problem) => drop(answer.send(Err(problem))),
        }
    }

    /// Writes what was accepted, tells the connections, and keeps a snapshot, without which a start
    /// would read more.
    async fn stop(
        &mut self,
        writes: &mut mpsc::UnboundedReceiver<Written>,
        answer: oneshot::Sender<()>,
    ) {
        self.send_batch().await;
        while !self.under_way.is_empty() && self.adrift.is_none() && !self.is_superseded {
            let Some((append, result)) = writes.recv().await else { break };
            self.handle_written(append, result);
        }
        self.show_held();
        // What was sent and not reported as written is told to nobody: it may be there or not. Nor
        // is there a snapshot of it.
        let why = if self.is_superseded { moved() } else { unavailable() };
        self.drop_unwritten(&why);
        if self.adrift.is_none() && !self.is_superseded {
            self.keep_last_snapshot().await;
        }
        for member in self.members.values() {
            member.outbound.end(shutting_down());
        }
        let _ = answer.send(());
    }
}

/// Starts the task of a session that was taken over. It runs on the thread of whoever first asked
/// for it: connections of the same thread then reach it without waking another one.
pub(crate) fn start_session(app: Arc<App>, taken: TakenOver) -> Result<SessionHandle, Problem> {
    let (mailbox, asks) = mpsc::channel(super::MAILBOX);
    let task = Task::new(app, taken)?;
    let handle = SessionHandle(Arc::new(Inside {
        id: task.head.id.clone(),
        ord: task.ord(),
        charter: task.charter().clone(),
        secret: task.secret,
        removals: task.removals.clone(),
        mailbox,
    }));
    tokio::spawn(task.run(asks));
    Ok(handle)
}

pub(super) fn signed(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

pub(super) fn raw_value(json: String) -> Arc<RawValue> {
    // The text was serialised from a value a moment ago, so it is JSON.
    RawValue::from_string(json).unwrap_or_default().into()
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
