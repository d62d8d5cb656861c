//! Acts: what edits ask of fields that keep rules of play. An act is asked and never settled: what
//! it did is told as values that were set.

use serde::ser::SerializeMap;
use serde_json::Value;

use super::{EXACT, Members};
use crate::declaration::parse_ms;
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};

/// What an edit asks of a field that keeps rules of play.
#[derive(Clone, Debug, PartialEq)]
pub enum Act {
    /// Take a seat: that one, or the first that is free.
    Sit(Option<String>),
    /// Leave one's seat.
    Stand,
    /// Offer one's seat to a participant, or take the offer back.
    Offer(Option<String>),
    /// Take the seat that was offered.
    Accept(Option<String>),
    /// Put a participant on a seat, or free it.
    Give {
        /// The seat.
        seat: String,
        /// The participant; nobody frees it.
        to: Option<String>,
    },
    /// The turn goes to the next seat, or to that one.
    Advance {
        /// The seat that it goes to; else the next one that is taken.
        to: Option<String>,
        /// The number of the turn that is meant.
        turn: Option<u64>,
    },
    /// The turn goes round the other way from now on.
    Reverse,
    /// Roll dice.
    Roll {
        /// Sides of each.
        sides: u64,
        /// How many.
        count: usize,
    },
    /// Deal the values of a field anew among the records of a map.
    Shuffle {
        /// The map.
        of: Path,
        /// The register of its records.
        field: String,
    },
    /// Open a draw that was made, so that anybody can check it.
    Open(u64),
    /// Commit to what one's seat adds to the next draw, by its hash.
    Commit(String),
    /// Reveal what one's seat committed to.
    Reveal(String),
    /// Take back what a seat committed to and did not reveal.
    Waive(String),
    /// Choose: in an array of choices, or a value of a scale, or that one is not sure.
    Cast {
        /// What.
        choice: Value,
        /// The round that it is meant for; the present one if omitted.
        round: Option<u64>,
    },
    /// Take one's own ballot back, of that round.
    Withdraw(Option<u64>),
    /// Show all of a ballot at once, of that round.
    Unseal(Option<u64>),
    /// Begin the next round, perhaps with another question.
    Restart {
        /// The question.
        question: Option<String>,
        /// The round that ends.
        round: Option<u64>,
    },
    /// Give a deadline a time.
    SetTime(When),
    /// Move the time of a deadline by so many milliseconds.
    Extend(u64),
    /// Take the time of a deadline away.
    Cancel,
    /// A clock moves.
    Start,
    /// A clock stands.
    Stop,
    /// A clock is at a position, in milliseconds.
    Seek(i64),
    /// A clock moves that much faster than real time.
    Rate(f64),
    /// The session itself: a time counts from then on, in milliseconds since 1970 UTC.
    Begin(u64),
    /// The session itself: a time has come.
    Fire,
    /// The session itself: what all are told of a ballot is counted.
    Count,
    /// The session itself: the next draw is bound by what the journal has.
    Bind,
    /// The session itself: a participant has gone, and their seat is kept until then.
    Away {
        /// The participant.
        who: String,
        /// In milliseconds since 1970 UTC.
        until: u64,
    },
    /// The session itself: a participant is there again.
    Back(String),
    /// The session itself: what was kept until now is free.
    Lapse(u64),
}

impl Act {
    /// The names of those that can be asked for.
    pub(super) const ASKED: [&'static str; 23] = [
        "sit", "stand", "offer", "accept", "give", "advance", "reverse", "roll", "shuffle", "open",
        "commit", "reveal", "waive", "cast", "withdraw", "unseal", "restart", "extend", "cancel",
        "start", "stop", "seek", "rate",
    ];

    /// Whether an operation of that name is one.
    pub fn is_named(name: &str) -> bool {
        Self::ASKED.contains(&name)
    }

    /// Whether an operation of that name is one that only the session itself does.
    pub(crate) fn is_own(name: &str) -> bool {
        Self::OWN.contains(&name)
    }

