//! Standing queries: after each update each result is what a fresh evaluation of what its asker sees
//! gives.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod shapes;

use std::cmp::Ordering;
use std::collections::BTreeMap;
use std::sync::Arc;

use proptest::prelude::*;
use rendel_core::{
    Actor, Asked, Charter, Edit, Lens, Outcome, ProblemKind, Proposal, Queries, RowPlace, Rows,
    Sequencer, Settled, State, Ticket, Viewer,
};
use serde_json::{Value, json};
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "picking-board"
version = 1
[session]
undo = 50
[roles.steward]
edit = ["/**"]
powers = ["ask"]
[roles.picker]
edit = ["/**"]
powers = ["ask"]
see = [
  "/**",
  { but = "/pickers/*/wage" },
  { but = "/pickers/*/mood", unless = "state.open || record.id == who.id" },
  { but = "/drafts/*", unless = "record.by == who.id || who.id in record.with" },
]
[roles.visitor]
edit = []
see = ["/crews"]
[state.open]
kind = "register"
initial = false
[state.crews]
kind = "map"
[state.crews.each.name]
kind = "register"
[state.pickers]
kind = "map"
[state.pickers.each.name]
kind = "register"
[state.pickers.each.row]
kind = "register"
[state.pickers.each.crates]
kind = "counter"
[state.pickers.each.wage]
kind = "register"
[state.pickers.each.mood]
kind = "register"
[state.pickers.each.crew]
kind = "register"
refers = { to = "/crews", on-drop = "cascade" }
[state.drafts]
kind = "map"
[state.drafts.each.by]
kind = "register"
[state.drafts.each.with]
kind = "set"
[state.drafts.each.text]
kind = "register"
[state.orders]
kind = "map"
[state.orders.each.title]
kind = "register"
[state.orders.each.lines]
kind = "map"
[state.orders.each.lines.each.weight]
kind = "counter"
[state.remarks]
kind = "list"
[state.remarks.each.to]
kind = "register"
[state.remarks.each.text]
kind = "register"
[queries.leaders]
from = "/pickers"
where = "record.crates > 0 && (row == null || record.row == row)"
with = { row = { type = ["string", "null"] } }
order = ["-crates", "name"]
limit = 3
[queries.addressed]
from = "/drafts"
where = "who.id in record.with"
order = ["text"]
limit = 2
fields = ["by"]
[queries.drafts]
from = "/drafts"
order = ["-text"]
[queries.moods]
from = "/pickers"
where = "record.mood != null"
order = ["mood"]
limit = 3
fields = ["mood", "name"]
[queries.wages]
from = "/pickers"
order = ["-wage"]
limit = 2
[queries.lines]
from = "/orders/*/lines"
where = "record.weight > least"
with = { least = { type = "number" } }
order = ["-weight"]
limit = 4
[queries.myself]
from = "/pickers"
where = "record.id == who.id"
[queries.remarks]
from = "/remarks"
where = "record.to == who.id"
limit = 3
"#;

const PEOPLE: [(&str, &str); 4] =
    [("oda", "picker"), ("tobin", "picker"), ("wren", "steward"), ("bram", "picker")];
const ROWS: [&str; 3] = ["east", "west", "north"];

fn actor(at: usize) -> Actor {
    let (id, role) = PEOPLE[at % PEOPLE.len()];
    Actor::new(id, role, Uuid::from_u128(at as u128 % 4 + 1))
}

/// What holds of a record with an id.
type Holds = Box<dyn Fn(&str, &Value) -> bool>;

