//! Measures the core alone: no sockets, no disk. Each figure is the best of some runs, since the
//! machine does other things.

use std::hint::black_box;
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result, ensure};
use rendel_core::{
    Actor, Charter, Edit, Outcome, Proposal, Sequencer, Settled, Splice, Stamp, State,
    VersionedText, View, digest,
};
use serde_json::{Map, Value, json};
use uuid::Uuid;

use crate::plot::{Line, plot};
use crate::report::{Goal, Report};

const CHARTER: &str = r#"
charter = "bench"
version = 1
[limits]
state = "256MiB"
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
[state.markers.each.notes]
kind = "text"
"#;

const RUNS: usize = 5;

pub(crate) fn measure(report: &mut Report) -> Result<()> {
    eprintln!("the core alone …");
    sequential(report)?;
    branches(report)?;
    memory(report)?;
    sizes(report)?;
    views(report)
}

fn charter() -> Result<Arc<Charter>> {
    Charter::parse(CHARTER).map(Arc::new).map_err(|faults| anyhow::anyhow!("{faults:?}"))
}

fn open(opening: &Value) -> Result<Sequencer> {
    Ok(Sequencer::open(charter()?, Some(opening))?)
}

fn splice(index: usize, delete: usize, insert: &str) -> Edit {
    Edit::new("/notes", "splice").with("index", index).with("delete", delete).with("insert", insert)
}

/// A small generator (xorshift64*), the same edits at each run.
struct Random(u64);

impl Random {
    fn below(&mut self, end: usize) -> usize {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        usize::try_from(self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 33).unwrap_or(0) % end
    }
}

/// One participant and the proposals that they make, one edit each, all with what they had `seen`:
/// `None` for everything.
struct Author {
    actor: Actor,
    seen: Option<u64>,
    edits: Vec<Edit>,
}

impl Author {
    fn new(n: u128, seen: Option<u64>, edits: Vec<Edit>) -> Self {
        Self { actor: Actor::new(format!("p{n}"), "participant", Uuid::from_u128(n)), seen, edits }
    }

    fn proposals(&self, seq: u64) -> Vec<Proposal> {
        let proposal = |(n, edit): (u64, &Edit)| Proposal {
            n,
            seen: Some(self.seen.unwrap_or(seq + n - 1)),
            answered: n - 1,
            edits: vec![edit.clone()],
            ..Proposal::new(0, None, vec![])
        };
        (1..).zip(&self.edits).map(proposal).collect()
    }

    /// Settles proposals and hands over each update, as a session hands it to its journal and is
    /// done with it.
    fn settle(
        &self,
        sequencer: &mut Sequencer,
        proposals: &[Proposal],
        mut hand_over: impl FnMut(Settled),
    ) -> Result<()> {
        for proposal in proposals {
            match sequencer.handle_proposal(&self.actor, proposal, 0) {
                Outcome::Settled(update) => hand_over(update),
                other => anyhow::bail!("{other:?}"),
            }
        }
        Ok(())
    }
}

/// The best time of some runs over fresh sequencers.
fn best(sequencer: &Sequencer, author: &Author) -> Result<Duration> {
    let proposals = author.proposals(sequencer.seq());
    let mut best = Duration::MAX;
    for _ in 0..RUNS {
        let mut sequencer = sequencer.clone();
        let start = Instant::now();
        author.settle(&mut sequencer, &proposals, |update| drop(black_box(update)))?;
        best = best.min(start.elapsed());
    }
    Ok(best)
}

fn per_second(count: usize, time: Duration) -> f64 {
    count as f64 / time.as_secs_f64()
}

/// Typing: each character a proposal of its own, behind the one before.
fn typing(count: usize) -> Vec<Edit> {
    (0..count).map(|index| splice(index, 0, "a")).collect()
}

/// Inserts and deletes at random places of a text of `len` characters that they may count on.
fn scattered(count: usize, len: usize, seed: u64) -> Vec<Edit> {
    let mut random = Random(seed);
    (0..count)
        .map(|n| {
            if n % 4 == 3 {
                splice(random.below(len / 2), 1, "")
            } else {
                splice(random.below(len / 2), 0, "abc")
            }
        })
        .collect()
}

fn sequential(report: &mut Report) -> Result<()> {
    let count = 100_000;
    let typed: Vec<_> = (0..count).map(|index| Splice { index, delete: 0, insert: "a" }).collect();
    let time = best_alone("", &typed)?;
    let what = "text alone: single characters typed one after another, per second";
    report.figure(what, per_second(count, time), Goal::AtLeast(1e6));
    let time = best_alone(&"x".repeat(100_000), &spliced(&scattered(count, 100_000, 1)))?;
    report.figure(
        "text alone: edits at random places of 100,000 characters, per second",
        per_second(count, time),
        Goal::None,
    );
    let time = best(&open(&json!({}))?, &Author::new(1, None, typing(count)))?;
    report.figure(
        "text, as whole proposals with paths and JSON: typed, settled per second",
        per_second(count, time),
        Goal::None,
    );
    Ok(())
}

