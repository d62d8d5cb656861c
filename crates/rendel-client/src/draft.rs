//! A text while own splices of it have no answer: what everyone agrees on, what is one's own, and
//! in which order they are shown.
//!
//! A settled splice counts positions in what everyone agrees on, an own one in what is shown. Both
//! find their place here without any being transformed over another. What is shown may stand in
//! another order than it will settle in, where somebody else typed at the same place; then it moves
//! there when the answer comes.

use rendel_core::Splicing;

/// How what is shown has changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Shift {
    /// At `at` so many characters went and so many came.
    Splice { at: usize, delete: usize, insert: usize },
    /// So many characters went from `from` to `to`, counted without them.
    Move { from: usize, len: usize, to: usize },
}

/// Characters side by side that have the same story.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Run {
    chars: Vec<char>,
    /// The own proposal that inserts them; none where everyone agrees on them.
    by: Option<u64>,
    /// The own proposals that delete them.
    cuts: Vec<u64>,
}

/// A text with own splices that have no answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Draft {
    runs: Vec<Run>,
    /// Whether somebody else changed the text since own splices are on their way: what is made now
    /// counts positions among what the service may order otherwise, and must wait until those are
    /// answered.
    pub(crate) is_overtaken: bool,
}

impl Run {
    fn agreed(chars: Vec<char>) -> Self {
        Self { chars, by: None, cuts: Vec::new() }
    }

    fn is_agreed(&self) -> bool {
        self.by.is_none()
    }

    fn is_shown(&self) -> bool {
        self.cuts.is_empty()
    }

    /// Whether it is there for one who has made all own proposals before `key`.
    fn is_there_before(&self, key: u64) -> bool {
        self.by.is_none_or(|by| by < key) && self.cuts.iter().all(|cut| *cut >= key)
    }
}

impl Draft {
    pub(crate) fn over(text: &str) -> Self {
        Self { runs: vec![Run::agreed(text.chars().collect())], is_overtaken: false }
    }

    /// What is shown.
    pub(crate) fn text(&self) -> String {
        self.runs.iter().filter(|run| run.is_shown()).flat_map(|run| &run.chars).collect()
    }

    /// Whether everyone agrees on just this text.
    pub(crate) fn agrees_on(&self, text: &str) -> bool {
        self.agreed_text().into_iter().eq(text.chars())
    }

    fn agreed_text(&self) -> Vec<char> {
        self.runs
            .iter()
            .filter(|run| run.is_agreed())
            .flat_map(|run| run.chars.iter().copied())
            .collect()
    }

    /// Makes a run begin at the `index`th of the characters that `counts`, the first of them where
    /// there is a choice; gives its place among the runs.
    fn split(&mut self, index: usize, counts: impl Fn(&Run) -> bool) -> usize {
        let mut left = index;
        for at in 0..self.runs.len() {
            if left == 0 {
                return at;
            }
            let run = &mut self.runs[at];
            if !counts(run) {
                continue;
            }
            if left < run.chars.len() {
                let rest = Run { chars: run.chars.split_off(left), ..run.clone() };
                self.runs.insert(at + 1, rest);
                return at + 1;
            }
            left -= run.chars.len();
        }
        self.runs.len()
    }

    fn shown_before(&self, at: usize) -> usize {
        self.runs[..at].iter().filter(|run| run.is_shown()).map(|run| run.chars.len()).sum()
    }

    /// Where a gap of what everyone agrees on stands in what is shown.
    pub(crate) fn shown_index(&self, agreed: usize) -> usize {
        let (mut left, mut shown) = (agreed, 0);
        for run in &self.runs {
            if left == 0 {
                break;
            }
            let taken = if run.is_agreed() { run.chars.len().min(left) } else { run.chars.len() };
            left -= if run.is_agreed() { taken } else { 0 };
            shown += if run.is_shown() { taken } else { 0 };
        }
        shown
    }

    /// An own splice of what is shown; what lies beyond the end is left out.
    pub(crate) fn edit(&mut self, key: u64, splice: &Splicing) -> Vec<Shift> {
        let from = self.split(splice.index, Run::is_shown);
        let mut left = splice.delete;
        let mut at = from;
        while left > 0 && at < self.runs.len() {
            if self.runs[at].is_shown() {
                if self.runs[at].chars.len() > left {
                    let run = &mut self.runs[at];
                    let rest = Run { chars: run.chars.split_off(left), ..run.clone() };
                    self.runs.insert(at + 1, rest);
                }
                left -= self.runs[at].chars.len();
                self.runs[at].cuts.push(key);
            }
            at += 1;
        }
        let chars: Vec<char> = splice.insert.chars().collect();
        let insert = chars.len();
        if insert > 0 {
            self.runs.insert(from, Run { chars, by: Some(key), cuts: Vec::new() });
        }
        vec![Shift::Splice { at: splice.index, delete: splice.delete - left, insert }]
    }

