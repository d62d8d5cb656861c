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
    /// What comes in place of patches of runs that come later.
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
            (To::Audience(audience), Content::Updates(entries))
                if self.audience == Some(*audience) =>
            {
                for entry in entries {
                    let later = self.instead.split_off(&(entry.seq + 1));
                    for (seq, patch) in std::mem::replace(&mut self.instead, later) {
                        self.apply(seq, &patch)?;
                    }
                    let patch = entry.patch.as_deref();
                    let patch = patch.ok_or_else(|| format!("{} has no patch", entry.seq))?;
                    self.apply(entry.seq, patch)?;
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn apply(&mut self, seq: u64, patch: &str) -> Result<(), String> {
        if seq <= self.seq {
            return Ok(());
        }
        let patch: json_patch::Patch =
            serde_json::from_str(patch).map_err(|error| error.to_string())?;
        json_patch::patch(&mut self.state, &patch)
            .map_err(|error| format!("{patch:?} does not apply: {error}"))?;
        self.seq = seq;
        Ok(())
    }
}
