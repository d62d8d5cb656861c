//! The order and its journal: what was settled, what is on disk, and what waits for it.

use std::collections::BTreeSet;
use std::sync::Arc;

use rendel_core::{
    Actor, Chance, Charter, ClientKey, ClientOutcome, Facts, HoldChange, Problem, Reader, RowSteps,
    Rows, Sequencer, SequencerSnapshot, Settled, State, Teller, Ticket, Undoable, told,
};
use rendel_wire::{AnswerFrame, CueFor, CueFrame, QueryRefused, Roster, Said};
use serde_json::Value;

use crate::audiences::{Content, Shown};
use crate::input::{AppendId, CallId, ConnectionId, Found, Had, SessionStatus};
use crate::output::{Answer, Output, RefusalRow, UpdateRow, Wake};
use crate::problems::unavailable;
use crate::recent::Recent;

/// The oldest refusals are forgotten after so many new ones.
const TIDY: usize = 1_024;

/// What is shown or answered once everything before it is on disk.
#[derive(Debug)]
pub(crate) enum Waiting {
    Update {
        update: Arc<Settled>,
        json: Arc<str>,
        from: Origin,
    },
    Refused {
        n: u64,
        problem: Problem,
        from: Origin,
    },
    /// The first outcome of a proposal that came again.
    Repeated {
        outcome: ClientOutcome,
        from: Origin,
    },
    /// Where somebody begins, with the state that patches are made against where they follow them.
    Welcome {
        connection: ConnectionId,
        /// Of which audience and viewer it is.
        number: usize,
        shown: Shown<Content>,
        followed: Option<Box<State>>,
        /// Who told something of themselves then, and how often presence had been told.
        presence: (BTreeSet<Teller>, u64),
    },
    Roster(Roster),
    Holds(HoldChange),
    Answer {
        call: CallId,
        answer: Result<Answer, Shown<Problem>>,
    },
    Status {
        call: CallId,
        by: String,
        standing: SessionStatus,
    },
    /// Presence is told, as it is then.
    Presence,
    /// What somebody tells of themselves, with places as they are in the order here, and as it
    /// came.
    Said {
        connection: ConnectionId,
        facts: Facts,
        said: Said,
    },
    Undoable {
        connection: ConnectionId,
        undoable: Undoable,
    },
    QueryRefused {
        connection: ConnectionId,
        refused: QueryRefused,
    },
    /// Rows for those who follow them, by tickets that may have been given back meanwhile.
    Rows {
        tickets: BTreeSet<Ticket>,
        told: RowsTold,
    },
    Acted {
        connection: ConnectionId,
        answer: AnswerFrame,
    },
    Cue {
        frame: CueFrame,
        to: CueFor,
    },
    Keep(Box<SequencerSnapshot>),
    AskForDigests {
        seq: u64,
        state: Box<State>,
    },
    Resync {
        connection: ConnectionId,
        /// Of which audience and viewer it is.
        number: usize,
        shown: Shown<Content>,
    },
}

/// What those who follow rows are told.
#[derive(Clone, Debug)]
pub(crate) enum RowsTold {
    Fresh { rows: Rows, mark: Option<String> },
    Steps(RowSteps),
}

/// Where a proposal came from and is answered.
#[derive(Clone, Debug)]
pub(crate) enum Origin {
    Connection {
        connection: ConnectionId,
        client: ClientKey,
        n: u64,
    },
    Call {
        call: CallId,
        client: ClientKey,
        n: u64,
        reader: Reader,
    },
    /// The session itself.
    Own,
}

impl Origin {
    /// The client and its number.
    pub(crate) fn proposal(&self) -> (ClientKey, u64) {
        match self {
            Self::Connection { client, n, .. } | Self::Call { client, n, .. } => (*client, *n),
            Self::Own => (Actor::session().key(), 0),
        }
    }

    pub(crate) fn connection(&self) -> Option<ConnectionId> {
        match self {
            Self::Connection { connection, .. } => Some(*connection),
            Self::Call { .. } | Self::Own => None,
        }
    }
}

