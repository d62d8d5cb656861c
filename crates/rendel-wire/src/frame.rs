//! The frames of a connection.

use std::collections::BTreeMap;

use rendel_core::{
    Asked, ClientOutcome, Edit, Facts, Hold, HoldChange, PrivatePatch, Problem, ProblemKind,
    Proposal, RowSteps, Rows, Settled, Undoable,
};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use uuid::Uuid;

use crate::decode::{DEEPEST, DEEPEST_TOLD, decode_json_within, decode_value};

macro_rules! frames {
    ($(#[$about:meta])* $Frames:ident, $deepest:expr, { $($(#[$doc:meta])* $Variant:ident($Body:ty) = $name:literal,)* }) => {
        $(#[$about])*
        #[derive(Clone, Debug, PartialEq, Serialize)]
        #[serde(tag = "type")]
        pub enum $Frames {
            $($(#[$doc])* #[serde(rename = $name)] $Variant($Body),)*
        }

        impl $Frames {
            /// The names that `type` takes, in the order of the table.
            pub const NAMES: &'static [&'static str] = &[$($name),*];

            /// Reads one frame of JSON. Each problem says what to do about it.
            pub fn decode(bytes: &[u8]) -> Result<Self, Problem> {
                Self::from_value(decode_json_within($deepest, bytes)?)
            }

            /// Reads one frame that is a value already.
            pub fn from_value(frame: Value) -> Result<Self, Problem> {
                let mut members = match frame {
                    Value::Object(members) => members,
                    _ => Map::new(),
                };
                let name = members.remove("type");
                let body = Value::Object(members);
                match name.as_ref().and_then(Value::as_str) {
                    $(Some($name) => decode_value(body).map(Self::$Variant).map_err(|misfit| {
                        let detail = format!("The frame {:?} is not what was expected{misfit}.", $name);
                        Problem::new(ProblemKind::Malformed, detail)
                    }),)*
                    Some(other) => Err(Problem::new(
                        ProblemKind::Malformed,
                        format!("There is no frame {:?}; there are {}.", other.chars().take(40).collect::<String>(), Self::NAMES.join(", ")),
                    )),
                    None => Err(Problem::new(
                        ProblemKind::Malformed,
                        "A frame is a JSON object whose \"type\" is a string that names it.",
                    )),
                }
            }

            /// The frame as one line of JSON.
            pub fn encode(&self) -> String {
                // Frames have string keys and finite numbers only, for which writing to memory
                // cannot fail.
                serde_json::to_string(self).unwrap_or_default()
            }
        }
    };
}

frames! {
    /// What a participant sends.
    FromParticipant, DEEPEST, {
        /// The first frame of every connection.
        Enter(Enter) = "enter",
        /// Edits that take effect together or not at all.
        Propose(Propose) = "propose",
        /// Several proposals, each on its own, in their order.
        Proposals(Proposals) = "proposals",
        /// The digest of this replica, asked for by the service's `digest`.
        Digest(Digest) = "digest",
        /// Facts about oneself.
        Presence(Said) = "presence",
        /// Takes or renews a hold.
        Hold(TakeHold) = "hold",
        /// Gives a hold up.
        Release(Release) = "release",
        /// Sends a transient message.
        Cue(SendCue) = "cue",
        /// Asks to be told what one can undo and redo, now and whenever that changes.
        FollowUndo(FollowUndo) = "follow-undo",
        /// Asks for the rows of a query, now and whenever they change.
        FollowQuery(Box<FollowQuery>) = "follow-query",
        /// Follows a query no more.
        LeaveQuery(LeaveQuery) = "leave-query",
        /// Goes on with a new token over the same connection.
        Renew(Renew) = "renew",
        /// Asks for a `pong`.
        Ping(Ping) = "ping",
        /// Ends the connection for good.
        Leave(Leave) = "leave",
    }
}

frames! {
    /// What the service sends.
    FromService, DEEPEST_TOLD, {
        /// The answer to `enter`: where the session stands.
        Welcome(Box<Welcome>) = "welcome",
        /// Updates that took their place in the order, own ones too.
        Settled(SettledFrame) = "settled",
        /// What an update that comes next did for you alone.
        PrivatePatch(PrivatePatch) = "beside",
        /// A proposal that did not take effect.
        Refused(Refused) = "refused",
        /// The first outcome of a proposal that was sent again.
        Outcome(OutcomeFrame) = "outcome",
        /// A proposal waits for an outside check.
        Waiting(Waiting) = "waiting",
        /// The answer to a `hold`, `release`, `cue` or `renew`.
        Answer(AnswerFrame) = "answer",
        /// Who came, went or changed.
        Roster(Roster) = "roster",
        /// What participants tell of themselves.
        Presence(PresenceFrame) = "presence",
        /// What is held, and what is free.
        Holds(HoldChange) = "holds",
        /// What you can undo and redo now.
        Undoable(Undoable) = "undoable",
        /// The rows of a query that you follow, in place of those of before.
        Rows(RowsFrame) = "rows",
        /// What an update made of the rows of a query that you follow.
        RowSteps(RowStepsFrame) = "row-steps",
        /// A query that you cannot follow.
        QueryRefused(QueryRefused) = "query-refused",
        /// A transient message.
        Cue(CueFrame) = "cue",
        /// The standing of the session changed.
        Status(Status) = "status",
        /// Asks for the digest of the state as it is now: after all that came before this frame.
        Digest(DigestAsked) = "digest",
        /// The whole state, for a replica that differs.
        Resync(Resync) = "resync",
        /// The answer to a `ping`.
        Pong(Pong) = "pong",
        /// A problem that concerns no single proposal.
        Notice(Notice) = "notice",
        /// The last frame of a connection that the service ends.
        Bye(Bye) = "bye",
    }
}

/// The first frame of every connection.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Enter {
    /// The participant's token, where it did not come in the `Authorization` header.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// This tab or process, the same when it comes back.
    pub client: Uuid,
    /// The last `seq` it applied, where it was here before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<u64>,
    /// The epoch in which it was here before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub epoch: Option<u64>,
    /// Which audience it was of then. One of another has a state that is not this one's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audience: Option<usize>,
    /// Facts about oneself from the first moment on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub presence: Option<Facts>,
    /// Whether the welcome is to say how the fields are declared.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub fields: bool,
    /// Whether it comes without a replica, for queries only: it is told no state and no updates.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub stateless: bool,
}

/// Asks for the rows of a query, for as long as the connection lasts.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FollowQuery {
    /// Any number of the client's, by which it knows the rows; one that it follows already stands
    /// for another query from now on.
    pub query: u64,
    /// What it asks for.
    pub ask: Asked,
    /// Rows that it has from before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub had: Option<HadRows>,
}

/// Rows that a client comes back with: only what has changed in them since is told, where that is
/// known.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HadRows {
    /// Their mark.
    pub mark: String,
    /// The update that they are the result after.
    pub seq: u64,
}

