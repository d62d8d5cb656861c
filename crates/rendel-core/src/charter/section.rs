//! Reading one table of a charter: each key is taken by its type, what is left over is a fault.

use std::collections::BTreeSet;
use std::ops::{Range, RangeInclusive};
use std::sync::Arc;
use std::time::Duration;

use jsonschema::Validator;
use serde_json::{Map, Value as Json};
use toml_edit::{Item, TableLike, Value};

use super::expression::{Expression, Read};
use super::fault::{Fault, Reading, place};
use super::pattern::Pattern;
use super::role::{CONDITION_NAMES, Grant};
use super::rules::Surface;
use super::schema::compile;
use super::sight::Rule;
use crate::kind::{Field, Fields};
use crate::references::{Link, OnDrop, Reference};
use crate::suggest::nearest;

/// Records may lie in records this deep.
const DEEPEST: usize = 16;

/// One table of a charter and the faults found so far.
pub(crate) struct Section<'a> {
    source: &'a str,
    table: &'a dyn TableLike,
    path: String,
    span: Option<Range<usize>>,
    depth: usize,
    known: BTreeSet<&'static str>,
    taken: BTreeSet<String>,
    reading: &'a Reading,
}

impl<'a> Section<'a> {
    pub(super) fn root(source: &'a str, table: &'a dyn TableLike, reading: &'a Reading) -> Self {
        Self {
            source,
            table,
            path: String::new(),
            span: None,
            depth: 0,
            known: BTreeSet::new(),
            taken: BTreeSet::new(),
            reading,
        }
    }

    pub(super) fn keys(&self) -> Vec<String> {
        self.table.iter().map(|(key, _)| key.to_owned()).collect()
    }

    fn inner_path(&self, key: &str) -> String {
        if self.path.is_empty() { key.to_owned() } else { format!("{}.{key}", self.path) }
    }

    fn report(
        &self,
        span: Option<Range<usize>>,
        path: String,
        says: &str,
        expected: &str,
        did_you_mean: Option<String>,
    ) {
        let (line, column) = place(self.source, span.or_else(|| self.span.clone()));
        let fault = Fault {
            line,
            column,
            path,
            says: says.to_owned(),
            expected: expected.to_owned(),
            did_you_mean,
        };
        self.reading.faults.borrow_mut().push(fault);
    }

    fn key_span(&self, key: &str) -> Option<Range<usize>> {
        self.table.get_key_value(key).and_then(|(key, _)| key.span())
    }

    /// Reports that the value of `key` is not what it should be.
    pub(crate) fn fault_at(&self, key: &str, expected: &str, did_you_mean: Option<String>) {
        let item = self.table.get(key);
        let span = item.and_then(Item::span).or_else(|| self.key_span(key));
        let says = match item {
            None => "missing".to_owned(),
            Some(Item::Value(value)) => {
                format!(
                    "{} does not fit",
                    value.to_string().trim().chars().take(60).collect::<String>()
                )
            }
            Some(_) => "does not fit".to_owned(),
        };
        self.report(span, self.inner_path(key), &says, expected, did_you_mean);
    }

