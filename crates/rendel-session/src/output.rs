//! What a session wants done.

use std::collections::BTreeSet;
use std::sync::Arc;

use rendel_core::{
    Announced, ClientKey, Edit, Permitted, Problem, Reader, SequencerSnapshot, State, Teller,
    Undoable, Viewer,
};
use rendel_wire::http::ParticipantList;
use serde::Serialize;
use uuid::Uuid;

use crate::audiences::{Content, Shown, Told};
use crate::input::{AppendId, CallId, ConnectionId, SessionStatus, Status};

/// What a session wants done, in this order.
#[derive(Clone, Debug, Serialize)]
pub enum Output {
    /// These rows are to be written, all or none of them.
    Append {
        /// To be told when they are.
        append: AppendId,
        /// The epoch of the owner who writes.
        epoch: u64,
        /// Updates, each the next after the one before.
        updates: Vec<UpdateRow>,
        /// Refusals.
        refusals: Vec<RefusalRow>,
        /// When the session must be in memory next, where the store has another time.
        wake: Option<Wake>,
    },
    /// The session is to be taken over again once the journal is there.
    Recover,
    /// Whether a connection that wanted to may enter.
    Entered {
        /// The connection.
        connection: ConnectionId,
        /// Why not, if so.
        result: Result<(), Problem>,
    },
    /// Something is shown to participants.
    Show {
        /// To whom.
        to: To,
        /// What.
        shown: Shown<Content>,
    },
    /// A connection is ended after what it was shown.
    Close {
        /// The connection.
        connection: ConnectionId,
        /// What it is told.
        problem: Problem,
    },
    /// The answer to a call.
    Answer {
        /// The call.
        call: CallId,
        /// What it gets.
        answer: Result<Answer, Shown<Problem>>,
    },
    /// A gate is to be asked.
    AskGate {
        /// Its place in the charter.
        gate: usize,
        /// Whose proposal it is asked about.
        client: ClientKey,
        /// What it is asked.
        asked: GateCall,
    },
    /// Another standing is to be written.
    WriteStanding {
        /// The call that asked for it.
        call: CallId,
        /// By whom.
        by: String,
        /// The standing.
        standing: SessionStatus,
    },
    /// An update that is not in memory any more is to be read for a call.
    Fetch {
        /// The call.
        call: CallId,
        /// Who is told.
        reader: Reader,
        /// The place of the update.
        seq: u64,
    },
    /// The digests of a state are to be computed, by [`digests`](crate::digests).
    Digest {
        /// Its place.
        seq: u64,
        /// The state.
        state: Box<State>,
        /// Those whose own part is asked for, too, each of an audience.
        viewers: BTreeSet<(usize, Viewer)>,
    },
    /// A snapshot is to be kept.
    Keep(Box<SequencerSnapshot>),
    /// The store may forget the oldest refusals.
    ForgetRefusals,
    /// So many seats are free now.
    FreeSeats(usize),
    /// When the session must be in memory next.
    NoteWake(Wake),
    /// Something that whoever runs the service wants to know.
    Report(Report),
    /// The session has stopped, or goes on elsewhere. What it wanted to do is above.
    Stopped,
}

/// To whom something is shown. Only those whose welcome was before are meant.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub enum To {
    /// All of an audience.
    Audience(usize),
    /// All of an audience but for one client of one participant.
    AudienceBut(usize, Teller),
    /// These.
    These(Vec<ConnectionId>),
    /// One, whether or not its welcome was before.
    One(ConnectionId),
}

impl To {
    /// Who of an audience hears what is told of presence: all, but for whoever told all of it, since
    /// nobody needs to hear their own word alone.
    pub fn hearers(audience: usize, told: &Told) -> Self {
        let mut tellers = told.iter().flat_map(|(who, of)| of.keys().map(move |one| (who, one)));
        match (tellers.next(), tellers.next()) {
            (Some((who, client)), None) => Self::AudienceBut(audience, (who.clone(), *client)),
            _ => Self::Audience(audience),
        }
    }
}

