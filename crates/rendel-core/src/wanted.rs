//! From a plain state that is wanted to the edits that lead there.
//!
//! A JSON Patch or a JSON Merge Patch says what the plain state should become. What participants
//! settle are edits, with an intention each. So the document is applied to a copy of the plain
//! state, and each kind of field says which edits lead from the one value to the other: a counter
//! by adding the difference, a text by one splice, a list by the moves of the elements that are not
//! in their order.

use std::collections::BTreeMap;

use json_patch::{PatchOperation, jsonptr};
use serde_json::Value;

use crate::canonical::{depth, weight};
use crate::edit::Edit;
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};

/// A document that changes the plain state.
#[derive(Clone, Debug)]
pub enum Change {
    /// JSON Patch (RFC 6902).
    Patch(json_patch::Patch),
    /// JSON Merge Patch (RFC 7396).
    Merge(Value),
}

impl Change {
    /// Reads a JSON Patch.
    pub fn patch(document: Value) -> Result<Self, Problem> {
        let patch: json_patch::Patch = serde_json::from_value(document).map_err(|error| {
            let detail =
                format!("This is no JSON Patch (RFC 6902), an array of operations: {error}.");
            Problem::new(ProblemKind::Malformed, detail).bounded()
        })?;
        if patch.len() > OPERATIONS {
            let detail = format!(
                "A JSON Patch has at most {OPERATIONS} operations; this one has {}.",
                patch.len()
            );
            return Err(Problem::new(ProblemKind::TooLarge, detail).with("limit", "operations"));
        }
        Ok(Self::Patch(patch))
    }

    /// The state that the document asks for, of at most `most` bytes after each operation. Nothing
    /// is left of it where one operation fails. Cost O(plain state + values that the document gives
    /// and copies), the copied ones together bounded, too.
    pub(crate) fn applied_to(&self, plain: &Value, most: u64) -> Result<Value, Problem> {
        let mut wanted = plain.clone();
        // What is too large already may become smaller.
        let most = usize::try_from(most).unwrap_or(usize::MAX).max(weight(plain));
        match self {
            Self::Merge(document) => {
                json_patch::merge(&mut wanted, document);
                if weight(&wanted) > most { Err(too_large(most)) } else { Ok(wanted) }
            }
            Self::Patch(patch) => {
                let mut bounds = Bounds { most, weight: weight(plain), copied: 0 };
                for (index, operation) in patch.iter().enumerate() {
                    bounds
                        .check(&wanted, operation)
                        .map_err(|problem| problem.with("edit", index))?;
                    json_patch::patch(&mut wanted, std::slice::from_ref(operation))
                        .map_err(|error| failed(&wanted, index, &error))?;
                }
                Ok(wanted)
            }
        }
    }
}

fn failed(document: &Value, operation: usize, error: &json_patch::PatchError) -> Problem {
    let path = error.path.to_string();
    let problem =
        |kind, detail| Problem::new(kind, detail).at(path.clone()).with("edit", operation);
    if !matches!(error.kind, json_patch::PatchErrorKind::TestFailed) {
        return problem(
            ProblemKind::UnknownPath,
            format!("Operation {operation} fails: {}.", error.kind),
        );
    }
    let problem =
        problem(ProblemKind::TestFailed, format!("{path} is not what the patch asks for."));
    document.pointer(&path).cloned().map_or(problem.clone(), |present| problem.current(present))
}

/// Operations that a JSON Patch has at most.
const OPERATIONS: usize = 1_000;
/// Levels that a document is nested at most.
const DEPTH: usize = 64;

/// Keeps a document from growing while a patch is applied to it: a few copies of the whole into
/// itself would fill memory.
struct Bounds {
    most: usize,
    weight: usize,
    copied: usize,
}

