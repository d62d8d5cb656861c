//! Sessions as tasks, and the mailbox through which the world speaks to one.

mod audience;
mod digests;
mod entering;
mod gating;
mod life;
mod past;
mod people;
mod proposing;
mod recent;
mod recovery;
mod removals;
mod roster;
mod showing;
mod task;

use std::sync::Arc;
use std::time::Duration;

use bytestring::ByteString;
use std::num::NonZeroU32;

use governor::clock::{Clock as _, DefaultClock};
use governor::{DefaultDirectRateLimiter, Quota, RateLimiter};
use rendel_core::{Actor, Edit, Facts, Path, Problem, ProblemKind, Proposal, State, Verdicted};
use rendel_wire::http::{ConnectionInfo, ParticipantList};
use rendel_wire::{LeftWhy, Propose, Said, SendCue};
use serde_json::Value;
use tokio::sync::{mpsc, oneshot};
use uuid::Uuid;

use crate::auth::Identity;
use crate::connection::Outbound;
use crate::failure::{shutting_down, unavailable};
use crate::http::Tags;

pub(crate) use audience::{nothing_at, seen};
pub(crate) use life::{Standing, Status};
pub(crate) use past::{Patches, state_at};
pub(crate) use removals::Removals;
pub(crate) use task::start_session;

/// Asks that may wait; beyond them connections wait, and with them their senders.
const MAILBOX: usize = 1_024;
/// How long a call over HTTP waits for its session.
const PATIENCE: Duration = Duration::from_secs(30);

/// A connection within its session.
pub(crate) type ConnectionId = u64;

/// What the world asks of a session.
#[derive(Debug)]
pub(crate) enum Ask {
    Enter(Box<Entry>),
    Propose {
        connection: ConnectionId,
        frame: Propose,
    },
    /// A proposal was refused before it got here.
    Refused {
        connection: ConnectionId,
        n: u64,
    },
    Leave {
        connection: ConnectionId,
        why: LeftWhy,
    },
    /// What somebody tells of themselves.
    Said {
        connection: ConnectionId,
        said: Said,
    },
    /// Something that is answered alone.
    Act {
        connection: ConnectionId,
        n: u64,
        act: Act,
    },
    /// A cue that comes by a call.
    SendCue {
        actor: Actor,
        cue: SendCue,
        answer: oneshot::Sender<Result<(), Problem>>,
    },
    /// Tokens were revoked.
    Recheck {
        answer: oneshot::Sender<()>,
    },
    /// Removes a participant: their connections end.
    Remove {
        sub: String,
        answer: oneshot::Sender<()>,
    },
    May {
        actor: Actor,
        edit: Edit,
        answer: oneshot::Sender<Result<Verdicted, Problem>>,
    },
    Who {
        answer: oneshot::Sender<ParticipantList>,
    },
    /// A connection fell behind and has written what it had.
    CatchUp {
        connection: ConnectionId,
    },
    Digest {
        connection: ConnectionId,
        seq: u64,
        sha256: String,
    },
    ProposeOnce {
        actor: Actor,
        proposal: Proposal,
        answer: oneshot::Sender<Result<Answered, Problem>>,
    },
    /// Somebody has a document that is to change the state: whether they may, and what it is to be
    /// read against.
    BeginPatch {
        actor: Actor,
        n: u64,
        if_match: Option<Tags>,
        answer: oneshot::Sender<Result<Begun, Problem>>,
    },
    /// The edits that the document asks for.
    EndPatch {
        actor: Actor,
        proposal: Proposal,
        if_match: Option<Tags>,
        answer: oneshot::Sender<Result<Answered, Problem>>,
    },
    Status {
        standing: Standing,
        by: String,
        answer: oneshot::Sender<Result<(), Problem>>,
    },
    Reset {
        opening: Option<Value>,
        actor: Actor,
        answer: oneshot::Sender<Result<Answered, Problem>>,
    },
    Read {
        path: Option<Path>,
        role: String,
        answer: oneshot::Sender<Result<Reading, Problem>>,
    },
    Figures {
        answer: oneshot::Sender<Figures>,
    },
    Connections {
        answer: oneshot::Sender<Vec<ConnectionInfo>>,
    },
    Stop {
        answer: oneshot::Sender<()>,
    },
}

/// Something that somebody asks for and is answered alone.
#[derive(Debug)]
pub(crate) enum Act {
    Hold {
        at: String,
        for_ms: Option<u64>,
        over: bool,
    },
    Release {
        at: String,
    },
    Cue(SendCue),
    /// The connection goes on with a new token.
    Renewed(Box<Identity>),
}

