//! What standing queries hold, counted by an allocator: the bytes of one query, and of a record in an
//! index, as JSON.

#![allow(clippy::print_stdout, reason = "that is what it is for")]

#[path = "../board.rs"]
mod board;

use anyhow::{Context as _, Result};
use serde_json::json;
use stats_alloc::{INSTRUMENTED_SYSTEM, StatsAlloc};

use board::{Board, FOLLOWERS, RECORDS};

#[global_allocator]
static ALLOCATOR: &StatsAlloc<std::alloc::System> = &INSTRUMENTED_SYSTEM;

fn main() -> Result<()> {
    let held = || {
        let counted = ALLOCATOR.stats();
        counted.bytes_allocated as f64 - counted.bytes_deallocated as f64
    };
    let mut board = Board::open(RECORDS)?;
    let empty = held();
    board.follow(json!({ "name": "leaders" }))?;
    let first = held();
    board.follow_team(0)?;
    let second = held();
    for team in 1..FOLLOWERS {
        board.follow_team(team)?;
    }
    let all = held();
    let estimated = board.queries.bytes() as f64;
    let records = RECORDS as f64;
    let figures = json!({
        "query": (all - second) / (FOLLOWERS - 1) as f64,
        "row": (first - empty) / records,
        "second": (second - first) / records,
        "estimated": estimated / records / 2.0,
    });
    println!("{}", serde_json::to_string(&figures).context("figures")?);
    Ok(())
}
