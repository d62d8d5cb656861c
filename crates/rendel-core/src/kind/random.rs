//! `random`: chance that nobody can bend. A draw is made by the service from a key that was fixed
//! before: the SHA-256 of the key of each draw stands in the journal before it is made, and the key
//! is opened with a roll, and later with a shuffle, so that anybody can make the draw again.
//!
//! | edit | what it does |
//! |---|---|
//! | `roll` | dice: `count` of so many `sides` |
//! | `shuffle` | deals the values of a `field` anew among the records of a map that the charter names |
//! | `open` | tells the key of a shuffle, by who has the power `open-draws` |
//! | `commit` | the hash of what a seat adds to the next draw, where the charter has `entropy` |
//! | `reveal` | what it committed to |
//! | `waive` | takes back what was committed and not revealed; needs the power `open-draws` |
//!
//! A key is HKDF-SHA256 (RFC 5869) of the session's secret, with the field's path and the number of
//! the draw as info. Its stream is HMAC-SHA256 of the key over 0, 1, 2 … as 32 bits, read as numbers
//! of 32 bits, all big-endian. A number below n is one of them modulo n, of those only below the
//! greatest multiple of n, so that each is as likely. A shuffle is that of Durstenfeld (1964), from
//! the last place down. Cost O(dice), O(records).
//!
//! What seats add is 32 bytes each. The key of the stream is then HMAC-SHA256 of the key over them:
//! for each seat in the order of their names the name, a zero byte and the 32 bytes. Nobody knows
//! what others add when they commit, nor the key, so whoever adds anything knows that no other could
//! have chosen the draw.

use std::collections::BTreeMap;

use hkdf::Hkdf;
use hmac::{Hmac, KeyInit as _, Mac as _};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use sha2::{Digest as _, Sha256};
use uuid::Uuid;

use super::ruled::{self, Ruled};
use super::{KindWords, Loading};
use crate::declaration::Section;
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};

/// A declared source of chance.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    /// Whether seats may add entropy of their own.
    takes_entropy: bool,
}

/// What was drawn last, and to what the next draw is bound.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Cell {
    /// The draws that were made.
    draws: u64,
    /// The last of them.
    last: Option<Draw>,
    /// The SHA-256 of the key of the next one, in hexadecimal.
    next: Option<String>,
    /// The shuffle that was opened last.
    opened: Option<Opened>,
    /// What seats add to the next draw, where the charter lets them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    entropy: Option<BTreeMap<String, Share>>,
}

/// What a seat adds to the next draw.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Share {
    /// The SHA-256 of the 32 bytes, in hexadecimal.
    sha256: String,
    /// The bytes in hexadecimal, once they are revealed.
    value: Option<String>,
}

/// What seats added to a draw, in hexadecimal.
pub type Entropy = BTreeMap<String, String>;

/// A draw that was made.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum Draw {
    /// Dice.
    Roll {
        /// The number of the draw.
        draw: u64,
        /// Its key in hexadecimal.
        key: String,
        /// Sides of each.
        sides: u64,
        /// What came up.
        values: Vec<u64>,
        /// What seats added.
        #[serde(default, skip_serializing_if = "Entropy::is_empty")]
        entropy: Entropy,
    },
    /// Values of a field were dealt anew.
    Shuffle {
        /// The number of the draw.
        draw: u64,
        /// The map.
        of: Path,
        /// The register of its records.
        field: String,
        /// What seats added.
        #[serde(default, skip_serializing_if = "Entropy::is_empty")]
        entropy: Entropy,
    },
}

impl Draw {
    /// Its number.
    pub fn number(&self) -> u64 {
        match self {
            Self::Roll { draw, .. } | Self::Shuffle { draw, .. } => *draw,
        }
    }

    /// What seats added to it.
    pub fn entropy(&self) -> &Entropy {
        match self {
            Self::Roll { entropy, .. } | Self::Shuffle { entropy, .. } => entropy,
        }
    }
}

/// A shuffle of which the key is told.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Opened {
    draw: u64,
    key: String,
}

/// Sides of a die and dice of a roll at most.
const MOST_SIDES: u64 = 1_000_000;
const MOST_DICE: usize = 100;

/// The secret of a session from which the keys of its draws are made.
#[derive(Clone)]
pub struct Chance([u8; 32]);

impl std::fmt::Debug for Chance {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Chance")
    }
}

impl Chance {
    /// Of a secret of a session. Whoever knows it knows every draw.
    pub fn new(secret: [u8; 32]) -> Self {
        Self(secret)
    }

