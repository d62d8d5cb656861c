//! Sessions as tasks, and the mailbox through which the world speaks to one.

mod digests;
mod recent;
mod recovery;
mod roster;
mod task;

use std::sync::Arc;
use std::time::Duration;

use bytestring::ByteString;
use governor::clock::{Clock as _, DefaultClock};
use governor::{DefaultDirectRateLimiter, Quota, RateLimiter};
use rendel_core::{Actor, Path, Problem, ProblemKind, Proposal};
use rendel_store::TakenOver;
use rendel_wire::Propose;
use tokio::sync::{mpsc, oneshot};
use uuid::Uuid;

use crate::app::App;
use crate::auth::Identity;
use crate::connection::Outbound;
use crate::failure::{shutting_down, unavailable};

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
    },
    Digest {
        connection: ConnectionId,
        seq: u64,
        sha256: String,
    },
    ProposeOnce {
        actor: Actor,
        proposal: Proposal,
        answer: oneshot::Sender<Result<ByteString, Problem>>,
    },
    Read {
        path: Option<Path>,
        answer: oneshot::Sender<Result<Reading, Problem>>,
    },
    Figures {
        answer: oneshot::Sender<Figures>,
    },
    Stop {
        answer: oneshot::Sender<()>,
    },
}

/// A connection that wants to enter.
#[derive(Debug)]
pub(crate) struct Entry {
    pub(crate) who: Identity,
    pub(crate) client: Uuid,
    pub(crate) seen: Option<u64>,
    pub(crate) epoch: Option<u64>,
    pub(crate) outbound: Arc<Outbound>,
    pub(crate) answer: oneshot::Sender<Result<Entered, Problem>>,
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
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Figures {
    pub(crate) participants: u64,
    pub(crate) connections: u64,
    pub(crate) seq: u64,
    pub(crate) epoch: u64,
    pub(crate) agreed_seq: u64,
    pub(crate) agreed: u64,
    pub(crate) differed: u64,
}

/// The rate of one participant's proposals, shared by their connections.
#[derive(Debug)]
pub(crate) struct Rate {
    limiter: Option<DefaultDirectRateLimiter>,
    per_second: u32,
}

impl Rate {
    pub(crate) fn new(per_second: u32) -> Self {
        let quota = std::num::NonZeroU32::new(per_second).map(Quota::per_second);
        Self { limiter: quota.map(RateLimiter::direct), per_second }
    }

    /// No bound: for the backend itself.
    pub(crate) fn unbounded() -> Self {
        Self { limiter: None, per_second: 0 }
    }

    /// `too-fast`, with the wait in milliseconds, where the participant is over the rate.
    pub(crate) fn check(&self) -> Result<(), Problem> {
        let Some(limiter) = &self.limiter else { return Ok(()) };
        limiter.check().map_err(|until| {
            let wait = until.wait_time_from(DefaultClock::default().now());
            let wait_ms = u64::try_from(wait.as_millis()).unwrap_or(u64::MAX).max(1);
            let detail = format!(
                "More than {} proposals per second; the next is taken in {wait_ms} ms. A client that proposes on every update \
                 that it gets is a loop: let it answer to what people do.",
                self.per_second
            );
            Problem::new(ProblemKind::TooFast, detail).with("wait_ms", wait_ms)
        })
    }
}

/// The way into a session; clones share it.
#[derive(Clone, Debug)]
pub(crate) struct SessionHandle {
    pub(crate) ord: i64,
    pub(crate) charter: Arc<rendel_core::Charter>,
    mailbox: mpsc::Sender<Ask>,
}

impl SessionHandle {
    pub(crate) fn is_closed(&self) -> bool {
        self.mailbox.is_closed()
    }

    /// Puts an ask into the mailbox; waits while it is full.
    pub(crate) async fn tell(&self, ask: Ask) -> Result<(), Problem> {
        self.mailbox.send(ask).await.map_err(|_| shutting_down())
    }

    async fn ask<T>(&self, ask: impl FnOnce(oneshot::Sender<T>) -> Ask) -> Result<T, Problem> {
        let (answer, answered) = oneshot::channel();
        let asked = async {
            self.tell(ask(answer)).await?;
            answered.await.map_err(|_| shutting_down())
        };
        tokio::time::timeout(PATIENCE, asked).await.map_err(|_| unavailable())?
    }

    pub(crate) async fn propose_once(&self, actor: Actor, proposal: Proposal) -> Result<ByteString, Problem> {
        self.ask(|answer| Ask::ProposeOnce { actor, proposal, answer }).await?
    }

    pub(crate) async fn read(&self, path: Option<Path>) -> Result<Reading, Problem> {
        self.ask(|answer| Ask::Read { path, answer }).await?
    }

    pub(crate) async fn figures(&self) -> Result<Figures, Problem> {
        self.ask(|answer| Ask::Figures { answer }).await
    }

    /// Ends the session's task: what it accepted is settled and written, then its connections are told.
    pub(crate) async fn stop(&self) {
        // It may have ended by itself; then there is nothing to wait for.
        let _ = self.ask(|answer| Ask::Stop { answer }).await;
    }
}

/// Starts the task of a session that was taken over. It runs on the thread of whoever first asked for it: connections of
/// the same thread then reach it without waking another one.
pub(crate) fn start_session(app: Arc<App>, taken: TakenOver) -> Result<SessionHandle, Problem> {
    let (mailbox, asks) = mpsc::channel(MAILBOX);
    let task = task::Task::new(app, taken)?;
    let handle = SessionHandle { ord: task.ord(), charter: task.charter().clone(), mailbox };
    tokio::spawn(task.run(asks));
    Ok(handle)
}
