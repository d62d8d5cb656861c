//! Tokens that are not good any more.

use std::collections::BTreeSet;

use parking_lot::RwLock;
use rendel_core::{Problem, ProblemKind};
use rendel_store::Revocation;

use crate::identity::Identity;

/// The tokens that are not good any more.
#[derive(Debug, Default)]
pub(crate) struct Revoked(RwLock<Known>);

#[derive(Debug, Default)]
struct Known {
    last: i64,
    all: Vec<Revocation>,
}

impl Revoked {
    /// The last that was taken in.
    pub(crate) fn last(&self) -> i64 {
        self.0.read().last
    }

    /// Takes revocations in; gives the sessions that they are about.
    pub(crate) fn take(&self, revocations: Vec<Revocation>) -> BTreeSet<String> {
        let mut known = self.0.write();
        let new: Vec<_> = revocations
            .into_iter()
            .filter(|one| known.all.iter().all(|old| old.ord != one.ord))
            .collect();
        let sessions = new.iter().map(|one| one.session.clone()).collect();
        known.last = new.iter().map(|one| one.ord).fold(known.last, i64::max);
        known.all.extend(new);
        sessions
    }

    /// Whether a token was revoked, alone or with all of its participant.
    pub(crate) fn check(&self, session: &str, who: &Identity) -> Result<(), Problem> {
        let known = self.0.read();
        let is_meant = |one: &Revocation| {
            let by_id = one.jti.is_some() && one.jti == who.jti;
            let by_participant =
                one.sub.as_ref() == Some(&who.id) && who.issued <= one.issued_until;
            one.session == session && who.until.is_some() && (by_id || by_participant)
        };
        match known.all.iter().any(is_meant) {
            true => Err(Problem::new(
                ProblemKind::BadToken,
                "This token was revoked. Ask the backend for another.",
            )),
            false => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_token_is_revoked_by_its_id_or_with_all_that_its_participant_had_until_then() {
        let revoked = Revoked::default();
        let revocation = |ord, sub: Option<&str>, jti: Option<&str>| Revocation {
            ord,
            session: "gate".into(),
            sub: sub.map(str::to_owned),
            jti: jti.map(str::to_owned),
            issued_until: 100.5,
        };
        let sessions =
            revoked.take(vec![revocation(1, Some("oda"), None), revocation(2, None, Some("t7"))]);
        assert_eq!(sessions.len(), 1);
        assert!(
            revoked.take(vec![revocation(2, None, Some("t7"))]).is_empty(),
            "it is taken in once"
        );
        let who = |id: &str, jti: &str, issued: f64| Identity {
            id: id.into(),
            name: id.into(),
            role: "picker".into(),
            until: Some(1),
            jti: Some(jti.into()),
            issued,
            claims: std::collections::BTreeMap::new(),
        };
        let is_good = |session: &str, who: &Identity| revoked.check(session, who).is_ok();
        assert!(
            !is_good("gate", &who("oda", "t1", 100.5)) && is_good("gate", &who("oda", "t2", 100.6))
        );
        assert!(
            !is_good("gate", &who("bram", "t7", 200.0)) && is_good("gate", &who("bram", "t8", 1.0))
        );
        assert!(is_good("slope", &who("oda", "t1", 1.0)));
    }
}
