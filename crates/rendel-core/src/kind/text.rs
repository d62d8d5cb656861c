//! `text`: characters that are spliced.
//!
//! A splice made against `seen` is read in its client's own view and takes effect in present
//! positions: an insert stays at the characters it was typed between, runs typed at one place do
//! not interleave, deletes of the same characters count once, and an insert inside text that
//! another deletes survives. Positions count Unicode scalar values.

use std::sync::Arc;

use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::changes::Changes;
use super::edit_context::stored_op;
use super::memory::CHANGE;
use super::{
    Applying, Before, Declared, EditContext, InTheWay, Inverse, Kind, KindWords, Loading, Memory,
    Settlement, TakenBack, TakingBack, Was, listed,
};
use crate::declaration::Section;
use crate::op::{Made, Op, Splicing};
use crate::patch::Patch;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::rewrite::Rewrite;
use crate::sequence::{Anchored, Returned, SettledSplice, Splice, TextPart, VersionedText, View};
use crate::stamp::Stamp;
use crate::update::{Effect, Verdict, VerdictKind};

/// A declared text.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    initial: String,
    most: usize,
}

/// The characters, and the order in which they came and went. Behind one pointer, since a record
/// may have many texts.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub(crate) struct Cell(Arc<Inner>);

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
struct Inner {
    #[serde(flatten)]
    text: VersionedText,
    changes: Changes,
}

/// A text of this many characters is as long as one can be.
const MOST: usize = 1_000_000;

impl Field {
    fn has_space(&self, at: &Path, chars: usize) -> Result<(), Problem> {
        if chars <= self.most {
            return Ok(());
        }
        let detail =
            format!("{at} has at most {} characters; this would make it {chars}.", self.most);
        Err(Problem::new(ProblemKind::Full, detail).at(at).with("limit", "most"))
    }

    fn concurrent(
        &self,
        cell: &Inner,
        site: &EditContext<'_>,
        splice: Splice<'_>,
    ) -> Result<Settlement, Problem> {
        let view = View { seen: site.seen, client: site.client };
        let horizon = site.memory.horizon().max(cell.text.floor());
        if site.seen < horizon {
            let detail = format!(
                "{} changed so often that a splice made against {} cannot be placed any more; \
                 make it against {horizon} or later.",
                site.path, site.seen,
            );
            return Err(Problem::new(ProblemKind::TooOld, detail).at(site.path));
        }
        check_bounds(site, splice, cell.text.len(view))?;
        let Some(settled) = cell.text.settle(view, splice) else {
            return Err(Problem::new(ProblemKind::Unavailable, "The text's own order is damaged.")
                .at(site.path));
        };
        // What `made` says is how the proposer saw it; a restart places it by that once more,
        // replicas need not look.
        let effect = |part: &TextPart<'_>| {
            let place = (part.viewed.index, part.viewed.delete);
            let made = Some(Made { seen: site.seen, place });
            Effect::new(site.path, Op::Splice { splice: splicing(part.present), made, back: None })
        };
        let effects = settled.parts.iter().map(effect).collect();
        Ok(Settlement { effects, verdict: verdict(cell, site, splice, &settled) })
    }
}

fn verdict(
    cell: &Inner,
    site: &EditContext<'_>,
    splice: Splice<'_>,
    settled: &SettledSplice<'_>,
) -> Verdict {
    let SettledSplice { place, cut, .. } = settled;
    let removed: usize = cut.parts.iter().map(|part| part.present.len()).sum();
    let is_whole = removed == splice.delete;
    if !is_whole && removed == 0 && splice.insert.is_empty() {
        let because = format!(
            "{} had deleted the same characters already; both count as one.",
            capital(&listed(&cut.met))
        );
        return site.verdict(VerdictKind::Merged, cut.met.clone(), because);
    }
    if !is_whole {
        let because = format!(
            "{} had deleted some of the same characters; those count once.",
            capital(&listed(&cut.met))
        );
        return site.verdict(VerdictKind::Merged, cut.met.clone(), because);
    }
    let view = View { seen: site.seen, client: site.client };
    let around =
        if splice.delete == 0 { cell.text.deleted_around(view, splice.index) } else { None };
    if let Some(met) = around {
        let because = format!("It stays, though {} deleted the text around it.", listed(&met));
        return site.verdict(VerdictKind::Rebased, met, because);
    }
    let is_moved = *place != splice.index || cut.parts.len() > 1;
    let is_moved =
        is_moved || cut.parts.first().is_some_and(|part| part.present.start != splice.index);
    if !is_moved {
        return site.applied_verdict();
    }
    let met = cell.changes.concurrent(site);
    let because = if *place == splice.index {
        format!(
            "It stays at the characters it was made at, among which {} put others.",
            listed(&met)
        )
    } else {
        let moved = format!("{} moved from {} to {place}", listed(&met), splice.index);
        format!("It stays at the characters it was made at, which {moved}.")
    };
    site.verdict(VerdictKind::Rebased, met, because)
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}

