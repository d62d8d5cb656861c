//! The journal as JSON Patches (RFC 6902).

use std::sync::Arc;

use rendel_core::{Charter, Problem, Settled, State};
use rendel_store::StoreError;
use serde_json::json;

use crate::app::App;
use crate::failure::from_store;

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

    pub(super) fn tell(&mut self, rows: &[String]) -> Result<String, Problem> {
        let damaged = |why: String| from_store(&StoreError::Damaged(why));
        let mut lines = String::new();
        for row in rows {
            let update: Settled = serde_json::from_str(row).map_err(|error| damaged(error.to_string()))?;
            let patch =
                self.state.patch(&self.charter.fields, &update).map_err(|misfit| damaged(misfit.to_string()))?;
            if update.seq >= self.from {
                let line = json!({ "seq": update.seq, "patch": patch });
                lines.push_str(&format!("{line}\n"));
            }
        }
        Ok(lines)
    }
}