/// How a query reads, said once more without any of its code.
struct Model {
    records: fn(&Value) -> Vec<(String, Value)>,
    holds: Holds,
    order: Vec<(&'static str, bool)>,
    limit: usize,
    fields: Option<Vec<&'static str>>,
}

fn of_map(name: &'static str, plain: &Value) -> Vec<(String, Value)> {
    let records = plain[name].as_object().into_iter().flatten();
    records.map(|(id, record)| (format!("/{name}/{id}"), record.clone())).collect()
}

fn lines(plain: &Value) -> Vec<(String, Value)> {
    let of_order = |(order, record): (&String, &Value)| {
        let lines = record["lines"].as_object().cloned().unwrap_or_default().into_iter();
        let order = order.clone();
        lines
            .map(move |(id, line)| (format!("/orders/{order}/lines/{id}"), line))
            .collect::<Vec<_>>()
    };
    plain["orders"].as_object().into_iter().flatten().flat_map(of_order).collect()
}

fn remarks(plain: &Value) -> Vec<(String, Value)> {
    let element = |element: &Value| {
        (format!("/remarks/{}", element["id"].as_str().unwrap()), element["value"].clone())
    };
    plain["remarks"].as_array().into_iter().flatten().map(element).collect()
}

/// Values as the protocol orders them, of the types that occur here.
fn compare(one: &Value, other: &Value) -> Ordering {
    let rank = |value: &Value| match value {
        Value::Null => 0,
        Value::Bool(_) => 1,
        Value::Number(_) => 2,
        _ => 3,
    };
    rank(one).cmp(&rank(other)).then_with(|| match (one, other) {
        (Value::Number(one), Value::Number(other)) => {
            one.as_f64().unwrap().total_cmp(&other.as_f64().unwrap())
        }
        (Value::String(one), Value::String(other)) => one.cmp(other),
        _ => Ordering::Equal,
    })
}

impl Model {
    fn of(asked: &Asked, who: &Actor) -> Self {
        let id = who.id.clone();
        let with = asked.with.clone();
        let name = asked.name.clone().unwrap();
        let pickers: fn(&Value) -> Vec<_> = |plain| of_map("pickers", plain);
        let drafts: fn(&Value) -> Vec<_> = |plain| of_map("drafts", plain);
        let of = |records, holds, order: &[(&'static str, bool)], limit| Self {
            records,
            holds,
            order: order.to_vec(),
            limit,
            fields: None,
        };
        let mut model = match name.as_str() {
            "leaders" => {
                let row = with.get("row").cloned().unwrap_or_default();
                let holds = move |_: &str, record: &Value| {
                    record["crates"].as_i64() > Some(0) && (row.is_null() || record["row"] == row)
                };
                of(pickers, Box::new(holds), &[("crates", true), ("name", false)], 3)
            }
            "addressed" => {
                let holds = move |_: &str, record: &Value| {
                    record["with"].as_array().is_some_and(|with| with.contains(&json!(id)))
                };
                let of = of(drafts, Box::new(holds), &[("text", false)], 2);
                Self { fields: Some(vec!["by"]), ..of }
            }
            "drafts" => of(drafts, Box::new(|_, _| true), &[("text", true)], 100),
            "moods" => {
                let holds = |_: &str, record: &Value| !record["mood"].is_null();
                let of = of(pickers, Box::new(holds), &[("mood", false)], 3);
                Self { fields: Some(vec!["mood", "name"]), ..of }
            }
            "wages" => of(pickers, Box::new(|_, _| true), &[("wage", true)], 2),
            "lines" => {
                let least = with["least"].as_f64().unwrap();
                let holds =
                    move |_: &str, record: &Value| record["weight"].as_f64().unwrap() > least;
                of(lines, Box::new(holds), &[("weight", true)], 4)
            }
            "remarks" => of(remarks, Box::new(move |_, record| record["to"] == json!(id)), &[], 3),
            other => panic!("{other}"),
        };
        model.limit = asked.limit.map_or(model.limit, |limit| limit.min(model.limit));
        model
    }

    fn compare(&self, one: &(String, Value), other: &(String, Value)) -> Ordering {
        let keys = self.order.iter().map(|(name, is_down)| {
            let ordering = compare(&one.1[*name], &other.1[*name]);
            if *is_down { ordering.reverse() } else { ordering }
        });
        let tokens = |path: &str| path.split('/').map(str::to_owned).collect::<Vec<_>>();
        keys.fold(Ordering::Equal, Ordering::then)
            .then_with(|| tokens(&one.0).cmp(&tokens(&other.0)))
    }

    /// The rows, of a plain state as their asker sees it.
    fn rows(&self, plain: &Value, after: Option<&RowPlace>) -> Vec<(String, Value)> {
        let mut rows = (self.records)(plain);
        rows.retain(|(path, record)| (self.holds)(path, record));
        rows.sort_by(|one, other| self.compare(one, other));
        if let Some(RowPlace(after)) = after {
            let (path, values) = after.split_last().unwrap();
            let names = self.order.iter().map(|(name, _)| (*name).to_owned());
            let record: Value =
                names.zip(values.iter().cloned()).collect::<serde_json::Map<_, _>>().into();
            let place = (path.as_str().unwrap().to_owned(), record);
            rows.retain(|row| self.compare(row, &place) == Ordering::Greater);
        }
        rows.truncate(self.limit);
        let picked = |(path, record): (String, Value)| match (&self.fields, record) {
            (Some(fields), Value::Object(mut members)) => {
                members.retain(|name, _| fields.contains(&name.as_str()));
                (path, Value::Object(members))
            }
            (_, record) => (path, record),
        };
        rows.into_iter().map(picked).collect()
    }
}

struct Follower {
    who: Actor,
    asked: Asked,
    model: Model,
    rows: Rows,
    /// What it had before: it may come back with each of them.
    earlier: Vec<Rows>,
}

struct Board {
    charter: Arc<Charter>,
    sequencer: Sequencer,
    queries: Queries,
    followers: BTreeMap<Ticket, Follower>,
    /// Those whose result is still being made.
    begun: BTreeMap<Ticket, (Actor, Asked, Model)>,
    n: u64,
}

impl Board {
    fn open() -> Self {
        let charter = Arc::new(Charter::parse(CHARTER).unwrap());
        let sequencer = Sequencer::open(charter.clone(), None).unwrap();
        let (queries, followers, begun) = (Queries::default(), BTreeMap::new(), BTreeMap::new());
        Self { charter, sequencer, queries, followers, begun, n: 0 }
    }

