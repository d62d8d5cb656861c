//! A text with its order, without a word about JSON.

use ropey::Rope;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::{Anchored, Cut, Sequence, View};
use crate::stamp::Stamp;

/// Characters, and the order in which they came and went. Positions count Unicode scalar values.
///
/// [`settle`](Self::settle) tells what a splice would do, [`apply`](Self::apply) does what it told.
/// Clones share everything. With nothing concurrent both cost O(log n); see the head of the folder
/// for the rest.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct VersionedText {
    #[serde(serialize_with = "write_rope", deserialize_with = "read_rope")]
    text: Rope,
    sequence: Sequence<()>,
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

/// One part of a settled splice.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part<'t> {
    /// In present positions, once the parts before it are applied.
    pub present: Splice<'t>,
    /// As its author viewed it.
    pub viewed: Splice<'t>,
}

/// What a splice would do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SettledSplice<'t> {
    /// From the right to the left, so that none moves another; one at least.
    pub parts: Vec<Part<'t>>,
    /// Where its insert goes.
    pub(crate) place: usize,
    pub(crate) cut: Cut,
}

impl VersionedText {
    /// A text that came with `stamp`.
    pub fn new(text: &str, stamp: Stamp) -> Self {
        let text = Rope::from_str(text);
        let len = u32::try_from(text.len_chars()).unwrap_or(u32::MAX);
        Self { sequence: Sequence::of([(len, ())], stamp), text }
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
            .map(|part| Part {
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
            parts.push(Part {
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
        let mut gone = 0;
        if viewed.delete > 0 {
            self.sequence.remove(view, viewed.index, viewed.delete, stamp)?;
        }
        if present.delete > 0 {
            gone = self.text.char_to_byte(end) - self.text.char_to_byte(present.index);
            self.text.remove(present.index..end);
        }
        if !present.insert.is_empty() {
            let len = u32::try_from(present.insert.chars().count()).ok()?;
            self.sequence.insert(view, viewed.index, len, (), stamp)?;
            self.text.insert(present.index, present.insert);
        }
        Some(i64::try_from(present.insert.len()).ok()? - i64::try_from(gone).ok()?)
    }

    /// The text as it would be after a splice in present positions; `None` where that reaches
    /// beyond it. Cost O(n).
    pub fn spliced(&self, splice: Splice<'_>) -> Option<String> {
        let mut text = self.text.clone();
        text.try_remove(splice.index..splice.index.checked_add(splice.delete)?).ok()?;
        text.try_insert(splice.index, splice.insert).ok()?;
        Some(text.to_string())
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

fn write_rope<S: Serializer>(rope: &Rope, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(rope)
}

fn read_rope<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Rope, D::Error> {
    String::deserialize(deserializer).map(|text| Rope::from_str(&text))
}