    /// Of what the store knows a session by and nobody is told.
    pub fn of(secret: Uuid) -> Self {
        let hash = Sha256::new().chain_update("rendel draws ").chain_update(secret.as_bytes());
        Self(hash.finalize().into())
    }

    /// The key of a draw of the field of that name.
    pub(crate) fn key(&self, field: &str, draw: u64) -> DrawKey {
        let mut key = [0; 32];
        let info = format!("rendel draw /{field} {draw}");
        // One block is never too long for HKDF.
        let _ = Hkdf::<Sha256>::new(None, &self.0).expand(info.as_bytes(), &mut key);
        DrawKey(key)
    }
}

/// The key of one draw.
#[derive(Clone, Copy, Debug)]
pub struct DrawKey([u8; 32]);

impl DrawKey {
    /// From hexadecimal, as it stands in a journal.
    pub fn from_hex(text: &str) -> Option<Self> {
        hex::decode(text).ok()?.try_into().ok().map(Self)
    }

    fn to_hex(self) -> String {
        hex::encode(self.0)
    }

    /// What is told of it before the draw.
    pub fn commitment(self) -> String {
        hex::encode(Sha256::digest(self.0))
    }

    /// The key with what seats add; the same where they add nothing.
    #[must_use]
    pub fn with_entropy(self, entropy: &Entropy) -> Self {
        // A key of HMAC may have any length.
        let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(&self.0) else { return self };
        for (seat, value) in entropy {
            mac.update(seat.as_bytes());
            mac.update(&[0]);
            mac.update(&hex::decode(value).unwrap_or_default());
        }
        if entropy.is_empty() { self } else { Self(mac.finalize().into_bytes().into()) }
    }

    /// So many dice.
    pub fn roll(self, sides: u64, count: usize) -> Vec<u64> {
        let mut stream = Stream::of(self);
        (0..count).map(|_| stream.below(sides) + 1).collect()
    }

    /// Deals values anew.
    pub fn shuffle<T>(self, values: &mut [T]) {
        let mut stream = Stream::of(self);
        for last in (1..values.len()).rev() {
            let other = usize::try_from(stream.below(last as u64 + 1)).unwrap_or(last);
            values.swap(last, other);
        }
    }
}

/// The numbers that follow from a key.
struct Stream {
    key: DrawKey,
    block: u32,
    numbers: Vec<u32>,
}

impl Stream {
    fn of(key: DrawKey) -> Self {
        Self { key, block: 0, numbers: Vec::new() }
    }

    fn number(&mut self) -> u32 {
        loop {
            if let Some(number) = self.numbers.pop() {
                return number;
            }
            // A key of HMAC may have any length.
            let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(&self.key.0) else { return 0 };
            mac.update(&self.block.to_be_bytes());
            let bytes = mac.finalize().into_bytes();
            let number = |four: &[u8]| four.iter().fold(0, |sum, byte| sum << 8 | u32::from(*byte));
            self.numbers = bytes.chunks_exact(4).rev().map(number).collect();
            self.block += 1;
        }
    }

    fn below(&mut self, n: u64) -> u64 {
        let all = 1u64 << 32;
        let bound = all - all % n.max(1);
        loop {
            let number = u64::from(self.number());
            if number < bound {
                return number % n.max(1);
            }
        }
    }
}

impl Cell {
    /// Whether the next draw is bound by what the journal has.
    pub(crate) fn is_bound(&self) -> bool {
        self.next.is_some()
    }

    /// The same with the next draw bound.
    pub(crate) fn bound(&self, chance: &Chance, field: &str) -> Self {
        let next = chance.key(field, self.draws + 1).commitment();
        Self { next: Some(next), ..self.clone() }
    }

    /// The cell after a roll.
    pub(crate) fn rolled(
        &self,
        chance: &Chance,
        field: &str,
        sides: u64,
        count: usize,
    ) -> Result<Self, Problem> {
        let bounds =
            [("sides", sides, 2..=MOST_SIDES), ("count", count as u64, 1..=MOST_DICE as u64)];
        for (name, given, bound) in bounds {
            if !bound.contains(&given) {
                let detail = format!(
                    "\"{name}\" goes from {} to {}; it is {given}.",
                    bound.start(),
                    bound.end()
                );
                return Err(Problem::new(ProblemKind::OutOfBounds, detail));
            }
        }
        let (draw, entropy) = (self.draws + 1, self.revealed());
        let key = chance.key(field, draw);
        let values = key.with_entropy(&entropy).roll(sides, count);
        let roll = Draw::Roll { draw, key: key.to_hex(), sides, values, entropy };
        Ok(self.drawn(chance, field, roll))
    }

