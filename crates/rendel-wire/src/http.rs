//! The bodies of the HTTP interface.

use rendel_core::{Edit, Effect, Fault, Path, Problem, Undoes, Verdict};
use std::collections::BTreeMap;

use rendel_core::Facts;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;
use uuid::Uuid;

use crate::described;

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
    /// Each fault with line, column, path, what is wrong, what was expected and perhaps
    /// `did_you_mean`.
    #[schema(value_type = Vec<described::Fault>)]
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
    /// By what it is found: labels that its charter names, each with a value of 1 to 64 characters
    /// without commas.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, String>,
}

/// A seat that is looked for.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FindSeat {
    /// The charter of its session, which is of the newest version if it is opened for this.
    #[schema(example = "windfall")]
    pub charter: String,
    /// The labels of its session, which has these and no others.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, String>,
    /// The participant's id.
    #[schema(example = "oda")]
    pub sub: String,
    /// The name shown to everyone; the id where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// One of the charter's roles.
    #[schema(example = "player")]
    pub role: String,
    /// That seat; any where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seat: Option<String>,
    /// What a session opens with that is opened for this.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub opening: Option<Value>,
    /// Seconds that the token is good for, 1 to 2,592,000; 3,600 where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 2_592_000)]
    pub expires_in: Option<u64>,
}

/// A seat that was found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FoundSeat {
    /// The session.
    pub session: String,
    /// The seat, which is kept for as long as the charter's `reserve` says.
    pub seat: String,
    /// Whether the session was opened for this.
    pub opened: bool,
    /// The participant's token.
    pub token: String,
    /// When it ends, RFC 3339.
    pub expires: String,
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
    /// A number that grows each time a process takes it over.
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
    /// Bytes that it remembers of what is gone and of what clients were answered; 0 while it is not
    /// in memory.
    pub remembered: u64,
    /// When it was opened, RFC 3339.
    pub opened: String,
    /// From which `seq` on its past is kept.
    pub kept_from: u64,
    /// The roles that go on while it is frozen.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub frozen_except: Vec<String>,
    /// The last expressions of its charter that had no answer, each with its line: what they were
    /// to let through was refused.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub expression_faults: Vec<String>,
    /// By what it is found.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, String>,
    /// How many seats are free, where it has seats.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub free_seats: Option<u32>,
}

/// How a session is frozen.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FreezeSession {
    /// The roles that go on; none where it is left out.
    #[serde(default)]
    pub except: Vec<String>,
}

/// What changes of a participant. What is left out stays; `null` is as the token says again.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AmendParticipant {
    /// Their role.
    #[serde(default, with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub role: Option<Option<String>>,
    /// The name shown to everyone.
    #[serde(default, with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub name: Option<Option<String>>,
    /// What the charter's expressions read as `who.claims`, in place of all that the token says: at
    /// most 1,024 bytes as JSON.
    #[serde(default, with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<BTreeMap<String, Value>>)]
    pub claims: Option<Option<BTreeMap<String, Value>>>,
}

/// Tells `null` from what is left out.
mod given {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub(super) fn serialize<T: Serialize, S: Serializer>(
        given: &Option<Option<T>>,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        given.as_ref().and_then(Option::as_ref).serialize(serializer)
    }

    pub(super) fn deserialize<'de, T: Deserialize<'de>, D: Deserializer<'de>>(
        deserializer: D,
    ) -> Result<Option<Option<T>>, D::Error> {
        Option::deserialize(deserializer).map(Some)
    }
}

/// What stands over the tokens of a participant; what is left out is as the token says.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AmendedParticipant {
    /// The participant.
    pub sub: String,
    /// Their role.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<String>,
    /// The name shown to everyone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// What the charter's expressions read as `who.claims`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub claims: Option<BTreeMap<String, Value>>,
}

