//! What sessions do by themselves: ten thousand deadlines, and announcements beside proposals
//! without.

use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use anyhow::{Context as _, Result, ensure};
use futures_util::{StreamExt as _, TryStreamExt as _, stream};
use rendel_core::{Actor, Charter, Edit, Outcome, Proposal, Sequencer};
use serde_json::{Value, json};
use uuid::Uuid;

use crate::load::{self, Load, Shape};
use crate::report::{Goal, Report};
use crate::server::Rendel;

const SESSIONS: u64 = 10_000;
const TOGETHER: usize = 32;
/// Proposals in the core, and how often they are measured in turn.
const PROPOSALS: u32 = 200_000;
const TURNS: usize = 5;
/// Over how many milliseconds the deadlines are spread.
const SPREAD: u64 = 20_000;

const COUNTER: &str = "charter = \"deadlines\"\nversion = 1\n[state.heads]\nkind = \"counter\"\n";
const DEADLINE: &str =
    "[state.closing]\nkind = \"deadline\"\n[announcements]\nbuilt-in = [\"deadline.fired\"]\n";

pub(crate) async fn measure(report: &mut Report, time: Duration) -> Result<()> {
    eprintln!("deadlines …");
    proposals_beside_a_deadline(report)?;
    ten_thousand(report).await?;
    eprintln!("announcements …");
    announced(report, time).await
}

/// Proposals per second in the core.
fn per_second(source: &str, deadline: bool) -> Result<f64> {
    let charter = Charter::parse(source).map_err(|faults| anyhow::anyhow!("{faults:?}"))?;
    let mut sequencer = Sequencer::open(Arc::new(charter), None)?;
    let actor = Actor::new("oda", "participant", Uuid::from_u128(1));
    let mut settle = |edit: Edit, now: u64| {
        let outcome = sequencer.handle_proposal(&actor, &Proposal::new(0, None, vec![edit]), now);
        ensure!(matches!(outcome, Outcome::Settled(_)), "{outcome:?}");
        // As a session does with each.
        ensure!(sequencer.poll_timeout().is_none_or(|due| due > now), "it is due");
        Ok(())
    };
    if deadline {
        settle(Edit::new("/closing", "set").with("in", "1h"), 1)?;
    }
    let began = Instant::now();
    for now in 0..PROPOSALS {
        settle(Edit::new("/heads", "add").with("by", 1), u64::from(now) / 100)?;
    }
    Ok(f64::from(PROPOSALS) / began.elapsed().as_secs_f64())
}

fn proposals_beside_a_deadline(report: &mut Report) -> Result<()> {
    let register = "[state.closing]\nkind = \"register\"\n";
    let (mut with, mut other, mut without) = (0.0_f64, 0.0_f64, 0.0_f64);
    for _ in 0..TURNS {
        with = with.max(per_second(&format!("{COUNTER}{DEADLINE}"), true)?);
        other = other.max(per_second(&format!("{COUNTER}{register}"), false)?);
        without = without.max(per_second(COUNTER, false)?);
    }
    let what = "a session with a deadline that is set: proposals per second in the core";
    report.ratio(what, with, "with a register in its place", other, Goal::AtLeast(0.95));
    report.ratio(what, with, "without that field", without, Goal::None);
    Ok(())
}

fn now() -> Result<u64> {
    Ok(u64::try_from(SystemTime::now().duration_since(UNIX_EPOCH)?.as_millis())?)
}

/// Sets the deadline of each session.
async fn set_all(rendel: &Rendel, due: impl Fn(u64) -> u64) -> Result<()> {
    let set = |n: u64| {
        let edit = json!({ "at": "/closing", "op": "set", "due": due(n) });
        let session = format!("d{n}");
        async move { rendel.propose(&session, json!([edit])).await }
    };
    stream::iter(0..SESSIONS).map(set).buffer_unordered(TOGETHER).try_collect().await
}

