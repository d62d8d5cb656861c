//! What a session does in time, on a clock of the test's own: stepped, stopped, and away over the
//! moment itself.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::Arc;

use rendel_core::{Actor, Charter, Edit, Proposal, Settled};
use rendel_session::{
    Ask, Found, Input, Output, Session, SessionStatus, Settings, Spacing, Status, UpdateRow, Wake,
};
use rendel_wire::SessionHead;
use serde_json::{Value, json};
use uuid::Uuid;

const OPENED: u64 = 1_000_000_000;

/// A session, the journal that it writes, and what its store knows of when it acts next.
struct Story {
    charter: Arc<Charter>,
    machine: Session,
    journal: Vec<Settled>,
    announced: Vec<(u64, String)>,
    wakes: Option<u64>,
    epoch: u64,
    now: u64,
    calls: u64,
}

fn found(journal: &[Settled], epoch: u64, wakes: Option<u64>) -> Found {
    Found {
        epoch,
        epochs: vec![(epoch, journal.len() as u64)],
        standing: SessionStatus::default(),
        snapshot: None,
        updates: journal.to_vec(),
        refusals: vec![],
        unseen: None,
        secret: Uuid::nil(),
        opened: OPENED,
        wakes,
    }
}

fn machine(charter: &Arc<Charter>, found: &Found, now: u64) -> Session {
    let head = SessionHead {
        id: "barrel".into(),
        charter: charter.name.clone(),
        version: 1,
        status: String::new(),
    };
    let settings = Settings {
        snapshots: Spacing { updates: 1_000_000, bytes: 1 << 30 },
        digest_every: 1_000_000,
        digest_within: 5_000,
        connections_per_participant: 4,
    };
    Session::new(charter.clone(), head, None, found, settings, now).unwrap()
}

impl Story {
    fn begin(source: &str) -> Self {
        let charter = Charter::parse(source).unwrap_or_else(|faults| panic!("{faults:#?}"));
        let charter = Arc::new(charter);
        let machine = machine(&charter, &found(&[], 1, Some(1)), OPENED);
        let (journal, announced) = (vec![], vec![]);
        let wakes = Some(1);
        let now = OPENED;
        Self { charter, machine, journal, announced, wakes, epoch: 1, now, calls: 0 }
    }

    fn tell(&mut self, input: Input) {
        self.machine.handle(self.now, input);
        loop {
            let outputs = self.machine.poll_outputs();
            if outputs.is_empty() {
                return;
            }
            for output in outputs {
                let Output::Append { append, updates, wake, .. } = output else { continue };
                updates.into_iter().for_each(|row| self.write(row));
                match wake {
                    Some(Wake::At(at)) => self.wakes = Some(at),
                    Some(Wake::Never) => self.wakes = None,
                    None => {}
                }
                self.machine.handle(self.now, Input::Written { append });
            }
        }
    }

    fn write(&mut self, row: UpdateRow) {
        let update: Settled = serde_json::from_str(&row.body).unwrap();
        self.announced.extend(row.announced.into_iter().map(|one| (row.seq, one.kind)));
        assert_eq!(update.seq, self.journal.len() as u64 + 1);
        self.journal.push(update);
    }

    /// The clock shows another time, and the driver wakes the session.
    fn at(&mut self, now: u64) {
        self.now = now;
        self.tell(Input::Timeout);
    }

    fn propose(&mut self, edit: Edit) {
        self.calls += 1;
        let actor = Actor::new("oda", "participant", Uuid::from_u128(1));
        let proposal = Proposal::new(0, None, vec![edit]);
        let ask = Ask::Propose { actor, proposal };
        self.tell(Input::Call { call: self.calls, ask });
    }

    /// The process ends without a word, and another begins at that time, by what is written.
    fn restart(&mut self, now: u64) {
        self.epoch += 1;
        self.now = now;
        let found = found(&self.journal, self.epoch, self.wakes);
        self.machine = machine(&self.charter, &found, now);
        self.tell(Input::Timeout);
    }

    /// When each update was settled that sets something to have fired.
    fn fired(&self) -> Vec<u64> {
        let fires = |update: &&Settled| {
            let text = serde_json::to_string(&update.effects).unwrap();
            text.contains("\"fired\":1") && update.by == "service"
        };
        self.journal.iter().filter(fires).map(|update| update.at).collect()
    }
}

const BARREL: &str = r#"
charter = "barrel"
version = 1
[state.offers]
kind = "counter"
[state.closing]
kind = "deadline"
in = "10s"
extend = { by = "2s", within = "2s", when = "/offers" }
[[when]]
fires = "/closing"
announce = "barrel.sold"
"#;

fn offer() -> Edit {
    Edit::new("/offers", "add").with("by", 1)
}

#[test]
fn what_comes_at_the_very_moment_comes_after_it_and_a_moment_before_pushes_it_back() {
    let mut story = Story::begin(BARREL);
    story.at(OPENED);
    let due = OPENED + 10_000;
    assert_eq!((story.machine.next_timeout(), story.wakes), (Some(due), Some(due)));
    story.now = due - 1;
    story.propose(offer());
    assert_eq!(story.machine.next_timeout(), Some(due + 2_000), "it was pushed back");
    assert_eq!(story.wakes, Some(due), "a look too early does no harm, and costs no write");
    // The driver is late: what came at the moment itself is after it all the same.
    story.now = due + 2_000;
    story.propose(offer());
    let last: Vec<_> = story.journal.iter().rev().take(2).map(|update| &*update.by).collect();
    assert_eq!(last, ["oda", "service"]);
    assert_eq!(story.fired(), [due + 2_000]);
    assert_eq!((story.machine.next_timeout(), story.wakes), (None, None));
    assert_eq!(story.announced, [(3, "barrel.sold".to_owned())]);
}

