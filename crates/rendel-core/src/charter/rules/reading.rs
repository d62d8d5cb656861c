//! Reading rules from a charter.

use std::collections::BTreeMap;

use serde_json::Value;
use toml_edit::Item;

use super::{BuiltIn, Cause, Given, Rule, RuleEdit, Rules, Step};
use crate::charter::expression::Expression;
use crate::charter::pattern::Pattern;
use crate::charter::play::Play;
use crate::declaration::Section;
use crate::kind::{Field, Fields};
use crate::op::{Op, Unread};
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::suggest::nearest;
use crate::update::Whose;

/// Rules of one charter, edits of one rule, and values of one announcement.
const MOST_RULES: usize = 64;
const MOST_EDITS: usize = 32;
const MOST_VALUES: usize = 32;
/// Combinations of types that are tried for the expressions of one edit.
const MOST_COMBINATIONS: usize = 2_401;

/// What expressions of a rule may read: of a change what it was and is, too.
const NAMES: [&str; 7] = ["state", "who", "now", "old", "new", "record", "id"];
const NAMES_WITHOUT_CHANGE: [&str; 3] = ["state", "who", "now"];

/// The operations of rules. If `from` is a single expression, its value is the member named here.
const TAKES: [(&str, Option<&str>); 22] = [
    ("set", Some("value")),
    ("clear", None),
    ("add", Some("by")),
    ("include", Some("value")),
    ("exclude", Some("value")),
    ("put", Some("value")),
    ("drop", None),
    ("insert", Some("value")),
    ("move", None),
    ("remove", None),
    ("splice", Some("insert")),
    ("give", Some("to")),
    ("advance", Some("to")),
    ("reverse", None),
    ("unseal", None),
    ("restart", Some("question")),
    ("extend", Some("by")),
    ("cancel", None),
    ("start", None),
    ("stop", None),
    ("seek", Some("to")),
    ("rate", Some("rate")),
];

impl Rules {
    pub(in crate::charter) fn read(root: &mut Section<'_>, fields: &Fields, play: &Play) -> Self {
        let mut rules: Vec<Rule> = Vec::new();
        let sections = root.tables("when");
        if sections.len() > MOST_RULES {
            root.fault_at("when", &format!("at most {MOST_RULES} rules"), None);
        }
        for mut section in sections {
            let rule = section.rule(fields, play);
            section.finish();
            let Some(mut rule) = rule else { continue };
            let same = rules.iter().filter(|other| other.is_called(&rule.name)).count();
            if same > 0 && section.has("name") {
                section.fault_at("name", "another name than that of a rule before", None);
            } else if same > 0 {
                rule.name = format!("{} ({})", rule.name, same + 1);
            }
            rules.push(rule);
        }
        let names = BuiltIn::ALL.map(|(_, name)| name);
        let built_in = root.known_section("announcements").map(|mut section| {
            let asked = section.several("built-in", &names, &[]);
            section.finish();
            BuiltIn::ALL
                .into_iter()
                .filter(|(_, name)| asked.contains(*name))
                .map(|(own, _)| own)
                .collect()
        });
        Self { rules, built_in: built_in.unwrap_or_default() }
    }
}

impl<'a> Section<'a> {
    fn rule(&mut self, fields: &Fields, play: &Play) -> Option<Rule> {
        let name = self.has("name").then(|| self.name("name")).flatten();
        let cause = self.cause(fields, play);
        let at = match &cause {
            Some(Cause::Changes(pattern)) => pattern.clone(),
            _ => Pattern::everything(),
        };
        let names: &[&str] = match &cause {
            Some(Cause::Changes(_)) => &NAMES,
            _ => &NAMES_WITHOUT_CHANGE,
        };
        let condition = self.has("if").then(|| self.expression("if", names)).flatten();
        if let Some(condition) = &condition {
            self.check_reads("if", condition, fields, &at);
        }
        let edits = match self.has("do") {
            true => self.rule_edits(fields, names, &at),
            false => Vec::new(),
        };
        let announce = self.has("announce").then(|| self.announcement(names, fields, &at));
        if edits.is_empty() && announce.is_none() && !self.has("do") {
            let expected = "what comes of it: edits, as in do = [{ at = \"/status\", op = \"set\", \
                value = \"sold\" }], or announce = \"barrel.sold\", or both";
            self.fault_at("do", expected, None);
        }
        let line = self.line();
        let cause = cause?;
        let name = name.unwrap_or_else(|| cause.to_string());
        Some(Rule { name, cause, condition, edits, announce: announce.flatten(), line })
    }

