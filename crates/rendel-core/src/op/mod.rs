//! Operations: what an edit asks for and what an effect did, each with its own members.
//!
//! JSON has names for them (`{"at": "/heads", "op": "add", "by": 1}`); they are read and written
//! here and nowhere else. Everything that asks what an operation does asks by a method of [`Op`]
//! that names all of them, so that a new one cannot be forgotten.

mod act;

use std::collections::BTreeMap;
use std::sync::Arc;

use serde::ser::{Serialize, SerializeMap, Serializer};
use serde_json::{Value, json};

use crate::canonical::{depth, weight};
use crate::edit::Edit;
use crate::path::{Path, checked_id, inner};
use crate::problem::{Problem, ProblemKind};
use crate::sequence::Target;
use crate::suggest::nearest;

pub use act::{Act, When};

/// An operation with its members. What only a settled one has is told in its comment.
#[derive(Clone, Debug, PartialEq)]
pub enum Op {
    /// A register gets a value, which edit, effect and state share.
    Set(Arc<Value>),
    /// Settled: the values that stand side by side in a register, and the one that was just set, if
    /// one was.
    SetBeside {
        /// All of them, in order.
        values: Vec<Value>,
        /// The one that was set.
        value: Option<Value>,
    },
    /// A register is unset.
    Clear,
    /// A counter grows.
    Add {
        /// By how much, below zero where it shrinks.
        by: i64,
        /// Settled: what it is then.
        now: Option<i64>,
    },
    /// A set has an element.
    Include(Value),
    /// A set does not have an element.
    Exclude(Value),
    /// A map gets a record.
    Put {
        /// Its id; the service makes one where there is none.
        id: Option<String>,
        /// Its fields.
        value: Value,
    },
    /// Settled: a dropped record is there again, with all that is remembered of it. To a replica it
    /// is as a `Put`.
    Revive {
        /// Its id.
        id: String,
        /// Its fields.
        value: Value,
    },
    /// A record goes.
    Drop,
    /// A list gets an element.
    Insert {
        /// Its id; the service makes one where there is none.
        id: Option<String>,
        /// What it is.
        value: Value,
        /// Where it goes.
        to: Place,
        /// Settled: the place as its proposer saw it, if it has moved since.
        made: Option<Made<Place>>,
    },
    /// An element goes elsewhere in its list.
    Move {
        /// Where.
        to: Place,
        /// Settled: the place as its proposer saw it, if it has moved since.
        made: Option<Made<Place>>,
    },
    /// An element goes.
    Remove,
    /// Characters of a text go and others come.
    Splice {
        /// Where, which go, which come.
        splice: Splicing,
        /// Settled: the place as its proposer saw it, if it has moved since.
        made: Option<Made<(usize, usize)>>,
        /// Settled: it takes back what these updates did to the text. The first splice of an undo
        /// names them and stands for all of it; those after it tell the rest of what that changed,
        /// and name none.
        back: Option<Vec<u64>>,
    },
    /// Settled: the whole state is another.
    Reset(Value),
    /// Told to some: they see the place from now on, and this is there.
    Show(Value),
    /// Told to some: they do not see the place any more.
    Hide,
    /// Asked: the proposal stands or falls with what is there.
    Test(Value),
    /// Asked: what a field makes of it by rules of play.
    Act(Act),
    /// Asked: what somebody did last is taken back, or what they took back is done again.
    TakeBack {
        /// Which of both.
        way: Back,
        /// What is meant by it, so that it is not another by now.
        of: Option<Step>,
        /// Whether what cannot be taken back now is passed over.
        skip: bool,
    },
    /// Settled by another version than this one, which cannot apply it.
    Unknown {
        /// Its name.
        name: String,
        /// Its members.
        members: BTreeMap<String, Value>,
    },
}

/// A step of what somebody did: by the name of its gesture, or by an update of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// The gesture of that name.
    Gesture(String),
    /// What that update belongs to.
    Update(u64),
}

/// Which way somebody goes in what they did.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Back {
    /// What they did is taken back.
    Undo,
    /// What they undid is done again.
    Redo,
}