#[test]
fn a_clock_that_is_set_back_or_ahead_fires_nothing_twice_and_nothing_never() {
    let mut story = Story::begin(BARREL);
    story.at(OPENED);
    story.at(OPENED + 9_999);
    // Set back by an hour: the session's time stands until the clock is there again.
    story.at(OPENED - 3_600_000);
    assert_eq!(story.fired(), [0; 0]);
    // Far ahead, and back.
    story.at(OPENED + 86_400_000);
    assert_eq!(story.fired(), [OPENED + 86_400_000]);
    story.at(OPENED + 10_000);
    story.restart(OPENED + 10_000);
    story.at(OPENED + 20_000);
    assert_eq!(story.fired().len(), 1);
    assert_eq!(story.announced.len(), 1);
}

#[test]
fn a_service_that_is_down_over_the_moment_fires_at_its_next_start_and_only_then() {
    for down in [0, 1, 9_999, 10_000, 10_001, 7 * 86_400_000] {
        let mut story = Story::begin(BARREL);
        story.at(OPENED);
        let back = OPENED + down;
        story.restart(back);
        assert_eq!(story.fired().len(), usize::from(down >= 10_000), "down for {down} ms");
        story.at(OPENED + 10_000);
        story.restart(OPENED + 10_001);
        assert_eq!(story.fired(), [back.max(OPENED + 10_000)], "down for {down} ms");
        assert_eq!(story.announced.len(), 1);
    }
    // One that was opened and never looked at counts from its opening.
    let mut story = Story::begin(BARREL);
    story.restart(OPENED + 25_000);
    assert_eq!(story.fired(), [OPENED + 25_000]);
    let due = serde_json::to_value(&story.journal[0].effects[0]).unwrap()["value"]["due"].clone();
    assert_eq!(due, OPENED + 10_000);
}

#[test]
fn two_processes_that_both_fire_write_it_once_by_the_fence() {
    let mut story = Story::begin(BARREL);
    story.at(OPENED);
    let journal = story.journal.clone();
    let mut other = machine(&story.charter, &found(&journal, 2, story.wakes), OPENED + 9_000);
    story.at(OPENED + 10_000);
    other.handle(OPENED + 10_000, Input::Timeout);
    let appends = |outputs: Vec<Output>| {
        let of = |output: &Output| match output {
            Output::Append { epoch, updates, .. } => Some((*epoch, updates.len())),
            _ => None,
        };
        outputs.iter().find_map(of)
    };
    // Both would write; the store takes that of the newer epoch and tells the other.
    assert_eq!(appends(other.poll_outputs()), Some((2, 1)));
    assert_eq!(story.fired().len(), 1);
    story.tell(Input::Superseded);
    assert_eq!(story.machine.next_timeout(), None, "it does nothing more");
}

#[test]
fn a_thousand_deadlines_of_one_moment_all_fire_in_one_append_and_in_one_order() {
    let fields: String = (0..1_000)
        .map(|n| format!("[state.d{n:03}]\nkind = \"deadline\"\nin = \"10s\"\n"))
        .collect();
    let source = format!("charter = \"many\"\nversion = 1\n{fields}");
    let mut story = Story::begin(&source);
    story.at(OPENED);
    assert_eq!(story.journal.len(), 1, "all begin at once");
    story.at(OPENED + 10_000);
    assert_eq!(story.fired(), [OPENED + 10_000; 1_000]);
    let at: Vec<String> =
        story.journal[1..].iter().map(|update| update.effects[0].at.to_string()).collect();
    assert!(at.is_sorted(), "those of one time in the order of their names");
    story.restart(OPENED + 10_001);
    assert_eq!(story.journal.len(), 1_001);
}

#[test]
fn a_frozen_session_fires_and_one_that_has_ended_does_not() {
    for (status, fires) in [(Status::Frozen, 1), (Status::Ended, 0)] {
        let mut story = Story::begin(BARREL);
        story.at(OPENED);
        let standing = SessionStatus { status, except: vec![] };
        let by = "keziah".to_owned();
        story.tell(Input::StandingWritten { call: 1, by, standing, result: Ok(()) });
        story.at(OPENED + 60_000);
        assert_eq!(story.fired().len(), fires, "{status:?}");
    }
}

#[test]
fn a_session_whose_time_is_far_off_may_leave_memory_and_one_whose_time_comes_may_not() {
    let mut story = Story::begin(&BARREL.replace("in = \"10s\"", "in = \"1h\""));
    story.at(OPENED);
    let compared = OPENED + 5_000;
    story.at(compared);
    assert!(story.machine.is_idle());
    story.at(OPENED + 3_600_000 - 119_000);
    assert!(!story.machine.is_idle());
    let value: Value = json!(story.journal.len());
    assert_eq!(value, 1);
}
