//! Presence on its way to a connection: the newest of each participant, and nothing older.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use rendel_session::Told;
use rendel_wire::{FromService, PresenceFrame};

use super::item::Frame;

/// What changed in presence within one beat, shared by all connections of an audience and encoded
/// once.
#[derive(Debug)]
pub(crate) struct Beat {
    of: Told,
    frame: OnceLock<Arc<Frame>>,
    told: Instant,
    /// How many connections it is put to.
    put: usize,
    taken: AtomicUsize,
    /// How long it took until most connections had it.
    spread: OnceLock<Duration>,
}

/// A beat rests this many times as long as it took to tell it, so that presence leaves most of the
/// machine to updates.
const REST: u32 = 6;

/// A beat that most connections have not taken after this long holds up the next no more.
const LONGEST: Duration = Duration::from_secs(1);

impl Beat {
    pub(crate) fn new(of: Told, put: usize) -> Self {
        Self {
            of,
            frame: OnceLock::new(),
            told: Instant::now(),
            put,
            taken: AtomicUsize::new(0),
            spread: OnceLock::new(),
        }
    }

    /// How long the next beat waits: as long as this one is on its way, and a rest in proportion to
    /// that way.
    pub(crate) fn rest(&self, now: Instant) -> Duration {
        let since = now.saturating_duration_since(self.told);
        match self.spread.get() {
            Some(spread) => (*spread * REST).min(LONGEST).saturating_sub(since),
            None if self.put == 0 || since >= LONGEST => Duration::ZERO,
            None => since.max(Duration::from_millis(1)),
        }
    }

    fn frame(&self) -> Arc<Frame> {
        let encode =
            || Frame::new(FromService::Presence(PresenceFrame { of: self.of.clone() }).encode());
        self.frame.get_or_init(encode).clone()
    }

    fn note_taken(&self) {
        let taken = self.taken.fetch_add(1, Ordering::Relaxed) + 1;
        if taken * 4 >= self.put * 3 {
            self.spread.get_or_init(|| self.told.elapsed());
        }
    }
}

/// The presence that waits for one connection. It is bounded by the participants there are: what a
/// newer beat says takes the place of what an older one said.
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
            [one] => {
                one.note_taken();
                one.frame()
            }
            _ => self.together().frame(),
        };
        self.0.clear();
        Some(frame)
    }

    fn together(&self) -> Beat {
        let mut of = Told::new();
        for beat in &self.0 {
            beat.note_taken();
            for (who, told) in &beat.of {
                of.entry(who.clone()).or_default().extend(told.clone());
            }
        }
        Beat::new(of, 0)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use serde_json::json;
    use uuid::Uuid;

    use super::*;

    fn beat(who: &str, x: u64) -> Arc<Beat> {
        let facts = json!({ "pointer": { "x": x } }).as_object().cloned();
        let told = BTreeMap::from([(Uuid::nil(), facts)]);
        Arc::new(Beat::new(Told::from([(who.to_owned(), told)]), 4))
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
        let told = |x: u64| json!({ Uuid::nil().to_string(): { "pointer": { "x": x } } });
        let of = json!({ "bram": told(98), "oda": told(99), "wren": told(99) });
        let expected = json!({ "type": "presence", "of": of });
        assert_eq!(serde_json::from_str::<serde_json::Value>(&frame.json).unwrap(), expected);
        assert!(newest.is_empty());
        let one = beat("oda", 1);
        newest.put(&one);
        assert!(
            Arc::ptr_eq(&newest.take().unwrap(), &one.frame()),
            "who keeps up shares the encoding"
        );
    }

    #[test]
    fn a_beat_rests_in_proportion_to_its_way() {
        let beat = beat("oda", 1);
        let told = beat.told;
        let after = |ms: u64| told + Duration::from_millis(ms);
        assert_eq!(beat.rest(after(30)), Duration::from_millis(30), "on its way still");
        assert_eq!(
            beat.rest(after(1_000)),
            Duration::ZERO,
            "whoever has not taken it by then is not waited for"
        );
        beat.note_taken();
        beat.note_taken();
        assert!(beat.spread.get().is_none(), "half of them have it");
        beat.note_taken();
        let spread = *beat.spread.get().unwrap();
        assert_eq!(beat.rest(told + spread), spread * REST - spread);
        assert_eq!(beat.rest(told + spread * REST), Duration::ZERO);
        beat.note_taken();
        assert_eq!(beat.spread.get(), Some(&spread), "the last one changes nothing");
    }
}
