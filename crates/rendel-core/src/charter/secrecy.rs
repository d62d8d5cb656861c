//! Secrets: what a role is shown `unless` a condition holds, record by record.
//!
//! What is hidden is a field, or a record of a map: a *place*. Its condition is joined by `||`. A
//! part without `who` opens the place to all. A part that speaks of `who` compares a field of the
//! record with something of the participant: a *key*. So visibility follows from values of the
//! record alone.
//!
//! Cost of finding the grantees of a place: O(parts of the condition), and O(elements) of the sets and lists
//! that they name.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use serde_json::Value;

use super::Charter;
use super::expression::{Expression, Named, Read, Relation};
use super::pattern::Pattern;
use crate::declaration::Section;
use crate::grantees::{Grantees, KeyPart, SightKey};
use crate::kind::{Cell, Fields};
use crate::path::{Path, Token};
use crate::scope::Scope;
use crate::state::State;
use crate::update::{Change, Disclosure, Effect};

/// A place that is hidden from some participants, with the condition that shows it.
#[derive(Clone, Debug)]
pub(crate) struct Secret {
    pub(super) place: Pattern,
    /// Tokens of the path of the record around it, or of the record that it is.
    record: usize,
    open: Vec<Expression>,
    keys: Vec<KeyRead>,
    /// The field of ballots that shows all of them once it is open.
    opens_with: Option<Token>,
    pub(super) source: String,
}

/// Where a key of a record is.
#[derive(Clone, Debug, PartialEq, Eq)]
struct KeyRead {
    member: String,
    /// Each element of a set or list is one.
    is_many: bool,
    of: Owner,
}

/// With what of a participant a key is compared.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Owner {
    Key(KeyPart),
    /// With their seat, by the field of seats: the participant on that seat sees it.
    Seat(Token),
}

impl Owner {
    fn key(&self, fields: &Fields, state: &State, value: &Value) -> Option<SightKey> {
        match self {
            Self::Key(part) => SightKey::new(part.clone(), value),
            Self::Seat(seats) => {
                let path = [seats.clone(), "by".into(), value.as_str()?.into()];
                SightKey::new(KeyPart::Id, &state.plain_at(fields, &Path::of(path))?)
            }
        }
    }
}

/// Places by key, so that the places of one participant are found without a search.
/// Cost of following an update: O(places that it touches × log places).
#[derive(Clone, Debug, Default)]
pub struct SecretIndex(BTreeMap<(usize, SightKey), BTreeSet<Path>>);

impl SecretIndex {
    /// That of a state. Cost O(places).
    pub fn of(charter: &Charter, state: &State) -> Self {
        let mut index = Self::default();
        for (number, secret) in charter.secrets.iter().enumerate() {
            secret.each(&charter.fields, state, &[], &mut |place| {
                let grantees = secret.grantees(&charter.fields, state, place);
                for key in grantees.keys() {
                    index.put(number, key, Path::of(place.iter().cloned()));
                }
            });
        }
        index
    }

    fn put(&mut self, secret: usize, key: &SightKey, place: Path) {
        self.0.entry((secret, key.clone())).or_default().insert(place);
    }

    /// An update was settled.
    pub fn handle_settled(&mut self, disclosures: &[Disclosure]) {
        for told in disclosures {
            for key in told.from.keys() {
                let entry = (told.secret, key.clone());
                if let Some(places) = self.0.get_mut(&entry) {
                    places.remove(&told.at);
                    if places.is_empty() {
                        self.0.remove(&entry);
                    }
                }
            }
            for key in told.to.keys() {
                self.put(told.secret, key, told.at.clone());
            }
        }
    }

    /// The places of some secrets that a key shows.
    pub(super) fn places(
        &self,
        secrets: &BTreeSet<usize>,
        key: &SightKey,
    ) -> impl Iterator<Item = &Path> {
        let of = |secret: &usize| self.0.get(&(*secret, key.clone()));
        secrets.iter().filter_map(of).flatten().collect::<Vec<_>>().into_iter()
    }
}

impl Secret {
    /// The secret of ballots: until their field is open, each is shown only to its caster.
    pub(super) fn of_ballots(records: &str, ballot: Token) -> Self {
        let key = KeyRead { member: String::new(), is_many: false, of: Owner::Key(KeyPart::Id) };
        let source = format!("id == who.id || state.{ballot}.open");
        let place = Pattern::of_records(records);
        let opens_with = Some(ballot);
        Self { place, record: 2, open: Vec::new(), keys: vec![key], opens_with, source }
    }

