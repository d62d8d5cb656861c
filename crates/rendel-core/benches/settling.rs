//! The core alone: settled proposals per second, kind by kind.

#![allow(clippy::unwrap_used, reason = "a measurement that cannot go on is over")]

use std::sync::Arc;

use divan::Bencher;
use divan::counter::ItemsCount;
use rendel_core::{Actor, Charter, Edit, Outcome, Proposal, Sequencer};
use serde_json::{Map, json};
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "bench"
version = 1
[state.heads]
kind = "counter"
[state.title]
kind = "register"
schema = { type = "string", maxLength = 80 }
[state.leading]
kind = "register"
merge = "max"
[state.crates]
kind = "counter"
[[guards]]
at = "/crates"
rule = "new >= old && (who.role == 'participant' || new < 100)"
says = "Only more."
[state.markers]
kind = "map"
[state.markers.each.what]
kind = "register"
[state.markers.each.seen]
kind = "counter"
"#;

const PROPOSALS: u64 = 1_000;

fn main() {
    divan::main();
}

/// A sequencer whose map has so many records.
fn sequencer(records: usize) -> Sequencer {
    let markers: Map<_, _> =
        (0..records).map(|n| (format!("m{n:06}"), json!({ "what": "ladder" }))).collect();
    Sequencer::open(
        Arc::new(Charter::parse(CHARTER).unwrap()),
        Some(&json!({ "markers": markers })),
    )
    .unwrap()
}

/// Settles a thousand proposals, each made without having seen the one before, by two participants
/// in turn.
fn settle(bencher: Bencher<'_, '_>, records: usize, edits: impl Fn(u64) -> Vec<Edit> + Sync) {
    let opened = sequencer(records);
    let actors: Vec<_> =
        (1..=2).map(|n| Actor::new(format!("p{n}"), "participant", Uuid::from_u128(n))).collect();
    bencher.counter(ItemsCount::new(PROPOSALS)).with_inputs(|| opened.clone()).bench_local_values(
        |mut sequencer| {
            for n in 1..=PROPOSALS {
                let proposal = Proposal {
                    n,
                    seen: Some(sequencer.seq().saturating_sub(1)),
                    answered: n - 1,
                    edits: edits(n),
                    gesture: None,
                    note: None,
                };
                let outcome = sequencer.handle_proposal(
                    &actors[usize::try_from(n % 2).unwrap()],
                    &proposal,
                    n,
                );
                assert!(matches!(outcome, Outcome::Settled(_)), "{outcome:?}");
            }
            sequencer
        },
    );
}

#[divan::bench]
fn counter_add(bencher: Bencher<'_, '_>) {
    settle(bencher, 0, |_| vec![Edit::new("/heads", "add").with("by", 1)]);
}

/// One evaluation of a guard each, which is all that sets it apart from `counter_add`.
#[divan::bench]
fn counter_add_with_a_guard(bencher: Bencher<'_, '_>) {
    settle(bencher, 0, |_| vec![Edit::new("/crates", "add").with("by", 1)]);
}

#[divan::bench]
fn register_set_with_schema(bencher: Bencher<'_, '_>) {
    settle(bencher, 0, |_| vec![Edit::new("/title", "set").with("value", "South slope")]);
}

#[divan::bench]
fn register_max(bencher: Bencher<'_, '_>) {
    settle(bencher, 0, |n| vec![Edit::new("/leading", "set").with("value", n)]);
}

#[divan::bench(args = [100, 10_000, 100_000 - 1_000])]
fn map_put(bencher: Bencher<'_, '_>, records: usize) {
    settle(bencher, records, |n| {
        vec![
            Edit::new("/markers", "put")
                .with("id", format!("new{n}"))
                .with("value", json!({ "what": "crew" })),
        ]
    });
}

#[divan::bench(args = [100, 10_000, 100_000])]
fn field_in_a_record(bencher: Bencher<'_, '_>, records: usize) {
    settle(bencher, records, |n| {
        vec![Edit::new(format!("/markers/m{:06}/seen", n % 100), "add").with("by", 1)]
    });
}

#[divan::bench(args = [10_000])]
fn two_edits_at_once(bencher: Bencher<'_, '_>, records: usize) {
    settle(bencher, records, |n| {
        let at = format!("/markers/m{:06}", n % 100);
        vec![
            Edit::new(format!("{at}/seen"), "add").with("by", 1),
            Edit::new(format!("{at}/what"), "set").with("value", "crates"),
        ]
    });
}