impl Bounds {
    fn check(&mut self, document: &Value, operation: &PatchOperation) -> Result<(), Problem> {
        let at = |pointer: &jsonptr::PointerBuf| document.pointer(pointer.as_str());
        let (put, path) = match operation {
            PatchOperation::Add(operation) => (Some(&operation.value), &operation.path),
            PatchOperation::Replace(operation) => (Some(&operation.value), &operation.path),
            PatchOperation::Copy(operation) => {
                let copied = at(&operation.from);
                self.copied += copied.map_or(0, weight);
                (copied, &operation.path)
            }
            PatchOperation::Move(operation) => (at(&operation.from), &operation.path),
            PatchOperation::Remove(operation) => {
                self.weight = self.weight.saturating_sub(at(&operation.path).map_or(0, weight));
                return Ok(());
            }
            PatchOperation::Test(_) => return Ok(()),
        };
        let Some(put) = put else { return Ok(()) };
        if path.tokens().count() + depth(put) > DEPTH {
            let detail = format!("This nests the state beyond {DEPTH} levels.");
            return Err(Problem::new(ProblemKind::TooDeep, detail).at(path.to_string()));
        }
        if !matches!(operation, PatchOperation::Move(_)) {
            let parent = path.parent().and_then(|parent| document.pointer(parent.as_str()));
            let is_inserted = matches!(operation, PatchOperation::Add(_) | PatchOperation::Copy(_))
                && parent.is_some_and(Value::is_array);
            let replaced = if is_inserted { 0 } else { at(path).map_or(0, weight) };
            self.weight = self.weight.saturating_sub(replaced) + weight(put);
        }
        if self.weight > self.most || self.copied > self.most {
            Err(too_large(self.most))
        } else {
            Ok(())
        }
    }
}

fn too_large(most: usize) -> Problem {
    let detail = format!(
        "The patch would make a document of more than {most} bytes, or copy more than that. Ask \
         for less."
    );
    Problem::new(ProblemKind::TooLarge, detail).with("limit", "state")
}

/// The edits on the way, and where the way has come to.
#[derive(Debug)]
pub(crate) struct Way {
    at: Vec<String>,
    most: usize,
    pub(crate) edits: Vec<Edit>,
}

impl Way {
    /// A way of at most so many edits.
    pub(crate) fn new(most: usize) -> Self {
        Self { at: Vec::new(), most, edits: Vec::new() }
    }

    /// Refuses what would be more edits than a proposal has, before the cost grows.
    pub(crate) fn has_space(&self) -> Result<(), Problem> {
        if self.edits.len() <= self.most {
            return Ok(());
        }
        let detail = format!(
            "This changes more than the {} places that a proposal may. Send several.",
            self.most
        );
        Err(Problem::new(ProblemKind::TooLarge, detail).with("limit", "edits"))
    }

    pub(crate) fn path(&self) -> Path {
        Path::of(self.at.iter().cloned())
    }

    /// An edit where the way is.
    pub(crate) fn edit(&self, op: &str) -> Edit {
        Edit::new(self.path().to_string(), op)
    }

    /// An edit one step further in.
    pub(crate) fn edit_at(&self, token: &str, op: &str) -> Edit {
        Edit::new(crate::kind::inner(&self.path(), token).to_string(), op)
    }

    pub(crate) fn push(&mut self, edit: Edit) {
        self.edits.push(edit);
    }

    pub(crate) fn step<T>(&mut self, token: &str, go_on: impl FnOnce(&mut Self) -> T) -> T {
        self.at.push(token.to_owned());
        let done = go_on(self);
        self.at.pop();
        done
    }

    /// The problem of a value that the field cannot have.
    pub(crate) fn unfit(&self, detail: &str) -> Problem {
        let path = self.path();
        Problem::new(ProblemKind::WrongType, format!("{path} {detail}")).at(&path)
    }
}

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
                compare(&crate::kind::inner(path, name), Some(value), now.get(name), found);
            }
            for (name, value) in now.iter().filter(|(name, _)| !was.contains_key(*name)) {
                compare(&crate::kind::inner(path, name), None, Some(value), found);
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
        compare(&crate::kind::inner(path, id), Some(value), after.get(id).copied(), found);
    }
    for (id, value) in now.iter().filter(|(id, _)| !before.contains_key(id)) {
        compare(&crate::kind::inner(path, id), None, Some(value), found);
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

/// The elements of a plain list, each with its id; `None` for any other value. An empty array may
/// be one.
pub(crate) fn elements(plain: &Value) -> Option<Vec<(&str, &Value)>> {
    let element = |value: &'_ Value| -> Option<()> {
        let members = value.as_object()?;
        (members.len() == 2 && members.get("id")?.is_string() && members.contains_key("value"))
            .then_some(())
    };
    let array = plain.as_array()?;
    array.iter().all(|value| element(value).is_some()).then(|| {
        array
            .iter()
            .filter_map(|value| Some((value.get("id")?.as_str()?, value.get("value")?)))
            .collect()
    })
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
