//! Problems (RFC 9457): why something did not take effect, in words that a person can act on.

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::{Map, Value};

use crate::canonical::weight;

macro_rules! problems {
    ($($variant:ident $name:literal $status:literal $number:literal $title:literal)*) => {
        /// The stable type of a problem.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        #[allow(missing_docs, reason = "each is described by its title in the table below")]
        pub enum ProblemKind { $($variant),* }

        impl ProblemKind {
            /// All of them, in the order of their numbers.
            pub const ALL: &'static [Self] = &[$(Self::$variant),*];

            /// The last part of the type URI.
            pub fn name(self) -> &'static str {
                match self { $(Self::$variant => $name),* }
            }

            /// The HTTP status that goes with it.
            pub fn status(self) -> u16 {
                match self { $(Self::$variant => $status),* }
            }

            /// Its number: a socket that ends for this reason closes with 4000 + this.
            pub fn number(self) -> u16 {
                match self { $(Self::$variant => $number),* }
            }

            /// What it means, in a few words.
            pub fn title(self) -> &'static str {
                match self { $(Self::$variant => $title),* }
            }
        }
    };
}

problems! {
    Malformed      "malformed"       400  1 "Not understood"
    UnknownPath    "unknown-path"    404  2 "No such path"
    UnknownOp      "unknown-op"      400  3 "No such operation here"
    WrongType      "wrong-type"      422  4 "Wrong type of value"
    OutOfBounds    "out-of-bounds"   422  5 "Value out of bounds"
    TooLarge       "too-large"       413  6 "Too large"
    TooDeep        "too-deep"        400  7 "Nested too deeply"
    FromTheFuture  "from-the-future" 409  8 "Made against a state that does not exist yet"
    Stale          "stale"           409  9 "Changed meanwhile"
    FollowsRefused "follows-refused" 409 10 "Made on top of a refused proposal"
    TestFailed     "test-failed"     412 11 "A condition of the proposal does not hold"
    Exists         "exists"          409 12 "Exists already"
    Gone           "gone"            410 13 "No longer there"
    Referenced     "referenced"      409 14 "Something refers to it"
    Guard          "guard"           422 15 "Against a rule of the session"
    Gate           "gate"            422 16 "Not let through"
    NotAllowed     "not-allowed"     403 17 "Not allowed"
    NotYourTurn    "not-your-turn"   409 18 "Not your turn"
    SeatTaken      "seat-taken"      409 19 "Seat taken"
    Held           "held"            409 20 "Held by another participant"
    Full           "full"            409 22 "Full"
    TooFast        "too-fast"        429 23 "Too fast"
    Frozen         "frozen"          409 24 "The session is frozen"
    Ended          "ended"           410 25 "The session has ended"
    NoSession      "no-session"      404 26 "No such session"
    NoToken        "no-token"        401 27 "No token"
    BadToken       "bad-token"       401 28 "Token not accepted"
    ExpiredToken   "expired-token"   401 29 "Token expired"
    TooOld         "too-old"         410 30 "Older than what is kept"
    Slow           "slow"            408 31 "Fell behind"
    ShuttingDown   "shutting-down"   503 32 "The service is stopping"
    Unavailable    "unavailable"     503 33 "The database is away"
    Charter        "charter"         422 34 "The charter has faults"
    NotFound       "not-found"       404 35 "Nothing here"
    Silent         "silent"          408 36 "Nothing was heard"
    Removed        "removed"         403 37 "Removed"
    KeyReused      "key-reused"      422 38 "The Idempotency-Key stands for another call"
    Forgotten      "forgotten"       409 39 "No longer remembered"
    WrongMethod    "wrong-method"    405 40 "Method not taken here"
    WrongMedia     "wrong-media"     415 41 "Content-Type not taken here"
    Crowded        "crowded"         503 42 "No place at this moment"
    Gathering      "gathering"       409 43 "Waiting for participants"
    Rule           "rule"            422 44 "A rule of the session could not be carried out"
    NothingToUndo  "nothing-to-undo" 409 45 "Nothing to take back"
}

impl ProblemKind {
    /// The type URI.
    pub fn urn(self) -> String {
        format!("urn:rendel:problem:{}", self.name())
    }

    /// The kind with this name or type URI.
    pub fn named(name: &str) -> Option<Self> {
        let name = name.strip_prefix("urn:rendel:problem:").unwrap_or(name);
        Self::ALL.iter().copied().find(|kind| kind.name() == name)
    }
}

/// A member of a problem that is told has at most this many bytes of JSON.
const TOLD_BYTES: usize = 64 << 10;
/// One that is remembered.
const KEPT_BYTES: usize = 1 << 10;
/// A detail, a path or another text in a problem has at most so many characters.
const TEXT_CHARS: usize = 2_000;

/// Why something did not take effect.
#[derive(Clone, Debug, PartialEq)]
pub struct Problem(Box<Body>);

