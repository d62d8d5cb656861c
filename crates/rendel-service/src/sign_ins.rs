//! Who is signed in to the console.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use rendel_core::{Problem, ProblemKind};

/// A sign-in of the console ends when it was not used for so long.
const UNUSED: Duration = Duration::from_secs(30 * 60);
/// And in any case after so long.
const LONGEST: Duration = Duration::from_secs(12 * 3_600);
/// Sign-ins at one time.
const MOST: usize = 1_000;

/// Who is signed in to the console: by a cookie that only the browser sees, and a second secret
/// that only the page sees.
#[derive(Debug, Default)]
pub(crate) struct SignIns(Mutex<HashMap<String, SignIn>>);

#[derive(Clone, Debug)]
pub(crate) struct SignIn {
    /// What a page must say with every call that changes something.
    pub(crate) secret: String,
    pub(crate) until: Instant,
    /// When it ends however often it is used.
    latest: Instant,
}

impl SignIns {
    /// A new sign-in: its id, and the page's secret.
    pub(crate) fn take(&self) -> Result<(String, String), Problem> {
        let mut all = self.0.lock();
        all.retain(|_, one| one.until > Instant::now());
        if all.len() >= MOST {
            let detail =
                format!("{MOST} are signed in to the console. Wait until one of them has ended.");
            return Err(Problem::new(ProblemKind::Crowded, detail).with("limit", "console"));
        }
        let made = || hex::encode(rand::random::<[u8; 32]>());
        let (id, secret) = (made(), made());
        let now = Instant::now();
        let (until, latest) = (now + UNUSED, now + LONGEST);
        all.insert(id.clone(), SignIn { secret: secret.clone(), until, latest });
        Ok((id, secret))
    }

    /// The sign-in of that id, which is used and so goes on.
    pub(crate) fn find(&self, id: &str) -> Option<SignIn> {
        let mut all = self.0.lock();
        let one = all.get_mut(id).filter(|one| one.until > Instant::now())?;
        one.until = (Instant::now() + UNUSED).min(one.latest);
        Some(one.clone())
    }

    pub(crate) fn give_up(&self, id: &str) {
        self.0.lock().remove(id);
    }
}
