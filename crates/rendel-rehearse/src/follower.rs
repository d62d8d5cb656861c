//! Somebody who follows by events, each of them a JSON Patch (RFC 6902).

use std::collections::BTreeMap;

use rendel_session::{ConnectionId, Content, To};
use serde_json::Value;

/// A follower right beside the session: nothing is lost or late on the way.
#[derive(Debug)]
pub(crate) struct Follower {
    pub(crate) id: String,
    pub(crate) link: ConnectionId,
    pub(crate) audience: Option<usize>,
    pub(crate) state: Value,
    pub(crate) seq: u64,
    /// What comes in place of a patch of the run that comes next.
    instead: BTreeMap<u64, String>,
}

impl Follower {
    pub(crate) fn new(id: String, link: ConnectionId) -> Self {
        Self { id, link, audience: None, state: Value::Null, seq: 0, instead: BTreeMap::new() }
    }

    /// Takes in what is shown, if it is meant; says what is wrong with it.
    pub(crate) fn handle(&mut self, to: &To, content: &Content) -> Result<(), String> {
        match (to, content) {
            (To::One(link), Content::Begin { audience, seq, state: Some(state) })
                if *link == self.link =>
            {
                self.audience = Some(*audience);
                self.state = serde_json::from_str(state).map_err(|error| error.to_string())?;
                self.seq = *seq;
            }
            (To::These(links), Content::Instead { seq, patch: Some(patch), .. })
                if links.contains(&self.link) =>
            {
                self.instead.insert(*seq, patch.clone());
            }
            (To::Audience(audience), Content::Updates { updates, last, patches })
                if self.audience == Some(*audience) =>
            {
                if patches.len() != updates.len() {
                    return Err(format!("update {last} came without its patch"));
                }
                let first = last + 1 - updates.len() as u64;
                for (seq, patch) in (first..).zip(patches) {
                    let patch = self.instead.remove(&seq).unwrap_or_else(|| patch.clone());
                    let patch: json_patch::Patch =
                        serde_json::from_str(&patch).map_err(|error| error.to_string())?;
                    json_patch::patch(&mut self.state, &patch)
                        .map_err(|error| format!("{patch:?} does not apply: {error}"))?;
                }
                self.seq = *last;
            }
            _ => {}
        }
        Ok(())
    }
}