impl Back {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Undo => "undo",
            Self::Redo => "redo",
        }
    }
}

/// Where an element of a list is to go.
pub type Place = Target;

/// A splice of a text, in Unicode scalar values.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Splicing {
    /// Where.
    pub index: usize,
    /// How many characters go.
    pub delete: usize,
    /// Which come.
    pub insert: String,
}

/// How a proposer saw a place: what they had seen, and the place in that.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Made<P> {
    /// The last update that they had seen.
    pub seen: u64,
    /// The place. For a splice its index and how many characters it deletes.
    pub place: P,
}

/// An operation that cannot be read.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Unread {
    /// No field has one of that name.
    Name(String),
    /// A member of the operation of that name is missing, of another type, or not known.
    Member(&'static str, Problem),
}

impl Unread {
    pub(crate) fn into_problem(self) -> Problem {
        match self {
            Self::Member(_, problem) => problem,
            Self::Name(name) => {
                Problem::new(ProblemKind::UnknownOp, format!("There is no operation {name:?}."))
            }
        }
    }
}

/// Levels of a value, so that whatever tells it stays within what clients read.
const DEEPEST_VALUE: usize = 48;

/// The refusal of a value that is nested more deeply than a frame lets it be told.
pub(crate) fn check_depth(value: &Value) -> Result<(), Problem> {
    if depth(value) <= DEEPEST_VALUE {
        return Ok(());
    }
    let detail = format!("A value may be nested at most {DEEPEST_VALUE} levels deep.");
    Err(Problem::new(ProblemKind::TooDeep, detail))
}

/// The name of the operation that only asks.
pub(crate) const TEST: &str = "test";

/// The names of what can be asked for.
const ASKED: &[&str] = &[
    "set", "clear", "add", "include", "exclude", "put", "drop", "insert", "move", "remove",
    "splice", "undo", "redo", TEST,
];

/// Every whole number up to here is exact in each client, whatever its language (RFC 8259, section
/// 6).
pub(crate) const EXACT: i64 = (1 << 53) - 1;

impl Op {
    /// Bytes of JSON by which a settled one grows the state at most.
    pub(crate) fn most_growth(&self) -> u64 {
        // An id stands with quotes, a colon and a comma; a character takes six bytes at most.
        let text = |text: &str| 6 * text.len() + 8;
        let id = |id: &Option<String>| id.as_deref().map_or(0, text);
        let bytes = match self {
            Self::Set(value) => weight(value),
            Self::SetBeside { values, .. } => values.iter().map(|value| weight(value) + 1).sum(),
            Self::Include(value) => weight(value) + 1,
            Self::Put { id: own, value } => id(own) + weight(value),
            Self::Revive { id: own, value } => text(own) + weight(value),
            Self::Insert { id: own, value, .. } => id(own) + weight(value) + 16,
            Self::Splice { splice, .. } => text(&splice.insert),
            Self::Add { .. } => 20,
            Self::Clear => 4,
            Self::Exclude(_) | Self::Drop | Self::Remove | Self::Move { .. } | Self::Hide => 0,
            Self::Show(value) | Self::Reset(value) => weight(value),
            // These change nothing themselves.
            Self::Test(_) | Self::Act(_) | Self::TakeBack { .. } | Self::Unknown { .. } => 0,
        };
        bytes as u64
    }

    /// Its name in JSON.
    pub fn name(&self) -> &str {
        match self {
            Self::Set(_) | Self::SetBeside { .. } => "set",
            Self::Clear => "clear",
            Self::Add { .. } => "add",
            Self::Include(_) => "include",
            Self::Exclude(_) => "exclude",
            Self::Put { .. } => "put",
            Self::Revive { .. } => "revive",
            Self::Drop => "drop",
            Self::Insert { .. } => "insert",
            Self::Move { .. } => "move",
            Self::Remove => "remove",
            Self::Splice { .. } => "splice",
            Self::Reset(_) => "reset",
            Self::Show(_) => "show",
            Self::Hide => "hide",
            Self::Test(_) => TEST,
            Self::Act(act) => act.name(),
            Self::TakeBack { way, .. } => way.name(),
            Self::Unknown { name, .. } => name,
        }
    }

