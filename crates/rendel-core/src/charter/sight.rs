//! Seeing: what of the state a role is shown.
//!
//! What a role may not see is hidden by field, never by a record's id, so that the same part is
//! hidden in a snapshot, in every update, in digests and in the words of problems. Roles that see
//! the same are one audience.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Map, Value, json};

use super::pattern::Pattern;
use crate::declaration::Section;
use crate::kind::{Field, Fields};
use crate::op::Op;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::update::{Effect, Effects, Settled, Verdict};

/// What of the state a role is shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sight(Shown);

#[derive(Clone, Debug, PartialEq, Eq)]
enum Shown {
    Whole,
    Nothing,
    /// Of a record its fields; of a map or list the fields of each record in it.
    Parts(BTreeMap<String, Shown>),
}

/// How much of what lies at a path is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Extent {
    /// All of it.
    Whole,
    /// Parts of it.
    Part,
    /// None of it: as if it were not there.
    Nothing,
}

/// A part of `see`: what it matches, and all inside, is shown or hidden.
#[derive(Clone, Debug)]
pub(super) struct Rule {
    pub(super) pattern: Pattern,
    pub(super) is_shown: bool,
}

impl Sight {
    /// Everything.
    pub const WHOLE: Self = Self(Shown::Whole);
    /// Nothing.
    pub const NOTHING: Self = Self(Shown::Nothing);

    pub(super) fn of(rules: &[Rule], fields: &Fields) -> Self {
        Self(shown_record(rules, fields, &mut vec![]))
    }

    /// Whether nothing is hidden.
    pub fn is_whole(&self) -> bool {
        self.0 == Shown::Whole
    }

    fn at(&self, tokens: &[Token], fields: &Fields) -> &Shown {
        let mut shown = &self.0;
        let mut fields = Some(fields);
        let mut tokens = tokens.iter();
        while let (Shown::Parts(parts), Some(known)) = (shown, fields) {
            let Some(name) = tokens.next() else { return shown };
            shown = parts.get(name.as_str()).unwrap_or(&Shown::Nothing);
            fields = known.field(name).and_then(Field::each);
            if !matches!(shown, Shown::Parts(_)) {
                break;
            }
            // The id of a record, behind which its own fields stand.
            if tokens.next().is_none() {
                return shown;
            }
        }
        shown
    }

    /// How much of what lies at a path is shown.
    pub fn extent(&self, fields: &Fields, path: &Path) -> Extent {
        match self.at(path.tokens(), fields) {
            Shown::Whole => Extent::Whole,
            Shown::Parts(_) => Extent::Part,
            Shown::Nothing => Extent::Nothing,
        }
    }

    /// Takes what is hidden out of the declaration of the state.
    pub(super) fn declaration(&self, fields: &Fields, declared: &mut Value) {
        if let Shown::Parts(parts) = &self.0 {
            declaration(fields, parts, declared);
        } else if self.0 == Shown::Nothing {
            *declared = json!({});
        }
    }

    /// A plain state without what is hidden. Cost O(size), and none where nothing is hidden.
    pub fn state(&self, fields: &Fields, plain: Value) -> Value {
        match &self.0 {
            Shown::Whole => plain,
            Shown::Nothing => json!({}),
            Shown::Parts(parts) => record(fields, parts, plain),
        }
    }

    /// The plain value at a path without what is hidden; `None` where all of it is.
    pub fn value(&self, fields: &Fields, path: &Path, plain: Value) -> Option<Value> {
        match self.at(path.tokens(), fields) {
            Shown::Whole => Some(plain),
            Shown::Nothing => None,
            Shown::Parts(parts) => Some(within(fields, path, parts, plain)),
        }
    }

    /// An effect without what is hidden; `None` where all of it is.
    pub(crate) fn effect(&self, fields: &Fields, effect: &Effect) -> Option<Effect> {
        if self.is_whole() {
            return Some(effect.clone());
        }
        let mut seen = effect.clone();
        if let Op::Reset(value) = &mut seen.op {
            *value = self.state(fields, value.take());
            return Some(seen);
        }
        match self.at(effect.at.tokens(), fields) {
            Shown::Whole => Some(seen),
            Shown::Nothing => None,
            Shown::Parts(parts) => {
                if let (Some(inner), Some(value)) =
                    (fields_behind(fields, &effect.at), seen.op.record_mut())
                {
                    *value = record(inner, parts, value.take());
                }
                Some(seen)
            }
        }
    }