    fn cause(&mut self, fields: &Fields, play: &Play) -> Option<Cause> {
        const CAUSES: [&str; 6] = ["fires", "changes", "enters", "leaves", "seated", "all-cast"];
        let given: Vec<_> = CAUSES.into_iter().filter(|key| self.has(key)).collect();
        for key in CAUSES {
            self.know(key);
        }
        let [key] = given[..] else {
            let at = given.get(1).copied().unwrap_or("fires");
            self.fault_at(at, &format!("one of {}", CAUSES.join(", ")), None);
            return None;
        };
        let whose = |this: &mut Self, one: &'static str| {
            let given = this.one_of(key, &[one, "each"])?;
            Some(if given == one { Whose::Participant } else { Whose::Connection })
        };
        match key {
            "fires" => {
                let timed = |(name, field): &(&str, &Field)| match field {
                    Field::Deadline(_) => true,
                    Field::Turn(turn) => turn.is_timed(),
                    _ => name.is_empty(),
                };
                let names = fields.iter().filter(timed).map(|(name, _)| name).collect();
                self.field_of("fires", names, "a deadline, or of a turn with a `time`")
                    .map(Cause::Fires)
            }
            "changes" => self.declared_pattern("changes", fields).map(Cause::Changes),
            "enters" => whose(self, "first").map(Cause::Enters),
            "leaves" => whose(self, "last").map(Cause::Leaves),
            "seated" => {
                if !self.flag("seated") {
                    self.fault_at("seated", "true", None);
                }
                if play.seats.is_none() {
                    self.fault_at("seated", "a field of seats in the charter", None);
                }
                Some(Cause::Seated)
            }
            _ => {
                let names = play.ballots.iter().map(|ballots| ballots.field.as_str()).collect();
                self.field_of("all-cast", names, "a ballot").map(Cause::AllCast)
            }
        }
    }

    /// The name of one of these fields, which is given as a path.
    fn field_of(&mut self, key: &'static str, names: Vec<&str>, what: &str) -> Option<Token> {
        let given = self.know(key).and_then(Item::as_str);
        let name = given.and_then(|path| path.strip_prefix('/'));
        let found = name.filter(|name| names.contains(name));
        if found.is_none() {
            let meant = name.and_then(|name| nearest(name, names));
            let expected = format!("the path of {what} of [state]");
            self.fault_at(key, &expected, meant.map(|meant| format!("/{meant}")));
        }
        found.map(Token::from)
    }

    fn announcement(
        &mut self,
        names: &[&str],
        fields: &Fields,
        at: &Pattern,
    ) -> Option<(String, BTreeMap<String, Expression>)> {
        let is_type = |text: &str| {
            let is_part = |part: &str| {
                let mut bytes = part.bytes();
                !part.is_empty()
                    && bytes.all(|byte| {
                        byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-'
                    })
            };
            text.len() <= 64
                && text.contains('.')
                && text.split('.').all(is_part)
                && BuiltIn::ALL.iter().all(|(_, own)| *own != text)
        };
        let given = self.know("announce").and_then(Item::as_str);
        let name = given.filter(|given| is_type(given)).map(str::to_owned);
        if name.is_none() {
            let expected = "a type of lower-case words joined by dots, such as \"barrel.sold\", and \
                none of the service's own";
            self.fault_at("announce", expected, None);
        }
        let mut values = BTreeMap::new();
        if let Some(mut section) = self.known_section("values") {
            if section.keys().len() > MOST_VALUES {
                self.fault_at("values", &format!("at most {MOST_VALUES} expressions"), None);
            }
            for key in section.keys() {
                let source = section.taken_str(&key);
                if let Some(expression) = section.given_expression(&key, source, names, fields, at)
                {
                    values.insert(key, expression);
                }
            }
        }
        Some((name?, values))
    }

    /// A compiled expression that stands at a key of whatever name.
    fn given_expression(
        &self,
        key: &str,
        source: Option<&str>,
        names: &[&str],
        fields: &Fields,
        at: &Pattern,
    ) -> Option<Expression> {
        let compiled = source.map(|source| Expression::compile(source, names));
        match compiled {
            Some(Ok(expression)) => {
                self.check_reads(key, &expression, fields, at);
                Some(expression)
            }
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

    fn rule_edits(&mut self, fields: &Fields, names: &[&str], at: &Pattern) -> Vec<RuleEdit> {
        let sections = self.inline_tables("do");
        if !(1..=MOST_EDITS).contains(&sections.len()) {
            let expected = format!("1 to {MOST_EDITS} edits, each a table with `at` and `op`");
            self.fault_at("do", &expected, None);
        }
        let edit = |mut section: Section<'a>| section.rule_edit(fields, names, at);
        sections.into_iter().filter_map(edit).collect()
    }

    fn rule_edit(&mut self, fields: &Fields, names: &[&str], cause: &Pattern) -> Option<RuleEdit> {
        let text = self.know("at").and_then(Item::as_str);
        let steps = text.and_then(|text| self.steps(text, names, fields, cause));
        let pattern = steps.as_ref().map(|steps| {
            let step = |step: &Step| match step {
                Step::Is(token) => token.to_string(),
                Step::Given(_) => "*".to_owned(),
            };
            Path::of(steps.iter().map(step)).to_string()
        });
        let pattern = pattern.as_deref().and_then(Pattern::parse);
        let is_one = |step: &Step| !matches!(step, Step::Is(token) if token.starts_with('*'));
        let pattern = pattern.filter(|_| steps.as_ref().is_some_and(|all| all.iter().all(is_one)));
        let around = pattern.as_ref().and_then(|pattern| {
            let field = fields.declared(pattern).map(|field| (field.words(), field.words().takes));
            let around = pattern.tokens().and_then(|mut tokens| {
                tokens.pop();
                fields.declared(&Pattern::parse(&shown(&tokens))?)
            });
            field.or_else(|| {
                let words = around.filter(|_| fields.has_elements(pattern))?.words();
                Some((words, words.inside))
            })
        });
        let Some((words, takes)) = around else {
            let tops: Vec<&str> = fields.iter().map(|(name, _)| name).collect();
            let top = text.and_then(|text| text.strip_prefix('/')?.split('/').next());
            let meant = top.and_then(|top| nearest(top, tops)).map(|meant| format!("/{meant}"));
            let expected = "the path of a declared field, or of a record or element of one, with \
                an expression in braces for an id, such as \"/scores/{who.id}/points\"";
            self.fault_at("at", expected, meant);
            return None;
        };
        let op = self.know("op").and_then(Item::as_str).unwrap_or_default();
        let main = TAKES.iter().find(|(name, _)| *name == op && takes.contains(name));
        let Some((_, main)) = main else {
            let may: Vec<&str> = takes
                .iter()
                .copied()
                .filter(|own| TAKES.iter().any(|(name, _)| name == own))
                .collect();
            let expected = match may[..] {
                [] => format!("another field: no rule edits a {}", words.name),
                _ => format!("one of {}", may.join(", ")),
            };
            let meant = nearest(op, may);
            self.fault_at("op", &expected, meant);
            return None;
        };
        let mut members: Vec<(String, Given)> = Vec::new();
        for key in
            self.keys().into_iter().filter(|key| !["at", "op", "from"].contains(&key.as_str()))
        {
            let value = self.taken_json(&key);
            members.extend(value.map(|value| (key, Given::Value(value))));
        }
        if self.has("from") {
            let given = self.given_members(*main, names, fields, cause);
            for (key, given) in given {
                let known = members.iter().position(|(own, _)| *own == key);
                let whole = match (known.map(|at| members.remove(at).1), given) {
                    (None, given) => given,
                    (Some(Given::Value(Value::Object(constant))), Given::Record(more)) => {
                        let is_given = |name: &String| more.iter().any(|(own, _)| own == name);
                        let constant = constant.into_iter().filter(|(name, _)| !is_given(name));
                        let constant = constant.map(|(name, value)| (name, Given::Value(value)));
                        Given::Record(
                            constant.collect::<Vec<_>>().into_iter().chain(more).collect(),
                        )
                    }
                    (Some(own), _) => {
                        let expected = "this member once: as it stands here, or in `from`";
                        self.fault_at(&key, expected, None);
                        own
                    }
                };
                members.push((key, whole));
            }
        }
        let edit = RuleEdit { at: steps?, op: op.to_owned(), members };
        self.check_edit(&edit, pattern.as_ref().and_then(|pattern| fields.declared(pattern)));
        Some(edit)
    }

    /// What `from` gives: the member that the operation is about, or each by its name.
    fn given_members(
        &mut self,
        main: Option<&str>,
        names: &[&str],
        fields: &Fields,
        cause: &Pattern,
    ) -> Vec<(String, Given)> {
        let item = self.know("from");
        if let Some(source) = item.and_then(Item::as_str) {
            let Some(main) = main else {
                self.fault_at("from", "no `from`: this operation takes no value", None);
                return Vec::new();
            };
            let expression = self.given_expression("from", Some(source), names, fields, cause);
            return expression
                .map(|expression| (main.to_owned(), Given::Expression(expression)))
                .into_iter()
                .collect();
        }
        let Some(section) = self.section("from") else { return Vec::new() };
        section.given_record(names, fields, cause, 0)
    }

    fn given_record(
        mut self,
        names: &[&str],
        fields: &Fields,
        cause: &Pattern,
        depth: usize,
    ) -> Vec<(String, Given)> {
        let mut given = Vec::new();
        for key in self.keys() {
            let is_table = self.item(&key).is_some_and(Item::is_table_like);
            if is_table && depth < 4 {
                if let Some(section) = self.section(&key) {
                    given.push((
                        key,
                        Given::Record(section.given_record(names, fields, cause, depth + 1)),
                    ));
                }
                continue;
            }
            let source = self.taken_str(&key);
            let expression = self.given_expression(&key, source, names, fields, cause);
            given.extend(expression.map(|expression| (key, Given::Expression(expression))));
        }
        given
    }

    /// The steps of a path, with expressions in braces.
    fn steps(
        &self,
        text: &str,
        names: &[&str],
        fields: &Fields,
        cause: &Pattern,
    ) -> Option<Vec<Step>> {
        let path = Path::parse(text).ok().filter(|path| !path.tokens().is_empty())?;
        let step = |token: &Token| {
            let source = token.strip_prefix('{').and_then(|rest| rest.strip_suffix('}'));
            let Some(source) = source else { return Some(Step::Is(token.clone())) };
            self.given_expression("at", Some(source), names, fields, cause).map(Step::Given)
        };
        path.tokens().iter().map(step).collect()
    }

    /// Reports an edit that is refused whatever its expressions give: members that are missing,
    /// unknown or always of the wrong type.
    fn check_edit(&self, edit: &RuleEdit, field: Option<&Field>) {
        let mut expressions = Vec::new();
        edit.members.iter().for_each(|(_, given)| given.gather(&mut expressions));
        let samples: Vec<Vec<Value>> =
            expressions.iter().map(|expression| expression.samples()).collect();
        let combinations = samples.iter().map(Vec::len).product::<usize>();
        let mut refusal = None;
        for combination in 0..combinations.min(MOST_COMBINATIONS) {
            let mut rest = combination;
            let mut values = samples.iter().map(|samples| {
                let value = samples[rest % samples.len()].clone();
                rest /= samples.len();
                value
            });
            let mut steps = edit.at.iter().filter(|step| matches!(step, Step::Given(_))).count();
            let mut value = |_: &Expression| {
                let is_step = steps > 0;
                steps = steps.saturating_sub(1);
                let value = if is_step { None } else { values.next() };
                Ok(value.unwrap_or_else(|| "id".into()))
            };
            let Ok(made) = edit.made::<()>(&mut value, |_| ()) else { return };
            match Op::asked(&made) {
                Err(Unread::Member(_, problem)) => refusal = Some(problem),
                Ok(Op::Set(value)) if field.is_some_and(|field| field.excludes_type(&value)) => {
                    let detail = format!("The field's schema takes nothing like {value}.");
                    refusal = Some(Problem::new(ProblemKind::WrongType, detail));
                }
                Ok(_) | Err(Unread::Name(_)) => return,
            }
        }
        if let Some(problem) = refusal.filter(|_| combinations <= MOST_COMBINATIONS) {
            self.fault_at("op", problem.detail(), None);
        }
    }
}

fn shown(tokens: &[Option<Token>]) -> String {
    Path::of(tokens.iter().map(|token| token.clone().unwrap_or_else(|| "*".into()))).to_string()
}
