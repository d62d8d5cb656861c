//! Conditions and rules in CEL (Common Expression Language), compiled once and bounded before and
//! after parsing.
//!
//! The language here is what a rule over a record needs: members, comparisons, sums, `&&`, `||`,
//! `!`, `?:`, `in`, `has`, `size`, `startsWith`, `endsWith`, `contains`. `all`, `exists` and
//! `filter` go once over a collection that the charter bounds, and never one inside another, so
//! the number of steps is known before anything runs. All numbers are doubles, so that `1`, `1.0`
//! and a counter compare and add as they read.
//!
//! Cost of an evaluation: O(nodes), O(nodes × elements) of a loop, and O(size) of the values that
//! it names.

use std::collections::BTreeSet;
use std::sync::{Arc, LazyLock};

use cel::ExecutionError;
use cel::common::ast::{
    CallExpr, ComprehensionExpr, Expr, IdedExpr, LiteralValue, SelectExpr, operators,
};
use cel::common::types::CelDouble;
use cel::objects::{Key, Map as CelMap, Value as Cel};
use cel::parser::Parser;
use cel::{Context, Env};
use serde_json::{Value, json};

use crate::op::EXACT;

/// Characters of a source. Longer ones are not even parsed, since that takes more than linear time
/// and stack.
const SOURCE: usize = 1_000;
/// Nodes of an expression, and how deep they lie in one another.
const NODES: usize = 200;
const DEPTH: usize = 32;
/// What the thread that parses has for its stack.
const STACK: usize = 64 << 20;

const FUNCTIONS: [&str; 4] = ["size", "startsWith", "endsWith", "contains"];
const OPERATORS: [&str; 16] = [
    operators::CONDITIONAL,
    operators::LOGICAL_AND,
    operators::LOGICAL_OR,
    operators::LOGICAL_NOT,
    operators::EQUALS,
    operators::NOT_EQUALS,
    operators::LESS,
    operators::LESS_EQUALS,
    operators::GREATER,
    operators::GREATER_EQUALS,
    operators::ADD,
    operators::SUBSTRACT,
    operators::MULTIPLY,
    operators::DIVIDE,
    operators::NEGATE,
    operators::IN,
];

static STANDARD: LazyLock<Arc<Env>> = LazyLock::new(|| Arc::new(Env::stdlib()));

/// A compiled expression.
#[derive(Clone, Debug)]
pub struct Expression {
    source: String,
    tree: Arc<IdedExpr>,
    reads: BTreeSet<Read>,
}

/// Something that an expression reads: a name, and the member of it where only that is used.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Read {
    pub(crate) name: String,
    pub(crate) member: Option<String>,
    /// Whether it is gone through: as a list of its records, each with its `id`, or of its values.
    pub(crate) is_each: bool,
}

impl Read {
    /// The name under which an evaluation finds the value.
    fn variable(&self) -> String {
        let name = match &self.member {
            None => self.name.clone(),
            Some(member) => format!("{}.{member}", self.name),
        };
        if self.is_each { format!("{EACH}{name}") } else { name }
    }
}

/// No source can spell such a name.
const EACH: &str = "@each ";

/// An expression of the charter that had no answer, which its author ought to know: its line and
/// why.
pub type NoAnswer = (usize, Unanswered);

/// How an expression joins its two sides.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Relation {
    Equals,
    In,
}

/// A name and the members that are taken of it, as in `who.claims.team`.
pub(crate) type Named = Vec<String>;

/// Why an expression did not come to an answer: its author made a mistake, or the values are of
/// other types than it takes.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{source_text:?} has no answer: {why}")]
pub struct Unanswered {
    /// The expression.
    pub source_text: String,
    /// What is wrong.
    pub why: String,
}

impl Expression {
    /// Compiles a source that may use `names`; the error says what is expected in its place.
    pub(crate) fn compile(source: &str, names: &[&str]) -> Result<Self, String> {
        if source.len() > SOURCE {
            return Err(format!("an expression of at most {SOURCE} bytes"));
        }
        if is_deep(source) {
            return Err(format!("an expression whose brackets lie at most {DEPTH} deep"));
        }
        // Parsing and dropping recurse with the source, so neither happens on the stack of whoever
        // asks.
        let compile = || Self::compile_here(source, names);
        let compiled = std::thread::scope(|scope| {
            let thread = std::thread::Builder::new().stack_size(STACK).spawn_scoped(scope, compile);
            thread.ok().and_then(|thread| thread.join().ok())
        });
        compiled.unwrap_or_else(|| Err("an expression that can be parsed".to_owned()))
    }

