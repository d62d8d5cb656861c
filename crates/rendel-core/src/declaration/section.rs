//! Reading one table of a charter: each key is taken by its type, what is left over is a fault.

use std::collections::BTreeSet;
use std::ops::{Range, RangeInclusive};
use std::sync::Arc;
use std::time::Duration;

use bigdecimal::BigDecimal;
use jsonschema::Validator;
use serde_json::Value as Json;
use toml_edit::{Item, TableLike};

use super::fault::{Fault, Faults, place};
use super::schema::compile;
use super::value::{is_field_name, is_name, parse_bytes, parse_ms, table_to_json, to_json};
use crate::decimal::decimal;
use crate::suggest::nearest;

/// One table of a charter and the faults found so far.
pub(crate) struct Section<'a> {
    source: &'a str,
    table: &'a dyn TableLike,
    path: String,
    span: Option<Range<usize>>,
    depth: usize,
    known: BTreeSet<&'static str>,
    taken: BTreeSet<String>,
    faults: &'a Faults,
}

impl<'a> Section<'a> {
    pub(crate) fn root(source: &'a str, table: &'a dyn TableLike, faults: &'a Faults) -> Self {
        Self {
            source,
            table,
            path: String::new(),
            span: None,
            depth: 0,
            known: BTreeSet::new(),
            taken: BTreeSet::new(),
            faults,
        }
    }

    pub(crate) fn keys(&self) -> Vec<String> {
        self.table.iter().map(|(key, _)| key.to_owned()).collect()
    }

    pub(crate) fn inner_path(&self, key: &str) -> String {
        if self.path.is_empty() { key.to_owned() } else { format!("{}.{key}", self.path) }
    }

    /// Reports a fault; without a place of its own it is that of the table.
    pub(crate) fn report(
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
        self.faults.borrow_mut().push(fault);
    }

    fn key_span(&self, key: &str) -> Option<Range<usize>> {
        self.table.get_key_value(key).and_then(|(key, _)| key.span())
    }

    /// Whether something was found to be wrong there, or inside.
    pub(crate) fn has_fault_at(&self, path: &str) -> bool {
        let is_inside = |fault: &Fault| {
            fault
                .path
                .strip_prefix(path)
                .is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
        };
        self.faults.borrow().iter().any(is_inside)
    }

    /// Reports rules that lead to one another for ever, at the line of one.
    pub(crate) fn circle(&self, line: usize, shown: &str) {
        let fault = Fault {
            line,
            column: 1,
            path: "when".to_owned(),
            says: format!("these rules set each other off for ever: {shown}"),
            expected: "rules of which none leads back to itself".to_owned(),
            did_you_mean: None,
        };
        self.faults.borrow_mut().push(fault);
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

    fn take(&mut self, key: &str) -> Option<&'a Item> {
        self.taken.insert(key.to_owned());
        self.table.get(key).filter(|item| !item.is_none())
    }

