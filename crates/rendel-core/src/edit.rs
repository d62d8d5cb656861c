//! What goes into a sequencer and what comes out of it, in the shapes that travel on the wire.

use std::collections::BTreeMap;

use serde::de::Error as _;
use serde::ser::SerializeMap as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::Value;
use sha2::{Digest as _, Sha256};
use uuid::Uuid;

use crate::kind::inner;
use crate::op::Op;
use crate::path::Path;

/// One change at one path as it is asked for:
/// `{"at": "/markers/m7/spot", "op": "set", "value": …}`. Nothing of it is checked before it is
/// settled, so that whatever is wrong is told as the refusal of its proposal.
#[derive(Clone, Debug, PartialEq)]
pub struct Edit {
    /// Where: a JSON Pointer.
    pub at: String,
    /// What is done there.
    pub op: String,
    /// The other members, which depend on the operation; sorted, so that the same edit is always
    /// the same bytes.
    pub args: BTreeMap<String, Value>,
}

/// What a settled edit did, in final form.
#[derive(Clone, Debug, PartialEq)]
pub struct Effect {
    /// Where.
    pub at: Path,
    /// What.
    pub op: Op,
}

impl Edit {
    /// An edit without further members.
    pub fn new(at: impl Into<String>, op: &str) -> Self {
        Self { at: at.into(), op: op.to_owned(), args: BTreeMap::new() }
    }

    /// Adds a member.
    #[must_use]
    pub fn with(mut self, name: &str, value: impl Into<Value>) -> Self {
        self.args.insert(name.to_owned(), value.into());
        self
    }

    /// The member `name`, if it is there.
    pub fn arg(&self, name: &str) -> Option<&Value> {
        self.args.get(name)
    }
}

impl Edit {
    /// What it asks for; `None` where that cannot be read, which its refusal will say.
    pub fn read(&self) -> Option<Op> {
        Op::asked(self).ok()
    }

    /// The path that it would change: of a record or element that it makes, that one's own. `None`
    /// where it only asks, and where it cannot be read.
    pub fn changes(&self) -> Option<Path> {
        let path = Path::parse(&self.at).ok()?;
        let op = self.read().filter(|op| !op.is_condition())?;
        // No record has an empty id, so one that is still to get its id is in the way of none that
        // is there.
        Some(op.makes().map_or(path.clone(), |(id, _)| inner(&path, id.unwrap_or_default())))
    }
}

impl Serialize for Edit {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(Some(self.args.len() + 2))?;
        map.serialize_entry("at", &self.at)?;
        map.serialize_entry("op", &self.op)?;
        for (name, value) in &self.args {
            map.serialize_entry(name, value)?;
        }
        map.end()
    }
}

impl<'de> Deserialize<'de> for Edit {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let mut args = BTreeMap::<String, Value>::deserialize(deserializer)?;
        let mut text = |name: &str| match args.remove(name) {
            Some(Value::String(text)) => Ok(text),
            Some(_) => Err(D::Error::custom(format!("\"{name}\" of an edit must be a string"))),
            None => Err(D::Error::custom(format!("an edit needs \"{name}\""))),
        };
        Ok(Self { at: text("at")?, op: text("op")?, args })
    }
}

impl Effect {
    /// An effect at a path.
    pub fn new(at: impl Into<Path>, op: Op) -> Self {
        Self { at: at.into(), op }
    }
}

impl Serialize for Effect {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("at", &self.at)?;
        map.serialize_entry("op", self.op.name())?;
        self.op.serialize_members(&mut map)?;
        map.end()
    }
}

impl<'de> Deserialize<'de> for Effect {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let edit = Edit::deserialize(deserializer)?;
        let at = Path::parse(&edit.at).map_err(|problem| D::Error::custom(problem.detail()))?;
        Ok(Self { at, op: Op::settled(&edit) })
    }
}

/// Who proposes, as the service knows them; never taken from what a client claims.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Actor {
    /// The participant's id.
    pub id: String,
    /// The participant's role, one of the charter's or `service`.
    pub role: String,
    /// The tab or process.
    pub client: Uuid,
}

impl Actor {
    /// The role of the backend itself, which may do all.
    pub const SERVICE: &'static str = "service";

    /// What the session remembers of this client goes by that.
    pub fn key(&self) -> ClientKey {
        ClientKey::of(&self.id, self.client)
    }
}

/// A client as a session remembers it: by its participant and by the id that it gave itself.
///
/// That id stands in every update, so anybody may enter with it. As another participant's it is
/// simply another client.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct ClientKey(Uuid);

impl ClientKey {
    /// Stands for no client: that of the opening state, and of a view of the present.
    pub const NOBODY: Self = Self(Uuid::nil());

    /// The first 128 bits of a SHA-256 of both, so that nobody can choose ids that give somebody
    /// else's key.
    pub fn of(participant: &str, client: Uuid) -> Self {
        let hash =
            Sha256::new().chain_update(client.as_bytes()).chain_update(participant).finalize();
        let mut bytes = [0; 16];
        bytes.copy_from_slice(&hash[..16]);
        Self(uuid::Builder::from_custom_bytes(bytes).into_uuid())
    }

    /// The key as it is stored.
    pub fn id(self) -> Uuid {
        self.0
    }
}

impl From<Uuid> for ClientKey {
    /// A key that was stored.
    fn from(id: Uuid) -> Self {
        Self(id)
    }
}

/// One or more edits that take effect together or not at all.
#[derive(Clone, Debug, PartialEq)]
pub struct Proposal {
    /// 1, 2, 3 … per client; 0 for one that is not sent again, of which nothing is remembered.
    pub n: u64,
    /// The `seq` that the proposer had applied; `None` stands for the present one.
    pub seen: Option<u64>,
    /// The highest own `n` whose outcome was known.
    pub answered: u64,
    /// The changes.
    pub edits: Vec<Edit>,
    /// A name shared by proposals that undo as one step.
    pub gesture: Option<String>,
    /// A word of the proposer on why; kept in the journal.
    pub note: Option<String>,
}

/// A proposal that took its place in the order.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Settled {
    /// Its place: 1, 2, 3 … without a gap.
    pub seq: u64,
    /// The participant.
    pub by: String,
    /// The tab or process.
    pub client: Uuid,
    /// The client's number of the proposal; 0 where it has none.
    pub n: u64,
    /// When, in milliseconds since 1970 UTC.
    pub at: u64,
    /// What it did.
    pub effects: Vec<Effect>,
    /// What became of each edit; left out where all were `applied`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub verdicts: Vec<Verdict>,
    /// The gesture it belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gesture: Option<String>,
    /// The proposer's word on why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

impl Settled {
    /// The client that made it.
    pub fn key(&self) -> ClientKey {
        ClientKey::of(&self.by, self.client)
    }
}

/// What became of a settled edit.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum VerdictKind {
    /// Nothing concurrent was in its way.
    Applied,
    /// It and what it met both count.
    Merged,
    /// It took effect at a place moved by what it met.
    Rebased,
    /// It replaced what it met.
    Overrode,
    /// What it met prevailed; it had no effect.
    Dropped,
}

/// What became of one edit of a settled update, and why.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Verdict {
    /// The index of the edit in its proposal.
    pub edit: usize,
    /// The path of the edit.
    pub at: String,
    /// The outcome.
    pub verdict: VerdictKind,
    /// The updates that it met, by `seq`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub met: Vec<u64>,
    /// One sentence that says why.
    pub because: String,
    /// The value that lost, where one did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lost: Option<Value>,
}
