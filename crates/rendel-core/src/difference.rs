//! What differs between two plain states.

use std::collections::BTreeMap;

use serde_json::Value;

use crate::path::{Path, inner};
use crate::rewrite::elements;

/// Where two plain states differ at one place.
#[derive(Clone, Debug, PartialEq, serde::Serialize)]
pub struct Difference {
    /// Where.
    pub at: String,
    /// The value in the first state; left out where there was none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub was: Option<Value>,
    /// The value in the second; left out where there is none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub now: Option<Value>,
}

/// What differs between two plain states, in the order of the first: objects by member, lists by
/// element id, everything else as a whole. A list whose elements stand in another order says so
/// with the ids.
pub fn differences(was: &Value, now: &Value) -> Vec<Difference> {
    let mut found = Vec::new();
    compare(&Path::of::<String>([]), Some(was), Some(now), &mut found);
    found
}

fn compare(path: &Path, was: Option<&Value>, now: Option<&Value>, found: &mut Vec<Difference>) {
    if was == now {
        return;
    }
    match (was, now) {
        (Some(Value::Object(was)), Some(Value::Object(now))) => {
            for (name, value) in was {
                compare(&inner(path, name), Some(value), now.get(name), found);
            }
            for (name, value) in now.iter().filter(|(name, _)| !was.contains_key(*name)) {
                compare(&inner(path, name), None, Some(value), found);
            }
        }
        (Some(was), Some(now)) => match (elements(was), elements(now)) {
            (Some(was), Some(now)) => compare_lists(path, &was, &now, found),
            _ => found.push(Difference {
                at: path.to_string(),
                was: Some(was.clone()),
                now: Some(now.clone()),
            }),
        },
        (was, now) => {
            found.push(Difference { at: path.to_string(), was: was.cloned(), now: now.cloned() })
        }
    }
}

fn compare_lists(
    path: &Path,
    was: &[(&str, &Value)],
    now: &[(&str, &Value)],
    found: &mut Vec<Difference>,
) {
    let (before, after): (BTreeMap<_, _>, BTreeMap<_, _>) =
        (was.iter().copied().collect(), now.iter().copied().collect());
    for (id, value) in was {
        compare(&inner(path, id), Some(value), after.get(id).copied(), found);
    }
    for (id, value) in now.iter().filter(|(id, _)| !before.contains_key(id)) {
        compare(&inner(path, id), None, Some(value), found);
    }
    let ids = |list: &[(&str, &Value)], within: &BTreeMap<&str, &Value>| -> Vec<Value> {
        list.iter()
            .filter(|(id, _)| within.contains_key(id))
            .map(|(id, _)| Value::from(*id))
            .collect()
    };
    let (was, now) = (ids(was, &after), ids(now, &before));
    if was != now {
        found.push(Difference {
            at: path.to_string(),
            was: Some(was.into()),
            now: Some(now.into()),
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn a_difference_is_told_where_it_is_and_lists_by_their_ids() {
        let element = |id: &str, value: &str| json!({ "id": id, "value": value });
        let was = json!({ "heads": 41, "crew": { "oda": { "crates": 2 } }, "notes": [element("a", "x"), element("b", "y"), element("c", "z")] });
        let now = json!({ "heads": 42, "crew": { "oda": { "crates": 2 }, "bram": {} }, "notes": [element("b", "y"), element("a", "w")] });
        let told: Vec<_> = differences(&was, &now)
            .into_iter()
            .map(|found| (found.at, found.was, found.now))
            .collect();
        assert_eq!(
            told,
            [
                ("/heads".into(), Some(json!(41)), Some(json!(42))),
                ("/crew/bram".into(), None, Some(json!({}))),
                ("/notes/a".into(), Some(json!("x")), Some(json!("w"))),
                ("/notes/c".into(), Some(json!("z")), None),
                ("/notes".into(), Some(json!(["a", "b"])), Some(json!(["b", "a"]))),
            ]
        );
        assert!(differences(&now, &now).is_empty());
    }
}