    /// Those of the session itself.
    pub(super) const OWN: [&'static str; 7] =
        ["count", "bind", "away", "back", "lapse", "begin", "fire"];

    /// Whether it is about who sits where.
    pub(crate) fn is_of_seats(&self) -> bool {
        matches!(
            self,
            Self::Sit(_)
                | Self::Stand
                | Self::Offer(_)
                | Self::Accept(_)
                | Self::Give { .. }
                | Self::Away { .. }
                | Self::Back(_)
                | Self::Lapse(_)
        )
    }

    /// Whether it is about what participants choose.
    pub(crate) fn is_of_ballots(&self) -> bool {
        matches!(
            self,
            Self::Cast { .. }
                | Self::Withdraw(_)
                | Self::Unseal(_)
                | Self::Restart { .. }
                | Self::Count
        )
    }

    /// Whether it is about whose turn it is.
    pub(crate) fn is_of_turn(&self) -> bool {
        matches!(self, Self::Advance { .. } | Self::Reverse | Self::Begin(_) | Self::Fire)
    }

    /// Whether it is about when something happens.
    pub(crate) fn is_of_deadline(&self) -> bool {
        matches!(
            self,
            Self::SetTime(_) | Self::Extend(_) | Self::Cancel | Self::Begin(_) | Self::Fire
        )
    }

    /// Whether it is about where a clock is.
    pub(crate) fn is_of_clock(&self) -> bool {
        matches!(self, Self::Start | Self::Stop | Self::Seek(_) | Self::Rate(_))
    }

    /// Its name in JSON.
    pub(super) fn name(&self) -> &'static str {
        match self {
            Self::Sit(_) => "sit",
            Self::Stand => "stand",
            Self::Offer(_) => "offer",
            Self::Accept(_) => "accept",
            Self::Give { .. } => "give",
            Self::Advance { .. } => "advance",
            Self::Reverse => "reverse",
            Self::Roll { .. } => "roll",
            Self::Shuffle { .. } => "shuffle",
            Self::Open(_) => "open",
            Self::Commit(_) => "commit",
            Self::Reveal(_) => "reveal",
            Self::Waive(_) => "waive",
            Self::Cast { .. } => "cast",
            Self::Withdraw(_) => "withdraw",
            Self::Unseal(_) => "unseal",
            Self::Restart { .. } => "restart",
            Self::SetTime(_) => "set",
            Self::Extend(_) => "extend",
            Self::Cancel => "cancel",
            Self::Start => "start",
            Self::Stop => "stop",
            Self::Seek(_) => "seek",
            Self::Rate(_) => "rate",
            Self::Begin(_) => "begin",
            Self::Fire => "fire",
            Self::Count => "count",
            Self::Bind => "bind",
            Self::Away { .. } => "away",
            Self::Back(_) => "back",
            Self::Lapse(_) => "lapse",
        }
    }

