//! A text with its order, without a word about JSON.

use ropey::Rope;
use serde::{Deserialize, Serialize, Serializer};

use super::{Anchored, Cut, Returns, Sequence, Turned, View};
use crate::stamp::Stamp;

/// Characters, and the order in which they came and went. Positions count Unicode scalar values.
///
/// [`settle`](Self::settle) tells what a splice would do, [`apply`](Self::apply) does what it told.
/// Clones share everything. With nothing concurrent both cost O(log n); see the head of the folder
/// for the rest.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(from = "StoredText")]
pub struct VersionedText {
    #[serde(serialize_with = "write_rope")]
    text: Rope,
    /// The characters that are gone and remembered, in their order.
    #[serde(serialize_with = "write_rope", skip_serializing_if = "is_empty")]
    gone: Rope,
    sequence: Sequence<()>,
}

#[derive(Deserialize)]
struct StoredText {
    text: String,
    #[serde(default)]
    gone: String,
    sequence: Sequence<()>,
}

impl From<StoredText> for VersionedText {
    /// Snapshots of before do not have what is gone, which nobody can ask back from them.
    fn from(StoredText { text, gone, sequence }: StoredText) -> Self {
        let mut gone = Rope::from_str(&gone);
        let lacking = sequence.gone().saturating_sub(gone.len_chars());
        gone.insert(gone.len_chars(), &" ".repeat(lacking));
        Self { text: Rope::from_str(&text), gone, sequence }
    }
}

fn is_empty(rope: &Rope) -> bool {
    rope.len_chars() == 0
}

/// A splice: where, how many characters go, and which come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Splice<'t> {
    /// Before which character.
    pub index: usize,
    /// Characters that go, from there on.
    pub delete: usize,
    /// Characters that come there.
    pub insert: &'t str,
}

/// A splice by which taking something back changes a text.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Returned {
    pub(crate) index: usize,
    pub(crate) delete: usize,
    pub(crate) insert: String,
}

/// One part of a settled splice.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TextPart<'t> {
    /// In present positions, once the parts before it are applied.
    pub present: Splice<'t>,
    /// As its author viewed it.
    pub viewed: Splice<'t>,
}

/// What a splice would do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SettledSplice<'t> {
    /// From the right to the left, so that none moves another; one at least.
    pub parts: Vec<TextPart<'t>>,
    /// Where its insert goes.
    pub(crate) place: usize,
    pub(crate) cut: Cut,
}

impl VersionedText {
    /// A text that came with `stamp`.
    pub fn new(text: &str, stamp: Stamp) -> Self {
        let text = Rope::from_str(text);
        let len = u32::try_from(text.len_chars()).unwrap_or(u32::MAX);
        Self { sequence: Sequence::of([(len, ())], stamp), text, gone: Rope::new() }
    }

    /// Characters that a view sees.
    pub fn len(&self, view: View) -> usize {
        if view == View::PRESENT { self.text.len_chars() } else { self.sequence.len(view) }
    }

    /// Whether a view sees none.
    pub fn is_empty(&self, view: View) -> bool {
        self.len(view) == 0
    }

    /// Forgets who inserted and removed what up to an update: views of before it cannot be read any
    /// more. Gives whether it remembers something later.
    pub fn forget(&mut self, horizon: u64) -> bool {
        for forgotten in self.sequence.forgotten(horizon).into_iter().rev() {
            self.gone.remove(forgotten);
        }
        self.sequence.forget(horizon)
    }