    /// Takes `key`, which the language knows.
    fn take(&mut self, key: &str) -> Option<&'a Item> {
        self.taken.insert(key.to_owned());
        self.table.get(key).filter(|item| !item.is_none())
    }

    fn know(&mut self, key: &'static str) -> Option<&'a Item> {
        self.known.insert(key);
        self.take(key)
    }

    /// Parts of the language that this version does not carry out: using one is a fault, never
    /// silently nothing.
    pub(crate) fn later(&mut self, keys: &[&'static str]) {
        for key in keys {
            if self.know(key).is_some() {
                let says = "belongs to the language, but this version does not carry it out yet";
                self.report(
                    self.key_span(key),
                    self.inner_path(key),
                    says,
                    "a charter without it",
                    None,
                );
            }
        }
    }

    /// A string.
    pub(crate) fn text(&mut self, key: &'static str) -> Option<String> {
        let item = self.know(key)?;
        let text = item
            .as_str()
            .filter(|text| text.chars().count() <= 200 && !text.chars().any(char::is_control));
        if text.is_none() {
            self.fault_at(key, "a string of at most 200 characters", None);
        }
        text.map(str::to_owned)
    }

    /// A needed name of lower-case letters, digits and dashes.
    pub(super) fn name(&mut self, key: &'static str) -> Option<String> {
        let text = self.know(key).and_then(Item::as_str).filter(|text| is_name(text));
        if text.is_none() {
            self.fault_at(
                key,
                "a name of 1 to 64 lower-case letters, digits and dashes, such as \"headcount\"",
                None,
            );
        }
        text.map(str::to_owned)
    }

    /// A needed string out of `options`.
    pub(crate) fn one_of(&mut self, key: &'static str, options: &[&str]) -> Option<String> {
        let item = self.know(key);
        let given = item.and_then(Item::as_str);
        let found = given.filter(|given| options.contains(given));
        if found.is_none() {
            let meant = given.and_then(|given| nearest(given, options.iter().copied()));
            self.fault_at(key, &format!("one of {}", options.join(", ")), meant);
        }
        found.map(str::to_owned)
    }

    /// A string out of `options`, or the standard one.
    pub(crate) fn choice(&mut self, key: &'static str, options: &[&str], standard: &str) -> String {
        match self.table.contains_key(key) {
            true => self.one_of(key, options).unwrap_or_else(|| standard.to_owned()),
            false => {
                self.know(key);
                standard.to_owned()
            }
        }
    }

    /// A whole number within `range`.
    pub(crate) fn integer(&mut self, key: &'static str, range: RangeInclusive<i64>) -> Option<i64> {
        self.know(key)?;
        self.integer_needed(key, range)
    }

    /// A whole number that must be there.
    pub(super) fn integer_needed(
        &mut self,
        key: &'static str,
        range: RangeInclusive<i64>,
    ) -> Option<i64> {
        let number =
            self.know(key).and_then(Item::as_integer).filter(|number| range.contains(number));
        if number.is_none() {
            self.fault_at(
                key,
                &format!("a whole number from {} to {}", range.start(), range.end()),
                None,
            );
        }
        number
    }

    /// A whole number within `range` in the type that is wanted, or the standard one.
    pub(crate) fn number<N: TryFrom<i64>>(
        &mut self,
        key: &'static str,
        range: RangeInclusive<i64>,
        standard: N,
    ) -> N {
        self.integer(key, range).and_then(|number| N::try_from(number).ok()).unwrap_or(standard)
    }

    /// A reference to the records of a map: `{ to = "/crews", on-drop = "refuse" }`.
    pub(crate) fn reference(&mut self, key: &'static str) -> Option<Reference> {
        self.know(key)?;
        let span = self.table.get(key).and_then(Item::span);
        let mut inner = self.section(key)?;
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
        Some(Reference { to: to?, on_drop, span })
    }

    /// Reports references that lead nowhere; `maps` are the fields to which one may lead.
    pub(super) fn check_links(&self, links: &[Link], maps: &[&str]) {
        for Link { steps, holder, reference } in links {
            let names: Vec<_> =
                steps.iter().map(|step| step.as_deref().unwrap_or("each")).collect();
            let path = format!("state.{}.refers", names.join("."));
            let span = || reference.span.clone();
            if !maps.contains(&reference.to.as_str()) {
                let meant =
                    nearest(&reference.to, maps.iter().copied()).map(|meant| format!("/{meant}"));
                let says = format!("\"/{}\" is no map of [state]", reference.to);
                self.report(span(), path.clone(), &says, "the path of a map", meant);
            }
            if reference.on_drop == OnDrop::Cascade && holder.is_none() {
                self.report(
                    span(),
                    path,
                    "there is no record around it that could go",
                    "refuse or clear",
                    None,
                );
            }
        }
    }

    /// Whether the key is there.
    pub(crate) fn has(&self, key: &str) -> bool {
        self.table.contains_key(key)
    }

    /// `true` or `false`, the latter where it is left out.
    pub(crate) fn flag(&mut self, key: &'static str) -> bool {
        let Some(item) = self.know(key) else { return false };
        let flag = item.as_bool();
        if flag.is_none() {
            self.fault_at(key, "true or false", None);
        }
        flag.unwrap_or(false)
    }

    /// A size such as "64KiB".
    pub(super) fn bytes(&mut self, key: &'static str, range: RangeInclusive<u64>) -> Option<u64> {
        let item = self.know(key)?;
        let bytes = item.as_str().and_then(parse_bytes).filter(|bytes| range.contains(bytes));
        if bytes.is_none() {
            let expected = format!(
                "a size from {} to {} bytes, such as \"64KiB\" or \"8MiB\"",
                range.start(),
                range.end()
            );
            self.fault_at(key, &expected, None);
        }
        bytes
    }

    /// A duration such as "50ms" or "10m", within a range of milliseconds.
    pub(super) fn duration(
        &mut self,
        key: &'static str,
        range: RangeInclusive<u64>,
    ) -> Option<Duration> {
        let item = self.know(key)?;
        let ms = item.as_str().and_then(parse_ms).filter(|ms| range.contains(ms));
        if ms.is_none() {
            let expected = format!(
                "a duration from {} to {} ms, such as \"50ms\", \"10s\", \"10m\" or \"2h\"",
                range.start(),
                range.end()
            );
            self.fault_at(key, &expected, None);
        }
        ms.map(Duration::from_millis)
    }

    /// A choice of which this version carries out one only.
    pub(super) fn one_so_far(&mut self, key: &'static str, only: &str, later: &[&str]) {
        let Some(item) = self.know(key) else { return };
        match item.as_str() {
            Some(given) if given == only => {}
            Some(given) if later.contains(&given) => {
                let says = "belongs to the language, but this version does not carry it out yet";
                self.report(
                    self.key_span(key),
                    self.inner_path(key),
                    says,
                    &format!("\"{only}\""),
                    None,
                );
            }
            given => {
                let meant = given.and_then(|given| nearest(given, [only]));
                self.fault_at(key, &format!("\"{only}\""), meant);
            }
        }
    }

    /// Any value, as JSON.
    pub(crate) fn json(&mut self, key: &'static str) -> Option<Json> {
        let json = to_json(self.know(key)?);
        if json.is_none() {
            self.fault_at(
                key,
                "a value that JSON has: string, number, boolean, array or table",
                None,
            );
        }
        json
    }

    /// A compiled JSON Schema.
    pub(crate) fn schema(&mut self, key: &'static str) -> Option<Arc<Validator>> {
        let json = self.json(key)?;
        match compile(&json) {
            Ok(validator) => Some(Arc::new(validator)),
            Err(why) => {
                self.fault_at(key, &format!("a JSON Schema (2020-12): {why}"), None);
                None
            }
        }
    }

    /// An inner table.
    pub(super) fn section(&mut self, key: &str) -> Option<Section<'a>> {
        let item = self.take(key)?;
        let Some(table) = item.as_table_like() else {
            self.fault_at(key, "a table", None);
            return None;
        };
        Some(Section {
            table,
            path: self.inner_path(key),
            span: self.key_span(key).or_else(|| item.span()),
            depth: self.depth + 1,
            known: BTreeSet::new(),
            taken: BTreeSet::new(),
            source: self.source,
            reading: self.reading,
        })
    }

    /// A needed table of declared fields.
    pub(crate) fn fields(&mut self, key: &'static str) -> Fields {
        self.known.insert(key);
        if self.depth > 2 * DEEPEST {
            self.fault_at(key, &format!("records at most {DEEPEST} deep"), None);
            self.taken.insert(key.to_owned());
            return Fields::default();
        }
        let Some(mut section) = self.section(key) else {
            if !self.table.contains_key(key) {
                self.fault_at(
                    key,
                    &format!("at least one field, as in [{}.notes]", self.inner_path(key)),
                    None,
                );
            }
            return Fields::default();
        };
        let names = section.keys();
        if names.is_empty() {
            self.fault_at(key, "at least one field", None);
        }
        let mut fields = Vec::new();
        for name in names {
            if !is_field_name(&name) {
                section.fault_at(
                    &name,
                    "a field name of 1 to 64 letters, digits, dashes and underscores",
                    None,
                );
            }
            let Some(mut inner) = section.section(&name) else { continue };
            if let Some(field) = Field::declare(&mut inner) {
                inner.finish();
                fields.push((name, field));
            }
        }
        Fields::new(fields)
    }

    /// The tables of an array of tables, each a section.
    pub(super) fn tables(&mut self, key: &'static str) -> Vec<Section<'a>> {
        let Some(item) = self.know(key) else { return Vec::new() };
        let Some(tables) = item.as_array_of_tables() else {
            self.fault_at(key, &format!("tables, each under [[{key}]]"), None);
            return Vec::new();
        };
        let section = |(index, table): (usize, &'a toml_edit::Table)| Section {
            table,
            path: format!("{}[{index}]", self.inner_path(key)),
            span: table.span(),
            depth: self.depth + 1,
            known: BTreeSet::new(),
            taken: BTreeSet::new(),
            source: self.source,
            reading: self.reading,
        };
        tables.iter().enumerate().map(section).collect()
    }

    /// Its line, from 1.
    pub(super) fn line(&self) -> usize {
        place(self.source, self.span.clone()).0
    }

    /// A name of [surfaces].
    pub(crate) fn surface(&mut self, key: &'static str) -> Option<Surface> {
        self.know(key)?;
        let name = self.table.get(key).and_then(Item::as_str);
        let surfaces = self.reading.surfaces.borrow();
        let found = name.and_then(|name| surfaces.get(name)).cloned();
        if found.is_none() {
            let known: Vec<&str> = surfaces.keys().map(String::as_str).collect();
            let meant = name.and_then(|name| nearest(name, known.iter().copied()));
            self.fault_at(key, "the name of a surface that [surfaces] declares", meant);
        }
        found
    }

    /// All of [surfaces].
    pub(super) fn surfaces(&mut self) {
        let Some(mut all) = self.section("surfaces") else { return };
        for name in all.keys() {
            let Some(mut section) = all.section(&name) else { continue };
            let unit = section.text("unit").filter(|unit| !unit.is_empty());
            if unit.is_none() {
                section.fault_at(
                    "unit",
                    "what is counted, such as \"m\", \"mm\" or \"cells\"",
                    None,
                );
            }
            let (x, y) = (section.range("x"), section.range("y"));
            section.finish();
            if let (Some(unit), Some(x), Some(y)) = (unit, x, y) {
                self.reading.surfaces.borrow_mut().insert(name, Surface { unit, x, y });
            }
        }
        all.finish();
    }

    /// Two numbers, the second above the first.
    fn range(&mut self, key: &'static str) -> Option<(f64, f64)> {
        let ends = self.know(key).and_then(to_json);
        let end = |at: usize| ends.as_ref()?.get(at)?.as_f64().filter(|end| end.is_finite());
        let is_pair = ends.as_ref().and_then(Json::as_array).is_some_and(|ends| ends.len() == 2);
        let range = end(0).zip(end(1)).filter(|(from, to)| from < to && is_pair);
        if range.is_none() {
            self.fault_at(key, "two numbers, from where to where, such as [0, 120]", None);
        }
        range
    }

    /// The table without one key, as a JSON Schema.
    pub(super) fn schema_beside(&mut self, beside: &'static str) -> Option<Arc<Validator>> {
        self.taken.extend(self.keys());
        let mut schema = table_to_json(self.table)?;
        schema.as_object_mut()?.shift_remove(beside);
        match compile(&schema) {
            Ok(validator) => Some(Arc::new(validator)),
            Err(why) => {
                let expected = format!(
                    "surface, refers, anchor, or the keys of a JSON Schema (2020-12): {why}"
                );
                self.report(None, self.path.clone(), "does not fit", &expected, None);
                None
            }
        }
    }

    /// Some of `options`; those that belong to a later version are faults of their own.
    pub(super) fn several(
        &mut self,
        key: &'static str,
        options: &[&str],
        later: &[&str],
    ) -> BTreeSet<String> {
        let Some(item) = self.know(key) else { return BTreeSet::new() };
        let expected = format!("an array of {}", options.join(", "));
        let Some(items) = item.as_array() else {
            self.fault_at(key, &expected, None);
            return BTreeSet::new();
        };
        let mut several = BTreeSet::new();
        for (index, item) in items.iter().enumerate() {
            let path = format!("{}[{index}]", self.inner_path(key));
            match item.as_str() {
                Some(given) if options.contains(&given) => drop(several.insert(given.to_owned())),
                Some(given) if later.contains(&given) => {
                    let says =
                        "belongs to the language, but this version does not carry it out yet";
                    self.report(item.span(), path, says, &expected, None);
                }
                given => {
                    let meant = given.and_then(|given| nearest(given, options.iter().copied()));
                    self.report(item.span(), path, "is none of them", &expected, meant);
                }
            }
        }
        several
    }

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
        let span = self.table.get(key).and_then(Item::span);
        self.check_reads_at(span.as_ref(), &self.inner_path(key), expression, fields, at);
    }

    fn check_reads_at(
        &self,
        span: Option<&Range<usize>>,
        path: &str,
        expression: &Expression,
        fields: &Fields,
        at: &Pattern,
    ) {
        let is_record = at.tokens().is_some_and(|tokens| tokens.len().is_multiple_of(2));
        for Read { name, member } in expression.reads() {
            let declared = match name.as_str() {
                "who" => Some(vec!["id", "role"]),
                "state" => Some(
                    fields
                        .iter()
                        .filter(|(_, field)| field.is_small())
                        .map(|(name, _)| name)
                        .collect(),
                ),
                "record" => fields
                    .record_around(at)
                    .map(|fields| fields.iter().map(|(name, _)| name).collect()),
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
                    let expected = format!("one of {}", declared.join(", "));
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
        let is_record = fields.record_around(&pattern).is_some();
        let is_even = pattern.tokens().is_some_and(|tokens| tokens.len().is_multiple_of(2));
        if fields.declared(&pattern).is_none() && !(is_record && is_even) {
            let tops: Vec<&str> = fields.iter().map(|(name, _)| name).collect();
            let meant = pattern.top().and_then(|top| {
                nearest(top, tops.iter().copied())
                    .map(|meant| pattern.to_string().replacen(top, &meant, 1))
            });
            let expected = "a declared field, or the records of one, with * for an id and no **, \
                such as \"/offers/*\"";
            self.fault_at(key, expected, meant.filter(|meant| *meant != pattern.to_string()));
            return None;
        }
        Some(pattern)
    }

    /// Each item of an array of path patterns, or of tables that hold one, with its place.
    fn pattern_items(&mut self, key: &'static str, expected: &str) -> Vec<(String, &'a Value)> {
        let Some(items) = self.know(key).and_then(Item::as_array) else {
            self.fault_at(key, expected, None);
            return Vec::new();
        };
        let path = self.inner_path(key);
        items.iter().enumerate().map(|(index, item)| (format!("{path}[{index}]"), item)).collect()
    }

    /// A pattern that begins at one of `tops`.
    fn pattern_of(
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

    /// Where a role may edit: patterns, or tables with a pattern and a condition.
    pub(super) fn grants(
        &mut self,
        key: &'static str,
        tops: &BTreeSet<&str>,
        fields: &Fields,
    ) -> Vec<Grant> {
        let items = self.pattern_items(key, "an array of path patterns such as \"/markers/**\"");
        let mut grants = Vec::new();
        for (path, item) in items {
            let (text, source) = match item.as_inline_table() {
                None => (item.as_str(), None),
                Some(table) => {
                    if let Some((other, _)) =
                        table.iter().find(|(name, _)| !["at", "if"].contains(name))
                    {
                        let meant = nearest(other, ["at", "if"]);
                        self.report(
                            item.span(),
                            path.clone(),
                            &format!("unknown key {other:?}"),
                            "at and if",
                            meant,
                        );
                    }
                    (table.get("at").and_then(Value::as_str), Some(table.get("if")))
                }
            };
            let Some(pattern) = self.pattern_of(text, item.span(), &path, tops) else { continue };
            let compiled = source.map(|source| match source.and_then(Value::as_str) {
                None => {
                    Err("a condition in CEL as `if`, such as \"record.by == who.id\"".to_owned())
                }
                Some(source) => Expression::compile(source, &CONDITION_NAMES),
            });
            let condition = match compiled.transpose() {
                Ok(condition) => condition,
                Err(expected) => {
                    self.report(item.span(), path, "does not fit", &expected, None);
                    continue;
                }
            };
            if let Some(condition) = &condition {
                self.check_reads_at(item.span().as_ref(), &path, condition, fields, &pattern);
            }
            grants.push(Grant { pattern, condition, line: place(self.source, item.span()).0 });
        }
        grants
    }

    /// What a role sees: patterns, and `{ but = … }` for what is hidden; nothing where the key is
    /// left out.
    pub(super) fn sights(&mut self, key: &'static str, tops: &BTreeSet<&str>) -> Option<Vec<Rule>> {
        self.know(key)?;
        let items = self.pattern_items(
            key,
            "an array of path patterns and { but = … }, such as [\"/**\", { but = \
             \"/offers/*/limit\" }]",
        );
        let mut rules = Vec::new();
        for (path, item) in items {
            let text = match item.as_inline_table() {
                None => item.as_str(),
                Some(table) => {
                    if let Some((other, _)) = table.iter().find(|(name, _)| *name != "but") {
                        let expected = "but: seeing has no condition, since what is hidden must \
                            be the same for all of a role";
                        self.report(
                            item.span(),
                            path.clone(),
                            &format!("unknown key {other:?}"),
                            expected,
                            None,
                        );
                    }
                    table.get("but").and_then(Value::as_str)
                }
            };
            let Some(pattern) = self.pattern_of(text, item.span(), &path, tops) else { continue };
            let names_an_id = pattern
                .tokens()
                .is_some_and(|tokens| tokens.iter().skip(1).step_by(2).any(Option::is_some));
            if names_an_id {
                let says = "names one record";
                self.report(
                    item.span(),
                    path,
                    says,
                    "\"*\" for the id of a record: a role sees a field of all records or of none",
                    None,
                );
            }
            rules.push(Rule { pattern, is_shown: !item.is_inline_table() });
        }
        Some(rules)
    }

    /// Reports each key that nothing has taken.
    pub(super) fn finish(&self) {
        for (key, _) in self.table.iter().filter(|(key, _)| !self.taken.contains(*key)) {
            let known: Vec<&str> = if self.path.is_empty() {
                self.known
                    .iter()
                    .copied()
                    .chain(["session", "limits", "roles", "surfaces", "presence", "holds", "cues"])
                    .collect()
            } else {
                self.known.iter().copied().collect()
            };
            let expected = if known.is_empty() {
                "nothing here".to_owned()
            } else {
                format!("one of {}", known.join(", "))
            };
            let meant = nearest(key, known);
            self.report(self.key_span(key), self.inner_path(key), "unknown key", &expected, meant);
        }
    }
}

fn is_name(text: &str) -> bool {
    (1..=64).contains(&text.len())
        && text
            .bytes()
            .all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-')
}

fn is_field_name(text: &str) -> bool {
    (1..=64).contains(&text.len())
        && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'_')
}

fn parse_ms(text: &str) -> Option<u64> {
    let digits = text.bytes().take_while(u8::is_ascii_digit).count();
    let (number, unit) = text.split_at(digits);
    let unit = match unit {
        "ms" => 1,
        "s" => 1_000,
        "m" => 60_000,
        "h" => 3_600_000,
        _ => return None,
    };
    number.parse::<u64>().ok()?.checked_mul(unit)
}

fn parse_bytes(text: &str) -> Option<u64> {
    let digits = text.trim_end_matches(|c: char| !c.is_ascii_digit());
    let unit: u64 = match &text[digits.len()..] {
        "" | "B" => 1,
        "KiB" => 1 << 10,
        "MiB" => 1 << 20,
        _ => return None,
    };
    digits.parse::<u64>().ok()?.checked_mul(unit)
}

fn to_json(item: &Item) -> Option<Json> {
    match item {
        Item::Value(value) => value_to_json(value),
        Item::Table(table) => table_to_json(table),
        Item::ArrayOfTables(tables) => tables
            .iter()
            .map(|table| table_to_json(table))
            .collect::<Option<Vec<_>>>()
            .map(Json::Array),
        Item::None => None,
    }
}

pub(super) fn table_to_json(table: &dyn TableLike) -> Option<Json> {
    let members = table.iter().map(|(key, item)| Some((key.to_owned(), to_json(item)?)));
    members.collect::<Option<Map<_, _>>>().map(Json::Object)
}

fn value_to_json(value: &Value) -> Option<Json> {
    match value {
        Value::String(text) => Some(text.value().clone().into()),
        Value::Integer(number) => Some((*number.value()).into()),
        Value::Float(number) => serde_json::Number::from_f64(*number.value()).map(Json::Number),
        Value::Boolean(truth) => Some((*truth.value()).into()),
        Value::Datetime(time) => Some(time.value().to_string().into()),
        Value::Array(items) => {
            items.iter().map(value_to_json).collect::<Option<Vec<_>>>().map(Json::Array)
        }
        Value::InlineTable(table) => table_to_json(table),
    }
}