    fn compile_here(source: &str, names: &[&str]) -> Result<Self, String> {
        let parsed = Parser::default().max_recursion_depth(96).parse(source);
        let mut tree = parsed.map_err(|errors| {
            let first = errors.errors.first().map(|error| error.msg.clone()).unwrap_or_default();
            // What could stand there instead is a list of the parser's own words.
            let first = first.lines().next().unwrap_or_default();
            let first = first.split(" expecting ").next().unwrap_or_default();
            let first = first.strip_prefix("Syntax error: ").unwrap_or(first);
            format!("an expression in CEL ({first})")
        })?;
        let mut check = Check { names, nodes: 0, reads: BTreeSet::new(), variable: None };
        check.walk(&mut tree, 0)?;
        Ok(Self { source: source.to_owned(), tree: Arc::new(tree), reads: check.reads })
    }

    /// The parts that `||` joins; of one without it the whole.
    pub(crate) fn alternatives(&self) -> Vec<Self> {
        self.parts(operators::LOGICAL_OR)
    }

    /// The parts that `&&` joins; of one without it the whole. It holds exactly where each of them
    /// does.
    pub(crate) fn conjuncts(&self) -> Vec<Self> {
        self.parts(operators::LOGICAL_AND)
    }

    fn parts(&self, joined_by: &str) -> Vec<Self> {
        fn gather(node: &IdedExpr, joined_by: &str, found: &mut Vec<IdedExpr>) {
            match &node.expr {
                Expr::Call(call) if call.func_name == joined_by => {
                    call.args.iter().for_each(|part| gather(part, joined_by, found));
                }
                _ => found.push(node.clone()),
            }
        }
        let mut parts = Vec::new();
        gather(&self.tree, joined_by, &mut parts);
        let part = |tree: IdedExpr| {
            let mut reads = BTreeSet::new();
            let named = |read: &&Read| mentions(&tree, read);
            reads.extend(self.reads.iter().filter(named).cloned());
            Self { source: self.source.clone(), tree: Arc::new(tree), reads }
        };
        parts.into_iter().map(part).collect()
    }

    /// The two sides of an equality (`one == other`) or a membership (`one in other`).
    pub(crate) fn pair(&self) -> Option<(Relation, Named, Named)> {
        let Expr::Call(call) = &self.tree.expr else { return None };
        let relation = match call.func_name.as_str() {
            operators::EQUALS => Relation::Equals,
            operators::IN => Relation::In,
            _ => return None,
        };
        let [one, other] = &call.args[..] else { return None };
        Some((relation, names(one)?, names(other)?))
    }

    /// Its text.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// What it reads.
    pub(crate) fn reads(&self) -> impl Iterator<Item = &Read> {
        self.reads.iter()
    }

    /// Whether it is exactly `true` of what `read` gives. A name or member that `read` gives
    /// nothing for does not exist.
    pub(crate) fn holds(&self, read: impl Fn(&Read) -> Option<Value>) -> Result<bool, Unanswered> {
        match self.resolve(read)? {
            Cel::Bool(answer) => Ok(answer),
            other => Err(self
                .unanswered(format!("it gives {} where true or false is needed", other.type_of()))),
        }
    }

    /// What it comes to.
    pub(crate) fn value(&self, read: impl Fn(&Read) -> Option<Value>) -> Result<Value, Unanswered> {
        let value = self.resolve(read)?;
        from_cel(&value).ok_or_else(|| {
            self.unanswered(format!("it gives {}, which no JSON has", value.type_of()))
        })
    }

    /// A value of each type that it may give.
    pub(crate) fn samples(&self) -> Vec<Value> {
        match type_of(&self.tree) {
            Some(Type::Bool) => vec![json!(true)],
            Some(Type::Number) => vec![json!(1)],
            Some(Type::Text) => vec![json!("id"), json!("1s")],
            Some(Type::List) => vec![json!([])],
            None => vec![
                json!("id"),
                json!("1s"),
                json!(1),
                json!(true),
                json!([]),
                json!({}),
                Value::Null,
            ],
        }
    }

    fn unanswered(&self, why: String) -> Unanswered {
        Unanswered { source_text: self.source.clone(), why }
    }

