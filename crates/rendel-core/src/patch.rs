//! Updates as JSON Patch (RFC 6902) against the plain state.

use serde::Serialize;
use serde_json::Value;

use crate::op::Op;
use crate::path::escape;

/// One operation of a JSON Patch.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(tag = "op", rename_all = "lowercase")]
pub enum PatchOp {
    /// A value comes to be, in an array before what stands at its index.
    Add {
        /// Where.
        path: String,
        /// What.
        value: Value,
    },
    /// A value takes the place of another.
    Replace {
        /// Where.
        path: String,
        /// What.
        value: Value,
    },
    /// A value goes.
    Remove {
        /// Where.
        path: String,
    },
    /// A value goes elsewhere; `path` counts once it has left `from`.
    Move {
        /// From where.
        from: String,
        /// To where.
        path: String,
    },
}

/// A patch as it is being written, at the place to which the path of an effect has led.
#[derive(Debug, Default)]
pub(crate) struct Patch {
    at: String,
    pub(crate) ops: Vec<PatchOp>,
}

impl Patch {
    /// Goes on to a member or an index.
    pub(crate) fn step(&mut self, token: &str) {
        self.at.push('/');
        self.at.push_str(&escape(token));
    }

    pub(crate) fn replace(&mut self, value: Value) {
        self.ops.push(PatchOp::Replace { path: self.at.clone(), value });
    }

    /// A place is shown or hidden; `None` where the operation is another.
    pub(crate) fn turn(&mut self, op: &Op) -> Option<()> {
        let path = self.at.clone();
        self.ops.push(match op {
            Op::Show(value) => PatchOp::Add { path, value: value.clone() },
            Op::Hide => PatchOp::Remove { path },
            _ => return None,
        });
        Some(())
    }

    pub(crate) fn remove(&mut self) {
        self.ops.push(PatchOp::Remove { path: self.at.clone() });
    }

    pub(crate) fn add_at(&mut self, token: &str, value: Value) {
        self.ops.push(PatchOp::Add { path: format!("{}/{}", self.at, escape(token)), value });
    }

    pub(crate) fn remove_at(&mut self, index: usize) {
        self.ops.push(PatchOp::Remove { path: format!("{}/{index}", self.at) });
    }

    pub(crate) fn shift(&mut self, from: usize, to: usize) {
        if from != to {
            self.ops.push(PatchOp::Move {
                from: format!("{}/{from}", self.at),
                path: format!("{}/{to}", self.at),
            });
        }
    }
}
