//! What effects, and one's own edits before their answer, do to the plain state.

use rendel_core::{CanonicalText, Edit, Effect, Path};
use serde_json::{Map, Value};

/// An effect that does not fit the state of this replica: it has diverged and needs a snapshot.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the effect {op:?} at {at:?} does not fit: {why}")]
pub struct Misapplied {
    /// Its path.
    pub at: String,
    /// Its operation.
    pub op: String,
    /// What is wrong.
    pub why: &'static str,
}

/// Applies a settled effect. Cost O(depth of the path), and of a map's size where the map keeps its members in a vector.
pub fn apply_effect(state: &mut Value, effect: &Effect) -> Result<(), Misapplied> {
    change(state, effect, Certainty::Settled)
}

/// Applies an own edit that has no answer yet, as far as that can be foreseen; one that cannot is left out.
pub fn apply_edit(state: &mut Value, edit: &Edit) {
    // An edit whose place is gone shows nothing; the answer will say what became of it.
    let _ = change(state, edit, Certainty::Foreseen);
}

#[derive(Clone, Copy, PartialEq)]
enum Certainty {
    Settled,
    Foreseen,
}

fn change(state: &mut Value, step: &Edit, certainty: Certainty) -> Result<(), Misapplied> {
    let misapplied = |why| Misapplied { at: step.at.clone(), op: step.op.clone(), why };
    let path = Path::parse(&step.at).map_err(|_| misapplied("no path"))?;
    match step.op.as_str() {
        "set" => {
            let value = match (step.arg("values"), step.arg("value")) {
                (Some(values), _) => values,
                (None, Some(value)) => value,
                (None, None) => return Err(misapplied("no value")),
            };
            *find(state, path.tokens()).ok_or_else(|| misapplied("nothing there"))? = value.clone();
        }
        "clear" => *find(state, path.tokens()).ok_or_else(|| misapplied("nothing there"))? = Value::Null,
        "add" => {
            let number = find(state, path.tokens()).ok_or_else(|| misapplied("nothing there"))?;
            let now = match (certainty, step.arg("now")) {
                (Certainty::Settled, now) => now.cloned(),
                (Certainty::Foreseen, _) => {
                    let by = step.arg("by").and_then(Value::as_i64);
                    number.as_i64().zip(by).and_then(|(number, by)| number.checked_add(by)).map(Value::from)
                }
            };
            *number = now.ok_or_else(|| misapplied("no number"))?;
        }
        "put" => {
            let id = step.arg("id").and_then(Value::as_str).ok_or_else(|| misapplied("no id"))?;
            let value = step.arg("value").ok_or_else(|| misapplied("no value"))?;
            let map = find(state, path.tokens()).and_then(Value::as_object_mut).ok_or_else(|| misapplied("no map"))?;
            if certainty == Certainty::Settled || !map.contains_key(id) {
                map.insert(id.to_owned(), value.clone());
            }
        }
        "drop" => {
            let (id, parent) = path.tokens().split_last().ok_or_else(|| misapplied("no record"))?;
            let map = find(state, parent).and_then(Value::as_object_mut).ok_or_else(|| misapplied("no map"))?;
            map.remove(id).ok_or_else(|| misapplied("no record"))?;
        }
        "insert" | "remove" => {
            let value = step.arg("value").ok_or_else(|| misapplied("no value"))?;
            let set = find(state, path.tokens()).and_then(Value::as_array_mut).ok_or_else(|| misapplied("no set"))?;
            change_set(set, &step.op, value, certainty).map_err(misapplied)?;
        }
        "test" if certainty == Certainty::Foreseen => {}
        _ => return Err(misapplied("an operation that this client does not know")),
    }
    Ok(())
}

/// A set is an array in the order of its elements' canonical texts.
fn change_set(set: &mut Vec<Value>, op: &str, value: &Value, certainty: Certainty) -> Result<(), &'static str> {
    let text = CanonicalText::of(value);
    match (set.binary_search_by(|element| CanonicalText::of(element).cmp(&text)), op) {
        (Err(at), "insert") => set.insert(at, value.clone()),
        (Ok(at), "remove") => drop(set.remove(at)),
        (Err(_), "remove") if certainty == Certainty::Settled => return Err("no such element"),
        _ => {}
    }
    Ok(())
}

/// The value at a path of object members. A record's field that was never given a value is not in what its own proposer
/// foresees, so the last step may make it.
fn find<'s>(state: &'s mut Value, tokens: &[String]) -> Option<&'s mut Value> {
    let Some((last, parents)) = tokens.split_last() else { return Some(state) };
    let parent = parents
        .iter()
        .try_fold(state, |value, token| value.as_object_mut().and_then(|members| members.get_mut(token)))?;
    let members: &mut Map<String, Value> = parent.as_object_mut()?;
    Some(members.entry(last.clone()).or_insert(Value::Null))
}