/// The splices of edits.
fn spliced(edits: &[Edit]) -> Vec<Splice<'_>> {
    let number = |edit: &Edit, name| {
        edit.arg(name).and_then(Value::as_u64).and_then(|n| usize::try_from(n).ok()).unwrap_or(0)
    };
    let splice = |edit| Splice {
        index: number(edit, "index"),
        delete: number(edit, "delete"),
        insert: text_of(edit),
    };
    edits.iter().map(splice).collect()
}

fn text_of(edit: &Edit) -> &str {
    edit.arg("insert").and_then(Value::as_str).unwrap_or_default()
}

fn best_alone(opening: &str, splices: &[Splice<'_>]) -> Result<Duration> {
    let client = Uuid::from_u128(1);
    let mut best = Duration::MAX;
    for _ in 0..RUNS {
        let mut text = VersionedText::new(opening, Stamp::OPENING);
        let start = Instant::now();
        for (seq, splice) in (1..).zip(splices) {
            text.apply(*splice, View::PRESENT, *splice, Stamp { seq, client: client.into() })
                .context("a splice reaches too far")?;
        }
        best = best.min(start.elapsed());
        black_box(text);
    }
    Ok(best)
}

/// A branch of splices that knows nothing of another is merged with it.
fn merged(opening: &str, one: &[Splice<'_>], two: &[Splice<'_>]) -> Result<Duration> {
    let mut text = VersionedText::new(opening, Stamp::OPENING);
    let mut seq = 0;
    let mut branch =
        |text: &mut VersionedText, client: u128, splices: &[Splice<'_>]| -> Result<()> {
            let view = View { seen: 0, client: Uuid::from_u128(client).into() };
            for splice in splices {
                seq += 1;
                let stamp = Stamp { seq, client: view.client };
                let settled = text.settle(view, *splice).context("a splice reaches too far")?;
                for part in settled.parts {
                    text.apply(part.present, view, part.viewed, stamp)
                        .context("a part reaches too far")?;
                }
            }
            Ok(())
        };
    branch(&mut text, 1, one)?;
    let start = Instant::now();
    branch(&mut text, 2, two)?;
    Ok(start.elapsed())
}

/// Two branches from one text that know nothing of each other: the second is merged into the first.
fn branches(report: &mut Report) -> Result<()> {
    let mut lines = vec![Line::new("random places"), Line::new("one place")];
    for count in [1_000, 10_000, 100_000] {
        for (line, is_typed) in [(0, false), (1, true)] {
            // More than a text remembers is refused, so a branch of 100,000 comes in parts, as from
            // a client that is away ten times.
            let part = count.min(10_000);
            let opening = "x".repeat(20_000);
            let edits = |seed| -> Vec<Edit> {
                if is_typed {
                    (0..part).map(|n| splice(100 + n, 0, "a")).collect()
                } else {
                    scattered(part, 20_000, seed)
                }
            };
            let mut time = Duration::ZERO;
            for seed in 1..=(count / part) as u64 {
                let (one, two) = (edits(seed), edits(seed + 100));
                let (one, two) = (spliced(&one), spliced(&two));
                let runs =
                    (0..RUNS).map(|_| merged(&opening, &one, &two)).collect::<Result<Vec<_>>>()?;
                time += runs.into_iter().min().unwrap_or_default();
            }
            let ms = time.as_secs_f64() * 1000.0;
            lines[line].points.push((count as f64, ms / count as f64 * 1000.0));
            if count == 10_000 {
                let place = if is_typed { "typed at one place" } else { "at random places" };
                report.figure(
                    &format!(
                        "text alone: a branch of 10,000 edits {place} merged with another, in ms"
                    ),
                    ms,
                    Goal::AtMost(100.0),
                );
            }
        }
    }
    plot(
        "docs/figures/branches.png",
        "Merging two branches of a text",
        "edits of each branch",
        "µs per edit",
        &lines,
    )
}

/// What a text of about a megabyte costs after a hundred thousand edits at random places: the
/// characters, and who inserted and deleted what of the last edits.
fn memory(report: &mut Report) -> Result<()> {
    const TEXTS: usize = 8;
    let client = Uuid::from_u128(1);
    let before = resident()?;
    let mut kept = Vec::new();
    for seed in 1..=TEXTS as u64 {
        let mut random = Random(seed);
        let mut text = VersionedText::new(&"x".repeat(800_000), Stamp::OPENING);
        for seq in 1..=100_000 {
            let index = random.below(700_000);
            let (delete, insert) = if seq % 4 == 3 { (1, "") } else { (0, "abc") };
            let splice = Splice { index, delete, insert };
            text.apply(splice, View::PRESENT, splice, Stamp { seq, client: client.into() })
                .context("a splice reaches too far")?;
        }
        kept.push(text);
    }
    let bytes = resident()?.saturating_sub(before);
    let chars: usize = kept.iter().map(|text| text.len(View::PRESENT)).sum();
    let what = "text alone: bytes of memory per character, a million characters after 100,000 \
        edits at random places";
    report.figure(what, bytes as f64 / chars as f64, Goal::None);
    Ok(())
}

fn resident() -> Result<u64> {
    let status = std::fs::read_to_string("/proc/self/status")?;
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).context("no VmRSS")?;
    Ok(line.trim().trim_end_matches(" kB").parse::<u64>()? * 1024)
}

