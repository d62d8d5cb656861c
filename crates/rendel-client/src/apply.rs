//! What effects, and one's own edits before their answer, do to the plain state.

use std::ops::Range;

use rendel_core::{CanonicalText, Edit, Effect, Op, Path, Place, Token};
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

/// Applies a settled effect. Cost O(depth of the path), and of a map's size where the map keeps its
/// members in a vector.
pub fn apply_effect(state: &mut Value, effect: &Effect) -> Result<(), Misapplied> {
    let misapplied =
        |why| Misapplied { at: effect.at.to_string(), op: effect.op.name().to_owned(), why };
    change(state, effect.at.tokens(), &effect.op, true).map_err(misapplied)
}

/// Applies an own edit that has no answer yet, as far as that can be foreseen; one that cannot is
/// left out.
pub fn apply_edit(state: &mut Value, edit: &Edit) {
    if let (Ok(path), Some(op)) = (Path::parse(&edit.at), edit.read()) {
        // An edit whose place is gone shows nothing; the answer will say what became of it.
        let _ = change(state, path.tokens(), &op, false);
    }
}

fn change(
    state: &mut Value,
    path: &[Token],
    op: &Op,
    is_settled: bool,
) -> Result<(), &'static str> {
    match op {
        Op::Set(value) => *find(state, path).ok_or("nothing there")? = (**value).clone(),
        Op::SetBeside { values, .. } => {
            *find(state, path).ok_or("nothing there")? = values.clone().into()
        }
        Op::Reset(value) => *state = value.clone(),
        Op::Clear => *find(state, path).ok_or("nothing there")? = Value::Null,
        Op::Add { by, now } => {
            let number = find(state, path).ok_or("nothing there")?;
            let foreseen = || number.as_i64().and_then(|number| number.checked_add(*by));
            let now = if is_settled { *now } else { foreseen() };
            *number = now.ok_or("no number")?.into();
        }
        Op::Put { id, value } => {
            let id = id.as_ref().ok_or("no id")?;
            let map = find(state, path).and_then(Value::as_object_mut).ok_or("no map")?;
            if is_settled || !map.contains_key(id) {
                map.insert(id.clone(), value.clone());
            }
        }
        Op::Revive { id, value } => {
            let map = find(state, path).and_then(Value::as_object_mut).ok_or("no map")?;
            map.insert(id.clone(), value.clone());
        }
        Op::Drop => {
            let (id, parent) = path.split_last().ok_or("no record")?;
            let map = find(state, parent).and_then(Value::as_object_mut).ok_or("no map")?;
            map.remove(id.as_str()).ok_or("no record")?;
        }
        Op::Insert { id, value, to, .. } => {
            let id = id.as_deref().ok_or("no id")?;
            let list = find(state, path).and_then(Value::as_array_mut).ok_or("no list")?;
            let index = target(list, to).ok_or("no such element to go beside")?;
            if is_settled || index_of(list, id).is_none() {
                list.insert(index, json!({ "id": id, "value": value }));
            }
        }
        Op::Move { to, .. } => {
            let (list, index) = element(state, path)?;
            if target(list, to).is_none() {
                return Err("no such element to go beside");
            }
            let element = list.remove(index);
            let index = target(list, to).unwrap_or(index);
            list.insert(index, element);
        }
        Op::Remove => {
            let (list, index) = element(state, path)?;
            list.remove(index);
        }
        Op::Splice { splice, .. } => {
            let text = match path.iter().try_fold(state, step_into) {
                Some(Value::String(text)) => text,
                _ => return Err("no text"),
            };
            let range = byte_range(text, splice.index, splice.delete)
                .ok_or("it reaches beyond the text")?;
            text.replace_range(range, &splice.insert);
        }
        Op::Include(value) => {
            let set = find(state, path).and_then(Value::as_array_mut).ok_or("no set")?;
            if let Err(at) = position(set, value) {
                set.insert(at, value.clone());
            }
        }
        Op::Exclude(value) => {
            let set = find(state, path).and_then(Value::as_array_mut).ok_or("no set")?;
            match position(set, value) {
                Ok(at) => drop(set.remove(at)),
                Err(_) if is_settled => return Err("no such element"),
                Err(_) => {}
            }
        }
        Op::Show(value) => *find(state, path).ok_or("nothing there")? = value.clone(),
        Op::Hide => {
            let (name, parent) = path.split_last().ok_or("nothing there")?;
            let around = parent.iter().try_fold(state, step_into).and_then(Value::as_object_mut);
            around.and_then(|around| around.remove(name.as_str())).ok_or("nothing there")?;
        }
        // What rules of play make of an act, and what is taken back, is not foreseen.
        Op::Test(_) | Op::Act(_) | Op::TakeBack { .. } if !is_settled => {}
        Op::Test(_) | Op::Act(_) | Op::TakeBack { .. } | Op::Unknown { .. } => {
            return Err("an operation that this client does not know");
        }
    }
    Ok(())
}

