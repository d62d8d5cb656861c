//! Seeing: what of the state a role is shown.
//!
//! What a role may not see is hidden by field or by record, so that the same part is hidden in a
//! snapshot, in every update, in digests and in the words of problems. Roles that see the same are
//! one audience. What is shown `unless` a condition holds is a [secret](super::secrecy): to an
//! audience as such it is shown where it is open to all, and beside that each sees what is theirs.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Map, Value, json};

use super::Charter;
use super::pattern::Pattern;
use super::secrecy::{Secret, SecretIndex};
use crate::declaration::Section;
use crate::grantees::{Grantees, Viewer};
use crate::kind::{Field, Fields};
use crate::op::Op;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::state::State;
use crate::suggest::nearest;
use crate::update::{Effect, Effects, PrivatePatch, RuleMark, Settled, Verdict};

/// What of the state a role is shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sight(Visibility);

#[derive(Clone, Debug, PartialEq, Eq)]
enum Visibility {
    Whole,
    Nothing,
    /// Of a record its fields; of a map or list the fields of each record in it.
    Parts(BTreeMap<String, Visibility>),
    /// A field with a condition, by the number of that, and what of it is shown where it holds.
    Secret(usize, Box<Visibility>),
    /// A map of which each record has a condition, likewise.
    Each(usize, Box<Visibility>),
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

/// A part of `see`: what it matches, and all inside, is shown or hidden, or hidden unless.
#[derive(Clone, Debug)]
pub(super) struct Rule {
    pub(super) pattern: Pattern,
    pub(super) is_shown: bool,
    pub(super) unless: Option<usize>,
}

/// A sight with somebody who looks, at the state as it is: what they see of it.
#[derive(Clone, Copy, Debug)]
pub struct Lens<'l> {
    sight: &'l Sight,
    charter: &'l Charter,
    viewer: Option<&'l Viewer>,
    state: Option<&'l State>,
}

/// Whether the place of a secret is seen.
pub(super) type Sees<'s> = &'s dyn Fn(usize, &[Token]) -> bool;

/// What is at a path: a field, or a record with its fields.
enum Found<'f> {
    Field(&'f Visibility, Option<&'f Field>),
    Record(&'f Visibility, &'f Fields),
}

impl<'f> Found<'f> {
    fn shown(&self) -> &'f Visibility {
        match self {
            Self::Field(shown, _) | Self::Record(shown, _) => shown,
        }
    }
}

impl Sight {
    /// Everything.
    pub const WHOLE: Self = Self(Visibility::Whole);
    /// Nothing.
    pub const NOTHING: Self = Self(Visibility::Nothing);

    pub(super) fn of(rules: &[Rule], fields: &Fields) -> Self {
        Self(shown_record(rules, fields, &mut vec![]))
    }

    /// The same with the ballots of a field shown under a condition, or to nobody, if the field is
    /// shown at all.
    pub(super) fn with_ballots(
        &self,
        fields: &Fields,
        ballot: &str,
        records: &str,
        secret: Option<usize>,
    ) -> Self {
        let whole =
            || fields.iter().map(|(name, _)| (name.to_owned(), Visibility::Whole)).collect();
        let mut parts: BTreeMap<String, Visibility> = match &self.0 {
            Visibility::Whole => whole(),
            Visibility::Parts(parts) => parts.clone(),
            Visibility::Nothing | Visibility::Secret(..) | Visibility::Each(..) => {
                return self.clone();
            }
        };
        parts.remove(records);
        if let Some(secret) = secret.filter(|_| parts.contains_key(ballot)) {
            parts.insert(records.to_owned(), Visibility::Each(secret, Box::new(Visibility::Whole)));
        }
        Self(Visibility::Parts(parts))
    }

    /// Whether nothing is hidden.
    pub fn is_whole(&self) -> bool {
        self.0 == Visibility::Whole
    }