    fn propose(&mut self, who: &Actor, edits: Vec<Edit>) -> Outcome {
        self.n += 1;
        let before = self.sequencer.state();
        let outcome = self.sequencer.handle_proposal(who, &Proposal::new(self.n, None, edits), 1);
        if let Outcome::Settled(update) = &outcome {
            self.turn(&before, update);
        }
        outcome
    }

    fn turn(&mut self, before: &State, update: &Settled) {
        let after = self.sequencer.state();
        for turned in self.queries.handle_settled(&self.charter, before, &after, update) {
            assert!(!turned.steps.steps.is_empty(), "nobody is told of nothing");
            for ticket in turned.tickets {
                let follower = self.followers.get_mut(&ticket).unwrap();
                let was = follower.rows.clone();
                follower.rows.apply(&turned.steps).unwrap();
                follower.earlier.push(was.clone());
                assert_ne!(
                    (was.rows, was.end),
                    (follower.rows.rows.clone(), follower.rows.end.clone()),
                    "{:?}",
                    turned.steps
                );
            }
        }
    }

    fn reset(&mut self, opening: Option<&Value>) {
        self.n += 1;
        let before = self.sequencer.state();
        if let Outcome::Settled(update) = self.sequencer.handle_reset(&actor(2), self.n, opening, 1)
        {
            self.turn(&before, &update);
        }
    }

    fn follow(&mut self, who: Actor, asked: Asked) -> Option<Ticket> {
        let model = Model::of(&asked, &who);
        self.follow_as(who, asked, model)
    }

    fn follow_as(&mut self, who: Actor, asked: Asked, model: Model) -> Option<Ticket> {
        let ticket = self.begin_as(who, asked, model);
        self.go_on(usize::MAX);
        ticket
    }