/// Follows a query no more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LeaveQuery {
    /// The client's number of it.
    pub query: u64,
}

/// The rows of a query.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RowsFrame {
    /// The client's number of it.
    pub query: u64,
    /// What to come back with; none for what is at one path, which always comes whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mark: Option<String>,
    /// The rows.
    #[serde(flatten)]
    pub rows: Rows,
}

/// What an update made of the rows of a query.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RowStepsFrame {
    /// The client's number of it.
    pub query: u64,
    /// The steps.
    #[serde(flatten)]
    pub steps: RowSteps,
}

/// A query that cannot be followed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct QueryRefused {
    /// The client's number of it.
    pub query: u64,
    /// Why.
    pub problem: Problem,
}

/// Asks to be told what one can undo and redo, for as long as the connection lasts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FollowUndo {}

/// Facts about oneself, by the names of the charter; `null` takes one back.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Said {
    /// The `seq` that this client had applied, for places in texts; the present one where it is
    /// left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<u64>,
    /// What changes.
    pub set: Facts,
}

/// Takes or renews a hold.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TakeHold {
    /// Any number of the client's; it comes back in the `answer`.
    pub n: u64,
    /// The path, with which all that is inside is held.
    pub at: String,
    /// For how many milliseconds, if it is not renewed; the charter's time where it is left out.
    #[serde(default, rename = "for", skip_serializing_if = "Option::is_none")]
    pub for_ms: Option<u64>,
    /// Takes over what somebody else holds, which needs a power.
    #[serde(default, skip_serializing_if = "is_false")]
    pub over: bool,
}

/// Gives a hold up.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Release {
    /// Any number of the client's; it comes back in the `answer`.
    pub n: u64,
    /// The path.
    pub at: String,
}

/// Sends a transient message.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SendCue {
    /// Any number of the client's; it comes back in the `answer`.
    pub n: u64,
    /// Its name in the charter.
    pub name: String,
    /// What goes with it, where the charter declares data.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub data: Option<Value>,
    /// Who gets it, where the charter leaves that to the sender.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<CueFor>,
}

