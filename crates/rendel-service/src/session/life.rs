//! Freezing, thawing, ending, resetting; resting, and losing a session to another process.

use rendel_core::{Actor, Problem, ProblemKind};
use rendel_store::{SessionRow, StoreError};
use rendel_wire::FromService;
use serde_json::Value;
use tokio::sync::oneshot;

use super::proposing::Answer;
use super::task::{Origin, Output, Task};
use crate::app::now_ms;
use crate::failure::{ended, from_store, moved, unavailable};

/// The standing of a session.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Status {
    /// Participants take part.
    #[default]
    Open,
    /// Nobody but the backend changes anything.
    Frozen,
    /// For good.
    Ended,
}

/// The standing of a session, with the roles that go on while it is frozen.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Standing {
    pub(crate) status: Status,
    pub(crate) except: Vec<String>,
}

impl Standing {
    pub(super) fn stored(row: &SessionRow) -> Self {
        let except = serde_json::from_str(&row.frozen_except).unwrap_or_default();
        Self { status: Status::stored(&row.status), except }
    }
}

impl From<Status> for Standing {
    fn from(status: Status) -> Self {
        Self { status, except: Vec::new() }
    }
}

impl Status {
    fn stored(name: &str) -> Self {
        match name {
            "frozen" => Self::Frozen,
            "ended" => Self::Ended,
            _ => Self::Open,
        }
    }

    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Frozen => "frozen",
            Self::Ended => "ended",
        }
    }
}

/// A standing that was written, or not.
pub(super) struct Change {
    standing: Standing,
    by: String,
    result: Result<bool, StoreError>,
    answer: oneshot::Sender<Result<(), Problem>>,
}

impl Task {
    /// Why nothing of `actor` is settled now, if it is so.
    pub(super) fn refusal(&self, actor: &Actor) -> Option<Problem> {
        match self.standing.status {
            Status::Ended => Some(ended()),
            Status::Frozen
                if actor.role != Actor::SERVICE && !self.standing.except.contains(&actor.role) =>
            {
                let detail = "The session is frozen: it can be looked at, and nothing changes \
                    until it is thawed.";
                Some(Problem::new(ProblemKind::Frozen, detail))
            }
            _ => None,
        }
    }

    /// Writes another standing. It counts once it is on disk, for what comes after that.
    pub(super) fn change_status(
        &mut self,
        standing: Standing,
        by: String,
        answer: oneshot::Sender<Result<(), Problem>>,
    ) {
        let status = standing.status;
        if self.adrift.is_some() {
            let _ = answer.send(Err(unavailable()));
            return;
        }
        if self.standing.status == Status::Ended {
            let _ = answer.send(if status == Status::Ended { Ok(()) } else { Err(ended()) });
            return;
        }
        let (store, ord, epoch, changed) =
            (self.app.store.clone(), self.ord(), self.epoch, self.changed.clone());
        tokio::spawn(async move {
            let except = serde_json::to_string(&standing.except).unwrap_or_default();
            let result = store.set_status(ord, epoch, status.name(), except).await;
            // A session that has gone meanwhile answers nobody.
            let _ = changed.send(Change { standing, by, result, answer });
        });
    }

    pub(super) fn handle_change(&mut self, change: Change) {
        let Change { standing, by, result, answer } = change;
        match result {
            Ok(true) => {
                standing.status.name().clone_into(&mut self.head.status);
                self.standing = standing.clone();
                self.batch.outputs.push(Output::Status { standing, by, answer });
            }
            Ok(false) => {
                self.is_superseded = true;
                let _ = answer.send(Err(moved()));
            }
            Err(error) => drop(answer.send(Err(from_store(&error)))),
        }
    }

    pub(super) fn show_status(&mut self, standing: &Standing, by: String) {
        let Standing { status, except } = standing.clone();
        self.tell_all(&FromService::Status(rendel_wire::Status {
            status: status.name().to_owned(),
            except,
            by,
        }));
        if status == Status::Ended {
            self.members.values().for_each(|member| member.outbound.end(ended()));
        }
    }

    /// Gives the state its opening data again, or others.
    pub(super) fn reset(&mut self, opening: Option<Value>, actor: &Actor, answer: Answer) {
        if self.adrift.is_some() {
            let _ = answer.send(Err(unavailable()));
            return;
        }
        if let Some(problem) = self.refusal(actor) {
            let _ = answer.send(Err(problem));
            return;
        }
        let first = self.opening.as_deref().and_then(|opening| serde_json::from_str(opening).ok());
        let opening = opening.or(first);
        let outcome = self.sequencer.handle_reset(actor, 0, opening.as_ref(), now_ms());
        self.audiences.forget_snapshots();
        let origin = self.call(actor, 0, answer);
        self.come_out(actor, 0, outcome, origin);
    }

    /// Whether nobody is here and nothing is open.
    pub(super) fn is_idle(&self) -> bool {
        self.members.is_empty()
            && self.present.len() == 0
            && self.arrivals.is_empty()
            && self.gating.is_empty()
            && self.under_way.is_empty()
            && self.held.is_empty()
            && self.adrift.is_none()
    }

    /// Leaves memory. The next who asks for the session takes it over from the store.
    pub(super) async fn rest(&mut self) {
        self.keep_last_snapshot().await;
        self.app.metrics.rested.inc();
        tracing::debug!(session = %self.head.id, "a session that nobody used has left memory");
    }

    /// Another process goes on with this session. What was under way here was not written; who
    /// proposed it asks there.
    pub(super) fn give_up(&mut self) {
        tracing::warn!(session = %self.head.id, epoch = self.epoch, "another process has taken \
            the session over");
        self.app.metrics.superseded.inc();
        self.app.fence(&self.head.id);
        self.show_held();
        self.drop_unwritten(&moved());
        self.members.values().for_each(|member| member.outbound.end(moved()));
    }

    /// Gives up what is not known to be on disk: calls are told why, and participants nothing. They
    /// send again what has no answer, to whoever goes on with the session.
    pub(super) fn drop_unwritten(&mut self, why: &Problem) {
        let under_way =
            std::mem::take(&mut self.under_way).into_iter().flat_map(|(_, outputs)| outputs);
        let adrift = self.adrift.iter_mut().flat_map(std::mem::take);
        for output in under_way.chain(adrift).chain(std::mem::take(&mut self.batch.outputs)) {
            match output {
                Output::Update { from: Origin::Call { answer, .. }, .. }
                | Output::Refused { from: Origin::Call { answer, .. }, .. }
                | Output::Answer { answer, .. } => drop(answer.send(Err(why.clone()))),
                Output::Begun { answer, .. } => drop(answer.send(Err(why.clone()))),
                Output::Read { answer, .. } => drop(answer.send(Err(why.clone()))),
                Output::Status { answer, .. } => drop(answer.send(Err(why.clone()))),
                _ => {}
            }
        }
    }
}