    /// The numbers of the conditions under which more is shown to some.
    pub fn secrets(&self) -> BTreeSet<usize> {
        let mut found = BTreeSet::new();
        self.0.secrets(&mut found);
        found
    }

    /// How much of what lies at a path is shown. Of what has a condition nothing is.
    pub fn extent(&self, fields: &Fields, path: &Path) -> Extent {
        extent(self.at(path.tokens(), fields, &|_, _| false).shown())
    }

    /// How much of what lies at a path somebody of this sight may be shown, whoever they are.
    pub(crate) fn most(&self, fields: &Fields, path: &Path) -> Extent {
        extent(self.at(path.tokens(), fields, &|_, _| true).shown())
    }

    /// Takes what is hidden out of the declaration of the state. What has a condition is declared.
    pub(super) fn declaration(&self, fields: &Fields, declared: &mut Value) {
        if let Visibility::Parts(parts) = &self.0 {
            declaration(fields, parts, declared);
        } else if self.0 == Visibility::Nothing {
            *declared = json!({});
        }
    }

    /// A plain state without what is hidden, or has a condition. Cost O(size), and none where
    /// nothing is hidden.
    pub fn state(&self, fields: &Fields, plain: Value) -> Value {
        self.state_as(fields, plain, &|_, _| false)
    }

    fn state_as(&self, fields: &Fields, plain: Value, sees: Sees<'_>) -> Value {
        record(&self.0, fields, &mut Vec::new(), plain, sees)
    }

