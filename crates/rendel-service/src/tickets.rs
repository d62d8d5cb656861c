//! Tickets: each lets somebody in once, where no header can be sent.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use rendel_core::{Problem, ProblemKind};
use uuid::Uuid;

use crate::identity::Identity;

/// How long a ticket is good.
pub(crate) const LIFE: Duration = Duration::from_secs(30);
/// Tickets that are open at one time.
const MOST: usize = 10_000;
/// Of one participant.
const MOST_EACH: usize = 16;

/// The tickets that nobody has used yet. They are the process's own: a restart makes them
/// worthless.
#[derive(Debug, Default)]
pub(crate) struct Tickets(Mutex<HashMap<Uuid, Open>>);

#[derive(Debug)]
struct Open {
    session: String,
    who: Identity,
    until: Instant,
}

impl Tickets {
    /// A ticket that lets somebody in once.
    pub(crate) fn issue(&self, session: &str, who: Identity) -> Result<Uuid, Problem> {
        let mut open = self.0.lock();
        let now = Instant::now();
        let is_theirs = |ticket: &&Open| {
            ticket.until > now && ticket.session == session && ticket.who.id == who.id
        };
        if who.until.is_some() && open.values().filter(is_theirs).count() >= MOST_EACH {
            let detail = format!(
                "You have {MOST_EACH} open tickets. Use them, or wait until they have ended."
            );
            return Err(Problem::new(ProblemKind::TooFast, detail)
                .with("limit", "tickets")
                .with("wait_ms", 1_000));
        }
        if open.len() >= MOST {
            open.retain(|_, ticket| ticket.until > Instant::now());
        }
        if open.len() >= MOST {
            let detail =
                format!("{MOST} tickets are open. Use them, or wait until they have ended.");
            return Err(Problem::new(ProblemKind::TooFast, detail)
                .with("limit", "tickets")
                .with("wait_ms", 1_000));
        }
        let ticket = Uuid::from_u128(rand::random());
        open.insert(
            ticket,
            Open { session: session.to_owned(), who, until: Instant::now() + LIFE },
        );
        Ok(ticket)
    }

    /// Who a ticket lets in. It is used up, whatever comes of it.
    pub(crate) fn take(&self, ticket: &str, session: &str) -> Result<Identity, Problem> {
        let taken = Uuid::parse_str(ticket).ok().and_then(|ticket| self.0.lock().remove(&ticket));
        let good = taken.filter(|open| open.until > Instant::now() && open.session == session);
        good.map(|open| open.who).ok_or_else(|| {
            let detail =
                "This ticket is used up, has ended or is for another session. Ask for one with \
                 POST …/tickets.";
            Problem::new(ProblemKind::BadToken, detail)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_ticket_lets_in_once_and_only_where_it_is_for() {
        let who = Identity {
            id: "oda".into(),
            name: "Oda".into(),
            role: "picker".into(),
            ..Identity::service()
        };
        let tickets = Tickets::default();
        let new = || tickets.issue("gate", who.clone()).unwrap().simple().to_string();
        let ticket = new();
        assert_eq!(tickets.take(&ticket, "gate"), Ok(who.clone()));
        let elsewhere = new();
        for (ticket, session) in [
            (&ticket, "gate"),
            (&elsewhere, "slope"),
            (&elsewhere, "gate"),
            (&"x".to_owned(), "gate"),
        ] {
            assert_eq!(tickets.take(ticket, session).unwrap_err().kind(), ProblemKind::BadToken);
        }
        let oda = Identity { until: Some(u64::MAX), ..who.clone() };
        for _ in 0..MOST_EACH {
            tickets.issue("gate", oda.clone()).unwrap();
        }
        assert_eq!(tickets.issue("gate", oda.clone()).unwrap_err().kind(), ProblemKind::TooFast);
        tickets.issue("slope", oda).unwrap();
        (0..MOST - MOST_EACH - 1).for_each(|_| drop(new()));
        assert_eq!(tickets.issue("gate", who).unwrap_err().kind(), ProblemKind::TooFast);
    }
}
