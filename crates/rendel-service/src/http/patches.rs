//! The journal as JSON Patches (RFC 6902).

use std::collections::VecDeque;
use std::sync::Arc;

use rendel_core::{Charter, Problem, Settled, State};
use rendel_store::StoreError;
use serde_json::json;

use crate::app::App;
use crate::failure::from_store;

/// A patch replaces a text as a whole, so a few updates can make much to send.
const CHUNK: usize = 1 << 20;

/// The state that patches are made against, and from where on they are told.
pub(super) struct Patches {
    charter: Arc<Charter>,
    state: State,
    from: u64,
}

impl Patches {
    pub(super) async fn open(app: &App, session: &str, charter: &Arc<Charter>, from: u64) -> Result<Self, Problem> {
        let row = app.store.session(session.to_owned()).await.map_err(|error| from_store(&error))?;
        let opening = row.and_then(|(row, _)| row.opening).and_then(|opening| serde_json::from_str(&opening).ok());
        let state = State::open(&charter.fields, opening.as_ref())?;
        Ok(Self { charter: charter.clone(), state, from })
    }

    /// A line for each update whose patch is wanted, until the lines are long enough to leave.
    pub(super) fn tell(&mut self, rows: &mut VecDeque<String>) -> Result<String, Problem> {
        let damaged = |why: String| from_store(&StoreError::Damaged(why));
        let mut lines = String::new();
        while lines.len() < CHUNK {
            let Some(row) = rows.pop_front() else { break };
            let update: Settled = serde_json::from_str(&row).map_err(|error| damaged(error.to_string()))?;
            let fields = &self.charter.fields;
            if update.seq < self.from {
                self.state.apply(fields, &update).map_err(|misfit| damaged(misfit.to_string()))?;
                continue;
            }
            let patch = self.state.patch(fields, &update).map_err(|misfit| damaged(misfit.to_string()))?;
            lines.push_str(&json!({ "seq": update.seq, "patch": patch }).to_string());
            lines.push('\n');
        }
        Ok(lines)
    }
}