/// How late each fired, in milliseconds, in order; waits until all have.
async fn lateness(rendel: &Rendel, after: i64) -> Result<(Vec<f64>, i64)> {
    let (mut late, mut next) = (Vec::new(), after);
    while (late.len() as u64) < SESSIONS {
        let path = format!("/announcements?after={next}&most=1000&wait_ms=5000");
        let list = rendel.get(&path).await?;
        next = list["next"].as_i64().context("a cursor")?;
        for one in list["announcements"].as_array().context("announcements")? {
            let values = &one["event"]["data"]["values"];
            let ms = |name: &str| values[name].as_f64().context("a time");
            late.push(ms("fired")? - ms("due")?);
        }
    }
    late.sort_by(f64::total_cmp);
    Ok((late, next))
}

async fn ten_thousand(report: &mut Report) -> Result<()> {
    let rendel = Rendel::start_with(&[("RENDEL_SESSIONS", "20000")]).await?;
    rendel.post("/charters", format!("{COUNTER}{DEADLINE}")).await?;
    let open = |n: u64| {
        let body = json!({ "id": format!("d{n}"), "charter": "deadlines" }).to_string();
        let rendel = &rendel;
        async move { rendel.post("/sessions", body).await }
    };
    let opened = stream::iter(0..SESSIONS).map(open).buffer_unordered(TOGETHER);
    let _: Vec<Value> = opened.try_collect().await?;
    let before = rendel.memory()?;
    // Far enough off that all are set before the first is due.
    let began = Instant::now();
    set_all(&rendel, |n| 1_000_000_000 + n + 1_900_000_000_000).await?;
    let took = u64::try_from(began.elapsed().as_millis())?;
    let each = (rendel.memory()? - before) as f64 / SESSIONS as f64;
    report.figure(
        "a session in memory with a deadline: KiB of the service's memory",
        each,
        Goal::None,
    );

    let first = now()? + 2 * took + 2_000;
    set_all(&rendel, |n| first + n * SPREAD / SESSIONS).await?;
    let (late, next) = lateness(&rendel, 0).await?;
    let at = |late: &[f64], percent: usize| late[(late.len() - 1) * percent / 100];
    report.figure(
        "10,000 deadlines spread over 20 s: lateness in ms, median",
        at(&late, 50),
        Goal::None,
    );
    report.figure(
        "10,000 deadlines spread over 20 s: lateness in ms, p99",
        at(&late, 99),
        Goal::AtMost(50.0),
    );
    report.figure(
        "10,000 deadlines spread over 20 s: lateness in ms, the latest",
        at(&late, 100),
        Goal::AtMost(50.0),
    );

    let moment = now()? + 2 * took + 2_000;
    set_all(&rendel, |_| moment).await?;
    let (late, _) = lateness(&rendel, next).await?;
    let known = now()? - moment;
    report.figure(
        "10,000 deadlines at one moment: until the last has fired, in ms",
        at(&late, 100),
        Goal::AtMost(1_000.0),
    );
    report.figure(
        "10,000 deadlines at one moment: until all are on disk, announced and read, in ms",
        known as f64,
        Goal::None,
    );
    rendel.stop().await;
    Ok(())
}

/// Proposals each of which a rule announces, beside those that set the same rule off and announce
/// nothing.
async fn announced(report: &mut Report, time: Duration) -> Result<()> {
    let shape = Shape { sessions: 64, participants: 1, writers: 1 };
    let full = Load::Window(16);
    let noted = "[state.noted]\nkind = \"register\"\n";
    let rule = "[[when]]\nchanges = \"/heads\"\ndo = [{ at = \"/noted\", op = \"set\", from = \"new\" }]\n";
    let announces = "announce = \"heads.counted\"\nvalues = { heads = \"new\" }\n";
    let (silent, loud) = (format!("{noted}{rule}"), format!("{noted}{rule}{announces}"));
    let (mut with, mut without, mut bare) = (0.0_f64, 0.0_f64, 0.0_f64);
    for _ in 0..2 {
        for (rules, best) in
            [(&loud, &mut with), (&silent, &mut without), (&noted.to_owned(), &mut bare)]
        {
            let rendel = Rendel::start().await?;
            let target = rendel.target_with(shape, rules).await?;
            let measured = load::run(&target, shape, full, time).await?;
            *best = best.max(measured.messages_per_second());
            rendel.stop().await;
        }
    }
    let what = "64 writers in 64 sessions, each proposal announced: per second";
    report.ratio(what, with, "the same rule without its announcement", without, Goal::AtLeast(0.6));
    report.ratio(what, with, "without a rule", bare, Goal::None);
    Ok(())
}
