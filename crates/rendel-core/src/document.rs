//! Documents that say what a plain state should become.
//!
//! A JSON Patch or a JSON Merge Patch says what the plain state should become. What participants
//! settle are edits, with an intention each. So the document is applied to a copy of the plain
//! state, and each kind of field says which edits lead from the one value to the other: a counter
//! by adding the difference, a text by one splice, a list by the moves of the elements that are not
//! in their order.

use json_patch::{PatchOperation, jsonptr};
use serde_json::Value;

use crate::canonical::{depth, weight};
use crate::problem::{Problem, ProblemKind};

/// A document that changes the plain state.
#[derive(Clone, Debug)]
pub enum Document {
    /// JSON Patch (RFC 6902).
    Patch(json_patch::Patch),
    /// JSON Merge Patch (RFC 7396).
    Merge(Value),
}

impl Document {
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
                let mut bounds = SizeLimits { most, weight: weight(plain), copied: 0 };
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
/// Of the bytes that a document may have, the copies of one patch come to one part in so many: in
/// memory a small object takes twenty times of what it takes as text.
const COPIED_OF: usize = 8;
/// Levels that a document is nested at most.
const DEPTH: usize = 64;

/// Keeps a document from growing while a patch is applied to it: a few copies of the whole into
/// itself would fill memory.
struct SizeLimits {
    most: usize,
    weight: usize,
    copied: usize,
}

impl SizeLimits {
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
        if self.weight > self.most || self.copied > self.most / COPIED_OF {
            Err(too_large(self.most))
        } else {
            Ok(())
        }
    }
}

fn too_large(most: usize) -> Problem {
    let detail = format!(
        "The patch would make a document of more than {most} bytes, or copy more than {} of them. \
         Ask for less.",
        most / COPIED_OF
    );
    Problem::new(ProblemKind::TooLarge, detail).with("limit", "state")
}
