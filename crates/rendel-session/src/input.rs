//! What a session is told.

use std::collections::BTreeMap;
use std::sync::Arc;

use rendel_core::{
    Actor, ClientKey, Edit, Facts, Path, Problem, Proposal, Reader, SequencerSnapshot, Settled,
    Viewer,
};
use rendel_wire::{FollowQuery, LeftWhy, Propose, Said, SendCue};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use uuid::Uuid;

/// A connection within its session. Whoever drives the session gives the number, each once.
pub type ConnectionId = u64;
/// A call that is to be answered, likewise.
pub type CallId = u64;
/// An append to the journal; the session gives the number.
pub type AppendId = u64;

/// What a session is told, one thing after the other.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub enum Input {
    /// A connection wants to enter.
    Entered(Box<Entry>),
    /// Something came over a connection that has entered.
    Frame {
        /// The connection.
        connection: ConnectionId,
        /// What came.
        frame: Heard,
    },
    /// A connection lost its backlog and has written what it had.
    Behind {
        /// The connection.
        connection: ConnectionId,
        /// The last update that it was given, if any was.
        seen: Option<u64>,
    },
    /// A connection is gone.
    Left {
        /// The connection.
        connection: ConnectionId,
        /// How it went.
        why: LeftWhy,
    },
    /// A call by HTTP.
    Call {
        /// Which is answered.
        call: CallId,
        /// What it asks.
        ask: Ask,
    },
    /// An append is on disk.
    Written {
        /// The append.
        append: AppendId,
    },
    /// An append failed. Whether it is on disk is not known.
    JournalLost,
    /// The journal is there again, and the session still its owner.
    JournalFound(Box<Found>),
    /// Another process has taken the session over.
    Superseded,
    /// A gate has answered.
    GateAnswered {
        /// Whose proposal it was asked about.
        client: ClientKey,
        /// Its number.
        n: u64,
        /// What the gate says.
        verdict: GateVerdict,
    },
    /// Another standing was written, or not.
    StandingWritten {
        /// The call that asked for it.
        call: CallId,
        /// By whom.
        by: String,
        /// The standing.
        standing: SessionStatus,
        /// Whether it is on disk.
        result: Result<(), Problem>,
    },
    /// An update of long ago was read for a call.
    Fetched {
        /// The call.
        call: CallId,
        /// Who is told.
        reader: Reader,
        /// The place of the update.
        seq: u64,
        /// The update, or nothing where it is not kept any more.
        row: Result<Option<Arc<str>>, Problem>,
    },
    /// The session's own digests of a state were computed.
    Digested {
        /// The place of the state.
        seq: u64,
        /// The digests.
        digests: StateDigests,
    },
    /// A participant was removed: their connections end.
    Removed {
        /// The participant.
        id: String,
        /// What they are told.
        problem: Problem,
    },
    /// The backend has said something else of whose connection it is.
    Amended {
        /// The connection.
        connection: ConnectionId,
        /// The name that all are shown.
        name: String,
        /// The role.
        role: String,
        /// What expressions read as `who.claims`.
        claims: BTreeMap<String, Value>,
    },
    /// The session was deleted: nothing of it goes on.
    Deleted,
    /// A connection goes on no more, since its token does not.
    Revoked {
        /// The connection.
        connection: ConnectionId,
        /// What it is told.
        problem: Problem,
    },
    /// The time has come that [`next_timeout`](crate::Session::next_timeout) told.
    Timeout,
    /// The service stops: what was accepted is settled, and the session says when it has.
    Stop,
}

/// A participant as the roster shows them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Person {
    /// Their id.
    pub id: String,
    /// The name that is shown.
    pub name: String,
    /// Their role.
    pub role: String,
}

/// A connection that wants to enter.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Entry {
    /// Its number.
    pub connection: ConnectionId,
    /// Who it is.
    pub who: Actor,
    /// The name that is shown.
    pub name: String,
    /// How it takes part.
    pub way: WayIn,
    /// Facts about itself from the first moment on.
    pub presence: Option<Facts>,
    /// Whether its welcome is to say how the fields are declared.
    pub fields: bool,
    /// A guest's token, to come back with.
    pub token: Option<String>,
    /// The seat that their token promises.
    #[serde(default)]
    pub seat: Option<String>,
}

/// How a connection takes part.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum WayIn {
    /// With a replica.
    Replica {
        /// What it has, where it was here before.
        had: Option<Had>,
    },
    /// By events, after what it has already.
    Events {
        /// The last update that it has.
        after: Option<u64>,
        /// Whether each is told as a JSON Patch.
        patches: bool,
    },
    /// For queries alone, without the state.
    Queries,
}

/// What a replica has that comes back.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Had {
    /// The last update that it applied.
    pub seen: u64,
    /// The epoch in which it was here.
    pub epoch: u64,
    /// Which audience it was of.
    pub audience: usize,
}

/// Something that came over a connection.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub enum Heard {
    /// A proposal.
    Propose(Propose),
    /// A proposal of that number was refused before it got here.
    NoteRefused(u64),
    /// Facts about oneself.
    Said(Said),
    /// Takes or renews a hold.
    Hold {
        /// The client's number of it.
        n: u64,
        /// The path.
        at: String,
        /// For how many milliseconds.
        for_ms: Option<u64>,
        /// Whether somebody else's is taken over.
        over: bool,
    },
    /// Asks to be told what its participant can undo.
    FollowUndo,
    /// Asks for the rows of a query, now and whenever they change.
    FollowQuery(Box<FollowQuery>),
    /// Follows a query no more.
    LeaveQuery(u64),
    /// Gives a hold up.
    Release {
        /// The client's number of it.
        n: u64,
        /// The path.
        at: String,
    },
    /// A transient message.
    Cue(SendCue),
    /// The connection goes on with a new token.
    Renewed {
        /// The client's number of it.
        n: u64,
        /// What the token says beside who it is.
        claims: BTreeMap<String, Value>,
    },
    /// The digest of the connection's replica.
    Digest {
        /// The place of the state.
        seq: u64,
        /// The digest.
        sha256: String,
        /// That of what is its own beside what all of its audience see.
        yours: Option<String>,
    },
}

