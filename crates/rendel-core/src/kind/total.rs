//! `total`: a number over the records of a map or list that the service keeps up to date. Nobody
//! edits it; expressions and guards may read it. How it is computed is in [`totals`](crate::totals).

use imbl::OrdMap;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::edit_context::stored_op;
use super::ruled::{self, Ruled};
use super::{Applying, KindWords, Loading};
use crate::canonical::weight;
use crate::declaration::Section;
use crate::op::Op;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::totals::Measure;
use crate::update::Effect;

/// A declared total.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    is_grouped: bool,
    /// What it is of nothing.
    none: Value,
}

/// What a total is: one value, or one for each group.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub(crate) enum Cell {
    Groups(OrdMap<String, Value>),
    One(Value),
}

impl Ruled for Field {
    type Cell = Cell;
    const WORDS: KindWords = KindWords { name: "total", takes: &[], inside: &[] };
    const WHAT: &'static str = "A total";

    fn declare(section: &mut Section<'_>) -> Self {
        // All of it is read once all fields are known.
        for key in Measure::ALL.map(|(name, _)| name).iter().chain(&["from", "where", "by"]) {
            section.know(key);
        }
        let is_empty = ["count", "sum"].iter().any(|measure| section.has(measure));
        let none = if is_empty { 0.into() } else { Value::Null };
        Self { is_grouped: section.has("by"), none }
    }

    fn initial(&self) -> Cell {
        match self.is_grouped {
            true => Cell::Groups(OrdMap::new()),
            false => Cell::One(self.none.clone()),
        }
    }

    /// Opening data may have a total, as a state that was saved does: it is computed all the same.
    fn load(&self, at: &Path, plain: &Value, _loading: Loading) -> Result<Cell, Problem> {
        match (self.is_grouped, plain) {
            (true, Value::Object(groups)) => Ok(Cell::Groups(
                groups.iter().map(|(name, one)| (name.clone(), one.clone())).collect(),
            )),
            (false, Value::Number(_) | Value::Null) => Ok(Cell::One(plain.clone())),
            _ => {
                let detail = format!("{at} is computed; leave it out.");
                Err(Problem::new(ProblemKind::WrongType, detail).at(at))
            }
        }
    }

    fn plain_at(&self, cell: &Cell, rest: &[Token]) -> Option<Value> {
        match (rest, cell) {
            ([], _) => Some(ruled::plain(cell)),
            ([group], Cell::Groups(groups)) => groups.get(group.as_str()).cloned(),
            _ => None,
        }
    }

    fn apply(
        &self,
        cell: &mut Cell,
        rest: &[Token],
        effect: &Effect,
        applying: &mut Applying<'_>,
    ) -> Result<(), String> {
        match (cell, rest, &effect.op) {
            (Cell::One(one), [], Op::Set(value)) => {
                applying.grow_to(one, value);
                *one = (**value).clone();
            }
            (Cell::Groups(groups), [group], Op::Set(value)) => {
                let known = groups.len();
                let was = groups.insert(group.to_string(), (**value).clone());
                match was {
                    Some(was) => applying.grow_to(&was, value),
                    None => applying.grow(0, member_weight(group, value, known)),
                }
            }
            (Cell::Groups(groups), [group], Op::Drop) => {
                let value = groups.remove(group.as_str()).ok_or("no such group")?;
                applying.grow(member_weight(group, &value, groups.len()), 0);
            }
            _ => return Err(stored_op(effect)),
        }
        Ok(())
    }
}

/// What a group is in its object: its name with quotes, a colon, its value, and a comma beside
/// others.
fn member_weight(group: &str, value: &Value, others: usize) -> usize {
    group.len() + 3 + weight(value) + usize::from(others > 0)
}