    /// An update without what is hidden. One of which nothing is shown keeps its place in the order
    /// and the time, and says neither who made it nor why.
    pub fn update(&self, fields: &Fields, update: &Settled) -> Settled {
        if self.is_whole() {
            return update.clone();
        }
        let effects: Effects =
            update.effects.iter().filter_map(|effect| self.effect(fields, effect)).collect();
        let mut verdicts: Vec<_> =
            update.verdicts.iter().filter_map(|verdict| self.verdict(fields, verdict)).collect();
        if effects.len() < update.effects.len() {
            // What it met may be what is hidden.
            for verdict in &mut verdicts {
                verdict.met.clear();
                verdict.because = "What it met is not all shown to your role.".to_owned();
            }
        }
        let is_whole = effects == update.effects && verdicts == update.verdicts;
        if is_whole {
            return update.clone();
        }
        let is_blank = effects.is_empty() && verdicts.is_empty();
        Settled {
            seq: update.seq,
            at: update.at,
            by: if is_blank { String::new() } else { update.by.clone() },
            client: if is_blank { uuid::Uuid::nil() } else { update.client },
            n: if is_blank { 0 } else { update.n },
            effects,
            verdicts,
            gesture: None,
            note: None,
        }
    }

    fn verdict(&self, fields: &Fields, verdict: &Verdict) -> Option<Verdict> {
        let path = Path::parse(&verdict.at).ok()?;
        match self.extent(fields, &path) {
            Extent::Whole => Some(verdict.clone()),
            Extent::Nothing => None,
            Extent::Part => {
                let lost = verdict.lost.clone().and_then(|lost| self.value(fields, &path, lost));
                Some(Verdict { lost, ..verdict.clone() })
            }
        }
    }

    /// A refusal in words that say nothing of what is hidden.
    pub fn problem(&self, fields: &Fields, problem: Problem) -> Problem {
        if self.is_whole() {
            return problem;
        }
        let told = problem.member("at").and_then(Value::as_str).map(str::to_owned);
        let Some((at, path)) = told.and_then(|at| Path::parse(&at).ok().map(|path| (at, path)))
        else {
            return problem;
        };
        let extent = self.extent(fields, &path);
        if problem.kind() == ProblemKind::UnknownPath {
            let meant = problem.member("did_you_mean").and_then(Value::as_str).map(str::to_owned);
            let is_seen = |meant: &String| {
                Path::parse(meant).is_ok_and(|path| self.extent(fields, &path) != Extent::Nothing)
            };
            return nothing_at(&path).did_you_mean(meant.filter(is_seen));
        }
        let problem = match (extent, problem.member("current").cloned()) {
            (Extent::Part, Some(current)) => match self.value(fields, &path, current) {
                Some(current) => problem.current(current),
                None => problem.without("current"),
            },
            _ => problem,
        };
        // What refers to a record may be hidden where the record is not.
        if extent == Extent::Nothing || problem.kind() == ProblemKind::Referenced {
            let kind = problem.kind();
            let detail =
                format!("{}. What stands against it is not shown to your role.", kind.title());
            return Problem::new(kind, detail).at(at);
        }
        problem
    }
}

/// The refusal of a path at which nothing is, or nothing that is shown: the two read the same.
pub(crate) fn nothing_at(path: &Path) -> Problem {
    Problem::new(ProblemKind::UnknownPath, format!("There is nothing at {path}.")).at(path)
}

fn shown_record(rules: &[Rule], fields: &Fields, place: &mut Vec<Token>) -> Shown {
    let mut parts = BTreeMap::new();
    for (name, field) in fields.iter() {
        place.push(name.into());
        let shown = match field.each() {
            None => {
                if is_shown(rules, place) {
                    Shown::Whole
                } else {
                    Shown::Nothing
                }
            }
            Some(each) => {
                place.push("*".into());
                let whole = is_shown(rules, place);
                let inner = shown_record(rules, each, place);
                place.pop();
                match inner {
                    Shown::Nothing if whole => Shown::Parts(BTreeMap::new()),
                    inner => inner,
                }
            }
        };
        place.pop();
        if shown != Shown::Nothing {
            parts.insert(name.to_owned(), shown);
        }
    }
    if parts.is_empty() && fields.iter().next().is_some() {
        return Shown::Nothing;
    }
    let is_all =
        parts.len() == fields.iter().count() && parts.values().all(|part| *part == Shown::Whole);
    if is_all { Shown::Whole } else { Shown::Parts(parts) }
}

/// Whether a declared path, or something around it, is matched to be shown, and nothing to be
/// hidden.
fn is_shown(rules: &[Rule], place: &[Token]) -> bool {
    let covers = |rule: &Rule| (1..=place.len()).any(|len| rule.pattern.matches(&place[..len]));
    let is_hidden = rules.iter().any(|rule| !rule.is_shown && covers(rule));
    !is_hidden && rules.iter().any(|rule| rule.is_shown && covers(rule))
}

