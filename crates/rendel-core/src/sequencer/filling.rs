//! What the service fills in, so that no client can claim it: who made a record.

use serde_json::Value;

use crate::actor::Actor;
use crate::kind::{Field, Fields};
use crate::op::Op;
use crate::path::{Path, inner};
use crate::problem::{Problem, ProblemKind};

/// Fills the author in where the charter says so. The backend may say another, as when it brings in
/// what somebody did elsewhere.
pub(super) fn fill(
    fields: &Fields,
    op: &mut Op,
    path: &Path,
    actor: &Actor,
) -> Result<(), Problem> {
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
    let detail = format!(
        "{at} says who made it: the service fills it in, and nobody claims it. Leave it out."
    );
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