/// Who gets a cue.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CueFor {
    /// Everyone, its sender included.
    Everyone,
    /// Everyone but its sender.
    EveryoneElse,
    /// Those of a role.
    Role(String),
    /// One participant.
    Participant(String),
}

/// Goes on with a new token over the same connection.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Renew {
    /// Any number of the client's; it comes back in the `answer`.
    pub n: u64,
    /// A token for the same participant, session and role.
    pub token: String,
}

fn is_false(flag: &bool) -> bool {
    !flag
}

/// Edits that take effect together or not at all.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Propose {
    /// 1, 2, 3 … per client.
    pub n: u64,
    /// The `seq` that this client had applied.
    pub seen: u64,
    /// The highest own `n` whose outcome was known.
    #[serde(default)]
    pub answered: u64,
    /// The changes.
    pub edits: Vec<Edit>,
    /// A name shared by proposals that undo as one step.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gesture: Option<String>,
    /// A word on why, kept in the journal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// Several proposals in one frame: what was made while there was no connection. Each is settled or
/// refused, and answered, on its own.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Proposals {
    /// In the order of their numbers.
    pub proposals: Vec<Propose>,
}

impl Propose {
    /// Reads the frame in one pass, without building a JSON value first: nearly every frame of a
    /// busy connection is one. `None` for any other frame and for a faulty one, whose fault
    /// [`FromParticipant::decode`] then tells.
    pub fn decode(text: &str) -> Option<Self> {
        #[derive(Deserialize)]
        #[serde(deny_unknown_fields)]
        struct Whole<'t> {
            r#type: &'t str,
            n: u64,
            seen: u64,
            #[serde(default)]
            answered: u64,
            edits: Vec<Edit>,
            #[serde(default)]
            gesture: Option<String>,
            #[serde(default)]
            note: Option<String>,
        }
        crate::decode::check_depth(DEEPEST, text).ok()?;
        let Whole { r#type, n, seen, answered, edits, gesture, note } =
            serde_json::from_str(text).ok()?;
        (r#type == "propose").then_some(Self { n, seen, answered, edits, gesture, note })
    }
}

impl From<Propose> for Proposal {
    fn from(frame: Propose) -> Self {
        let Propose { n, seen, answered, edits, gesture, note } = frame;
        Self { n, seen: Some(seen), answered, edits, gesture, note, is_revert: false }
    }
}

/// Asks for a `pong`, and tells the service that this connection is alive.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Ping {
    /// Any number of the client's; it comes back as it is.
    pub sent: f64,
}

/// Ends the connection for good.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Leave {}

/// Where the session stands when a participant arrives. `S` is the snapshot and `U` an update, each
/// of which the service has as text already.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(bound(deserialize = "S: Deserialize<'de>, U: Deserialize<'de>"))]
pub struct Welcome<S = Value, U = Settled> {
    /// Who you are here.
    pub you: You,
    /// Which session this is.
    pub session: SessionHead,
    /// The epoch: a number that grows each time a process takes the session over.
    pub epoch: u64,
    /// Which of the session's audiences this replica is of.
    #[serde(default)]
    pub audience: usize,
    /// The place of the last update in what follows.
    pub seq: u64,
    /// The snapshot.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<S>,
    /// In place of the snapshot, what was missed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub updates: Option<Vec<U>>,
    /// What is yours of the state beside what all of your audience see, by paths: it stands as
    /// after the updates.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub yours: BTreeMap<String, Value>,
    /// What the updates also did for you alone, where there is no snapshot.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub beside: Vec<PrivatePatch>,
    /// How the fields are declared that this role may see, as the charter's `state`, where `enter`
    /// asked for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fields: Option<Value>,
    /// Who is here, you included. Whoever looks on is not named, and sees no names if their role is
    /// so.
    pub roster: Vec<Participant>,
    /// How many are here in all, if some are not named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<u64>,
    /// What they tell of themselves, by their ids.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub presence: BTreeMap<String, BTreeMap<Uuid, Facts>>,
    /// What is held.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub holds: Vec<Hold>,
    /// For a guest, the token with which they are the same guest when they come back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// What bounds this connection.
    pub limits: ConnectionLimits,
    /// What became of own proposals whose answer may not have arrived.
    pub outcomes: Vec<OutcomeFrame>,
    /// The service's time, in milliseconds since 1970 UTC.
    pub time: u64,
}