    fn resolve(&self, read: impl Fn(&Read) -> Option<Value>) -> Result<Cel, Unanswered> {
        let mut context = Context::with_env(STANDARD.clone());
        for one in &self.reads {
            let Some(value) = read(one) else { continue };
            let value = if one.is_each { each_of(value) } else { value };
            context.add_variable_from_value(one.variable(), to_cel(&value));
        }
        Cel::resolve(&self.tree, &context).map_err(|error| match error {
            ExecutionError::UndeclaredReference(name) => {
                self.unanswered(format!("there is no {name} here"))
            }
            error => self.unanswered(error.to_string().chars().take(200).collect()),
        })
    }
}

/// What an expression gives, whatever the values that it reads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Type {
    Bool,
    Number,
    Text,
    List,
}

/// The type that an expression always gives; `None` if it depends on values.
fn type_of(node: &IdedExpr) -> Option<Type> {
    match &node.expr {
        Expr::Literal(literal) => match literal {
            LiteralValue::String(_) => Some(Type::Text),
            LiteralValue::Boolean(_) => Some(Type::Bool),
            LiteralValue::Int(_) | LiteralValue::UInt(_) | LiteralValue::Double(_) => {
                Some(Type::Number)
            }
            _ => None,
        },
        Expr::List(_) => Some(Type::List),
        Expr::Select(select) if select.test => Some(Type::Bool),
        Expr::Call(call) => match call.func_name.as_str() {
            operators::SUBSTRACT
            | operators::MULTIPLY
            | operators::DIVIDE
            | operators::NEGATE
            | "size" => Some(Type::Number),
            operators::ADD => call.args.iter().find_map(type_of),
            operators::CONDITIONAL => {
                let [_, one, other] = &call.args[..] else { return None };
                type_of(one).filter(|one| type_of(other) == Some(*one))
            }
            operators::INDEX => None,
            _ => Some(Type::Bool),
        },
        _ => None,
    }
}

/// The names in a chain such as `who.claims.team`; `None` for any other expression.
fn names(node: &IdedExpr) -> Option<Named> {
    match &node.expr {
        Expr::Ident(name) => Some(vec![name.clone()]),
        Expr::Select(select) if !select.test => {
            let mut chain = names(&select.operand)?;
            chain.push(select.field.clone());
            Some(chain)
        }
        _ => None,
    }
}

/// The records or values of a collection, as a loop goes through them.
fn each_of(collection: Value) -> Value {
    let with_id = |id: Value, record: Value| match record {
        Value::Object(mut members) => {
            members.entry("id").or_insert(id);
            Value::Object(members)
        }
        other => other,
    };
    match collection {
        Value::Object(records) => {
            records.into_iter().map(|(id, record)| with_id(id.into(), record)).collect()
        }
        Value::Array(elements) => {
            let element = |mut element: Value| match element.get_mut("value").map(Value::take) {
                Some(value) => with_id(element["id"].take(), value),
                None => element,
            };
            elements.into_iter().map(element).collect()
        }
        other => other,
    }
}

/// Whether an expression reads something.
fn mentions(node: &IdedExpr, read: &Read) -> bool {
    if read.is_each {
        return goes_through(node, &read.variable());
    }
    let is_it = || match (names(node), &read.member) {
        (Some(chain), None) => chain == [read.name.as_str()],
        (Some(chain), Some(member)) => {
            chain.len() > 1 && chain[0] == read.name && chain[1] == *member
        }
        (None, _) => false,
    };
    match &node.expr {
        Expr::Ident(_) => is_it(),
        Expr::Select(select) => is_it() || mentions(&select.operand, read),
        Expr::Call(call) => {
            call.target.iter().any(|target| mentions(target, read))
                || call.args.iter().any(|argument| mentions(argument, read))
        }
        Expr::List(list) => list.elements.iter().any(|element| mentions(element, read)),
        Expr::Comprehension(through) => mentions(&through.loop_step, read),
        _ => false,
    }
}

/// Whether an expression goes through what has this name.
fn goes_through(node: &IdedExpr, variable: &str) -> bool {
    let inner = |node: &IdedExpr| goes_through(node, variable);
    match &node.expr {
        Expr::Select(select) => inner(&select.operand),
        Expr::Call(call) => {
            call.target.iter().any(|node| inner(node)) || call.args.iter().any(inner)
        }
        Expr::List(list) => list.elements.iter().any(inner),
        Expr::Comprehension(through) => {
            matches!(&through.iter_range.expr, Expr::Ident(name) if name == variable)
        }
        _ => false,
    }
}

