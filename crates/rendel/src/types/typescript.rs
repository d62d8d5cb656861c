//! TypeScript: a type parameter for `connect` of `@rendel/client`.

use std::fmt::Write as _;

use serde_json::Value;

use super::play::{Act, Member, Of};
use super::{Declared, Field, Fields, members_of, pascal, types_of};

pub(super) fn write(declared: &Declared) -> String {
    let name = pascal(&declared.charter);
    let mut text = format!(
        "/** What the charter declares: `connect<{name}>({{ … }})`. */\n\
         export type {name} = {{\n  fields: {};\n  role: {};\n",
        fields(&declared.fields, 1),
        either(declared.roles.iter().map(|role| literal(&role.as_str().into()))),
    );
    // Writing to a string cannot fail.
    let _ = writeln!(text, "  presence: {};", object(&declared.presence, 1, of));
    let cue = |data: &Option<Value>| data.as_ref().map_or_else(|| "undefined".to_owned(), of);
    let _ = writeln!(text, "  cues: {};", object(&declared.cues, 1, cue));
    let _ = writeln!(text, "  edits: {name}Edit;\n}};\n\n/** An edit that the charter knows. */");
    let _ = write!(text, "export type {name}Edit =");
    for (path, field) in declared.places() {
        let at = match path.contains('*') {
            true => format!("`{}`", path.replace('*', "${string}")),
            false => format!("\"{path}\""),
        };
        let inside = format!("`{}/${{string}}`", path.replace('*', "${string}"));
        for edit in edits(field, &at, &inside) {
            let _ = write!(text, "\n  | {edit}");
        }
    }
    text.push_str(";\n");
    // What is imported and not used is a fault in some projects.
    let kinds =
        ["PrivatePatch", "Counter", "Json", "Kept", "ListOf", "MapOf", "Register", "SetOf", "Text"];
    let is_used =
        |kind: &&str| text.split(|char: char| !char.is_alphanumeric()).any(|w| w == *kind);
    let used: Vec<&str> = kinds.into_iter().filter(is_used).collect();
    let play: Vec<&str> = ["Ballot", "Chance", "Seats", "Turn"]
        .into_iter()
        .filter(|kind| text.contains(&format!("Kept<{kind}>")))
        .collect();
    let import = [(used, ""), (play, "/play")].map(|(used, from)| match used.is_empty() {
        true => String::new(),
        false => format!("import type {{ {} }} from \"@rendel/client{from}\";\n", used.join(", ")),
    });
    let import = import.concat() + if import.concat().is_empty() { "" } else { "\n" };
    format!(
        "// Made from the charter {} version {} by `rendel charter types`. Do not edit.\n\n\
         {import}{text}",
        declared.charter, declared.version
    )
}

fn edits(field: &Field, at: &str, inside: &str) -> Vec<String> {
    let place = "after?: string | null; before?: string | null; index?: number";
    let element = |value: String| {
        vec![
            format!("{{ at: {at}; op: \"insert\"; id?: string; value: {value}; {place} }}"),
            format!("{{ at: {inside}; op: \"move\"; {place} }}"),
            format!("{{ at: {inside}; op: \"remove\" }}"),
        ]
    };
    match field {
        Field::Register(schema, _) => vec![
            format!("{{ at: {at}; op: \"set\" | \"test\"; value: {} }}", of(schema)),
            format!("{{ at: {at}; op: \"clear\" }}"),
        ],
        Field::Counter => vec![format!("{{ at: {at}; op: \"add\"; by: number }}")],
        Field::Text => vec![format!(
            "{{ at: {at}; op: \"splice\"; index: number; delete?: number; insert?: string }}"
        )],
        Field::Set(schema) => {
            vec![format!("{{ at: {at}; op: \"include\" | \"exclude\"; value: {} }}", of(schema))]
        }
        Field::Map(each) => vec![
            format!("{{ at: {at}; op: \"put\"; id?: string; value: {} }}", record(each)),
            format!("{{ at: {inside}; op: \"drop\" }}"),
        ],
        Field::Records(each) => element(record(each)),
        Field::Values(schema) => element(of(schema)),
        Field::Kept(_, _, acts) => acts.iter().map(|one| act(at, one)).collect(),
    }
}