/// How often a snapshot is kept.
#[derive(Clone, Copy, Debug)]
pub struct Spacing {
    /// After so many updates.
    pub updates: u64,
    /// Or so many bytes of them.
    pub bytes: u64,
}

#[derive(Debug)]
pub(crate) struct Order {
    sequencer: Sequencer,
    recent: Recent,
    epoch: u64,
    epochs: Vec<(u64, u64)>,
    spacing: Spacing,
    /// The `seq` of the newest snapshot in the store, and the bytes of updates since.
    kept: u64,
    bytes_since: u64,
    /// Refusals that were written since the store was last told to forget the oldest.
    refused_since: usize,
    /// When the store knows the session to act next, in milliseconds since 1970 UTC.
    wakes: Option<u64>,
    /// The last `seq` that was shown.
    shown: u64,
    batch: Batch,
    /// The append that is not known to be on disk, with what waits for it. One at a time: a first
    /// straggler would else become a commit of its own while the rest wait for it.
    under_way: Option<(AppendId, Vec<Waiting>)>,
    next_append: AppendId,
    /// The journal is away, with what was under way when it went.
    adrift: Option<Vec<Waiting>>,
}

/// Updates that were written and never shown, where they are known.
pub(crate) type Unseen = Option<Vec<Arc<str>>>;

/// What was settled or refused since the last append was sent.
#[derive(Debug, Default)]
struct Batch {
    updates: Vec<UpdateRow>,
    refusals: Vec<RefusalRow>,
    waiting: Vec<Waiting>,
}

impl Order {
    /// As the journal has it. Fails where the journal does not fit the charter, and says why.
    pub(crate) fn of(
        charter: &Arc<Charter>,
        opening: Option<&Value>,
        found: &Found,
        spacing: Spacing,
    ) -> Result<Self, String> {
        let (sequencer, recent) = replayed(charter, opening, found)?;
        Ok(Self {
            shown: sequencer.seq(),
            sequencer,
            recent,
            epoch: found.epoch,
            epochs: found.epochs.clone(),
            spacing,
            kept: found.snapshot.as_ref().map_or(0, |snapshot| snapshot.seq),
            bytes_since: 0,
            refused_since: 0,
            wakes: found.wakes,
            batch: Batch::default(),
            under_way: None,
            next_append: 1,
            adrift: None,
        })
    }

    pub(crate) fn sequencer(&self) -> &Sequencer {
        &self.sequencer
    }

    pub(crate) fn sequencer_mut(&mut self) -> &mut Sequencer {
        &mut self.sequencer
    }

    pub(crate) fn recent(&self) -> &Recent {
        &self.recent
    }

    pub(crate) fn seq(&self) -> u64 {
        self.sequencer.seq()
    }

    pub(crate) fn epoch(&self) -> u64 {
        self.epoch
    }

    pub(crate) fn shown(&self) -> u64 {
        self.shown
    }

    pub(crate) fn is_adrift(&self) -> bool {
        self.adrift.is_some()
    }

    /// A proposal that comes while the journal is away. One that has an outcome, whether that is in
    /// the journal or not, is told it when that is known; gives back the others.
    pub(crate) fn wait_for_journal(&mut self, n: u64, from: Origin) -> Result<(), Origin> {
        let (client, _) = from.proposal();
        match &mut self.adrift {
            Some(adrift) if self.sequencer.has_answered(client, n) => {
                let is_same = |one: &Waiting| {
                    matches!(one, Waiting::Refused { from: other, .. }
                        if other.connection().is_some()
                            && other.connection() == from.connection()
                            && other.proposal() == from.proposal())
                };
                // Sent twice over one connection it is answered there once.
                if !adrift.iter().any(is_same) {
                    adrift.push(Waiting::Refused { n, problem: unavailable(), from });
                }
                Ok(())
            }
            _ => Err(from),
        }
    }

    /// Whether an append is not known to be on disk.
    pub(crate) fn is_writing(&self) -> bool {
        self.under_way.is_some()
    }

