//! References as they are declared: registers that hold the id of a record of a map.

use std::ops::Range;

use toml_edit::Item;

use crate::declaration::Section;
use crate::path::Token;

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
    pub(crate) steps: Vec<Option<Token>>,
    pub(crate) holder: Option<Holder>,
    pub(crate) reference: Reference,
}

impl Link {
    /// The way to those of its registers that are at or inside a path, if there are any.
    pub(crate) fn steps_through(&self, path: &[Token]) -> Option<Vec<Option<Token>>> {
        let fits = |(step, token): (&Option<Token>, &Token)| {
            step.as_ref().is_none_or(|step| step == token)
        };
        let leads = self.steps.len() >= path.len() && self.steps.iter().zip(path).all(fits);
        let further = self.steps.iter().skip(path.len()).cloned();
        leads.then(|| path.iter().cloned().map(Some).chain(further).collect())
    }

    /// Tokens of the path of the innermost record around a register: up to the last id.
    pub(crate) fn holder_len(&self) -> usize {
        self.steps.iter().rposition(Option::is_none).map_or(0, |at| at + 1)
    }
}

impl Reference {
    /// Reads a reference to the records of a map: `{ to = "/crews", on-drop = "refuse" }`.
    pub(crate) fn declare(section: &mut Section<'_>, key: &'static str) -> Option<Self> {
        section.know(key)?;
        let span = section.item(key).and_then(Item::span);
        let mut inner = section.section(key)?;
        let to = inner.text("to").and_then(|to| to.strip_prefix('/').map(str::to_owned));
        if to.is_none() {
            inner.fault_at("to", "the path of a map, such as \"/crews\"", None);
        }
        let on_drop =
            match inner.choice("on-drop", &["refuse", "cascade", "clear"], "refuse").as_str() {
                "cascade" => OnDrop::Cascade,
                "clear" => OnDrop::Clear,
                _ => OnDrop::Refuse,
            };
        inner.finish();
        Some(Self { to: to?, on_drop, span })
    }
}
