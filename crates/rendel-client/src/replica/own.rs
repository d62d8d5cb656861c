//! What is this replica's own of the state, beside what all of its audience see.
//!
//! Both stand in one plain state; only here is it known which is which, since the digests of the two
//! are told apart.

use std::collections::{BTreeMap, BTreeSet};

use rendel_core::{Effect, Op, Path, PrivatePatch, Settled};
use serde_json::{Map, Value};

use crate::apply::{apply_effect, take_out};

/// Which places are one's own, and what comes with updates that are on their way.
#[derive(Clone, Debug, Default)]
pub(super) struct Own {
    places: BTreeSet<Path>,
    expected: BTreeMap<u64, PrivatePatch>,
}

impl Own {
    /// What an update that comes next did for this replica alone.
    pub(super) fn expect(&mut self, beside: PrivatePatch) {
        self.expected.insert(beside.seq, beside);
    }

    /// Another connection, on which only these are expected.
    pub(super) fn begin(&mut self, expected: Vec<PrivatePatch>) {
        self.expected = expected.into_iter().map(|beside| (beside.seq, beside)).collect();
    }

    /// An update with what it did for this replica alone.
    pub(super) fn with_own(&mut self, update: Settled) -> Settled {
        let beside = self.expected.remove(&update.seq);
        for effect in &update.effects {
            match effect.op {
                Op::Show(_) => drop(self.places.remove(&effect.at)),
                Op::Reset(_) => self.places.clear(),
                _ => {}
            }
        }
        let Some(beside) = beside else { return update };
        for effect in &beside.effects {
            match effect.op {
                Op::Show(_) => drop(self.places.insert(effect.at.clone())),
                Op::Hide => drop(self.places.remove(&effect.at)),
                _ => {}
            }
        }
        beside.joined(&update)
    }

    /// A state that all see, with what is one's own of it.
    pub(super) fn joined(&mut self, mut state: Value, yours: BTreeMap<String, Value>) -> Value {
        self.places.clear();
        for (at, value) in yours {
            let Ok(at) = Path::parse(&at) else { continue };
            // What does not fit is missed when replicas are compared.
            if apply_effect(&mut state, &Effect::new(&at, Op::Show(value))).is_ok() {
                self.places.insert(at);
            }
        }
        state
    }

    /// A state as all see it, and what is one's own beside that; `None` where nothing is.
    pub(super) fn parted(&mut self, state: &Value) -> Option<(Value, Value)> {
        if self.places.is_empty() {
            return None;
        }
        let mut all = state.clone();
        let mut yours = Map::new();
        // A place that went with what was around it is there no more.
        self.places.retain(|at| {
            let taken = take_out(&mut all, at).map(|value| yours.insert(at.to_string(), value));
            taken.is_some()
        });
        (!yours.is_empty()).then_some((all, yours.into()))
    }
}
