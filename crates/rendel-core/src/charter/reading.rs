//! What a charter says of paths and expressions.

use std::collections::BTreeSet;
use std::ops::Range;

use toml_edit::{Item, Value};

use super::expression::{Expression, Read};
use super::pattern::Pattern;
use crate::declaration::Section;
use crate::kind::{Field, Fields, Kind as _};
use crate::path::Token;
use crate::suggest::nearest;

/// The elements of a collection that an expression may go through.
const LOOPED: usize = 100;

impl<'a> Section<'a> {
    /// A compiled expression.
    pub(super) fn expression(&mut self, key: &'static str, names: &[&str]) -> Option<Expression> {
        let source = self.know(key).and_then(Item::as_str);
        let compiled = source.map(|source| Expression::compile(source, names));
        match compiled {
            Some(Ok(expression)) => Some(expression),
            Some(Err(expected)) => {
                self.fault_at(key, &expected, None);
                None
            }
            None => {
                self.fault_at(key, "an expression in CEL, as a string", None);
                None
            }
        }
    }

    /// Reports members that an expression reads and that nothing declares: it would never have an
    /// answer.
    pub(super) fn check_reads(
        &self,
        key: &str,
        expression: &Expression,
        fields: &Fields,
        at: &Pattern,
    ) {
        let span = self.item(key).and_then(Item::span);
        self.check_reads_at(span.as_ref(), &self.inner_path(key), expression, fields, at);
    }

    pub(super) fn check_reads_at(
        &self,
        span: Option<&Range<usize>>,
        path: &str,
        expression: &Expression,
        fields: &Fields,
        at: &Pattern,
    ) {
        let is_record = at.tokens().is_some_and(|tokens| tokens.len().is_multiple_of(2));
        for Read { name, member, is_each } in expression.reads() {
            if *is_each {
                let around = if name == "state" { Some(fields) } else { fields.record_around(at) };
                let field = around.zip(member.as_ref()).and_then(|(of, name)| of.field(name));
                if field.is_none_or(|field| field.most().is_none_or(|most| most > LOOPED)) {
                    let member = member.as_deref().unwrap_or_default();
                    let says = format!("{name}.{member} cannot be gone through");
                    let expected =
                        format!("a map or list that is declared with most = {LOOPED} or less");
                    self.report(span.cloned(), path.to_owned(), &says, &expected, None);
                }
                continue;
            }
            let declared = match name.as_str() {
                "who" => {
                    let seat = fields.seats().map(|_| "seat");
                    Some(["id", "role", "claims"].into_iter().chain(seat).collect::<Vec<_>>())
                }
                "state" => Some(
                    fields
                        .iter()
                        .filter(|(_, field)| {
                            field.is_small() || field.most().is_some_and(|most| most <= LOOPED)
                        })
                        .map(|(name, _)| name)
                        .collect(),
                ),
                "record" => fields
                    .record_around(at)
                    .map(|fields| fields.iter().map(|(name, _)| name).chain(["id"]).collect()),
                "old" | "new" if is_record => fields
                    .record_around(at)
                    .map(|fields| fields.iter().map(|(name, _)| name).collect()),
                _ => None,
            };
            let report = |says: String, expected: String, meant: Option<String>| {
                self.report(span.cloned(), path.to_owned(), &says, &expected, meant);
            };
            match (name.as_str(), member, declared) {
                ("state", None, _) => {
                    let expected =
                        "a field of it, as in state.crates: an expression reads only what it names";
                    report("reads the whole state".to_owned(), expected.to_owned(), None);
                }
                (name, Some(member), Some(declared)) if !declared.contains(&member.as_str()) => {
                    let expected = match declared.is_empty() {
                        true => "a register or a counter; there is none here".to_owned(),
                        false => format!("one of {}", declared.join(", ")),
                    };
                    let meant = nearest(member, declared.iter().copied());
                    report(format!("{name} has no {member:?} that could be read"), expected, meant);
                }
                _ => {}
            }
        }
    }

    /// A path pattern.
    pub(super) fn pattern(&mut self, key: &'static str) -> Option<Pattern> {
        let pattern = self.know(key).and_then(Item::as_str).and_then(Pattern::parse);
        if pattern.is_none() {
            self.fault_at(key, "a path pattern such as \"/offers/*\"", None);
        }
        pattern
    }

    /// A path pattern without `**` that leads to a declared field or to the records of one.
    pub(super) fn declared_pattern(
        &mut self,
        key: &'static str,
        fields: &Fields,
    ) -> Option<Pattern> {
        let pattern = self.pattern(key)?;
        if fields.declared(&pattern).is_none() && !fields.has_elements(&pattern) {
            let tops: Vec<&str> = fields.iter().map(|(name, _)| name).collect();
            let meant = pattern.top().and_then(|top| {
                nearest(top, tops.iter().copied())
                    .map(|meant| pattern.to_string().replacen(top, &meant, 1))
            });
            let expected = "a declared field, or the records or elements of one, with * for an id and no **, \
                such as \"/offers/*\"";
            self.fault_at(key, expected, meant.filter(|meant| *meant != pattern.to_string()));
            return None;
        }
        Some(pattern)
    }

