//! Rust: the state as structures for `serde`, and a function for each edit.

use std::fmt::Write as _;

use serde_json::Value;

use super::play::{Member, Of};
use super::{Declared, Field, Fields, pascal, snake, types_of};

pub(super) fn write(declared: &Declared) -> String {
    let mut text = format!(
        "// Made from the charter {} version {} by `rendel charter types`. Do not edit.\n\n\
         use std::collections::BTreeMap;\n\nuse serde::{{Deserialize, Serialize}};\n\
         use serde_json::{{Value, json}};\n\n",
        declared.charter, declared.version
    );
    structure(&mut text, "State", &declared.fields);
    // Writing to a string cannot fail, here and below.
    let _ = writeln!(
        text,
        "/// An element of a list.\n#[derive(Clone, Debug, PartialEq, Serialize, \
        Deserialize)]\npub struct Element<V> {{\n    pub id: String,\n    pub value: V,\n}}\n"
    );
    choices(&mut text, "Role", "The roles of participants.", declared.roles.iter());
    let facts = declared.presence.iter().map(|(name, _)| name);
    choices(&mut text, "Fact", "What participants tell of themselves.", facts);
    choices(&mut text, "Cue", "The cues.", declared.cues.iter().map(|(name, _)| name));
    text.push_str("/// The edits that the charter knows, as the protocol writes them.\npub mod edits {\n    use super::*;\n");
    for (path, field) in declared.places() {
        functions(&mut text, &path, field);
    }
    text.push_str("}\n");
    text
}

fn structure(text: &mut String, name: &str, fields: &Fields) {
    let mut inner = String::new();
    let _ = writeln!(
        text,
        "#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]\npub struct {name} {{"
    );
    for (field_name, field) in fields {
        let own = format!("{name}{}", pascal(field_name));
        let type_ = match field {
            Field::Register(schema, false) => format!("Option<{}>", of(schema)),
            Field::Register(schema, true) | Field::Set(schema) => format!("Vec<{}>", of(schema)),
            Field::Counter => "i64".to_owned(),
            Field::Text => "String".to_owned(),
            Field::Map(each) => {
                structure(&mut inner, &own, each);
                format!("BTreeMap<String, {own}>")
            }
            Field::Records(each) => {
                structure(&mut inner, &own, each);
                format!("Vec<Element<{own}>>")
            }
            Field::Values(schema) => format!("Vec<Element<{}>>", of(schema)),
            Field::Kept(..) => "Value".to_owned(),
        };
        let plain = identifier(field_name);
        if plain != *field_name {
            let _ = writeln!(text, "    #[serde(rename = {field_name:?})]");
        }
        let _ = writeln!(text, "    #[serde(default)]\n    pub {plain}: {type_},");
    }
    let _ = writeln!(text, "}}\n");
    text.push_str(&inner);
}

fn choices<'n>(text: &mut String, name: &str, what: &str, names: impl Iterator<Item = &'n String>) {
    let names: Vec<_> = names.collect();
    if names.is_empty() {
        return;
    }
    let _ = writeln!(
        text,
        "/// {what}\n#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]\npub enum {name} {{"
    );
    for one in names {
        let _ = writeln!(text, "    #[serde(rename = {one:?})]\n    {},", pascal(one));
    }
    let _ = writeln!(text, "}}\n");
}

/// A function for each edit of a field. Where its path has ids they are arguments.
fn functions(text: &mut String, path: &str, field: &Field) {
    let mut write = |op: &str, within: bool, arguments: &[(&str, &str)], members: &str| {
        let path = if within { format!("{path}/*") } else { path.to_owned() };
        let ids = path.matches('*').count();
        let mut list: Vec<String> = (0..ids).map(|at| format!("id{at}: &str")).collect();
        list.extend(arguments.iter().map(|(name, type_)| format!("{name}: {type_}")));
        let mut at = path.clone();
        for id in 0..ids {
            at = at.replacen('*', &format!("{{id{id}}}"), 1);
        }
        let named = snake(path.replace("/*", "").trim_matches('/'));
        let _ = writeln!(
            text,
            "    pub fn {op}_{named}({}) -> Value {{\n        json!({{ \"at\": format!({at:?}), \"op\": {op:?}{members} }})\n    }}",
            list.join(", ")
        );
    };
    let value = ", \"value\": value";
    match field {
        Field::Register(schema, _) => {
            let of_value = of(schema);
            write("set", false, &[("value", &of_value)], value);
            write("clear", false, &[], "");
        }
        Field::Counter => write("add", false, &[("by", "i64")], ", \"by\": by"),
        Field::Text => {
            let arguments = [("index", "usize"), ("delete", "usize"), ("insert", "&str")];
            let members = ", \"index\": index, \"delete\": delete, \"insert\": insert";
            write("splice", false, &arguments, members);
        }
        Field::Set(schema) => {
            let of_value = of(schema);
            write("include", false, &[("value", &of_value)], value);
            write("exclude", false, &[("value", &of_value)], value);
        }
        Field::Map(_) => {
            let members = ", \"id\": id, \"value\": value";
            write("put", false, &[("id", "&str"), ("value", "Value")], members);
            write("drop", true, &[], "");
        }
        Field::Records(_) | Field::Values(_) => {
            write("insert", false, &[("value", "Value")], value);
            write("remove", true, &[], "");
        }
        Field::Kept(_, _, acts) => {
            for act in acts {
                let argument = |member: &Member| {
                    let of = match (member.of, member.is_needed) {
                        (Of::Text, true) => "&str",
                        (Of::Text, false) => "Option<&str>",
                        (Of::Whole, true) => "u64",
                        (Of::Whole, false) => "Option<u64>",
                        (Of::Texts, _) => "&[&str]",
                        (Of::Number, _) => "Value",
                        (Of::Real, _) => "f64",
                        (Of::Span, true) => "i64",
                        (Of::Span, false) => "Option<i64>",
                    };
                    (identifier(member.name), of)
                };
                let arguments: Vec<_> = act.members.iter().map(argument).collect();
                let arguments: Vec<_> =
                    arguments.iter().map(|(name, of)| (name.as_str(), *of)).collect();
                let member = |one: &Member| format!(", \"{}\": {}", one.name, identifier(one.name));
                let members: String = act.members.iter().map(member).collect();
                write(act.op, false, &arguments, &members);
            }
        }
    }
}

fn identifier(name: &str) -> String {
    const WORDS: [&str; 12] = [
        "type", "match", "ref", "move", "in", "for", "use", "mod", "box", "loop", "final", "where",
    ];
    let plain = snake(name);
    if WORDS.contains(&plain.as_str()) { format!("{plain}_") } else { plain }
}

/// The type of the values of a JSON Schema, as far as its types say it.
fn of(schema: &Value) -> String {
    let is_text = |values: &Vec<Value>| values.iter().all(Value::is_string);
    if schema["enum"].as_array().is_some_and(is_text) {
        return "String".to_owned();
    }
    let plain = match types_of(schema)[..] {
        ["string"] => "String",
        ["boolean"] => "bool",
        ["integer"] => "i64",
        ["number"] => "f64",
        ["array"] => return format!("Vec<{}>", of(&schema["items"])),
        _ => "Value",
    };
    plain.to_owned()
}