/// Whether brackets lie in one another beyond the bound. Those within strings count too, which no
/// rule needs that many of.
fn is_deep(source: &str) -> bool {
    let mut depth = 0usize;
    source.bytes().any(|byte| {
        match byte {
            b'(' | b'[' | b'{' => depth += 1,
            b')' | b']' | b'}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        depth > DEPTH
    })
}

struct Check<'n> {
    names: &'n [&'n str],
    nodes: usize,
    reads: BTreeSet<Read>,
    /// What a loop calls the element that it is at.
    variable: Option<String>,
}

impl Check<'_> {
    /// Refuses what could run long, and turns whole numbers into doubles.
    fn walk(&mut self, node: &mut IdedExpr, depth: usize) -> Result<(), String> {
        self.nodes += 1;
        if self.nodes > NODES || depth > DEPTH {
            return Err(format!("an expression of at most {NODES} parts, at most {DEPTH} deep"));
        }
        match &mut node.expr {
            Expr::Literal(literal) => {
                let number = match &*literal {
                    LiteralValue::Int(number) => Some(*number.inner() as f64),
                    LiteralValue::UInt(number) => Some(*number.inner() as f64),
                    LiteralValue::Bytes(_) => return Err("no bytes: JSON has none".to_owned()),
                    _ => None,
                };
                if let Some(number) = number {
                    *literal = LiteralValue::Double(CelDouble::from(number));
                }
                Ok(())
            }
            Expr::Ident(name) if self.variable.as_ref() == Some(name) => Ok(()),
            Expr::Ident(name) => {
                let read = Read { name: self.known(name)?, member: None, is_each: false };
                self.reads.insert(read);
                Ok(())
            }
            Expr::Select(select) => self.select(select, depth),
            Expr::Call(call) => self.call(call, depth)?.map_or(Ok(()), |wrapped| {
                node.expr = wrapped;
                Ok(())
            }),
            Expr::List(list) => {
                list.elements.iter_mut().try_for_each(|element| self.walk(element, depth + 1))
            }
            Expr::Comprehension(through) => self.go_through(through, depth),
            Expr::Map(_) | Expr::Struct(_) | Expr::Unspecified => {
                Err("no map or message of its own".to_owned())
            }
        }
    }

    fn known(&self, name: &str) -> Result<String, String> {
        match self.names.contains(&name) {
            true => Ok(name.to_owned()),
            false => {
                Err(format!("an expression over {}; {name:?} is none of them", listed(self.names)))
            }
        }
    }

    fn select(&mut self, select: &mut SelectExpr, depth: usize) -> Result<(), String> {
        match &select.operand.expr {
            // `has(new.amount)` asks the whole value.
            Expr::Ident(name) if !select.test && self.variable.as_ref() != Some(name) => {
                let (name, member) = (self.known(name)?, Some(select.field.clone()));
                let read = Read { name, member, is_each: false };
                self.nodes += 1;
                self.reads.insert(read);
                Ok(())
            }
            _ => self.walk(&mut select.operand, depth + 1),
        }
    }

    /// A loop over a collection, which becomes a read of its own.
    fn go_through(&mut self, through: &mut ComprehensionExpr, depth: usize) -> Result<(), String> {
        if self.variable.is_some() {
            return Err("one loop at a time: none inside another".to_owned());
        }
        let (of, member) = match names(&through.iter_range).as_deref() {
            Some([of, member]) if matches!(of.as_str(), "state" | "record") => {
                (self.known(of)?, member.clone())
            }
            _ => {
                let expected = "a loop over a map or list of the state or the record, as in \
                    state.baskets.all(basket, basket.apples == 0)";
                return Err(expected.to_owned());
            }
        };
        let variable = through.iter_var.clone();
        if self.names.contains(&variable.as_str()) {
            return Err(format!("another name than {variable:?} for an element, which is taken"));
        }
        let read = Read { name: of, member: Some(member), is_each: true };
        through.iter_range.expr = Expr::Ident(read.variable());
        self.reads.insert(read);
        let body = loop_body(through).ok_or("the loops all, exists and filter alone")?;
        self.variable = Some(variable);
        let walked = self.walk(body, depth + 1);
        self.variable = None;
        walked
    }

    /// Gives what the call is replaced by, where it is.
    fn call(&mut self, call: &mut CallExpr, depth: usize) -> Result<Option<Expr>, String> {
        let name = call.func_name.as_str();
        let is_function = FUNCTIONS.contains(&name);
        if name == operators::INDEX {
            let by_name = matches!(
                call.args.get(1).map(|index| &index.expr),
                Some(Expr::Literal(LiteralValue::String(_)))
            );
            if !by_name {
                return Err("no place in a list: only [\"name\"] of a record".to_owned());
            }
        } else if !is_function && !OPERATORS.contains(&name) {
            return Err(format!(
                "an expression with the functions {}; {name:?} is none of them",
                FUNCTIONS.join(", ")
            ));
        }
        call.target.iter_mut().try_for_each(|target| self.walk(target, depth + 1))?;
        call.args.iter_mut().try_for_each(|argument| self.walk(argument, depth + 1))?;
        if call.func_name != "size" {
            return Ok(None);
        }
        // A size is a whole number, and everything else here a double.
        let size = IdedExpr { id: 0, expr: Expr::Call(std::mem::take(call)) };
        Ok(Some(Expr::Call(CallExpr {
            func_name: "double".to_owned(),
            target: None,
            args: vec![size],
        })))
    }
}

