//! Values of a charter: names, sizes, durations, and JSON for what TOML has.

use serde_json::{Map, Value as Json};
use toml_edit::{Item, TableLike, Value};

pub(super) fn is_name(text: &str) -> bool {
    (1..=64).contains(&text.len())
        && text
            .bytes()
            .all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-')
}

pub(crate) fn is_field_name(text: &str) -> bool {
    (1..=64).contains(&text.len())
        && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'_')
}

pub(crate) fn parse_ms(text: &str) -> Option<u64> {
    let digits = text.bytes().take_while(u8::is_ascii_digit).count();
    let (number, unit) = text.split_at(digits);
    let unit = match unit {
        "ms" => 1,
        "s" => 1_000,
        "m" => 60_000,
        "h" => 3_600_000,
        "d" => 86_400_000,
        _ => return None,
    };
    number.parse::<u64>().ok()?.checked_mul(unit)
}

pub(super) fn parse_bytes(text: &str) -> Option<u64> {
    let digits = text.trim_end_matches(|c: char| !c.is_ascii_digit());
    let unit: u64 = match &text[digits.len()..] {
        "" | "B" => 1,
        "KiB" => 1 << 10,
        "MiB" => 1 << 20,
        _ => return None,
    };
    digits.parse::<u64>().ok()?.checked_mul(unit)
}

pub(super) fn to_json(item: &Item) -> Option<Json> {
    match item {
        Item::Value(value) => value_to_json(value),
        Item::Table(table) => table_to_json(table),
        Item::ArrayOfTables(tables) => tables
            .iter()
            .map(|table| table_to_json(table))
            .collect::<Option<Vec<_>>>()
            .map(Json::Array),
        Item::None => None,
    }
}

pub(crate) fn table_to_json(table: &dyn TableLike) -> Option<Json> {
    let members = table.iter().map(|(key, item)| Some((key.to_owned(), to_json(item)?)));
    members.collect::<Option<Map<_, _>>>().map(Json::Object)
}

fn value_to_json(value: &Value) -> Option<Json> {
    match value {
        Value::String(text) => Some(text.value().clone().into()),
        Value::Integer(number) => Some((*number.value()).into()),
        Value::Float(number) => serde_json::Number::from_f64(*number.value()).map(Json::Number),
        Value::Boolean(truth) => Some((*truth.value()).into()),
        Value::Datetime(time) => Some(time.value().to_string().into()),
        Value::Array(items) => {
            items.iter().map(value_to_json).collect::<Option<Vec<_>>>().map(Json::Array)
        }
        Value::InlineTable(table) => table_to_json(table),
    }
}