    /// What it puts into a map or list: the id, where one is given, and the value.
    pub fn makes(&self) -> Option<(Option<&str>, &Value)> {
        match self {
            Self::Put { id, value } | Self::Insert { id, value, .. } => {
                Some((id.as_deref(), value))
            }
            Self::Revive { id, value } => Some((Some(id), value)),
            Self::Set(_)
            | Self::SetBeside { .. }
            | Self::Clear
            | Self::Add { .. }
            | Self::Include(_)
            | Self::Exclude(_)
            | Self::Drop
            | Self::Move { .. }
            | Self::Remove
            | Self::Splice { .. }
            | Self::Reset(_)
            | Self::Show(_)
            | Self::Hide
            | Self::Test(_)
            | Self::Act(_)
            | Self::TakeBack { .. }
            | Self::Unknown { .. } => None,
        }
    }

    /// The record that it puts into a map or list.
    pub(crate) fn record_mut(&mut self) -> Option<&mut Value> {
        match self {
            Self::Put { value, .. } | Self::Revive { value, .. } | Self::Insert { value, .. } => {
                Some(value)
            }
            Self::Set(_)
            | Self::SetBeside { .. }
            | Self::Clear
            | Self::Add { .. }
            | Self::Include(_)
            | Self::Exclude(_)
            | Self::Drop
            | Self::Move { .. }
            | Self::Remove
            | Self::Splice { .. }
            | Self::Reset(_)
            | Self::Show(_)
            | Self::Hide
            | Self::Test(_)
            | Self::Act(_)
            | Self::TakeBack { .. }
            | Self::Unknown { .. } => None,
        }
    }

    /// Gives the record or element that it makes an id, where it has none.
    pub(crate) fn give_id(&mut self, made: impl FnOnce() -> String) {
        if let Self::Put { id: id @ None, .. } | Self::Insert { id: id @ None, .. } = self {
            *id = Some(made());
        }
    }

    /// Whether the record or element at its path goes.
    pub fn takes_away(&self) -> bool {
        match self {
            Self::Drop | Self::Remove => true,
            Self::Set(_)
            | Self::SetBeside { .. }
            | Self::Clear
            | Self::Add { .. }
            | Self::Include(_)
            | Self::Exclude(_)
            | Self::Put { .. }
            | Self::Revive { .. }
            | Self::Insert { .. }
            | Self::Move { .. }
            | Self::Splice { .. }
            | Self::Reset(_)
            | Self::Show(_)
            | Self::Hide
            | Self::Test(_)
            | Self::Act(_)
            | Self::TakeBack { .. }
            | Self::Unknown { .. } => false,
        }
    }

    /// Whether it only asks, and changes nothing.
    pub fn is_condition(&self) -> bool {
        matches!(self, Self::Test(_))
    }

    /// Whether everything is another after it.
    pub fn is_reset(&self) -> bool {
        matches!(self, Self::Reset(_))
    }

    /// What is lost of it where it has no effect: the value that its proposer gave.
    pub(crate) fn given(&self) -> Option<Value> {
        match self {
            Self::Set(value) => Some((**value).clone()),
            Self::Include(value)
            | Self::Exclude(value)
            | Self::Put { value, .. }
            | Self::Revive { value, .. }
            | Self::Insert { value, .. } => Some(value.clone()),
            Self::Add { by, .. } => Some((*by).into()),
            Self::Splice { splice, .. } => {
                (!splice.insert.is_empty()).then(|| splice.insert.clone().into())
            }
            Self::SetBeside { value, .. } => value.clone(),
            Self::Clear
            | Self::Drop
            | Self::Move { .. }
            | Self::Remove
            | Self::Reset(_)
            | Self::Show(_)
            | Self::Hide
            | Self::Test(_)
            | Self::Act(_)
            | Self::TakeBack { .. }
            | Self::Unknown { .. } => None,
        }
    }