fn check_bounds(site: &EditContext<'_>, splice: Splice<'_>, len: usize) -> Result<(), Problem> {
    match splice.index.checked_add(splice.delete) {
        Some(end) if end <= len => Ok(()),
        _ => {
            let detail = format!(
                "{} had {len} characters as the proposer saw it at {}; a splice of {} from {} on \
                 ends beyond them. Positions count Unicode scalar values.",
                site.path, site.seen, splice.delete, splice.index
            );
            Err(Problem::new(ProblemKind::OutOfBounds, detail).at(site.path).with("length", len))
        }
    }
}

fn splicing(splice: Splice<'_>) -> Splicing {
    Splicing { index: splice.index, delete: splice.delete, insert: splice.insert.to_owned() }
}

impl Splicing {
    fn as_splice(&self) -> Splice<'_> {
        Splice { index: self.index, delete: self.delete, insert: &self.insert }
    }
}

impl Kind for Field {
    type Cell = Cell;
    const WORDS: KindWords = KindWords { name: "text", takes: &["splice"], inside: &[] };
    fn is_of_play(&self) -> bool {
        false
    }

    fn declare(section: &mut Section<'_>, _declared: &Declared) -> Self {
        let most = section.number("most", 1..=MOST as i64, MOST);
        let initial = section.json("initial").map(|initial| initial.as_str().map(str::to_owned));
        let fits = |initial: &String| initial.chars().count() <= most;
        if initial.as_ref().is_some_and(|initial| !initial.as_ref().is_some_and(fits)) {
            section.fault_at("initial", "a string of no more characters than `most`", None);
        }
        Self { initial: initial.flatten().unwrap_or_default(), most }
    }

    fn initial(&self, stamp: Stamp) -> Cell {
        Cell::new(&self.initial, stamp)
    }

    fn load(&self, at: &Path, plain: &Value, loading: Loading) -> Result<Cell, Problem> {
        let Value::String(text) = plain else {
            return Err(
                Problem::new(ProblemKind::WrongType, format!("{at} is a text: a string.")).at(at)
            );
        };
        loading.check(|| self.has_space(at, text.chars().count()))?;
        Ok(Cell::new(text, loading.stamp))
    }

    fn plain(&self, cell: &Cell) -> Value {
        cell.0.text.to_string().into()
    }

