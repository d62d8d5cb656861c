//! References: registers that hold the id of a record of a map, and what happens to them when the
//! record is dropped.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use crate::edit::Effect;
use crate::kind::{Fields, Record, Site, Walk};
use crate::op::Op;
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

/// Records that one drop may take along.
const MOST: usize = 10_000;

/// What drops do to those who refer to the records.
#[derive(Debug, Default)]
pub(crate) struct Followed {
    /// The effects, each drop after what it does to others.
    pub(crate) effects: Vec<Effect>,
    /// The updates unseen by the proposer that set references which are gone now.
    pub(crate) met: Vec<u64>,
}

/// Adds what the drops among some effects do to those who refer to the records. Cost O(records that
/// may refer to them), and nothing where no drop is of such a record.
pub(crate) fn follow_drops(
    fields: &Fields,
    root: &Record,
    links: &[Link],
    effects: Vec<Effect>,
    site: &Site<'_>,
) -> Result<Followed, Problem> {
    if links.is_empty() {
        return Ok(Followed { effects, met: Vec::new() });
    }
    let is_target = |map: &str| links.iter().any(|link| link.reference.to == map);
    let mut followed = Followed::default();
    for effect in effects {
        if let [map, id] = effect.at.tokens()
            && effect.op == Op::Drop
            && is_target(map)
        {
            follow_drop(fields, root, links, (map, id), site, &mut followed)?;
        }
        followed.effects.push(effect);
    }
    Ok(followed)
}

/// The registers that refer to a record, with the links that lead to them.
type Referring<'l> = BTreeMap<(String, String), Vec<(&'l Link, Vec<String>)>>;

fn referring<'l>(fields: &Fields, root: &Record, links: &'l [Link]) -> Referring<'l> {
    let mut referring = Referring::new();
    for link in links {
        Walk::over(fields, root, &link.steps, &mut |path, value| {
            if let Some(id) = value.as_str() {
                let of = (link.reference.to.clone(), id.to_owned());
                referring.entry(of).or_default().push((link, path.to_vec()));
            }
        });
    }
    referring
}

fn follow_drop(
    fields: &Fields,
    root: &Record,
    links: &[Link],
    (map, id): (&str, &str),
    site: &Site<'_>,
    followed: &mut Followed,
) -> Result<(), Problem> {
    let referring = referring(fields, root, links);
    let mut going = BTreeSet::from([Path::of([map, id])]);
    let mut dropped = vec![(map.to_owned(), id.to_owned())];
    let (mut drops, mut clears, mut in_the_way) = (Vec::new(), Vec::new(), Vec::new());
    let mut next = 0;
    while let Some(record) = dropped.get(next) {
        next += 1;
        for (link, path) in referring.get(record).into_iter().flatten() {
            match link.reference.on_drop {
                OnDrop::Refuse => in_the_way.push(path),
                OnDrop::Clear => clears.push(path),
                OnDrop::Cascade => {
                    // The innermost record ends at the last id on the way.
                    let end = link.steps.iter().rposition(Option::is_none).map_or(0, |at| at + 1);
                    let record = Path::of(path[..end].iter().cloned());
                    if going.insert(record.clone()) {
                        if let [map, id] = record.tokens() {
                            dropped.push((map.clone(), id.clone()));
                        }
                        let op =
                            if link.holder == Some(Holder::List) { Op::Remove } else { Op::Drop };
                        drops.push((path, Effect::new(record, op)));
                    }
                }
            }
        }
    }
    let is_going = |path: &[String]| {
        (1..path.len()).any(|end| going.contains(&Path::of(path[..end].iter().cloned())))
    };
    // What lies in a record that goes, goes with it.
    drops.retain(|(_, effect)| !is_going(effect.at.tokens()));
    in_the_way.retain(|path| !is_going(path));
    if !in_the_way.is_empty() {
        return Err(referenced(map, id, &in_the_way));
    }
    if drops.len() > MOST {
        let detail = format!(
            "It would take {} records along, and a drop takes at most {MOST}. Drop some first.",
            drops.len()
        );
        return Err(Problem::new(ProblemKind::TooLarge, detail).at(Path::of([map, id])));
    }
    clears.retain(|path| !is_going(path));
    for path in clears.iter().chain(drops.iter().map(|(path, _)| path)) {
        if let Some((field, cell)) = fields.find(root, path) {
            field.met(cell, site, &mut followed.met);
        }
    }
    followed.effects.extend(
        clears.into_iter().map(|path| Effect::new(Path::of(path.iter().cloned()), Op::Clear)),
    );
    followed.effects.extend(drops.into_iter().rev().map(|(_, effect)| effect));
    Ok(())
}

fn referenced(map: &str, id: &str, in_the_way: &[&Vec<String>]) -> Problem {
    let paths =
        in_the_way.iter().take(NAMED).map(|path| Path::of(path.iter().cloned()).to_string());
    let paths: Vec<String> = paths.collect();
    let more = if in_the_way.len() > NAMED { " …" } else { "" };
    let detail = format!(
        "{id:?} of /{map} cannot be dropped while something refers to it: {}{more}. Change that \
         first.",
        paths.join(", ")
    );
    Problem::new(ProblemKind::Referenced, detail)
        .at(Path::of([map, id]))
        .with("referenced_by", paths)
}

/// Refuses references to records that are not there, among those that the effects have brought.
pub(crate) fn check_references(
    fields: &Fields,
    root: &Record,
    links: &[Link],
    effects: &[Effect],
) -> Result<(), Problem> {
    if links.is_empty() {
        return Ok(());
    }
    for effect in effects.iter().filter(|effect| brings_values(&effect.op)) {
        let mut path = effect.at.tokens().to_vec();
        path.extend(effect.op.makes().and_then(|(id, _)| id).map(str::to_owned));
        for link in links.iter().filter(|link| link.leads_through(&path)) {
            let rest = &link.steps[path.len()..];
            let steps: Vec<_> =
                path.iter().cloned().map(Some).chain(rest.iter().cloned()).collect();
            check_reference(fields, root, link, &steps)?;
        }
    }
    Ok(())
}

/// Whether there may be a reference among what it brings.
fn brings_values(op: &Op) -> bool {
    match op {
        Op::Set(_)
        | Op::SetBeside { .. }
        | Op::Put { .. }
        | Op::Revive { .. }
        | Op::Insert { .. } => true,
        Op::Clear
        | Op::Add { .. }
        | Op::Include(_)
        | Op::Exclude(_)
        | Op::Drop
        | Op::Move { .. }
        | Op::Remove
        | Op::Splice { .. }
        | Op::Reset(_)
        | Op::Test(_)
        | Op::Unknown { .. } => false,
    }
}

/// As [`check_references`], of everything.
pub(crate) fn check_all_references(
    fields: &Fields,
    root: &Record,
    links: &[Link],
) -> Result<(), Problem> {
    links.iter().try_for_each(|link| check_reference(fields, root, link, &link.steps))
}

fn check_reference(
    fields: &Fields,
    root: &Record,
    link: &Link,
    steps: &[Option<String>],
) -> Result<(), Problem> {
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
        let fits = |(step, token): (&Option<String>, &String)| {
            step.as_ref().is_none_or(|step| step == token)
        };
        self.steps.len() >= path.len() && self.steps.iter().zip(path).all(fits)
    }
}
