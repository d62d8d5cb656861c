//! The participants that see a place which is hidden from the rest: the keys by which they do.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use serde_json::Value;
use sha2::{Digest as _, Sha256};

use crate::actor::Actor;
use crate::canonical::canonical_bytes;

/// What of a participant a key is compared with.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum KeyPart {
    Id,
    Claim(String),
}

/// An id, or a claim with its value, by which participants see a place: every participant with it
/// sees the place.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct SightKey(KeyPart, String);

impl SightKey {
    /// An id has to be a string. A claim is compared as canonical JSON, so the number 7 and the string
    /// "7" differ. `null`, lists and objects are no keys.
    pub(crate) fn new(part: KeyPart, value: &Value) -> Option<Self> {
        let text = match (&part, value) {
            (KeyPart::Id, value) => value.as_str()?.to_owned(),
            (KeyPart::Claim(_), value) => claim_text(value)?,
        };
        Some(Self(part, text))
    }
}

/// The participants that see a place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Grantees {
    /// All whom it is hidden from unless.
    All,
    /// The participants with one of these keys.
    Some(BTreeSet<SightKey>),
}

/// A participant as far as visibility depends on them, apart from their role.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Viewer {
    /// The participant's id.
    pub id: String,
    /// The other claims of their token.
    claims: BTreeMap<String, String>,
}

impl Viewer {
    /// Somebody with these claims.
    pub fn new(id: impl Into<String>, claims: &BTreeMap<String, Value>) -> Self {
        let claims =
            claims.iter().filter_map(|(name, value)| Some((name.clone(), claim_text(value)?)));
        Self { id: id.into(), claims: claims.collect() }
    }

    /// That of an actor.
    pub fn of(actor: &Actor) -> Self {
        Self::new(actor.id.clone(), &actor.claims)
    }

    /// A number that another with other keys hardly has.
    pub fn mark(&self) -> u32 {
        let mut hash = Sha256::new();
        for SightKey(part, value) in self.keys() {
            hash.update(serde_json::to_vec(&(part, value)).unwrap_or_default());
        }
        let bytes = hash.finalize();
        u32::from_be_bytes([bytes[0], bytes[1], bytes[2], bytes[3]])
    }

    /// The keys that they have.
    pub fn keys(&self) -> impl Iterator<Item = SightKey> {
        let claims = self.claims.iter();
        let claims =
            claims.map(|(name, value)| SightKey(KeyPart::Claim(name.clone()), value.clone()));
        std::iter::once(SightKey(KeyPart::Id, self.id.clone())).chain(claims)
    }
}

/// Who reads: their role, and what else counts for what they see.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Reader {
    /// The role.
    pub role: String,
    /// The participant.
    pub viewer: Viewer,
}

impl Reader {
    /// That of an actor.
    pub fn of(actor: &Actor) -> Self {
        Self { role: actor.role.clone(), viewer: Viewer::of(actor) }
    }

    /// The backend itself, which sees everything.
    pub fn service() -> Self {
        Self::of(&Actor::session())
    }
}

impl Grantees {
    pub(crate) const NOBODY: Self = Self::Some(BTreeSet::new());

    /// Whether a viewer is among them.
    pub(crate) fn has(&self, viewer: &Viewer) -> bool {
        match self {
            Self::All => true,
            Self::Some(keys) => viewer.keys().any(|key| keys.contains(&key)),
        }
    }

    /// Whether they include every participant that is among both `from` and `to`.
    pub(crate) fn include_common(&self, from: &Self, to: &Self) -> bool {
        match (self, from, to) {
            (Self::All, ..) => true,
            (Self::Some(_), Self::All, Self::All) => false,
            (Self::Some(own), Self::Some(keys), Self::All)
            | (Self::Some(own), Self::All, Self::Some(keys)) => keys.is_subset(own),
            (Self::Some(own), Self::Some(from), Self::Some(to)) => {
                from.intersection(to).all(|key| own.contains(key))
            }
        }
    }

    /// The keys; none if all participants see the place.
    pub(crate) fn keys(&self) -> impl Iterator<Item = &SightKey> {
        let keys = match self {
            Self::All => None,
            Self::Some(keys) => Some(keys),
        };
        keys.into_iter().flatten()
    }
}

fn claim_text(value: &Value) -> Option<String> {
    match value {
        Value::String(_) | Value::Number(_) | Value::Bool(_) => {
            String::from_utf8(canonical_bytes(value)).ok()
        }
        Value::Null | Value::Array(_) | Value::Object(_) => None,
    }
}
