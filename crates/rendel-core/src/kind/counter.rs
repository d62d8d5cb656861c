//! `counter`: a whole number to which participants add. All concurrent adds count.

use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::edit_context::stored_op;
use super::{
    Applying, Before, Declared, EditContext, InTheWay, Inverse, Kind, KindWords, Loading, Memory,
    Settlement, TakenBack, TakingBack, Was,
};
use crate::declaration::Section;
use crate::op::{EXACT, Op, whole};
use crate::patch::Patch;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::rewrite::Rewrite;
use crate::stamp::Stamp;
use crate::update::{Effect, VerdictKind};

/// A declared counter.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    initial: i64,
    min: i64,
    max: i64,
}

/// A counter's value and its last change.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Cell(i64, Stamp);

impl Field {
    fn checked(&self, at: &Path, value: Option<i64>, present: Option<i64>) -> Result<i64, Problem> {
        let fits = value.filter(|value| (self.min..=self.max).contains(value));
        fits.ok_or_else(|| {
            let problem = Problem::new(
                ProblemKind::OutOfBounds,
                format!(
                    "{at} stays from {} to {}; this would leave that range.",
                    self.min, self.max
                ),
            )
            .at(at);
            match present {
                Some(present) => problem.current(present.into()),
                None => problem,
            }
        })
    }
}

impl Kind for Field {
    type Cell = Cell;
    const WORDS: KindWords = KindWords { name: "counter", takes: &["add"], inside: &[] };
    fn is_of_play(&self) -> bool {
        false
    }

    fn declare(section: &mut Section<'_>, _declared: &Declared) -> Self {
        let min = section.integer("min", -EXACT..=EXACT).unwrap_or(-EXACT);
        let max = section.integer("max", -EXACT..=EXACT).unwrap_or(EXACT);
        if min > max {
            section.fault_at("min", "no more than `max`", None);
        }
        let initial =
            section.integer("initial", min..=max.max(min)).unwrap_or(0i64.clamp(min, max.max(min)));
        Self { initial, min, max }
    }

    fn initial(&self, stamp: Stamp) -> Cell {
        Cell(self.initial, stamp)
    }

    fn load(&self, at: &Path, plain: &Value, loading: Loading) -> Result<Cell, Problem> {
        let value = whole("value", plain).map_err(|problem| problem.at(at))?;
        loading.check(|| self.checked(at, Some(value), None).map(drop))?;
        Ok(Cell(value, loading.stamp))
    }

    fn plain(&self, cell: &Cell) -> Value {
        cell.0.into()
    }

    fn settle(
        &self,
        cell: &Cell,
        rest: &[Token],
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
        site.leaf(rest, "counter")?;
        let Op::Add { by, .. } = *site.op("A counter", Self::WORDS.takes)? else {
            return Err(site.unknown_op("A counter", Self::WORDS.takes));
        };
        let now = self.checked(site.path, cell.0.checked_add(by), Some(cell.0))?;
        let mut settlement = site.applied(Op::Add { by, now: Some(now) });
        if site.is_concurrent(cell.1) {
            settlement.verdict =
                site.verdict(VerdictKind::Merged, vec![cell.1.seq], "Both additions count.");
        }
        Ok(settlement)
    }

    fn apply(
        &self,
        cell: &mut Cell,
        _rest: &[Token],
        effect: &Effect,
        applying: &mut Applying<'_>,
    ) -> Result<(), String> {
        let Op::Add { now: Some(now), .. } = effect.op else { return Err(stored_op(effect)) };
        applying.grow_to(&cell.0.into(), &now.into());
        *cell = Cell(now, applying.stamp);
        Ok(())
    }

    fn patch(
        &self,
        _cell: &Cell,
        _rest: &[Token],
        effect: &Effect,
        patch: &mut Patch,
    ) -> Option<()> {
        let Op::Add { now, .. } = effect.op else { return None };
        patch.replace(now?.into());
        Some(())
    }

    fn rewrite(&self, was: &Value, now: &Value, rewrite: &mut Rewrite) -> Result<(), Problem> {
        let path = rewrite.path();
        let number = |value| whole("value", value).map_err(|problem| problem.at(&path));
        let by = number(now)? - number(was)?;
        if by != 0 {
            rewrite.push(rewrite.edit("add").with("by", by));
        }
        Ok(())
    }

    fn before(&self, _cell: &Cell, _rest: &[Token], effect: &Effect, _memory: &Memory) -> Before {
        let Op::Add { by, .. } = effect.op else { return Before::Nothing };
        Before::here(Was::Number(by))
    }

    fn take_back(&self, cell: &Cell, _rest: &[Token], taking: &TakingBack<'_>) -> TakenBack {
        let taken = taking.taken;
        let Was::Number(by @ ..=-1 | by @ 1..) = taken.was else { return Ok(Inverse::default()) };
        let now = cell.0.checked_sub(by).filter(|now| (self.min..=self.max).contains(now));
        let because = "has brought it to where it would leave its range";
        let now = now.ok_or(InTheWay { update: Some(cell.1.seq), because })?;
        Ok(Effect::new(&taken.at, Op::Add { by: -by, now: Some(now) }).into())
    }

    fn latest(&self, cell: &Cell, _rest: &[Token]) -> u64 {
        cell.1.seq
    }

    fn is_small(&self) -> bool {
        true
    }

    fn met(&self, cell: &Cell, site: &EditContext<'_>, met: &mut Vec<u64>) {
        met.extend(site.is_concurrent(cell.1).then_some(cell.1.seq));
    }
}
