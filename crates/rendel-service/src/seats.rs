//! Who is signed in to the console.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use rendel_core::{Problem, ProblemKind};

/// A sign-in of the console ends when it was not used for so long.
const SEAT_LIFE: Duration = Duration::from_secs(30 * 60);
/// And in any case after so long.
const LONGEST: Duration = Duration::from_secs(12 * 3_600);
/// Sign-ins at one time.
const SEATS: usize = 1_000;

/// Who is signed in to the console: by a cookie that only the browser sees, and a second secret
/// that only the page sees.
#[derive(Debug, Default)]
pub(crate) struct Seats(Mutex<HashMap<String, Seat>>);

#[derive(Clone, Debug)]
pub(crate) struct Seat {
    /// What a page must say with every call that changes something.
    pub(crate) secret: String,
    pub(crate) until: Instant,
    /// When it ends however often it is used.
    latest: Instant,
}

impl Seats {
    /// A new sign-in: its id, and the page's secret.
    pub(crate) fn take(&self) -> Result<(String, String), Problem> {
        let mut seats = self.0.lock();
        seats.retain(|_, seat| seat.until > Instant::now());
        if seats.len() >= SEATS {
            let detail =
                format!("{SEATS} are signed in to the console. Wait until one of them has ended.");
            return Err(Problem::new(ProblemKind::Crowded, detail).with("limit", "console"));
        }
        let made = || hex::encode(rand::random::<[u8; 32]>());
        let (id, secret) = (made(), made());
        let now = Instant::now();
        let (until, latest) = (now + SEAT_LIFE, now + LONGEST);
        seats.insert(id.clone(), Seat { secret: secret.clone(), until, latest });
        Ok((id, secret))
    }

    /// The sign-in of that id, which is used and so goes on.
    pub(crate) fn find(&self, id: &str) -> Option<Seat> {
        let mut seats = self.0.lock();
        let seat = seats.get_mut(id).filter(|seat| seat.until > Instant::now())?;
        seat.until = (Instant::now() + SEAT_LIFE).min(seat.latest);
        Some(seat.clone())
    }

    pub(crate) fn give_up(&self, id: &str) {
        self.0.lock().remove(id);
    }
}
