//! References: registers that hold the id of a record of a map, and what happens to them when the record is dropped.

use std::collections::BTreeSet;
use std::ops::Range;

use serde_json::Value;

use crate::edit::{Edit, Effect};
use crate::kind::{Fields, Record, Walk};
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};

/// What a drop does to the registers that refer to the record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum OnDrop {
    /// The drop is refused.
    Refuse,
    /// The records that hold the references go too.
    Cascade,
    /// The references are cleared.
    Clear,
}

/// What the innermost record around a reference is an element of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Holder {
    Map,
    List,
}

/// A register that refers to records of a map.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Reference {
    /// The map, a field of the state.
    pub(crate) to: String,
    pub(crate) on_drop: OnDrop,
    /// Where the charter says so.
    pub(crate) span: Option<Range<usize>>,
}

/// A reference with the way to its registers: names, and `None` for any id.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Link {
    pub(crate) steps: Vec<Option<String>>,
    pub(crate) holder: Option<Holder>,
    pub(crate) reference: Reference,
}

/// Referring paths that a refusal names.
const NAMED: usize = 10;

/// Adds what a drop does to those who refer to the record, before the drop itself. Cost O(records that may refer to it).
pub(crate) fn follow_drops(
    fields: &Fields,
    root: &Record,
    links: &[Link],
    effects: Vec<Effect>,
) -> Result<Vec<Effect>, Problem> {
    let is_target = |map: &str| links.iter().any(|link| link.reference.to == map);
    let mut followed = Vec::with_capacity(effects.len());
    for effect in effects {
        let path = Path::parse(&effect.at)?;
        match path.tokens() {
            [map, id] if effect.op == "drop" && is_target(map) => {
                let mut gone = BTreeSet::from([path.clone()]);
                follow_drop(fields, root, links, (map, id), &mut gone, &mut followed)?;
            }
            _ => {}
        }
        followed.push(effect);
    }
    Ok(followed)
}

fn follow_drop(
    fields: &Fields,
    root: &Record,
    links: &[Link],
    (map, id): (&str, &str),
    gone: &mut BTreeSet<Path>,
    effects: &mut Vec<Effect>,
) -> Result<(), Problem> {
    for link in links.iter().filter(|link| link.reference.to == map) {
        let mut holders = Vec::new();
        Walk::over(fields, root, &link.steps, &mut |path, value| {
            let is_going = (0..path.len()).any(|end| gone.contains(&Path::of(path[..end].iter().cloned())));
            if value.as_str() == Some(id) && !is_going {
                holders.push(path.to_vec());
            }
        });
        match link.reference.on_drop {
            OnDrop::Refuse if holders.is_empty() => {}
            OnDrop::Refuse => {
                let paths: Vec<String> =
                    holders.iter().take(NAMED).map(|path| Path::of(path.iter().cloned()).to_string()).collect();
                let more = if holders.len() > NAMED { " …" } else { "" };
                let detail = format!(
                    "{id:?} of /{map} cannot be dropped while something refers to it: {}{more}. Change that first.",
                    paths.join(", ")
                );
                return Err(Problem::new(ProblemKind::Referenced, detail)
                    .at(Path::of([map, id]))
                    .with("referenced_by", paths));
            }
            OnDrop::Clear => effects.extend(holders.into_iter().map(|path| Edit::new(Path::of(path), "clear"))),
            OnDrop::Cascade => {
                for path in holders {
                    // The innermost record ends at the last id on the way.
                    let end = link.steps.iter().rposition(Option::is_none).map_or(0, |at| at + 1);
                    let record = Path::of(path[..end].iter().cloned());
                    if !gone.insert(record.clone()) {
                        continue;
                    }
                    if let [map, id] = record.tokens() {
                        follow_drop(fields, root, links, (map, id), gone, effects)?;
                    }
                    let op = if link.holder == Some(Holder::List) { "remove" } else { "drop" };
                    effects.push(Edit::new(record, op));
                }
            }
        }
    }
    Ok(())
}

/// Refuses references to records that are not there, among those that the effects have brought.
pub(crate) fn check_references(
    fields: &Fields,
    root: &Record,
    links: &[Link],
    effects: &[Effect],
) -> Result<(), Problem> {
    for effect in effects.iter().filter(|effect| matches!(effect.op.as_str(), "set" | "put" | "insert")) {
        let mut path = Path::parse(&effect.at)?.tokens().to_vec();
        path.extend(effect.arg("id").and_then(Value::as_str).map(str::to_owned));
        for link in links.iter().filter(|link| link.leads_through(&path)) {
            let rest = &link.steps[path.len()..];
            let steps: Vec<_> = path.iter().cloned().map(Some).chain(rest.iter().cloned()).collect();
            check_reference(fields, root, link, &steps)?;
        }
    }
    Ok(())
}

/// As [`check_references`], of everything.
pub(crate) fn check_all_references(fields: &Fields, root: &Record, links: &[Link]) -> Result<(), Problem> {
    links.iter().try_for_each(|link| check_reference(fields, root, link, &link.steps))
}

fn check_reference(fields: &Fields, root: &Record, link: &Link, steps: &[Option<String>]) -> Result<(), Problem> {
    let mut missing = None;
    Walk::over(fields, root, steps, &mut |path, value| {
        let to = value.as_str().map(|id| [link.reference.to.clone(), id.to_owned()]);
        if let Some(to) = to.filter(|to| missing.is_none() && fields.plain_at(root, to).is_none()) {
            missing = Some((Path::of(path.iter().cloned()), to));
        }
    });
    missing.map_or(Ok(()), |(at, [map, id])| {
        let detail = format!("{at} refers to {id:?}, and there is no such record in /{map}.");
        Err(Problem::new(ProblemKind::Gone, detail).at(at))
    })
}

impl Link {
    fn leads_through(&self, path: &[String]) -> bool {
        let fits = |(step, token): (&Option<String>, &String)| step.as_ref().is_none_or(|step| step == token);
        self.steps.len() >= path.len() && self.steps.iter().zip(path).all(fits)
    }
}