    fn settle(
        &self,
        cell: &Cell,
        rest: &[Token],
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
        site.leaf(rest, "text")?;
        let Op::Splice { splice, .. } = site.op("A text", Self::WORDS.takes)? else {
            return Err(site.unknown_op("A text", Self::WORDS.takes));
        };
        let (cell, splice) = (&*cell.0, splice.as_splice());
        site.is_on_firm_ground()?;
        if cell.changes.is_made_anew(site) {
            return Err(site.came_back(site.path));
        }
        let len = cell.text.len(View::PRESENT);
        let settlement = if cell.changes.has_concurrent(site) {
            self.concurrent(cell, site, splice)?
        } else {
            check_bounds(site, splice, len)?;
            site.applied(Op::Splice { splice: splicing(splice), made: None, back: None })
        };
        if !splice.insert.is_empty() {
            let removed = |effect: &Effect| {
                if let Op::Splice { splice, .. } = &effect.op { splice.delete } else { 0 }
            };
            let removed: usize = settlement.effects.iter().map(removed).sum();
            let chars = len + splice.insert.chars().count() - removed;
            if chars > len {
                self.has_space(site.path, chars)?;
            }
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
        let Op::Splice { splice, made, back } = &effect.op else { return Err(stored_op(effect)) };
        if let Some(back) = back {
            if !back.is_empty() {
                let (cell, stamp) = (Arc::make_mut(&mut cell.0), applying.stamp);
                let (growth, runs) = cell.text.take_back(|stamp| is_of(back, stamp), stamp);
                applying.growth += growth;
                applying.memory.count(&effect.at, stamp.seq, 1 + runs);
                cell.changes.add(stamp);
            }
            return Ok(());
        }
        let splice = splice.as_splice();
        let (view, viewed) = match *made {
            None => (View::PRESENT, splice),
            Some(Made { seen, place: (index, delete) }) => {
                let view = View { seen, client: applying.stamp.client };
                (view, Splice { index, delete, ..splice })
            }
        };
        let cell = Arc::make_mut(&mut cell.0);
        let stamp = applying.stamp;
        let grown = cell.text.apply(splice, view, viewed, stamp);
        applying.growth += grown.ok_or("it reaches beyond the text")?;
        // What is deleted is remembered by its characters.
        applying.memory.count(&effect.at, stamp.seq, 1 + splice.delete / CHANGE);
        cell.changes.add(stamp);
        Ok(())
    }

    fn patch(
        &self,
        cell: &Cell,
        _rest: &[Token],
        effect: &Effect,
        patch: &mut Patch,
    ) -> Option<()> {
        let Op::Splice { splice, back, .. } = &effect.op else { return None };
        match back {
            // The first tells of all of it.
            Some(back) if back.is_empty() => {}
            Some(back) => {
                let mut text = cell.0.text.clone();
                text.take_back(|stamp| is_of(back, stamp), Stamp::OPENING);
                patch.replace(text.to_string().into());
            }
            None if splice.delete == 0 && splice.insert.is_empty() => {}
            None => patch.replace(cell.0.text.spliced(splice.as_splice())?.into()),
        }
        Some(())
    }

    fn before(&self, _cell: &Cell, _rest: &[Token], _effect: &Effect, _memory: &Memory) -> Before {
        Before::here(Was::Text)
    }

    fn take_back(&self, cell: &Cell, _rest: &[Token], taking: &TakingBack<'_>) -> TakenBack {
        let (cell, taken) = (&*cell.0, taking.taken);
        let back: Vec<u64> = taking.updates.to_vec();
        let Some((splices, stay)) = cell.text.taken_back(|stamp| is_of(&back, stamp)) else {
            return Ok(Inverse::default());
        };
        let because = "has deleted the same characters";
        let stays = stay.into_iter().max().map(|seq| InTheWay { update: Some(seq), because });
        let grown: usize = splices.iter().map(|splice| splice.insert.chars().count()).sum();
        let deleted: usize = splices.iter().map(|splice| splice.delete).sum();
        if grown > deleted && cell.text.len(View::PRESENT) + grown - deleted > self.most {
            let because = "There is no space left in the text";
            return Err(InTheWay { update: None, because });
        }
        let splices = splices.into_iter().map(|Returned { index, delete, insert }| Splicing {
            index,
            delete,
            insert,
        });
        let mut splices: Vec<Splicing> = splices.collect();
        if splices.is_empty() {
            // Nobody sees anything of it, and yet it counts when others take back theirs.
            splices.push(Splicing { index: 0, delete: 0, insert: String::new() });
        }
        let mut back = Some(back);
        let effect = |splice| {
            let back = Some(back.take().unwrap_or_default());
            Effect::new(&taken.at, Op::Splice { splice, made: None, back })
        };
        Ok(Inverse { effects: splices.into_iter().map(effect).collect(), stays })
    }

    fn latest(&self, cell: &Cell, _rest: &[Token]) -> u64 {
        cell.0.changes.latest()
    }

    fn rewrite(&self, was: &Value, now: &Value, rewrite: &mut Rewrite) -> Result<(), Problem> {
        let (Some(was), Some(now)) = (was.as_str(), now.as_str()) else {
            return Err(rewrite.unfit("is a text, given as a string."));
        };
        if was == now {
            return Ok(());
        }
        let (was, now): (Vec<char>, Vec<char>) = (was.chars().collect(), now.chars().collect());
        let head = was.iter().zip(&now).take_while(|(one, other)| one == other).count();
        let tail = was[head..]
            .iter()
            .rev()
            .zip(now[head..].iter().rev())
            .take_while(|(one, other)| one == other)
            .count();
        let insert: String = now[head..now.len() - tail].iter().collect();
        let delete = was.len() - head - tail;
        rewrite.push(
            rewrite
                .edit("splice")
                .with("index", head)
                .with("delete", delete)
                .with("insert", insert),
        );
        Ok(())
    }

    fn anchored(&self, cell: &Cell, view: View, index: usize) -> Option<Anchored> {
        cell.0.text.anchored(view, index)
    }

    fn forget(&self, cell: &mut Cell, _rest: &[Token], horizon: u64) -> bool {
        Arc::make_mut(&mut cell.0).text.forget(horizon)
    }

    fn met(&self, cell: &Cell, site: &EditContext<'_>, met: &mut Vec<u64>) {
        met.extend(cell.0.changes.concurrent(site));
    }
}

/// Whether something is the work of updates that are taken back. What rules of the session did in
/// them stays.
fn is_of(updates: &[u64], stamp: Stamp) -> bool {
    !stamp.client.is_session() && updates.binary_search(&stamp.seq).is_ok()
}

impl Cell {
    /// The runs in their order, each with the update that it came with.
    pub(crate) fn authors(&self) -> Vec<(String, u64)> {
        self.0.text.authors()
    }

    fn new(text: &str, stamp: Stamp) -> Self {
        Self(Arc::new(Inner {
            text: VersionedText::new(text, stamp),
            changes: Changes::since(stamp),
        }))
    }
}
