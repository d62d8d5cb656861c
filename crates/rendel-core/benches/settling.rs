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
[state.rows]
kind = "set"
[state.steps]
kind = "list"
[state.notes]
kind = "text"
[state.crews]
kind = "map"
[state.crews.each.name]
kind = "register"
[state.pressings]
kind = "map"
[state.pressings.each.crew]
kind = "register"
refers = { to = "/crews", on-drop = "cascade" }
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
/// in turn. Making them is not measured.
fn settle(bencher: Bencher<'_, '_>, records: usize, edits: impl Fn(u64) -> Vec<Edit>) {
    let opened = sequencer(records);
    let actors: Vec<_> =
        (1..=2).map(|n| Actor::new(format!("p{n}"), "participant", Uuid::from_u128(n))).collect();
    let proposal = |n: u64| Proposal {
        answered: n - 1,
        ..Proposal::new(n, Some(n.saturating_sub(2)), edits(n))
    };
    let proposals: Vec<_> = (1..=PROPOSALS).map(proposal).collect();
    bencher.counter(ItemsCount::new(PROPOSALS)).with_inputs(|| opened.clone()).bench_local_values(
        |mut sequencer| {
            for (proposal, actor) in proposals.iter().zip(actors.iter().cycle()) {
                let outcome = sequencer.handle_proposal(actor, proposal, proposal.n);
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

#[divan::bench]
fn set_include(bencher: Bencher<'_, '_>) {
    settle(bencher, 0, |n| vec![Edit::new("/rows", "include").with("value", n)]);
}

#[divan::bench]
fn list_insert(bencher: Bencher<'_, '_>) {
    settle(bencher, 0, |n| {
        vec![Edit::new("/steps", "insert").with("id", n.to_string()).with("value", "mill")]
    });
}

#[divan::bench]
fn text_splice(bencher: Bencher<'_, '_>) {
    settle(bencher, 0, |_| {
        vec![Edit::new("/notes", "splice").with("index", 0).with("insert", "x")]
    });
}

/// One drop, with so many records that refer to the one that goes.
#[divan::bench(args = [100, 10_000])]
fn cascade(bencher: Bencher<'_, '_>, referring: usize) {
    let pressings: Map<_, _> =
        (0..referring).map(|n| (format!("p{n:06}"), json!({ "crew": "c1" }))).collect();
    let opening = json!({ "crews": { "c1": {} }, "pressings": pressings });
    let charter = Arc::new(Charter::parse(CHARTER).unwrap());
    let opened = Sequencer::open(charter, Some(&opening)).unwrap();
    let actor = Actor::new("p1", "participant", Uuid::from_u128(1));
    let proposal = Proposal::new(1, None, vec![Edit::new("/crews/c1", "drop")]);
    bencher.with_inputs(|| opened.clone()).bench_local_values(|mut sequencer| {
        let outcome = sequencer.handle_proposal(&actor, &proposal, 1);
        assert!(matches!(outcome, Outcome::Settled(_)), "{outcome:?}");
        sequencer
    });
}

/// A snapshot as it is handed over, of 100,000 records and 10,000 clients.
#[divan::bench]
fn snapshot(bencher: Bencher<'_, '_>) {
    let mut sequencer = sequencer(100_000);
    for n in 1..=10_000 {
        let actor = Actor::new("p1", "participant", Uuid::from_u128(n));
        let edits = vec![Edit::new("/heads", "add").with("by", 1)];
        sequencer.handle_proposal(&actor, &Proposal::new(1, None, edits), 1);
    }
    bencher.bench_local(|| sequencer.snapshot());
}