/// A connection that wants to enter.
#[derive(Debug)]
pub(crate) struct Entry {
    pub(crate) who: Identity,
    pub(crate) client: Uuid,
    pub(crate) way: WayIn,
    /// The name of how it is spoken to.
    pub(crate) encoding: &'static str,
    pub(crate) address: String,
    pub(crate) outbound: Arc<Outbound>,
    /// Facts about itself from the first moment on.
    pub(crate) presence: Option<Facts>,
    /// A guest's token, to come back with.
    pub(crate) token: Option<String>,
    pub(crate) answer: oneshot::Sender<Result<Entered, Problem>>,
}

/// How a connection takes part.
#[derive(Clone, Copy, Debug)]
pub(crate) enum WayIn {
    /// With a replica: up to where, where it was here before.
    Enter { seen: Option<u64>, epoch: Option<u64> },
    /// By events, after what it has already.
    Follow { after: Option<u64>, patches: bool },
}

/// What a document that changes the state is read against, aside from the session.
#[derive(Debug)]
pub(crate) enum Begun {
    /// The state at a `seq`.
    Against { seq: u64, state: Box<State> },
    /// The call was made before: this was its first outcome.
    Known(Answered),
}

/// What became of a call that changes the state.
#[derive(Clone, Debug)]
pub(crate) struct Answered {
    pub(crate) seq: u64,
    /// The settled update; none where nothing was to be changed.
    pub(crate) json: Option<ByteString>,
}

/// What a connection that has entered is given; its `welcome` comes through its queue.
#[derive(Clone, Debug)]
pub(crate) struct Entered {
    pub(crate) id: ConnectionId,
    pub(crate) rate: Arc<Rate>,
    pub(crate) frame_limit: usize,
}

/// The state, or a part of it, as JSON.
#[derive(Clone, Debug)]
pub(crate) struct Reading {
    pub(crate) seq: u64,
    pub(crate) json: ByteString,
}

/// What a session counts.
#[derive(Clone, Debug, Default)]
pub(crate) struct Figures {
    pub(crate) participants: u64,
    pub(crate) connections: u64,
    pub(crate) seq: u64,
    pub(crate) epoch: u64,
    pub(crate) agreed_seq: u64,
    pub(crate) remembered: u64,
    pub(crate) agreed: u64,
    pub(crate) differed: u64,
    pub(crate) status: Status,
    /// Expressions of the charter that had no answer, the last ones.
    pub(crate) expression_faults: Vec<String>,
}

/// The rate of one participant's proposals, shared by their connections.
#[derive(Debug)]
pub(crate) struct Rate {
    limiter: Option<DefaultDirectRateLimiter>,
    per_second: u32,
    what: &'static str,
}

impl Rate {
    /// The rate of a participant's proposals.
    pub(crate) fn of_proposals(limits: &rendel_core::Limits) -> Self {
        Self::new("proposals", limits.proposals_per_second, limits.burst())
    }

    /// A rate of something else, with a burst of a second's.
    pub(crate) fn of(what: &'static str, per_second: u32) -> Self {
        Self::new(what, per_second, per_second)
    }

    fn new(what: &'static str, per_second: u32, burst: u32) -> Self {
        let quota = NonZeroU32::new(per_second).zip(NonZeroU32::new(burst));
        let quota = quota.map(|(rate, burst)| Quota::per_second(rate).allow_burst(burst));
        Self { limiter: quota.map(RateLimiter::direct), per_second, what }
    }

    /// No bound: for the backend itself.
    pub(crate) fn unbounded() -> Self {
        Self { limiter: None, per_second: 0, what: "proposals" }
    }

    /// `too-fast`, with the wait in milliseconds, where the participant is over the rate.
    pub(crate) fn check(&self, cost: u32) -> Result<(), Problem> {
        let Some(limiter) = &self.limiter else { return Ok(()) };
        let cost = NonZeroU32::new(cost).unwrap_or(NonZeroU32::MIN);
        // None costs more than the burst, so that there is always a time at which it passes.
        limiter.check_n(cost).unwrap_or(Ok(())).map_err(|until| {
            let wait = until.wait_time_from(DefaultClock::default().now());
            let wait_ms = u64::try_from(wait.as_millis()).unwrap_or(u64::MAX).max(1);
            let Self { per_second, what, .. } = self;
            let mut detail = format!(
                "More than {per_second} {what} per second; the next is taken \
                in {wait_ms} ms."
            );
            let limit =
                if *what == "proposals" { "proposals-per-second" } else { "words-per-second" };
            if *what == "proposals" {
                detail += " A client that proposes on every update that it gets is a loop: let it \
                     answer to what people do.";
            }
            Problem::new(ProblemKind::TooFast, detail).with("wait_ms", wait_ms).with("limit", limit)
        })
    }
}

/// The way into a session; clones share it, and while there is one the session stays in memory.
#[derive(Clone, Debug)]
pub(crate) struct SessionHandle(Arc<Inside>);