    /// What everyone agrees on loses `delete` characters from `index` on.
    fn delete_agreed(
        &mut self,
        index: usize,
        delete: usize,
        shifts: &mut Vec<Shift>,
    ) -> Option<()> {
        let from = self.split(index, Run::is_agreed);
        let mut left = delete;
        let mut at = from;
        while left > 0 {
            let run = self.runs.get_mut(at)?;
            if !run.is_agreed() {
                at += 1;
                continue;
            }
            if run.chars.len() > left {
                let rest = Run { chars: run.chars.split_off(left), ..run.clone() };
                self.runs.insert(at + 1, rest);
            }
            let gone = self.runs.remove(at);
            left -= gone.chars.len();
            if gone.is_shown() {
                shifts.push(Shift::Splice {
                    at: self.shown_before(at),
                    delete: gone.chars.len(),
                    insert: 0,
                });
            }
        }
        Some(())
    }

    /// Somebody else's settled splice. `None` where it reaches beyond what everyone agrees on.
    pub(crate) fn settle_foreign(&mut self, splice: &Splicing) -> Option<Vec<Shift>> {
        let mut shifts = Vec::new();
        self.delete_agreed(splice.index, splice.delete, &mut shifts)?;
        let chars: Vec<char> = splice.insert.chars().collect();
        if !chars.is_empty() {
            // Where one's own will most likely stand behind it once it is settled, it is shown so.
            let at = self.split(splice.index, Run::is_agreed);
            let is_end = self.runs[at..].iter().all(|run| !run.is_agreed());
            let at = if is_end { self.runs.len() } else { at };
            shifts.push(Shift::Splice {
                at: self.shown_before(at),
                delete: 0,
                insert: chars.len(),
            });
            self.runs.insert(at, Run::agreed(chars));
        }
        self.is_overtaken = true;
        Some(shifts)
    }

    /// The settled splices of an own proposal: what it inserted is agreed on, and stands where they
    /// say.
    pub(crate) fn settle_own(&mut self, key: u64, splices: &[Splicing]) -> Option<Vec<Shift>> {
        let mut shifts = Vec::new();
        for splice in splices {
            self.delete_agreed(splice.index, splice.delete, &mut shifts)?;
            if splice.insert.is_empty() {
                continue;
            }
            match self.find_own(key, &splice.insert) {
                Some((first, end)) => self.agree(first, end, key, splice.index, &mut shifts),
                None => {
                    let at = self.split(splice.index, Run::is_agreed);
                    let chars: Vec<char> = splice.insert.chars().collect();
                    shifts.push(Shift::Splice {
                        at: self.shown_before(at),
                        delete: 0,
                        insert: chars.len(),
                    });
                    self.runs.insert(at, Run::agreed(chars));
                }
            }
        }
        shifts.extend(self.forget(key));
        Some(shifts)
    }

    /// The runs in which an own proposal's insert of this text stands: from the first to behind the
    /// last.
    fn find_own(&mut self, key: u64, text: &str) -> Option<(usize, usize)> {
        let chars: Vec<char> = text.chars().collect();
        let own = || self.runs.iter().enumerate().filter(|(_, run)| run.by == Some(key));
        let all: Vec<(usize, usize, char)> = own()
            .flat_map(|(at, run)| {
                run.chars.iter().enumerate().map(move |(offset, one)| (at, offset, *one))
            })
            .collect();
        let start = all
            .windows(chars.len())
            .position(|window| window.iter().map(|(_, _, one)| *one).eq(chars.iter().copied()))?;
        let (first, offset, _) = all[start];
        let (mut last, end, _) = all[start + chars.len() - 1];
        let mut cut = |at: usize, offset: usize| {
            let run = &mut self.runs[at];
            if offset > 0 && offset < run.chars.len() {
                let rest = Run { chars: run.chars.split_off(offset), ..run.clone() };
                self.runs.insert(at + 1, rest);
                return true;
            }
            false
        };
        cut(last, end + 1);
        let is_split = cut(first, offset);
        last += usize::from(is_split);
        Some((first + usize::from(is_split), last + 1))
    }

