//! Queries: which records of a map or list, in which order. What a charter declares, and what
//! somebody may ask who is shown a part of the state.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use jsonschema::Validator;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use super::Charter;
use super::expression::{Expression, Read};
use super::pattern::Pattern;
use super::sight::Extent;
use crate::declaration::{Section, compile};
use crate::kind::Fields;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::suggest::nearest;

/// Rows that a result has at most, and those it has where nothing is said.
const MOST_ROWS: usize = 500;
const ROWS: usize = 100;
/// Keys that rows are ordered by, and parameters of one query.
const KEYS: usize = 4;
const PARAMETERS: usize = 16;
/// Bytes of the values of all parameters as JSON.
const PARAMETER_BYTES: usize = 4 << 10;

/// Queries that a charter may declare.
const MOST: usize = 100;

/// A query as it is written down.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Shape {
    /// The path of a map or list, with `*` for any record on the way.
    pub from: String,
    /// Which records, in CEL over `record`, `id`, `who` and the parameters.
    #[serde(rename = "where", default, skip_serializing_if = "Option::is_none")]
    pub condition: Option<String>,
    /// What they are ordered by: names of fields, with `-` before one that goes down.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub order: Vec<String>,
    /// How many rows; 100 where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<usize>,
    /// The fields that are sent; all where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fields: Option<Vec<String>>,
    /// The parameters, each a JSON Schema; one that takes `null` may be left out.
    #[serde(default, skip_serializing_if = "Map::is_empty")]
    pub with: Map<String, Value>,
}

/// A query that was checked against the fields.
#[derive(Clone, Debug)]
pub struct Query {
    pub(crate) from: Pattern,
    /// Its steps, `None` for any record.
    steps: Vec<Option<Token>>,
    /// Whether the elements are values without fields of their own.
    pub(crate) is_plain: bool,
    /// Its parts, all of which have to hold, and the text of the whole.
    pub(crate) condition: Vec<Expression>,
    pub(crate) source: String,
    pub(crate) order: Vec<(String, bool)>,
    pub(crate) limit: usize,
    pub(crate) pick: Option<Arc<BTreeSet<String>>>,
    parameters: BTreeMap<String, Parameter>,
}

#[derive(Clone, Debug)]
struct Parameter {
    schema: Value,
    validator: Arc<Validator>,
}

