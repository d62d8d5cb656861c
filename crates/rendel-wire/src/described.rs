//! What the interface's description says of things that the core reads and writes itself.

use std::collections::BTreeMap;

use serde_json::Value;
use utoipa::ToSchema;
use uuid::Uuid;

/// Why something did not take effect (RFC 9457).
#[derive(Debug, ToSchema)]
pub struct Problem {
    /// `urn:rendel:problem:` and its name.
    #[schema(example = "urn:rendel:problem:stale")]
    pub r#type: String,
    /// What it means, in a few words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// A sentence for a person.
    pub detail: String,
    /// The path that it speaks of.
    pub at: Option<String>,
    /// What is there now.
    pub current: Option<Value>,
    /// What might have been meant.
    pub did_you_mean: Option<String>,
    /// How long to wait, in milliseconds.
    pub wait_ms: Option<u64>,
    /// The index of the edit.
    pub edit: Option<u64>,
    /// The present `seq`.
    pub seq: Option<u64>,
    /// The limit that was met.
    pub limit: Option<String>,
    /// The faults of a charter.
    pub faults: Option<Vec<Fault>>,
}

/// One thing that is wrong with a charter.
#[derive(Debug, ToSchema)]
pub struct Fault {
    /// The line, from 1.
    pub line: u32,
    /// The column, from 1, in characters.
    pub column: u32,
    /// The key that it speaks of, such as `state.heads.min`.
    pub path: String,
    /// What is wrong.
    pub says: String,
    /// What should be there.
    pub expected: String,
    /// What might have been meant.
    pub did_you_mean: Option<String>,
}

/// A row of a result.
#[derive(Debug, ToSchema)]
pub struct Row {
    /// The path of the record.
    #[schema(example = "/pickers/oda")]
    pub path: String,
    /// What is sent of it.
    pub value: Value,
}

/// The rows of a query.
#[derive(Debug, ToSchema)]
pub struct Rows {
    /// The update that it is the result after.
    pub seq: u64,
    /// In order.
    pub rows: Vec<Row>,
    /// The place of the last row where the result is full: ask for what is behind it with `after`.
    pub end: Option<Vec<Value>>,
}

/// A query as it is written down.
#[derive(Debug, ToSchema)]
pub struct Shape {
    /// The path of a map or list, with `*` for any record on the way.
    #[schema(example = "/pickers")]
    pub from: String,
    /// Which records, in CEL over `record`, `id`, `who` and the parameters.
    #[schema(example = "record.crates > 0")]
    pub r#where: Option<String>,
    /// Fields, with `-` before one that goes down.
    pub order: Option<Vec<String>>,
    /// At most 500 rows; 100 where nothing is said.
    pub limit: Option<u64>,
    /// The fields that are sent; all where nothing is said.
    pub fields: Option<Vec<String>>,
    /// The parameters, each a JSON Schema.
    pub with: Option<BTreeMap<String, Value>>,
}

/// A request for rows, by one of `name`, `of` and `path`.
#[derive(Debug, ToSchema)]
pub struct Asked {
    /// A query of the charter.
    pub name: Option<String>,
    /// A query of the moment, which takes the power `ask`.
    pub of: Option<Shape>,
    /// What is at one path, as a result of one row.
    pub path: Option<String>,
    /// Values of the parameters.
    pub with: Option<BTreeMap<String, Value>>,
    /// At most so many rows.
    pub limit: Option<u64>,
    /// Only rows behind this place.
    pub after: Option<Vec<Value>>,
}

/// One change at one path, with the members of its operation beside.
#[derive(Debug, ToSchema)]
pub struct Edit {
    /// The path (RFC 6901).
    #[schema(example = "/heads")]
    pub at: String,
    /// The operation: see the field kinds.
    #[schema(example = "add")]
    pub op: String,
    /// The members of the operation.
    #[serde(flatten)]
    pub members: BTreeMap<String, Value>,
}

