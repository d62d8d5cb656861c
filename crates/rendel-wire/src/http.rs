//! The bodies of the HTTP interface.

use rendel_core::{Edit, Fault};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// A charter that was published.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CharterEntry {
    /// Its name.
    #[schema(example = "headcount")]
    pub charter: String,
    /// Its version.
    pub version: u32,
    /// A line for people.
    #[serde(default)]
    pub title: String,
    /// When it was published, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub published: Option<String>,
}

/// A page of charters.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CharterList {
    /// The newest version of each.
    pub charters: Vec<CharterEntry>,
}

/// What a check found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CheckAnswer {
    /// Each fault with line, column, path, what is wrong, what was expected and perhaps `did_you_mean`.
    #[schema(value_type = Vec<Object>)]
    pub faults: Vec<Fault>,
}

/// A session to open.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OpenSession {
    /// 1 to 64 letters, digits, dashes and underscores; made by the service where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(example = "gate-north", pattern = "^[A-Za-z0-9_-]{1,64}$")]
    pub id: Option<String>,
    /// The name of its charter.
    #[schema(example = "headcount")]
    pub charter: String,
    /// The charter's version; the newest where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<u32>,
    /// The initial state as plain JSON, over the charter's own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub opening: Option<Value>,
}

/// A session as the backend sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SessionInfo {
    /// Its id.
    pub id: String,
    /// The name of its charter.
    pub charter: String,
    /// The charter's version.
    pub version: u32,
    /// The charter's title.
    #[serde(default)]
    pub title: String,
    /// `open`, `frozen` or `ended`.
    pub status: String,
    /// The place of its last settled update.
    pub seq: u64,
    /// How often a process took it over.
    pub epoch: u64,
    /// Participants present.
    pub participants: u64,
    /// Connections open.
    pub connections: u64,
    /// Replicas that held the same state when they were last asked, and at which `seq` that was.
    pub agreed: u64,
    /// See `agreed`; 0 before the first time.
    pub agreed_seq: u64,
    /// Replicas that differed since this process took the session over, and were repaired.
    pub differed: u64,
    /// When it was opened, RFC 3339.
    pub opened: String,
    /// From which `seq` on its past is kept.
    pub kept_from: u64,
}

/// One connection of a session.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConnectionInfo {
    /// Whose it is.
    pub participant: String,
    /// The name shown to everyone.
    pub name: String,
    /// The role.
    pub role: String,
    /// The tab or process.
    #[schema(value_type = String)]
    pub client: uuid::Uuid,
    /// `json` or `cbor` over a WebSocket; `events` or `patches` for Server-Sent Events.
    pub way: String,
    /// Where it comes from.
    pub address: String,
    /// Since when, RFC 3339.
    pub since: String,
    /// Updates that it has not been sent yet.
    pub lag: u64,
    /// How long the oldest of what waits for it has waited, in milliseconds.
    pub lag_ms: u64,
    /// Frames that wait for it.
    pub queue: u64,
    /// Bytes that wait for it.
    pub queue_bytes: u64,
    /// How often it fell behind and was given one catch-up in place of its backlog.
    pub catch_ups: u32,
}

/// The connections of a session.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConnectionList {
    /// Those that were slow most often or lag most come first.
    pub connections: Vec<ConnectionInfo>,
}

/// What a session is given anew.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ResetSession {
    /// Plain JSON over the charter's initial values; what the session opened with where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub opening: Option<Value>,
}

/// What differs between two states of a session.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StateDifference {
    /// The first `seq`.
    pub from: u64,
    /// The second.
    pub to: u64,
    /// Each place with what `was` there and what is there `now`.
    #[schema(value_type = Vec<Object>)]
    pub differences: Value,
}

/// A ticket for a call that cannot send headers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TicketAnswer {
    /// Good for one call, as `?ticket=`.
    pub ticket: String,
    /// When it ends, RFC 3339.
    pub expires: String,
}

/// A page of sessions.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SessionList {
    /// At most 100, by id.
    pub sessions: Vec<SessionInfo>,
    /// Where the next page begins, if there is one: give it as `after`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<String>,
}

/// A token to issue.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct IssueToken {
    /// The session that it is for.
    pub session: String,
    /// The participant's id, as the backend knows them: 1 to 128 characters.
    #[schema(example = "oda")]
    pub sub: String,
    /// The name shown to everyone; the id where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// One of the charter's roles.
    pub role: String,
    /// Seconds, 1 to 2,592,000; 3,600 where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 2_592_000)]
    pub expires_in: Option<u64>,
}

/// An issued token.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TokenAnswer {
    /// The token: a JWT.
    pub token: String,
    /// When it ends, RFC 3339.
    pub expires: String,
}

/// A proposal over HTTP.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ProposeBody {
    /// The changes: they take effect together or not at all.
    #[schema(value_type = Vec<Object>)]
    pub edits: Vec<Edit>,
    /// The `seq` that the proposer had before them; left out, the present one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<u64>,
    /// A name shared by proposals that undo as one step.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gesture: Option<String>,
    /// A word on why, kept in the journal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}
