//! References: registers that hold the id of a record of a map, and what happens to them when the
//! record is dropped.

use std::collections::BTreeSet;

use imbl::{OrdMap, OrdSet};

use crate::kind::{EditContext, Fields, Holder, Link, OnDrop, Record, Walk};
use crate::op::Op;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::update::{Change, Effect, Effects};

/// Referring paths that a refusal names.
const NAMED: usize = 10;

/// Records that one drop may cascade to.
const MOST: usize = 10_000;

/// What drops do to those who refer to the records.
#[derive(Debug, Default)]
pub(crate) struct Followed {
    /// The effects, each drop after what it does to others.
    pub(crate) effects: Effects,
    /// The updates unseen by the proposer that set references which are gone now.
    pub(crate) met: Vec<u64>,
}

/// Adds what the drops among some effects do to those who refer to the records. Cost O(those that
/// do × log size), and nothing where no drop is of such a record.
pub(crate) fn follow_drops(
    fields: &Fields,
    root: &Record,
    links: &[Link],
    referrers: &Referrers,
    effects: Effects,
    site: &EditContext<'_>,
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
            follow_drop(fields, root, links, referrers, (map, id), site, &mut followed)?;
        }
        followed.effects.push(effect);
    }
    Ok(followed)
}

/// A register, with the index of its link.
type Referrer = (Path, usize);

/// Who refers to which record, kept up with each change: a drop asks this and walks through
/// nothing. Clones share everything.
#[derive(Clone, Debug, Default)]
pub(crate) struct Referrers {
    by_record: OrdMap<Path, OrdSet<Referrer>>,
}

impl Referrers {
    /// Of a whole state. Cost O(what the links lead through).
    pub(crate) fn of(fields: &Fields, root: &Record, links: &[Link]) -> Self {
        let mut referrers = Self::default();
        for (index, link) in links.iter().enumerate() {
            referrers.walk(fields, root, (index, link), &link.steps, true);
        }
        referrers
    }

    /// Takes out what a change will take away or replace; to be called before it is applied.
    pub(crate) fn handle_going(
        &mut self,
        fields: &Fields,
        root: &Record,
        links: &[Link],
        change: &Change,
    ) {
        match change {
            Change::Reset => *self = Self::default(),
            Change::Went(path) | Change::Changed(path) => {
                self.follow(fields, root, links, path, false);
            }
            Change::Came(_) => {}
        }
    }

    /// Takes in what a change has brought; to be called once it is applied.
    pub(crate) fn handle_came(
        &mut self,
        fields: &Fields,
        root: &Record,
        links: &[Link],
        change: &Change,
    ) {
        match change {
            Change::Reset => *self = Self::of(fields, root, links),
            Change::Came(path) | Change::Changed(path) => {
                self.follow(fields, root, links, path, true);
            }
            Change::Went(_) => {}
        }
    }

    fn follow(
        &mut self,
        fields: &Fields,
        root: &Record,
        links: &[Link],
        path: &Path,
        is_there: bool,
    ) {
        for (index, link) in links.iter().enumerate() {
            if let Some(steps) = link.steps_through(path.tokens()) {
                self.walk(fields, root, (index, link), &steps, is_there);
            }
        }
    }

    fn walk(
        &mut self,
        fields: &Fields,
        root: &Record,
        (index, link): (usize, &Link),
        steps: &[Option<Token>],
        is_there: bool,
    ) {
        Walk::over(fields, root, steps, &mut |path, value| {
            let Some(id) = value.as_str() else { return };
            let record = Path::of([link.reference.to.as_str(), id]);
            let referrer = (Path::of(path.iter().cloned()), index);
            if is_there {
                self.by_record.entry(record).or_default().insert(referrer);
            } else if let Some(referrers) = self.by_record.get_mut(&record) {
                referrers.remove(&referrer);
                if referrers.is_empty() {
                    self.by_record.remove(&record);
                }
            }
        });
    }

    /// Whether anything refers to a record.
    pub(crate) fn has(&self, record: &Path) -> bool {
        self.by_record.contains_key(record)
    }

    fn of_record(&self, record: &Path) -> impl Iterator<Item = &Referrer> {
        self.by_record.get(record).into_iter().flatten()
    }
}

fn follow_drop(
    fields: &Fields,
    root: &Record,
    links: &[Link],
    referrers: &Referrers,
    (map, id): (&str, &str),
    site: &EditContext<'_>,
    followed: &mut Followed,
) -> Result<(), Problem> {
    let mut going = BTreeSet::from([vec![Token::from(map), id.into()]]);
    let mut dropped = vec![Path::of([map, id])];
    let (mut drops, mut clears, mut in_the_way) = (Vec::new(), Vec::new(), Vec::new());
    let mut next = 0;
    while let Some(record) = dropped.get(next).cloned() {
        next += 1;
        for (path, link) in referrers.of_record(&record) {
            let link = &links[*link];
            match link.reference.on_drop {
                OnDrop::Refuse => in_the_way.push(path),
                OnDrop::Clear => clears.push(path),
                OnDrop::Cascade => {
                    let holder = &path.tokens()[..link.holder_len()];
                    if going.insert(holder.to_vec()) {
                        let holder = Path::of(holder.iter().cloned());
                        let is_element = link.holder == Some(Holder::List);
                        let op = if is_element { Op::Remove } else { Op::Drop };
                        drops.push((path, Effect::new(&holder, op)));
                        // What is dropped may be referred to itself.
                        dropped.extend((holder.tokens().len() == 2).then_some(holder));
                    }
                }
            }
        }
    }
    let is_going = |path: &Path| {
        let tokens = path.tokens();
        (1..tokens.len()).any(|end| going.contains(&tokens[..end]))
    };
    // What lies in a record that goes, goes with it.
    drops.retain(|(_, effect)| !is_going(&effect.at));
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
        if let Some((field, cell)) = fields.find(root, path.tokens()) {
            field.met(cell, site, &mut followed.met);
        }
    }
    let clears = clears.into_iter();
    followed.effects.extend(clears.map(|path| Effect::new(path, Op::Clear)));
    followed.effects.extend(drops.into_iter().rev().map(|(_, effect)| effect));
    Ok(())
}

fn referenced(map: &str, id: &str, in_the_way: &[&Path]) -> Problem {
    let paths = in_the_way.iter().take(NAMED).map(ToString::to_string);
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
    for change in effects.iter().map(Effect::change) {
        let (Change::Came(path) | Change::Changed(path)) = change else { continue };
        for link in links {
            if let Some(steps) = link.steps_through(path.tokens()) {
                check_reference(fields, root, link, &steps)?;
            }
        }
    }
    Ok(())
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
    steps: &[Option<Token>],
) -> Result<(), Problem> {
    let mut missing = None;
    Walk::over(fields, root, steps, &mut |path, value| {
        let to = value.as_str().map(|id| [Token::from(&link.reference.to), id.into()]);
        if let Some(to) = to.filter(|to| missing.is_none() && fields.plain_at(root, to).is_none()) {
            missing = Some((Path::of(path.iter().cloned()), to));
        }
    });
    missing.map_or(Ok(()), |(at, [map, id])| {
        let detail = format!("{at} refers to {id:?}, and there is no such record in /{map}.");
        Err(Problem::new(ProblemKind::Gone, detail).at(at))
    })
}