/// A participant of a session, as the backend sees them.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ParticipantInfo {
    /// The id.
    pub id: String,
    /// The name shown to everyone.
    pub name: String,
    /// The role.
    pub role: String,
    /// The colour, in degrees.
    pub hue: u16,
    /// Tabs and processes that they have open here.
    pub connections: u32,
    /// Whether the last connection was lost and they may be back in a moment.
    pub away: bool,
    /// What they tell of themselves, by client.
    #[schema(value_type = BTreeMap<String, BTreeMap<String, Value>>)]
    pub presence: BTreeMap<Uuid, Facts>,
    /// The paths that they hold.
    pub holds: Vec<String>,
}

/// Who is in a session.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ParticipantList {
    /// By their ids.
    pub participants: Vec<ParticipantInfo>,
    /// What is held: `at`, `by` and `until` in milliseconds since 1970 UTC.
    #[schema(value_type = Vec<described::Hold>)]
    pub holds: Vec<rendel_core::Hold>,
}

/// What the service holds of a participant in a session.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ParticipantRecord {
    /// The participant.
    pub sub: String,
    /// The updates that they made, as the journal has them; at most 1,000.
    #[schema(value_type = Vec<described::SettledUpdate>)]
    pub updates: Vec<Value>,
    /// Where the next page begins, if there is one: give it as `after`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<u64>,
    /// Until when they may not come back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub removed_until: Option<String>,
    /// The role that stands over their tokens.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<String>,
    /// The name that stands over their tokens.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The claims that stand over their tokens.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub claims: Option<BTreeMap<String, Value>>,
    /// What they did, and what was done about them; the first page has all of it.
    pub acts: Vec<AuditEntry>,
}

/// A participant who was forgotten.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ForgottenParticipant {
    /// What stands in place of their id.
    pub alias: String,
}

/// A participant who was removed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Removal {
    /// Their id.
    pub sub: String,
    /// When they may come back.
    pub until: String,
}

/// Who was removed from a session and may not come back yet.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RemovalList {
    /// By their ids.
    pub removals: Vec<Removal>,
}

/// A cue to send.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CueBody {
    /// Its name in the charter.
    #[schema(example = "bell")]
    pub name: String,
    /// What goes with it, where the charter declares data.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub data: Option<Value>,
    /// `"everyone"`, `"everyone-else"`, `{"role": …}` or `{"participant": …}`, where the charter
    /// leaves it to the sender.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<crate::CueFor>,
}

/// Whether somebody may make an edit.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MayBody {
    /// The role.
    pub role: String,
    /// The participant's id, which conditions may ask for; empty where it is left out.
    #[serde(default)]
    pub sub: String,
    /// The edit, or in its place `see`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<described::Edit>)]
    pub edit: Option<Edit>,
    /// The path that is to be seen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub see: Option<String>,
}

/// The answer to whether somebody may.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MayAnswer {
    /// Whether the role may edit there, or anything of it is seen as the state is now.
    pub allowed: bool,
    /// Whether the edit would take effect as the state is now, or all of it is seen.
    pub takes_effect: bool,
    /// The lines of the charter that say so: the one that allows it, or those whose conditions do
    /// not hold.
    pub lines: Vec<usize>,
    /// Those lines as they read.
    pub says: Vec<String>,
    /// One sentence.
    pub because: String,
    /// The problem with which it would be refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<described::Problem>)]
    pub problem: Option<Problem>,
}

/// Tokens to revoke: one, or all that a participant of a session has.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RevokeTokens {
    /// One token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// The session, for all tokens of `sub` there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub session: Option<String>,
    /// The participant's id.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sub: Option<String>,
}

/// A key that signs participants' tokens, without its secret.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KeyInfo {
    /// Its id, which tokens name as `kid` in their header.
    pub kid: String,
    /// `HS256` or `EdDSA`.
    pub algorithm: String,
    /// Since when it is good, RFC 3339.
    pub added: String,
    /// Since when it is not good any more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retired: Option<String>,
}

/// The keys beside the service key.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KeyList {
    /// In the order in which they were added.
    pub keys: Vec<KeyInfo>,
}