    /// Whether nothing waits for the journal.
    pub(crate) fn is_quiet(&self) -> bool {
        let Batch { updates, refusals, waiting } = &self.batch;
        self.under_way.is_none()
            && self.adrift.is_none()
            && updates.is_empty()
            && refusals.is_empty()
            && waiting.is_empty()
    }

    /// Something is shown in its turn.
    pub(crate) fn push(&mut self, waiting: Waiting) {
        self.batch.waiting.push(waiting);
    }

    /// An update is to be written, and shown when it is.
    pub(crate) fn push_update(&mut self, mut update: Settled, from: Origin) {
        let announced = std::mem::take(&mut update.announced);
        let body: Arc<str> = serde_json::to_string(&update).unwrap_or_default().into();
        self.bytes_since += body.len() as u64;
        let told = told(&body);
        (update.own, update.since) = (None, Default::default());
        self.recent.push(update.seq, told.clone());
        let (seq, met) = (update.seq, !update.verdicts.is_empty());
        let at = update.at;
        self.batch.updates.push(UpdateRow { seq, body, met, at, announced });
        self.push(Waiting::Update { update: update.into(), json: told, from });
        if seq - self.kept >= self.spacing.updates || self.bytes_since >= self.spacing.bytes {
            self.kept = seq;
            self.bytes_since = 0;
            self.push(Waiting::Keep(Box::new(self.sequencer.snapshot())));
        }
    }

    /// A refusal is to be written, and told when it is; gives whether the store may forget old ones.
    pub(crate) fn push_refusal(&mut self, n: u64, problem: Problem, from: Origin) -> bool {
        if n > 0 {
            let problem = serde_json::to_string(&problem.clone().to_be_kept()).unwrap_or_default();
            let ((client, _), at_seq) = (from.proposal(), self.seq());
            self.batch.refusals.push(RefusalRow { client, n, at_seq, problem });
            self.refused_since += 1;
        }
        self.push(Waiting::Refused { n, problem, from });
        let is_due = self.refused_since >= TIDY;
        self.refused_since = if is_due { 0 } else { self.refused_since };
        is_due
    }

    /// Whether a replica holds nothing but what the journal has. Each epoch after the replica's own
    /// tells where it began; what the replica saw beyond the first of those places was lost.
    pub(crate) fn may_resume(&self, had: Had) -> bool {
        let next = self.epochs.iter().find(|(later, _)| *later > had.epoch);
        had.seen <= self.seq()
            && had.epoch <= self.epoch
            && next.is_none_or(|(_, begins)| had.seen <= *begins)
    }

    /// Makes an append of what was settled since the last, where none is under way; or else gives
    /// what waits for nothing.
    pub(crate) fn close_batch(&mut self) -> (Option<Output>, Vec<Waiting>) {
        if self.batch.updates.is_empty() && self.batch.refusals.is_empty() {
            let waiting = std::mem::take(&mut self.batch.waiting);
            return match (&mut self.under_way, &mut self.adrift) {
                (Some((_, before)), _) | (None, Some(before)) => {
                    before.extend(waiting);
                    (None, Vec::new())
                }
                (None, None) => (None, waiting),
            };
        }
        if self.under_way.is_some() || self.adrift.is_some() {
            return (None, Vec::new());
        }
        let Batch { updates, refusals, waiting } = std::mem::take(&mut self.batch);
        let append = self.next_append;
        self.next_append += 1;
        self.under_way = Some((append, waiting));
        let wake = if updates.is_empty() { None } else { self.poll_wake() };
        (Some(Output::Append { append, epoch: self.epoch, updates, refusals, wake }), Vec::new())
    }

    /// When the session acts next by itself, where the store has to know: it has none, a later one,
    /// or one that is over. One that is too early is looked at in vain, which does no harm.
    pub(crate) fn poll_wake(&mut self) -> Option<Wake> {
        // Whoever is here is to be missed after a restart.
        let here = self.sequencer.here().next().map(|_| 1);
        let next = here.or_else(|| self.sequencer.next_due().map(|due| due.max(1)));
        let is_known = match (self.wakes, next) {
            (Some(known), Some(next)) => known <= next && known > self.sequencer.at(),
            (known, next) => known == next,
        };
        if is_known || self.wakes == next {
            return None;
        }
        self.wakes = next;
        Some(next.map_or(Wake::Never, Wake::At))
    }