    /// Each item of an array of path patterns, or of tables that hold one, with its place.
    pub(super) fn pattern_items(
        &mut self,
        key: &'static str,
        expected: &str,
    ) -> Vec<(String, &'a Value)> {
        let Some(items) = self.know(key).and_then(Item::as_array) else {
            self.fault_at(key, expected, None);
            return Vec::new();
        };
        let path = self.inner_path(key);
        items.iter().enumerate().map(|(index, item)| (format!("{path}[{index}]"), item)).collect()
    }

    /// A pattern that begins at one of `tops`.
    pub(super) fn pattern_of(
        &self,
        text: Option<&str>,
        span: Option<Range<usize>>,
        path: &str,
        tops: &BTreeSet<&str>,
    ) -> Option<Pattern> {
        let Some(pattern) = text.and_then(Pattern::parse) else {
            let expected = "\"/\" and tokens, of which \"*\" is any one and one \"**\" any number";
            self.report(span, path.to_owned(), "is no path pattern", expected, None);
            return None;
        };
        if let Some(top) = pattern.top().filter(|top| !tops.contains(top)) {
            let meant = nearest(top, tops.iter().copied())
                .map(|meant| pattern.to_string().replacen(top, &meant, 1));
            // A field with faults of its own is there, though it is not known how it is declared.
            if self.has_fault_at(&format!("state.{top}")) {
                return Some(pattern);
            }
            let says = "leads to no field of [state]";
            self.report(span, path.to_owned(), says, "the path of a declared field", meant);
        }
        Some(pattern)
    }

    /// Path patterns, each of which begins at one of `tops`.
    pub(super) fn patterns(&mut self, key: &'static str, tops: &BTreeSet<&str>) -> Vec<Pattern> {
        let items = self.pattern_items(key, "an array of path patterns such as \"/markers/**\"");
        items
            .into_iter()
            .filter_map(|(path, item)| self.pattern_of(item.as_str(), item.span(), &path, tops))
            .collect()
    }
}

impl Fields {
    /// The name of the field of seats.
    pub(crate) fn seats(&self) -> Option<&str> {
        let mut fields = self.iter();
        fields.find(|(_, field)| matches!(field, Field::Seats(_))).map(|(name, _)| name)
    }

    /// The field that a pattern of names and `*` leads to. Ballots are kept by the service: nothing
    /// of a charter reads them, since what it makes of them could be seen before they are open.
    pub(crate) fn declared(&self, pattern: &Pattern) -> Option<&Field> {
        self.declared_at(&pattern.tokens()?).filter(|_| !self.holds_ballots(pattern))
    }

    fn holds_ballots(&self, pattern: &Pattern) -> bool {
        let top = pattern.top().and_then(|top| self.field(top));
        matches!(top, Some(Field::Map(map)) if map.is_of_play())
    }

    /// Whether tokens lead to a declared field, or to a place for a record or element of one.
    pub(crate) fn has_place(&self, tokens: &[Token]) -> bool {
        let names: Vec<_> = tokens.iter().cloned().map(Some).collect();
        names.is_empty() || self.declared_at(&names).is_some() || self.has_elements_at(&names)
    }

    /// Whether tokens lead to the whole state, or to all records or elements of a field.
    pub(crate) fn is_collection(&self, tokens: &[Token]) -> bool {
        let names: Vec<_> = tokens.iter().cloned().map(Some).collect();
        let field = self.declared_at(&names);
        names.is_empty()
            || field.is_some_and(|field| field.each().is_some() || field.has_plain_elements())
    }

    fn declared_at(&self, names: &[Option<Token>]) -> Option<&Field> {
        let mut fields = self;
        let mut field = None;
        for (at, name) in names.iter().enumerate() {
            if at % 2 == 0 {
                field = Some(fields.field(name.as_deref()?)?);
            } else {
                fields = field?.each()?;
                if at + 1 == names.len() {
                    return None;
                }
            }
        }
        field
    }

    /// Whether a pattern of names and `*` leads to the records or elements of a field.
    pub(crate) fn has_elements(&self, pattern: &Pattern) -> bool {
        !self.holds_ballots(pattern) && self.has_elements_at(&pattern.tokens().unwrap_or_default())
    }

    fn has_elements_at(&self, names: &[Option<Token>]) -> bool {
        let Some((_, around)) = names.split_last().filter(|_| names.len().is_multiple_of(2)) else {
            return false;
        };
        let field = self.declared_at(around);
        field.is_some_and(|field| field.each().is_some() || field.has_plain_elements())
    }

    /// Whether a pattern of names and `*` leads to the records of a map.
    pub(crate) fn is_record_of_map(&self, pattern: &Pattern) -> bool {
        let names = pattern.tokens().unwrap_or_default();
        let around = names.split_last().filter(|_| names.len().is_multiple_of(2));
        let field = around.and_then(|(_, around)| self.declared_at(around));
        field.is_some_and(|field| field.words().name == "map")
    }

    /// The fields of the record at or around what a pattern of names and `*` leads to.
    pub(crate) fn record_around(&self, pattern: &Pattern) -> Option<&Self> {
        let names = pattern.tokens()?;
        let mut fields = self;
        for pair in names.chunks_exact(2) {
            fields = fields.field(pair[0].as_deref()?)?.each()?;
        }
        (names.len() > 1).then_some(fields)
    }
}
