//! What a charter declares, as types of other languages, so that a misspelt path or a value that
//! does not fit is found before anything runs.

mod json_schema;
mod play;
mod python;
mod rust;
mod typescript;

use rendel_core::{Charter, KINDS};
use serde_json::{Map, Value, json};

/// A language, or what stands for one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum Language {
    Typescript,
    Rust,
    Python,
    JsonSchema,
}

impl Language {
    /// What a charter declares, in this language.
    pub(crate) fn write(self, charter: &Charter) -> String {
        let declared = Declared::of(charter);
        match self {
            Self::Typescript => typescript::write(&declared),
            Self::Rust => rust::write(&declared),
            Self::Python => python::write(&declared),
            Self::JsonSchema => json_schema::write(&declared),
        }
    }
}

/// What the languages need to know of a charter.
#[derive(Debug)]
struct Declared {
    charter: String,
    version: u64,
    fields: Fields,
    roles: Vec<String>,
    /// The JSON Schema of each fact.
    presence: Vec<(String, Value)>,
    /// The JSON Schema of the data of each cue; none where it has none.
    cues: Vec<(String, Option<Value>)>,
}

type Fields = Vec<(String, Field)>;

#[derive(Debug)]
enum Field {
    /// With the JSON Schema of a value, and whether several stand side by side.
    Register(Value, bool),
    Counter,
    Text,
    Set(Value),
    Map(Fields),
    /// A list of records.
    Records(Fields),
    /// A list of plain values.
    Values(Value),
    /// One that nobody sets: its kind, the JSON Schema of what it holds, the operations on it.
    Kept(String, Value, Vec<play::Act>),
}

impl Declared {
    fn of(charter: &Charter) -> Self {
        let json = charter.to_json();
        let object = |at: &str| json.pointer(at).and_then(Value::as_object).cloned();
        let facts = object("/presence/fields").unwrap_or_default();
        let cues = object("/cues").unwrap_or_default();
        let cue = |(name, cue): (String, Value)| (name, cue.get("data").cloned());
        Self {
            charter: charter.name.clone(),
            version: charter.version.into(),
            fields: fields(&object("/state").unwrap_or_default()),
            roles: charter.role_names().map(str::to_owned).collect(),
            presence: facts.into_iter().map(|(name, fact)| (name, fact_schema(fact))).collect(),
            cues: cues.into_iter().map(cue).collect(),
        }
    }

    /// Each field with its path; `*` stands for an id.
    fn places(&self) -> Vec<(String, &Field)> {
        fn walk<'f>(at: &str, fields: &'f Fields, found: &mut Vec<(String, &'f Field)>) {
            for (name, field) in fields {
                let path = format!("{at}/{}", name.replace('~', "~0").replace('/', "~1"));
                // Ballots are cast on the field that they belong to.
                let ballot = name.strip_suffix("-ballots");
                let is_kept = |(other, field): &(String, Field)| {
                    Some(other.as_str()) == ballot && matches!(field, Field::Kept(..))
                };
                if fields.iter().any(is_kept) {
                    continue;
                }
                found.push((path.clone(), field));
                if let Field::Map(each) | Field::Records(each) = field {
                    walk(&format!("{path}/*"), each, found);
                }
            }
        }
        let mut found = Vec::new();
        walk("", &self.fields, &mut found);
        found
    }
}

fn fields(declared: &Map<String, Value>) -> Fields {
    declared.iter().map(|(name, field)| (name.clone(), field_of(field))).collect()
}

fn field_of(field: &Value) -> Field {
    if let Some(schema) = play::schema(field) {
        let words = KINDS.iter().find(|kind| field["kind"] == kind.name);
        let kind = field["kind"].as_str().unwrap_or_default().to_owned();
        return Field::Kept(
            kind,
            schema,
            play::acts(field, words.map_or(&[], |words| words.takes)),
        );
    }
    let schema = || field.get("schema").cloned().unwrap_or_else(|| json!(true));
    let each = field.get("each").and_then(Value::as_object).map(fields);
    match (field["kind"].as_str().unwrap_or_default(), each) {
        ("counter", _) => Field::Counter,
        ("text", _) => Field::Text,
        ("set", _) => Field::Set(schema()),
        ("map", each) => Field::Map(each.unwrap_or_default()),
        ("list", Some(each)) => Field::Records(each),
        ("list", None) => Field::Values(schema()),
        _ => Field::Register(register_schema(field), field["merge"] == "all"),
    }
}

fn register_schema(field: &Value) -> Value {
    let is_id = field.get("refers").is_some() || field.get("filled").is_some();
    match field.get("schema") {
        _ if field.get("surface").is_some() => point(),
        Some(schema) => schema.clone(),
        None if is_id => json!({ "type": "string" }),
        None => json!(true),
    }
}

fn fact_schema(fact: Value) -> Value {
    if fact.get("surface").is_some() {
        return point();
    }
    if fact.get("refers").is_some() {
        return json!({ "type": "array", "items": { "type": "string" } });
    }
    if fact.get("anchor").is_some() {
        let integer = || json!({ "type": "integer" });
        return json!({ "type": "object", "required": ["at", "index"],
            "properties": { "at": { "type": "string" }, "index": integer(), "to": integer() } });
    }
    let mut schema = fact;
    if let Some(members) = schema.as_object_mut() {
        members.shift_remove("linger");
    }
    schema
}

fn point() -> Value {
    let number = || json!({ "type": "number" });
    json!({ "type": "object", "required": ["x", "y"], "properties": { "x": number(), "y": number() } })
}

/// The types that a JSON Schema names.
fn types_of(schema: &Value) -> Vec<&str> {
    match &schema["type"] {
        Value::String(one) => vec![one],
        Value::Array(several) => several.iter().filter_map(Value::as_str).collect(),
        _ => Vec::new(),
    }
}

/// The members of an object's schema, each with its own and whether it must be there.
fn members_of(schema: &Value) -> Vec<(&str, &Value, bool)> {
    let Some(members) = schema["properties"].as_object() else { return Vec::new() };
    let required = schema["required"].as_array();
    let is_required = |name: &str| required.is_some_and(|names| names.iter().any(|n| n == name));
    members.iter().map(|(name, schema)| (name.as_str(), schema, is_required(name))).collect()
}

/// `open-rows` as `OpenRows`.
fn pascal(name: &str) -> String {
    let words = name.split(|char: char| !char.is_alphanumeric()).filter(|word| !word.is_empty());
    words.map(|word| word[..1].to_uppercase() + &word[1..]).collect()
}

/// `open-rows` as `open_rows`.
fn snake(name: &str) -> String {
    let plain = |char: char| if char.is_alphanumeric() { char.to_ascii_lowercase() } else { '_' };
    name.chars().map(plain).collect()
}
