//! Canonical JSON and its digest.

use std::cmp::Ordering;
use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use serde_json::Value;
use sha2::{Digest as _, Sha256};

/// A value as RFC 8785 canonical JSON: one byte string per value, whoever writes it.
///
/// Numbers are written as ECMAScript writes doubles, so `1.0` and `1` are the same. Cost O(n log k)
/// for n bytes and at most k members in an object.
pub fn canonical_bytes(value: &Value) -> Vec<u8> {
    // Writing a `Value` to memory has no way to fail: its keys are strings and its numbers are
    // finite.
    serde_json_canonicalizer::to_vec(value).unwrap_or_default()
}

/// The SHA-256 of [`canonical_bytes`] in lower-case hex, 64 characters.
pub fn digest(value: &Value) -> String {
    hex::encode(Sha256::digest(canonical_bytes(value)))
}

/// A value's canonical JSON, ordered as RFC 8785 orders names: by UTF-16 code units, as ECMAScript
/// compares strings. So replicas in any language keep the elements of a set in the same order.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct CanonicalText(Arc<str>);

impl CanonicalText {
    /// The text of a value. Cost as [`canonical_bytes`].
    pub fn of(value: &Value) -> Self {
        Self(String::from_utf8(canonical_bytes(value)).unwrap_or_default().into())
    }

    /// The text itself.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl Ord for CanonicalText {
    fn cmp(&self, other: &Self) -> Ordering {
        // Only characters beyond U+FFFF sort differently in UTF-8, so most comparisons are over
        // bytes.
        let is_plain = |text: &str| text.bytes().all(|byte| byte < 0xee);
        if is_plain(&self.0) && is_plain(&other.0) {
            return self.0.cmp(&other.0);
        }
        self.0.encode_utf16().cmp(other.0.encode_utf16())
    }
}

impl PartialOrd for CanonicalText {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl fmt::Display for CanonicalText {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Whether two values are the same JSON, however their numbers are written: `1.0` is `1` (RFC 8785,
/// section 3.2.2.3). Cost O(size).
pub fn is_same(one: &Value, other: &Value) -> bool {
    match (one, other) {
        (Value::Number(one), Value::Number(other)) => {
            one == other || one.as_f64() == other.as_f64()
        }
        (Value::Array(one), Value::Array(other)) => {
            one.len() == other.len()
                && one.iter().zip(other).all(|(one, other)| is_same(one, other))
        }
        (Value::Object(one), Value::Object(other)) => {
            let is_there = |(name, value): (&String, &Value)| {
                other.get(name).is_some_and(|other| is_same(value, other))
            };
            one.len() == other.len() && one.iter().all(is_there)
        }
        (one, other) => one == other,
    }
}

/// How deeply arrays and objects lie in one another.
pub(crate) fn depth(value: &Value) -> usize {
    match value {
        Value::Array(items) => 1 + items.iter().map(depth).max().unwrap_or(0),
        Value::Object(members) => 1 + members.values().map(depth).max().unwrap_or(0),
        _ => 0,
    }
}

/// About how many bytes a value takes as JSON; exact for everything but escapes and fractions.
///
/// Used to keep a session below its `state` limit without serialising it. Cost O(size of the
/// value).
pub fn weight(value: &Value) -> usize {
    match value {
        Value::Null | Value::Bool(true) => 4,
        Value::Bool(false) => 5,
        Value::Number(number) => number.as_u64().map_or(20, digits),
        Value::String(text) => text.len() + 2,
        Value::Array(items) => items.iter().map(weight).sum::<usize>() + items.len().max(1) + 1,
        Value::Object(members) => {
            members.iter().map(|(name, value)| name.len() + 3 + weight(value)).sum::<usize>()
                + members.len().max(1)
                + 1
        }
    }
}

fn digits(number: u64) -> usize {
    number.checked_ilog10().map_or(1, |log| log as usize + 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn the_digest_does_not_depend_on_the_order_of_members_or_the_way_a_number_is_written() {
        let one: Value = serde_json::from_str(r#"{"b": 1.0, "a": "Hollin"}"#).unwrap();
        let other: Value = serde_json::from_str(r#"{"a":"Hollin","b":1}"#).unwrap();
        assert_eq!(digest(&one), digest(&other));
        assert_ne!(digest(&one), digest(&json!({"a": "Hollin", "b": 2})));
    }

    #[test]
    fn canonical_texts_sort_as_ecmascript_sorts_them() {
        let apple = CanonicalText::of(&json!("\u{1f34e}"));
        let fullwidth = CanonicalText::of(&json!("\u{ff21}"));
        assert!(
            apple < fullwidth,
            "by code units the apple's surrogate comes first, by scalar values it would come last"
        );
        assert!(CanonicalText::of(&json!("a")) < apple);
    }

    #[test]
    fn the_weight_is_the_length_of_plain_json() {
        for value in [
            json!(null),
            json!([]),
            json!({}),
            json!([1, 22, "x"]),
            json!({"a": {"b": [true, false]}, "c": 1000}),
        ] {
            assert_eq!(weight(&value), value.to_string().len(), "{value}");
        }
    }
}
