//! Measures the service beside honest baselines, as ratios in one run on one machine.
//! `scripts/bench` calls it.
//!
//! The server under load and the load itself are different processes on the same machine.
//! Baselines: a bare relay in the same web framework (`relay.rs`), the hand-written way with a row
//! lock per edit (`database.rs`), and the fastest multi-row way into PostgreSQL (`database.rs`).

mod against;
mod board;
mod core;
mod database;
mod delivery;
mod hostile;
mod load;
mod people;
mod play;
mod plot;
mod queries;
mod relay;
mod report;
mod secrets;
mod server;
mod timing;
mod undo;
mod writing;

use std::time::Duration;

use anyhow::Result;
use clap::{Parser, Subcommand};

use crate::load::{Load, Shape};
use crate::plot::{Line, plot};
use crate::report::{Goal, Report};
use crate::server::{Relay, Rendel};

#[derive(Debug, Parser)]
struct Cli {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Run every measurement and print the page of figures.
    All {
        /// Seconds of each measurement.
        #[arg(long, default_value_t = 5)]
        seconds: u64,
        /// Only the measurements whose name begins like this: core, fan-out, confirmed, journal,
        /// late, slow, recovery, idle, beat, presence, guards, lookers, secrets, play, timing, undo, queries, hostile.
        #[arg(long, default_value = "")]
        only: String,
    },
    /// Compare two builds by turns; `scripts/bench --against COMMIT` makes them.
    Against(against::Against),
    /// The bare relay, run by the measurements as a process of its own.
    Relay {
        /// Where to listen.
        #[arg(long)]
        port: u16,
    },
}

/// Updates are made on one thread and freed on another, many thousands a second.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> Result<()> {
    rendel_service::raise_descriptor_limit()?;
    match Cli::parse().command {
        Command::Relay { port } => relay::run(port),
        Command::Against(against) => against::run(&against),
        Command::All { seconds, only } => tokio::runtime::Builder::new_multi_thread()
            .worker_threads(2)
            .enable_all()
            .build()?
            .block_on(all(Duration::from_secs(seconds), &only)),
    }
}

async fn all(time: Duration, only: &str) -> Result<()> {
    let mut report = Report::new();
    let is_wanted = |name: &str| name.starts_with(only);
    if is_wanted("fan-out") {
        let (mut ours, mut relay) = (Line::new("Rendel"), Line::new("bare relay"));
        for participants in [50, 500, 2_000] {
            let (mine, theirs) = fan_out(&mut report, participants, time).await?;
            ours.points.push((participants as f64, mine / 1e6));
            relay.points.push((participants as f64, theirs / 1e6));
        }
        let title = "Deliveries at saturation";
        plot(
            "docs/figures/fan-out.png",
            title,
            "participants of one session",
            "million a second",
            &[ours, relay],
        )?;
    }
    if is_wanted("confirmed") {
        confirmed(&mut report, time).await?;
    }
    if is_wanted("journal") {
        journal(&mut report, time).await?;
    }
    if is_wanted("late") {
        delivery::late(&mut report).await?;
    }
    if is_wanted("slow") {
        delivery::slow(&mut report, time).await?;
    }
    if is_wanted("recovery") {
        delivery::recovery(&mut report).await?;
    }
    if is_wanted("idle") {
        delivery::idle(&mut report).await?;
    }
    if is_wanted("beat") {
        delivery::beat(&mut report, time).await?;
    }
    if is_wanted("presence") {
        people::presence(&mut report, time).await?;
    }
    if is_wanted("lookers") {
        people::lookers(&mut report, time).await?;
    }
    if is_wanted("secrets") {
        secrets::measure(&mut report, time).await?;
    }
    if is_wanted("hostile") {
        hostile::measure(&mut report, time).await?;
    }
    if is_wanted("guards") {
        people::guards(&mut report, time).await?;
    }
    if is_wanted("play") {
        play::measure(&mut report, time).await?;
    }
    if is_wanted("timing") {
        timing::measure(&mut report, time).await?;
    }
    if is_wanted("undo") {
        undo::measure(&mut report).await?;
    }
    if is_wanted("queries") {
        queries::measure(&mut report)?;
    }
    if is_wanted("queries-connected") {
        queries::connected(&mut report, time).await?;
    }
    if is_wanted("core") {
        core::measure(&mut report)?;
    }
    report.print();
    Ok(())
}

/// One session, four writers, everyone listens.
async fn fan_out(report: &mut Report, participants: usize, time: Duration) -> Result<(f64, f64)> {
    eprintln!("fan-out to {participants} …");
    let shape = Shape { sessions: 1, participants, writers: 4 };
    let full = Load::Window(if participants > 100 { 32 } else { 128 });
    let relay = Relay::start().await?;
    let baseline = load::run(&relay.target(), shape, full, time).await?;
    // Half of what the relay can carry, spread evenly.
    let half = Load::Rate(baseline.messages_per_second() / 2.0);
    let baseline_half = load::run(&relay.target(), shape, half, time).await?;
    relay.stop().await;

    let rendel = Rendel::start().await?;
    let target = rendel.target(shape).await?;
    let ours = load::run(&target, shape, full, time).await?;
    let target = rendel.target(shape).await?;
    let ours_half = load::run(&target, shape, half, time).await?;
    rendel.stop().await;

    report.ratio(
        &format!("fan-out, {participants} participants: deliveries per second at saturation"),
        ours.deliveries_per_second(),
        "bare relay",
        baseline.deliveries_per_second(),
        Goal::AtLeast(2.0),
    );
    report.ratio(
        &format!(
            "fan-out, {participants} participants: p99 latency in ms at half of the relay's \
            saturated load"
        ),
        ours_half.latency_ms(0.99),
        "bare relay",
        baseline_half.latency_ms(0.99),
        Goal::AtMost(1.0),
    );
    Ok((ours.deliveries_per_second(), baseline.deliveries_per_second()))
}

/// Sixty-four sessions with a writer each; every proposal is on disk before it is shown.
async fn confirmed(report: &mut Report, time: Duration) -> Result<()> {
    eprintln!("confirmed proposals …");
    let shape = Shape { sessions: 64, participants: 1, writers: 1 };
    let full = Load::Window(16);
    let relay = Relay::start().await?;
    let echoes = load::run(&relay.target(), shape, full, time).await?;
    relay.stop().await;
    let rendel = Rendel::start().await?;
    let target = rendel.target(shape).await?;
    let ours = load::run(&target, shape, full, time).await?;
    rendel.stop().await;
    let by_hand = database::by_hand(time)?;
    let what = "confirmed proposals per second, 64 writers in 64 sessions";
    report.ratio(
        what,
        ours.messages_per_second(),
        "bare relay, no disk",
        echoes.messages_per_second(),
        Goal::AtLeast(0.6),
    );
    report.ratio(
        what,
        ours.messages_per_second(),
        "row lock, update and notification per edit",
        by_hand,
        Goal::AtLeast(10.0),
    );
    Ok(())
}

async fn journal(report: &mut Report, time: Duration) -> Result<()> {
    eprintln!("the journal's writer …");
    let (ours, copy) = database::journal(time).await?;
    report.ratio(
        "journal's writer alone: rows per second",
        ours,
        "COPY of the same rows by 4,096",
        copy,
        Goal::AtLeast(0.8),
    );
    Ok(())
}