    /// The places that it speaks of within `tokens`.
    pub(crate) fn each(
        &self,
        fields: &Fields,
        state: &State,
        tokens: &[Token],
        visit: &mut dyn FnMut(&[Token]),
    ) {
        if self.place.len() > tokens.len() {
            state.each_at(fields, &self.place, tokens, visit);
        } else if self.place.matches(&tokens[..self.place.len()])
            && state.has(fields, &tokens[..self.place.len()])
        {
            visit(&tokens[..self.place.len()]);
        }
    }

    /// The grantees of a place in a state; none if the place does not exist.
    pub(crate) fn grantees(&self, fields: &Fields, state: &State, place: &[Token]) -> Grantees {
        let record = &place[..self.record];
        if !state.has(fields, place) {
            return Grantees::NOBODY;
        }
        let member = |member: &str| fields.member(state.root(), record, Some(member));
        let scope = Scope { place, ..Scope::of_record((fields, state.root()), record) };
        let read = |read: &Read| scope.read(read);
        if self.opens_with.as_ref().is_some_and(|ballot| is_open(fields, state, ballot)) {
            return Grantees::All;
        }
        // One that has no answer opens nothing.
        if self.open.iter().any(|open| open.holds(read).unwrap_or(false)) {
            return Grantees::All;
        }
        let mut keys = BTreeSet::new();
        for key in &self.keys {
            let value = match key.member.as_str() {
                "" => record.last().map(|id| id.as_str().into()),
                name => member(name),
            };
            let of = |value: &Value| key.of.key(fields, state, value);
            match value {
                Some(Value::Array(elements)) if key.is_many => {
                    let plain = |element: &Value| {
                        of(element.get("value").filter(|_| element.is_object()).unwrap_or(element))
                    };
                    keys.extend(elements.iter().filter_map(plain));
                }
                Some(value) if !key.is_many => keys.extend(of(&value)),
                _ => {}
            }
        }
        Grantees::Some(keys)
    }

    /// Whether a change of a field of the state may change the visibility of every place. If a
    /// condition reads only the state, its answers before and after are compared.
    fn turns_with(&self, fields: &Fields, states: [&State; 2], top: &Token) -> bool {
        let differs = |of: &dyn Fn(&State) -> Option<Value>| of(states[0]) != of(states[1]);
        if self.opens_with.as_ref() == Some(top) {
            return differs(&|state| Some(is_open(fields, state, top).into()));
        }
        let is_of_seats = |key: &KeyRead| key.of == Owner::Seat(top.clone());
        let by = Path::of([top.clone(), "by".into()]);
        if self.keys.iter().any(is_of_seats) && differs(&|state| state.plain_at(fields, &by)) {
            return true;
        }
        let is_it = |read: &Read| {
            read.name == "state" && read.member.as_ref().is_none_or(|member| *member == **top)
        };
        self.open.iter().filter(|open| open.reads().any(is_it)).any(|open| {
            let read = |state: &State, read: &Read| {
                Scope::of_record((fields, state.root()), &[]).read(read)
            };
            !open.reads().all(|read| read.name == "state")
                || differs(&|state| {
                    Some(open.holds(|one| read(state, one)).unwrap_or(false).into())
                })
        })
    }

    /// Whether a change of a value may change the visibility of a place that exists before and
    /// after. Cost O(parts of the condition).
    pub(crate) fn may_turn_with(&self, change: &Change) -> bool {
        let Some(path) = change.path() else { return false };
        let of_record = path.tokens().get(self.record).filter(|_| self.record > 0);
        self.turns_with_state(path) || of_record.is_some_and(|name| self.reads_of_record(name))
    }

    /// Whether the condition reads a field of the state at or around a path.
    fn turns_with_state(&self, path: &Path) -> bool {
        let [top, ..] = path.tokens() else { return false };
        let is_read = |read: &Read| {
            read.name == "state" && read.member.as_ref().is_none_or(|member| *member == **top)
        };
        self.opens_with.as_ref() == Some(top)
            || self.keys.iter().any(|key| key.of == Owner::Seat(top.clone()))
            || self.open.iter().flat_map(Expression::reads).any(is_read)
    }

    /// Whether a change of a field of the record may change its visibility.
    fn reads_of_record(&self, name: &str) -> bool {
        let is_it = |read: &Read| {
            read.name == "record" && read.member.as_ref().is_none_or(|member| member == name)
        };
        self.open.iter().flat_map(Expression::reads).any(is_it)
            || self.keys.iter().any(|key| key.member == name)
    }

