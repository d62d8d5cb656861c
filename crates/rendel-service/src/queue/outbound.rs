//! What waits for one connection.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytestring::ByteString;
use parking_lot::Mutex;
use rendel_core::{Problem, ProblemKind};
use tokio::sync::Notify;

use super::beat::{Beat, Newest};
use super::item::{Arrival, Frame, Item};
use crate::config::QueueLimits;

/// A bounded queue between a session and one connection. The session puts without ever waiting; the
/// connection takes all that is there whenever it has written what it had.
///
/// A connection that falls behind loses its backlog, and nothing more is put. Once it has written
/// what it had, it is given one catch-up in place of all that. If it falls behind again soon after,
/// or does not come to write for too long, it is cut off as `slow`. Nobody else waits for it.
#[derive(Debug)]
pub(crate) struct Outbound {
    limits: QueueLimits,
    slow_within: Duration,
    queue: Mutex<Queue>,
    wake: Notify,
}

#[derive(Debug, Default)]
struct Queue {
    items: VecDeque<Item>,
    bytes: usize,
    /// Presence, which goes out after all else and is the first to be dropped.
    presence: Newest,
    end: Option<Problem>,
    /// When what waits began to wait.
    waiting_since: Option<Instant>,
    /// The `seq` up to which updates were handed over; none before the first welcome was.
    taken: Option<u64>,
    behind: Option<Behind>,
    caught_up: Option<Instant>,
    catch_ups: u32,
}

#[derive(Clone, Copy, Debug)]
struct Behind {
    since: Instant,
    /// Whether the session was asked for the catch-up.
    is_asked: bool,
}

/// What a connection takes out of its queue at one time.
#[derive(Debug)]
pub(crate) struct Taken {
    pub(crate) items: VecDeque<Item>,
    /// Why the connection ends after these, if it does.
    pub(crate) end: Option<Problem>,
    /// The connection fell behind, and the session is to be asked for its catch-up.
    pub(crate) needs_catch_up: bool,
}

/// How a queue stands.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct QueueFigures {
    pub(crate) taken: Option<u64>,
    pub(crate) frames: u64,
    pub(crate) bytes: u64,
    pub(crate) lag_ms: u64,
    pub(crate) catch_ups: u32,
}

impl Outbound {
    pub(crate) fn new(limits: QueueLimits, slow_within: Duration) -> Self {
        Self { limits, slow_within, queue: Mutex::default(), wake: Notify::new() }
    }

    /// Puts an item; gives whether the connection fell behind with it.
    pub(crate) fn put(&self, item: Item) -> bool {
        let mut queue = self.queue.lock();
        if queue.end.is_some() || queue.behind.is_some() {
            return false;
        }
        queue.waiting_since.get_or_insert_with(Instant::now);
        queue.bytes += item.bytes();
        queue.items.push_back(item);
        // One frame larger than the whole bound, such as a snapshot, may wait alone.
        let is_full = queue.items.len() > self.limits.frames
            || (queue.bytes > self.limits.bytes && queue.items.len() > 1);
        if is_full {
            queue.items.clear();
            queue.presence.clear();
            queue.bytes = 0;
            if queue.caught_up.is_some_and(|at| at.elapsed() < self.slow_within) {
                queue.end = Some(slow());
            } else {
                queue.behind = Some(Behind { since: Instant::now(), is_asked: false });
            }
        }
        drop(queue);
        self.wake.notify_one();
        is_full
    }

    /// Puts what changed in presence; dropped where the connection is behind, since its catch-up
    /// has all of it.
    pub(crate) fn put_presence(&self, beat: &Arc<Beat>) {
        let mut queue = self.queue.lock();
        if queue.end.is_none() && queue.behind.is_none() {
            queue.presence.put(beat);
            drop(queue);
            self.wake.notify_one();
        }
    }

    pub(crate) fn put_frame(&self, json: impl Into<ByteString>) {
        self.put(Item::Aside(Frame::new(json)));
    }

    /// Puts where the session stands now: what was lost before it is part of it.
    pub(crate) fn put_welcome(&self, arrival: Arrival) {
        {
            let mut queue = self.queue.lock();
            // What waited of presence is older than what the welcome says.
            queue.presence.clear();
            if queue.behind.take().is_some() {
                queue.catch_ups += 1;
                queue.caught_up = Some(Instant::now());
            }
        }
        self.put(Item::Welcome(Arc::new(arrival)));
    }

    /// Takes out what waits of the state and of people, since they may not be shown it any more. What
    /// says nothing of the state stays; a welcome, with the outcomes of proposals, comes in place of
    /// the rest.
    pub(crate) fn drop_shown(&self) {
        let mut queue = self.queue.lock();
        queue.items.retain(|item| matches!(item, Item::Aside(_)));
        queue.presence.clear();
        queue.bytes = queue.items.iter().map(Item::bytes).sum();
        // What it holds is of the old role: nothing can be added to that.
        queue.taken = None;
    }

    /// Ends the connection after what waits.
    pub(crate) fn end(&self, problem: Problem) {
        self.queue.lock().end.get_or_insert(problem);
        self.wake.notify_one();
    }

    /// Why the connection was cut off, where it was: what is being written to it then never
    /// arrives.
    pub(crate) fn cut_off(&self) -> Option<Problem> {
        let queue = self.queue.lock();
        let is_stuck = queue.behind.is_some_and(|behind| behind.since.elapsed() > self.slow_within);
        let is_slow = queue.end.as_ref().is_some_and(|problem| problem.kind() == ProblemKind::Slow);
        (is_stuck || is_slow).then(slow)
    }