    /// Reads what an edit asks for.
    pub(crate) fn asked(edit: &Edit) -> Result<Self, Unread> {
        let asked = ASKED.iter().chain(&Act::ASKED).copied();
        let Some(name) = asked.into_iter().find(|name| *name == edit.op) else {
            return Err(Unread::Name(edit.op.clone()));
        };
        Self::asked_as(name, edit).map_err(|problem| Unread::Member(name, problem))
    }

    fn asked_as(name: &str, edit: &Edit) -> Result<Self, Problem> {
        let members = Members(edit);
        Ok(match name {
            // A deadline is set to a time, everything else to a value.
            "set" if edit.arg("due").or(edit.arg("in")).is_some() => {
                Self::Act(Act::asked(name, members)?)
            }
            "set" => Self::Set(members.only(&["value"])?.value()?.into()),
            "clear" => members.only(&[]).map(|_| Self::Clear)?,
            "add" => Self::Add { by: members.only(&["by"])?.whole("by")?, now: None },
            "include" => Self::Include(members.only(&["value"])?.value()?),
            "exclude" => Self::Exclude(members.only(&["value"])?.value()?),
            "put" => {
                Self::Put { id: members.only(&["id", "value"])?.id()?, value: members.value()? }
            }
            "drop" => members.only(&[]).map(|_| Self::Drop)?,
            "insert" => {
                members.only(&["id", "value", "after", "before", "index"])?;
                let (id, to) = (
                    members.id()?,
                    members.place(&["after", "before", "index"])?.unwrap_or(Target::End),
                );
                Self::Insert { id, value: members.value()?, to, made: None }
            }
            "move" => {
                let to = members.only(&["after", "before"])?.place(&["after", "before"])?;
                let detail = "\"move\" needs \"after\" or \"before\": an element's id, or null \
                    for the front or the end.";
                Self::Move { to: to.ok_or_else(|| members.malformed(detail))?, made: None }
            }
            "remove" => members.only(&[]).map(|_| Self::Remove)?,
            "splice" => {
                let splice = members.only(&["index", "delete", "insert"])?.splice()?;
                if splice.delete == 0 && splice.insert.is_empty() {
                    let detail = "A splice deletes or inserts something: give \"delete\", \
                        \"insert\" or both.";
                    return Err(members.malformed(detail));
                }
                Self::Splice { splice, made: None, back: None }
            }
            "undo" => members.only(&["of", "skip"])?.taking_back(Back::Undo)?,
            "redo" => members.only(&["of", "skip"])?.taking_back(Back::Redo)?,
            TEST => Self::Test(members.only(&["value"])?.value()?),
            _ => Self::Act(Act::asked(name, members)?),
        })
    }

    /// Reads what an edit of the session itself asks for.
    pub(crate) fn asked_by_session(edit: &Edit) -> Result<Self, Unread> {
        match Act::OWN.iter().find(|name| **name == edit.op) {
            Some(name) => Act::asked(name, Members(edit))
                .map(Self::Act)
                .map_err(|problem| Unread::Member(name, problem)),
            None => Self::asked(edit),
        }
    }

    /// Reads what an effect did.
    pub(crate) fn settled(effect: &Edit) -> Self {
        let unknown = |_| Self::Unknown { name: effect.op.clone(), members: effect.args.clone() };
        Self::settled_as(effect).unwrap_or_else(unknown)
    }