    fn begin_as(&mut self, who: Actor, asked: Asked, model: Model) -> Option<Ticket> {
        match self.queries.begin(&self.charter, &self.sequencer.state(), &who, &asked) {
            Ok(ticket) => {
                self.begun.insert(ticket, (who, asked, model));
                Some(ticket)
            }
            Err(problem) => {
                assert_eq!(
                    (problem.kind(), who.role.as_str()),
                    (ProblemKind::NotAllowed, "picker")
                );
                assert_eq!(asked.name.as_deref(), Some("wages"));
                None
            }
        }
    }

    /// Looks at so many records for each of those whose result is still being made.
    fn go_on(&mut self, most: usize) {
        let (state, seq) = (self.sequencer.state(), self.sequencer.seq());
        for (ticket, (who, asked, model)) in std::mem::take(&mut self.begun) {
            match self.queries.go_on(&self.charter, &state, seq, ticket, most).unwrap() {
                None => drop(self.begun.insert(ticket, (who, asked, model))),
                Some(rows) => {
                    let follower = Follower { who, asked, model, rows, earlier: vec![] };
                    self.followers.insert(ticket, follower);
                }
            }
        }
    }

    fn leave(&mut self, at: usize) {
        let begun = self.begun.keys().nth(at).copied().filter(|_| at.is_multiple_of(2));
        if let Some(ticket) = begun {
            self.queries.leave(ticket);
            self.begun.remove(&ticket);
        } else if let Some(ticket) = self.followers.keys().nth(at).copied() {
            self.queries.leave(ticket);
            self.followers.remove(&ticket);
        }
    }

    /// Each result against the model, which shares no code with what it checks.
    fn check_models(&self) -> Result<(), TestCaseError> {
        let state = self.sequencer.state();
        let seen = |at: usize| {
            let who = actor(at);
            let viewer = Viewer::of(&who);
            let sight = self.charter.sight(&who.role);
            (who.id, Lens::new(&self.charter, sight, Some(&viewer), &state).plain())
        };
        let seen: BTreeMap<_, _> = (0..PEOPLE.len()).map(seen).collect();
        for Follower { who, asked, model, rows, .. } in self.followers.values() {
            let fresh = model.rows(&seen[&who.id], asked.after.as_ref());
            let kept: Vec<_> =
                rows.rows.iter().map(|row| (row.path.to_string(), row.value.clone())).collect();
            prop_assert_eq!(kept, fresh, "{} asks {:?}", who.id, asked);
        }
        Ok(())
    }

