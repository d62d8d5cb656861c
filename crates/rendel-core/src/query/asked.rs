//! What is asked for, and by whom: a query of the charter or one of the moment, with its
//! parameters.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use smallvec::{SmallVec, smallvec};

use super::order::Position;
use crate::actor::Actor;
use crate::canonical::CanonicalText;
use crate::charter::{Charter, Expression, Extent, Lens, Power, Query, Read, Relation, Shape};
use crate::grantees::Viewer;
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::scope::Scope;
use crate::state::State;

/// A request for rows.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Asked {
    /// A query of the charter.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Or one of the moment.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<Shape>,
    /// Or what is at one path.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<Path>,
    /// Values of the parameters.
    #[serde(default, skip_serializing_if = "Map::is_empty")]
    pub with: Map<String, Value>,
    /// At most this many rows, if the query would give more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<usize>,
    /// Only rows behind this place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Place>,
}

/// The place of a row in the order: the values that it is ordered by, and its path last.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Place(pub Vec<Value>);

/// How much two who look may share: all of a role that see the same, or only oneself.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Eyes {
    role: String,
    viewer: Option<Viewer>,
}

impl Eyes {
    /// The eyes of an asker: their own if what they ask for is private.
    pub(super) fn of(charter: &Charter, who: &Actor, is_private: bool) -> Self {
        let sight = charter.sight(&who.role);
        // Roles that see the same share.
        let same = charter.roles.iter().find(|(_, role)| role.see == *sight);
        let role = same.map_or_else(|| who.role.clone(), |(name, _)| name.clone());
        Self { role, viewer: is_private.then(|| Viewer::of(who)) }
    }

    pub(super) fn lens<'l>(&'l self, charter: &'l Charter, state: &'l State) -> Lens<'l> {
        Lens::new(charter, charter.sight(&self.role), self.viewer.as_ref(), state)
    }
}

/// What all who share an index have in common.
#[derive(Debug)]
pub(super) struct Common {
    pub(super) query: Arc<Query>,
    pub(super) eyes: Eyes,
    /// What has to hold beside the key.
    rest: Vec<Expression>,
    /// What the rest reads beside the record.
    values: BTreeMap<(String, Option<String>), Value>,
    /// The field whose value, or one of whose elements, has to be the group.
    key: Option<(String, Relation)>,
    /// Those with the same share an index.
    pub(super) identity: Arc<str>,
}

/// A query with all that its asker brings: a stretch of a group of an index.
#[derive(Clone, Debug)]
pub(super) struct Bound {
    pub(super) common: Arc<Common>,
    pub(super) group: CanonicalText,
    pub(super) limit: usize,
    pub(super) after: Option<Position>,
}

/// Where a record is in an index: in these groups, at this position.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Placed {
    /// In order, each once.
    pub(super) groups: SmallVec<[CanonicalText; 1]>,
    position: Position,
}

impl Placed {
    pub(super) fn path(&self) -> &Path {
        &self.position.1
    }

    pub(super) fn position(&self) -> &Position {
        &self.position
    }
}

