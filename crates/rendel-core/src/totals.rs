//! Totals: what the records of a map or list come to, kept up to date with each change.
//!
//! Numbers are added as the decimals that they are written as, so that 0.1 and 0.2 make 0.3, and
//! taking one away again leaves nothing behind, in whatever order. Cost of a change: O(log records)
//! for each total that it touches, O(groups) for shares; of a whole state O(records).

use std::collections::BTreeMap;

use bigdecimal::BigDecimal;
use imbl::OrdMap;
use serde_json::Value;

use crate::charter::{Expression, Pattern};
use crate::decimal::{decimal, number, shares};
use crate::kind::{Fields, Record, Walk};
use crate::op::Op;
use crate::path::{Path, Token, inner};
use crate::problem::{Problem, ProblemKind};
use crate::scope::Scope;
use crate::update::{Change, Effect};

/// A declared total.
#[derive(Clone, Debug)]
pub(crate) struct Total {
    /// The field.
    pub(crate) at: Path,
    /// The records that count, with `*` for their ids.
    pub(crate) from: Pattern,
    pub(crate) measure: Measure,
    /// Of each record; none where only how many they are counts.
    pub(crate) of: Option<String>,
    /// Which records count, and the line of the charter that says so.
    pub(crate) condition: Option<(Expression, usize)>,
    /// The register by whose value they are grouped.
    pub(crate) by: Option<String>,
}

/// What records are put together to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Measure {
    Count,
    Sum,
    Mean,
    Min,
    Max,
    /// Percent of the whole, which add up to 100.0.
    Share,
}

impl Measure {
    /// All of them with their names.
    pub(crate) const ALL: [(&'static str, Self); 6] = [
        ("count", Self::Count),
        ("sum", Self::Sum),
        ("mean", Self::Mean),
        ("min", Self::Min),
        ("max", Self::Max),
        ("share", Self::Share),
    ];
}

/// Groups of one total.
const MOST_GROUPS: usize = 1_000;

/// What all totals of a state come to. Clones share everything.
#[derive(Clone, Debug, Default)]
pub(crate) struct Totals(Vec<OrdMap<String, Sum>>);

/// What the records of one group come to.
#[derive(Clone, Debug, Default, PartialEq)]
struct Sum {
    /// The records, also those without a number.
    records: u64,
    /// Those with one.
    numbers: u64,
    sum: BigDecimal,
    /// How often each number occurs; only where the least or greatest is asked for.
    each: OrdMap<BigDecimal, u64>,
}

impl Total {
    /// What a record counts for: its group and its number; nothing where it does not count.
    fn part(
        &self,
        fields: &Fields,
        root: &Record,
        record: &[Token],
    ) -> Option<(String, Option<BigDecimal>)> {
        let plain = |member: &str| {
            let mut path = record.to_vec();
            path.push(member.into());
            fields.plain_at(root, &path)
        };
        let scope = Scope::of_record((fields, root), record);
        if let Some((condition, _)) = &self.condition
            && !condition.holds(|read| scope.read(read)).unwrap_or(false)
        {
            return None;
        }
        let group = match &self.by {
            None => String::new(),
            Some(by) => group_name(&plain(by)?)?,
        };
        let number = self.of.as_ref().and_then(|of| decimal(&plain(of)?));
        Some((group, number))
    }

    fn value(&self, sum: &Sum) -> Value {
        match self.measure {
            Measure::Count => sum.records.into(),
            Measure::Sum => number(&sum.sum),
            Measure::Mean if sum.numbers == 0 => Value::Null,
            Measure::Mean => number(&(&sum.sum / BigDecimal::from(sum.numbers))),
            Measure::Min => sum.each.get_min().map_or(Value::Null, |(least, _)| number(least)),
            Measure::Max => sum.each.get_max().map_or(Value::Null, |(most, _)| number(most)),
            // Of all groups together.
            Measure::Share => Value::Null,
        }
    }

    /// What it is, by group; without groups under no name.
    fn shown(&self, sums: &OrdMap<String, Sum>) -> BTreeMap<String, Value> {
        if self.measure == Measure::Share {
            let weights = sums.iter().map(|(group, sum)| {
                let of = if self.of.is_some() { sum.sum.clone() } else { sum.records.into() };
                (group.clone(), of)
            });
            return shares(weights.collect());
        }
        let mut shown: BTreeMap<String, Value> =
            sums.iter().map(|(group, sum)| (group.clone(), self.value(sum))).collect();
        if self.by.is_none() {
            shown.entry(String::new()).or_insert_with(|| self.value(&Sum::default()));
        }
        shown
    }
}

/// The name of the group of a value; none for `null`, lists and objects.
fn group_name(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Number(_) | Value::Bool(_) => Some(value.to_string()),
        Value::Null | Value::Array(_) | Value::Object(_) => None,
    }
}

impl Sum {
    fn note(&mut self, number: Option<BigDecimal>, keeps_each: bool, is_there: bool) {
        let step =
            |count: &mut u64| *count = if is_there { *count + 1 } else { count.saturating_sub(1) };
        step(&mut self.records);
        let Some(number) = number else { return };
        step(&mut self.numbers);
        if keeps_each {
            let count = self.each.entry(number.clone()).or_default();
            step(count);
            if *count == 0 {
                self.each.remove(&number);
            }
        }
        let sum = std::mem::take(&mut self.sum);
        self.sum = if is_there { sum + number } else { sum - number };
    }
}

