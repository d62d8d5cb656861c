//! The recent past of all results, for those who come back with one.
//!
//! What is kept is how rows went, without their values: whoever comes back is told what is there
//! now, and nothing that was shown meanwhile and is hidden again.

use std::collections::{BTreeMap, VecDeque};

use super::rows::RowStep;

/// Steps that are kept in all; what is beyond is forgotten, the oldest first.
const STEPS: usize = 20_000;

/// A step without what it tells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Gone {
    In(usize),
    Out(usize),
    Move(usize, usize),
    Change(usize),
}

/// What became of the rows of a result: how many there were, which of them went, where each row
/// that is there now was, and which of those are others.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Since {
    pub(super) went: Vec<usize>,
    /// In the order of now: the index before, and whether its value may be another; `None` for a
    /// row that came.
    pub(super) rows: Vec<Option<(usize, bool)>>,
}

/// The steps of results by window and `seq`. Putting in costs O(steps + log n).
#[derive(Debug, Default)]
pub(super) struct Recent {
    steps: BTreeMap<(u64, u64), Box<[Gone]>>,
    /// In the order of time.
    order: VecDeque<(u64, u64)>,
    count: usize,
    /// Up to here something is forgotten.
    forgotten: u64,
}

impl Recent {
    pub(super) fn put(&mut self, window: u64, seq: u64, steps: &[RowStep]) {
        let gone = |step: &RowStep| match step {
            RowStep::In { at, .. } => Gone::In(*at),
            RowStep::Out { at } => Gone::Out(*at),
            RowStep::Move { at, to } => Gone::Move(*at, *to),
            RowStep::Change { at, .. } => Gone::Change(*at),
        };
        let steps: Box<[Gone]> = steps.iter().map(gone).collect();
        self.count += steps.len();
        self.order.push_back((window, seq));
        self.steps.insert((window, seq), steps);
        while self.count > STEPS {
            let Some(oldest) = self.order.pop_front() else { break };
            self.count -= self.steps.remove(&oldest).map_or(0, |steps| steps.len());
            self.forgotten = self.forgotten.max(oldest.1);
        }
    }

    /// What became of the rows of a window since an update, given how many there are now; `None` if
    /// that is forgotten. Cost O(steps × rows).
    pub(super) fn since(&self, window: u64, seq: u64, rows: usize) -> Option<Since> {
        if seq < self.forgotten {
            return None;
        }
        let range = (window, seq.saturating_add(1))..(window + 1, 0);
        let steps: Vec<Gone> =
            self.steps.range(range).flat_map(|(_, steps)| steps.iter().copied()).collect();
        let came = steps.iter().filter(|step| matches!(step, Gone::In(_))).count();
        let went = steps.iter().filter(|step| matches!(step, Gone::Out(_))).count();
        let before = (rows + went).checked_sub(came)?;
        let mut now: Vec<Option<(usize, bool)>> = (0..before).map(|at| Some((at, false))).collect();
        let mut gone = Vec::new();
        for step in steps {
            match step {
                Gone::In(at) if at <= now.len() => now.insert(at, None),
                Gone::Out(at) if at < now.len() => gone.extend(now.remove(at).map(|(was, _)| was)),
                Gone::Move(at, to) if at.max(to) < now.len() => {
                    let row = now.remove(at);
                    now.insert(to, row);
                }
                Gone::Change(at) => {
                    if let Some((_, is_other)) = now.get_mut(at)?.as_mut() {
                        *is_other = true;
                    }
                }
                _ => return None,
            }
        }
        gone.sort_unstable();
        Some(Since { went: gone, rows: now })
    }
}

impl Since {
    /// As steps, given the row at an index and its value.
    pub(super) fn steps(self, row: impl Fn(usize) -> super::rows::Row) -> Vec<RowStep> {
        let mut steps: Vec<RowStep> =
            self.went.iter().rev().map(|at| RowStep::Out { at: *at }).collect();
        let stayed: Vec<usize> = self.rows.iter().flatten().map(|(was, _)| *was).collect();
        let mut list = stayed.clone();
        list.sort_unstable();
        for (to, was) in stayed.iter().enumerate() {
            match list.iter().position(|known| known == was) {
                Some(at) if at != to => {
                    list.remove(at);
                    list.insert(to, *was);
                    steps.push(RowStep::Move { at, to });
                }
                _ => {}
            }
        }
        let came = self.rows.iter().enumerate().filter(|(_, was)| was.is_none());
        steps.extend(came.map(|(at, _)| RowStep::In { at, row: row(at) }));
        let others = self.rows.iter().enumerate();
        let others = others.filter(|(_, was)| was.is_some_and(|(_, is_other)| is_other));
        steps.extend(others.map(|(at, _)| RowStep::Change { at, value: row(at).value }));
        steps
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_forgotten_is_not_taken_for_nothing() {
        let mut recent = Recent::default();
        let change = [RowStep::Change { at: 0, value: "plum".into() }];
        for seq in 1..=STEPS as u64 {
            recent.put(seq % 2, seq, &change);
        }
        let changed = Since { went: vec![], rows: vec![Some((0, true))] };
        let same = Since { went: vec![], rows: vec![Some((0, false))] };
        assert_eq!(recent.since(1, 0, 1), Some(changed.clone()));
        assert_eq!(recent.since(2, 0, 1), Some(same.clone()), "nothing was told to this window");
        for seq in 1..=10 {
            recent.put(3, STEPS as u64 + seq, &change);
        }
        assert_eq!(recent.since(1, 9, 1), None);
        assert_eq!(recent.since(2, 9, 1), None);
        assert_eq!(recent.since(1, 10, 1), Some(changed));
        assert_eq!(recent.since(1, u64::MAX, 1), Some(same));
        assert_eq!((recent.count, recent.steps.len()), (STEPS, recent.order.len()));
    }
}