    /// Takes `key`, which the language knows.
    pub(crate) fn know(&mut self, key: &'static str) -> Option<&'a Item> {
        self.known.insert(key);
        self.take(key)
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
    pub(crate) fn name(&mut self, key: &'static str) -> Option<String> {
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

    /// A needed array of different names.
    pub(crate) fn names(&mut self, key: &'static str, most: usize) -> Vec<String> {
        let names = self.know(key).and_then(Item::as_array).map(|names| {
            let name = |name: &toml_edit::Value| name.as_str().map(str::to_owned);
            names.iter().map(name).collect::<Option<Vec<_>>>()
        });
        let names = names.flatten().filter(|names| {
            let different: BTreeSet<&String> = names.iter().collect();
            (1..=most).contains(&names.len())
                && different.len() == names.len()
                && names.iter().all(|name| is_field_name(name))
        });
        names.unwrap_or_else(|| {
            let expected = format!(
                "an array of 1 to {most} different names of letters, digits, dashes and \
                 underscores"
            );
            self.fault_at(key, &expected, None);
            Vec::new()
        })
    }

    /// A needed array of different texts, each of 1 to `chars` characters.
    pub(crate) fn words(&mut self, key: &'static str, most: usize, chars: usize) -> Vec<String> {
        let words = self.know(key).and_then(Item::as_array).map(|words| {
            let word = |word: &toml_edit::Value| word.as_str().map(str::to_owned);
            words.iter().map(word).collect::<Option<Vec<_>>>()
        });
        let fits = |word: &String| {
            (1..=chars).contains(&word.chars().count()) && !word.chars().any(char::is_control)
        };
        let words = words.flatten().filter(|words| {
            let different: BTreeSet<&String> = words.iter().collect();
            (1..=most).contains(&words.len())
                && different.len() == words.len()
                && words.iter().all(fits)
        });
        words.unwrap_or_else(|| {
            let expected =
                format!("an array of 1 to {most} different texts of 1 to {chars} characters");
            self.fault_at(key, &expected, None);
            Vec::new()
        })
    }

    /// A needed number, as it is written.
    pub(crate) fn decimal(&mut self, key: &'static str) -> Option<BigDecimal> {
        let number = self.know(key).and_then(to_json).filter(Json::is_number);
        let number = number.as_ref().and_then(decimal);
        if number.is_none() {
            self.fault_at(key, "a number", None);
        }
        number
    }

    /// Reports a field that is not one of the state itself.
    pub(crate) fn top_level(&self) {
        if self.depth != 2 {
            self.fault_at("kind", "this kind at the top of [state] only", None);
        }
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
    pub(crate) fn integer_needed(
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

    /// An inner table that is read by its names, which the language knows.
    pub(crate) fn known_section(&mut self, key: &'static str) -> Option<Section<'a>> {
        self.known.insert(key);
        self.section(key)
    }

    /// What stands at the key.
    pub(crate) fn item(&self, key: &str) -> Option<&'a Item> {
        self.table.get(key)
    }

    /// Tables around this one.
    pub(crate) fn depth(&self) -> usize {
        self.depth
    }

    /// The line, from 1, of a place in the text.
    pub(crate) fn line_of(&self, span: Option<Range<usize>>) -> usize {
        place(self.source, span).0
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
    pub(crate) fn bytes(&mut self, key: &'static str, range: RangeInclusive<u64>) -> Option<u64> {
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
    pub(crate) fn duration(
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
    pub(crate) fn one_so_far(&mut self, key: &'static str, only: &str, later: &[&str]) {
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
    pub(crate) fn section(&mut self, key: &str) -> Option<Section<'a>> {
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
            faults: self.faults,
        })
    }

    /// The tables of an array of tables, each a section.
    pub(crate) fn tables(&mut self, key: &'static str) -> Vec<Section<'a>> {
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
            faults: self.faults,
        };
        tables.iter().enumerate().map(section).collect()
    }

    /// The tables of an array, each a section.
    pub(crate) fn inline_tables(&mut self, key: &'static str) -> Vec<Section<'a>> {
        let items = self.know(key).and_then(Item::as_array);
        let table = |(index, item): (usize, &'a toml_edit::Value)| {
            let table = item.as_inline_table()?;
            Some(Section {
                table,
                path: format!("{}[{index}]", self.inner_path(key)),
                span: item.span(),
                depth: self.depth + 1,
                known: BTreeSet::new(),
                taken: BTreeSet::new(),
                source: self.source,
                faults: self.faults,
            })
        };
        let tables = items.map(|items| items.iter().enumerate().map(table).collect());
        let tables: Option<Vec<_>> = tables.flatten();
        if tables.is_none() {
            self.fault_at(
                key,
                "an array of tables, such as [{ at = \"/status\", op = \"clear\" }]",
                None,
            );
        }
        tables.unwrap_or_default()
    }

    /// A string at a key of whatever name.
    pub(crate) fn taken_str(&mut self, key: &str) -> Option<&'a str> {
        self.take(key).and_then(Item::as_str)
    }

    /// A value at a key of whatever name, as JSON.
    pub(crate) fn taken_json(&mut self, key: &str) -> Option<Json> {
        let json = self.take(key).and_then(to_json);
        if json.is_none() {
            self.fault_at(key, "a value that JSON has", None);
        }
        json
    }

    /// Its line, from 1.
    pub(crate) fn line(&self) -> usize {
        self.line_of(self.span.clone())
    }

    /// Two numbers, the second above the first.
    pub(crate) fn range(&mut self, key: &'static str) -> Option<(f64, f64)> {
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
    pub(crate) fn schema_beside(&mut self, beside: &'static str) -> Option<Arc<Validator>> {
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
    pub(crate) fn several(
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

    /// Reports each key that nothing has taken.
    pub(crate) fn finish(&self) {
        for (key, _) in self.table.iter().filter(|(key, _)| !self.taken.contains(*key)) {
            let known: Vec<&str> = self.known.iter().copied().collect();
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