impl Totals {
    /// Of a whole state.
    pub(crate) fn of(fields: &Fields, root: &Record, totals: &[Total]) -> Self {
        let mut all = Self(vec![OrdMap::new(); totals.len()]);
        for (index, total) in totals.iter().enumerate() {
            if let Some(steps) = total.from.tokens() {
                all.note(fields, root, (index, total), &steps, true);
            }
        }
        all
    }

    /// Takes out what a change will take away or replace; to be told before it is applied.
    pub(crate) fn handle_going(
        &mut self,
        fields: &Fields,
        root: &Record,
        totals: &[Total],
        change: &Change,
    ) {
        if let Change::Went(path) | Change::Changed(path) = change {
            self.follow(fields, root, totals, path, false);
        }
    }

    /// Takes in what a change has brought; to be told once it is applied.
    pub(crate) fn handle_came(
        &mut self,
        fields: &Fields,
        root: &Record,
        totals: &[Total],
        change: &Change,
    ) {
        match change {
            Change::Reset => *self = Self::of(fields, root, totals),
            Change::Came(path) | Change::Changed(path) => {
                self.follow(fields, root, totals, path, true);
            }
            Change::Went(_) => {}
        }
    }

    fn follow(
        &mut self,
        fields: &Fields,
        root: &Record,
        totals: &[Total],
        path: &Path,
        is_there: bool,
    ) {
        let tokens = path.tokens();
        for (index, total) in totals.iter().enumerate() {
            let Some(mut steps) = total.from.tokens() else { continue };
            let fits = |(step, token): (&Option<Token>, &Token)| {
                step.as_ref().is_none_or(|step| step == token)
            };
            if !steps.iter().zip(tokens).all(fits) || self.is_aside(total, tokens, steps.len()) {
                continue;
            }
            for (step, token) in steps.iter_mut().zip(tokens) {
                *step = Some(token.clone());
            }
            self.note(fields, root, (index, total), &steps, is_there);
        }
    }

    /// Whether a field of a record has changed that its total does not ask for.
    fn is_aside(&self, total: &Total, tokens: &[Token], record: usize) -> bool {
        let Some(field) = tokens.get(record) else { return false };
        let reads = |name: &str| {
            let condition = total.condition.iter().flat_map(|(condition, _)| condition.reads());
            total.of.as_deref() == Some(name)
                || total.by.as_deref() == Some(name)
                || condition.into_iter().any(|read| read.member.as_deref() == Some(name))
        };
        !reads(field)
    }

    fn note(
        &mut self,
        fields: &Fields,
        root: &Record,
        (index, total): (usize, &Total),
        steps: &[Option<Token>],
        is_there: bool,
    ) {
        let keeps_each = matches!(total.measure, Measure::Min | Measure::Max);
        let sums = &mut self.0[index];
        Walk::over(fields, root, steps, &mut |record, _| {
            let Some((group, number)) = total.part(fields, root, record) else { return };
            let sum = sums.entry(group.clone()).or_default();
            sum.note(number, keeps_each, is_there);
            if sum.records == 0 {
                sums.remove(&group);
            }
        });
    }

    /// What has to be told so that a state has its totals right. Refused where a total would have
    /// too many groups.
    pub(crate) fn outstanding(
        &self,
        fields: &Fields,
        root: &Record,
        totals: &[Total],
        was: &Self,
    ) -> Result<Vec<Effect>, Problem> {
        let mut effects = Vec::new();
        for (index, total) in totals.iter().enumerate() {
            let sums = &self.0[index];
            if was.0.get(index).is_some_and(|was| was.ptr_eq(sums)) {
                continue;
            }
            if sums.len() > MOST_GROUPS {
                let detail = format!(
                    "{} would have more than {MOST_GROUPS} groups. Group by a field with fewer \
                     values.",
                    total.at
                );
                let problem = Problem::new(ProblemKind::Full, detail).at(&total.at);
                return Err(problem.with("limit", "groups"));
            }
            if total.by.is_none() {
                let now = total.shown(sums).into_values().next().unwrap_or_default();
                if fields.plain_at(root, total.at.tokens()).as_ref() != Some(&now) {
                    effects.push(Effect::new(&total.at, Op::Set(now.into())));
                }
                continue;
            }
            let groups = self.changed_groups(total, index, was);
            for (group, now) in groups {
                let at = inner(&total.at, &group);
                let was = fields.plain_at(root, at.tokens());
                match now {
                    Some(now) if was.as_ref() != Some(&now) => {
                        effects.push(Effect::new(&at, Op::Set(now.into())));
                    }
                    None if was.is_some() => effects.push(Effect::new(&at, Op::Drop)),
                    _ => {}
                }
            }
        }
        Ok(effects)
    }

    /// The groups that may have another value, with what that is; none for those that are no more.
    fn changed_groups(
        &self,
        total: &Total,
        index: usize,
        was: &Self,
    ) -> Vec<(String, Option<Value>)> {
        let (sums, empty) = (&self.0[index], OrdMap::new());
        let before = was.0.get(index).unwrap_or(&empty);
        let gone = before.keys().filter(|group| !sums.contains_key(*group));
        if total.measure == Measure::Share {
            let shown = total.shown(sums).into_iter().map(|(group, now)| (group, Some(now)));
            return shown.chain(gone.map(|group| (group.clone(), None))).collect();
        }
        // Only what differs is looked at.
        let changed = before.diff(sums).map(|item| match item {
            imbl::ordmap::DiffItem::Add(group, sum) => (group.clone(), Some(total.value(sum))),
            imbl::ordmap::DiffItem::Update { new: (group, sum), .. } => {
                (group.clone(), Some(total.value(sum)))
            }
            imbl::ordmap::DiffItem::Remove(group, _) => (group.clone(), None),
        });
        changed.collect()
    }
}