    fn at<'f>(&'f self, tokens: &[Token], fields: &'f Fields, sees: Sees<'_>) -> Found<'f> {
        let mut found = Found::Record(&self.0, fields);
        for (index, token) in tokens.iter().enumerate() {
            let place = &tokens[..=index];
            found = match found {
                Found::Record(shown, fields) => {
                    let field = fields.field(token);
                    let mut shown = match shown {
                        Visibility::Parts(parts) => {
                            parts.get(token.as_str()).unwrap_or(&Visibility::Nothing)
                        }
                        other => other,
                    };
                    if let Visibility::Secret(secret, inner) = shown {
                        shown = if sees(*secret, place) { inner } else { &Visibility::Nothing };
                    }
                    Found::Field(shown, field)
                }
                Found::Field(mut shown, field) => {
                    if let Visibility::Each(secret, inner) = shown {
                        shown = if sees(*secret, place) { inner } else { &Visibility::Nothing };
                    }
                    match field.and_then(Field::each) {
                        Some(each) => Found::Record(shown, each),
                        // Something inside a value, which is no place of its own.
                        None => Found::Field(shown, None),
                    }
                }
            };
        }
        found
    }

    /// The plain value at a path without what is hidden, or has a condition; `None` where all of it
    /// is.
    pub fn value(&self, fields: &Fields, path: &Path, plain: Value) -> Option<Value> {
        self.value_as(fields, path, plain, &|_, _| false)
    }

    pub(super) fn value_as(
        &self,
        fields: &Fields,
        path: &Path,
        plain: Value,
        sees: Sees<'_>,
    ) -> Option<Value> {
        let mut place = path.tokens().to_vec();
        match self.at(path.tokens(), fields, sees) {
            Found::Field(shown, of) => field(shown, of, &mut place, plain, sees),
            Found::Record(Visibility::Nothing, _) => None,
            Found::Record(shown, fields) => Some(record(shown, fields, &mut place, plain, sees)),
        }
    }

    /// An effect without what is hidden; `None` where all of it is. What has a condition is hidden
    /// unless `sees` says so.
    pub(super) fn effect(
        &self,
        fields: &Fields,
        effect: &Effect,
        sees: Sees<'_>,
    ) -> Option<Effect> {
        if self.is_whole() {
            return Some(effect.clone());
        }
        let mut seen = effect.clone();
        if let Op::Reset(value) = &mut seen.op {
            *value = self.state_as(fields, value.take(), sees);
            return Some(seen);
        }
        let id = effect.op.makes().map(|(id, _)| id.unwrap_or_default().to_owned());
        let found = self.at(effect.at.tokens(), fields, sees);
        if extent(found.shown()) == Extent::Nothing {
            return None;
        }
        // A record that comes is shown as one at its own path.
        if let (Some(id), Some(value)) = (id, seen.op.record_mut()) {
            let mut tokens = effect.at.tokens().to_vec();
            tokens.push(id.into());
            match self.at(&tokens, fields, sees) {
                Found::Record(Visibility::Nothing, _) => return None,
                Found::Record(shown, each) => {
                    *value = record(shown, each, &mut tokens, value.take(), sees);
                }
                Found::Field(..) => {}
            }
        }
        Some(seen)
    }

    /// Whether all of an update is shown, as it stands. Cost O(effects), without a copy.
    pub fn shows_all(&self, fields: &Fields, update: &Settled) -> bool {
        let is_shown = |path: &Path| self.extent(fields, path) == Extent::Whole;
        let is_kept = update.disclosures.is_empty() && update.passage.is_none();
        // What is hidden may be why a rule did nothing.
        let has_done = update.rules.iter().all(|mark| mark.count > 0);
        (self.is_whole() && update.passage.is_none())
            || is_kept
                && has_done
                && update.effects.iter().all(|effect| is_shown(&effect.at))
                && update
                    .verdicts
                    .iter()
                    .all(|verdict| Path::parse(&verdict.at).is_ok_and(|path| is_shown(&path)))
    }

    /// An update as all of an audience are shown it. One of which nothing is shown keeps its place
    /// in the order and the time, and says neither who made it nor why.
    pub fn update(&self, fields: &Fields, update: &Settled) -> Settled {
        if self.is_whole() {
            return update.clone().without_what_is_kept();
        }
        let told = self.told(fields, update);
        let shown: Vec<_> = update.effects.iter().map(|effect| told.open(effect)).collect();
        // Of what rules did only what is shown is told, and nothing of one of which nothing is.
        let count = |range: std::ops::Range<usize>| shown[range].iter().flatten().count();
        let mark = |mark: &RuleMark| {
            let count_own = count(mark.first..mark.first + mark.count);
            let rule = mark.rule.clone();
            let first = count(0..mark.first);
            (count_own > 0).then_some(RuleMark { rule, first, count: count_own, failed: None })
        };
        let rules: Vec<_> = update.rules.iter().filter_map(mark).collect();
        let mut effects: Effects = shown.into_iter().flatten().collect();
        let is_all = effects.len() == update.effects.len();
        effects.extend(told.turned());
        let mut verdicts: Vec<_> =
            update.verdicts.iter().filter_map(|verdict| self.verdict(fields, verdict)).collect();
        if !is_all {
            // What it met may be what is hidden.
            for verdict in &mut verdicts {
                verdict.met.clear();
                verdict.because = "What it met is not all shown to your role.".to_owned();
            }
        }
        let is_whole =
            effects == update.effects && verdicts == update.verdicts && rules == update.rules;
        if is_whole {
            return update.clone().without_what_is_kept();
        }
        let blank = Settled::blank(update.seq, update.seq, update.at);
        if effects.is_empty() && verdicts.is_empty() {
            return blank;
        }
        let (by, client, n) = (update.by.clone(), update.client, update.n);
        Settled { by, client, n, effects, verdicts, rules, ..blank }
    }

    /// What of an update somebody is shown beside what all of their audience are; `None` where that
    /// is nothing.
    pub fn beside(
        &self,
        fields: &Fields,
        update: &Settled,
        viewer: &Viewer,
    ) -> Option<PrivatePatch> {
        self.told(fields, update).beside(viewer)
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
}

impl<'l> Lens<'l> {
    /// What somebody sees of a state.
    pub fn new(
        charter: &'l Charter,
        sight: &'l Sight,
        viewer: Option<&'l Viewer>,
        state: &'l State,
    ) -> Self {
        Self { sight, charter, viewer, state: Some(state) }
    }

