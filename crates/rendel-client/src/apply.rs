//! What effects, and one's own edits before their answer, do to the plain state.

use std::ops::Range;

use rendel_core::{CanonicalText, Edit, Effect, Path};
use serde_json::{Value, json};

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
        "reset" if certainty == Certainty::Settled => {
            *state = step.arg("value").cloned().ok_or_else(|| misapplied("no value"))?;
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
        "insert" if step.arg("id").is_some() || step.arg("after").is_some() => {
            let id = step.arg("id").and_then(Value::as_str).ok_or_else(|| misapplied("no id"))?;
            let value = step.arg("value").ok_or_else(|| misapplied("no value"))?;
            let list = find(state, path.tokens()).and_then(Value::as_array_mut).ok_or_else(|| misapplied("no list"))?;
            let index = target(list, step).ok_or_else(|| misapplied("no such element to go beside"))?;
            if certainty == Certainty::Settled || index_of(list, id).is_none() {
                list.insert(index, json!({ "id": id, "value": value }));
            }
        }
        "move" | "remove" if step.arg("value").is_none() => {
            let (id, parent) = path.tokens().split_last().ok_or_else(|| misapplied("no element"))?;
            let list = find(state, parent).and_then(Value::as_array_mut).ok_or_else(|| misapplied("no list"))?;
            let index = index_of(list, id).ok_or_else(|| misapplied("no element"))?;
            if step.op == "remove" {
                list.remove(index);
                return Ok(());
            }
            if target(list, step).is_none() {
                return Err(misapplied("no such element to go beside"));
            }
            let element = list.remove(index);
            let index = target(list, step).unwrap_or(index);
            list.insert(index, element);
        }
        "splice" => {
            let number =
                |name| step.arg(name).map_or(Some(0), Value::as_u64).and_then(|number| usize::try_from(number).ok());
            let (index, delete) = number("index").zip(number("delete")).ok_or_else(|| misapplied("no position"))?;
            let insert = step.arg("insert").and_then(Value::as_str).unwrap_or_default();
            let text = text_at_mut(state, &step.at).ok_or_else(|| misapplied("no text"))?;
            let range = byte_range(text, index, delete).ok_or_else(|| misapplied("it reaches beyond the text"))?;
            text.replace_range(range, insert);
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

fn index_of(list: &[Value], id: &str) -> Option<usize> {
    list.iter().position(|element| element["id"] == id)
}

/// The index to which a list edit or effect leads.
fn target(list: &[Value], step: &Edit) -> Option<usize> {
    let beside = |id: &Value| id.as_str().and_then(|id| index_of(list, id));
    match (step.arg("after"), step.arg("before"), step.arg("index")) {
        (Some(Value::Null), ..) => Some(0),
        (Some(after), ..) => beside(after).map(|index| index + 1),
        (_, Some(Value::Null), _) | (None, None, None) => Some(list.len()),
        (_, Some(before), _) => beside(before),
        (_, _, Some(index)) => {
            index.as_u64().and_then(|index| usize::try_from(index).ok()).filter(|index| *index <= list.len())
        }
    }
}

/// The bytes of so many characters from an index on.
fn byte_range(text: &str, index: usize, delete: usize) -> Option<Range<usize>> {
    if text.is_ascii() {
        let end = index.checked_add(delete)?;
        return (end <= text.len()).then_some(index..end);
    }
    let mut starts = text.char_indices().map(|(start, _)| start).chain([text.len()]);
    let start = starts.nth(index)?;
    let end = if delete == 0 { start } else { starts.nth(delete - 1)? };
    Some(start..end)
}

/// The id of the element behind which an insert by index goes, `null` at the front; `None` for any other edit.
pub(crate) fn after_index(state: &Value, edit: &Edit) -> Option<Value> {
    let index = edit.arg("index").filter(|_| edit.op == "insert")?.as_u64()?;
    let list = value_at(state, &edit.at)?.as_array()?;
    match usize::try_from(index).ok()?.checked_sub(1) {
        None => Some(Value::Null),
        Some(before) => list.get(before)?.get("id").cloned(),
    }
}

/// The text at a path, if there is one.
pub(crate) fn text_at<'s>(state: &'s Value, at: &str) -> Option<&'s str> {
    value_at(state, at)?.as_str()
}

fn value_at<'s>(state: &'s Value, at: &str) -> Option<&'s Value> {
    let path = Path::parse(at).ok()?;
    path.tokens().iter().try_fold(state, |value, token| match value {
        Value::Array(list) => list.get(index_of(list, token)?)?.get("value"),
        value => value.get(token),
    })
}

/// As [`text_at`], to be changed.
pub(crate) fn text_at_mut<'s>(state: &'s mut Value, at: &str) -> Option<&'s mut String> {
    let path = Path::parse(at).ok()?;
    match path.tokens().iter().try_fold(state, step_into)? {
        Value::String(text) => Some(text),
        _ => None,
    }
}

fn step_into<'s>(value: &'s mut Value, token: &String) -> Option<&'s mut Value> {
    match value {
        Value::Array(list) => {
            let index = index_of(list, token)?;
            list.get_mut(index)?.get_mut("value")
        }
        value => value.get_mut(token),
    }
}

/// The value at a path of object members and elements' ids. A record's field that was never given a value is not in what
/// its own proposer foresees, so the last step may make it.
fn find<'s>(state: &'s mut Value, tokens: &[String]) -> Option<&'s mut Value> {
    let Some((last, parents)) = tokens.split_last() else { return Some(state) };
    let parent = parents.iter().try_fold(state, step_into)?;
    match parent {
        Value::Object(members) => Some(members.entry(last.clone()).or_insert(Value::Null)),
        list @ Value::Array(_) => step_into(list, last),
        _ => None,
    }
}