/// What of a shape does not fit: its key, what is expected there, and what may be meant.
pub(super) type Unfit = (&'static str, String, Option<String>);

impl Query {
    /// Checks a shape against the fields of a state.
    pub(crate) fn of(shape: &Shape, fields: &Fields) -> Result<Self, Unfit> {
        let expected = "the path of a map or list, such as \"/pickers\" or \"/orders/*/lines\"";
        let from = || ("from", expected.to_owned(), None);
        let around = Pattern::parse(&shape.from).filter(|from| from.tokens().is_some());
        let field = around.as_ref().and_then(|around| fields.declared(around)).ok_or_else(from)?;
        let (is_plain, each) = (field.has_plain_elements(), field.each());
        if !is_plain && each.is_none() {
            return Err(from());
        }
        let from = Pattern::parse(&format!("{}/*", shape.from)).ok_or_else(from)?;
        let steps = from.tokens().unwrap_or_default();
        let names: Vec<&str> =
            each.into_iter().flat_map(Fields::iter).map(|(name, _)| name).collect();
        let check = |key: &'static str, name: &str| match is_plain || names.contains(&name) {
            true => Ok(()),
            false => {
                let expected = format!("fields of the records: {}", names.join(", "));
                Err((key, expected, nearest(name, names.iter().copied())))
            }
        };
        let parameters = parameters(&shape.with)?;
        let condition = match &shape.condition {
            None => Vec::new(),
            Some(source) => {
                let known = ["record", "id", "who"].into_iter();
                let known: Vec<&str> = known.chain(parameters.keys().map(String::as_str)).collect();
                let whole = Expression::compile(source, &known)
                    .map_err(|expected| ("where", expected, None))?;
                whole.reads().try_for_each(|read| checked_read(read, each, is_plain))?;
                whole.conjuncts()
            }
        };
        if shape.order.len() > KEYS {
            return Err(("order", format!("at most {KEYS} fields"), None));
        }
        let key = |key: &String| match key.strip_prefix('-') {
            Some(name) => (name.to_owned(), true),
            None => (key.clone(), false),
        };
        let order: Vec<(String, bool)> = shape.order.iter().map(key).collect();
        for (name, _) in &order {
            check("order", name)?;
            let is_large =
                each.and_then(|each| each.field(name)).is_some_and(|field| !field.is_small());
            if is_large {
                let expected = "fields with one value each, such as registers and counters";
                return Err(("order", expected.to_owned(), None));
            }
        }
        for name in shape.fields.iter().flatten() {
            check("fields", name)?;
        }
        let limit = shape.limit.unwrap_or(ROWS);
        if !(1..=MOST_ROWS).contains(&limit) {
            return Err(("limit", format!("1 to {MOST_ROWS} rows"), None));
        }
        let pick = shape.fields.as_ref().map(|names| Arc::new(names.iter().cloned().collect()));
        let source = shape.condition.clone().unwrap_or_default();
        Ok(Self { from, steps, is_plain, condition, source, order, limit, pick, parameters })
    }

    /// The fields of a record that have a say in whether and where the record is a row; `None` if all
    /// have.
    pub(crate) fn deciding(&self) -> Option<BTreeSet<&str>> {
        let mut names: BTreeSet<&str> = self.order.iter().map(|(name, _)| name.as_str()).collect();
        for read in self.condition.iter().flat_map(Expression::reads) {
            if read.name == "record" {
                names.insert(read.member.as_deref()?);
            }
        }
        Some(names)
    }

    /// The fields that it reads or sends; `None` if that is all of them.
    fn names(&self) -> Option<BTreeSet<String>> {
        let mut names = BTreeSet::clone(self.pick.as_ref()?);
        names.extend(self.deciding()?.into_iter().map(str::to_owned));
        Some(names)
    }

    pub(crate) fn steps(&self) -> &[Option<Token>] {
        &self.steps
    }

    /// The tokens of the path of a row.
    pub(crate) fn depth(&self) -> usize {
        self.steps.len()
    }

    /// What of it a role may not see, and so not ask for; `None` where it may ask.
    pub(crate) fn hidden_from(&self, charter: &Charter, role: &str) -> Option<Path> {
        let (sight, fields) = (charter.sight(role), &charter.fields);
        let token = |step: &Option<Token>| step.clone().unwrap_or_else(|| "*".into());
        let record: Vec<Token> = self.steps.iter().map(token).collect();
        let hidden = |path: &Path| sight.most(fields, path) == Extent::Nothing;
        let around = Path::of(record.iter().cloned());
        if hidden(&around) {
            return Some(around);
        }
        let read: BTreeSet<String> = self
            .condition
            .iter()
            .flat_map(Expression::reads)
            .filter(|read| read.name == "record")
            .filter_map(|read| read.member.clone())
            .chain(self.order.iter().map(|(name, _)| name.clone()))
            .chain(self.pick.iter().flat_map(|pick| pick.iter()).cloned())
            .collect();
        let at = |name: String| Path::of(record.iter().cloned().chain([name.as_str().into()]));
        // Where no field is called so it is the id of the record.
        let each = fields.record_around(&self.from);
        let is_id =
            |name: &String| name == "id" && each.is_none_or(|each| each.field(name).is_none());
        read.into_iter().filter(|name| !is_id(name)).map(at).find(hidden)
    }

    /// Whether some of a role see more of its rows than others.
    pub(crate) fn is_private(&self, charter: &Charter, role: &str) -> bool {
        let names = self.names();
        let secrets = charter.sight(role).secrets();
        let mut places = secrets.iter().filter_map(|secret| charter.secrets.get(*secret));
        places.any(|secret| {
            let Some(place) = secret.place.tokens() else { return true };
            let mut steps = place.iter().zip(&self.steps);
            let is_here =
                steps.all(|pair| !matches!(pair, (Some(one), Some(other)) if one != other));
            let inside = place.get(self.steps.len()).map(Option::as_ref);
            let is_read = |name: Option<&Token>| {
                names.as_ref().zip(name).is_none_or(|(names, name)| names.contains(name.as_str()))
            };
            is_here && inside.is_none_or(is_read)
        })
    }
}

fn parameters(with: &Map<String, Value>) -> Result<BTreeMap<String, Parameter>, Unfit> {
    let is_name = |name: &str| {
        let mut chars = name.chars();
        chars.next().is_some_and(|first| first.is_ascii_lowercase())
            && chars.all(|char| char.is_ascii_alphanumeric() || char == '_')
            && !["record", "id", "who", "state", "in", "true", "false", "null"].contains(&name)
    };
    if with.len() > PARAMETERS || !with.keys().all(|name| is_name(name)) {
        let expected = format!(
            "at most {PARAMETERS} parameters, each a lower-case word other than record, id, who and state"
        );
        return Err(("with", expected, None));
    }
    let parameter = |(name, schema): (&String, &Value)| match compile(schema) {
        Ok(validator) => {
            let validator = Arc::new(validator);
            Ok((name.clone(), Parameter { schema: schema.clone(), validator }))
        }
        Err(why) => Err(("with", format!("a JSON Schema (2020-12) for {name:?}: {why}"), None)),
    };
    with.iter().map(parameter).collect()
}