#[derive(Clone, Debug, PartialEq)]
struct Body {
    kind: ProblemKind,
    detail: String,
    more: Map<String, Value>,
}

impl Problem {
    /// A problem with one or two sentences that say what to do.
    pub fn new(kind: ProblemKind, detail: impl Into<String>) -> Self {
        Self(Box::new(Body { kind, detail: detail.into(), more: Map::new() }))
    }

    /// Its stable type.
    pub fn kind(&self) -> ProblemKind {
        self.0.kind
    }

    /// The sentence for a person.
    pub fn detail(&self) -> &str {
        &self.0.detail
    }

    /// A further member, such as `current` or `wait_ms`.
    pub fn member(&self, name: &str) -> Option<&Value> {
        self.0.more.get(name)
    }

    /// This problem with bounds: long texts are shortened, and what is there now is left out where
    /// it is larger than 64 KiB. No input makes an answer larger than that.
    #[must_use]
    pub fn bounded(self) -> Self {
        self.with_at_most(TOLD_BYTES)
    }

    /// As a session remembers it, and its store: what is there now up to 1 KiB.
    #[must_use]
    pub fn to_be_kept(self) -> Self {
        self.with_at_most(KEPT_BYTES)
    }

    fn with_at_most(mut self, bytes: usize) -> Self {
        shorten(&mut self.0.detail);
        self.0.more.retain(|name, value| match value {
            Value::String(text) if name != "current" => {
                shorten(text);
                true
            }
            value => weight(value) <= bytes,
        });
        self
    }

    /// About how many bytes it takes as JSON.
    pub(crate) fn bytes(&self) -> usize {
        128 + self.0.detail.len()
            + self.0.more.iter().map(|(name, value)| name.len() + weight(value)).sum::<usize>()
    }

    /// Adds a further member.
    #[must_use]
    pub fn with(mut self, name: &str, value: impl Into<Value>) -> Self {
        self.0.more.insert(name.to_owned(), value.into());
        self
    }

    /// Takes a further member away.
    #[must_use]
    pub fn without(mut self, name: &str) -> Self {
        self.0.more.shift_remove(name);
        self
    }

    /// The path that it speaks of.
    #[must_use]
    pub fn at(self, path: impl Into<String>) -> Self {
        self.with("at", path.into())
    }

    /// The value that is there now.
    #[must_use]
    pub fn current(self, value: Value) -> Self {
        self.with("current", value)
    }

    /// What might have been meant, if anything is near.
    #[must_use]
    pub fn did_you_mean(self, meant: Option<String>) -> Self {
        match meant {
            Some(meant) => self.with("did_you_mean", meant),
            None => self,
        }
    }
}

/// Cuts a text to what a sentence or a path needs.
fn shorten(text: &mut String) {
    if let Some((end, _)) = text.char_indices().nth(TEXT_CHARS) {
        text.truncate(end);
        text.push('…');
    }
}

impl std::fmt::Display for Problem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}: {}", self.0.kind.name(), self.0.detail)
    }
}

impl std::error::Error for Problem {}

impl Serialize for Problem {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut members = Map::new();
        members.insert("type".to_owned(), self.0.kind.urn().into());
        members.insert("title".to_owned(), self.0.kind.title().into());
        members.insert("status".to_owned(), self.0.kind.status().into());
        members.insert("detail".to_owned(), self.0.detail.clone().into());
        members.extend(self.0.more.clone());
        members.serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for Problem {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let mut members = Map::<String, Value>::deserialize(deserializer)?;
        let urn = members.shift_remove("type").unwrap_or_default();
        let kind = urn
            .as_str()
            .and_then(ProblemKind::named)
            .ok_or_else(|| D::Error::custom(format!("unknown problem type {urn}")))?;
        let detail = members
            .shift_remove("detail")
            .and_then(|detail| detail.as_str().map(str::to_owned))
            .unwrap_or_default();
        members.shift_remove("title");
        members.shift_remove("status");
        Ok(Self(Box::new(Body { kind, detail, more: members })))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn every_problem_has_a_number_and_a_name_of_its_own() {
        let numbers: BTreeSet<_> = ProblemKind::ALL.iter().map(|kind| kind.number()).collect();
        let names: BTreeSet<_> = ProblemKind::ALL.iter().map(|kind| kind.name()).collect();
        assert_eq!((numbers.len(), names.len()), (ProblemKind::ALL.len(), ProblemKind::ALL.len()));
        assert!(ProblemKind::ALL.iter().all(|kind| ProblemKind::named(&kind.urn()) == Some(*kind)));
    }

    #[test]
    fn a_problem_comes_back_from_json_as_it_went() {
        let problem = Problem::new(ProblemKind::Stale, "Changed by Oda.")
            .at("/title")
            .current("North".into());
        let json = serde_json::to_string(&problem).unwrap();
        assert_eq!(serde_json::from_str::<Problem>(&json).unwrap(), problem);
    }
}