    /// The places that a change touches: their values, or their visibility.
    fn touched(
        &self,
        fields: &Fields,
        states: [&State; 2],
        change: &Change,
        found: &mut BTreeSet<Path>,
    ) {
        let mut within = |tokens: &[Token]| {
            for state in states {
                self.each(fields, state, tokens, &mut |place| {
                    found.insert(Path::of(place.iter().cloned()));
                });
            }
        };
        let Some(path) = change.path() else { return within(&[]) };
        let tokens = path.tokens();
        let is_around = tokens.len() >= self.place.len() || self.place.may_lead_into(tokens);
        if is_around && !matches!(change, Change::Changed(_) if tokens.len() < self.place.len()) {
            within(tokens);
        }
        if tokens.first().is_some_and(|top| self.turns_with(fields, states, top)) {
            within(&[]);
        }
        // A field of the record that the condition reads, or something inside of that.
        if let Some(name) = tokens.get(self.record).filter(|_| self.record > 0)
            && self.reads_of_record(name)
        {
            within(&tokens[..self.record]);
        }
    }
}

fn is_open(fields: &Fields, state: &State, ballot: &Token) -> bool {
    let found = fields.find(state.root(), std::slice::from_ref(ballot));
    matches!(found, Some((_, Cell::Ballot(cell))) if cell.is_open())
}

/// How an update changes visibility: for each place that it touches, its grantees before and after.
/// What is sent to each participant, now and later, follows from this and the update alone.
///
/// `turned` has the states after each effect that may have changed a visibility.
/// Cost O(places that it touches × states); nothing if the charter has no secrets.
pub(crate) fn disclosures(
    secrets: &[Secret],
    fields: &Fields,
    [before, after]: [&State; 2],
    turned: &[(Path, State)],
    effects: &[Effect],
) -> Vec<Disclosure> {
    let mut all = Vec::new();
    for (index, secret) in secrets.iter().enumerate() {
        let mut places = BTreeSet::new();
        let mut covering = Vec::new();
        let between = Between::of(secret, turned);
        for effect in effects {
            let change = effect.change();
            secret.touched(fields, [before, after], &change, &mut places);
            match change {
                Change::Came(path) | Change::Went(path)
                    if path.tokens().len() < secret.place.len() =>
                {
                    covering.push(path);
                }
                Change::Reset => covering.push(Path::of::<Token>([])),
                _ => {}
            }
        }
        for at in places {
            let from = secret.grantees(fields, before, at.tokens());
            let to = secret.grantees(fields, after, at.tokens());
            let is_anew = covering.iter().any(|path| at.is_within(path));
            let is_gone = !state_has(fields, after, &at, secret);
            let is_kept = |state: &State| {
                secret.grantees(fields, state, at.tokens()).include_common(&from, &to)
            };
            let is_interrupted = !between.all(secret, &at, is_kept);
            let is_told = is_anew || from != to || is_interrupted;
            let value = (is_told && !is_gone).then(|| after.plain_at(fields, &at)).flatten();
            all.push(Disclosure {
                secret: index,
                at,
                from,
                to,
                is_anew,
                is_gone,
                is_interrupted,
                value,
            });
        }
    }
    all
}

/// States in the middle of an update in which the visibility of all places was another.
const MAX_BETWEEN: usize = 16;

/// The states in the middle of an update, by the places whose visibility they may change.
struct Between<'b> {
    of_all: Vec<&'b State>,
    by_record: BTreeMap<&'b [Token], Vec<&'b State>>,
}

impl<'b> Between<'b> {
    fn of(secret: &Secret, turned: &'b [(Path, State)]) -> Self {
        let mut between = Self { of_all: Vec::new(), by_record: BTreeMap::new() };
        for (path, state) in turned {
            if secret.turns_with_state(path) {
                between.of_all.push(state);
            } else if let Some(record) = path.tokens().get(..secret.record) {
                between.by_record.entry(record).or_default().push(state);
            }
        }
        between
    }

    /// Whether something holds in all states that concern a place. Of too many it is not assumed.
    fn all(&self, secret: &Secret, at: &Path, holds: impl Fn(&State) -> bool) -> bool {
        let own = self.by_record.get(&at.tokens()[..secret.record]).into_iter().flatten();
        self.of_all.len() <= MAX_BETWEEN && self.of_all.iter().chain(own).all(|state| holds(state))
    }
}