    /// An append is on disk: what waited for it.
    pub(crate) fn handle_written(&mut self, append: AppendId) -> Vec<Waiting> {
        match self.under_way.take() {
            Some((id, waiting)) if id == append => waiting,
            other => {
                self.under_way = other;
                Vec::new()
            }
        }
    }

    /// An append failed; gives whether one was under way.
    pub(crate) fn handle_lost(&mut self) -> bool {
        let Some((_, waiting)) = self.under_way.take() else { return false };
        let batch = std::mem::take(&mut self.batch);
        self.adrift = Some(waiting.into_iter().chain(batch.waiting).collect());
        true
    }

    /// The journal is there again, as it was found. Gives the updates that were written and not
    /// shown, `None` where they are not known, and what waited.
    pub(crate) fn handle_found(
        &mut self,
        charter: &Arc<Charter>,
        opening: Option<&Value>,
        found: &Found,
    ) -> Result<(Unseen, Vec<Waiting>), String> {
        let (sequencer, recent) = replayed(charter, opening, found)?;
        self.sequencer = sequencer;
        self.recent = recent;
        self.epoch = found.epoch;
        self.epochs.clone_from(&found.epochs);
        self.bytes_since = 0;
        self.wakes = found.wakes;
        self.kept = found.snapshot.as_ref().map_or(0, |snapshot| snapshot.seq);
        let recent = self.recent.after(self.shown).map(|updates| updates.cloned().collect());
        let stored = || Some(found.unseen.as_ref()?.iter().map(told).collect());
        let unseen = recent.or_else(stored);
        Ok((unseen, self.adrift.take().unwrap_or_default()))
    }

    /// Participants were shown up to there.
    pub(crate) fn note_shown(&mut self, seq: u64) {
        self.shown = seq;
    }

    /// Takes all that is not known to be on disk, or waits for that.
    pub(crate) fn take_unwritten(&mut self) -> Vec<Waiting> {
        let under_way = self.under_way.take().into_iter().flat_map(|(_, waiting)| waiting);
        let adrift = self.adrift.take().unwrap_or_default();
        let batch = std::mem::take(&mut self.batch);
        under_way.chain(adrift).chain(batch.waiting).collect()
    }

    /// A snapshot of where the session stands, where the store has no such.
    pub(crate) fn last_snapshot(&self) -> Option<Box<SequencerSnapshot>> {
        (self.seq() > self.kept).then(|| Box::new(self.sequencer.snapshot()))
    }
}

/// The sequencer as the journal has it, and the last updates.
fn replayed(
    charter: &Arc<Charter>,
    opening: Option<&Value>,
    found: &Found,
) -> Result<(Sequencer, Recent), String> {
    let mut sequencer = match found.snapshot.clone() {
        Some(snapshot) => Sequencer::restore(charter.clone(), snapshot),
        None => Sequencer::open(charter.clone(), opening).map_err(|problem| problem.to_string())?,
    };
    sequencer = sequencer.with_chance(Some(Chance::of(found.secret))).with_opened(found.opened);
    let mut recent = Recent::from(sequencer.seq());
    // Refusals in their places among the updates: what is forgotten of clients follows from the
    // order.
    let mut refusals = found.refusals.iter().peekable();
    for update in &found.updates {
        while let Some((_, client, n, problem)) = refusals.next_if(|(at, ..)| *at < update.seq) {
            sequencer.replay_refusal(*client, *n, problem.clone());
        }
        sequencer.replay(update).map_err(|misfit| misfit.to_string())?;
        recent.push(update.seq, told(&serde_json::to_string(update).unwrap_or_default().into()));
    }
    for (_, client, n, problem) in refusals {
        sequencer.replay_refusal(*client, *n, problem.clone());
    }
    Ok((sequencer, recent))
}