    /// Sets had `insert` and `remove` before they had `include` and `exclude`; those are told by
    /// their members.
    fn settled_as(effect: &Edit) -> Result<Self, Problem> {
        let members = Members(effect);
        let op = match (effect.op.as_str(), effect.arg("id").is_some()) {
            ("set", _) => match effect.arg("values") {
                None => Self::Set(members.need("value")?.into()),
                Some(Value::Array(values)) => {
                    Self::SetBeside { values: values.clone(), value: effect.arg("value").cloned() }
                }
                Some(_) => return Err(members.malformed("\"values\" must be an array.")),
            },
            ("clear", _) => Self::Clear,
            ("add", _) => Self::Add { by: members.whole("by")?, now: Some(members.whole("now")?) },
            ("include", _) | ("insert", false) => Self::Include(members.need("value")?),
            ("exclude", _) => Self::Exclude(members.need("value")?),
            ("remove", _) => effect.arg("value").cloned().map_or(Self::Remove, Self::Exclude),
            ("put", _) => Self::Put { id: members.id()?, value: members.need("value")? },
            ("revive", true) => {
                let id = members.id()?.unwrap_or_default();
                Self::Revive { id, value: members.need("value")? }
            }
            ("drop", _) => Self::Drop,
            ("insert", true) => {
                let (to, made) = members.settled_place()?;
                Self::Insert { id: members.id()?, value: members.need("value")?, to, made }
            }
            ("move", _) => {
                let (to, made) = members.settled_place()?;
                Self::Move { to, made }
            }
            ("splice", _) => {
                let made = effect.arg("made").map(|made| {
                    let made = Edit {
                        args: made.as_object().cloned().into_iter().flatten().collect(),
                        ..effect.clone()
                    };
                    let made = Members(&made);
                    let place = (made.index("index")?, made.index("delete")?);
                    Ok::<_, Problem>(Made { seen: made.index("seen")? as u64, place })
                });
                let back = effect.arg("back").map(|back| {
                    let seqs = back.as_array().into_iter().flatten().filter_map(Value::as_u64);
                    seqs.collect()
                });
                Self::Splice { splice: members.splice()?, made: made.transpose()?, back }
            }
            ("reset", _) => Self::Reset(members.need("value")?),
            ("show", _) => Self::Show(members.need("value")?),
            ("hide", _) => Self::Hide,
            (name, _) => return Err(members.malformed(&format!("There is no effect {name:?}."))),
        };
        Ok(op)
    }

    /// Writes its members in JSON, in the order of their names, so that the same operation is
    /// always the same bytes.
    pub(crate) fn serialize_members<M: SerializeMap>(&self, map: &mut M) -> Result<(), M::Error> {
        match self {
            Self::Set(value) => map.serialize_entry("value", value),
            Self::Include(value)
            | Self::Exclude(value)
            | Self::Reset(value)
            | Self::Show(value)
            | Self::Test(value) => map.serialize_entry("value", value),
            Self::SetBeside { values, value } => {
                value.iter().try_for_each(|value| map.serialize_entry("value", value))?;
                map.serialize_entry("values", values)
            }
            Self::Clear | Self::Drop | Self::Remove | Self::Hide => Ok(()),
            Self::Unknown { members, .. } => {
                members.iter().try_for_each(|(name, value)| map.serialize_entry(name, value))
            }
            Self::Act(act) => act.serialize_members(map),
            Self::Add { by, now } => {
                map.serialize_entry("by", by)?;
                now.iter().try_for_each(|now| map.serialize_entry("now", now))
            }
            Self::Put { id, value } => {
                id.iter().try_for_each(|id| map.serialize_entry("id", id))?;
                map.serialize_entry("value", value)
            }
            Self::Revive { id, value } => {
                map.serialize_entry("id", id)?;
                map.serialize_entry("value", value)
            }
            Self::Insert { id, value, to, made } => {
                serialize_place(map, to)?;
                id.iter().try_for_each(|id| map.serialize_entry("id", id))?;
                made.iter().try_for_each(|made| map.serialize_entry("made", made))?;
                map.serialize_entry("value", value)
            }
            Self::Move { to, made } => {
                serialize_place(map, to)?;
                made.iter().try_for_each(|made| map.serialize_entry("made", made))
            }
            Self::TakeBack { of, skip, .. } => {
                match of {
                    Some(Step::Gesture(name)) => map.serialize_entry("of", name)?,
                    Some(Step::Update(seq)) => map.serialize_entry("of", seq)?,
                    None => {}
                }
                if *skip { map.serialize_entry("skip", skip) } else { Ok(()) }
            }
            Self::Splice { splice, made, back } => {
                back.iter().try_for_each(|back| map.serialize_entry("back", back))?;
                map.serialize_entry("delete", &splice.delete)?;
                map.serialize_entry("index", &splice.index)?;
                map.serialize_entry("insert", &splice.insert)?;
                let Some(Made { seen, place: (index, delete) }) = made else { return Ok(()) };
                map.serialize_entry(
                    "made",
                    &json!({ "seen": seen, "index": index, "delete": delete }),
                )
            }
        }
    }
}

