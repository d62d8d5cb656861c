//! Edits: what is asked for, as it travels on the wire.

use std::collections::BTreeMap;

use serde::de::Error as _;
use serde::ser::SerializeMap as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::Value;

use crate::canonical::weight;

/// What counts as one proposal among those that a participant may make in a time.
const COUNTED_EDITS: usize = 16;
const COUNTED_BYTES: usize = 4_096;

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

    /// What a proposal of these edits counts among those that a participant may make in a time: one
    /// for each 16 edits and for each 4 KiB of them that it has begun. Cost O(size).
    pub fn cost(edits: &[Self]) -> u32 {
        let bytes = |edit: &Self| {
            let args = edit.args.iter().map(|(name, value)| name.len() + weight(value) + 4);
            edit.at.len() + edit.op.len() + 16 + args.sum::<usize>()
        };
        let bytes: usize = edits.iter().map(bytes).sum();
        let cost = edits.len().div_ceil(COUNTED_EDITS).max(bytes.div_ceil(COUNTED_BYTES));
        u32::try_from(cost).unwrap_or(u32::MAX).max(1)
    }

    /// The member `name`, if it is there.
    pub fn arg(&self, name: &str) -> Option<&Value> {
        self.args.get(name)
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
