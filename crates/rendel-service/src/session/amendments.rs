//! What the backend says of participants, over what their tokens say, on whichever way they come.

use std::collections::BTreeMap;
use std::sync::Arc;

use parking_lot::RwLock;
use rendel_store::Amendment;

use crate::identity::Identity;

/// What stands over the tokens of each participant. The session and all calls look at the same.
#[derive(Debug, Default)]
pub(crate) struct Amendments(RwLock<BTreeMap<String, Amendment>>);

impl Amendments {
    pub(super) fn of(stored: BTreeMap<String, Amendment>) -> Self {
        Self(RwLock::new(stored))
    }

    pub(super) fn put(&self, sub: &str, amendment: Amendment) {
        let mut all = self.0.write();
        match amendment.is_empty() {
            true => drop(all.remove(sub)),
            false => drop(all.insert(sub.to_owned(), amendment)),
        }
    }

    /// What stands over the tokens of a participant.
    pub(crate) fn of_participant(&self, sub: &str) -> Amendment {
        self.0.read().get(sub).cloned().unwrap_or_default()
    }

    /// Who somebody is, whose token says `told`, whatever stood over it before. Nobody amends the
    /// backend itself.
    pub(crate) fn over(&self, told: &Identity) -> Identity {
        let told = told.as_token.as_deref().unwrap_or(told);
        let mut who = told.clone();
        let amendment = self.of_participant(&who.id);
        if who.until.is_none() || amendment.is_empty() {
            return who;
        }
        let Amendment { role, name, claims } = amendment;
        who.as_token = Some(Arc::new(told.clone()));
        who.role = role.unwrap_or(who.role);
        who.name = name.unwrap_or(who.name);
        who.claims = claims.unwrap_or(who.claims);
        who
    }
}
