//! Counters, sets and maps end as slow models of their rules say, which look at all that was ever
//! done each time.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;
use std::sync::Arc;

use proptest::prelude::*;
use rendel_core::{Actor, Charter, Edit, Outcome, Proposal, Sequencer};
use serde_json::{Value, json};
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "orchard"
version = 1
[state.heads]
kind = "counter"
min = 0
max = 9
[state.rows]
kind = "set"
[state.dropped]
kind = "map"
[state.dropped.each.what]
kind = "register"
[state.revived]
kind = "map"
drop-conflict = "revive"
[state.revived.each.what]
kind = "register"
"#;

#[derive(Clone, Debug)]
enum Do {
    Add(i64),
    Insert(u8),
    Remove(u8),
    Put(&'static str, u8),
    Drop(&'static str, u8),
    Set(&'static str, u8, u64),
}

/// One thing that was done, by whom, and what they had seen.
#[derive(Clone, Debug)]
struct Done {
    seq: u64,
    by: usize,
    seen: u64,
    what: Do,
}

impl Done {
    fn knows(&self, other: &Self) -> bool {
        other.seq <= self.seen || other.by == self.by
    }
}

fn edit(what: &Do) -> Edit {
    match what {
        Do::Add(by) => Edit::new("/heads", "add").with("by", *by),
        Do::Insert(row) => Edit::new("/rows", "include").with("value", *row),
        Do::Remove(row) => Edit::new("/rows", "exclude").with("value", *row),
        Do::Put(map, id) => Edit::new(format!("/{map}"), "put")
            .with("id", id.to_string())
            .with("value", json!({ "what": 0 })),
        Do::Drop(map, id) => Edit::new(format!("/{map}/{id}"), "drop"),
        Do::Set(map, id, what) => {
            Edit::new(format!("/{map}/{id}/what"), "set").with("value", *what)
        }
    }
}

/// A set has an element if, of what was done to it, an include stands that no later exclude had
/// seen.
fn rows(history: &[Done]) -> Vec<u8> {
    (0..3u8)
        .filter(|row| {
            let mut is_in = false;
            let mut inserts: Vec<&Done> = Vec::new();
            for done in history {
                match done.what {
                    Do::Insert(one) if one == *row => {
                        is_in = true;
                        inserts.push(done);
                    }
                    Do::Remove(one)
                        if one == *row && inserts.iter().all(|insert| done.knows(insert)) =>
                    {
                        is_in = false;
                        inserts.clear();
                    }
                    _ => {}
                }
            }
            is_in
        })
        .collect()
}

/// What a record's field holds, if the record is there: whoever had not seen a drop, or an edit,
/// meets the map's rule.
fn records(history: &[Done], map: &str, is_revived: bool) -> BTreeMap<String, u64> {
    let mut records = BTreeMap::new();
    for id in 0..2u8 {
        // The value, kept over a drop; the drop that stands; who brought the record, and who
        // changed it last.
        let (mut value, mut dropped): (Option<u64>, Option<&Done>) = (None, None);
        let (mut brought, mut changed): (Option<&Done>, Option<&Done>) = (None, None);
        for done in history {
            match done.what {
                Do::Put(of, one) if of == map && one == id => {
                    (value, dropped, brought, changed) = (Some(0), None, Some(done), Some(done));
                }
                Do::Set(of, one, what)
                    if of == map && one == id && (dropped.is_none() || is_revived) =>
                {
                    brought = if dropped.is_some() { Some(done) } else { brought };
                    (value, dropped, changed) = (Some(what), None, Some(done));
                }
                Do::Drop(of, one) if of == map && one == id => {
                    let is_unseen =
                        [brought, changed].into_iter().flatten().any(|change| !done.knows(change));
                    if !(is_revived && is_unseen) {
                        dropped = Some(done);
                    }
                }
                _ => {}
            }
        }
        if let (Some(value), None) = (value, dropped) {
            records.insert(id.to_string(), value);
        }
    }
    records
}

fn anything() -> impl Strategy<Value = Do> {
    let map = prop::sample::select(vec!["dropped", "revived"]);
    prop_oneof![
        (-4i64..5).prop_map(Do::Add),
        (0..3u8).prop_map(Do::Insert),
        (0..3u8).prop_map(Do::Remove),
        (map.clone(), 0..2u8).prop_map(|(map, id)| Do::Put(map, id)),
        (map.clone(), 0..2u8).prop_map(|(map, id)| Do::Drop(map, id)),
        (map, 0..2u8, 1..9u64).prop_map(|(map, id, what)| Do::Set(map, id, what)),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    #[test]
    fn counters_sets_and_maps_end_as_slow_models_say(steps in prop::collection::vec((0..3usize, 0..4u64, anything()), 1..60)) {
        let mut sequencer = Sequencer::open(Arc::new(Charter::parse(CHARTER).unwrap()), None).unwrap();
        let mut history: Vec<Done> = Vec::new();
        let mut seen = [0u64; 3];
        let mut sent = [0u64; 3];
        for (by, catches_up, what) in steps {
            sent[by] += 1;
            seen[by] = (seen[by] + catches_up).min(sequencer.seq());
            let actor = Actor::new(by.to_string(), "participant", Uuid::from_u128(by as u128 + 1));
            let proposal = Proposal::new(sent[by], Some(seen[by]), vec![edit(&what)]);
            let heads = sequencer.plain()["heads"].as_i64().unwrap();
            match sequencer.handle_proposal(&actor, &proposal, 0) {
                Outcome::Settled(update) => history.push(Done { seq: update.seq, by, seen: seen[by], what }),
                Outcome::Refused(problem) => {
                    let is_right = match (problem.kind().name(), &what) {
                        ("out-of-bounds", Do::Add(by)) => !(0..=9).contains(&(heads + by)),
                        ("exists", Do::Put(map, id)) => records(&history, map, *map == "revived").contains_key(&id.to_string()),
                        ("gone", Do::Remove(row)) => !rows(&history).contains(row),
                        ("gone", Do::Drop(map, id) | Do::Set(map, id, _)) => {
                            !records(&history, map, *map == "revived").contains_key(&id.to_string())
                        }
                        _ => false,
                    };
                    prop_assert!(is_right, "{what:?} was refused: {problem}");
                }
                Outcome::Repeated(outcome) => panic!("{outcome:?}"),
            }
            let heads: i64 = history.iter().map(|done| if let Do::Add(by) = done.what { by } else { 0 }).sum();
            let plain = |map, is_revived| -> Value {
                records(&history, map, is_revived).into_iter().map(|(id, what)| (id, json!({ "what": what }))).collect()
            };
            let expected = json!({ "heads": heads, "rows": rows(&history), "dropped": plain("dropped", false), "revived": plain("revived", true) });
            prop_assert_eq!(sequencer.plain(), expected);
        }
    }
}