    /// The cell after a shuffle, and its key.
    pub(crate) fn shuffled(
        &self,
        chance: &Chance,
        field: &str,
        of: &Path,
        register: &str,
    ) -> (Self, DrawKey) {
        let (draw, entropy) = (self.draws + 1, self.revealed());
        let key = chance.key(field, draw).with_entropy(&entropy);
        let shuffle = Draw::Shuffle { draw, of: of.clone(), field: register.to_owned(), entropy };
        (self.drawn(chance, field, shuffle), key)
    }

    fn drawn(&self, chance: &Chance, field: &str, draw: Draw) -> Self {
        let entropy = self.entropy.as_ref().map(|_| BTreeMap::new());
        let next = Self { draws: self.draws + 1, last: Some(draw), entropy, ..self.clone() };
        next.bound(chance, field)
    }

    fn revealed(&self) -> Entropy {
        let shares = self.entropy.iter().flatten();
        shares.filter_map(|(seat, share)| Some((seat.clone(), share.value.clone()?))).collect()
    }

    /// Refuses a draw for which something is committed and not revealed.
    pub(crate) fn check_revealed(&self) -> Result<(), Problem> {
        let mut shares = self.entropy.iter().flatten();
        let Some((seat, _)) = shares.find(|(_, share)| share.value.is_none()) else {
            return Ok(());
        };
        let detail = format!(
            "The seat {seat:?} has not revealed what it committed to. Whoever has the power \
             \"open-draws\" may waive it."
        );
        Err(Problem::new(ProblemKind::NotAllowed, detail).with("seat", seat.clone()))
    }

    /// The cell with the hash of what a seat will reveal. Once one has revealed nobody commits any
    /// more: what they add would be chosen after that.
    pub(crate) fn committed(&self, seat: &str, sha256: &str) -> Result<Self, Problem> {
        if !self.revealed().is_empty() {
            let detail = "Some have revealed what they add to this draw. Commit to the next.";
            return Err(Problem::new(ProblemKind::Stale, detail));
        }
        if bytes_of(sha256).is_none() {
            let detail = "\"sha256\" is the SHA-256 of 32 bytes, as 64 hexadecimal digits.";
            return Err(Problem::new(ProblemKind::WrongType, detail));
        }
        let share = Share { sha256: sha256.to_ascii_lowercase(), value: None };
        Ok(self.with_share(seat, Some(share)))
    }

    /// The cell with what a seat committed to.
    pub(crate) fn with_revealed(&self, seat: &str, value: &str) -> Result<Self, Problem> {
        let Some(share) = self.entropy.iter().flatten().find(|(of, _)| *of == seat) else {
            let detail = format!("The seat {seat:?} has committed to nothing.");
            return Err(Problem::new(ProblemKind::OutOfBounds, detail));
        };
        let bytes =
            bytes_of(value).filter(|bytes| hex::encode(Sha256::digest(bytes)) == share.1.sha256);
        let Some(bytes) = bytes else {
            let detail = "\"value\" is the 32 bytes that were committed to, as 64 hexadecimal \
                digits; these have another hash.";
            return Err(Problem::new(ProblemKind::OutOfBounds, detail));
        };
        let share = Share { sha256: share.1.sha256.clone(), value: Some(hex::encode(bytes)) };
        Ok(self.with_share(seat, Some(share)))
    }

    /// The cell without what a seat committed to and did not reveal.
    pub(crate) fn waived(&self, seat: &str) -> Result<Self, Problem> {
        let share = self.entropy.iter().flatten().find(|(of, _)| *of == seat);
        match share.is_some_and(|(_, share)| share.value.is_none()) {
            true => Ok(self.with_share(seat, None)),
            false => {
                let detail = format!("The seat {seat:?} has nothing to reveal.");
                Err(Problem::new(ProblemKind::OutOfBounds, detail))
            }
        }
    }

    fn with_share(&self, seat: &str, share: Option<Share>) -> Self {
        let mut next = self.clone();
        let shares = next.entropy.get_or_insert_default();
        match share {
            Some(share) => shares.insert(seat.to_owned(), share),
            None => shares.remove(seat),
        };
        next
    }

