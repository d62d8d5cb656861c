//! States of the past, and the journal as JSON Patches (RFC 6902).

use std::collections::VecDeque;
use std::sync::Arc;

use rendel_core::{Charter, Problem, ProblemKind, Reader, Settled, State};
use rendel_store::{Past, StoreError};
use serde_json::json;

use super::handle::SessionHandle;
use crate::app::App;
use crate::documents::Turn;
use crate::failure::from_store;

/// A patch replaces a text as a whole, so a few updates can make much to send.
const CHUNK: usize = 1 << 20;

/// The state of a session as it was at a `seq`: `from-the-future` and `too-old` where it is not
/// known.
///
/// Cost: the nearest snapshot before it and the updates between the two, read in a turn of the
/// caller's.
pub(crate) async fn state_at(
    app: &App,
    session: &SessionHandle,
    at: u64,
    turn: &Turn,
) -> Result<State, Problem> {
    let now = session.figures().await?.seq;
    if at > now {
        let detail = format!("The session is at {now}, not yet at {at}.");
        return Err(Problem::new(ProblemKind::FromTheFuture, detail).with("seq", now));
    }
    let past = app.store.past(session.ord(), at).await.map_err(|error| from_store(&error))?;
    let charter = session.charter().clone();
    let made = turn.work(move || {
        let Past { opening, snapshot, updates } = past;
        let mut state = match snapshot {
            Some(snapshot) => snapshot.into_state(),
            None => State::open(&charter, opening.as_ref())?,
        };
        let applied = updates.iter().try_for_each(|update| state.apply(&charter.fields, update));
        applied.map_err(|misfit| damaged(misfit.to_string()))?;
        Ok(state)
    });
    made.await.inspect_err(|problem| app.metrics.count(problem))
}

fn damaged(why: String) -> Problem {
    from_store(&StoreError::Damaged(why))
}

/// The state that patches are made against.
pub(crate) struct Patches {
    charter: Arc<Charter>,
    state: State,
    reader: Reader,
}

impl Patches {
    /// For the updates after `seq`, as somebody is shown them.
    pub(crate) async fn after(
        app: &App,
        session: &SessionHandle,
        seq: u64,
        reader: Reader,
    ) -> Result<Self, Problem> {
        let charter = session.charter().clone();
        let turn = app.documents.turn().await?;
        Ok(Self { charter, state: state_at(app, session, seq, &turn).await?, reader })
    }

    /// The next update as its `seq` and its patch.
    pub(crate) fn patch(&mut self, row: &str) -> Result<(u64, serde_json::Value), Problem> {
        let update: Settled =
            serde_json::from_str(row).map_err(|error| damaged(error.to_string()))?;
        let Reader { role, viewer } = &self.reader;
        let sight = self.charter.sight(role);
        let patches = self.state.patches(&self.charter.fields, &update, sight, &[viewer]);
        let (_, mut theirs) = patches.map_err(|misfit| damaged(misfit.to_string()))?;
        Ok((update.seq, json!(theirs.pop().unwrap_or_default())))
    }

    /// A line for each update, until the lines are long enough to leave.
    pub(crate) fn tell(&mut self, rows: &mut VecDeque<String>) -> Result<String, Problem> {
        let mut lines = String::new();
        while lines.len() < CHUNK {
            let Some(row) = rows.pop_front() else { break };
            let (seq, patch) = self.patch(&row)?;
            lines.push_str(&json!({ "seq": seq, "patch": patch }).to_string());
            lines.push('\n');
        }
        Ok(lines)
    }
}
