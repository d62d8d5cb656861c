//! What the core takes of memory: allocations of one settled proposal, and what a list that keeps
//! one element is after many inserts. Counted while it runs; its times mean nothing.

#![allow(clippy::unwrap_used, reason = "a measurement that cannot go on is over")]

use std::sync::Arc;

use divan::{AllocProfiler, Bencher};
use rendel_core::{Actor, Charter, Edit, Outcome, Proposal, Sequencer};
use serde_json::json;
use uuid::Uuid;

#[global_allocator]
static ALLOCATIONS: AllocProfiler = AllocProfiler::system();

const CHARTER: &str = r#"
charter = "bench"
version = 1
[state.heads]
kind = "counter"
[state.title]
kind = "register"
[state.markers]
kind = "map"
[state.markers.each.what]
kind = "register"
[state.log]
kind = "list"
append-only = true
keep = 1
"#;

fn main() {
    divan::main();
}

fn open() -> Sequencer {
    let opening = json!({ "markers": { "m1": { "what": "ladder" } } });
    Sequencer::open(Arc::new(Charter::parse(CHARTER).unwrap()), Some(&opening)).unwrap()
}

fn oda() -> Actor {
    Actor::new("oda", "participant", Uuid::from_u128(1))
}

/// One proposal without a number, to a sequencer that has settled such ones before.
fn one(bencher: Bencher<'_, '_>, edit: Edit) {
    let (mut sequencer, actor) = (open(), oda());
    let proposal = Proposal::new(0, None, vec![edit]);
    bencher.bench_local(|| sequencer.handle_proposal(&actor, &proposal, 1));
}

#[divan::bench(sample_count = 10, sample_size = 1)]
fn counter_add(bencher: Bencher<'_, '_>) {
    one(bencher, Edit::new("/heads", "add").with("by", 1));
}

#[divan::bench(sample_count = 10, sample_size = 1)]
fn register_set(bencher: Bencher<'_, '_>) {
    one(bencher, Edit::new("/title", "set").with("value", "dry"));
}

#[divan::bench(sample_count = 10, sample_size = 1)]
fn field_in_a_record(bencher: Bencher<'_, '_>) {
    one(bencher, Edit::new("/markers/m1/what", "set").with("value", "dry"));
}

/// What is left of 40,000 inserts of 1 KB into a list that keeps one: the difference between what
/// was allocated and given back.
#[divan::bench(sample_count = 1, sample_size = 1)]
fn forty_thousand_inserts_of_which_one_is_kept() -> Sequencer {
    let (mut sequencer, actor) = (open(), oda());
    let line = "x".repeat(1_000);
    for n in 1..=40_000 {
        let edit = Edit::new("/log", "insert").with("value", &*line);
        let outcome = sequencer.handle_proposal(&actor, &Proposal::new(n, None, vec![edit]), 1);
        assert!(matches!(outcome, Outcome::Settled(_)), "{outcome:?}");
    }
    sequencer
}
