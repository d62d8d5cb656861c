//! `total`: a number over the records of a map or list that the service keeps up to date. Nobody
//! edits it; expressions and guards may read it. How it is computed is in [`totals`](crate::totals).

use imbl::OrdMap;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use super::ruled::refuse;
use super::site::stored_op;
use super::{Applying, Declared, Kind, KindWords, Loading, Settlement, Site};
use crate::canonical::weight;
use crate::declaration::Section;
use crate::op::Op;
use crate::patch::Patch;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::rewrite::Rewrite;
use crate::stamp::Stamp;
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

/// What the records of a total are put together to.
pub(crate) const MEASURES: [&str; 6] = ["count", "sum", "mean", "min", "max", "share"];

impl Kind for Field {
    type Cell = Cell;
    const WORDS: KindWords = KindWords { name: "total", takes: &[], inside: &[] };

    fn declare(section: &mut Section<'_>, _declared: &Declared) -> Self {
        section.top_level();
        // All of it is read once all fields are known.
        for key in MEASURES.iter().chain(&["from", "where", "by"]) {
            section.know(key);
        }
        let is_empty = ["count", "sum"].iter().any(|measure| section.has(measure));
        let none = if is_empty { 0.into() } else { Value::Null };
        Self { is_grouped: section.has("by"), none }
    }

    fn initial(&self, _stamp: Stamp) -> Cell {
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

    fn plain(&self, cell: &Cell) -> Value {
        match cell {
            Cell::One(value) => value.clone(),
            Cell::Groups(groups) => {
                let groups = groups.iter().map(|(name, value)| (name.clone(), value.clone()));
                Value::Object(groups.collect::<Map<_, _>>())
            }
        }
    }

    fn plain_at(&self, cell: &Cell, rest: &[Token]) -> Option<Value> {
        match (rest, cell) {
            ([], _) => Some(self.plain(cell)),
            ([group], Cell::Groups(groups)) => groups.get(group.as_str()).cloned(),
            _ => None,
        }
    }

    fn settle(
        &self,
        _cell: &Cell,
        _rest: &[Token],
        site: &Site<'_>,
    ) -> Result<Settlement, Problem> {
        Err(refuse(site, "A total", Self::WORDS.takes))
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

    fn patch(&self, cell: &Cell, rest: &[Token], effect: &Effect, patch: &mut Patch) -> Option<()> {
        match (cell, rest, &effect.op) {
            (_, [], Op::Set(value)) => patch.replace((**value).clone()),
            (Cell::Groups(_), [group], Op::Set(value)) => patch.add_at(group, (**value).clone()),
            (Cell::Groups(_), [group], Op::Drop) => {
                patch.step(group);
                patch.remove();
            }
            _ => return None,
        }
        Some(())
    }

    fn rewrite(&self, _was: &Value, _now: &Value, rewrite: &mut Rewrite) -> Result<(), Problem> {
        Err(rewrite.unfit("is computed. Leave it as it is."))
    }

    fn is_small(&self) -> bool {
        true
    }

    fn has(&self, cell: &Cell, rest: &[Token]) -> bool {
        self.plain_at(cell, rest).is_some()
    }

    fn met(&self, _cell: &Cell, _site: &Site<'_>, _met: &mut Vec<u64>) {}
}

/// What a group is in its object: its name with quotes, a colon, its value, and a comma beside
/// others.
fn member_weight(group: &str, value: &Value, others: usize) -> usize {
    group.len() + 3 + weight(value) + usize::from(others > 0)
}