/// What `all`, `exists` or `filter` asks of each element; `None` of any other loop. The shapes are
/// those that the parser makes of them.
fn loop_body(through: &mut ComprehensionExpr) -> Option<&mut IdedExpr> {
    let Expr::Call(step) = &mut through.loop_step.expr else { return None };
    let is_ident =
        |node: &IdedExpr, name: &str| matches!(&node.expr, Expr::Ident(own) if own == name);
    match (step.func_name.as_str(), &mut step.args[..]) {
        (operators::LOGICAL_AND | operators::LOGICAL_OR, [_, body]) => Some(body),
        (operators::CONDITIONAL, [body, kept, _]) => {
            let Expr::Call(appended) = &kept.expr else { return None };
            let Some(Expr::List(list)) = appended.args.get(1).map(|kept| &kept.expr) else {
                return None;
            };
            let [element] = &list.elements[..] else { return None };
            is_ident(element, &through.iter_var).then_some(body)
        }
        _ => None,
    }
}

fn listed(names: &[&str]) -> String {
    match names {
        [] => "nothing".to_owned(),
        [one] => (*one).to_owned(),
        [others @ .., last] => format!("{} and {last}", others.join(", ")),
    }
}

fn to_cel(value: &Value) -> Cel {
    match value {
        Value::Null => Cel::Null,
        Value::Bool(truth) => Cel::Bool(*truth),
        Value::Number(number) => Cel::Float(number.as_f64().unwrap_or(f64::NAN)),
        Value::String(text) => Cel::String(Arc::new(text.clone())),
        Value::Array(items) => Cel::List(Arc::new(items.iter().map(to_cel).collect())),
        Value::Object(members) => {
            let members =
                members.iter().map(|(name, value)| (Key::from(name.clone()), to_cel(value)));
            Cel::Map(CelMap { map: Arc::new(members.collect()) })
        }
    }
}

