//! Tokens that are not good any more.

use std::collections::{BTreeSet, HashMap};

use chrono::{DateTime, Utc};
use parking_lot::RwLock;
use rendel_core::{Problem, ProblemKind};
use rendel_store::Revocation;

use crate::identity::Identity;

/// The tokens that are not good any more, by what they are looked up by. What all of them have
/// outlived is forgotten.
#[derive(Debug, Default)]
pub(crate) struct Revoked(RwLock<Known>);

#[derive(Debug, Default)]
struct Known {
    /// The last that was read from the store. Others commit in the order of their numbers, so none
    /// before it is missing.
    last: i64,
    /// How many it had when it was last tidied.
    tidied: usize,
    all: HashMap<Key, Until>,
}

#[derive(Debug, PartialEq, Eq, Hash)]
enum Key {
    Session(String),
    Participant(String, String),
    Token(String, String),
}

#[derive(Clone, Copy, Debug)]
struct Until {
    issued: f64,
    kept: DateTime<Utc>,
}

impl Revoked {
    /// The last that was read.
    pub(crate) fn last(&self) -> i64 {
        self.0.read().last
    }

    /// Takes in what was read after [`Self::last`]; gives the sessions that it is about.
    pub(crate) fn take(&self, revocations: Vec<Revocation>) -> BTreeSet<String> {
        let mut known = self.0.write();
        known.last = revocations.iter().map(|one| one.ord).fold(known.last, i64::max);
        revocations.into_iter().map(|one| known.put(one)).collect()
    }

    /// Takes in one that was made here; what others made before it may not be read yet.
    pub(crate) fn put(&self, revocation: Revocation) {
        self.0.write().put(revocation);
    }

    /// Whether a token was revoked: alone, with all of its participant or with all of its session.
    pub(crate) fn check(&self, session: &str, who: &Identity) -> Result<(), Problem> {
        if who.until.is_none() {
            return Ok(());
        }
        let known = self.0.read();
        if known.all.is_empty() {
            return Ok(());
        }
        let is_known =
            |key: &Key| known.all.get(key).is_some_and(|until| who.issued <= until.issued);
        let session = session.to_owned();
        let by_token = who.jti.as_ref().map(|jti| Key::Token(session.clone(), jti.clone()));
        let is_revoked = by_token.is_some_and(|key| known.all.contains_key(&key))
            || is_known(&Key::Participant(session.clone(), who.id.clone()))
            || is_known(&Key::Session(session));
        match is_revoked {
            true => Err(Problem::new(
                ProblemKind::BadToken,
                "This token was revoked. Ask the backend for another.",
            )),
            false => Ok(()),
        }
    }
}

impl Known {
    fn put(&mut self, one: Revocation) -> String {
        if self.all.len() >= 2 * self.tidied.max(512) {
            let now = Utc::now();
            self.all.retain(|_, until| until.kept > now);
            self.tidied = self.all.len();
        }
        let Revocation { session, sub, jti, issued_until: issued, kept_until: kept, .. } = one;
        let about = session.clone();
        let key = match (sub, jti) {
            (_, Some(jti)) => Key::Token(session, jti),
            (Some(sub), None) => Key::Participant(session, sub),
            (None, None) => Key::Session(session),
        };
        let until = self.all.entry(key).or_insert(Until { issued, kept });
        until.issued = until.issued.max(issued);
        until.kept = until.kept.max(kept);
        about
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn revocation(ord: i64, sub: Option<&str>, jti: Option<&str>) -> Revocation {
        Revocation {
            ord,
            session: "gate".into(),
            sub: sub.map(str::to_owned),
            jti: jti.map(str::to_owned),
            issued_until: 100.5,
            kept_until: Utc::now() + chrono::TimeDelta::days(1),
        }
    }

    fn who(id: &str, jti: &str, issued: f64) -> Identity {
        Identity {
            until: Some(1),
            jti: Some(jti.into()),
            issued,
            id: id.into(),
            ..Identity::service()
        }
    }

    #[test]
    fn a_token_is_revoked_by_its_id_or_with_its_participant_or_with_its_session() {
        let revoked = Revoked::default();
        let sessions =
            revoked.take(vec![revocation(1, Some("oda"), None), revocation(2, None, Some("t7"))]);
        assert_eq!(sessions.len(), 1);
        let is_good = |session: &str, who: &Identity| revoked.check(session, who).is_ok();
        assert!(!is_good("gate", &who("oda", "t1", 100.5)));
        assert!(is_good("gate", &who("oda", "t2", 100.6)));
        assert!(!is_good("gate", &who("bram", "t7", 200.0)));
        assert!(is_good("gate", &who("bram", "t8", 1.0)));
        assert!(is_good("slope", &who("oda", "t1", 1.0)));
        revoked.put(revocation(9, None, None));
        assert!(!is_good("gate", &who("bram", "t8", 1.0)));
        assert!(is_good("gate", &who("bram", "t8", 101.0)));
        assert_eq!(revoked.last(), 2, "what others made before it is still to be read");
    }

    #[test]
    fn what_all_tokens_have_outlived_is_forgotten() {
        let revoked = Revoked::default();
        for ord in 0..5_000 {
            let old = Utc::now() - chrono::TimeDelta::days(1);
            let one = revocation(ord, Some(&format!("p{ord}")), None);
            revoked.put(Revocation { kept_until: old, ..one });
        }
        assert!(revoked.0.read().all.len() <= 1_024);
    }
}