fn serialize_place<M: SerializeMap>(map: &mut M, place: &Place) -> Result<(), M::Error> {
    match place {
        Target::Front => map.serialize_entry("after", &()),
        Target::After(id) => map.serialize_entry("after", id),
        Target::Before(id) => map.serialize_entry("before", id),
        Target::Index(index) => map.serialize_entry("index", index),
        Target::End => Ok(()),
    }
}

impl Serialize for Made<Place> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("seen", &self.seen)?;
        serialize_place(&mut map, &self.place)?;
        map.end()
    }
}

impl Edit {
    /// Refuses values that the service could not even read with their frame.
    pub fn check_depth(&self) -> Result<(), Problem> {
        let checked = self.args.values().try_for_each(check_depth);
        checked.map_err(|problem| problem.at(self.at.as_str()))
    }

    /// What it asks for; `None` where that cannot be read, which its refusal will say.
    pub fn read(&self) -> Option<Op> {
        Op::asked(self).ok()
    }

    /// The path that it would change: of a record or element that it makes, that one's own. `None`
    /// where it only asks, and where it cannot be read.
    pub fn changes(&self) -> Option<Path> {
        let path = Path::parse(&self.at).ok()?;
        let op = self.read().filter(|op| !op.is_condition())?;
        // No record has an empty id, so one that is still to get its id is in the way of none that
        // is there.
        Some(op.makes().map_or(path.clone(), |(id, _)| inner(&path, id.unwrap_or_default())))
    }
}

/// The members of an operation, and the problems of those that do not fit.
#[derive(Clone, Copy)]
struct Members<'e>(&'e Edit);

