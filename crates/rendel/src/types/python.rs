//! Python: the state as `TypedDict`s, and a function for each edit.

use std::fmt::Write as _;

use serde_json::Value;

use super::play::{Member, Of};
use super::{Declared, Field, Fields, members_of, pascal, snake, types_of};

pub(super) fn write(declared: &Declared) -> String {
    let mut text = format!(
        "# Made from the charter {} version {} by `rendel charter types`. Do not edit.\n\n\
         from __future__ import annotations\n\nfrom typing import Any, Literal, TypedDict\n\n\n",
        declared.charter, declared.version
    );
    structure(&mut text, "State", &declared.fields);
    let literal = |names: Vec<&String>| match names.is_empty() {
        true => "str".to_owned(),
        false => format!(
            "Literal[{}]",
            names.iter().map(|name| format!("{name:?}")).collect::<Vec<_>>().join(", ")
        ),
    };
    // Writing to a string cannot fail, here and below.
    let _ = writeln!(text, "Role = {}", literal(declared.roles.iter().collect()));
    let _ =
        writeln!(text, "Cue = {}", literal(declared.cues.iter().map(|(name, _)| name).collect()));
    dictionary(
        &mut text,
        "Presence",
        declared.presence.iter().map(|(name, schema)| (name.clone(), of(schema))),
    );
    text.push_str("\n\nEdit = dict[str, Any]\n");
    for (path, field) in declared.places() {
        functions(&mut text, &path, field);
    }
    text
}

/// The functional form: names of members may be no names of Python.
fn dictionary(text: &mut String, name: &str, members: impl Iterator<Item = (String, String)>) {
    let members: Vec<_> =
        members.map(|(name, type_)| format!("    {name:?}: {type_:?},\n")).collect();
    let _ = write!(text, "{name} = TypedDict({name:?}, {{\n{}}}, total=False)\n", members.concat());
}

fn structure(text: &mut String, name: &str, fields: &Fields) {
    let own = |field_name: &str| format!("{name}{}", pascal(field_name));
    for (field_name, field) in fields {
        if let Field::Map(each) | Field::Records(each) = field {
            structure(text, &own(field_name), each);
        }
    }
    let member = |(field_name, field): &(String, Field)| {
        let type_ = match field {
            Field::Register(schema, false) => format!("{} | None", of(schema)),
            Field::Register(schema, true) | Field::Set(schema) => format!("list[{}]", of(schema)),
            Field::Counter => "int".to_owned(),
            Field::Text => "str".to_owned(),
            Field::Map(_) => format!("dict[str, {}]", own(field_name)),
            Field::Records(_) | Field::Values(_) => "list[dict[str, Any]]".to_owned(),
            Field::Kept(_, schema, _) => of(schema),
        };
        (field_name.clone(), type_)
    };
    dictionary(text, name, fields.iter().map(member));
    text.push_str("\n\n");
}

fn functions(text: &mut String, path: &str, field: &Field) {
    let mut write = |op: &str, within: bool, arguments: &[(&str, String)]| {
        let path = if within { format!("{path}/*") } else { path.to_owned() };
        let ids = path.matches('*').count();
        let mut list: Vec<String> = (0..ids).map(|at| format!("id{at}: str")).collect();
        list.extend(arguments.iter().map(|(name, type_)| format!("{name}: {type_}")));
        let mut at = path.clone();
        for id in 0..ids {
            at = at.replacen('*', &format!("{{id{id}}}"), 1);
        }
        let named = snake(path.replace("/*", "").trim_matches('/'));
        let members: String = arguments
            .iter()
            .map(|(name, _)| {
                let name = name.trim_end_matches('_');
                let own = matches!(name, "id" | "in").then_some("_").unwrap_or_default();
                format!(", {name:?}: {name}{own}")
            })
            .collect();
        let _ = writeln!(
            text,
            "\n\ndef {op}_{named}({}) -> Edit:\n    return {{\"at\": f{at:?}, \"op\": {op:?}{members}}}",
            list.join(", ")
        );
    };
    let value = |schema: &Value| ("value", of(schema));
    match field {
        Field::Register(schema, _) => {
            write("set", false, &[value(schema)]);
            write("clear", false, &[]);
        }
        Field::Counter => write("add", false, &[("by", "int".into())]),
        Field::Text => write(
            "splice",
            false,
            &[("index", "int".into()), ("delete", "int".into()), ("insert", "str".into())],
        ),
        Field::Set(schema) => {
            write("include", false, &[value(schema)]);
            write("exclude", false, &[value(schema)]);
        }
        Field::Map(_) => {
            write("put", false, &[("id_", "str".into()), ("value", "dict[str, Any]".into())]);
            write("drop", true, &[]);
        }
        Field::Records(_) => {
            write("insert", false, &[("value", "dict[str, Any]".into())]);
            write("remove", true, &[]);
        }
        Field::Values(schema) => {
            write("insert", false, &[value(schema)]);
            write("remove", true, &[]);
        }
        Field::Kept(_, _, acts) => {
            for act in acts {
                let argument = |member: &Member| {
                    let of = match member.of {
                        Of::Text => "str",
                        Of::Whole => "int",
                        Of::Texts => "list[str]",
                        Of::Number => "float | str",
                        Of::Real => "float",
                        Of::Span => "int | str",
                    };
                    let name = if member.name == "in" { "in_" } else { member.name };
                    let standard = if member.is_needed { "" } else { " | None = None" };
                    (name, format!("{of}{standard}"))
                };
                let arguments: Vec<_> = act.members.iter().map(argument).collect();
                write(act.op, false, &arguments);
            }
        }
    }
}

/// The type of the values of a JSON Schema, as far as its types say it.
fn of(schema: &Value) -> String {
    if let Some(several) = schema["enum"].as_array() {
        let plain = |value: &Value| match value {
            Value::Bool(true) => "True".to_owned(),
            Value::Bool(false) => "False".to_owned(),
            Value::Null => "None".to_owned(),
            other => other.to_string(),
        };
        return format!("Literal[{}]", several.iter().map(plain).collect::<Vec<_>>().join(", "));
    }
    let types = types_of(schema);
    if types.is_empty() {
        return "Any".to_owned();
    }
    let of_type = |name: &&str| match *name {
        "string" => "str".to_owned(),
        "boolean" => "bool".to_owned(),
        "integer" => "int".to_owned(),
        "number" => "float".to_owned(),
        "null" => "None".to_owned(),
        "array" => format!("list[{}]", of(&schema["items"])),
        _ if members_of(schema).iter().all(|(_, inner, _)| of(inner) == "float") => {
            "dict[str, float]".to_owned()
        }
        _ => "dict[str, Any]".to_owned(),
    };
    types.iter().map(of_type).collect::<Vec<_>>().join(" | ")
}