/// A value as JSON, whole numbers without a point; `None` where JSON has none such.
fn from_cel(value: &Cel) -> Option<Value> {
    #[expect(clippy::cast_possible_truncation, reason = "within what doubles tell exactly")]
    let number = |double: f64| match double.fract() == 0.0 && double.abs() <= EXACT as f64 {
        true => Some(Value::from(double as i64)),
        false => serde_json::Number::from_f64(double).map(Value::Number),
    };
    match value {
        Cel::Null => Some(Value::Null),
        Cel::Bool(truth) => Some((*truth).into()),
        Cel::Float(double) => number(*double),
        Cel::Int(whole) => Some((*whole).into()),
        Cel::UInt(whole) => Some((*whole).into()),
        Cel::String(text) => Some(text.as_str().into()),
        Cel::List(items) => {
            items.iter().map(from_cel).collect::<Option<Vec<_>>>().map(Value::Array)
        }
        Cel::Map(members) => {
            let mut named = std::collections::BTreeMap::new();
            for (key, member) in members.map.iter() {
                let Key::String(name) = key else { return None };
                named.insert(name.to_string(), from_cel(member)?);
            }
            Some(named.into_iter().collect())
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    const NAMES: [&str; 5] = ["old", "new", "record", "who", "state"];

    fn holds(source: &str) -> Result<bool, Unanswered> {
        let world = json!({
            "old": { "amount": 20, "by": "oda" }, "new": { "amount": 25.0, "by": "bram", "tags": ["dry", "late"] },
            "record": { "by": "oda", "note": null, "rows": [{ "id": "r", "value": "dry 5" }] },
            "who": { "id": "oda", "role": "picker" },
            "state": { "crates": 7, "cells": {
                "a": { "row": 1, "mark": "x" }, "b": { "row": 1, "mark": "x" }, "c": { "row": 2, "mark": null },
            } },
        });
        let read = |read: &Read| match &read.member {
            None => Some(world[&read.name].clone()),
            Some(member) => world[&read.name].get(member).cloned(),
        };
        Expression::compile(source, &NAMES)
            .unwrap_or_else(|why| panic!("{source}: {why}"))
            .holds(read)
    }

    #[test]
    fn numbers_compare_and_add_whole_or_not() {
        for source in [
            "new.amount >= old.amount + 5",
            "new.amount >= old.amount + 5.0",
            "state.crates == 7 && state.crates == 7.0 && state.crates + 1 == 8",
            "-state.crates < 0 && state.crates * 2 - 1 == 13 && state.crates / 2 == 3.5",
            "record.by == who.id",
            "record.note == null && old != null",
            "size(who.id) == 3 && size(new.tags) < 3 && who.id.size() == 3",
            "who.role in [\"steward\", \"picker\"] && \"dry\" in new.tags",
            "who.id.startsWith(\"o\") && has(new.amount) && !has(new.limit)",
            "new[\"amount\"] == 25",
            "old == null || new.amount > old.amount",
            "state.cells.filter(c, c.row == 1 && c.mark == \"x\").size() == 2",
            "state.cells.exists(c, c.id == \"c\" && c.mark == null) && !state.cells.all(c, has(c.mark) && c.mark != null)",
            "record.rows.exists(row, row == \"dry 5\") && size(state.cells) == 3",
            "new.amount > state.cells.filter(c, c.row < state.crates).size() + 20",
        ] {
            assert_eq!(holds(source), Ok(true), "{source}");
        }
        assert_eq!(holds("new.amount < old.amount"), Ok(false));
    }

    #[test]
    fn what_is_not_exactly_true_or_false_has_no_answer() {
        for source in [
            "new.amount",
            "new.limit > 3",
            "who.id > 3",
            "record.note + 1 == 2",
            "1 / 0",
            "\"true\"",
            "null",
        ] {
            assert!(holds(source).is_err(), "{source}: {:?}", holds(source));
        }
    }

    #[test]
    fn what_could_run_away_is_refused_before_it_runs() {
        let nested = format!("{}1{} == 1", "(".repeat(400), ")".repeat(400));
        let negated = format!("{}true", "!".repeat(900));
        let minus = format!("{}1 == 1", "-".repeat(600));
        let chained = format!("{}true", "true && ".repeat(120));
        let ternary = format!("{}true", "true ? true : ".repeat(60));
        let members = format!("who{}", ".a".repeat(400));
        let list = format!("1 in [{}]", "1,".repeat(300));
        for source in [
            "state.cells.all(c, state.cells.exists(d, c.row == d.row))",
            "new.tags.exists(t, t == \"dry\")",
            "state.cells.exists(who, true)",
            "state.cells.exists_one(c, c.row == 1)",
            "state.cells.map(c, true, c.row).size() == 1",
            "state.cells.all(c, secrets.key == c.row)",
            "[1, 2, 3].map(x, [1, 2, 3].map(y, x * y)) == []",
            "who.id.matches(\"(a+)+$\")",
            "new.tags[0] == \"dry\"",
            "{\"a\": 1}.a == 1",
            "secrets.key == 1",
            "b\"a\" == b\"a\"",
            "state.crates % 2 == 0",
            &nested,
            &chained,
            &ternary,
            &members,
            &list,
            &"a".repeat(2_000),
            "",
            "new.amount >=",
        ] {
            assert!(Expression::compile(source, &NAMES).is_err(), "{source}");
        }
        // Signs fold into one as they are parsed.
        assert!([negated, minus].iter().all(|source| Expression::compile(source, &NAMES).is_ok()));
    }
}
