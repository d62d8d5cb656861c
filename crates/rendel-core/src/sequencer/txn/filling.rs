//! What the service fills in, so that no client can claim it: the author of a record.

use serde_json::Value;

use crate::actor::Actor;
use crate::kind::{Field, Fields};
use crate::op::Op;
use crate::path::{Path, inner};
use crate::problem::{Problem, ProblemKind};

/// Fills in the id of a record that only its author may have: the author's own, if none is given.
pub(super) fn give_own_id(fields: &Fields, op: &mut Op, path: &Path, actor: &Actor) {
    if field_at(fields, path).is_some_and(Field::is_own) {
        op.give_id(|| actor.id.clone());
    }
}

/// Refuses what is about a record of somebody else where each has one of their own.
fn check_own(fields: &Fields, op: &Op, path: &Path, actor: &Actor) -> Result<(), Problem> {
    let made = op.makes().and_then(|(id, _)| id);
    let tokens = path.tokens().iter().map(|token| token.as_str()).chain(made);
    let tokens: Vec<&str> = tokens.collect();
    let mut fields = fields;
    for (at, pair) in tokens.chunks(2).enumerate() {
        let Some(field) = fields.field(pair[0]) else { break };
        if field.is_own() && pair.get(1).is_some_and(|id| *id != actor.id) {
            return Err(not_own(&Path::of(tokens[..=at * 2].iter().copied()), actor));
        }
        let Some(each) = field.each() else { break };
        fields = each;
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
    let mut fields = fields;
    let mut tokens = path.tokens().iter();
    loop {
        let field = fields.field(tokens.next()?)?;
        if tokens.next().is_none() {
            return Some(field);
        }
        fields = field.each()?;
    }
}
