//! What waits for one connection.

use std::collections::VecDeque;

use bytestring::ByteString;
use parking_lot::Mutex;
use rendel_core::{Problem, ProblemKind};
use tokio::sync::Notify;

use crate::config::QueueLimits;

/// The head and the tail of a `settled` frame, between which updates are joined.
const HEAD: &str = r#"{"type":"settled","updates":["#;
const TAIL: &str = "]}";
/// A joined frame is closed once it has grown to this.
const FRAME_BYTES: usize = 256 << 10;

/// A bounded queue between a session and one connection. The session puts without ever waiting; the connection takes all
/// that is there, with the updates of a run joined into one frame, so that batches grow by themselves under load.
#[derive(Debug)]
pub(crate) struct Outbound {
    limits: QueueLimits,
    queue: Mutex<Queue>,
    wake: Notify,
}

#[derive(Debug, Default)]
struct Queue {
    items: VecDeque<Item>,
    bytes: usize,
    end: Option<Problem>,
}

#[derive(Clone, Debug)]
enum Item {
    /// A whole `settled` frame, shared by all connections that get it.
    Updates(ByteString),
    Frame(ByteString),
}

/// What a connection takes out of its queue at one time.
#[derive(Debug)]
pub(crate) struct Taken {
    pub(crate) frames: Vec<ByteString>,
    /// Why the connection ends after these frames, if it does.
    pub(crate) end: Option<Problem>,
}

impl Outbound {
    pub(crate) fn new(limits: QueueLimits) -> Self {
        Self { limits, queue: Mutex::default(), wake: Notify::new() }
    }

    /// Puts a `settled` frame, as [`rendel_wire::settled_frame`] makes it.
    pub(crate) fn put_updates(&self, frame: ByteString) {
        self.put(Item::Updates(frame));
    }

    /// Puts any other frame.
    pub(crate) fn put_frame(&self, frame: ByteString) {
        self.put(Item::Frame(frame));
    }

    fn put(&self, item: Item) {
        let mut queue = self.queue.lock();
        if queue.end.is_some() {
            return;
        }
        queue.bytes += item.text().len();
        queue.items.push_back(item);
        // One frame larger than the whole bound, such as a snapshot, may wait alone.
        if queue.items.len() > self.limits.frames || (queue.bytes > self.limits.bytes && queue.items.len() > 1) {
            queue.items.clear();
            queue.end = Some(Problem::new(
                ProblemKind::Slow,
                "This connection read more slowly than the session went on, and was cut off. Connect again with the last \"seq\" \
                 that you applied, and you get what you missed.",
            ));
        }
        drop(queue);
        self.wake.notify_one();
    }

    /// Ends the connection after what waits.
    pub(crate) fn end(&self, problem: Problem) {
        self.queue.lock().end.get_or_insert(problem);
        self.wake.notify_one();
    }

    /// Whether the connection was cut off because it fell behind; what is being written to it then never arrives.
    pub(crate) fn is_cut_off(&self) -> bool {
        self.queue.lock().end.as_ref().is_some_and(|problem| problem.kind() == ProblemKind::Slow)
    }

    /// Wakes the connection once more if something waits: a wake that came while it was writing was used up there.
    pub(crate) fn wake_again_if_filled(&self) {
        let queue = self.queue.lock();
        if !queue.items.is_empty() || queue.end.is_some() {
            self.wake.notify_one();
        }
    }

    /// Waits until there is something to take.
    pub(crate) async fn filled(&self) {
        self.wake.notified().await;
    }

    /// Takes all that waits.
    pub(crate) fn take(&self) -> Taken {
        let (items, end) = {
            let mut queue = self.queue.lock();
            queue.bytes = 0;
            (std::mem::take(&mut queue.items), queue.end.clone())
        };
        Taken { frames: joined(items), end }
    }
}

impl Item {
    fn text(&self) -> &ByteString {
        match self {
            Self::Updates(text) | Self::Frame(text) => text,
        }
    }
}

/// Joins each run of updates into one frame; one that stands alone is passed on as it is, without a copy.
fn joined(items: VecDeque<Item>) -> Vec<ByteString> {
    let mut frames = Vec::new();
    let mut run: Vec<ByteString> = Vec::new();
    let mut bytes = 0;
    for item in items {
        match item {
            Item::Updates(frame) => {
                bytes += frame.len();
                run.push(frame);
                if bytes > FRAME_BYTES {
                    frames.extend(join(&mut run));
                    bytes = 0;
                }
            }
            Item::Frame(frame) => {
                frames.extend(join(&mut run));
                bytes = 0;
                frames.push(frame);
            }
        }
    }
    frames.extend(join(&mut run));
    frames
}

fn join(run: &mut Vec<ByteString>) -> Option<ByteString> {
    if run.len() < 2 {
        return run.pop();
    }
    let mut frame = String::with_capacity(run.iter().map(|part| part.len()).sum());
    frame.push_str(HEAD);
    for (index, part) in run.drain(..).enumerate() {
        if index > 0 {
            frame.push(',');
        }
        frame.push_str(part.strip_prefix(HEAD).and_then(|part| part.strip_suffix(TAIL)).unwrap_or_default());
    }
    frame.push_str(TAIL);
    Some(frame.into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rendel_wire::settled_frame;

    fn updates(body: &str) -> ByteString {
        settled_frame([body]).into()
    }

    #[test]
    fn a_run_of_updates_leaves_as_one_frame_and_keeps_its_place_among_other_frames() {
        let queue = Outbound::new(QueueLimits { frames: 10, bytes: 1_000 });
        queue.put_updates(updates("1"));
        queue.put_updates(updates("2"));
        queue.put_frame("{\"type\":\"pong\"}".into());
        queue.put_updates(updates("3"));
        let frames: Vec<String> = queue.take().frames.iter().map(ToString::to_string).collect();
        assert_eq!(frames, [settled_frame(["1", "2"]), "{\"type\":\"pong\"}".to_owned(), settled_frame(["3"])]);
        assert!(queue.take().frames.is_empty());
    }

    #[test]
    fn who_falls_behind_loses_the_backlog_and_is_told_why() {
        let queue = Outbound::new(QueueLimits { frames: 3, bytes: 1_000 });
        (0..5).for_each(|_| queue.put_updates(updates("1")));
        let taken = queue.take();
        assert_eq!((taken.frames.len(), taken.end.map(|end| end.kind())), (0, Some(ProblemKind::Slow)));
        assert!(queue.is_cut_off());
    }

    #[test]
    fn a_snapshot_larger_than_the_bound_may_wait_alone() {
        let queue = Outbound::new(QueueLimits { frames: 3, bytes: 100 });
        queue.put_frame("x".repeat(500).into());
        assert_eq!(queue.take().frames.len(), 1);
    }
}