#[derive(Debug)]
struct Inside {
    id: String,
    ord: i64,
    charter: Arc<rendel_core::Charter>,
    secret: Uuid,
    removals: Arc<Removals>,
    mailbox: mpsc::Sender<Ask>,
}

impl SessionHandle {
    pub(crate) fn id(&self) -> &str {
        &self.0.id
    }

    pub(crate) fn ord(&self) -> i64 {
        self.0.ord
    }

    pub(crate) fn charter(&self) -> &Arc<rendel_core::Charter> {
        &self.0.charter
    }

    pub(crate) fn is_closed(&self) -> bool {
        self.0.mailbox.is_closed()
    }

    /// Whether nobody has another clone of it.
    pub(crate) fn is_alone(&self) -> bool {
        Arc::strong_count(&self.0) == 1
    }

    /// Puts an ask into the mailbox; waits while it is full.
    pub(crate) async fn tell(&self, ask: Ask) -> Result<(), Problem> {
        self.0.mailbox.send(ask).await.map_err(|_| shutting_down())
    }

    async fn ask<T>(&self, ask: impl FnOnce(oneshot::Sender<T>) -> Ask) -> Result<T, Problem> {
        let (answer, answered) = oneshot::channel();
        let asked = async {
            self.tell(ask(answer)).await?;
            answered.await.map_err(|_| shutting_down())
        };
        tokio::time::timeout(PATIENCE, asked).await.map_err(|_| unavailable())?
    }

    pub(crate) async fn propose_once(
        &self,
        actor: Actor,
        proposal: Proposal,
    ) -> Result<Answered, Problem> {
        self.ask(|answer| Ask::ProposeOnce { actor, proposal, answer }).await?
    }

    pub(crate) async fn begin_patch(
        &self,
        actor: Actor,
        n: u64,
        if_match: Option<Tags>,
    ) -> Result<Begun, Problem> {
        self.ask(|answer| Ask::BeginPatch { actor, n, if_match, answer }).await?
    }

    pub(crate) async fn end_patch(
        &self,
        actor: Actor,
        proposal: Proposal,
        if_match: Option<Tags>,
    ) -> Result<Answered, Problem> {
        self.ask(|answer| Ask::EndPatch { actor, proposal, if_match, answer }).await?
    }

    pub(crate) async fn change_status(
        &self,
        standing: Standing,
        by: String,
    ) -> Result<(), Problem> {
        self.ask(|answer| Ask::Status { standing, by, answer }).await?
    }

    pub(crate) async fn send_cue(&self, actor: Actor, cue: SendCue) -> Result<(), Problem> {
        self.ask(|answer| Ask::SendCue { actor, cue, answer }).await?
    }

    pub(crate) async fn recheck(&self) -> Result<(), Problem> {
        self.ask(|answer| Ask::Recheck { answer }).await
    }

    /// Removes a participant, who may come back after `until` and does not get anything in any way
    /// before.
    pub(crate) async fn remove(&self, sub: String, until: u64) -> Result<(), Problem> {
        self.0.removals.put(&sub, until);
        self.ask(|answer| Ask::Remove { sub, answer }).await
    }

    pub(crate) fn removals(&self) -> &Removals {
        &self.0.removals
    }

    /// What the client ids behind Idempotency-Keys are made with.
    pub(crate) fn secret(&self) -> Uuid {
        self.0.secret
    }

    pub(crate) async fn may(&self, actor: Actor, edit: Edit) -> Result<Verdicted, Problem> {
        self.ask(|answer| Ask::May { actor, edit, answer }).await?
    }

    pub(crate) async fn who(&self) -> Result<ParticipantList, Problem> {
        self.ask(|answer| Ask::Who { answer }).await
    }

    pub(crate) async fn reset(
        &self,
        opening: Option<Value>,
        actor: Actor,
    ) -> Result<Answered, Problem> {
        self.ask(|answer| Ask::Reset { opening, actor, answer }).await?
    }

    /// The state, or a part of it, as a role is shown it.
    pub(crate) async fn read(&self, path: Option<Path>, role: String) -> Result<Reading, Problem> {
        self.ask(|answer| Ask::Read { path, role, answer }).await?
    }

    pub(crate) async fn figures(&self) -> Result<Figures, Problem> {
        self.ask(|answer| Ask::Figures { answer }).await
    }

    pub(crate) async fn connections(&self) -> Result<Vec<ConnectionInfo>, Problem> {
        self.ask(|answer| Ask::Connections { answer }).await
    }

    /// Ends the session's task: what it accepted is settled and written, then its connections are
    /// told.
    pub(crate) async fn stop(&self) {
        // It may have ended by itself; then there is nothing to wait for.
        let _ = self.ask(|answer| Ask::Stop { answer }).await;
    }
}