/// Where an element of a set is, or would be: a set is an array in the order of its elements'
/// canonical texts.
fn position(set: &[Value], value: &Value) -> Result<usize, usize> {
    let text = CanonicalText::of(value);
    set.binary_search_by(|element| CanonicalText::of(element).cmp(&text))
}

/// The list around an element, and its index there.
fn element<'s>(
    state: &'s mut Value,
    path: &[Token],
) -> Result<(&'s mut Vec<Value>, usize), &'static str> {
    let (id, parent) = path.split_last().ok_or("no element")?;
    let list = find(state, parent).and_then(Value::as_array_mut).ok_or("no list")?;
    let index = index_of(list, id).ok_or("no element")?;
    Ok((list, index))
}

fn index_of(list: &[Value], id: &str) -> Option<usize> {
    list.iter().position(|element| element["id"] == id)
}

/// The index to which a place leads.
fn target(list: &[Value], to: &Place) -> Option<usize> {
    match to {
        Place::Front => Some(0),
        Place::End => Some(list.len()),
        Place::After(id) => index_of(list, id).map(|index| index + 1),
        Place::Before(id) => index_of(list, id),
        Place::Index(index) => (*index <= list.len()).then_some(*index),
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

/// The id of the element behind which an insert by index goes, `null` at the front; `None` for any
/// other edit.
pub(crate) fn after_index(state: &Value, edit: &Edit) -> Option<Value> {
    let Some(Op::Insert { to: Place::Index(index), .. }) = edit.read() else { return None };
    let list = value_at(state, &edit.at)?.as_array()?;
    match index.checked_sub(1) {
        None => Some(Value::Null),
        Some(before) => list.get(before)?.get("id").cloned(),
    }
}

/// Takes what is at a path out of a state; `None` where nothing is.
pub(crate) fn take_out(state: &mut Value, path: &Path) -> Option<Value> {
    let (name, parent) = path.tokens().split_last()?;
    let around = parent.iter().try_fold(state, step_into)?;
    around.as_object_mut()?.remove(name.as_str())
}

/// The text at a path, if there is one.
pub(crate) fn text_at<'s>(state: &'s Value, at: &str) -> Option<&'s str> {
    value_at(state, at)?.as_str()
}

fn value_at<'s>(state: &'s Value, at: &str) -> Option<&'s Value> {
    let path = Path::parse(at).ok()?;
    path.tokens().iter().try_fold(state, |value, token| match value {
        Value::Array(list) => list.get(index_of(list, token)?)?.get("value"),
        value => value.get(token.as_str()),
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

fn step_into<'s>(value: &'s mut Value, token: &Token) -> Option<&'s mut Value> {
    match value {
        Value::Array(list) => {
            let index = index_of(list, token)?;
            list.get_mut(index)?.get_mut("value")
        }
        value => value.get_mut(token.as_str()),
    }
}

/// The value at a path of object members and elements' ids. A record's field that was never given a
/// value is not in what its own proposer foresees, so the last step may make it.
fn find<'s>(state: &'s mut Value, tokens: &[Token]) -> Option<&'s mut Value> {
    let Some((last, parents)) = tokens.split_last() else { return Some(state) };
    let parent = parents.iter().try_fold(state, step_into)?;
    match parent {
        Value::Object(members) => Some(members.entry(last.clone()).or_insert(Value::Null)),
        list @ Value::Array(_) => step_into(list, last),
        _ => None,
    }
}
