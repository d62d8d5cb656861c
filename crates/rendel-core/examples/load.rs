//! Settles proposals of one kind, to count or profile what one costs: `load KIND COUNT`.
//! Prints nanoseconds per proposal. `scripts/bench --against COMMIT` builds this file with both
//! versions, so it uses nothing but what the oldest one has.

#![allow(clippy::unwrap_used, reason = "a measurement that cannot continue is over")]
#![allow(clippy::disallowed_methods, reason = "it measures time")]
#![allow(clippy::print_stdout, reason = "it prints its result")]

use std::sync::Arc;
use std::time::Instant;

use rendel_core::{Actor, Charter, Edit, Outcome, Proposal, Sequencer};
use serde_json::{Map, Value, json};
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "load"
version = 1
[limits]
state = "256MiB"
[state.heads]
kind = "counter"
[state.title]
kind = "register"
[state.notes]
kind = "text"
[state.steps]
kind = "list"
[state.steps.each.what]
kind = "register"
[state.markers]
kind = "map"
[state.markers.each.what]
kind = "register"
[state.guarded]
kind = "map"
[state.guarded.each.litres]
kind = "counter"
[[guards]]
at = "/guarded/*/litres"
rule = "new >= 0 && new <= 1000000000"
says = "A vat holds so much."
"#;

/// Elements and characters of what is edited.
const SIZE: usize = 90_000;

/// Numbers that are the same in each run (xorshift64*).
struct Random(u64);

impl Random {
    fn below(&mut self, end: usize) -> usize {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        usize::try_from(self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 33).unwrap_or(0) % end
    }
}

fn opening(kind: &str) -> Value {
    let record = |value: Value| {
        (0..SIZE).map(|n| (format!("m{n:06}"), value.clone())).collect::<Map<_, _>>()
    };
    let step = |n| json!({ "id": format!("s{n:06}"), "value": { "what": "press" } });
    match kind {
        "splice" => json!({ "notes": "x".repeat(SIZE) }),
        "move" => json!({ "steps": (0..SIZE).map(step).collect::<Vec<_>>() }),
        "put" | "field" => json!({ "markers": record(json!({ "what": "ladder" })) }),
        "guarded" => json!({ "guarded": record(json!({ "litres": 5 })) }),
        _ => json!({}),
    }
}

fn edit(kind: &str, n: usize, random: &mut Random) -> Edit {
    let splice = |index: usize, delete: usize, insert: &str| {
        Edit::new("/notes", "splice")
            .with("index", index)
            .with("delete", delete)
            .with("insert", insert)
    };
    match kind {
        "add" => Edit::new("/heads", "add").with("by", 1),
        "set" => Edit::new("/title", "set").with("value", n),
        "field" => {
            let at = format!("/markers/m{:06}/what", random.below(SIZE));
            Edit::new(at, "set").with("value", n)
        }
        "put" => Edit::new("/markers", "put")
            .with("id", format!("n{n}"))
            .with("value", json!({ "what": "crew" })),
        "move" => {
            let (which, after) = (random.below(SIZE), random.below(SIZE));
            let after = if which == after { Value::Null } else { format!("s{after:06}").into() };
            Edit::new(format!("/steps/s{which:06}"), "move").with("after", after)
        }
        "type" => splice(n, 0, "a"),
        "splice" if n % 4 == 3 => splice(random.below(SIZE / 2), 1, ""),
        "splice" => splice(random.below(SIZE / 2), 0, "abc"),
        "guarded" => {
            let at = format!("/guarded/m{:06}/litres", random.below(SIZE));
            Edit::new(at, "add").with("by", 1)
        }
        _ => panic!("add, set, field, put, move, type, splice or guarded"),
    }
}

fn main() {
    let mut args = std::env::args().skip(1);
    let kind = args.next().unwrap_or_default();
    let count: usize = args.next().and_then(|count| count.parse().ok()).unwrap_or(10_000);
    let charter = Arc::new(Charter::parse(CHARTER).unwrap());
    let mut sequencer = Sequencer::open(charter, Some(&opening(&kind))).unwrap();
    let oda = Actor::new("oda", "participant", Uuid::from_u128(1));
    let mut random = Random(7);
    let proposals: Vec<Proposal> = (0..count)
        .map(|n| {
            let before = n as u64;
            let edits = vec![edit(&kind, n, &mut random)];
            Proposal { answered: before, ..Proposal::new(before + 1, Some(before), edits) }
        })
        .collect();
    let began = Instant::now();
    for proposal in &proposals {
        let outcome = sequencer.handle_proposal(&oda, proposal, 0);
        assert!(matches!(outcome, Outcome::Settled(_)), "{outcome:?}");
    }
    println!("{}", began.elapsed().as_nanos() / count.max(1) as u128);
}
