//! Who is not let in any more, and who is signed in to the console.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};

use parking_lot::{Mutex, RwLock};
use rendel_core::{Problem, ProblemKind};
use rendel_store::Revocation;

use crate::app::App;
use crate::identity::Identity;

/// How often the service looks for what other processes revoked and which keys they added or
/// retired.
const LOOK: Duration = Duration::from_millis(400);
/// After so many looks, about an hour, what is older than it need be is forgotten.
const TIDY: u64 = 9_000;
/// A sign-in of the console ends when it was not used for so long.
const SEAT_LIFE: Duration = Duration::from_secs(30 * 60);
/// Sign-ins at one time.
const SEATS: usize = 1_000;

/// The tokens that are not good any more.
#[derive(Debug, Default)]
pub(crate) struct Revoked(RwLock<Known>);

#[derive(Debug, Default)]
struct Known {
    last: i64,
    all: Vec<Revocation>,
}

impl Revoked {
    /// Takes revocations in; gives the sessions that they are about.
    fn take(&self, revocations: Vec<Revocation>) -> BTreeSet<String> {
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

impl App {
    /// Looks for what other processes revoked, added or retired, until the service stops.
    pub(crate) async fn watch_access(self: Arc<Self>) {
        let mut tick = tokio::time::interval(LOOK);
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut looks = 0u64;
        while !self.is_stopping() {
            tick.tick().await;
            if looks.is_multiple_of(TIDY) {
                let kept = chrono::TimeDelta::days(i64::from(self.config.audit_days));
                let _ = self.store.forget_audit(chrono::Utc::now() - kept).await;
            }
            looks += 1;
            // Without the database nothing new can have been revoked.
            let _ = self.look_at_access().await;
        }
    }

    pub(crate) async fn look_at_access(&self) -> Result<(), rendel_store::StoreError> {
        let last = self.revoked.0.read().last;
        let revocations = self.store.revocations(last).await?;
        self.keys.load(&self.store.keys().await?);
        self.take_revocations(revocations).await;
        Ok(())
    }

    /// Takes revocations in, and lets go of who is connected by what was revoked.
    pub(crate) async fn take_revocations(&self, revocations: Vec<Revocation>) {
        for session in self.revoked.take(revocations) {
            if let Some(session) = self.session_in_memory(&session) {
                // One that has ended has nobody to let go of.
                let _ = session.recheck().await;
            }
        }
    }
}

/// Who is signed in to the console: by a cookie that only the browser sees, and a second secret
/// that only the page sees.
#[derive(Debug, Default)]
pub(crate) struct Seats(Mutex<HashMap<String, Seat>>);

#[derive(Clone, Debug)]
pub(crate) struct Seat {
    /// What a page must say with every call that changes something.
    pub(crate) secret: String,
    pub(crate) until: Instant,
}

impl Seats {
    /// A new sign-in: its id, and the page's secret.
    pub(crate) fn take(&self) -> Result<(String, String), Problem> {
        let mut seats = self.0.lock();
        seats.retain(|_, seat| seat.until > Instant::now());
        if seats.len() >= SEATS {
            let detail =
                format!("{SEATS} are signed in to the console. Wait until one of them has ended.");
            return Err(Problem::new(ProblemKind::Full, detail).with("limit", "console"));
        }
        let made = || hex::encode(rand::random::<[u8; 32]>());
        let (id, secret) = (made(), made());
        seats
            .insert(id.clone(), Seat { secret: secret.clone(), until: Instant::now() + SEAT_LIFE });
        Ok((id, secret))
    }

    /// The sign-in of that id, which is used and so goes on.
    pub(crate) fn find(&self, id: &str) -> Option<Seat> {
        let mut seats = self.0.lock();
        let seat = seats.get_mut(id).filter(|seat| seat.until > Instant::now())?;
        seat.until = Instant::now() + SEAT_LIFE;
        Some(seat.clone())
    }

    pub(crate) fn give_up(&self, id: &str) {
        self.0.lock().remove(id);
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
