//! The way into a session.

use std::sync::Arc;
use std::time::Duration;

use bytestring::ByteString;
use rendel_core::{
    Actor, Charter, Edit, Facts, Path, Permitted, Problem, Proposal, Reader, State, Undoable,
};
use rendel_session::{
    Answer, Ask as Call, ConnectionId, Figures, Heard, IfMatch, SessionStatus, WayIn, unavailable,
};
use rendel_store::{Amendment, StoreError};
use rendel_wire::http::{ConnectionInfo, ParticipantList};
use rendel_wire::{LeftWhy, SendCue};
use serde_json::Value;
use tokio::sync::{Mutex, mpsc, oneshot};
use uuid::Uuid;

use super::amendments::Amendments;
use super::removals::Removals;
use crate::failure::{Failure, shutting_down};
use crate::identity::Identity;
use crate::queue::Outbound;
use crate::rate::Rate;

/// Asks that may wait; beyond them connections wait, and with them their senders.
pub(super) const MAILBOX: usize = 1_024;
/// How long a call over HTTP waits for its session.
const PATIENCE: Duration = Duration::from_secs(30);

/// What the world asks of a session.
#[derive(Debug)]
pub(crate) enum Ask {
    /// A connection wants to enter.
    Enter(Box<Entry>),
    /// Something came over a connection.
    Frame { connection: ConnectionId, frame: Heard },
    /// A connection goes on with a new token.
    Renewed { connection: ConnectionId, n: u64, told: Box<Identity> },
    /// A connection fell behind and has written what it had.
    CatchUp { connection: ConnectionId },
    /// A connection is gone.
    Leave { connection: ConnectionId, why: LeftWhy },
    /// A call, with what it counts among those that somebody may make in a time.
    Call { call: Box<Call>, cost: Option<(Actor, u32)>, answer: CallAnswer },
    /// Tokens were revoked.
    Recheck { answer: oneshot::Sender<()> },
    /// A participant was removed.
    Remove { sub: String, answer: oneshot::Sender<()> },
    /// The backend has said something else of a participant.
    Amend { sub: String, answer: oneshot::Sender<()> },
    /// The session was deleted.
    Deleted,
    /// Another process owns the session, in that epoch.
    OwnedElsewhere { epoch: u64 },
    /// Who is connected, and how far behind each is.
    Connections { answer: oneshot::Sender<Vec<ConnectionInfo>> },
    /// The service stops.
    Stop { answer: oneshot::Sender<()> },
}

impl Ask {
    /// Whether it only looks at the session, which keeps nothing in memory.
    pub(super) fn is_a_look(&self) -> bool {
        match self {
            Self::Connections { .. }
            | Self::Recheck { .. }
            | Self::OwnedElsewhere { .. }
            | Self::Amend { .. } => true,
            Self::Call { call, .. } => matches!(**call, Call::Figures | Call::Who),
            _ => false,
        }
    }
}

pub(super) type CallAnswer = oneshot::Sender<Result<Answer, Problem>>;

/// A connection that wants to enter.
#[derive(Debug)]
pub(crate) struct Entry {
    /// Who enters, as their token says.
    pub(crate) told: Identity,
    pub(crate) client: Uuid,
    pub(crate) way: WayIn,
    /// The name of how it is spoken to.
    pub(crate) encoding: &'static str,
    pub(crate) address: String,
    pub(crate) outbound: Arc<Outbound>,
    /// Facts about itself from the first moment on.
    pub(crate) presence: Option<Facts>,
    /// Whether it wants to know how the fields are declared.
    pub(crate) fields: bool,
    /// A guest's token, to come back with.
    pub(crate) token: Option<String>,
    pub(crate) answer: oneshot::Sender<Result<Entered, Problem>>,
}

/// What a connection that has entered is given; its `welcome` comes through its queue.
#[derive(Clone, Debug)]
pub(crate) struct Entered {
    pub(crate) id: ConnectionId,
    pub(crate) rate: Arc<Rate>,
    pub(crate) frame_limit: usize,
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

/// The state, or a part of it, as JSON.
#[derive(Clone, Debug)]
pub(crate) struct Reading {
    pub(crate) seq: u64,
    pub(crate) json: ByteString,
}

/// The way into a session; clones share it, and while there is one the session stays in memory.
#[derive(Clone, Debug)]
pub(crate) struct SessionHandle(pub(super) Arc<Inside>);

#[derive(Debug)]
pub(super) struct Inside {
    pub(super) id: String,
    pub(super) ord: i64,
    pub(super) charter: Arc<Charter>,
    pub(super) secret: Uuid,
    pub(super) removals: Arc<Removals>,
    pub(super) amendments: Arc<Amendments>,
    /// Held while what stands over somebody's tokens is changed.
    pub(super) amending: Mutex<()>,
    pub(super) mailbox: mpsc::Sender<Ask>,
}

impl SessionHandle {
    pub(crate) fn id(&self) -> &str {
        &self.0.id
    }

    pub(crate) fn ord(&self) -> i64 {
        self.0.ord
    }