/// Who a participant is in the session that they entered.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct You {
    /// The participant's id.
    pub id: String,
    /// The name shown to everyone.
    pub name: String,
    /// The role.
    pub role: String,
    /// The colour that goes with the id, in degrees.
    pub hue: u16,
    /// This tab or process.
    pub client: Uuid,
}

/// Which session a connection is in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SessionHead {
    /// The session's id.
    pub id: String,
    /// The name of its charter.
    pub charter: String,
    /// The charter's version.
    pub version: u32,
    /// `open`, `frozen` or `ended`.
    pub status: String,
}

/// A participant as the roster shows them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Participant {
    /// The participant's id.
    pub id: String,
    /// The name shown to everyone.
    pub name: String,
    /// The role.
    pub role: String,
    /// The colour that goes with the id, in degrees.
    pub hue: u16,
    /// Tabs and processes that they have open here; 0 while they are away.
    pub connections: u32,
    /// Whether the last connection was lost and they may be back in a moment.
    #[serde(default, skip_serializing_if = "is_false")]
    pub away: bool,
}

/// Somebody who is gone.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Left {
    /// The participant's id.
    pub id: String,
    /// Why.
    pub why: LeftWhy,
}

/// Why somebody is gone.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LeftWhy {
    /// They left.
    Left,
    /// Their connection was lost and did not come back in time.
    Lost,
    /// They were removed.
    Removed,
}

/// What bounds a connection.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ConnectionLimits {
    /// Bytes of one frame to the service.
    pub frame: usize,
    /// Edits of one proposal.
    pub edits: usize,
    /// Proposals per second. One of many edits, or large, counts as several: as one for each 16
    /// edits and for each 4 KiB that it has begun.
    pub proposals_per_second: u32,
    /// How many may come at once after a while without any.
    #[serde(default)]
    pub burst: u32,
    /// Times per second that presence is told on; what is said more often is told as the newest.
    #[serde(default)]
    pub presence_per_second: u32,
    /// Facts of presence that lapse, by name: so many milliseconds after they were said.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub presence_lapses_ms: BTreeMap<String, u64>,
}

/// Updates that took their place in the order.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SettledFrame {
    /// The updates, in order.
    pub updates: Vec<Settled>,
}

/// A proposal that did not take effect.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Refused {
    /// The proposal's number.
    pub n: u64,
    /// Why.
    pub problem: Problem,
}

/// What became of a proposal: `{n, seq}` or `{n, problem}`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OutcomeFrame {
    /// The proposal's number.
    pub n: u64,
    /// What became of it.
    #[serde(flatten)]
    pub outcome: OutcomeOf,
}

/// Either outcome of a proposal.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum OutcomeOf {
    /// It is this update.
    Seq(u64),
    /// It was refused.
    Problem(Problem),
}

impl From<ClientOutcome> for OutcomeOf {
    fn from(outcome: ClientOutcome) -> Self {
        match outcome {
            ClientOutcome::Settled(seq) => Self::Seq(seq),
            ClientOutcome::Refused(problem) => Self::Problem(problem),
        }
    }
}

/// Who came, went or changed.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Roster {
    /// Who was not here before.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub joined: Vec<Participant>,
    /// Those who are gone, and why.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left: Vec<Left>,
    /// Who is here as before, with other connections, name, role or hue, or away.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub changed: Vec<Participant>,
    /// How many are here in all, if that is another number and some are not named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<u64>,
}

/// What participants tell of themselves.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct PresenceFrame {
    /// All that each tells now, by participant and client; `null` where that is nothing any more.
    pub of: BTreeMap<String, BTreeMap<Uuid, Option<Facts>>>,
}

/// A transient message.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct CueFrame {
    /// Its name.
    pub name: String,
    /// Who sent it.
    pub by: String,
    /// What goes with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub data: Option<Value>,
}

/// A proposal waits for an outside check.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Waiting {
    /// The proposal's number.
    pub n: u64,
}

/// The answer to a `hold`, `release`, `cue` or `renew`: done, or a problem.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AnswerFrame {
    /// The number that was given.
    pub n: u64,
    /// Why it was not done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<Problem>,
}

/// The standing of a session changed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Status {
    /// `open`, `frozen` or `ended`.
    pub status: String,
    /// The roles that go on in a frozen session.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub except: Vec<String>,
    /// The participant who did it, or `service`.
    pub by: String,
}

