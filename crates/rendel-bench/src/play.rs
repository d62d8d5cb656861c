//! Rules of play beside what they are made of: a ballot beside a counter, a total over few records
//! and over many, and seats that a thousand look for.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result, ensure};
use rendel_core::{Actor, Charter, Edit, Outcome, Proposal, Sequencer};
use serde_json::{Value, json};
use uuid::Uuid;

use crate::report::{Goal, Report};
use crate::server::Rendel;
use crate::writing;

const VOTERS: usize = 10_000;
/// How often each is measured, in turn.
const TURNS: usize = 5;
/// Who are connected at once.
const TOGETHER: usize = 500;
const LOOKS: usize = 1_000;
const CHANGES: u32 = 2_000;

const CHARTER: &str = r#"
charter = "bench"
version = 1
[limits]
state = "256MiB"
[state.heads]
kind = "counter"
[state.blend]
kind = "ballot"
choices = ["dry", "mellow", "sweet"]
sealed = true
voters = "count"
[roles.participant]
edit = ["/**"]
see = ["/**", { but = "/own/*", unless = "id == who.id" }]
[state.own]
kind = "map"
[state.own.each.weight]
kind = "register"
[state.crates]
kind = "map"
[state.crates.each.weight]
kind = "register"
[state.crates.each.sort]
kind = "register"
"#;

const TOTALS: &str = r#"
[state.sum]
kind = "total"
from = "/crates"
sum = "weight"
[state.most]
kind = "total"
from = "/crates"
max = "weight"
by = "sort"
"#;

pub(crate) async fn measure(report: &mut Report, time: Duration) -> Result<()> {
    eprintln!("rules of play …");
    casts(report)?;
    casts_together(report, time).await?;
    totals(report)?;
    seats(report).await
}

fn open(source: &str, opening: Option<&Value>) -> Result<Sequencer> {
    let charter = Charter::parse(source).map_err(|faults| anyhow::anyhow!("{faults:?}"))?;
    Ok(Sequencer::open(Arc::new(charter), opening)?)
}

fn settle(sequencer: &mut Sequencer, who: usize, edit: Edit, now: u64) -> Result<()> {
    let actor = Actor::new(format!("p{who}"), "participant", Uuid::from_u128(who as u128));
    let proposal = Proposal::new(0, None, vec![edit]);
    let outcome = sequencer.handle_proposal(&actor, &proposal, now);
    ensure!(matches!(outcome, Outcome::Settled(_)), "{outcome:?}");
    Ok(())
}

/// So many people, each once, at 10,000 a second; what is counted on the beat counts.
fn each_once(source: &str, edit: impl Fn(usize) -> Edit) -> Result<f64> {
    let mut sequencer = open(source, None)?;
    let began = Instant::now();
    for who in 0..VOTERS {
        let now = who as u64 / 10;
        while sequencer.poll_timeout().is_some_and(|due| due <= now) {
            sequencer.handle_timeout(now);
        }
        settle(&mut sequencer, who, edit(who), now)?;
    }
    Ok(VOTERS as f64 / began.elapsed().as_secs_f64())
}

fn casts(report: &mut Report) -> Result<()> {
    let choice = |who: usize| ["dry", "mellow", "sweet"][who % 3];
    let cast = |who| Edit::new("/blend", "cast").with("choices", json!([choice(who)]));
    let add = |_| Edit::new("/heads", "add").with("by", 1);
    let put = |at: &'static str| {
        move |who: usize| {
            let value = json!({ "weight": choice(who) });
            Edit::new(at, "put").with("id", format!("p{who}")).with("value", value)
        }
    };
    let mut best = [0.0_f64; 4];
    for _ in 0..TURNS {
        let turn = [
            each_once(CHARTER, cast)?,
            each_once(CHARTER, add)?,
            each_once(CHARTER, put("/crates"))?,
            each_once(CHARTER, put("/own"))?,
        ];
        best = std::array::from_fn(|at| best[at].max(turn[at]));
    }
    let [ours, counter, record, own] = best;
    let what = "10,000 voters on one ballot: casts per second in the core, counts included";
    report.ratio(what, ours, "the same people on a counter", counter, Goal::AtLeast(0.8));
    report.ratio(what, ours, "who put a record each", record, Goal::None);
    report.ratio(what, ours, "who put a record each that they alone see", own, Goal::None);
    Ok(())
}