impl Heard {
    /// The number of something that is asked for and answered alone, but for a new token.
    pub(crate) fn act(&self) -> Option<u64> {
        match self {
            Self::Hold { n, .. } | Self::Release { n, .. } => Some(*n),
            Self::Cue(cue) => Some(cue.n),
            Self::Propose(_)
            | Self::NoteRefused(_)
            | Self::Said(_)
            | Self::FollowUndo
            | Self::FollowQuery(_)
            | Self::LeaveQuery(_)
            | Self::Renewed { .. }
            | Self::Digest { .. } => None,
        }
    }
}

/// The digests of a state: one of what all of each audience see, and one of what is theirs beside
/// that for each viewer with something.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct StateDigests {
    /// By audience.
    pub all: Vec<String>,
    /// By audience and viewer.
    pub yours: Vec<((usize, Viewer), String)>,
}

/// What a call asks.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub enum Ask {
    /// To settle a proposal.
    Propose {
        /// Who.
        actor: Actor,
        /// What.
        proposal: Proposal,
    },
    /// What a document that is to change the state is read against.
    BeginPatch {
        /// Who.
        actor: Actor,
        /// The call's number among those with its key; 0 where it has none.
        n: u64,
        /// The state that it is for.
        if_match: Option<IfMatch>,
    },
    /// To settle the edits that the document came to.
    EndPatch {
        /// Who.
        actor: Actor,
        /// What.
        proposal: Proposal,
        /// The state that it is for.
        if_match: Option<IfMatch>,
    },
    /// To send a cue.
    Cue {
        /// Who.
        actor: Actor,
        /// What.
        cue: SendCue,
    },
    /// Whether an edit would take effect.
    May {
        /// Who.
        actor: Actor,
        /// What.
        edit: Edit,
    },
    /// What somebody can undo and redo now.
    Undoable {
        /// Who.
        actor: Actor,
    },
    /// The whole state, to be looked at aside.
    State,
    /// Who is here.
    Who,
    /// The state, or a part of it.
    Read {
        /// As somebody is shown it.
        reader: Reader,
        /// The part.
        path: Option<Path>,
    },
    /// To give the state its opening data again, or others.
    Reset {
        /// Who.
        actor: Actor,
        /// The number that its client gave the call, or 0.
        n: u64,
        /// The others.
        opening: Option<Value>,
    },
    /// To freeze, thaw or end the session.
    Stand {
        /// Who.
        by: String,
        /// How it is to stand.
        standing: SessionStatus,
    },
    /// A seat for somebody, who may not be here yet.
    Seat {
        /// The participant.
        who: String,
        /// That seat; any that is free where it is left out.
        seat: Option<String>,
    },
    /// What the session counts.
    Figures,
}

/// The states that a call is for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum IfMatch {
    /// Any.
    Any,
    /// Those after these updates.
    These(Vec<u64>),
}

impl IfMatch {
    /// Whether the state at `seq` is among them.
    pub(crate) fn has(&self, seq: u64) -> bool {
        match self {
            Self::Any => true,
            Self::These(seqs) => seqs.contains(&seq),
        }
    }
}

/// What a gate says.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum GateVerdict {
    /// The proposal may pass.
    Accept,
    /// These edits stand in its place.
    Replace(Vec<Edit>),
    /// It is refused.
    Refuse(Problem),
}

/// The standing of a session.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum Status {
    /// Participants take part.
    #[default]
    Open,
    /// Nobody but the backend changes anything.
    Frozen,
    /// For good.
    Ended,
}

impl Status {
    /// Its name on the wire.
    pub fn name(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Frozen => "frozen",
            Self::Ended => "ended",
        }
    }
}

/// The standing of a session, with the roles that go on while it is frozen.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SessionStatus {
    /// How it stands.
    pub status: Status,
    /// The roles that go on.
    pub except: Vec<String>,
}

impl From<Status> for SessionStatus {
    fn from(status: Status) -> Self {
        Self { status, except: Vec::new() }
    }
}

/// A session as its journal has it.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Found {
    /// The epoch of its owner.
    pub epoch: u64,
    /// Each epoch and the `seq` at which it began, in order.
    pub epochs: Vec<(u64, u64)>,
    /// How it stands.
    pub standing: SessionStatus,
    /// The newest snapshot, if there is one.
    pub snapshot: Option<SequencerSnapshot>,
    /// The updates after it, in order.
    pub updates: Vec<Settled>,
    /// The remembered refusals, in order: the place of the last update before it, client, `n`,
    /// problem.
    pub refusals: Vec<(u64, ClientKey, u64, Problem)>,
    /// The updates after those that were shown, where the session does not have them itself.
    pub unseen: Option<Vec<Arc<str>>>,
    /// What the store knows the session by and nobody is told; draws are made from it.
    pub secret: Uuid,
    /// When it was opened, in milliseconds since 1970 UTC.
    #[serde(default)]
    pub opened: u64,
    /// When the store knows it to act next, in milliseconds since 1970 UTC.
    #[serde(default)]
    pub wakes: Option<u64>,
}