/// A proposal that took its place in the order.
#[derive(Debug, ToSchema)]
pub struct SettledUpdate {
    /// Its place: 1, 2, 3 … without a gap.
    pub seq: u64,
    /// The participant; empty where whoever asks may not see any of it.
    pub by: String,
    /// The tab or process.
    #[schema(value_type = String, format = "uuid")]
    pub client: Uuid,
    /// The client's number of the proposal; 0 where it has none.
    pub n: u64,
    /// When, in milliseconds since 1970 UTC.
    pub at: u64,
    /// What it did.
    pub effects: Vec<Edit>,
    /// What became of each edit; left out where all were `applied`.
    pub verdicts: Option<Vec<Verdict>>,
    /// The gesture it belongs to.
    pub gesture: Option<String>,
    /// The proposer's word on why.
    pub note: Option<String>,
    /// What rules of the session did in it.
    pub rules: Option<Vec<RuleMark>>,
    /// What it takes back, where it is an undo or a redo.
    pub undoes: Option<Undoes>,
}

/// What an update takes back.
#[derive(Debug, ToSchema)]
pub struct Undoes {
    /// `undo` or `redo`.
    pub way: String,
    /// The updates whose work it takes back.
    pub updates: Vec<u64>,
    /// Of those that it passed over, the last update of each.
    pub passed: Option<Vec<u64>>,
}

/// What somebody can undo and redo now.
#[derive(Debug, ToSchema)]
pub struct Undoable {
    /// The last step of what they did.
    pub undo: Option<Look>,
    /// The last step of what they undid.
    pub redo: Option<Look>,
}

/// What taking a step back would do now.
#[derive(Debug, ToSchema)]
pub struct Look {
    /// What to name it by in `of`: its gesture, else its last update.
    pub of: Value,
    /// The places that would change, of a long one the first 64.
    pub edits: Vec<UndoPlace>,
    /// What would stay, since something stands in the way.
    pub skipped: Option<Vec<Skipped>>,
    /// Why it would be refused, if it would.
    pub refusal: Option<Problem>,
}

/// A place that would change.
#[derive(Debug, ToSchema)]
pub struct UndoPlace {
    /// The path.
    pub at: String,
    /// The name of the effect there.
    pub op: String,
}

/// A part of a step that stays as it is.
#[derive(Debug, ToSchema)]
pub struct Skipped {
    /// The path.
    pub at: String,
    /// The update that stands in the way, where one does.
    pub update: Option<u64>,
    /// Why, in one sentence.
    pub because: String,
}

/// What one rule of the session did in an update.
#[derive(Debug, ToSchema)]
pub struct RuleMark {
    /// Its name.
    pub rule: String,
    /// The index of its first effect.
    pub first: u64,
    /// How many effects it had.
    pub count: u64,
    /// Why it was not carried out, where it was not.
    pub failed: Option<String>,
}

/// What became of one edit, and why.
#[derive(Debug, ToSchema)]
pub struct Verdict {
    /// The rule of the session whose edit it is, where it is not the proposer's.
    pub rule: Option<String>,
    /// The index of the edit in its proposal.
    pub edit: u64,
    /// The path of the edit.
    pub at: String,
    /// `applied`, `merged`, `rebased`, `overrode`, `dropped` or `skipped`.
    pub verdict: String,
    /// The updates that it met, by `seq`.
    pub met: Option<Vec<u64>>,
    /// One sentence that says why.
    pub because: String,
    /// The value that lost, where one did.
    pub lost: Option<Value>,
}

/// A path that somebody holds.
#[derive(Debug, ToSchema)]
pub struct Hold {
    /// The path.
    pub at: String,
    /// The participant.
    pub by: String,
    /// When it goes, in milliseconds since 1970 UTC.
    pub until: u64,
}

/// One operation of a JSON Patch (RFC 6902).
#[derive(Debug, ToSchema)]
pub struct PatchOperation {
    /// `add`, `remove`, `replace`, `move`, `copy` or `test`.
    pub op: String,
    /// Where (RFC 6901).
    pub path: String,
    /// From where, for `move` and `copy`.
    pub from: Option<String>,
    /// The value, for `add`, `replace` and `test`.
    pub value: Option<Value>,
}

/// What differs at one place.
#[derive(Debug, ToSchema)]
pub struct Difference {
    /// The path.
    pub at: String,
    /// What was there.
    pub was: Option<Value>,
    /// What is there now.
    pub now: Option<Value>,
}