    /// The same, and against an evaluation that knows nothing of what was before.
    fn check(&self) -> Result<(), TestCaseError> {
        self.check_models()?;
        let state = self.sequencer.state();
        let seq = self.sequencer.seq();
        for (ticket, Follower { who, asked, rows, earlier, .. }) in &self.followers {
            for earlier in earlier.iter().rev().take(4) {
                let since = self.queries.since(&self.charter, &state, seq, *ticket, earlier.seq);
                let Some(steps) = since else { continue };
                let mut earlier = earlier.clone();
                prop_assert_eq!(earlier.apply(&steps), Ok(()));
                prop_assert_eq!((&earlier.rows, &earlier.end), (&rows.rows, &rows.end));
            }
            let again = Queries::once(&self.charter, &state, rows.seq, who, asked).unwrap();
            prop_assert_eq!(&again.rows, &rows.rows);
            prop_assert_eq!(&again.end, &rows.end);
        }
        Ok(())
    }
}

fn asked(choice: u64) -> Asked {
    let pick = |from: u64, most: u64| choice / from % most;
    let names = ["leaders", "leaders", "addressed", "drafts", "moods", "wages", "lines", "remarks"];
    let name = names[usize::try_from(choice % 8).unwrap()];
    let mut asked = Asked { name: Some(name.to_owned()), ..Asked::default() };
    if name == "leaders" && pick(8, 4) > 0 {
        asked.with.insert("row".to_owned(), json!(ROWS[usize::try_from(pick(8, 4) - 1).unwrap()]));
    }
    if name == "lines" {
        asked.with.insert("least".to_owned(), json!(pick(8, 3)));
    }
    asked.limit = (pick(64, 3) == 0).then_some(1);
    if pick(256, 3) == 0 {
        asked.after = match name {
            "leaders" => {
                Some(RowPlace(vec![json!(pick(1024, 4)), json!("m"), json!("/pickers/p3")]))
            }
            "lines" => Some(RowPlace(vec![json!(3), json!("/orders/o1/lines/l2")])),
            "remarks" => Some(RowPlace(vec![json!("/remarks/r2")])),
            _ => None,
        };
    }
    asked
}

fn edit(choice: u64) -> Edit {
    let pick = |from: u64, most: u64| choice / from % most;
    let id = pick(16, 6);
    let word = |at: u64| ["", "b", "aa", "oda", "tobin", "bram"][usize::try_from(at).unwrap()];
    let row = ROWS[usize::try_from(pick(256, 3)).unwrap()];
    let picker = format!("/pickers/p{id}");
    let draft = format!("/drafts/d{}", id % 4);
    match choice % 16 {
        0 | 1 => Edit::new("/pickers", "put").with("id", format!("p{id}")).with(
            "value",
            json!({ "name": word(pick(1024, 6)), "row": row, "crew": null,
                "crates": pick(4096, 4), "wage": pick(64, 9), "mood": word(pick(512, 6)) }),
        ),
        2 => Edit::new(picker, "drop"),
        3 | 4 => Edit::new(format!("{picker}/crates"), "add").with("by", pick(256, 7) as i64 - 3),
        5 => Edit::new(format!("{picker}/row"), "set").with("value", row),
        6 => Edit::new(format!("{picker}/mood"), "set").with("value", word(pick(256, 6))),
        7 => Edit::new("/open", "set").with("value", pick(16, 2) == 0),
        8 => Edit::new("/drafts", "put").with("id", format!("d{}", id % 4)).with(
            "value",
            json!({ "by": word(3 + pick(256, 3)), "with": [word(3 + pick(1024, 3))], "text": word(pick(64, 6)) }),
        ),
        9 => Edit::new(format!("{draft}/with"), ["include", "exclude"][usize::try_from(pick(64, 2)).unwrap()])
            .with("value", word(3 + pick(256, 3))),
        10 if pick(64, 2) == 0 => Edit::new(format!("{draft}/text"), "set").with("value", word(pick(256, 6))),
        10 => Edit::new(format!("{draft}/by"), "set").with("value", word(3 + pick(256, 3))),
        11 => Edit::new("/orders", "put").with("id", format!("o{}", id % 3)).with(
            "value",
            json!({ "title": "", "lines": { "l1": { "weight": 2 }, "l2": { "weight": pick(256, 6) } } }),
        ),
        12 => match pick(16, 3) {
            0 => Edit::new(format!("/orders/o{}", pick(64, 3)), "drop"),
            _ => Edit::new(format!("/orders/o{}/lines/l{}/weight", pick(64, 3), 1 + pick(256, 2)), "add")
                .with("by", pick(1024, 9) as i64 - 4),
        },
        13 => Edit::new("/remarks", "insert").with("id", format!("r{}", pick(16, 9))).with(
            "value",
            json!({ "to": word(3 + pick(256, 3)), "text": word(pick(1024, 6)) }),
        ),
        14 => match pick(16, 3) {
            0 => Edit::new("/crews", "put").with("id", "c1").with("value", json!({ "name": "hill" })),
            1 => Edit::new("/crews/c1", "drop"),
            _ => Edit::new(format!("{picker}/crew"), "set").with("value", "c1"),
        },
        _ => match pick(16, 4) {
            0 => Edit::new("", "redo"),
            1 => Edit::new(format!("/remarks/r{}", pick(64, 9)), "remove"),
            _ => Edit::new("", "undo").with("skip", true),
        },
    }
}

proptest! {
    /// Whoever comes and goes, whatever is changed, hidden, shown, undone, dropped along or reset.
    #[test]
    fn each_result_is_what_a_fresh_evaluation_of_what_its_asker_sees_gives(
        plan in prop::collection::vec((any::<u64>(), any::<u64>(), any::<u64>()), 1..120),
    ) {
        let mut board = Board::open();
        for (what, who, choice) in plan {
            let who = actor(usize::try_from(who % 4).unwrap());
            match what % 12 {
                0 | 1 => {
                    let asked = asked(choice);
                    let model = Model::of(&asked, &who);
                    board.begin_as(who, asked, model);
                }
                2 => board.leave(usize::try_from(choice % 16).unwrap()),
                3 if choice % 8 == 0 => {
                    let opening = json!({ "pickers": { "p1": { "name": "a", "crates": choice % 5 } } });
                    board.reset((choice % 16 == 0).then_some(&opening));
                }
                3..=6 => {
                    let edits = (0..1 + choice % 4).map(|at| edit(choice.rotate_left(u32::try_from(at).unwrap() * 7)));
                    let edits: Vec<_> = edits.filter(|edit| !edit.at.is_empty()).collect();
                    board.propose(&who, edits);
                }
                _ => drop(board.propose(&who, vec![edit(choice)])),
            }
            board.go_on(usize::try_from(choice % 4).unwrap());
            board.check()?;
        }
        let tickets = board.followers.keys().chain(board.begun.keys());
        let tickets: Vec<_> = tickets.copied().collect();
        tickets.into_iter().for_each(|ticket| board.queries.leave(ticket));
        prop_assert!(board.queries.is_empty() && board.queries.bytes() == 0);
    }
}

/// A board with so many pickers, each with as many crates as their number.
fn board_of(pickers: u64) -> Board {
    let mut board = Board::open();
    let picker = |at: u64| {
        let row = ROWS[usize::try_from(at % 3).unwrap()];
        (format!("p{at:05}"), json!({ "name": "a", "crates": at, "row": row }))
    };
    let pickers: serde_json::Map<String, Value> = (0..pickers).map(picker).collect();
    board.reset(Some(&json!({ "pickers": pickers })));
    board
}

fn touched(board: &mut Board, edit: Edit) -> u64 {
    let before = board.queries.touched();
    assert!(matches!(board.propose(&actor(0), vec![edit]), Outcome::Settled(_)));
    board.queries.touched() - before
}

#[test]
fn a_change_looks_at_four_records_and_at_one_more_for_each_result_that_it_is_in() {
    let mut board = board_of(3_000);
    let leaders = |row: Option<&str>| {
        let mut asked = Asked { name: Some("leaders".to_owned()), ..Asked::default() };
        asked.with.extend(row.map(|row| ("row".to_owned(), json!(row))));
        asked
    };
    let add = |picker: &str, by: i64| {
        Edit::new(format!("/pickers/{picker}/crates"), "add").with("by", by)
    };
    board.follow(actor(0), leaders(None)).unwrap();
    // Far below the last row; the first row leaves, and the next moves up; in again.
    assert!(touched(&mut board, add("p00010", 1)) <= 1);
    assert!(touched(&mut board, add("p02999", -2_999)) <= 4 + 1);
    assert!(touched(&mut board, Edit::new("/pickers/p02998", "drop")) <= 4 + 1);
    assert!(touched(&mut board, add("p02999", 5_000)) <= 4 + 1);
    // A field that no query reads or sends here is looked at for what is sent alone.
    assert!(touched(&mut board, Edit::new("/pickers/p00010/wage", "set").with("value", 3)) <= 1);
    // Other groups cost nothing but where the record counts: it is in two indexes.
    for row in ROWS {
        board.follow(actor(1), leaders(Some(row))).unwrap();
    }
    assert!(touched(&mut board, add("p02999", 1)) <= 2 * (4 + 1));
    board.check().unwrap();
}

#[test]
fn what_a_role_may_not_see_it_cannot_ask_by() {
    let mut board = board_of(3);
    let state = board.sequencer.state();
    let mut ask = |who: &Actor, asked: Value| {
        let asked: Asked = serde_json::from_value(asked).unwrap();
        board
            .queries
            .follow(&board.charter, &state, 1, who, &asked)
            .map_err(|problem| problem.kind())
    };
    let (oda, wren) = (actor(0), actor(2));
    assert_eq!(ask(&oda, json!({ "name": "wages" })).unwrap_err(), ProblemKind::NotAllowed);
    assert_eq!(
        ask(&oda, json!({ "path": "/pickers/p00001/wage" })).unwrap_err(),
        ProblemKind::UnknownPath
    );
    assert_eq!(ask(&wren, json!({ "path": "/nowhere" })).unwrap_err(), ProblemKind::UnknownPath);
    assert!(ask(&wren, json!({ "path": "/pickers/p00001/wage" })).is_ok());
    let shape =
        json!({ "of": { "from": "/pickers", "where": "record.wage > 3", "order": ["-wage"] } });
    assert_eq!(ask(&oda, shape.clone()).unwrap_err(), ProblemKind::NotAllowed);
    assert!(ask(&wren, shape).is_ok());
    let crews = json!({ "of": { "from": "/crews" } });
    let visitor = Actor::new("ines", "visitor", Uuid::from_u128(9));
    assert_eq!(ask(&visitor, crews.clone()).unwrap_err(), ProblemKind::NotAllowed);
    assert!(ask(&oda, crews).is_ok());
    for (unfit, kind) in [
        (json!({}), ProblemKind::Malformed),
        (json!({ "path": "" }), ProblemKind::OutOfBounds),
        (json!({ "path": "/pickers" }), ProblemKind::OutOfBounds),
        (json!({ "path": "/remarks" }), ProblemKind::OutOfBounds),
        (json!({ "name": "leader" }), ProblemKind::NotFound),
        (json!({ "name": "lines" }), ProblemKind::OutOfBounds),
        (json!({ "name": "lines", "with": { "least": "x" } }), ProblemKind::OutOfBounds),
        (json!({ "name": "leaders", "with": { "rows": "x" } }), ProblemKind::OutOfBounds),
        (json!({ "name": "leaders", "after": ["/pickers/p1"] }), ProblemKind::Malformed),
        (json!({ "name": "leaders", "limit": 0 }), ProblemKind::OutOfBounds),
        (json!({ "of": { "from": "/picker" } }), ProblemKind::OutOfBounds),
        (
            json!({ "of": { "from": "/pickers", "where": "record.wages > 3" } }),
            ProblemKind::OutOfBounds,
        ),
        (json!({ "of": { "from": "/pickers", "where": "state.open" } }), ProblemKind::OutOfBounds),
        (json!({ "of": { "from": "/pickers", "limit": 5_000 } }), ProblemKind::OutOfBounds),
    ] {
        assert_eq!(ask(&wren, unfit.clone()).unwrap_err(), kind, "{unfit}");
    }
    let askers: BTreeMap<_, _> = board.charter.askers().collect();
    assert_eq!(askers["wages"], ["steward"]);
    assert_eq!(askers["moods"], ["picker", "steward"]);
    assert_eq!(askers["myself"], ["picker", "steward"], "an id is no field");
    assert!(board.charter.shown_to("picker")["queries"].get("wages").is_none());
}

/// Pages go on behind the last row of the one before, whatever comes and goes between.
#[test]
fn pages_lead_through_all_rows_once() {
    let mut board = board_of(50);
    let (mut asked, mut seen) =
        (Asked { name: Some("leaders".to_owned()), ..Asked::default() }, Vec::new());
    loop {
        let state = board.sequencer.state();
        let page = Queries::once(&board.charter, &state, 1, &actor(0), &asked).unwrap();
        seen.extend(page.rows.iter().map(|row| row.value["crates"].as_u64().unwrap()));
        let Some(end) = page.end else { break };
        asked.after = Some(end);
        // The row that the page ended with goes.
        let gone = page.rows.last().unwrap().path.to_string();
        board.propose(&actor(0), vec![Edit::new(gone, "drop")]);
    }
    assert_eq!(seen, (1..50).rev().collect::<Vec<_>>());
}