    pub(super) fn asked(name: &str, members: Members<'_>) -> Result<Self, Problem> {
        Ok(match name {
            "sit" => Self::Sit(members.only(&["seat"])?.name("seat")?),
            "stand" => members.only(&[]).map(|_| Self::Stand)?,
            "offer" => Self::Offer(members.only(&["to"])?.name("to")?),
            "accept" => Self::Accept(members.only(&["seat"])?.name("seat")?),
            "give" => {
                let seat = members.only(&["seat", "to"])?.name("seat")?;
                let seat = seat.ok_or_else(|| members.malformed("\"give\" needs \"seat\"."))?;
                Self::Give { seat, to: members.name("to")? }
            }
            "advance" => Self::Advance {
                to: members.only(&["to", "turn"])?.name("to")?,
                turn: members.number("turn")?,
            },
            "reverse" => members.only(&[]).map(|_| Self::Reverse)?,
            "roll" => {
                let sides = members.only(&["sides", "count"])?.index("sides")?;
                let count = match members.0.arg("count") {
                    None | Some(Value::Null) => 1,
                    Some(_) => members.index("count")?,
                };
                Self::Roll { sides: sides as u64, count }
            }
            "shuffle" => {
                let of = members.only(&["of", "field"])?.name("of")?;
                let field = members.name("field")?;
                let (of, field) = of.zip(field).ok_or_else(|| {
                    let detail = "\"shuffle\" needs \"of\", the path of a map, and \"field\", a \
                        register of its records.";
                    members.malformed(detail)
                })?;
                Self::Shuffle { of: Path::parse(&of)?, field }
            }
            "open" => Self::Open(members.only(&["draw"])?.index("draw")? as u64),
            "commit" => Self::Commit(members.only(&["sha256"])?.needed_name("sha256")?),
            "reveal" => Self::Reveal(members.only(&["value"])?.needed_name("value")?),
            "waive" => Self::Waive(members.only(&["seat"])?.needed_name("seat")?),
            "cast" => {
                let round = members.only(&["choices", "value", "round"])?.number("round")?;
                match (members.0.arg("choices"), members.0.arg("value")) {
                    (Some(choice @ Value::Array(_)), None)
                    | (None, Some(choice @ (Value::Number(_) | Value::String(_)))) => {
                        Self::Cast { choice: choice.clone(), round }
                    }
                    _ => {
                        let detail = "\"cast\" needs \"choices\", an array, or \"value\", a \
                            number of the scale or \"unsure\".";
                        return Err(members.malformed(detail));
                    }
                }
            }
            "withdraw" => Self::Withdraw(members.only(&["round"])?.number("round")?),
            "unseal" => Self::Unseal(members.only(&["round"])?.number("round")?),
            "restart" => {
                let question = members.only(&["question", "round"])?.name("question")?;
                Self::Restart { question, round: members.number("round")? }
            }
            "set" => Self::SetTime(members.only(&["due", "in"])?.when()?),
            "extend" => Self::Extend(members.only(&["by"])?.ahead("by")?),
            "cancel" => members.only(&[]).map(|_| Self::Cancel)?,
            "start" => members.only(&[]).map(|_| Self::Start)?,
            "stop" => members.only(&[]).map(|_| Self::Stop)?,
            "seek" => Self::Seek(members.only(&["to"])?.span("to")?),
            "rate" => {
                let rate = members.only(&["rate"])?.need("rate")?.as_f64();
                let wrong =
                    || members.problem(ProblemKind::WrongType, "\"rate\" must be a number.");
                Self::Rate(rate.ok_or_else(wrong)?)
            }
            "begin" => Self::Begin(members.only(&["from"])?.index("from")? as u64),
            "fire" => members.only(&[]).map(|_| Self::Fire)?,
            "count" => Self::Count,
            "bind" => Self::Bind,
            "away" => {
                let who = members.only(&["who", "until"])?.name("who")?.unwrap_or_default();
                Self::Away { who, until: members.index("until")? as u64 }
            }
            "back" => Self::Back(members.only(&["who"])?.name("who")?.unwrap_or_default()),
            _ => Self::Lapse(members.only(&["now"])?.index("now")? as u64),
        })
    }

