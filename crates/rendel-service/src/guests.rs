//! Guests: participants without an account, under made-up names.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use rendel_core::{Problem, ProblemKind};

use crate::addresses::network;
use crate::clock::now_ms;
use crate::identity::Identity;
use crate::token::{Claims, KeyRing};

/// The beginning of a guest's id; who has such an id counts as a guest.
const HEAD: &str = "guest-";
/// How long a guest may come back as the same guest.
const SECONDS: u64 = 24 * 3_600;

const HOW: [&str; 16] = [
    "Amber", "Brisk", "Calm", "Crisp", "Dewy", "Early", "Fair", "Golden", "Hazy", "Late", "Mellow",
    "Quiet", "Russet", "Sunny", "Tart", "Windy",
];
const WHAT: [&str; 16] = [
    "Basket", "Blossom", "Bough", "Cask", "Crate", "Hedge", "Ladder", "Leaf", "Meadow", "Orchard",
    "Pear", "Pippin", "Press", "Quince", "Twig", "Windfall",
];

pub(crate) fn is_guest(id: &str) -> bool {
    id.starts_with(HEAD)
}

/// A guest counts for so long after they were last here.
const AWAY: Duration = Duration::from_secs(600);

/// The guests of each address: those who are connected, and those who were here a while ago, since
/// they may come back and their seats wait for them.
#[derive(Debug)]
pub(crate) struct Guests {
    most: usize,
    of: Arc<Mutex<HashMap<String, HashMap<String, Here>>>>,
}

#[derive(Debug)]
struct Here {
    connections: usize,
    since: Instant,
}

impl Here {
    fn counts(&self) -> bool {
        self.connections > 0 || self.since.elapsed() < AWAY
    }
}

/// A guest who is connected.
#[derive(Debug)]
pub(crate) struct GuestHere {
    network: String,
    id: String,
    of: Arc<Mutex<HashMap<String, HashMap<String, Here>>>>,
}

impl Guests {
    pub(crate) fn new(most: usize) -> Self {
        Self { most, of: Arc::default() }
    }

    /// Forgets the addresses whose guests do not count any more.
    pub(crate) fn tidy(&self) {
        self.of.lock().retain(|_, guests| guests.values().any(Here::counts));
    }

    /// Counts a guest who calls: `crowded` beyond the bound.
    pub(crate) fn touch(&self, address: &str, id: &str) -> Result<(), Problem> {
        self.count(&network(address), id, 0)
    }

    /// Counts a guest who is connected until what is given is dropped: `crowded` beyond the bound.
    pub(crate) fn admit(&self, address: &str, id: &str) -> Result<GuestHere, Problem> {
        let network = network(address);
        self.count(&network, id, 1)?;
        Ok(GuestHere { network, id: id.to_owned(), of: self.of.clone() })
    }

    fn count(&self, network: &str, id: &str, connections: usize) -> Result<(), Problem> {
        let mut all = self.of.lock();
        let guests = all.entry(network.to_owned()).or_default();
        if !guests.contains_key(id) {
            guests.retain(|_, here| here.counts());
            if guests.len() >= self.most {
                let most = self.most;
                let detail = format!(
                    "{most} guests from {network} are here or were a moment ago, the most that \
                     guests_per_address lets one address have."
                );
                return Err(Problem::new(ProblemKind::Crowded, detail)
                    .with("limit", "guests_per_address")
                    .with("wait_ms", 60_000));
            }
        }
        let here = guests
            .entry(id.to_owned())
            .or_insert_with(|| Here { connections: 0, since: Instant::now() });
        here.connections += connections;
        here.since = Instant::now();
        Ok(())
    }
}

impl Drop for GuestHere {
    fn drop(&mut self) {
        let mut all = self.of.lock();
        if let Some(here) = all.get_mut(&self.network).and_then(|guests| guests.get_mut(&self.id)) {
            here.connections = here.connections.saturating_sub(1);
            here.since = Instant::now();
        }
    }
}

/// A name that can be read and said, made from a number.
pub(crate) fn made_up_name(number: u64) -> String {
    let pick = |words: &[&'static str; 16], shift: u32| {
        words[usize::try_from(number >> shift & 15).unwrap_or(0)]
    };
    format!("{} {}", pick(&HOW, 0), pick(&WHAT, 4))
}

/// A new guest, and the token to come back with.
pub(crate) fn guest(
    keys: &KeyRing,
    session: &str,
    role: &str,
) -> Result<(Identity, String), Problem> {
    let number: u64 = rand::random();
    let (id, name) = (format!("{HEAD}{number:016x}"), made_up_name(number));
    let until = now_ms() / 1000 + SECONDS;
    let claims = Claims::new(session, &id, Some(&name), role, until);
    let token = keys.sign(&claims)?;
    Ok((Identity::of_claims(claims, None), token))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn guests_count_while_they_are_here_and_a_while_after() {
        let guests = Guests::new(2);
        let here = guests.admit("10.0.0.1", "guest-1").unwrap();
        guests.touch("10.0.0.1", "guest-2").unwrap();
        guests.touch("10.0.0.1", "guest-1").expect("a guest who is known counts once");
        assert_eq!(guests.touch("10.0.0.1", "guest-3").unwrap_err().kind(), ProblemKind::Crowded);
        drop(here);
        assert!(guests.admit("10.0.0.1", "guest-3").is_err(), "their seat waits for them");
        guests.admit("10.0.0.2", "guest-3").unwrap();
    }

    #[test]
    fn names_can_be_read_and_differ() {
        let names: std::collections::BTreeSet<_> = (0..256).map(made_up_name).collect();
        assert_eq!(names.len(), 256);
        assert!(names.contains("Amber Basket") && names.contains("Windy Windfall"));
    }
}