    /// The cell with a draw opened.
    pub(crate) fn opened(&self, chance: &Chance, field: &str, draw: u64) -> Result<Self, Problem> {
        if draw == 0 || draw > self.draws {
            let detail = format!("There were {} draws so far; {draw} is none of them.", self.draws);
            return Err(Problem::new(ProblemKind::OutOfBounds, detail));
        }
        let opened = Opened { draw, key: chance.key(field, draw).to_hex() };
        Ok(Self { opened: Some(opened), ..self.clone() })
    }
}

fn bytes_of(hex: &str) -> Option<[u8; 32]> {
    hex::decode(hex).ok()?.try_into().ok()
}

impl Field {
    pub(crate) fn takes_entropy(&self) -> bool {
        self.takes_entropy
    }
}

impl Ruled for Field {
    type Cell = Cell;
    const WORDS: KindWords = KindWords {
        name: "random",
        takes: &["roll", "shuffle", "open", "commit", "reveal", "waive"],
        inside: &[],
    };
    const WHAT: &'static str = "A source of chance";

    fn declare(section: &mut Section<'_>) -> Self {
        // What may be shuffled is read once all fields are known.
        section.know("shuffles");
        Self { takes_entropy: section.choice("entropy", &["none", "seats"], "none") == "seats" }
    }

    fn initial(&self) -> Cell {
        Cell { entropy: self.takes_entropy.then(BTreeMap::new), ..Cell::default() }
    }

    fn load(&self, at: &Path, plain: &Value, loading: Loading) -> Result<Cell, Problem> {
        // What another session was bound to binds nothing here.
        let cell = ruled::load(at, plain)?;
        Ok(if loading.is_settled { cell } else { self.initial() })
    }

    /// Nothing that may refuse an edit reads what comes up.
    fn is_small(&self) -> bool {
        false
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

    use super::*;

    fn hmac(key: &[u8], parts: &[&[u8]]) -> [u8; 32] {
        let mut mac = Hmac::<Sha256>::new_from_slice(key).unwrap();
        parts.iter().for_each(|part| mac.update(part));
        mac.finalize().into_bytes().into()
    }

    /// The numbers of a key as the page on charters has them.
    fn numbers(key: DrawKey) -> impl Iterator<Item = u32> {
        let word = |four: &[u8]| u32::from_be_bytes(four.try_into().unwrap());
        (0u32..).flat_map(move |block| {
            let bytes = hmac(&key.0, &[&block.to_be_bytes()]);
            bytes.chunks(4).map(word).collect::<Vec<_>>()
        })
    }

    #[test]
    fn each_draw_of_each_field_has_a_key_of_its_own_by_rfc_5869() {
        let chance = Chance::new([7; 32]);
        let prk = hmac(&[0; 32], &[&[7; 32]]);
        for (field, draw) in [("bag", 1), ("bag", 2), ("dice", 1), ("dice", 10)] {
            let info = format!("rendel draw /{field} {draw}");
            assert_eq!(chance.key(field, draw).0, hmac(&prk, &[info.as_bytes(), &[1]]));
        }
    }

    #[test]
    fn no_side_comes_up_more_often_because_the_numbers_do_not_divide() {
        let (sides, mut left_out) = (1_000_000, 0);
        for key in 0..200 {
            let key = DrawKey([key; 32]);
            let bound = (1u64 << 32) / sides * sides;
            let mut rolled = Vec::new();
            for number in numbers(key).map(u64::from) {
                match number < bound {
                    true => rolled.push(number % sides + 1),
                    false => left_out += 1,
                }
                if rolled.len() == 100 {
                    break;
                }
            }
            assert_eq!(key.roll(sides, 100), rolled);
        }
        assert!(left_out > 0, "no number was left out, so nothing was shown");
    }

    #[test]
    fn every_order_comes_up_as_often_as_any_other() {
        let mut orders: BTreeMap<[u8; 4], u32> = BTreeMap::new();
        for key in 0u32..24_000 {
            let mut order = [0, 1, 2, 3];
            DrawKey(hmac(&[], &[&key.to_be_bytes()])).shuffle(&mut order);
            *orders.entry(order).or_default() += 1;
        }
        assert_eq!(orders.len(), 24);
        // Pearson's chi-squared with 23 degrees of freedom is above 49.7 once in 1,000 times; the
        // keys are the same each time.
        let away = |count: &u32| (f64::from(*count) - 1_000.0).powi(2) / 1_000.0;
        let chi_squared: f64 = orders.values().map(away).sum();
        assert!(chi_squared < 49.7, "{chi_squared}");
    }
}