    /// What somebody sees of whatever state: nothing that has a condition.
    pub fn blind(charter: &'l Charter, sight: &'l Sight) -> Self {
        Self { sight, charter, viewer: None, state: None }
    }

    fn sees(&self, secret: usize, place: &[Token]) -> bool {
        let grantees = self.grantees(secret, place);
        grantees == Grantees::All || self.viewer.is_some_and(|viewer| grantees.has(viewer))
    }

    fn grantees(&self, secret: usize, place: &[Token]) -> Grantees {
        let of = self.charter.secrets.get(secret).zip(self.state);
        of.map_or(Grantees::NOBODY, |(of, state)| of.grantees(&self.charter.fields, state, place))
    }

    /// The whole plain state.
    pub fn plain(&self) -> Value {
        let plain = self.state.map(|state| state.plain(&self.charter.fields)).unwrap_or_default();
        self.sight.state_as(&self.charter.fields, plain, &|secret, place| self.sees(secret, place))
    }

    /// The plain value at a path, `None` where nothing is shown there.
    pub fn plain_at(&self, path: &Path) -> Option<Value> {
        let plain = self.state?.plain_at(&self.charter.fields, path)?;
        self.value(path, plain)
    }

    /// Whether anything is shown at a path.
    pub(crate) fn has(&self, tokens: &[Token]) -> bool {
        let exists = |state: &State| state.has(&self.charter.fields, tokens);
        let path = || Path::of(tokens.iter().cloned());
        self.state.is_some_and(exists) && self.extent(&path()) != Extent::Nothing
    }

    /// A member of the record at a path, or the whole value there: `null` if it is hidden. A list of
    /// plain values reads as those values.
    pub(crate) fn member(&self, tokens: &[Token], member: Option<&str>) -> Option<Value> {
        let plain = self.charter.fields.member(self.state?.root(), tokens, member)?;
        let path = Path::of(tokens.iter().cloned().chain(member.map(Token::from)));
        Some(match self.extent(&path) {
            Extent::Nothing => Value::Null,
            Extent::Whole => plain,
            Extent::Part => self.value(&path, plain).unwrap_or_default(),
        })
    }

    /// A plain value that is or was at a path.
    pub(crate) fn value(&self, path: &Path, plain: Value) -> Option<Value> {
        let sees = |secret: usize, place: &[Token]| self.sees(secret, place);
        self.sight.value_as(&self.charter.fields, path, plain, &sees)
    }

    /// How much of what lies at a path is shown.
    pub fn extent(&self, path: &Path) -> Extent {
        let sees = |secret: usize, place: &[Token]| self.sees(secret, place);
        extent(self.sight.at(path.tokens(), &self.charter.fields, &sees).shown())
    }

