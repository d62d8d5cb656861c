//! Who acts.

use std::collections::BTreeMap;
use std::sync::LazyLock;

use serde::{Deserialize, Serialize};
use serde_json::Value;
use sha2::{Digest as _, Sha256};
use uuid::Uuid;

/// Who proposes, as the service knows them; never taken from what a client claims.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "StoredActor", into = "StoredActor")]
pub struct Actor {
    /// The participant's id.
    pub id: String,
    /// The participant's role, one of the charter's or `service`.
    pub role: String,
    /// The tab or process.
    pub client: Uuid,
    /// What the participant's token says beside that.
    pub claims: BTreeMap<String, Value>,
    /// Made once, since every proposal asks for it.
    key: ClientKey,
}

impl Actor {
    /// The role of the backend itself, which may do all.
    pub const SERVICE: &'static str = "service";

    /// The session itself, which acts by the charter's word.
    pub fn session() -> Self {
        SESSION.clone()
    }

    /// Somebody with no more claims than these.
    pub fn new(id: impl Into<String>, role: impl Into<String>, client: Uuid) -> Self {
        let id = id.into();
        let key = ClientKey::of(&id, client);
        Self { id, role: role.into(), client, claims: BTreeMap::new(), key }
    }

    /// The same with these claims.
    #[must_use]
    pub fn with_claims(self, claims: BTreeMap<String, Value>) -> Self {
        Self { claims, ..self }
    }

    /// What the session remembers of this client goes by that.
    pub fn key(&self) -> ClientKey {
        self.key
    }
}

/// An actor without what follows from the rest.
#[derive(Serialize, Deserialize)]
struct StoredActor {
    id: String,
    role: String,
    client: Uuid,
    claims: BTreeMap<String, Value>,
}

impl From<StoredActor> for Actor {
    fn from(StoredActor { id, role, client, claims }: StoredActor) -> Self {
        Self::new(id, role, client).with_claims(claims)
    }
}

impl From<Actor> for StoredActor {
    fn from(Actor { id, role, client, claims, .. }: Actor) -> Self {
        Self { id, role, client, claims }
    }
}

static SESSION: LazyLock<Actor> =
    LazyLock::new(|| Actor::new(Actor::SERVICE, Actor::SERVICE, Uuid::from_u128(0x5e55_1011)));

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

    /// Whether it is the session itself.
    pub(crate) fn is_session(self) -> bool {
        self == SESSION.key
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
