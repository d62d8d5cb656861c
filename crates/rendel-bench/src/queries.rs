//! What standing queries cost: a change beside ever more of them, beside asking anew, and with many
//! who each follow a few rows of many.

use std::sync::Arc;
use std::time::Instant;

use anyhow::{Result, ensure};
use rendel_core::{Actor, Asked, Charter, Edit, Outcome, Proposal, Queries, Sequencer};
use serde_json::{Value, json};
use uuid::Uuid;

use crate::report::{Goal, Report};

const CHANGES: usize = 2_000;
/// Records of each team.
const TEAM: usize = 10;

const BOARD: &str = r#"
charter = "board"
version = 1
[session]
undo = 0
[limits]
state = "64MiB"
[state.pickers]
kind = "map"
[state.pickers.each.name]
kind = "register"
[state.pickers.each.team]
kind = "register"
[state.pickers.each.crates]
kind = "counter"
[queries.team]
from = "/pickers"
where = "record.team == team"
with = { team = { type = "string" } }
order = ["-crates"]
limit = 10
[queries.leaders]
from = "/pickers"
where = "record.crates > 0"
order = ["-crates", "name"]
limit = 10
"#;

struct Board {
    charter: Arc<Charter>,
    sequencer: Sequencer,
    queries: Queries,
    actor: Actor,
}

impl Board {
    fn open(records: usize) -> Result<Self> {
        let charter = Charter::parse(BOARD).map_err(|faults| anyhow::anyhow!("{faults:?}"))?;
        let charter = Arc::new(charter);
        let record = |at: usize| {
            let team = format!("t{}", at / TEAM);
            (
                format!("p{at}"),
                json!({ "name": format!("n{at}"), "team": team, "crates": at % 97 + 1 }),
            )
        };
        let pickers: serde_json::Map<String, Value> = (0..records).map(record).collect();
        let sequencer = Sequencer::open(charter.clone(), Some(&json!({ "pickers": pickers })))?;
        let actor = Actor::new("oda", "participant", Uuid::from_u128(1));
        Ok(Self { charter, sequencer, queries: Queries::default(), actor })
    }

    fn follow(&mut self, asked: Value) -> Result<()> {
        let asked: Asked = serde_json::from_value(asked)?;
        let (state, seq) = (self.sequencer.state(), self.sequencer.seq());
        self.queries.follow(&self.charter, &state, seq, &self.actor, &asked)?;
        Ok(())
    }

    fn follow_team(&mut self, team: usize) -> Result<()> {
        self.follow(json!({ "name": "team", "with": { "team": format!("t{team}") } }))
    }

    /// Microseconds that one change of a record takes the queries, and how many results turned.
    fn change(&mut self, record: usize, by: i64) -> Result<(f64, usize)> {
        let before = self.sequencer.state();
        let edit = Edit::new(format!("/pickers/p{record}/crates"), "add").with("by", by);
        let proposal = Proposal::new(0, None, vec![edit]);
        let Outcome::Settled(update) = self.sequencer.handle_proposal(&self.actor, &proposal, 1)
        else {
            anyhow::bail!("refused");
        };
        let after = self.sequencer.state();
        let began = Instant::now();
        let turned = self.queries.handle_settled(&self.charter, &before, &after, &update);
        Ok((began.elapsed().as_secs_f64() * 1e6, turned.len()))
    }

    /// The median of many changes of the first so many records.
    fn median(&mut self, records: usize) -> Result<f64> {
        let mut took = Vec::new();
        for at in 0..CHANGES {
            let by = if (at / records).is_multiple_of(2) { 1 } else { -1 };
            took.push(self.change(at * 7 % records, by)?.0);
        }
        took.sort_by(f64::total_cmp);
        Ok(took[CHANGES / 2])
    }
}

pub(crate) fn measure(report: &mut Report) -> Result<()> {
    eprintln!("queries …");
    // Each picker is in one team: a change matters to one query or to none, however many there are.
    let mut alone = f64::NAN;
    for count in [1, 100, 10_000] {
        let mut board = Board::open(10_000)?;
        for query in 0..count {
            board.follow_team(query)?;
        }
        let took = board.median(TEAM)?;
        let what = format!("one change, of which one of {count} queries tells: median, µs");
        match count {
            1 => {
                alone = took;
                report.figure(&what, took, Goal::None);
            }
            _ => report.ratio(&what, took, "one query", alone, Goal::AtMost(2.0)),
        }
    }
    let mut board = Board::open(10_000)?;
    board.follow(json!({ "name": "leaders" }))?;
    let took = board.median(10_000)?;
    let state = board.sequencer.state();
    let asked: Asked = serde_json::from_value(json!({ "name": "leaders" }))?;
    let began = Instant::now();
    for _ in 0..5 {
        Queries::once(&board.charter, &state, 1, &board.actor, &asked)?;
    }
    let anew = began.elapsed().as_secs_f64() * 1e6 / 5.0;
    let what = "the ten best of 10,000 evaluated anew, µs";
    report.ratio(what, anew, "kept up to date by one change", took, Goal::AtLeast(100.0));

    let mut board = Board::open(100_000)?;
    for query in 0..10_000 {
        board.follow_team(query)?;
    }
    let (began, mut told) = (Instant::now(), 0);
    for at in 0..CHANGES {
        told += board.change(at * 7_919 % 100_000, 1)?.1;
    }
    let per_second = CHANGES as f64 / began.elapsed().as_secs_f64();
    ensure!(told == CHANGES, "each change turns one result");
    let what = "changes per second in the core, 10,000 follow ten rows each of 100,000";
    report.figure(what, per_second, Goal::None);
    Ok(())
}