fn act(at: &str, act: &Act) -> String {
    let member = |member: &Member| {
        let mark = if member.is_needed { "" } else { "?" };
        let of = match member.of {
            Of::Text => "string",
            Of::Whole => "number",
            Of::Texts => "string[]",
            Of::Number => "number | \"unsure\"",
            Of::Real => "number",
            Of::Span => "number | string",
        };
        format!("; {}{mark}: {of}", member.name)
    };
    let members: String = act.members.iter().map(member).collect();
    format!("{{ at: {at}; op: \"{}\"{members} }}", act.op)
}

/// A record as it is put: what is left out has its initial value.
fn record(each: &Fields) -> String {
    let member = |(name, field): &(String, Field)| {
        let value = match field {
            Field::Register(schema, false) => format!("{} | null", of(schema)),
            Field::Register(schema, true) | Field::Set(schema) => {
                format!("readonly {}[]", grouped(of(schema)))
            }
            Field::Counter => "number".to_owned(),
            Field::Text => "string".to_owned(),
            Field::Map(each) => format!("{{ [id: string]: {} }}", record(each)),
            Field::Records(_) | Field::Values(_) | Field::Kept(..) => "Json".to_owned(),
        };
        format!("{}?: {value}", member_name(name))
    };
    format!("{{ {} }}", each.iter().map(member).collect::<Vec<_>>().join("; "))
}

fn fields(declared: &Fields, depth: usize) -> String {
    object(declared, depth, |field| match field {
        Field::Register(schema, false) => format!("Register<{}>", of(schema)),
        Field::Register(schema, true) => format!("PrivatePatch<{}>", of(schema)),
        Field::Counter => "Counter".to_owned(),
        Field::Text => "Text".to_owned(),
        Field::Set(schema) => format!("SetOf<{}>", of(schema)),
        Field::Map(each) => format!("MapOf<{}>", fields(each, depth + 1)),
        Field::Records(each) => format!("ListOf<{}>", fields(each, depth + 1)),
        Field::Values(schema) => format!("ListOf<{}>", of(schema)),
        Field::Kept(kind, schema, _) => match kind.as_str() {
            "total" => format!("Kept<{}>", of(schema)),
            "random" => "Kept<Chance>".to_owned(),
            kind => format!("Kept<{}>", pascal(kind)),
        },
    })
}

fn object<V>(members: &[(String, V)], depth: usize, write: impl Fn(&V) -> String) -> String {
    if members.is_empty() {
        return "{ [name: string]: never }".to_owned();
    }
    let (inner, outer) = ("  ".repeat(depth + 1), "  ".repeat(depth));
    let line =
        |(name, value): &(String, V)| format!("{inner}{}: {};\n", member_name(name), write(value));
    format!("{{\n{}{outer}}}", members.iter().map(line).collect::<String>())
}

fn member_name(name: &str) -> String {
    let is_plain = |char: char| char.is_ascii_alphanumeric() || char == '_';
    let begins = name.starts_with(|char: char| char.is_ascii_digit());
    if name.chars().all(is_plain) && !begins { name.to_owned() } else { literal(&name.into()) }
}

fn literal(value: &Value) -> String {
    value.to_string()
}

fn either(options: impl Iterator<Item = String>) -> String {
    let options: Vec<_> = options.collect();
    if options.is_empty() { "string".to_owned() } else { options.join(" | ") }
}

fn grouped(type_: String) -> String {
    if type_.contains(" | ") { format!("({type_})") } else { type_ }
}

/// The type of the values of a JSON Schema, as far as its types say it.
fn of(schema: &Value) -> String {
    if let Some(one) = schema.get("const") {
        return literal(one);
    }
    if let Some(several) = schema["enum"].as_array() {
        return either(several.iter().map(literal));
    }
    let types = types_of(schema);
    if types.is_empty() {
        return "Json".to_owned();
    }
    let of_type = |name: &&str| match *name {
        "integer" | "number" => "number".to_owned(),
        "array" => format!("{}[]", grouped(of(&schema["items"]))),
        "object" => match members_of(schema) {
            members if members.is_empty() => "{ [name: string]: Json }".to_owned(),
            members => {
                let member = |(name, inner, is_required): &(&str, &Value, bool)| {
                    let mark = if *is_required { "" } else { "?" };
                    format!("{}{mark}: {}", member_name(name), of(inner))
                };
                format!("{{ {} }}", members.iter().map(member).collect::<Vec<_>>().join("; "))
            }
        },
        plain => plain.to_owned(),
    };
    either(types.iter().map(of_type))
}