/// A key to add.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AddKey {
    /// 1 to 64 letters, digits, dashes and underscores.
    #[schema(example = "backend-2026")]
    pub kid: String,
    /// `HS256` or `EdDSA`.
    pub algorithm: String,
    /// The secret of an HS256 key, at least 32 characters.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<String>,
    /// The public key of an EdDSA key: Ed25519, as PEM or as the `x` of its JWK.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub public: Option<String>,
}

/// An invitation to make.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MakeInvitation {
    /// The role of who comes by it.
    pub role: String,
    /// How many may come by it, 1 to 1,000; one where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 1_000)]
    pub uses: Option<u32>,
    /// Seconds, 1 to 2,592,000; 86,400 where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 2_592_000)]
    pub expires_in: Option<u64>,
}

/// An invitation.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct InvitationInfo {
    /// Its id.
    pub id: String,
    /// The session.
    pub session: String,
    /// The role of who comes by it.
    pub role: String,
    /// How many may come by it.
    pub uses: u32,
    /// How many have.
    pub used: u32,
    /// Until when it is good, RFC 3339.
    pub until: String,
    /// Whether it was taken back.
    pub withdrawn: bool,
    /// Its code, told once, when it is made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// The path of a link to hand out, told once. The code stands behind a `#`, so that it reaches
    /// no server and no log.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub link: Option<String>,
}

/// The invitations of a session.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct InvitationList {
    /// Newest first, at most 200.
    pub invitations: Vec<InvitationInfo>,
}

/// An invitation that somebody accepts.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AcceptInvitation {
    /// Its code.
    pub code: String,
    /// The name to take part under; a made-up one where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
}

/// What an invitation gives.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AcceptedInvitation {
    /// The session.
    pub session: String,
    /// The participant's id.
    pub sub: String,
    /// The name.
    pub name: String,
    /// The role.
    pub role: String,
    /// The token to enter with.
    pub token: String,
    /// When it ends, RFC 3339.
    pub expires: String,
}

/// Something that was done.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AuditEntry {
    /// Its place: give the last one's as `before` for what came before it.
    pub ord: i64,
    /// When, RFC 3339.
    pub at: String,
    /// Who: a participant's id, or `service`.
    pub by: String,
    /// What.
    pub what: String,
    /// More on it.
    #[schema(value_type = BTreeMap<String, Value>)]
    pub detail: Value,
}

/// What was done.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AuditList {
    /// Newest first.
    pub entries: Vec<AuditEntry>,
}

/// Signs in to the console.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// The service key.
    pub key: String,
}

/// Who is signed in to the console.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// Whether this browser is.
    pub signed_in: bool,
    /// What its page says as `X-Rendel-Console` with every call that changes something.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<String>,
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
    /// Plain JSON over the charter's initial values; what the session opened with where it is left
    /// out.
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
    #[schema(value_type = Vec<described::Difference>)]
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
    /// The seat that is theirs when they come, if it is free then and they have none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seat: Option<String>,
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
    #[schema(value_type = Vec<described::Edit>)]
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

/// Something that a session has announced.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Announcement {
    /// Its place among all: give it as `after` for what comes after it.
    pub cursor: i64,
    /// The event, a CloudEvent 1.0 in the JSON format. Its `id` is the same however often it is sent.
    #[schema(value_type = BTreeMap<String, Value>)]
    pub event: Value,
}

/// What sessions have announced, the oldest first.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AnnouncementList {
    /// In the order of their cursors.
    pub announcements: Vec<Announcement>,
    /// Where to go on: the `after` of the next call.
    pub next: i64,
}

/// Makes a webhook.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MakeWebhook {
    /// Where announcements are sent to.
    pub url: String,
    /// Of which types; of all where it is left out.
    #[serde(default)]
    pub types: Vec<String>,
    /// Of sessions of which charters; of all where it is left out.
    #[serde(default)]
    pub charters: Vec<String>,
    /// Whether those of one session come in their order: then one that is not taken holds up those
    /// of its session that come after it, and no others. `true` where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ordered: Option<bool>,
    /// With what they are signed, `whsec_` and 24 to 64 bytes in base64; made where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<String>,
}

