//! The scope of an expression: which names it may use, and the value that each name has.
//!
//! Roles, guards, rules, totals, queries and sights all read through a [`Scope`], so `record.tags`
//! means the same everywhere. Cost of a read: O(path × log size) to find the value and O(its size)
//! for a copy.

use serde_json::{Value, json};

use crate::actor::Actor;
use crate::charter::{Lens, Read};
use crate::kind::{Fields, Record, Seats};
use crate::path::Token;

/// Something that values can be read from: a state, or what one participant sees of it.
pub(crate) trait Readable {
    /// Whether anything is at a path.
    fn has(&self, tokens: &[Token]) -> bool;

    /// A member of the record at a path, or the whole value there. A list of plain values reads as
    /// those values.
    fn member(&self, tokens: &[Token], member: Option<&str>) -> Option<Value>;
}

impl Readable for (&Fields, &Record) {
    fn has(&self, tokens: &[Token]) -> bool {
        self.0.has(self.1, tokens)
    }

    fn member(&self, tokens: &[Token], member: Option<&str>) -> Option<Value> {
        self.0.member(self.1, tokens, member)
    }
}

/// What one participant sees; a value that is hidden reads as `null`.
impl Readable for Lens<'_> {
    fn has(&self, tokens: &[Token]) -> bool {
        Lens::has(self, tokens)
    }

    fn member(&self, tokens: &[Token], member: Option<&str>) -> Option<Value> {
        Lens::member(self, tokens, member)
    }
}

/// The participant that an expression reads as `who`.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Who<'s> {
    /// The expression has no `who`.
    Undefined,
    /// Time is the cause, so `who` is `null`.
    Nobody,
    /// A participant, with the seats of the session.
    Is(&'s Actor, Option<&'s Seats>),
}

impl Who<'_> {
    fn read(self, member: Option<&str>) -> Option<Value> {
        let (actor, seats) = match self {
            Self::Undefined => return None,
            Self::Nobody => return Some(Value::Null),
            Self::Is(actor, seats) => (actor, seats),
        };
        let seat = || seats.and_then(|seats| seats.seat_of(&actor.id)).map(str::to_owned);
        match member {
            Some("id") => Some(actor.id.clone().into()),
            Some("role") => Some(actor.role.clone().into()),
            Some("claims") => serde_json::to_value(&actor.claims).ok(),
            Some("seat") => Some(seat().into()),
            Some(_) => None,
            None => Some(json!({
                "id": actor.id, "role": actor.role, "claims": actor.claims, "seat": seat(),
            })),
        }
    }
}

/// A record that an edit is about to make.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Made<'s> {
    pub(crate) id: Option<&'s str>,
    pub(crate) value: &'s Value,
}

/// What the names of an expression stand for.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Scope<'s, R> {
    /// What `state`, `record` and `new` are read from.
    pub(crate) state: R,
    /// What `old` is read from.
    pub(crate) before: Option<R>,
    /// The place that the expression is about.
    pub(crate) place: &'s [Token],
    /// How many tokens of the place lead to the record around it; 0 if no record is around it.
    pub(crate) record: usize,
    /// The record that is being made there, if one is.
    pub(crate) made: Option<Made<'s>>,
    pub(crate) who: Who<'s>,
    /// What `now` is, in milliseconds since 1970 UTC.
    pub(crate) now: Option<u64>,
}

impl<'s, R: Readable> Scope<'s, R> {
    /// The scope of an expression about one record.
    pub(crate) fn of_record(state: R, record: &'s [Token]) -> Self {
        Self {
            state,
            before: None,
            place: record,
            record: record.len(),
            made: None,
            who: Who::Undefined,
            now: None,
        }
    }

    /// The value of a name; none if the name has no value here.
    pub(crate) fn read(&self, read: &Read) -> Option<Value> {
        let member = read.member.as_deref();
        match (read.name.as_str(), member) {
            ("record", Some("id")) => self.of_the_record(member).or_else(|| self.id()),
            ("record", _) => self.of_the_record(member),
            ("id", _) => self.id(),
            ("old", _) => value_at(self.before.as_ref()?, self.place, member),
            ("new", _) => value_at(&self.state, self.place, member),
            ("state", Some(_)) => self.state.member(&[], member),
            ("now", None) => self.now.map(Value::from),
            ("who", _) => self.who.read(member),
            _ => None,
        }
    }

    fn of_the_record(&self, member: Option<&str>) -> Option<Value> {
        match (self.made, member) {
            (Some(made), None) => Some(made.value.clone()),
            (Some(made), Some(member)) => made.value.get(member).cloned(),
            (None, _) if self.record == 0 => None,
            (None, _) => value_at(&self.state, &self.place[..self.record], member),
        }
    }

    /// The id of the record that is made, else of the innermost record or element at or around the
    /// place.
    fn id(&self) -> Option<Value> {
        match self.made {
            Some(made) => made.id.map(Value::from),
            None => id_around(self.place).map(Value::from),
        }
    }
}

/// What is at a path. A place that holds nothing reads as `null` and has no members.
fn value_at(state: &impl Readable, tokens: &[Token], member: Option<&str>) -> Option<Value> {
    match state.has(tokens) {
        true => state.member(tokens, member),
        false if member.is_none() => Some(Value::Null),
        false => None,
    }
}

/// The id of the innermost record or element at or around a path, in which field names and ids
/// alternate.
pub(crate) fn id_around(tokens: &[Token]) -> Option<String> {
    tokens[..tokens.len() / 2 * 2].last().map(Token::to_string)
}
