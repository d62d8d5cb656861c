//! What rows hold, as the rest of the program has it.

use rendel_core::{SequencerSnapshot, Settled};
use serde::de::DeserializeOwned;

use crate::error::StoreError;

/// Places and counts are stored as `bigint` and never below zero.
pub(crate) fn unsigned(number: i64) -> u64 {
    u64::try_from(number).unwrap_or(0)
}

pub(crate) fn signed(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

/// Reads a snapshot. One of the first version is passed over unless the journal begins at it.
pub(crate) fn read_snapshot(body: &str, is_needed: bool) -> Result<SequencerSnapshot, StoreError> {
    match read(body) {
        Err(_) if is_needed => {
            let older = read(body).and_then(|stored| {
                SequencerSnapshot::read(stored)
                    .map_err(|error| StoreError::Damaged(error.to_string()))
            });
            older.inspect(|snapshot| {
                tracing::warn!(
                    seq = snapshot.seq,
                    "a snapshot of the first version is used, without what it remembers of clients"
                )
            })
        }
        snapshot => snapshot,
    }
}

pub(crate) fn read<T: DeserializeOwned>(body: &str) -> Result<T, StoreError> {
    serde_json::from_str(body).map_err(|error| StoreError::Damaged(error.to_string()))
}

/// An update as it is written now. Sets had `insert` and `remove` before they had `include` and
/// `exclude`; where such a row may be, it is read and written anew.
pub(crate) fn in_present_form(body: String) -> Result<String, StoreError> {
    let may_be_older = [r#""op":"insert","value":"#, r#""op":"remove","value":"#]
        .iter()
        .any(|part| body.contains(part));
    if !may_be_older {
        return Ok(body);
    }
    serde_json::to_string(&read::<Settled>(&body)?)
        .map_err(|error| StoreError::Damaged(error.to_string()))
}