    pub(crate) fn charter(&self) -> &Arc<Charter> {
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

    async fn call<T>(
        &self,
        call: Call,
        cost: Option<(Actor, u32)>,
        read: impl FnOnce(Answer) -> Option<T>,
    ) -> Result<T, Problem> {
        let answer = self.ask(|answer| Ask::Call { call: Box::new(call), cost, answer }).await??;
        // Each call has an answer of its own.
        read(answer).ok_or_else(unavailable)
    }

    pub(crate) async fn propose_once(
        &self,
        actor: Actor,
        proposal: Proposal,
    ) -> Result<Answered, Problem> {
        let cost = Some((actor.clone(), Edit::cost(&proposal.edits)));
        self.call(Call::Propose { actor, proposal }, cost, answered).await
    }

    pub(crate) async fn begin_patch(
        &self,
        actor: Actor,
        n: u64,
        if_match: Option<IfMatch>,
    ) -> Result<Begun, Problem> {
        let cost = Some((actor.clone(), 1));
        let begun = |answer| match answer {
            Answer::Against { seq, state } => Some(Begun::Against { seq, state }),
            other => answered(other).map(Begun::Known),
        };
        self.call(Call::BeginPatch { actor, n, if_match }, cost, begun).await
    }

    pub(crate) async fn end_patch(
        &self,
        actor: Actor,
        proposal: Proposal,
        if_match: Option<IfMatch>,
    ) -> Result<Answered, Problem> {
        self.call(Call::EndPatch { actor, proposal, if_match }, None, answered).await
    }

    pub(crate) async fn change_status(
        &self,
        standing: SessionStatus,
        by: String,
    ) -> Result<(), Problem> {
        self.call(Call::Stand { by, standing }, None, |answer| {
            matches!(answer, Answer::Done).then_some(())
        })
        .await
    }

    pub(crate) async fn send_cue(&self, actor: Actor, cue: SendCue) -> Result<(), Problem> {
        self.call(Call::Cue { actor, cue }, None, |answer| {
            matches!(answer, Answer::Done).then_some(())
        })
        .await
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

    /// Changes what stands over a participant's tokens, however they come: `change` makes it from
    /// what stands there, and `keep` writes it down. One change is made at a time.
    pub(crate) async fn amend(
        &self,
        sub: String,
        change: impl FnOnce(Amendment) -> Amendment,
        keep: impl AsyncFnOnce(Amendment) -> Result<(), StoreError>,
    ) -> Result<Amendment, Failure> {
        let _turn = self.0.amending.lock().await;
        let amendment = change(self.0.amendments.of_participant(&sub));
        keep(amendment.clone()).await?;
        self.0.amendments.put(&sub, amendment.clone());
        self.ask(|answer| Ask::Amend { sub, answer }).await?;
        Ok(amendment)
    }

    pub(crate) fn amendments(&self) -> &Amendments {
        &self.0.amendments
    }

    pub(crate) async fn tell_deleted(&self) -> Result<(), Problem> {
        self.tell(Ask::Deleted).await
    }

    pub(crate) fn removals(&self) -> &Removals {
        &self.0.removals
    }

    /// What the client ids behind Idempotency-Keys are made with.
    pub(crate) fn secret(&self) -> Uuid {
        self.0.secret
    }

    pub(crate) async fn may(&self, actor: Actor, edit: Edit) -> Result<Permitted, Problem> {
        let may = |answer| match answer {
            Answer::May(verdicted) => Some(verdicted),
            _ => None,
        };
        self.call(Call::May { actor, edit }, None, may).await
    }

    /// The whole state and its `seq`, to be looked at aside.
    pub(crate) async fn state(&self) -> Result<(u64, Box<State>), Problem> {
        let state = |answer| match answer {
            Answer::Against { seq, state } => Some((seq, state)),
            _ => None,
        };
        self.call(Call::State, None, state).await
    }

    /// What somebody can undo and redo now.
    pub(crate) async fn undoable(&self, actor: Actor) -> Result<Undoable, Problem> {
        let undoable = |answer| match answer {
            Answer::Undoable(undoable) => Some(undoable),
            _ => None,
        };
        self.call(Call::Undoable { actor }, None, undoable).await
    }

    /// Puts somebody on that seat, or on one that is free; gives which.
    pub(crate) async fn give_seat(
        &self,
        who: String,
        seat: Option<String>,
    ) -> Result<String, Problem> {
        let given = |answer| match answer {
            Answer::Seat(seat) => Some(seat),
            _ => None,
        };
        self.call(Call::Seat { who, seat }, None, given).await
    }

    pub(crate) async fn who(&self) -> Result<ParticipantList, Problem> {
        let who = |answer| match answer {
            Answer::Who(list) => Some(list),
            _ => None,
        };
        self.call(Call::Who, None, who).await
    }

    pub(crate) async fn reset(
        &self,
        opening: Option<Value>,
        actor: Actor,
        n: u64,
    ) -> Result<Answered, Problem> {
        self.call(Call::Reset { actor, n, opening }, None, answered).await
    }

    /// The state, or a part of it, as somebody is shown it.
    pub(crate) async fn read(
        &self,
        path: Option<Path>,
        reader: Reader,
    ) -> Result<Reading, Problem> {
        let reading = |answer| match answer {
            Answer::Reading { seq, json } => {
                Some(Reading { seq, json: ByteString::from(&**json.get()) })
            }
            _ => None,
        };
        self.call(Call::Read { reader, path }, None, reading).await
    }

    pub(crate) async fn figures(&self) -> Result<Figures, Problem> {
        let figures = |answer| match answer {
            Answer::Figures(figures) => Some(figures),
            _ => None,
        };
        self.call(Call::Figures, None, figures).await
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

fn answered(answer: Answer) -> Option<Answered> {
    match answer {
        Answer::Settled { seq, json } => {
            let json = json.into_inner().map(|json| ByteString::from(&*json));
            Some(Answered { seq, json })
        }
        _ => None,
    }
}