impl Bound {
    /// Puts a query and its parameters together.
    pub(super) fn of(
        query: Arc<Query>,
        asked: &Asked,
        charter: &Charter,
        who: &Actor,
    ) -> Result<Self, Problem> {
        let given = query.parameter_values(&asked.with)?;
        let bound = |read: &Read| -> Option<Value> {
            match (read.name.as_str(), read.member.as_deref()) {
                ("who", Some("id")) => Some(who.id.clone().into()),
                ("who", Some("role")) => Some(who.role.clone().into()),
                ("who", Some("claims")) => serde_json::to_value(&who.claims).ok(),
                (name, None) => given.get(name).cloned(),
                (name, Some(member)) => given.get(name)?.get(member).cloned(),
            }
        };
        let is_of_record = |read: &Read| ["record", "id"].contains(&read.name.as_str());
        let (mut rest, mut key) = (Vec::new(), None);
        let mut parts = Vec::new();
        for (index, conjunct) in query.condition.iter().enumerate() {
            let mut alternatives = conjunct.alternatives();
            // What does not depend on the record is decided now.
            let is_open = |part: &Expression| part.reads().any(is_of_record);
            if alternatives.iter().any(|part| !is_open(part) && part.holds(bound) == Ok(true)) {
                continue;
            }
            alternatives.retain(is_open);
            let pair = match &alternatives[..] {
                [one] if key.is_none() && !query.is_plain => key_of(one, &bound),
                _ => None,
            };
            match pair {
                Some(pair) => key = Some(pair),
                None => {
                    parts.push(index);
                    rest.push(conjunct.clone());
                }
            }
        }
        let reads = rest.iter().flat_map(Expression::reads).filter(|read| !is_of_record(read));
        let values: BTreeMap<_, _> = reads
            .filter_map(|read| Some(((read.name.clone(), read.member.clone()), bound(read)?)))
            .collect();
        let eyes = Eyes::of(charter, who, query.is_private(charter, &who.role));
        let group = key.as_ref().map_or(Value::Null, |(.., value)| value.clone());
        let key = key.map(|(member, relation, _)| (member, relation));
        let values_in_order: Vec<_> = values.iter().collect();
        let relation = key.as_ref().map(|(member, relation)| (member, *relation == Relation::In));
        let identity = json!([
            query.from.to_string(),
            query.source,
            parts,
            values_in_order,
            relation,
            query.order,
            eyes.role,
            eyes.viewer,
        ]);
        let limit = match asked.limit {
            Some(0) => {
                let detail = "\"limit\" is at least 1.";
                return Err(Problem::new(ProblemKind::OutOfBounds, detail));
            }
            limit => limit.unwrap_or(query.limit).min(query.limit),
        };
        let after = asked.after.as_ref().map(|after| position(&query, after)).transpose()?;
        let group = CanonicalText::of(&group);
        let identity = identity.to_string().into();
        let common = Arc::new(Common { query, eyes, rest, values, key, identity });
        Ok(Self { common, group, limit, after })
    }

    /// What tells a window from others of its group, but for where it begins.
    pub(super) fn frame(&self) -> (usize, Option<Arc<BTreeSet<String>>>) {
        (self.limit, self.common.query.pick.clone())
    }
}

impl Common {
    /// Whether and where a record is a row, as the eyes see it. Cost O(conditions) and what they
    /// read.
    pub(super) fn place(&self, charter: &Charter, state: &State, path: &Path) -> Option<Placed> {
        let lens = self.eyes.lens(charter, state);
        if !state.has(&charter.fields, path.tokens()) || lens.extent(path) == Extent::Nothing {
            return None;
        }
        let id = || path.tokens().last().map(|id| Value::from(id.as_str()));
        let member = |name: &str| self.member(lens, path, name);
        let scope = Scope::of_record(lens, path.tokens());
        let read = |read: &Read| match (read.name.as_str(), read.member.as_deref()) {
            // A member that is hidden from the participant is `null`.
            ("record", Some(name)) if name != "id" => Some(member(name).unwrap_or_default()),
            ("record" | "id", _) => scope.read(read),
            (name, of) => self.values.get(&(name.to_owned(), of.map(str::to_owned))).cloned(),
        };
        if !self.rest.iter().all(|part| part.holds(read).unwrap_or(false)) {
            return None;
        }
        let mut groups: SmallVec<[CanonicalText; 1]> = match &self.key {
            None => smallvec![CanonicalText::of(&Value::Null)],
            Some((name, relation)) => {
                let value = match name.as_str() {
                    "id" => member("id").or_else(id),
                    name => member(name),
                };
                let value = value.unwrap_or_default();
                match (relation, &value) {
                    (Relation::Equals, value) => smallvec![CanonicalText::of(value)],
                    (Relation::In, Value::Array(elements)) => {
                        elements.iter().map(CanonicalText::of).collect()
                    }
                    (Relation::In, Value::Object(members)) => {
                        members.keys().map(|key| CanonicalText::of(&key.as_str().into())).collect()
                    }
                    (Relation::In, _) => SmallVec::new(),
                }
            }
        };
        groups.sort();
        groups.dedup();
        if groups.is_empty() {
            return None;
        }
        let values = self
            .query
            .order
            .iter()
            .map(|(name, is_down)| (member(name).unwrap_or_default(), *is_down));
        Some(Placed { groups, position: Position::of(values, path.clone()) })
    }