/// A webhook.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WebhookInfo {
    /// Its id.
    pub id: String,
    /// Where announcements are sent to.
    pub url: String,
    /// Of which types; of all where there are none.
    pub types: Vec<String>,
    /// Of sessions of which charters; of all where there are none.
    pub charters: Vec<String>,
    /// Whether those of one session come in their order.
    pub ordered: bool,
    /// When it was made, RFC 3339.
    pub made: String,
    /// With what they are signed; told when it is made, and never again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<String>,
}

/// All webhooks.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WebhookList {
    /// The oldest first.
    pub webhooks: Vec<WebhookInfo>,
}

/// What became of an announcement at a webhook.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DeliveryInfo {
    /// The announcement's place among all.
    pub cursor: i64,
    /// The announcement's id.
    pub id: String,
    /// Its type.
    #[serde(rename = "type")]
    pub kind: String,
    /// The session that it is about.
    pub session: String,
    /// `waiting`, `delivered`, or `dead` where it is not tried any more.
    pub status: String,
    /// How often it was tried.
    pub attempts: u32,
    /// When it is tried next, or was last; RFC 3339.
    pub at: String,
    /// What was wrong the last time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// The deliveries of a webhook.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DeliveryList {
    /// The newest first.
    pub deliveries: Vec<DeliveryInfo>,
}

/// Sends announcements again.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Resend {
    /// Those with these ids; all that are dead where it is left out.
    #[serde(default)]
    pub ids: Vec<String>,
}

/// What is sent again.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Resent {
    /// How many.
    pub count: u64,
}

/// Takes a session, or a part of it, back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RevertBody {
    /// To how it was at this `seq`.
    pub to: u64,
    /// The path of a record or field; the whole session where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// A word on why; kept in the journal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// How a value came about.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Why {
    /// The path.
    pub at: String,
    /// The last update that is taken into account.
    pub seq: u64,
    /// What is there.
    pub value: Value,
    /// The updates that made it, the newest first, at most 50.
    pub made: Vec<WhyMade>,
    /// Whether these are all: older ones may not be kept any more.
    pub is_whole: bool,
    /// What lost against it: edits that had no effect.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lost: Vec<WhyLost>,
    /// Of a record: which update last changed each field.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<WhyPart>,
    /// Of a text: who typed each run.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub runs: Vec<WhyRun>,
}

/// An update that made a value what it is.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct WhyMade {
    /// The update.
    pub seq: u64,
    /// Who made it; empty where whoever asks may not see any of it.
    pub by: String,
    /// When, in milliseconds since 1970 UTC.
    pub at: u64,
    /// What it did there.
    #[schema(value_type = Vec<described::Edit>)]
    pub effects: Vec<Effect>,
    /// What became of the edits there, where that is more than `applied`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(value_type = Vec<described::Verdict>)]
    pub verdicts: Vec<Verdict>,
    /// The rule of the session that did it, where one did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rule: Option<String>,
    /// The gesture it belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gesture: Option<String>,
    /// The proposer's word on why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// What it takes back, where it is an undo or a redo.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<described::Undoes>)]
    pub undoes: Option<Undoes>,
    /// The update that undid it, where one did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undone_by: Option<u64>,
}

/// An edit that had no effect against a value.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct WhyLost {
    /// The update.
    pub seq: u64,
    /// Who made it.
    pub by: String,
    /// When, in milliseconds since 1970 UTC.
    pub at: u64,
    /// What became of the edit.
    #[schema(value_type = described::Verdict)]
    pub verdict: Verdict,
}

/// A field of a record.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct WhyPart {
    /// Its path.
    #[schema(value_type = String)]
    pub at: Path,
    /// The update that last changed it.
    pub seq: u64,
}

/// A run of a text.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct WhyRun {
    /// The characters.
    pub text: String,
    /// The update that they came with; none where that is not remembered any more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seq: Option<u64>,
    /// Who typed them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
}
