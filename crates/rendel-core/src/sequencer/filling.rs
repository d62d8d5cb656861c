//! What the service fills in, so that no client can claim it: who made a record.

use std::borrow::Cow;

use serde_json::Value;

use crate::edit::{Actor, Edit};
use crate::kind::{Field, Fields, inner};
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};

/// An edit with its author filled in where the charter says so. The backend may say another, as when it brings in what
/// somebody did elsewhere.
pub(super) fn filled<'e>(
    fields: &Fields,
    edit: &'e Edit,
    path: &Path,
    actor: &Actor,
) -> Result<Cow<'e, Edit>, Problem> {
    let Some(field) = field_at(fields, path) else { return Ok(Cow::Borrowed(edit)) };
    if field.is_filled() && actor.role != Actor::SERVICE {
        return Err(claimed(path));
    }
    let makes_record = matches!(edit.op.as_str(), "put" | "insert");
    let Some((each, Value::Object(_))) = field.each().filter(|_| makes_record).zip(edit.arg("value")) else {
        return Ok(Cow::Borrowed(edit));
    };
    let mut edit = edit.clone();
    if let Some(value) = edit.args.get_mut("value") {
        fill(each, value, path, actor)?;
    }
    Ok(Cow::Owned(edit))
}

fn fill(fields: &Fields, record: &mut Value, at: &Path, actor: &Actor) -> Result<(), Problem> {
    let Value::Object(members) = record else { return Ok(()) };
    for (name, field) in fields.iter() {
        if field.is_filled() {
            match members.get(name) {
                None | Some(Value::Null) => drop(members.insert(name.to_owned(), actor.id.clone().into())),
                Some(given) if given.as_str() == Some(&actor.id) || actor.role == Actor::SERVICE => {}
                Some(_) => return Err(claimed(&inner(at, name))),
            }
        }
        match (field.each(), members.get_mut(name)) {
            (Some(each), Some(Value::Object(records))) => {
                records.values_mut().try_for_each(|record| fill(each, record, at, actor))?;
            }
            (Some(each), Some(Value::Array(elements))) => {
                let records = elements.iter_mut().filter_map(|element| element.get_mut("value"));
                records.into_iter().try_for_each(|record| fill(each, record, at, actor))?;
            }
            _ => {}
        }
    }
    Ok(())
}

fn claimed(at: &Path) -> Problem {
    let detail = format!("{at} says who made it: the service fills it in, and nobody claims it. Leave it out.");
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
