//! Presence on its way to a connection: the newest of each participant, and nothing older.

use std::collections::BTreeMap;
use std::sync::{Arc, OnceLock};

use rendel_core::Facts;
use rendel_wire::{FromService, PresenceFrame};

use super::outbound::Frame;

/// What changed in presence within one beat, shared by all connections of an audience and encoded once.
#[derive(Debug)]
pub(crate) struct Beat {
    of: BTreeMap<String, Option<Facts>>,
    frame: OnceLock<Arc<Frame>>,
}

impl Beat {
    pub(crate) fn new(of: BTreeMap<String, Option<Facts>>) -> Self {
        Self { of, frame: OnceLock::new() }
    }

    pub(super) fn frame(&self) -> Arc<Frame> {
        let encode = || Frame::new(FromService::Presence(PresenceFrame { of: self.of.clone() }).encode());
        self.frame.get_or_init(encode).clone()
    }
}

/// The presence that waits for one connection. It is bounded by the participants there are: what a newer beat says takes the
/// place of what an older one said.
#[derive(Debug, Default)]
pub(super) struct Newest(Vec<Arc<Beat>>);

/// Beats that wait side by side before they are put together.
const BEATS: usize = 4;

impl Newest {
    pub(super) fn put(&mut self, beat: &Arc<Beat>) {
        self.0.push(beat.clone());
        if self.0.len() > BEATS {
            self.0 = vec![Arc::new(self.together())];
        }
    }

    pub(super) fn clear(&mut self) {
        self.0.clear();
    }

    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    pub(super) fn take(&mut self) -> Option<Arc<Frame>> {
        let frame = match &self.0[..] {
            [] => return None,
            [one] => one.frame(),
            _ => self.together().frame(),
        };
        self.0.clear();
        Some(frame)
    }

    fn together(&self) -> Beat {
        let mut of = BTreeMap::new();
        self.0.iter().for_each(|beat| of.extend(beat.of.iter().map(|(who, facts)| (who.clone(), facts.clone()))));
        Beat::new(of)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn beat(who: &str, x: u64) -> Arc<Beat> {
        let facts = json!({ "pointer": { "x": x } }).as_object().cloned();
        Arc::new(Beat::new(BTreeMap::from([(who.to_owned(), facts)])))
    }

    #[test]
    fn who_does_not_keep_up_is_told_the_newest_of_each_and_once() {
        let mut newest = Newest::default();
        assert!(newest.take().is_none());
        for x in 0..100 {
            newest.put(&beat("oda", x));
            newest.put(&beat(if x % 2 == 0 { "bram" } else { "wren" }, x));
        }
        assert!(newest.0.len() <= BEATS + 1);
        let frame = newest.take().unwrap();
        let expected = json!({ "type": "presence", "of": {
            "bram": { "pointer": { "x": 98 } }, "oda": { "pointer": { "x": 99 } }, "wren": { "pointer": { "x": 99 } } } });
        assert_eq!(serde_json::from_str::<serde_json::Value>(&frame.json).unwrap(), expected);
        assert!(newest.is_empty());
        let one = beat("oda", 1);
        newest.put(&one);
        assert!(Arc::ptr_eq(&newest.take().unwrap(), &one.frame()), "who keeps up shares the encoding");
    }
}