impl Members<'_> {
    fn problem(self, kind: ProblemKind, detail: &str) -> Problem {
        Problem::new(kind, detail).at(self.0.at.as_str())
    }

    fn malformed(self, detail: &str) -> Problem {
        self.problem(ProblemKind::Malformed, detail)
    }

    /// Refuses members that the operation does not know.
    fn only(self, known: &[&str]) -> Result<Self, Problem> {
        match self.0.args.keys().find(|name| !known.contains(&name.as_str())) {
            None => Ok(self),
            Some(name) => Err(self
                .malformed(&format!("\"{}\" does not take \"{name}\".", self.0.op))
                .did_you_mean(nearest(name, known.iter().copied()))),
        }
    }

    fn need(self, name: &str) -> Result<Value, Problem> {
        let missing = || self.malformed(&format!("\"{}\" needs \"{name}\".", self.0.op));
        self.0.arg(name).cloned().ok_or_else(missing)
    }

    /// The member `value` as it is asked for. It may be nested less deeply than a frame, which has
    /// the way to it as well.
    fn value(self) -> Result<Value, Problem> {
        let value = self.need("value")?;
        check_depth(&value).map_err(|problem| problem.at(self.0.at.as_str()))?;
        Ok(value)
    }

    fn id(self) -> Result<Option<String>, Problem> {
        let id = self.0.arg("id").map(|id| checked_id(id).map(str::to_owned));
        id.transpose().map_err(|problem| problem.at(self.0.at.as_str()))
    }

    fn whole(self, name: &str) -> Result<i64, Problem> {
        whole(name, &self.need(name)?).map_err(|problem| problem.at(self.0.at.as_str()))
    }

    fn taking_back(self, way: Back) -> Result<Op, Problem> {
        let of = match self.0.arg("of") {
            None => None,
            Some(Value::String(name)) => Some(Step::Gesture(name.clone())),
            Some(Value::Number(seq)) if seq.is_u64() => seq.as_u64().map(Step::Update),
            Some(_) => {
                let detail = "\"of\" is the name of a gesture, or the \"seq\" of an update.";
                return Err(self.problem(ProblemKind::WrongType, detail));
            }
        };
        let skip = match self.0.arg("skip") {
            None => false,
            Some(Value::Bool(skip)) => *skip,
            Some(_) => {
                let detail = "\"skip\" must be true or false.";
                return Err(self.problem(ProblemKind::WrongType, detail));
            }
        };
        Ok(Op::TakeBack { way, of, skip })
    }

    /// A whole number from 0 on.
    fn index(self, name: &str) -> Result<usize, Problem> {
        let index = self.need(name)?.as_u64().and_then(|index| usize::try_from(index).ok());
        let wrong = || {
            self.problem(
                ProblemKind::WrongType,
                &format!("\"{name}\" must be a whole number from 0 on."),
            )
        };
        index.ok_or_else(wrong)
    }

    fn splice(self) -> Result<Splicing, Problem> {
        let insert = match self.0.arg("insert") {
            None => String::new(),
            Some(Value::String(insert)) => insert.clone(),
            Some(_) => {
                return Err(self.problem(ProblemKind::WrongType, "\"insert\" must be a string."));
            }
        };
        let delete = if self.0.arg("delete").is_none() { 0 } else { self.index("delete")? };
        Ok(Splicing { index: self.index("index")?, delete, insert })
    }

    fn place(self, names: &[&str]) -> Result<Option<Place>, Problem> {
        let given: Vec<_> =
            names.iter().filter_map(|name| self.0.arg(name).map(|value| (*name, value))).collect();
        let id = |id: &Value| {
            checked_id(id).map(str::to_owned).map_err(|problem| problem.at(self.0.at.as_str()))
        };
        match given[..] {
            [] => Ok(None),
            [("index", _)] => self.index("index").map(Target::Index).map(Some),
            [("after", Value::Null)] => Ok(Some(Target::Front)),
            [("before", Value::Null)] => Ok(Some(Target::End)),
            [("after", beside)] => Ok(Some(Target::After(id(beside)?))),
            [(_, beside)] => Ok(Some(Target::Before(id(beside)?))),
            _ => Err(self.malformed("Give one of \"after\", \"before\" and \"index\".")),
        }
    }

    fn settled_place(self) -> Result<(Place, Option<Made<Place>>), Problem> {
        let all = ["after", "before", "index"];
        let to = self.place(&all)?.ok_or_else(|| self.malformed("The effect lacks \"after\"."))?;
        let Some(made) = self.0.arg("made").and_then(Value::as_object) else {
            return Ok((to, None));
        };
        let made = Edit {
            args: made.clone().into_iter().collect(),
            ..Edit::new(self.0.at.as_str(), &self.0.op)
        };
        let made = Members(&made);
        let place = made.place(&all)?.unwrap_or(Target::End);
        Ok((to, Some(Made { seen: made.index("seen")? as u64, place })))
    }
}

/// A whole number that every client can tell exactly.
pub(crate) fn whole(name: &str, value: &Value) -> Result<i64, Problem> {
    // 2.0 and 2 are the same number in JSON, and some clients write the one for the other.
    #[allow(
        clippy::cast_possible_truncation,
        reason = "kept to whole numbers within the exact range"
    )]
    let from_double = |double: f64| {
        (double.fract() == 0.0 && double.abs() <= EXACT as f64).then_some(double as i64)
    };
    let number = value.as_i64().or_else(|| value.as_f64().and_then(from_double));
    match (number, value) {
        (Some(number), _) if (-EXACT..=EXACT).contains(&number) => Ok(number),
        (_, Value::Number(number)) if !number.to_string().contains(['.', 'e']) => {
            Err(Problem::new(
                ProblemKind::OutOfBounds,
                format!(
                    "\"{name}\" goes from -(2^53 - 1) to 2^53 - 1, where every client is exact."
                ),
            ))
        }
        _ => {
            Err(Problem::new(ProblemKind::WrongType, format!("\"{name}\" must be a whole number.")))
        }
    }
}
