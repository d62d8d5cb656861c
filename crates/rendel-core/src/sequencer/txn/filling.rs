//! What the service fills in, so that no client can claim it: the author of a record.

use serde_json::Value;

use crate::actor::Actor;
use crate::kind::{Field, Fields};
use crate::op::Op;
use crate::path::{Path, Token, inner};
use crate::problem::{Problem, ProblemKind};

/// Fills in the id of a record that only its author may have: the author's own, if none is given.
pub(super) fn give_own_id(fields: &Fields, op: &mut Op, path: &Path, actor: &Actor) {
    if field_at(fields, path).is_some_and(Field::is_own) {
        op.give_id(|| actor.id.clone());
    }
}

/// Refuses what is about a record of somebody else where each has one of their own.
fn check_own(fields: &Fields, op: &Op, path: &Path, actor: &Actor) -> Result<(), Problem> {
    let made = op.makes().and_then(|(id, _)| id).map(Token::from);
    let tokens: Vec<Token> = path.tokens().iter().cloned().chain(made).collect();
    for (field, rest) in fields.along(&tokens) {
        if field.is_own() && rest.first().is_some_and(|id| *id != actor.id) {
            let map = &tokens[..tokens.len() - rest.len()];
            return Err(not_own(&Path::of(map.iter().cloned()), actor));
        }
    }
    Ok(())
}

fn not_own(map: &Path, actor: &Actor) -> Problem {
    let own = inner(map, &actor.id);
    let detail = format!("Each has a record of their own in {map}; yours is {own}.");
    Problem::new(ProblemKind::NotAllowed, detail).at(map)
}

/// Fills the author in where the charter says so. The backend may say another, as when it brings in
/// what somebody did elsewhere.
pub(super) fn fill(
    fields: &Fields,
    op: &mut Op,
    path: &Path,
    actor: &Actor,
) -> Result<(), Problem> {
    if !op.is_condition() && actor.role != Actor::SERVICE {
        check_own(fields, op, path, actor)?;
    }
    let Some(field) = field_at(fields, path) else { return Ok(()) };
    if field.is_filled() && !op.is_condition() && actor.role != Actor::SERVICE {
        return Err(claimed(path));
    }
    match field.each().zip(op.record_mut()) {
        Some((each, record)) => fill_record(each, record, path, actor),
        None => Ok(()),
    }
}

fn fill_record(
    fields: &Fields,
    record: &mut Value,
    at: &Path,
    actor: &Actor,
) -> Result<(), Problem> {
    let Value::Object(members) = record else { return Ok(()) };
    for (name, field) in fields.iter() {
        if field.is_filled() {
            match members.get(name) {
                None | Some(Value::Null) => {
                    drop(members.insert(name.to_owned(), actor.id.clone().into()))
                }
                Some(given)
                    if given.as_str() == Some(&actor.id) || actor.role == Actor::SERVICE => {}
                Some(_) => return Err(claimed(&inner(at, name))),
            }
        }
        match (field.each(), members.get_mut(name)) {
            (Some(each), Some(Value::Object(records))) => {
                let is_other = |id: &String| *id != actor.id;
                if field.is_own() && actor.role != Actor::SERVICE && records.keys().any(is_other) {
                    return Err(not_own(&inner(at, name), actor));
                }
                records.values_mut().try_for_each(|record| fill_record(each, record, at, actor))?;
            }
            (Some(each), Some(Value::Array(elements))) => {
                let records = elements.iter_mut().filter_map(|element| element.get_mut("value"));
                records.into_iter().try_for_each(|record| fill_record(each, record, at, actor))?;
            }
            _ => {}
        }
    }
    Ok(())
}

fn claimed(at: &Path) -> Problem {
    let detail = format!("The service fills in {at} with the author of the record. Omit it.");
    Problem::new(ProblemKind::NotAllowed, detail).at(at)
}

fn field_at<'f>(fields: &'f Fields, path: &Path) -> Option<&'f Field> {
    let (field, rest) = fields.along(path.tokens()).pop()?;
    rest.is_empty().then_some(field)
}
