//! What undo costs those who do not use it, what it costs those who do, and how soon it is known why
//! a value is what it is.

use std::sync::Arc;
use std::time::Instant;

use anyhow::{Result, ensure};
use rendel_core::{Actor, Charter, Edit, Outcome, Proposal, Sequencer, Settled};
use serde_json::{Value, json};
use uuid::Uuid;

use crate::report::{Goal, Report};
use crate::server::Rendel;

const RECORDS: usize = 10_000;
const GESTURE: usize = 200;
const PROPOSALS: usize = 100_000;
/// How often something is measured in turn.
const TURNS: usize = 5;
const UNDOS: usize = 50;
/// Updates in the journal that is asked why.
const JOURNAL: usize = 1_000_000;

const MARKERS: &str = "[limits]\nstate = \"8MiB\"\n[state.markers]\nkind = \"map\"\n\
    [state.markers.each.spot]\nkind = \"register\"\n";

struct Plan {
    sequencer: Sequencer,
    actor: Actor,
}

impl Plan {
    fn open(undo: usize) -> Result<Self> {
        let charter =
            format!("charter = \"plan\"\nversion = 1\n[session]\nundo = {undo}\n{MARKERS}");
        let charter = Charter::parse(&charter).map_err(|faults| anyhow::anyhow!("{faults:?}"))?;
        let record = |n: usize| (format!("m{n}"), json!({ "spot": { "x": 0, "y": 0 } }));
        let records: serde_json::Map<String, Value> = (0..RECORDS).map(record).collect();
        let opening = json!({ "markers": records });
        let sequencer = Sequencer::open(Arc::new(charter), Some(&opening))?;
        Ok(Self { sequencer, actor: Actor::new("oda", "participant", Uuid::from_u128(1)) })
    }

    fn settle(&mut self, edit: Edit, gesture: Option<&str>) -> Result<Settled> {
        let proposal = Proposal::new(0, None, vec![edit]);
        let proposal = Proposal { gesture: gesture.map(str::to_owned), ..proposal };
        match self.sequencer.handle_proposal(&self.actor, &proposal, 1) {
            Outcome::Settled(update) => Ok(update),
            other => anyhow::bail!("{other:?}"),
        }
    }

    fn shift(&mut self, record: usize, to: usize, gesture: Option<&str>) -> Result<Settled> {
        let at = format!("/markers/m{record}/spot");
        self.settle(Edit::new(at, "set").with("value", json!({ "x": to, "y": 1 })), gesture)
    }
}

/// Proposals per second in the core.
fn per_second(undo: usize) -> Result<f64> {
    let mut plan = Plan::open(undo)?;
    let began = Instant::now();
    for n in 0..PROPOSALS {
        plan.shift(n % RECORDS, n, None)?;
    }
    Ok(PROPOSALS as f64 / began.elapsed().as_secs_f64())
}

/// Milliseconds of an undo of a gesture, the median; `place` says which record each update of it
/// changes.
fn of_a_gesture(place: impl Fn(usize) -> usize) -> Result<f64> {
    let mut plan = Plan::open(100)?;
    let mut took = Vec::new();
    for round in 0..UNDOS {
        let gesture = format!("drag {round}");
        for n in 0..GESTURE {
            plan.shift(place(n), n + 1, Some(&gesture))?;
        }
        let began = Instant::now();
        let update = plan.settle(Edit::new("", "undo"), None)?;
        took.push(began.elapsed().as_secs_f64() * 1_000.0);
        ensure!(update.undoes.is_some_and(|undoes| undoes.updates.len() == GESTURE), "all of it");
    }
    took.sort_by(f64::total_cmp);
    Ok(took[UNDOS / 2])
}

pub(crate) async fn measure(report: &mut Report) -> Result<()> {
    eprintln!("undo …");
    let (mut with, mut without) = (0.0_f64, 0.0_f64);
    for _ in 0..TURNS {
        with = with.max(per_second(100)?);
        without = without.max(per_second(0)?);
    }
    let what = "proposals per second in the core, each of which can be undone";
    report.ratio(what, with, "with undo = 0", without, Goal::AtLeast(0.9));
    let what = "undo of a gesture of 200 updates on 10,000 records, ms";
    report.figure(&format!("{what}: one place"), of_a_gesture(|_| 7)?, Goal::AtMost(1.0));
    report.figure(&format!("{what}: 200 places"), of_a_gesture(|n| n)?, Goal::AtMost(1.0));
    let mut plan = Plan::open(100)?;
    let before = plan.sequencer.remembered();
    for n in 0..200 {
        plan.shift(n, n, None)?;
    }
    let bytes = (plan.sequencer.remembered() - before) as f64 / 1_024.0;
    report.figure("a participant's history of 100 moves, KiB", bytes, Goal::None);

    let rendel = Rendel::start().await?;
    rendel.with_journals(1, JOURNAL).await?;
    let why = async || rendel.get("/sessions/kept-0/why?path=/heads").await;
    let first = why().await?;
    ensure!(first["made"].as_array().is_some_and(|made| made.len() == 50), "{first}");
    let mut took = Vec::new();
    for _ in 0..UNDOS {
        let began = Instant::now();
        why().await?;
        took.push(began.elapsed().as_secs_f64() * 1_000.0);
    }
    took.sort_by(f64::total_cmp);
    let what = "why, of a journal of 1,000,000 updates, 50 of which made the value: median, ms";
    report.figure(what, took[UNDOS / 2], Goal::AtMost(50.0));
    rendel.stop().await;
    Ok(())
}