    /// What is sent of a row.
    pub(super) fn value(&self, charter: &Charter, state: &State, path: &Path) -> Value {
        let value = self.eyes.lens(charter, state).plain_at(path).unwrap_or_default();
        match (&self.query.pick, value) {
            (Some(pick), Value::Object(mut members)) => {
                members.retain(|name, _| pick.contains(name));
                Value::Object(members)
            }
            (_, value) => value,
        }
    }

    /// Whether a change of a field of a row changes what is sent of it.
    pub(super) fn sends(&self, member: &str) -> bool {
        self.query.pick.as_ref().is_none_or(|pick| pick.contains(member))
    }

    /// The place of a row, for who wants to go on behind it.
    pub(super) fn place_of(&self, charter: &Charter, state: &State, path: &Path) -> Place {
        let lens = self.eyes.lens(charter, state);
        let value = |(name, _): &(String, bool)| self.member(lens, path, name).unwrap_or_default();
        let values = self.query.order.iter().map(value);
        Place(values.chain([path.to_string().into()]).collect())
    }

    /// A field of a record, or a member of a plain element.
    fn member(&self, lens: Lens<'_>, path: &Path, name: &str) -> Option<Value> {
        match self.query.is_plain {
            true => lens.plain_at(path)?.get(name).cloned(),
            false => lens.member(path.tokens(), Some(name)),
        }
    }
}

/// The field, and the value that it is compared with, if a pair compares a field with a value.
fn key_of(
    part: &Expression,
    bound: &dyn Fn(&Read) -> Option<Value>,
) -> Option<(String, Relation, Value)> {
    let (relation, one, other) = part.pair()?;
    let of_record = |named: &[String]| match named {
        [record, name] if record == "record" => Some(name.clone()),
        [id] if id == "id" => Some(id.clone()),
        _ => None,
    };
    let value = |named: &[String]| {
        let read = |name: &str, member: Option<&String>| {
            bound(&Read { name: name.to_owned(), member: member.cloned(), is_each: false })
        };
        match named {
            [name] if !["record", "id", "who"].contains(&name.as_str()) => read(name, None),
            [who, claims, claim] if who == "who" && claims == "claims" => {
                read("who", Some(claims))?.get(claim).cloned()
            }
            [name, member] if name != "record" && member != "claims" => read(name, Some(member)),
            _ => None,
        }
    };
    match relation {
        Relation::In => Some((of_record(&other)?, relation, value(&one)?)),
        Relation::Equals => {
            let straight = of_record(&one).zip(value(&other));
            let (name, value) = straight.or_else(|| of_record(&other).zip(value(&one)))?;
            Some((name, relation, value))
        }
    }
}

/// Reads the place of a row of a query.
fn position(query: &Query, after: &Place) -> Result<Position, Problem> {
    let unfit = || {
        let keys: Vec<&str> = query.order.iter().map(|(name, _)| name.as_str()).collect();
        let detail = format!(
            "\"after\" is the place of a row: the values of {}, and its path.",
            if keys.is_empty() { "no field".to_owned() } else { keys.join(", ") }
        );
        Problem::new(ProblemKind::Malformed, detail)
    };
    let (path, values) = after.0.split_last().ok_or_else(unfit)?;
    let path = Path::parse(path.as_str().ok_or_else(unfit)?)?;
    if values.len() != query.order.len() || path.tokens().len() != query.depth() {
        return Err(unfit());
    }
    let values = values.iter().cloned().zip(query.order.iter().map(|(_, is_down)| *is_down));
    Ok(Position::of(values, path))
}

/// Refuses a query of the moment that does not fit.
pub(super) fn of_the_moment(
    shape: &Shape,
    charter: &Charter,
    who: &Actor,
) -> Result<Arc<Query>, Problem> {
    if !charter.has_power(&who.role, Power::Ask) {
        let detail = format!(
            "The role {:?} asks the queries of the charter only, by their names. The power \"ask\" \
             lets a role ask others.",
            who.role
        );
        return Err(Problem::new(ProblemKind::NotAllowed, detail));
    }
    let query = Query::of(shape, &charter.fields).map_err(|(key, expected, meant)| {
        let detail = format!("{key:?} of the query does not fit. Expected: {expected}.");
        Problem::new(ProblemKind::OutOfBounds, detail).did_you_mean(meant)
    })?;
    Ok(Arc::new(query))
}