    pub(super) fn serialize_members<M: SerializeMap>(&self, map: &mut M) -> Result<(), M::Error> {
        let mut named = |name: &'static str, value: &Option<String>| {
            value.iter().try_for_each(|value| map.serialize_entry(name, value))
        };
        match self {
            Self::Sit(seat) | Self::Accept(seat) => named("seat", seat),
            Self::Offer(to) => named("to", to),
            Self::Advance { to, turn } => {
                named("to", to)?;
                turn.iter().try_for_each(|turn| map.serialize_entry("turn", turn))
            }
            Self::Give { seat, to } => {
                map.serialize_entry("seat", seat)?;
                map.serialize_entry("to", to)
            }
            Self::Stand
            | Self::Reverse
            | Self::Count
            | Self::Cancel
            | Self::Start
            | Self::Stop
            | Self::Fire
            | Self::Bind => Ok(()),
            Self::SetTime(When::Due(due)) => map.serialize_entry("due", due),
            Self::SetTime(When::In(ms)) => map.serialize_entry("in", ms),
            Self::Extend(by) => map.serialize_entry("by", by),
            Self::Seek(to) => map.serialize_entry("to", to),
            Self::Rate(rate) => map.serialize_entry("rate", rate),
            Self::Begin(from) => map.serialize_entry("from", from),
            Self::Cast { choice, round } => {
                let name = if choice.is_array() { "choices" } else { "value" };
                map.serialize_entry(name, choice)?;
                round.iter().try_for_each(|round| map.serialize_entry("round", round))
            }
            Self::Withdraw(round) | Self::Unseal(round) => {
                round.iter().try_for_each(|round| map.serialize_entry("round", round))
            }
            Self::Restart { question, round } => {
                named("question", question)?;
                round.iter().try_for_each(|round| map.serialize_entry("round", round))
            }
            Self::Roll { sides, count } => {
                map.serialize_entry("count", count)?;
                map.serialize_entry("sides", sides)
            }
            Self::Shuffle { of, field } => {
                map.serialize_entry("field", field)?;
                map.serialize_entry("of", of)
            }
            Self::Open(draw) => map.serialize_entry("draw", draw),
            Self::Commit(sha256) => map.serialize_entry("sha256", sha256),
            Self::Reveal(value) => map.serialize_entry("value", value),
            Self::Waive(seat) => map.serialize_entry("seat", seat),
            Self::Away { who, until } => {
                map.serialize_entry("until", until)?;
                map.serialize_entry("who", who)
            }
            Self::Back(who) => map.serialize_entry("who", who),
            Self::Lapse(now) => map.serialize_entry("now", now),
        }
    }
}

/// When a deadline is to be due.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum When {
    /// In milliseconds since 1970 UTC.
    Due(u64),
    /// So many milliseconds from when it is settled.
    In(u64),
}

impl Members<'_> {
    /// A time: in milliseconds, or as a charter writes it, such as "10s".
    fn span(self, name: &str) -> Result<i64, Problem> {
        match self.need(name)? {
            Value::String(text) => {
                let ms = parse_ms(&text).and_then(|ms| i64::try_from(ms).ok());
                ms.filter(|ms| *ms <= EXACT).ok_or_else(|| {
                    let detail = format!(
                        "\"{name}\" must be milliseconds, or a time such as \"10s\" or \"5m\"."
                    );
                    self.problem(ProblemKind::WrongType, &detail)
                })
            }
            _ => self.whole(name),
        }
    }

    /// A time that is not below 0.
    fn ahead(self, name: &str) -> Result<u64, Problem> {
        u64::try_from(self.span(name)?).map_err(|_| {
            let detail = format!("\"{name}\" must not be below 0.");
            self.problem(ProblemKind::OutOfBounds, &detail)
        })
    }

    fn when(self) -> Result<When, Problem> {
        let given = |name| self.0.arg(name).filter(|value| !value.is_null());
        match (given("due"), given("in")) {
            (Some(_), None) => self.ahead("due").map(When::Due),
            (None, Some(_)) => self.ahead("in").map(When::In),
            _ => Err(self.malformed("\"set\" of a deadline needs \"due\" or \"in\".")),
        }
    }

    /// The number of the round or turn that an edit is meant for, if it says so.
    fn number(self, name: &'static str) -> Result<Option<u64>, Problem> {
        match self.0.arg(name) {
            None | Some(Value::Null) => Ok(None),
            Some(_) => Ok(Some(self.index(name)? as u64)),
        }
    }

    /// A member that is a string and has to be there.
    fn needed_name(self, name: &str) -> Result<String, Problem> {
        let detail = || format!("{:?} needs {name:?}, a string.", self.0.op);
        self.name(name)?.ok_or_else(|| self.malformed(&detail()))
    }

    /// A member that is a name or an id, where it is given.
    fn name(self, name: &str) -> Result<Option<String>, Problem> {
        match self.0.arg(name) {
            None | Some(Value::Null) => Ok(None),
            Some(Value::String(text)) => Ok(Some(text.clone())),
            Some(_) => {
                let detail = format!("\"{name}\" must be a string.");
                Err(self.problem(ProblemKind::WrongType, &detail))
            }
        }
    }
}