fn declaration(fields: &Fields, parts: &BTreeMap<String, Shown>, declared: &mut Value) {
    let Some(members) = declared.as_object_mut() else { return };
    members.retain(|name, _| parts.contains_key(name));
    for (name, member) in members {
        let each = fields.field(name).and_then(Field::each);
        if let (Some(Shown::Parts(inner)), Some(each), Some(member)) =
            (parts.get(name), each, member.get_mut("each"))
        {
            declaration(each, inner, member);
        }
    }
}

fn record(fields: &Fields, parts: &BTreeMap<String, Shown>, plain: Value) -> Value {
    let Value::Object(members) = plain else { return plain };
    let kept = members.into_iter().filter_map(|(name, value)| {
        let value = match parts.get(&name)? {
            Shown::Whole => value,
            Shown::Nothing => return None,
            Shown::Parts(inner) => records(fields.field(&name)?.each()?, inner, value),
        };
        Some((name, value))
    });
    Value::Object(kept.collect::<Map<_, _>>())
}

/// A map or a list of records.
fn records(each: &Fields, parts: &BTreeMap<String, Shown>, plain: Value) -> Value {
    match plain {
        Value::Object(members) => {
            let members = members.into_iter().map(|(id, value)| (id, record(each, parts, value)));
            Value::Object(members.collect::<Map<_, _>>())
        }
        Value::Array(elements) => {
            let element = |mut element: Value| {
                if let Some(value) = element.get_mut("value") {
                    *value = record(each, parts, value.take());
                }
                element
            };
            Value::Array(elements.into_iter().map(element).collect())
        }
        other => other,
    }
}

/// A value at a path of which parts are shown: the state, a record, or a map or list.
fn within(fields: &Fields, path: &Path, parts: &BTreeMap<String, Shown>, plain: Value) -> Value {
    if path.tokens().is_empty() {
        return record(fields, parts, plain);
    }
    match fields_behind(fields, path) {
        Some(each) if is_record(fields, path) => record(each, parts, plain),
        Some(each) => records(each, parts, plain),
        None => plain,
    }
}

/// The fields of the records in the map or list at a path, or of the record at it.
fn fields_behind<'f>(fields: &'f Fields, path: &Path) -> Option<&'f Fields> {
    let mut fields = fields;
    for pair in path.tokens().chunks(2) {
        fields = fields.field(&pair[0])?.each()?;
    }
    Some(fields)
}

fn is_record(fields: &Fields, path: &Path) -> bool {
    path.tokens().len().is_multiple_of(2) && fields_behind(fields, path).is_some()
}

impl Section<'_> {
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
                    table.get("but").and_then(toml_edit::Value::as_str)
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
}

#[cfg(test)]
mod tests {
    use smallvec::smallvec;

    use super::*;
    use crate::charter::Charter;

    const CHARTER: &str = r#"
charter = "offers"
version = 1
[roles.all]
edit = []
[roles.but]
edit = []
see = ["/**", { but = "/offers/*/limit" }, { but = "/ledger" }]
[roles.only]
edit = []
see = ["/title", "/offers/*/amount"]
[roles.none]
edit = []
see = []
[roles.gone]
edit = []
see = ["/**", { but = "/offers/*" }]
[state.title]
kind = "register"
[state.ledger]
kind = "map"
[state.ledger.each.sum]
kind = "counter"
[state.offers]
kind = "map"
[state.offers.each.amount]
kind = "register"
[state.offers.each.limit]
kind = "register"
[state.offers.each.talks]
kind = "list"
[state.offers.each.talks.each.says]
kind = "text"
"#;

    fn seen(role: &str, effect: &Value) -> Option<Value> {
        let charter = Charter::parse(CHARTER).unwrap();
        let effect: Effect = serde_json::from_value(effect.clone()).unwrap();
        charter
            .sight(role)
            .effect(&charter.fields, &effect)
            .map(|seen| serde_json::to_value(seen).unwrap())
    }

