//! Which update last changed something.

use serde::{Deserialize, Serialize};

use crate::actor::ClientKey;

/// Which update last changed something: its `seq` and the client that made it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stamp {
    /// The update's place in the order; 0 for the opening state.
    pub seq: u64,
    /// The client that made it.
    pub client: ClientKey,
}

impl Stamp {
    /// The stamp of what was there from the beginning.
    pub const OPENING: Self = Self { seq: 0, client: ClientKey::NOBODY };
}