    /// The condition on the way to a path.
    pub fn condition(&self, path: &Path) -> Option<&'l str> {
        let tokens = path.tokens();
        let known = self.sight.secrets().into_iter();
        let secret = known.filter_map(|secret| self.charter.secrets.get(secret)).find(|secret| {
            let len = secret.place.len();
            len <= tokens.len() && secret.place.matches(&tokens[..len])
        });
        secret.map(|secret| secret.source.as_str())
    }

    /// What is theirs beside what all of their audience are shown: values by their paths. Cost
    /// O(what is theirs).
    pub fn beside(&self, index: &SecretIndex) -> BTreeMap<String, Value> {
        let secrets = self.sight.secrets();
        let keys = self.viewer.into_iter().flat_map(Viewer::keys);
        let places: BTreeSet<Path> = keys
            .flat_map(|key| index.places(&secrets, &key).cloned().collect::<Vec<_>>())
            .collect();
        let value = |path: Path| Some((path.to_string(), self.plain_at(&path)?));
        places.into_iter().filter_map(value).collect()
    }

    /// A refusal in words that say nothing of what is hidden.
    pub fn problem(&self, problem: Problem) -> Problem {
        if self.sight.is_whole() {
            return problem;
        }
        let told = problem.member("at").and_then(Value::as_str).map(str::to_owned);
        let Some((at, path)) = told.and_then(|at| Path::parse(&at).ok().map(|path| (at, path)))
        else {
            return problem;
        };
        let extent = self.extent(&path);
        if problem.kind() == ProblemKind::UnknownPath {
            let meant = problem.member("did_you_mean").and_then(Value::as_str).map(str::to_owned);
            let is_seen = |meant: &String| {
                Path::parse(meant).is_ok_and(|path| self.extent(&path) != Extent::Nothing)
            };
            return nothing_at(&path).did_you_mean(meant.filter(is_seen));
        }
        let problem = match (extent, problem.member("current").cloned()) {
            (Extent::Part, Some(current)) => match self.value(&path, current) {
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

impl Visibility {
    fn secrets(&self, found: &mut BTreeSet<usize>) {
        match self {
            Self::Whole | Self::Nothing => {}
            Self::Parts(parts) => parts.values().for_each(|part| part.secrets(found)),
            Self::Secret(secret, inner) | Self::Each(secret, inner) => {
                found.insert(*secret);
                inner.secrets(found);
            }
        }
    }

    /// Whether something with a condition lies inside something with a condition.
    fn nests_secrets(&self) -> bool {
        match self {
            Self::Whole | Self::Nothing => false,
            Self::Parts(parts) => parts.values().any(Self::nests_secrets),
            Self::Secret(_, inner) | Self::Each(_, inner) => {
                let mut inside = BTreeSet::new();
                inner.secrets(&mut inside);
                !inside.is_empty()
            }
        }
    }
}

fn extent(shown: &Visibility) -> Extent {
    match shown {
        Visibility::Whole => Extent::Whole,
        Visibility::Parts(_) | Visibility::Each(..) => Extent::Part,
        Visibility::Nothing | Visibility::Secret(..) => Extent::Nothing,
    }
}

/// The refusal of a path at which nothing is, or nothing that is shown: the two read the same.
pub(crate) fn nothing_at(path: &Path) -> Problem {
    Problem::new(ProblemKind::UnknownPath, format!("There is nothing at {path}.")).at(path)
}

fn shown_record(rules: &[Rule], fields: &Fields, place: &mut Vec<Token>) -> Visibility {
    let mut parts = BTreeMap::new();
    for (name, field) in fields.iter() {
        place.push(name.into());
        let mut shown = match field.each() {
            None => {
                if is_shown(rules, place) {
                    Visibility::Whole
                } else {
                    Visibility::Nothing
                }
            }
            Some(each) => {
                place.push("*".into());
                let whole = is_shown(rules, place);
                let inner = shown_record(rules, each, place);
                let secret = condition(rules, place);
                place.pop();
                match (inner, secret) {
                    (Visibility::Nothing, _) if whole => Visibility::Parts(BTreeMap::new()),
                    (Visibility::Nothing, _) => Visibility::Nothing,
                    (inner, Some(secret)) => Visibility::Each(secret, Box::new(inner)),
                    (inner, None) => inner,
                }
            }
        };
        if let Some(secret) = condition(rules, place).filter(|_| shown != Visibility::Nothing) {
            shown = Visibility::Secret(secret, Box::new(shown));
        }
        place.pop();
        if shown != Visibility::Nothing {
            parts.insert(name.to_owned(), shown);
        }
    }
    if parts.is_empty() && fields.iter().next().is_some() {
        return Visibility::Nothing;
    }
    let is_all = parts.len() == fields.iter().count()
        && parts.values().all(|part| *part == Visibility::Whole);
    if is_all { Visibility::Whole } else { Visibility::Parts(parts) }
}

/// The condition of a place that is hidden unless.
fn condition(rules: &[Rule], place: &[Token]) -> Option<usize> {
    rules.iter().find(|rule| rule.pattern.matches(place)).and_then(|_| {
        rules.iter().find_map(|rule| rule.unless.filter(|_| rule.pattern.matches(place)))
    })
}

/// Whether a declared path, or something around it, is matched to be shown, and nothing to be
/// hidden.
fn is_shown(rules: &[Rule], place: &[Token]) -> bool {
    let covers = |rule: &Rule| (1..=place.len()).any(|len| rule.pattern.matches(&place[..len]));
    let is_hidden =
        rules.iter().any(|rule| !rule.is_shown && rule.unless.is_none() && covers(rule));
    !is_hidden && rules.iter().any(|rule| rule.is_shown && covers(rule))
}

fn declaration(fields: &Fields, parts: &BTreeMap<String, Visibility>, declared: &mut Value) {
    let Some(members) = declared.as_object_mut() else { return };
    members.retain(|name, _| parts.contains_key(name));
    for (name, member) in members {
        let each = fields.field(name).and_then(Field::each);
        let mut shown = parts.get(name);
        while let Some(Visibility::Secret(_, inner) | Visibility::Each(_, inner)) = shown {
            shown = Some(inner);
        }
        if let (Some(Visibility::Parts(inner)), Some(each), Some(member)) =
            (shown, each, member.get_mut("each"))
        {
            declaration(each, inner, member);
        }
    }
}

/// A plain record as it is shown.
fn record(
    shown: &Visibility,
    fields: &Fields,
    place: &mut Vec<Token>,
    plain: Value,
    sees: Sees<'_>,
) -> Value {
    let parts = match shown {
        Visibility::Whole => return plain,
        Visibility::Parts(parts) => parts,
        Visibility::Nothing | Visibility::Secret(..) | Visibility::Each(..) => return json!({}),
    };
    let Value::Object(members) = plain else { return plain };
    let kept = members.into_iter().filter_map(|(name, value)| {
        let shown = parts.get(&name)?;
        place.push(name.as_str().into());
        let value = field(shown, fields.field(&name), place, value, sees);
        place.pop();
        Some((name, value?))
    });
    Value::Object(kept.collect::<Map<_, _>>())
}

/// The plain value of a field as it is shown; `None` where nothing of it is.
fn field(
    shown: &Visibility,
    of: Option<&Field>,
    place: &mut Vec<Token>,
    plain: Value,
    sees: Sees<'_>,
) -> Option<Value> {
    match shown {
        Visibility::Whole => Some(plain),
        Visibility::Nothing => None,
        Visibility::Secret(secret, inner) => {
            sees(*secret, place).then(|| field(inner, of, place, plain, sees)).flatten()
        }
        Visibility::Parts(_) => Some(records(shown, None, of?.each()?, place, plain, sees)),
        Visibility::Each(secret, inner) => {
            Some(records(inner, Some(*secret), of?.each()?, place, plain, sees))
        }
    }
}

/// A map or a list of records, each as it is shown.
fn records(
    shown: &Visibility,
    secret: Option<usize>,
    each: &Fields,
    place: &mut Vec<Token>,
    plain: Value,
    sees: Sees<'_>,
) -> Value {
    let mut one = |id: &str, value: Value| {
        place.push(id.into());
        let is_seen = secret.is_none_or(|secret| sees(secret, place));
        let value = is_seen.then(|| record(shown, each, place, value, sees));
        place.pop();
        value
    };
    match plain {
        Value::Object(members) => {
            let seen = members.into_iter().filter_map(|(id, value)| {
                let value = one(&id, value)?;
                Some((id, value))
            });
            Value::Object(seen.collect::<Map<_, _>>())
        }
        Value::Array(elements) => {
            let element = |mut element: Value| {
                let id = element.get("id").and_then(Value::as_str).unwrap_or_default().to_owned();
                if let Some(value) = element.get_mut("value") {
                    *value = one(&id, value.take())?;
                }
                Some(element)
            };
            Value::Array(elements.into_iter().filter_map(element).collect())
        }
        other => other,
    }
}

impl Section<'_> {
    /// What a role sees: patterns, and `{ but = … }` for what is hidden, with `unless` for what is
    /// hidden from some; nothing where the key is left out.
    pub(super) fn sights(
        &mut self,
        key: &'static str,
        tops: &BTreeSet<&str>,
        fields: &Fields,
        secrets: &mut Vec<Secret>,
    ) -> Option<Sight> {
        self.know(key)?;
        let items = self.pattern_items(
            key,
            "an array of path patterns and { but = … }, such as [\"/**\", { but = \
             \"/offers/*/limit\" }]",
        );
        let mut rules: Vec<Rule> = Vec::new();
        for (path, item) in items {
            let table = item.as_inline_table();
            let text = match table {
                None => item.as_str(),
                Some(table) => {
                    let known = ["but", "unless"];
                    if let Some((other, _)) = table.iter().find(|(name, _)| !known.contains(name)) {
                        let says = format!("unknown key {other:?}");
                        let meant = nearest(other, known);
                        self.report(item.span(), path.clone(), &says, "but and unless", meant);
                    }
                    table.get("but").and_then(toml_edit::Value::as_str)
                }
            };
            let Some(pattern) = self.pattern_of(text, item.span(), &path, tops) else { continue };
            let names_an_id = pattern
                .tokens()
                .is_some_and(|tokens| tokens.iter().skip(1).step_by(2).any(Option::is_some));
            let report = |says: &str, expected: &str| {
                self.report(item.span(), path.clone(), says, expected, None);
            };
            if names_an_id {
                report(
                    "names one record",
                    "\"*\" for the id of a record: what is seen of one follows from what is in it",
                );
                continue;
            }
            let mut unless = None;
            if let Some(source) = table.and_then(|table| table.get("unless")) {
                let Some(source) = source.as_str() else {
                    let expected = "a condition in CEL, such as \"record.by == who.id\"";
                    report("unless does not fit", expected);
                    continue;
                };
                if rules.iter().any(|rule| rule.unless.is_some() && rule.pattern == pattern) {
                    report("has a condition already", "one condition for a place, joined by ||");
                }
                let pattern = pattern.clone();
                unless = self.secret(source, item.span().as_ref(), &path, pattern, fields, secrets);
                if unless.is_none() {
                    continue;
                }
            }
            rules.push(Rule { pattern, is_shown: table.is_none(), unless });
        }
        let sight = Sight::of(&rules, fields);
        if sight.0.nests_secrets() {
            self.fault_at(key, "one condition on the way to a value, not one inside another", None);
        }
        Some(sight)
    }
}

#[cfg(test)]
mod tests {
    use smallvec::smallvec;

    use super::*;
    use crate::charter::Charter;
    use crate::op::Back;
    use crate::update::Undoes;

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
            .effect(&charter.fields, &effect, &|_, _| false)
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
            by: "oda".into(),
            client: uuid::Uuid::from_u128(1),
            n: 3,
            effects: smallvec![Effect::new(
                Path::of(["ledger", "a", "sum"]),
                Op::Add { by: 2, now: Some(5) },
            )],
            gesture: Some("g".into()),
            note: Some("for the ledger".into()),
            undoes: Some(Undoes { way: Back::Undo, updates: vec![6], passed: vec![5] }),
            ..Settled::blank(7, 7, 5)
        };
        let seen = charter.sight("but").update(&charter.fields, &update);
        assert_eq!(
            serde_json::to_string(&seen).unwrap(),
            r#"{"seq":7,"by":"","client":"00000000-0000-0000-0000-000000000000","n":0,"at":5,"effects":[]}"#
        );
        assert_eq!(charter.sight("gone").update(&charter.fields, &update), update);
    }
}