    #[test]
    fn a_state_is_shown_without_what_is_hidden() {
        let charter = Charter::parse(CHARTER).unwrap();
        let talks = json!([{ "id": "t1", "value": { "says": "hm" } }]);
        let state = json!({
            "title": "North", "ledger": { "a": { "sum": 3 } },
            "offers": { "o1": { "amount": 5, "limit": 9, "talks": talks } },
        });
        let table = [
            ("all", state.clone()),
            (
                "but",
                json!({ "title": "North", "offers": { "o1": { "amount": 5, "talks": talks } } }),
            ),
            ("only", json!({ "title": "North", "offers": { "o1": { "amount": 5 } } })),
            ("none", json!({})),
            ("gone", json!({ "title": "North", "ledger": { "a": { "sum": 3 } } })),
        ];
        for (role, expected) in table {
            assert_eq!(
                charter.sight(role).state(&charter.fields, state.clone()),
                expected,
                "{role}"
            );
        }
        assert!(charter.sight("all").is_whole() && !charter.sight("but").is_whole());
    }

    /// What a drop overrode may be hidden, and so may the place of a verdict.
    #[test]
    fn what_was_lost_is_told_without_what_is_hidden() {
        let charter = Charter::parse(CHARTER).unwrap();
        let text = r#"{"seq":7,"by":"oda","client":"00000000-0000-0000-0000-000000000007","n":1,"at":5,
            "effects":[{"at":"/offers/o1","op":"drop"},{"at":"/ledger/a/sum","op":"add","by":1,"now":2}],
            "verdicts":[
                {"edit":0,"at":"/offers/o1","verdict":"overrode","met":[6],"because":"x",
                    "lost":{"amount":5,"limit":9}},
                {"edit":1,"at":"/ledger/a/sum","verdict":"merged","met":[6],"because":"y"}]}"#;
        let update: Settled = serde_json::from_str(text).unwrap();
        let lost = |role: &str| {
            let seen = charter.sight(role).update(&charter.fields, &update);
            serde_json::to_value(&seen.verdicts).unwrap()
        };
        // Where an effect is hidden, nobody is told whom it met.
        let said = "What it met is not all shown to your role.";
        let verdict = |lost: Value| json!([{ "edit": 0, "at": "/offers/o1", "verdict": "overrode", "because": said, "lost": lost }]);
        assert_eq!(lost("but"), verdict(json!({ "amount": 5 })));
        assert_eq!(lost("only"), verdict(json!({ "amount": 5 })));
        assert_eq!(
            (lost("none"), lost("gone")[0]["at"].clone()),
            (json!([]), "/ledger/a/sum".into())
        );
    }

    #[test]
    fn an_effect_is_shown_whole_in_part_or_not_at_all() {
        let put = json!({ "at": "/offers", "op": "put", "id": "o1", "value": { "amount": 5, "limit": 9 } });
        let part = json!({ "at": "/offers", "op": "put", "id": "o1", "value": { "amount": 5 } });
        assert_eq!(seen("but", &put), Some(part.clone()));
        assert_eq!(seen("only", &put), Some(part));
        assert_eq!(seen("gone", &put), None);
        assert_eq!(seen("all", &put), Some(put));
        for (role, at, op, is_shown) in [
            ("but", "/offers/o1/limit", "clear", false),
            ("but", "/offers/o1/amount", "clear", true),
            ("but", "/offers/o1", "drop", true),
            ("but", "/ledger/a", "drop", false),
            ("but", "/ledger/a/sum", "clear", false),
            ("but", "/offers/o1/talks/t1/says", "clear", true),
            ("only", "/offers/o1/talks/t1/says", "clear", false),
            ("only", "/offers/o1/talks/t1", "remove", false),
            ("only", "/nothing", "clear", false),
        ] {
            assert_eq!(
                seen(role, &json!({ "at": at, "op": op })).is_some(),
                is_shown,
                "{role} {at} {op}"
            );
        }
        let reset = json!({ "at": "", "op": "reset", "value": { "title": "x", "ledger": {} } });
        assert_eq!(seen("but", &reset).unwrap()["value"], json!({ "title": "x" }));
    }

    #[test]
    fn an_update_of_which_nothing_is_shown_says_no_more_than_that_there_was_one() {
        let charter = Charter::parse(CHARTER).unwrap();
        let update = Settled {
            seq: 7,
            by: "oda".into(),
            client: uuid::Uuid::from_u128(1),
            n: 3,
            at: 5,
            effects: smallvec![Effect::new(
                Path::of(["ledger", "a", "sum"]),
                Op::Add { by: 2, now: Some(5) },
            )],
            verdicts: vec![],
            gesture: Some("g".into()),
            note: Some("for the ledger".into()),
        };
        let seen = charter.sight("but").update(&charter.fields, &update);
        assert_eq!(
            serde_json::to_string(&seen).unwrap(),
            r#"{"seq":7,"by":"","client":"00000000-0000-0000-0000-000000000000","n":0,"at":5,"effects":[]}"#
        );
        assert_eq!(charter.sight("gone").update(&charter.fields, &update), update);
    }
}