fn checked_read(read: &Read, each: Option<&Fields>, is_plain: bool) -> Result<(), Unfit> {
    let unfit = |expected: String| Err(("where", expected, None));
    let member = read.member.as_deref();
    match (read.name.as_str(), member) {
        _ if read.is_each => unfit("a condition that goes through no collection".to_owned()),
        ("who", Some("id" | "role" | "claims")) => Ok(()),
        ("who", _) => unfit("who.id, who.role or who.claims".to_owned()),
        ("record", Some("id")) => Ok(()),
        ("record", Some(member)) if !is_plain => {
            let names: Vec<&str> =
                each.into_iter().flat_map(Fields::iter).map(|(name, _)| name).collect();
            match names.contains(&member) {
                true => Ok(()),
                false => {
                    let expected = format!("fields of the records: {}", names.join(", "));
                    Err(("where", expected, nearest(member, names.iter().copied())))
                }
            }
        }
        _ => Ok(()),
    }
}

impl Query {
    /// The values of all parameters, as they were given or as `null`.
    pub(crate) fn parameter_values(
        &self,
        with: &Map<String, Value>,
    ) -> Result<BTreeMap<String, Value>, Problem> {
        if serde_json::to_string(with).unwrap_or_default().len() > PARAMETER_BYTES {
            let detail = format!("The parameters take more than {PARAMETER_BYTES} bytes.");
            return Err(Problem::new(ProblemKind::TooLarge, detail));
        }
        if let Some(unknown) = with.keys().find(|name| !self.parameters.contains_key(*name)) {
            let known: Vec<&str> = self.parameters.keys().map(String::as_str).collect();
            let detail = match known[..] {
                [] => format!("The query has no parameters; {unknown:?} is none."),
                _ => format!("The query takes {}; {unknown:?} is none.", known.join(", ")),
            };
            return Err(Problem::new(ProblemKind::OutOfBounds, detail)
                .did_you_mean(nearest(unknown, known.iter().copied())));
        }
        let value = |(name, parameter): (&String, &Parameter)| {
            let value = with.get(name).cloned().unwrap_or_default();
            match parameter.validator.is_valid(&value) {
                true => Ok((name.clone(), value)),
                false => {
                    let detail = match with.contains_key(name) {
                        true => format!(
                            "The parameter {name:?} does not fit its schema {}.",
                            parameter.schema
                        ),
                        false => format!("The query needs the parameter {name:?}."),
                    };
                    Err(Problem::new(ProblemKind::OutOfBounds, detail))
                }
            }
        };
        self.parameters.iter().map(value).collect()
    }
}

pub(super) fn read_queries(
    root: &mut Section<'_>,
    fields: &Fields,
) -> BTreeMap<String, Arc<Query>> {
    let mut queries = BTreeMap::new();
    let Some(mut section) = root.known_section("queries") else { return queries };
    let names = section.keys();
    if names.len() > MOST {
        section.fault_at(&names[MOST], &format!("at most {MOST} queries"), None);
    }
    for name in names {
        let Some(mut inner) = section.section(&name) else { continue };
        let shape = inner.shape();
        inner.finish();
        match Query::of(&shape, fields) {
            Ok(query) => drop(queries.insert(name, Arc::new(query))),
            Err((key, expected, meant)) => inner.fault_at(key, &expected, meant),
        }
    }
    section.finish();
    queries
}

impl Section<'_> {
    fn shape(&mut self) -> Shape {
        let with = match self.has("with").then(|| self.json("with")).flatten() {
            Some(Value::Object(with)) => with,
            _ => Map::new(),
        };
        let list = |section: &mut Self, key: &'static str| {
            let json = section.has(key).then(|| section.json(key)).flatten()?;
            let names: Option<Vec<String>> = json.as_array().map(|names| {
                names.iter().filter_map(|name| name.as_str().map(str::to_owned)).collect()
            });
            if names.as_ref().map(Vec::len) != json.as_array().map(Vec::len) || names.is_none() {
                section.fault_at(key, "an array of names of fields", None);
            }
            names
        };
        let limit = self.integer("limit", 1..=i64::from(u32::MAX));
        Shape {
            from: self.text("from").unwrap_or_default(),
            condition: self.text("where"),
            order: list(self, "order").unwrap_or_default(),
            limit: limit.and_then(|limit| usize::try_from(limit).ok()),
            fields: list(self, "fields"),
            with,
        }
    }
}
