//! Queries of any shape: a condition that is drawn together with what it means, in the model's
//! words.

use proptest::prelude::*;
use rendel_core::{Actor, Asked, Queries, Shape};
use serde_json::{Value, json};

use super::{Board, Model, actor, edit, lines, of_map, remarks};

/// A condition: what holds of a record, with three outcomes. `None` is an error, such as of
/// comparing `null` with a number; the record is no row then.
#[derive(Clone, Debug)]
enum Condition {
    Is { field: &'static str, value: Value, is_swapped: bool },
    IsNot { field: &'static str, value: Value },
    Above { field: &'static str, least: i64 },
    Has { field: &'static str, value: &'static str },
    HasMe { field: &'static str },
    IsMe { field: &'static str },
    IsParameter { field: &'static str },
    IsAt { id: String },
    Not(Box<Condition>),
    Either(Box<Condition>, Box<Condition>),
    Both(Box<Condition>, Box<Condition>),
}

/// What the records of a place have: fields of words, of numbers and of sets.
struct Place {
    from: &'static str,
    words: &'static [&'static str],
    numbers: &'static [&'static str],
    sets: &'static [&'static str],
    ids: &'static str,
    records: fn(&Value) -> Vec<(String, Value)>,
}

const PLACES: [Place; 6] = [
    Place {
        from: "/pickers",
        words: &["name", "row", "mood", "crew"],
        numbers: &["crates", "wage"],
        sets: &[],
        ids: "p",
        records: |plain| of_map("pickers", plain),
    },
    Place {
        from: "/drafts",
        words: &["by", "text"],
        numbers: &[],
        sets: &["with"],
        ids: "d",
        records: |plain| of_map("drafts", plain),
    },
    Place {
        from: "/orders",
        words: &["title"],
        numbers: &[],
        sets: &[],
        ids: "o",
        records: |plain| of_map("orders", plain),
    },
    Place {
        from: "/orders/*/lines",
        words: &[],
        numbers: &["weight"],
        sets: &[],
        ids: "l",
        records: lines,
    },
    Place {
        from: "/remarks",
        words: &["to", "text"],
        numbers: &[],
        sets: &[],
        ids: "r",
        records: remarks,
    },
    Place {
        from: "/crews",
        words: &["name"],
        numbers: &[],
        sets: &[],
        ids: "c",
        records: |plain| of_map("crews", plain),
    },
];

const WORDS: [&str; 9] = ["", "b", "aa", "oda", "tobin", "bram", "east", "west", "c1"];

impl Condition {
    fn text(&self) -> String {
        match self {
            Self::Is { field, value, is_swapped: false } => format!("record.{field} == {value}"),
            Self::Is { field, value, .. } => format!("{value} == record.{field}"),
            Self::IsNot { field, value } => format!("record.{field} != {value}"),
            Self::Above { field, least } => format!("record.{field} > {least}"),
            Self::Has { field, value } => format!("{value:?} in record.{field}"),
            Self::HasMe { field } => format!("who.id in record.{field}"),
            Self::IsMe { field } => format!("record.{field} == who.id"),
            Self::IsParameter { field } => format!("record.{field} == wanted"),
            Self::IsAt { id } => format!("record.id == {id:?}"),
            Self::Not(inner) => format!("!({})", inner.text()),
            Self::Either(one, other) => format!("({} || {})", one.text(), other.text()),
            Self::Both(one, other) => format!("{} && {}", one.text(), other.text()),
        }
    }

    fn holds(&self, id: &str, record: &Value, who: &str, wanted: &Value) -> Option<bool> {
        let of = |inner: &Self| inner.holds(id, record, who, wanted);
        let has = |field: &str, value: &str| {
            record[field].as_array().map(|elements| elements.contains(&json!(value)))
        };
        match self {
            Self::Is { field, value, .. } => Some(record[*field] == *value),
            Self::IsNot { field, value } => Some(record[*field] != *value),
            Self::Above { field, least } => record[*field].as_i64().map(|number| number > *least),
            Self::Has { field, value } => has(field, value),
            Self::HasMe { field } => has(field, who),
            Self::IsMe { field } => Some(record[*field] == *who),
            Self::IsParameter { field } => Some(record[*field] == *wanted),
            Self::IsAt { id: wanted } => Some(id == wanted),
            Self::Not(inner) => of(inner).map(|holds| !holds),
            Self::Either(one, other) => match (of(one), of(other)) {
                (Some(true), _) | (_, Some(true)) => Some(true),
                (Some(false), Some(false)) => Some(false),
                _ => None,
            },
            Self::Both(one, other) => match (of(one), of(other)) {
                (Some(false), _) | (_, Some(false)) => Some(false),
                (Some(true), Some(true)) => Some(true),
                _ => None,
            },
        }
    }
}

/// A condition over the fields of a place, at most so deep.
fn condition(place: &'static Place, depth: u32) -> BoxedStrategy<Condition> {
    let word = prop::sample::select(&WORDS[..]);
    let value = prop_oneof![4 => word.clone().prop_map(|word| json!(word)), 1 => Just(Value::Null)];
    let id = (0..9_u64).prop_map(|at| format!("{}{at}", place.ids));
    let mut plain = vec![id.prop_map(|id| Condition::IsAt { id }).boxed()];
    if !place.words.is_empty() {
        let field = prop::sample::select(place.words);
        plain.extend([
            (field.clone(), value.clone(), any::<bool>())
                .prop_map(|(field, value, is_swapped)| Condition::Is { field, value, is_swapped })
                .boxed(),
            (field.clone(), value)
                .prop_map(|(field, value)| Condition::IsNot { field, value })
                .boxed(),
            field.clone().prop_map(|field| Condition::IsMe { field }).boxed(),
            field.prop_map(|field| Condition::IsParameter { field }).boxed(),
        ]);
    }
    if !place.numbers.is_empty() {
        let above = (prop::sample::select(place.numbers), -1..6_i64);
        plain.push(above.prop_map(|(field, least)| Condition::Above { field, least }).boxed());
    }
    if !place.sets.is_empty() {
        let field = prop::sample::select(place.sets);
        plain.push(
            (field.clone(), word)
                .prop_map(|(field, value)| Condition::Has { field, value })
                .boxed(),
        );
        plain.push(field.prop_map(|field| Condition::HasMe { field }).boxed());
    }
    let plain = prop::strategy::Union::new(plain).boxed();
    plain
        .prop_recursive(depth, 6, 2, |inner| {
            let both = (inner.clone(), inner.clone());
            prop_oneof![
                inner.prop_map(|inner| Condition::Not(Box::new(inner))),
                both.clone()
                    .prop_map(|(one, other)| Condition::Either(Box::new(one), Box::new(other))),
                both.prop_map(|(one, other)| Condition::Both(Box::new(one), Box::new(other))),
            ]
        })
        .boxed()
}

/// A query: where from, with what condition, in which order, how many rows, with which fields.
#[derive(Clone, Debug)]
pub(super) struct Drawn {
    place: usize,
    condition: Option<Condition>,
    order: Vec<(&'static str, bool)>,
    limit: usize,
    fields: Option<Vec<&'static str>>,
    wanted: &'static str,
    who: usize,
    /// How many rows of the result are on the pages before.
    behind: usize,
}

fn drawn() -> impl Strategy<Value = Drawn> {
    (0..PLACES.len()).prop_flat_map(|at| {
        let place = &PLACES[at];
        let names: Vec<&'static str> = [place.words, place.numbers].concat();
        let order =
            prop::collection::vec((prop::sample::select(names.clone()), any::<bool>()), 0..3);
        let fields = prop::option::of(prop::sample::subsequence(names.clone(), 1..=names.len()));
        let wanted = prop::sample::select(&WORDS[..]);
        (
            prop::option::of(condition(place, 2)),
            order,
            1..5_usize,
            fields,
            wanted,
            0..4_usize,
            prop_oneof![3 => Just(0), 1 => 1..3_usize],
        )
            .prop_map(move |(condition, order, limit, fields, wanted, who, behind)| {
                Drawn { place: at, condition, order, limit, fields, wanted, who, behind }
            })
    })
}

impl Drawn {
    fn asked(&self) -> Asked {
        let condition = self.condition.as_ref().map(Condition::text);
        let has_parameter = condition.as_ref().is_some_and(|text| text.contains("wanted"));
        let key =
            |(name, is_down): &(&str, bool)| format!("{}{name}", if *is_down { "-" } else { "" });
        let with =
            if has_parameter { json!({ "wanted": { "type": "string" } }) } else { json!({}) };
        let shape = Shape {
            from: PLACES[self.place].from.to_owned(),
            condition,
            order: self.order.iter().map(key).collect(),
            limit: Some(self.limit),
            fields: self
                .fields
                .as_ref()
                .map(|names| names.iter().map(|name| (*name).to_owned()).collect()),
            with: with.as_object().cloned().unwrap_or_default(),
        };
        let mut asked = Asked { of: Some(shape), ..Asked::default() };
        if has_parameter {
            asked.with.insert("wanted".to_owned(), json!(self.wanted));
        }
        asked
    }

    fn model(&self, who: &Actor) -> Model {
        let (condition, id) = (self.condition.clone(), who.id.clone());
        let wanted = json!(self.wanted);
        let holds = move |path: &str, record: &Value| {
            let last = path.rsplit('/').next().unwrap_or_default();
            condition
                .as_ref()
                .is_none_or(|condition| condition.holds(last, record, &id, &wanted) == Some(true))
        };
        Model {
            records: PLACES[self.place].records,
            holds: Box::new(holds),
            order: self.order.clone(),
            limit: self.limit,
            fields: self.fields.clone(),
        }
    }

    /// Whether it tells what pickers do not see.
    fn reads_wages(&self) -> bool {
        let reads = |text: &str| text.contains("record.wage");
        self.condition.as_ref().is_some_and(|condition| reads(&condition.text()))
            || self.order.iter().any(|(name, _)| *name == "wage")
            || self.fields.as_ref().is_some_and(|fields| fields.contains(&"wage"))
    }

    /// The same rows, but for how many, with which fields, and for whom.
    fn varied(&self, choice: u64) -> Self {
        let pick = |from: u64, most: u64| usize::try_from(choice / from % most).unwrap();
        let place = &PLACES[self.place];
        let names = [place.words, place.numbers].concat();
        let fields = (pick(1, 3) > 0).then(|| vec![names[pick(3, names.len() as u64)]]);
        Self { fields, limit: 1 + pick(32, 4), who: pick(128, 4), behind: 0, ..self.clone() }
    }

    /// Follows it, from its first row or from behind some.
    fn follow(&self, board: &mut Board) {
        let who = actor(self.who);
        let mut asked = self.asked();
        let (state, seq) = (board.sequencer.state(), board.sequencer.seq());
        if self.reads_wages() && who.role == "picker" {
            assert!(Queries::once(&board.charter, &state, seq, &who, &asked).is_err());
            return;
        }
        for _ in 0..self.behind {
            let before = Asked { limit: Some(1), ..asked.clone() };
            let page = Queries::once(&board.charter, &state, seq, &who, &before).unwrap();
            asked.after = page.end.or(asked.after);
        }
        board.follow_as(who.clone(), asked, self.model(&who)).unwrap();
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6))]

    /// Two hundred at a time, through edits, undo, cascades, resets and changing audiences.
    #[test]
    fn results_of_any_shape_are_what_a_fresh_evaluation_gives(
        shapes in prop::collection::vec((drawn(), any::<u64>()), 100),
        before in prop::collection::vec((0..4_usize, any::<u64>()), 20),
        plan in prop::collection::vec((0..40_u8, 0..4_usize, any::<u64>()), 1..60),
    ) {
        // Half of them share their index with another.
        let varied = shapes.iter().map(|(query, choice)| query.varied(*choice));
        let queries: Vec<Drawn> =
            shapes.iter().map(|(query, _)| query.clone()).chain(varied).collect();
        let mut board = Board::open();
        for (who, choice) in before {
            board.propose(&actor(who), vec![edit(choice)]);
        }
        queries.iter().for_each(|query| query.follow(&mut board));
        board.check()?;
        for (what, who, choice) in plan {
            match what {
                0 => board.reset((choice % 2 == 0).then_some(&json!({ "pickers": { "p1": { "crates": 2 } } }))),
                1 => queries[usize::try_from(choice % 200).unwrap()].follow(&mut board),
                2 => board.leave(usize::try_from(choice % 200).unwrap()),
                _ => drop(board.propose(&actor(who), vec![edit(choice)])),
            }
            board.check_models()?;
        }
        board.check()?;
    }
}