/// Asks for the digest of the state at a `seq`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DigestAsked {
    /// The last update before this frame.
    pub seq: u64,
}

/// The digest of a replica.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Digest {
    /// The last update that the replica had applied.
    pub seq: u64,
    /// SHA-256, in lower-case hex, of the confirmed state as RFC 8785 canonical JSON, without what
    /// is yours beside what all of your audience see.
    pub sha256: String,
    /// The same of that, an object of values by paths; left out where nothing is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub yours: Option<String>,
}

/// The whole state, for a replica that differs. `S` as in [`Welcome`].
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Resync<S = Value> {
    /// The last update in the state.
    pub seq: u64,
    /// The state.
    pub state: S,
    /// What is yours of it beside what all of your audience see, by paths.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub yours: BTreeMap<String, Value>,
    /// A sentence that says why it comes.
    pub reason: String,
}

/// The answer to a `ping`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Pong {
    /// The number of the `ping`.
    pub sent: f64,
    /// The service's time, in milliseconds since 1970 UTC.
    pub time: u64,
}

/// A problem that concerns no single proposal.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Notice {
    /// The problem.
    pub problem: Problem,
}

/// The last frame of a connection that the service ends; the socket closes with 4000 + the
/// problem's number.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Bye {
    /// Why.
    pub problem: Problem,
}

/// A `settled` frame joined from updates that are encoded already.
pub fn settled_frame<'u>(updates: impl IntoIterator<Item = &'u str>) -> String {
    const HEAD: &str = r#"{"type":"settled","updates":["#;
    let mut frame = String::from(HEAD);
    for update in updates {
        if frame.len() > HEAD.len() {
            frame.push(',');
        }
        frame.push_str(update);
    }
    frame.push_str("]}");
    frame
}

#[cfg(test)]
mod tests {
    use super::*;

    const PROPOSE: &str =
        r#"{"type":"propose","n":1,"seen":4,"edits":[{"at":"/heads","op":"add","by":1}]}"#;

    #[test]
    fn a_frame_is_read_by_its_type() {
        let FromParticipant::Propose(frame) = FromParticipant::decode(PROPOSE.as_bytes()).unwrap()
        else {
            panic!()
        };
        assert_eq!((frame.n, frame.seen, frame.answered), (1, 4, 0));
        assert_eq!(frame.edits, [Edit::new("/heads", "add").with("by", 1)]);
    }

    #[test]
    fn the_quick_way_to_read_a_proposal_reads_the_same() {
        let full = PROPOSE.replace(
            "\"seen\":4",
            "\"answered\":0,\"seen\":4,\"note\":\"from the cart\",\"gesture\":\"drag\"",
        );
        for text in [PROPOSE, &full] {
            let Ok(FromParticipant::Propose(slow)) = FromParticipant::decode(text.as_bytes())
            else {
                panic!()
            };
            assert_eq!(Propose::decode(text), Some(slow));
        }
        for text in [
            "{\"type\":\"ping\",\"sent\":1}",
            &PROPOSE.replace("propose", "proposal"),
            &PROPOSE.replace("\"n\":1", "\"m\":1"),
        ] {
            assert_eq!(Propose::decode(text), None, "{text}");
        }
    }

    #[test]
    fn a_wrong_frame_is_malformed_and_the_sentence_names_what_is_wrong() {
        let table = [
            ("\"propose\"", "\"proposal\"", "propose"),
            ("\"seen\":4", "\"sen\":4", "sen"),
            ("\"n\":1,", "", "missing field `n`"),
            ("\"n\":1", "\"n\":-1", "-1"),
            ("\"op\":\"add\",", "", "needs \"op\""),
            ("\"type\":\"propose\",", "", "\"type\""),
        ];
        for (old, new, named) in table {
            let problem =
                FromParticipant::decode(PROPOSE.replace(old, new).as_bytes()).unwrap_err();
            assert_eq!(problem.kind(), ProblemKind::Malformed);
            assert!(problem.detail().contains(named), "{new}: {problem}");
        }
    }

    #[test]
    fn joined_updates_read_as_one_settled_frame() {
        let update = r#"{"seq":1,"by":"oda","client":"018f0000-0000-7000-8000-000000000001","n":1,"at":5,"effects":[]}"#;
        for count in 0..3 {
            let frame = settled_frame(std::iter::repeat_n(update, count));
            let FromService::Settled(read) = FromService::decode(frame.as_bytes()).unwrap() else {
                panic!()
            };
            assert_eq!(read.updates.len(), count);
        }
    }
}