/// When a session must be in memory next, to act by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub enum Wake {
    /// At that time at the latest, in milliseconds since 1970 UTC.
    At(u64),
    /// Not before somebody comes.
    Never,
}

/// A settled update on its way into the journal.
#[derive(Clone, Debug, Serialize)]
pub struct UpdateRow {
    /// Its place.
    pub seq: u64,
    /// The update as JSON.
    pub body: Arc<str>,
    /// Whether its verdicts are more than `applied`.
    pub met: bool,
    /// When it was settled, in milliseconds since 1970 UTC.
    pub at: u64,
    /// What is announced with it.
    pub announced: Vec<Announced>,
}

/// A refusal that is remembered.
#[derive(Clone, Debug, Serialize)]
pub struct RefusalRow {
    /// Whose proposal it was.
    pub client: ClientKey,
    /// Its number.
    pub n: u64,
    /// The place of the last update before it.
    pub at_seq: u64,
    /// The problem as JSON.
    pub problem: String,
}

/// What a call gets.
#[derive(Clone, Debug, Serialize)]
pub enum Answer {
    /// Its proposal is settled.
    Settled {
        /// Its place.
        seq: u64,
        /// The update; none where nothing was to be changed, or where it is not kept any more.
        json: Shown<Option<Arc<str>>>,
    },
    /// What a document is read against, aside.
    Against {
        /// The place of the state.
        seq: u64,
        /// The state.
        state: Box<State>,
    },
    /// A part of the state.
    Reading {
        /// The place of the state.
        seq: u64,
        /// The part as JSON.
        json: Shown<Arc<str>>,
    },
    /// Whether an edit would take effect.
    May(Permitted),
    /// What somebody can undo and redo now.
    Undoable(Undoable),
    /// Who is here.
    Who(ParticipantList),
    /// The seat is theirs.
    Seat(String),
    /// What the session counts.
    Figures(Figures),
    /// It is done.
    Done,
}

/// What a gate is asked.
#[derive(Clone, Debug, Serialize)]
pub struct GateCall {
    /// The session.
    pub session: String,
    /// Its charter.
    pub charter: String,
    /// Who proposes.
    pub by: String,
    /// In which role.
    pub role: String,
    /// By which client.
    pub client: Uuid,
    /// The client's number of the proposal.
    pub n: u64,
    /// What is proposed.
    pub edits: Vec<Edit>,
}

/// What a session counts.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Figures {
    /// Those who are here or away for a moment.
    pub participants: u64,
    /// Connections that have entered.
    pub connections: u64,
    /// The last update that was shown.
    pub seq: u64,
    /// About how many bytes the state takes as JSON.
    pub state_bytes: u64,
    /// The epoch of its owner.
    pub epoch: u64,
    /// The place at which replicas were last compared.
    pub agreed_seq: u64,
    /// Replicas that held the same there.
    pub agreed: u64,
    /// Replicas that ever did not.
    pub differed: u64,
    /// Bytes of what is remembered.
    pub remembered: u64,
    /// How it stands.
    pub status: Status,
    /// Expressions of the charter that had no answer, the last ones.
    pub expression_faults: Vec<String>,
}

/// Something that whoever runs the service wants to know.
#[derive(Clone, Debug, Serialize)]
pub enum Report {
    /// A proposal was refused, or something that is answered alone.
    Refused(Problem),
    /// Something went beyond a limit and was dropped.
    Limited(Problem),
    /// An expression of the charter had no answer.
    Unanswered {
        /// Its line.
        line: usize,
        /// Why.
        why: String,
    },
    /// A replica differed, and gets the state.
    Differed {
        /// Whose it was.
        who: String,
        /// Where the session stood.
        seq: u64,
    },
    /// A rule of the session could not be carried out, and what set it off counts all the same.
    RuleFailed {
        /// Its name.
        rule: String,
        /// Why.
        why: String,
    },
    /// Somebody took over what another held.
    TookOver {
        /// Who.
        by: String,
        /// The path.
        at: String,
    },
    /// An update could not be told as a patch.
    Unpatched(String),
}
