//! A board of many records, with standing queries in the core.

use std::sync::Arc;

use anyhow::Result;
use rendel_core::{Actor, Asked, Charter, Queries, Rows, Sequencer, Ticket};
use serde_json::{Value, json};
use uuid::Uuid;

/// Records of each team.
pub(crate) const TEAM: usize = 10;
/// Who follow the rows of a team each.
pub(crate) const FOLLOWERS: usize = 10_000;
pub(crate) const RECORDS: usize = FOLLOWERS * TEAM;

pub(crate) const BOARD: &str = r#"
charter = "board"
version = 1
[session]
undo = 0
[limits]
state = "64MiB"
proposals-per-second = 100000
[roles.participant]
edit = ["/**"]
powers = ["ask"]
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
[queries.above]
from = "/pickers"
where = "record.crates > least"
with = { least = { type = "integer" } }
order = ["-crates"]
limit = 10
[queries.named]
from = "/pickers"
where = "record.name > least"
with = { least = { type = "string" } }
order = ["name"]
limit = 10
fields = ["name"]
[queries.leaders]
from = "/pickers"
where = "record.crates > 0"
order = ["-crates", "name"]
limit = 10
"#;

pub(crate) struct Board {
    pub(crate) charter: Arc<Charter>,
    pub(crate) sequencer: Sequencer,
    pub(crate) queries: Queries,
    pub(crate) actor: Actor,
}

pub(crate) fn opening(records: usize) -> Value {
    let record = |at: usize| {
        let team = format!("t{}", at / TEAM);
        (format!("p{at}"), json!({ "name": format!("n{at}"), "team": team, "crates": at % 97 + 1 }))
    };
    json!({ "pickers": (0..records).map(record).collect::<serde_json::Map<_, _>>() })
}

impl Board {
    pub(crate) fn open(records: usize) -> Result<Self> {
        let charter = Charter::parse(BOARD).map_err(|faults| anyhow::anyhow!("{faults:?}"))?;
        let charter = Arc::new(charter);
        let sequencer = Sequencer::open(charter.clone(), Some(&opening(records)))?;
        let actor = Actor::new("oda", "participant", Uuid::from_u128(1));
        Ok(Self { charter, sequencer, queries: Queries::default(), actor })
    }

    pub(crate) fn follow(&mut self, asked: Value) -> Result<(Ticket, Rows)> {
        let asked: Asked = serde_json::from_value(asked)?;
        let (state, seq) = (self.sequencer.state(), self.sequencer.seq());
        Ok(self.queries.follow(&self.charter, &state, seq, &self.actor, &asked)?)
    }

    pub(crate) fn follow_team(&mut self, team: usize) -> Result<()> {
        self.follow(json!({ "name": "team", "with": { "team": format!("t{team}") } })).map(drop)
    }
}
