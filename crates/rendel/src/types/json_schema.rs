//! JSON Schema 2020-12: of the plain state, and of edits, presence and cues among its definitions.

use serde_json::{Map, Value, json};

use super::{Declared, Field, Fields};

pub(super) fn write(declared: &Declared) -> String {
    let edits: Vec<Value> =
        declared.places().iter().flat_map(|(path, field)| edits(path, field)).collect();
    let named = |(name, schema): &(String, Value)| (name.clone(), schema.clone());
    let presence: Map<String, Value> = declared.presence.iter().map(named).collect();
    let cue = |(name, data): &(String, Option<Value>)| {
        (name.clone(), data.clone().unwrap_or(json!(false)))
    };
    let cues: Map<String, Value> = declared.cues.iter().map(cue).collect();
    let mut schema = json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$comment": format!("Made from the charter {} version {} by `rendel charter types`. Do not edit.", declared.charter, declared.version),
        "title": declared.charter,
    });
    let state = record(&declared.fields);
    if let (Some(whole), Value::Object(state)) = (schema.as_object_mut(), state) {
        whole.extend(state);
    }
    schema["$defs"] = json!({
        "edit": { "anyOf": edits },
        "role": { "enum": declared.roles },
        "presence": { "type": "object", "properties": presence, "additionalProperties": false },
        "cues": { "type": "object", "properties": cues, "additionalProperties": false },
    });
    format!("{schema:#}\n")
}

fn record(fields: &Fields) -> Value {
    let members: Map<String, Value> =
        fields.iter().map(|(name, field)| (name.clone(), value(field))).collect();
    json!({ "type": "object", "properties": members, "additionalProperties": false })
}

fn value(field: &Field) -> Value {
    match field {
        Field::Register(schema, false) => json!({ "anyOf": [schema, { "type": "null" }] }),
        Field::Register(schema, true) | Field::Set(schema) => {
            json!({ "type": "array", "items": schema })
        }
        Field::Counter => json!({ "type": "integer" }),
        Field::Text => json!({ "type": "string" }),
        Field::Map(each) => json!({ "type": "object", "additionalProperties": record(each) }),
        Field::Records(each) => elements(&record(each)),
        Field::Values(schema) => elements(schema),
        Field::Kept(_, schema, _) => schema.clone(),
    }
}

fn elements(value: &Value) -> Value {
    json!({ "type": "array", "items": { "type": "object", "required": ["id", "value"],
        "properties": { "id": { "type": "string" }, "value": value } } })
}

fn edits(path: &str, field: &Field) -> Vec<Value> {
    let pattern = format!("^{}$", path.replace('*', "[^/]+"));
    let at = json!({ "type": "string", "pattern": pattern });
    let inside =
        json!({ "type": "string", "pattern": format!("{}/[^/]+$", &pattern[..pattern.len() - 1]) });
    let edit = |at: &Value, op: &str, members: Value, required: &[&str]| {
        let mut properties = json!({ "at": at, "op": { "const": op } });
        if let (Some(all), Value::Object(members)) = (properties.as_object_mut(), members) {
            all.extend(members);
        }
        let required: Vec<&str> = ["at", "op"].iter().chain(required).copied().collect();
        json!({ "type": "object", "properties": properties, "required": required, "additionalProperties": false })
    };
    let integer = || json!({ "type": "integer" });
    let beside = || json!({ "type": ["string", "null"] });
    let id = || json!({ "type": "string" });
    let list = |value: Value| {
        let mut insert = json!({ "id": id(), "value": value });
        let place = json!({ "after": beside(), "before": beside(), "index": integer() });
        if let (Some(all), Value::Object(place)) = (insert.as_object_mut(), place.clone()) {
            all.extend(place);
        }
        vec![
            edit(&at, "insert", insert, &["value"]),
            edit(&inside, "move", place, &[]),
            edit(&inside, "remove", json!({}), &[]),
        ]
    };
    match field {
        Field::Register(schema, _) => vec![
            edit(&at, "set", json!({ "value": schema }), &["value"]),
            edit(&at, "test", json!({ "value": schema }), &["value"]),
            edit(&at, "clear", json!({}), &[]),
        ],
        Field::Counter => vec![edit(&at, "add", json!({ "by": integer() }), &["by"])],
        Field::Text => {
            let members = json!({ "index": integer(), "delete": integer(), "insert": id() });
            vec![edit(&at, "splice", members, &["index"])]
        }
        Field::Set(schema) => vec![
            edit(&at, "include", json!({ "value": schema }), &["value"]),
            edit(&at, "exclude", json!({ "value": schema }), &["value"]),
        ],
        Field::Map(each) => vec![
            edit(&at, "put", json!({ "id": id(), "value": record(each) }), &["value"]),
            edit(&inside, "drop", json!({}), &[]),
        ],
        Field::Records(each) => list(record(each)),
        Field::Values(schema) => list(schema.clone()),
        Field::Kept(_, _, acts) => acts
            .iter()
            .map(|act| {
                let members = act.members.iter();
                let members = members.map(|one| (one.name.to_owned(), one.of.schema()));
                let needed = act.members.iter().filter(|one| one.is_needed).map(|one| one.name);
                let needed: Vec<&str> = needed.collect();
                edit(&at, act.op, Value::Object(members.collect()), &needed)
            })
            .collect(),
    }
}