/// Whether the record around a place is there, so that something can be hidden in it.
fn state_has(fields: &Fields, state: &State, at: &Path, secret: &Secret) -> bool {
    let tokens = at.tokens();
    let around = if tokens.len() == secret.record { secret.record - 1 } else { secret.record };
    around == 0 || state.has(fields, &tokens[..around])
}

/// Reads a condition; the error says what is expected in its place.
fn read_condition(
    source: &str,
    pattern: &Pattern,
    fields: &Fields,
) -> Result<(Vec<Expression>, Vec<KeyRead>), String> {
    let expression = Expression::compile(source, &["record", "id", "who", "state"])?;
    let (mut open, mut keys) = (Vec::new(), Vec::new());
    for part in expression.alternatives() {
        if !part.reads().any(|read| read.name == "who") {
            open.push(part);
            continue;
        }
        let expected = "for each part that speaks of who: a register of the record that equals \
            who.id, who.seat or who.claims.NAME, or who.id in a set or list of the record; parts \
            are joined by ||";
        let (relation, one, other) = part.pair().ok_or(expected)?;
        let key = match relation {
            Relation::Equals => {
                let key = key_read(&one, &other, false, fields);
                key.or_else(|| key_read(&other, &one, false, fields))
            }
            Relation::In => key_read(&other, &one, true, fields),
        };
        let key = key.ok_or(expected)?;
        if !key.member.is_empty() {
            let around = fields.record_around(pattern);
            let kind =
                around.and_then(|fields| fields.field(&key.member)).map(|of| of.words().name);
            let kinds: &[&str] = if key.is_many { &["set", "list"] } else { &["register"] };
            if !kind.is_some_and(|kind| kinds.contains(&kind)) {
                let member = &key.member;
                return Err(format!(
                    "record.{member} to be a {} of the record",
                    kinds.join(" or ")
                ));
            }
        }
        keys.push(key);
    }
    Ok((open, keys))
}

fn key_read(of_record: &Named, of_who: &Named, is_many: bool, fields: &Fields) -> Option<KeyRead> {
    let words: Vec<&str> = of_who.iter().map(String::as_str).collect();
    let of = match words[..] {
        ["who", "id"] => Owner::Key(KeyPart::Id),
        ["who", "seat"] => Owner::Seat(fields.seats()?.into()),
        ["who", "claims", name] => Owner::Key(KeyPart::Claim(name.to_owned())),
        _ => return None,
    };
    let words: Vec<&str> = of_record.iter().map(String::as_str).collect();
    let member = match words[..] {
        ["id"] | ["record", "id"] if !is_many => String::new(),
        ["record", member] => member.to_owned(),
        _ => return None,
    };
    Some(KeyRead { member, is_many, of })
}

impl Section<'_> {
    /// A place and its condition. Gives its index among the secrets of the charter, which roles
    /// share that say the same.
    pub(super) fn secret(
        &self,
        source: &str,
        span: Option<&Range<usize>>,
        path: &str,
        pattern: Pattern,
        fields: &Fields,
        secrets: &mut Vec<Secret>,
    ) -> Option<usize> {
        let report = |says: &str, expected: &str| {
            self.report(span.cloned(), path.to_owned(), says, expected, None);
        };
        let len = pattern.tokens().map(|tokens| tokens.len());
        let is_field = fields.declared(&pattern).is_some();
        let is_record = fields.is_record_of_map(&pattern);
        let Some(len) = len.filter(|_| is_field || is_record) else {
            report(
                &format!("{pattern} cannot be shown to some"),
                "a declared field, or the records of a map, with * for an id and no **, such as \
                 \"/cards/*/face\" or \"/drafts/*\"",
            );
            return None;
        };
        let is_known = |known: &Secret| known.place == pattern && known.source == source;
        if let Some(known) = secrets.iter().position(is_known) {
            return Some(known);
        }
        match read_condition(source, &pattern, fields) {
            Err(expected) => {
                report(&format!("{source:?} does not fit"), &expected);
                None
            }
            Ok((open, keys)) => {
                for part in &open {
                    self.check_reads_at(span, path, part, fields, &pattern);
                }
                let record = len / 2 * 2;
                let source = source.to_owned();
                let opens_with = None;
                secrets.push(Secret { place: pattern, record, open, keys, opens_with, source });
                Some(secrets.len() - 1)
            }
        }
    }
}