fn steps(count: usize) -> Value {
    (0..count).map(|n| json!({ "id": format!("s{n:06}"), "value": { "what": "press" } })).collect()
}

fn markers(count: usize) -> Value {
    Value::Object(
        (0..count)
            .map(|n| (format!("m{n:06}"), json!({ "what": "ladder" })))
            .collect::<Map<_, _>>(),
    )
}

/// No edit costs the size of what it is in.
fn sizes(report: &mut Report) -> Result<()> {
    let count = 10_000;
    let mut moves = Line::new("list: move");
    let mut puts = Line::new("map: put");
    let mut splices = Line::new("text: splice");
    for size in [1_000, 10_000, 90_000] {
        let list = open(&json!({ "steps": steps(size) }))?;
        let mut random = Random(7);
        let edits = (0..count).map(|_| {
            let (which, after) = (random.below(size), random.below(size));
            let after = if which == after { Value::Null } else { format!("s{after:06}").into() };
            Edit::new(format!("/steps/s{which:06}"), "move").with("after", after)
        });
        let time = best(&list, &Author::new(1, None, edits.collect()))?;
        moves.points.push((size as f64, micros(count, time)));
        let map = open(&json!({ "markers": markers(size) }))?;
        let put = |n| {
            Edit::new("/markers", "put")
                .with("id", format!("n{n}"))
                .with("value", json!({ "what": "crew" }))
        };
        let time = best(&map, &Author::new(1, None, (0..count).map(put).collect()))?;
        puts.points.push((size as f64, micros(count, time)));
        let text = open(&json!({ "notes": "x".repeat(size) }))?;
        let time = best(&text, &Author::new(1, None, scattered(count, size, 3)))?;
        splices.points.push((size as f64, micros(count, time)));
    }
    for line in [&moves, &puts, &splices] {
        let growth = line.last() / line.first();
        report.figure(
            &format!("{}: cost at 90,000 elements over that at 1,000", line.name),
            growth,
            Goal::AtMost(4.0),
        );
        report.figure(&format!("{}: µs at 90,000 elements", line.name), line.last(), Goal::None);
    }
    plot(
        "docs/figures/sizes.png",
        "Cost of one edit",
        "elements or characters",
        "µs per edit",
        &[moves, puts, splices],
    )
}

fn micros(count: usize, time: Duration) -> f64 {
    time.as_secs_f64() * 1e6 / count as f64
}

/// What an update costs as a JSON Patch, and a digest that falls due every thousand updates, in a
/// state of 10,000 records.
fn views(report: &mut Report) -> Result<()> {
    let count = 10_000;
    for size in [100, 10_000] {
        let opening = json!({ "markers": markers(size) });
        let mut sequencer = open(&opening)?;
        let edits = (0..count)
            .map(|n| Edit::new(format!("/markers/m{:06}/what", n % size), "set").with("value", n));
        let author = Author::new(1, None, edits.collect());
        let mut updates = Vec::with_capacity(count);
        author.settle(&mut sequencer, &author.proposals(0), |update| updates.push(update))?;
        let charter = charter()?;
        let state = State::open(&charter, Some(&opening))?;
        let mut patched = Duration::MAX;
        let mut applied = Duration::MAX;
        for _ in 0..RUNS {
            let mut one = state.clone();
            let start = Instant::now();
            updates.iter().try_for_each(|update| one.apply(&charter.fields, update))?;
            applied = applied.min(start.elapsed());
            let mut one = state.clone();
            let start = Instant::now();
            for update in &updates {
                black_box(one.patch(&charter.fields, update, &rendel_core::Sight::WHOLE)?);
            }
            patched = patched.min(start.elapsed());
        }
        ensure!(patched > Duration::ZERO);
        report.figure(
            &format!("JSON Patch view: µs per update at {size} records"),
            micros(count, patched) - micros(count, applied),
            Goal::None,
        );
        let mut digested = Duration::MAX;
        for _ in 0..RUNS {
            let start = Instant::now();
            black_box(digest(&sequencer.plain()));
            digested = digested.min(start.elapsed());
        }
        report.figure(
            &format!(
                "digest: µs per update at {size} records, one every 1,000 updates, beside \
                the session's thread"
            ),
            micros(1_000, digested),
            Goal::None,
        );
        let mut cloned = Duration::MAX;
        for _ in 0..RUNS {
            let start = Instant::now();
            for _ in 0..1_000 {
                black_box(sequencer.state());
            }
            cloned = cloned.min(start.elapsed() / 1_000);
        }
        report.figure(
            &format!("digest: µs that the session itself spends on one at {size} records"),
            cloned.as_secs_f64() * 1e6,
            Goal::None,
        );
    }
    Ok(())
}