    /// Own runs are agreed on from now on; with what was typed among them and at their end they go
    /// to `index`, if they are not there.
    fn agree(&mut self, first: usize, end: usize, key: u64, index: usize, shifts: &mut Vec<Shift>) {
        let before: usize = self.runs[..first]
            .iter()
            .filter(|run| run.is_agreed())
            .map(|run| run.chars.len())
            .sum();
        self.runs[first..end]
            .iter_mut()
            .filter(|run| run.by == Some(key))
            .for_each(|run| run.by = None);
        if before == index {
            return;
        }
        let beyond = self.runs[end..].iter().take_while(|run| !run.is_agreed()).count();
        let from = self.shown_before(first);
        let moved: Vec<Run> = self.runs.drain(first..end + beyond).collect();
        let len = moved.iter().filter(|run| run.is_shown()).map(|run| run.chars.len()).sum();
        let at = self.split(index, Run::is_agreed);
        shifts.push(Shift::Move { from, len, to: self.shown_before(at) });
        self.runs.splice(at..at, moved);
    }

    /// Takes back what an own proposal did, which was refused or is part of what everyone agrees on
    /// already.
    pub(crate) fn forget(&mut self, key: u64) -> Vec<Shift> {
        let mut shifts = Vec::new();
        let mut at = 0;
        while at < self.runs.len() {
            let shown = self.runs[at].is_shown();
            self.runs[at].cuts.retain(|cut| *cut != key);
            let (is_own, len) = (self.runs[at].by == Some(key), self.runs[at].chars.len());
            match (shown, is_own) {
                (true, true) => {
                    shifts.push(Shift::Splice { at: self.shown_before(at), delete: len, insert: 0 })
                }
                (false, false) if self.runs[at].is_shown() => {
                    shifts.push(Shift::Splice {
                        at: self.shown_before(at),
                        delete: 0,
                        insert: len,
                    });
                }
                _ => {}
            }
            if is_own {
                self.runs.remove(at);
            } else {
                at += 1;
            }
        }
        shifts
    }

    /// What everyone agrees on is another text now, by ways that are not known.
    pub(crate) fn settle_as(&mut self, text: &str) -> Vec<Shift> {
        let (old, new) = (self.agreed_text(), text.chars().collect::<Vec<char>>());
        let same = old.iter().zip(&new).take_while(|(one, other)| one == other).count();
        let rest = old.len().min(new.len()) - same;
        let tail = old
            .iter()
            .rev()
            .zip(new.iter().rev())
            .take(rest)
            .take_while(|(one, other)| one == other)
            .count();
        let insert = new[same..new.len() - tail].iter().collect();
        self.settle_foreign(&Splicing { index: same, delete: old.len() - same - tail, insert })
            .unwrap_or_default()
    }

    /// What an own proposal does, as splices of what is there once all before it are made.
    pub(crate) fn splices(&self, key: u64) -> Vec<Splicing> {
        let mut splices: Vec<Splicing> = Vec::new();
        let mut index = 0;
        let mut is_going_on = false;
        for run in &self.runs {
            let is_cut = run.is_there_before(key) && run.cuts.contains(&key);
            let is_new = run.by == Some(key)
                && run.cuts.iter().all(|cut| *cut >= key)
                && !run.cuts.contains(&key);
            if is_cut || is_new {
                if !is_going_on {
                    splices.push(Splicing { index, delete: 0, insert: String::new() });
                }
                if let Some(last) = splices.last_mut() {
                    last.delete += if is_cut { run.chars.len() } else { 0 };
                    last.insert.extend(run.chars.iter().filter(|_| is_new));
                }
                index += if is_new { run.chars.len() } else { 0 };
                is_going_on = true;
            } else if run.is_there_before(key) {
                index += run.chars.len();
                is_going_on = false;
            }
        }
        splices
    }
}

impl Shift {
    /// Where the gap before `index` is afterwards; what comes right there comes behind it if
    /// `is_left`.
    pub(crate) fn follow(self, index: usize, is_left: bool) -> usize {
        match self {
            Self::Splice { at, delete, insert } => {
                let stays = index < at || (index == at && is_left);
                if stays { index } else { at + insert + index.saturating_sub(at + delete) }
            }
            Self::Move { from, len, to } => {
                let is_inside = if is_left {
                    from < index && index <= from + len
                } else {
                    from <= index && index < from + len
                };
                if is_inside {
                    return to + (index - from);
                }
                let without = if index >= from + len { index - len } else { index.min(from) };
                if without < to || (without == to && is_left) { without } else { without + len }
            }
        }
    }

    /// Whether the character at `index` goes.
    pub(crate) fn removes(self, index: usize) -> bool {
        matches!(self, Self::Splice { at, delete, .. } if at <= index && index < at + delete)
    }
}