    /// Wakes the connection once more if something waits: a wake that came while it was writing was
    /// used up there.
    pub(crate) fn wake_again_if_filled(&self) {
        let queue = self.queue.lock();
        if !queue.items.is_empty()
            || !queue.presence.is_empty()
            || queue.end.is_some()
            || queue.behind.is_some_and(|behind| !behind.is_asked)
        {
            self.wake.notify_one();
        }
    }

    /// Waits until there is something to take.
    pub(crate) async fn filled(&self) {
        self.wake.notified().await;
    }

    /// Takes all that waits.
    pub(crate) fn take(&self) -> Taken {
        let mut queue = self.queue.lock();
        queue.bytes = 0;
        queue.waiting_since = None;
        let mut items = std::mem::take(&mut queue.items);
        items.extend(queue.presence.take().map(Item::Frame));
        queue.taken = items.iter().rev().find_map(Item::seq).or(queue.taken);
        let needs_catch_up = queue
            .behind
            .as_mut()
            .is_some_and(|behind| !std::mem::replace(&mut behind.is_asked, true));
        Taken { items, end: queue.end.clone(), needs_catch_up }
    }

    pub(crate) fn figures(&self) -> QueueFigures {
        let queue = self.queue.lock();
        let since = queue.waiting_since.or(queue.behind.map(|behind| behind.since));
        QueueFigures {
            taken: queue.taken,
            frames: queue.items.len() as u64,
            bytes: queue.bytes as u64,
            lag_ms: since
                .map_or(0, |since| u64::try_from(since.elapsed().as_millis()).unwrap_or(u64::MAX)),
            catch_ups: queue.catch_ups,
        }
    }
}

fn slow() -> Problem {
    Problem::new(
        ProblemKind::Slow,
        "This connection read more slowly than the session went on, and was cut off. Connect again with the last \"seq\" \
         that you applied, and you get what you missed.",
    )
    .with("limit", "queue")
}

#[cfg(test)]
mod tests {
    use super::super::item::Run;
    use super::*;

    const LIMITS: QueueLimits = QueueLimits { frames: 3, bytes: 1_000 };
    const LONG: Duration = Duration::from_secs(600);

    fn run(last: u64) -> Item {
        let update = rendel_session::ShownUpdate { seq: last, update: "".into(), patch: None };
        Item::Updates(Arc::new(Run::new(vec![update])))
    }

    fn fill(queue: &Outbound, seqs: std::ops::RangeInclusive<u64>) {
        for seq in seqs {
            queue.put(run(seq));
        }
    }

    fn welcome(seq: u64) -> Arrival {
        Arrival { head: Frame::new("{}"), state: None, seq }
    }

    fn seqs(taken: &Taken) -> Vec<u64> {
        taken.items.iter().filter_map(Item::seq).collect()
    }

    #[test]
    fn whoever_may_see_less_gets_none_of_what_waited() {
        let queue = Outbound::new(LIMITS, LONG);
        queue.put_welcome(welcome(1));
        queue.put(run(2));
        queue.put_frame("{}");
        queue.drop_shown();
        assert_eq!(queue.figures().taken, None, "it is not caught up from what it had");
        queue.put_welcome(welcome(2));
        let taken = queue.take();
        assert_eq!((seqs(&taken), taken.items.len()), (vec![2], 2), "the answer and the welcome");
    }

    #[test]
    fn who_falls_behind_loses_the_backlog_and_gets_one_catch_up_in_its_place() {
        let queue = Outbound::new(LIMITS, LONG);
        fill(&queue, 1..=2);
        assert_eq!(seqs(&queue.take()), [1, 2]);
        let fell: Vec<bool> = (3..=9).map(|seq| queue.put(run(seq))).collect();
        assert_eq!(fell, [false, false, false, true, false, false, false]);
        let taken = queue.take();
        assert_eq!((seqs(&taken), taken.end.is_none(), taken.needs_catch_up), (vec![], true, true));
        assert!(!queue.take().needs_catch_up, "it is asked for once");
        assert_eq!(
            (queue.figures().taken, queue.figures().catch_ups),
            (Some(2), 0),
            "it had up to 2, and misses what came after"
        );
        queue.put_welcome(welcome(9));
        queue.put(run(10));
        assert_eq!(seqs(&queue.take()), [9, 10]);
        assert_eq!((queue.figures().taken, queue.figures().catch_ups), (Some(10), 1));
    }

    #[test]
    fn who_loses_the_first_welcome_is_known_to_hold_nothing() {
        let queue = Outbound::new(LIMITS, LONG);
        queue.put_welcome(welcome(7));
        fill(&queue, 8..=10);
        assert_eq!((queue.take().needs_catch_up, queue.figures().taken), (true, None));
    }

    #[test]
    fn who_falls_behind_again_soon_or_does_not_come_to_write_is_cut_off() {
        let queue = Outbound::new(LIMITS, LONG);
        fill(&queue, 1..=4);
        assert!(queue.cut_off().is_none());
        queue.put_welcome(welcome(4));
        fill(&queue, 5..=8);
        assert_eq!(queue.cut_off().map(|problem| problem.kind()), Some(ProblemKind::Slow));
        let stuck = Outbound::new(LIMITS, Duration::ZERO);
        fill(&stuck, 1..=4);
        assert!(stuck.cut_off().is_some());
    }

    #[test]
    fn a_snapshot_larger_than_the_bound_may_wait_alone() {
        let queue = Outbound::new(QueueLimits { frames: 3, bytes: 100 }, LONG);
        queue.put_frame("x".repeat(500));
        assert_eq!(queue.take().items.len(), 1);
    }
}