    /// What a splice made in `view` would do; `None` where it reaches beyond what the view sees.
    /// Changes nothing.
    pub fn settle<'t>(&self, view: View, splice: Splice<'t>) -> Option<SettledSplice<'t>> {
        let place = self.sequence.place(view, splice.index)?;
        let cut = self.sequence.cut(view, splice.index, splice.delete)?;
        let mut parts: Vec<_> = cut
            .parts
            .iter()
            .rev()
            .map(|part| TextPart {
                present: Splice {
                    index: part.present.start,
                    delete: part.present.len(),
                    insert: "",
                },
                viewed: Splice { index: part.viewed.start, delete: part.viewed.len(), insert: "" },
            })
            .collect();
        if !splice.insert.is_empty() {
            // The leftmost part and the insert are one splice where they meet.
            let first = cut
                .parts
                .first()
                .filter(|part| part.present.start == place || part.present.is_empty());
            if first.is_some() {
                parts.pop();
            }
            let (gone, viewed) =
                first.map_or((0, 0), |part| (part.present.len(), part.viewed.len()));
            parts.push(TextPart {
                present: Splice { index: place, delete: gone, insert: splice.insert },
                viewed: Splice { delete: viewed, ..splice },
            });
        }
        Some(SettledSplice { parts, place, cut })
    }

    /// Does one part: to the text where it is at present, to the order as its author viewed it.
    /// Gives how many bytes more the text has; `None` where it reaches beyond the text, or the view
    /// beyond what is remembered.
    pub fn apply(
        &mut self,
        present: Splice<'_>,
        view: View,
        viewed: Splice<'_>,
        stamp: Stamp,
    ) -> Option<i64> {
        let end = present
            .index
            .checked_add(present.delete)
            .filter(|end| *end <= self.text.len_chars())?;
        let gone = match present.delete {
            0 => 0,
            _ => self.text.char_to_byte(end) - self.text.char_to_byte(present.index),
        };
        if viewed.delete > 0 {
            let Self { text, gone, sequence } = self;
            sequence.remove(view, viewed.index, viewed.delete, stamp, |turned| {
                turn(text, gone, turned);
            })?;
        }
        if !present.insert.is_empty() {
            let len = u32::try_from(present.insert.chars().count()).ok()?;
            self.sequence.insert(view, viewed.index, len, (), stamp)?;
            self.text.insert(present.index, present.insert);
        }
        Some(i64::try_from(present.insert.len()).ok()? - i64::try_from(gone).ok()?)
    }

    /// What taking back the work of some updates would do: splices in present positions, from the
    /// right to the left, and the updates by which some of it is gone all the same. `None` where
    /// nothing here is theirs. Changes nothing. Cost O(runs).
    pub(crate) fn taken_back(
        &self,
        is_theirs: impl Fn(Stamp) -> bool + Copy,
    ) -> Option<(Vec<Returned>, Vec<u64>)> {
        let Returns { turned, stay } = self.sequence.taken_back(is_theirs)?;
        let mut splices: Vec<Returned> = Vec::new();
        for Turned { present, gone, len, goes } in turned.into_iter().rev() {
            if goes {
                match splices.last_mut().filter(|last| last.index == present + len) {
                    Some(last) if last.insert.is_empty() => {
                        (last.index, last.delete) = (present, last.delete + len);
                    }
                    _ => splices.push(Returned {
                        index: present,
                        delete: len,
                        ..Returned::default()
                    }),
                }
            } else {
                let insert = self.gone.slice(gone..gone + len).to_string();
                match splices.last_mut().filter(|last| last.index == present && last.delete == 0) {
                    Some(last) => last.insert.insert_str(0, &insert),
                    None => splices.push(Returned { index: present, delete: 0, insert }),
                }
            }
        }
        Some((splices, stay))
    }

    /// Does what [`taken_back`](Self::taken_back) tells; gives how many bytes more the text has, and
    /// how many runs were turned.
    pub(crate) fn take_back(
        &mut self,
        is_theirs: impl Fn(Stamp) -> bool + Copy,
        stamp: Stamp,
    ) -> (i64, usize) {
        let Some(Returns { turned, .. }) = self.sequence.taken_back(is_theirs) else {
            return (0, 0);
        };
        let before = self.text.len_bytes();
        // From the right to the left, so that none moves another.
        turned.iter().rev().for_each(|turned| turn(&mut self.text, &mut self.gone, *turned));
        self.sequence.take_back(is_theirs, stamp);
        let bytes = |bytes: usize| i64::try_from(bytes).unwrap_or(i64::MAX);
        (bytes(self.text.len_bytes()) - bytes(before), turned.len())
    }

    /// The text as it would be after a splice in present positions; `None` where that reaches
    /// beyond it. Cost O(n).
    pub fn spliced(&self, splice: Splice<'_>) -> Option<String> {
        let mut text = self.text.clone();
        text.try_remove(splice.index..splice.index.checked_add(splice.delete)?).ok()?;
        text.try_insert(splice.index, splice.insert).ok()?;
        Some(text.to_string())
    }

    /// The last update of which a view cannot be read any more, since what it saw was undone and
    /// redone so often.
    pub(crate) fn floor(&self) -> u64 {
        self.sequence.floor()
    }

    /// The runs that are there, each with the update that it came with; 0 where that is not
    /// remembered. Cost O(n).
    pub(crate) fn authors(&self) -> Vec<(String, u64)> {
        let mut at = 0;
        let run = |(len, seq): (usize, u64)| {
            let text = self.text.slice(at..at + len).to_string();
            at += len;
            (text, seq)
        };
        self.sequence.births().into_iter().map(run).collect()
    }

    /// Where the character is now that a view sees at `index`; `None` beyond its end.
    pub fn anchored(&self, view: View, index: usize) -> Option<Anchored> {
        self.sequence.anchored(view, index)
    }

    /// The updates that deleted the characters on both sides of a gap that a view sees, where both
    /// are gone.
    pub(crate) fn deleted_around(&self, view: View, index: usize) -> Option<Vec<u64>> {
        if index == 0 || index >= self.sequence.len(view) {
            return None;
        }
        let around = self.sequence.cut(view, index - 1, 2)?;
        let is_gone = around.parts.iter().all(|part| part.present.is_empty());
        is_gone.then_some(around.met)
    }
}

impl std::fmt::Display for VersionedText {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.text.fmt(f)
    }
}

/// Moves a run from what is there to what is gone, or back.
fn turn(text: &mut Rope, gone: &mut Rope, turned: Turned) {
    let Turned { present, gone: place, len, goes } = turned;
    let (from, at, to, into) =
        if goes { (text, present, gone, place) } else { (gone, place, text, present) };
    let run = from.slice(at..at + len).to_string();
    from.remove(at..at + len);
    to.insert(into, &run);
}

fn write_rope<S: Serializer>(rope: &Rope, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(rope)
}
