//! What a world is made from.

use std::collections::BTreeSet;
use std::fmt;
use std::str::FromStr;

/// Something that goes wrong in a world.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Fault {
    /// Connections are cut.
    Cuts,
    /// Some read slowly, and lose their backlog.
    SlowReaders,
    /// Appends take up to seconds.
    SlowJournal,
    /// Appends fail, or are written and their answer is lost.
    LostAnswers,
    /// The process is killed between two steps.
    Crashes,
    /// Another process takes the session over.
    Rivals,
    /// Participants come back in another role.
    Roles,
    /// The backend freezes, thaws and resets.
    Backend,
    /// The backend gives those who are here another role.
    Amends,
}

impl Fault {
    /// All of them.
    pub const ALL: [Self; 9] = [
        Self::Cuts,
        Self::SlowReaders,
        Self::SlowJournal,
        Self::LostAnswers,
        Self::Crashes,
        Self::Rivals,
        Self::Roles,
        Self::Backend,
        Self::Amends,
    ];

    fn letter(self) -> char {
        match self {
            Self::Cuts => 'c',
            Self::SlowReaders => 's',
            Self::SlowJournal => 'j',
            Self::LostAnswers => 'l',
            Self::Crashes => 'k',
            Self::Rivals => 'r',
            Self::Roles => 'o',
            Self::Backend => 'b',
            Self::Amends => 'a',
        }
    }
}

/// What a world is made from. The same plan makes the same world, to the byte.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Plan {
    /// The seed of all chance.
    pub seed: u64,
    /// Those who take part.
    pub participants: usize,
    /// What they do in all, before everything comes to rest.
    pub steps: usize,
    /// What goes wrong meanwhile.
    pub faults: BTreeSet<Fault>,
}

impl Plan {
    /// One with everything that can go wrong.
    pub fn new(seed: u64, participants: usize, steps: usize) -> Self {
        Self { seed, participants, steps, faults: Fault::ALL.into() }
    }

    /// Smaller plans, the smallest first.
    fn smaller(&self) -> Vec<Self> {
        let mut smaller = Vec::new();
        for steps in [self.steps / 4, self.steps / 2, self.steps * 3 / 4, self.steps - 1] {
            if (1..self.steps).contains(&steps) {
                smaller.push(Self { steps, ..self.clone() });
            }
        }
        if self.participants > 1 {
            smaller.push(Self { participants: self.participants - 1, ..self.clone() });
        }
        for fault in &self.faults {
            let mut plan = self.clone();
            plan.faults.remove(fault);
            smaller.push(plan);
        }
        smaller
    }

    /// The smallest plan that is found to fail as well, in so many tries.
    #[must_use]
    pub fn shrunk(&self, tries: usize, fails: impl Fn(&Self) -> bool) -> Self {
        let mut plan = self.clone();
        let mut left = tries;
        'again: loop {
            for smaller in plan.smaller() {
                if left == 0 {
                    return plan;
                }
                left -= 1;
                if fails(&smaller) {
                    plan = smaller;
                    continue 'again;
                }
            }
            return plan;
        }
    }
}

impl fmt::Display for Plan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let faults: String = self.faults.iter().map(|fault| fault.letter()).collect();
        write!(f, "{}:{}:{}:{faults}", self.seed, self.participants, self.steps)
    }
}

impl FromStr for Plan {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || format!("a plan is SEED:PARTICIPANTS:STEPS:FAULTS, and not {text:?}");
        let parts: Vec<&str> = text.split(':').collect();
        let [seed, participants, steps, faults] = parts[..] else { return Err(wrong()) };
        let fault = |letter| {
            Fault::ALL.into_iter().find(|fault| fault.letter() == letter).ok_or_else(wrong)
        };
        Ok(Self {
            seed: seed.parse().map_err(|_| wrong())?,
            participants: participants.parse().map_err(|_| wrong())?,
            steps: steps.parse().map_err(|_| wrong())?,
            faults: faults.chars().map(fault).collect::<Result<_, _>>()?,
        })
    }
}
