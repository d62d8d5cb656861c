//! Revert: the edits that bring a session, or a part of it, back to an earlier state.
//!
//! Fields that keep rules of play do not change, nor do lists that only grow. A participant does not
//! change what belongs to somebody else under `key = "author"`, nor what a turn of another seat
//! governs. References are checked once, in the state that all edits lead to.

use serde_json::Value;

use crate::actor::Actor;
use crate::charter::{Charter, Lens, Sight};
use crate::edit::Edit;
use crate::grantees::Viewer;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::rewrite::Rewrite;
use crate::state::State;

/// Edits of one revert.
const MAX_EDITS: usize = 100_000;

impl State {
    /// The edits by which a participant brings this state, as they see it, back to an earlier one, or
    /// a part of it. Cost O(size).
    pub fn edits_back_to(
        &self,
        past: &Self,
        charter: &Charter,
        at: &Path,
        (actor, sight): (&Actor, &Sight),
    ) -> Result<Vec<Edit>, Problem> {
        let viewer = Viewer::of(actor);
        let plain = |state| Lens::new(charter, sight, Some(&viewer), state).plain();
        let (now, then) = (plain(self), plain(past));
        let mut wanted = now.clone();
        let tokens = at.tokens();
        for (name, field) in charter.fields.iter() {
            let is_meant = tokens.first().is_none_or(|top| top == name);
            let is_of_play = charter.is_of_play(&Path::of([name]));
            if is_meant && is_of_play && !tokens.is_empty() {
                let detail = format!("{at} keeps rules of play, which cannot be reverted.");
                return Err(Problem::new(ProblemKind::OutOfBounds, detail).at(at));
            }
            if is_meant && !is_of_play && !field.only_grows() {
                put_back(&mut wanted, &then, &Path::of([name]), at)?;
            }
        }
        let mut rewrite = Rewrite::new(MAX_EDITS);
        charter.fields.rewrite(&now, &wanted, &mut rewrite).map_err(Problem::bounded)?;
        rewrite.edits.retain(|edit| self.may_revert(charter, actor, edit));
        Ok(rewrite.edits)
    }

    /// Whether an edit is one that a participant may make to revert.
    fn may_revert(&self, charter: &Charter, actor: &Actor, edit: &Edit) -> bool {
        let Ok(path) = Path::parse(&edit.at) else { return false };
        let made = edit.args.get("id").and_then(Value::as_str).map(Token::from);
        let tokens: Vec<Token> = path.tokens().iter().cloned().chain(made).collect();
        if is_of_growing_list(charter, &tokens) {
            return false;
        }
        if actor.role == Actor::SERVICE {
            return true;
        }
        let seat = self.seat_of(charter, &actor.id);
        let mut turns = charter.play.turns.iter();
        let is_of_other_turn = turns.any(|turn| {
            let is_governed = turn.governs.iter().any(|pattern| pattern.concerns(&tokens, false));
            let whose = self.turn(charter, &turn.field).and_then(|(_, cell)| cell.seat());
            is_governed && (seat.is_none() || seat.as_deref() != whose)
        });
        !is_of_other_turn && !is_of_other_owner(charter, &tokens, &actor.id)
    }
}

/// Whether a path leads to a list that only grows, or to an element of one.
fn is_of_growing_list(charter: &Charter, tokens: &[Token]) -> bool {
    let lists = charter.fields.along(tokens);
    lists.last().is_some_and(|(field, rest)| field.only_grows() && rest.len() <= 1)
}

/// Whether a path leads into a record that belongs to another participant.
fn is_of_other_owner(charter: &Charter, tokens: &[Token], who: &str) -> bool {
    let fields = charter.fields.along(tokens);
    fields.iter().any(|(field, rest)| field.is_own() && rest.first().is_some_and(|id| id != who))
}

/// Replaces the value at a path, or that of a field if the path leads to all fields, by the earlier
/// value.
fn put_back(wanted: &mut Value, then: &Value, field: &Path, at: &Path) -> Result<(), Problem> {
    let path = if at.tokens().is_empty() { field } else { at };
    let gone = || {
        let detail =
            format!("{path} lies in something that does not exist now. Revert that first.");
        Problem::new(ProblemKind::Gone, detail).at(path)
    };
    let mut place = wanted;
    let mut was = Some(then);
    for (index, token) in path.tokens().iter().enumerate() {
        let is_last = index + 1 == path.tokens().len();
        let step = |value: &Value| match value {
            Value::Array(elements) => {
                elements.iter().position(|element| element["id"] == token.as_str())
            }
            _ => None,
        };
        was = was.and_then(|was| match step(was) {
            Some(at) if is_last => was.get(at),
            Some(at) => was.get(at)?.get("value"),
            None => was.get(token.as_str()),
        });
        if is_last {
            match (place, was) {
                (Value::Object(members), Some(was)) => {
                    members.insert(token.to_string(), was.clone());
                }
                (Value::Object(members), None) => drop(members.remove(token.as_str())),
                (list @ Value::Array(_), was) => {
                    let index = step(list);
                    let Value::Array(elements) = list else { return Err(gone()) };
                    match (index, was) {
                        (Some(index), Some(was)) => elements[index] = was.clone(),
                        (Some(index), None) => drop(elements.remove(index)),
                        (None, Some(was)) => elements.push(was.clone()),
                        (None, None) => {}
                    }
                }
                _ => return Err(gone()),
            }
            return Ok(());
        }
        let index = step(place);
        place = match index {
            Some(index) => place.get_mut(index).and_then(|one| one.get_mut("value")),
            None => place.get_mut(token.as_str()),
        }
        .ok_or_else(gone)?;
    }
    Ok(())
}