/// So many are here and see what comes; all of them vote, and change their vote.
async fn casts_together(report: &mut Report, time: Duration) -> Result<()> {
    let rendel = Rendel::start().await?;
    let rules = "[session]\nparticipants = 5000\n[roles.participant]\nedit = [\"/**\"]\nroster = \"count\"\n\
         [state.blend]\nkind = \"ballot\"\nchoices = [\"dry\", \"mellow\", \"sweet\"]\nsealed = true\nvoters = \"count\"\n";
    let (session, tokens) = rendel.people(TOGETHER, rules).await?;
    let cast = move |who: usize, n: u64| {
        let choice = match (who as u64 + n) % 3 {
            0 => "dry",
            1 => "mellow",
            _ => "sweet",
        };
        json!({ "at": "/blend", "op": "cast", "choices": [choice] })
    };
    let add = |_: usize, _: u64| json!({ "at": "/heads", "op": "add", "by": 1 });
    let (mut ours, mut theirs) = (0.0_f64, 0.0_f64);
    for _ in 0..3 {
        ours = ours.max(writing::measure(&rendel, &session, &tokens, TOGETHER, cast, time).await?);
        theirs =
            theirs.max(writing::measure(&rendel, &session, &tokens, TOGETHER, add, time).await?);
    }
    rendel.stop().await;
    report.ratio(
        "500 voters on one ballot, all of them here: casts per second over sockets",
        ours,
        "the same people on a counter",
        theirs,
        Goal::AtLeast(0.8),
    );
    Ok(())
}

/// The time of one change of a record, in µs, in a session with so many.
fn change(source: &str, records: usize) -> Result<f64> {
    let record = |at: usize| {
        let sort = if at.is_multiple_of(2) { "dry" } else { "sweet" };
        let value = json!({ "weight": at as f64 / 8.0, "sort": sort });
        (format!("c{at:06}"), value)
    };
    let crates: serde_json::Map<_, _> = (0..records).map(record).collect();
    let opened = open(source, Some(&json!({ "crates": crates })))?;
    let mut best = Duration::MAX;
    for _ in 0..TURNS {
        let mut sequencer = opened.clone();
        let began = Instant::now();
        for at in 0..CHANGES {
            let path = format!("/crates/c{:06}/weight", at as usize * 7919 % records);
            settle(&mut sequencer, 1, Edit::new(path, "set").with("value", at), 0)?;
        }
        best = best.min(began.elapsed());
    }
    Ok(best.as_secs_f64() * 1e6 / f64::from(CHANGES))
}

fn totals(report: &mut Report) -> Result<()> {
    let source = format!("{CHARTER}{TOTALS}");
    let (few, many) = (change(&source, 100)?, change(&source, 100_000)?);
    report.ratio(
        "a change of a record under two totals, in µs, over 100,000 records",
        many,
        "over 100 records",
        few,
        Goal::AtMost(3.0),
    );
    report.figure(
        "the same without totals, over 100,000 records, in µs",
        change(CHARTER, 100_000)?,
        Goal::None,
    );
    Ok(())
}

async fn seats(report: &mut Report) -> Result<()> {
    let rendel = Rendel::start().await?;
    rendel
        .post(
            "/charters",
            "charter = \"seats\"\nversion = 1\n[roles.player]\nedit = [\"/**\"]\n[state.seats]\nkind = \
             \"seats\"\nnames = [\"east\", \"west\"]\nneeded = 2\nreserve = \"1h\"\n"
                .to_owned(),
        )
        .await?;
    let (mut times, mut seats) = (Vec::new(), BTreeSet::new());
    for who in 0..LOOKS {
        let began = Instant::now();
        let asked = json!({ "charter": "seats", "sub": format!("p{who}"), "role": "player" });
        let found = rendel.post("/seats", asked.to_string()).await?;
        times.push(began.elapsed().as_secs_f64() * 1e3);
        let seat = |name: &str| found[name].as_str().map(str::to_owned).context("a seat");
        ensure!(seats.insert((seat("session")?, seat("seat")?)), "a seat was given twice");
    }
    rendel.stop().await;
    let sessions: BTreeSet<&String> = seats.iter().map(|(session, _)| session).collect();
    ensure!(sessions.len() == LOOKS / 2, "{} sessions for {LOOKS}", sessions.len());
    times.sort_by(f64::total_cmp);
    let at = |percent: usize| times[(times.len() - 1) * percent / 100];
    report.figure("1,000 who look for a seat in a row: median in ms", at(50), Goal::None);
    report.figure("1,000 who look for a seat in a row: p99 in ms", at(99), Goal::None);
    Ok(())
}
