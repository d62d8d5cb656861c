//! What fields that keep rules of play need to know of other fields: what a turn governs, what may be
//! shuffled, what a total is made of. It is read once all fields are known.

use std::collections::{BTreeMap, BTreeSet};

use toml_edit::Item;

use super::pattern::Pattern;
use super::role::Role;
use super::secrecy::Secret;
use super::sight::Sight;
use crate::declaration::Section;
use crate::kind::{Field, Fields, ballot_records};
use crate::path::{Path, Token};
use crate::suggest::nearest;
use crate::totals::{Measure, Total};

/// What the fields of a charter that keep rules of play are about.
#[derive(Clone, Debug, Default)]
pub(crate) struct Play {
    /// The field of seats.
    pub(crate) seats: Option<Token>,
    pub(crate) turns: Vec<Turn>,
    pub(crate) draws: Vec<Draws>,
    pub(crate) totals: Vec<Total>,
    /// The fields of ballots, each with the map that holds them.
    pub(crate) ballots: Vec<Ballots>,
    pub(crate) deadlines: Vec<Deadline>,
    /// The fields of turns that have a time.
    pub(crate) timed: Vec<Token>,
    /// What may be edited until the needed seats are taken.
    pub(crate) while_gathering: Vec<Pattern>,
}

impl Play {
    /// The fields that keep rules of play, and the maps of ballots beside them.
    pub(super) fn fields(&self) -> impl Iterator<Item = &Token> {
        let ballots = self.ballots.iter().flat_map(|ballots| [&ballots.field, &ballots.records]);
        let turns = self.turns.iter().map(|turn| &turn.field);
        let draws = self.draws.iter().map(|draws| &draws.field);
        let deadlines = self.deadlines.iter().map(|deadline| &deadline.field);
        let totals = self.totals.iter().filter_map(|total| total.at.tokens().first());
        self.seats.iter().chain(turns).chain(draws).chain(deadlines).chain(totals).chain(ballots)
    }

    /// Whether it depends on a field when something is due next.
    pub(crate) fn is_of_time(&self, field: &Token) -> bool {
        let is_deadline = || self.deadlines.iter().any(|deadline| deadline.field == *field);
        is_deadline() || self.timed.contains(field) || self.seats.as_ref() == Some(field)
    }
}

/// A field that says whose turn it is.
#[derive(Clone, Debug)]
pub(crate) struct Turn {
    pub(crate) field: Token,
    /// What only the seat whose turn it is edits.
    pub(crate) governs: Vec<Pattern>,
}

/// A field of ballots.
#[derive(Clone, Debug)]
pub(crate) struct Ballots {
    pub(crate) field: Token,
    /// The map of the ballots that were cast.
    pub(crate) records: Token,
}

/// A field of a time at which something happens.
#[derive(Clone, Debug)]
pub(crate) struct Deadline {
    pub(crate) field: Token,
    pub(crate) extend: Option<Extend>,
}

/// What pushes a deadline back.
#[derive(Clone, Debug)]
pub(crate) struct Extend {
    /// By so many milliseconds.
    pub(crate) by: u64,
    /// Where no more than so many milliseconds remain.
    pub(crate) within: u64,
    /// When something changes there.
    pub(crate) when: Pattern,
}

/// A field of chance.
#[derive(Clone, Debug)]
pub(crate) struct Draws {
    pub(crate) field: Token,
    /// The registers that may be dealt anew, with `*` for the ids of their records.
    pub(crate) shuffles: Vec<Pattern>,
}

impl Play {
    pub(super) fn read(root: &mut Section<'_>, fields: &Fields) -> Self {
        let mut play = Self::default();
        let Some(mut state) = root.known_section("state") else { return play };
        for (name, field) in fields.iter() {
            // What a charter does not declare itself has no section.
            if !state.has(name) {
                continue;
            }
            let Some(mut section) = state.section(name) else { continue };
            match field {
                Field::Seats(_) if play.seats.is_some() => {
                    section.fault_at("kind", "one field of seats in a charter", None);
                }
                Field::Seats(_) => play.seats = Some(name.into()),
                Field::Turn(of) => {
                    play.turns.push(section.turn(name, fields));
                    play.timed.extend(of.is_timed().then(|| name.into()));
                }
                Field::Deadline(of) => {
                    if of.waits_for_seats() && fields.seats().is_none() {
                        let expected = "a field of seats in the charter, which are taken then";
                        section.fault_at("from", expected, None);
                    }
                    let extend = section.has("extend").then(|| section.extend(fields)).flatten();
                    play.deadlines.push(Deadline { field: name.into(), extend });
                }
                Field::Random(of) => {
                    if of.takes_entropy() && fields.seats().is_none() {
                        let expected = "a field of seats in the charter, whose owners add to draws";
                        section.fault_at("entropy", expected, None);
                    }
                    let shuffles = section.shuffled(fields);
                    play.draws.push(Draws { field: name.into(), shuffles });
                }
                Field::Ballot(_) => {
                    let records = ballot_records(name).into();
                    play.ballots.push(Ballots { field: name.into(), records });
                }
                Field::Total(_) => play.totals.extend(section.total(name, fields)),
                _ => {}
            }
        }
        play
    }

    /// Shows each ballot to the participant who cast it, and all of them to everybody that sees their
    /// field once it is open. Ballots of a secret field are shown to nobody, not even to the
    /// participants who cast them, because the backend can read in their name. Gives what the backend
    /// sees.
    pub(super) fn hide_ballots(
        &self,
        root: &mut Section<'_>,
        fields: &Fields,
        roles: &mut BTreeMap<String, Role>,
        secrets: &mut Vec<Secret>,
    ) -> Sight {
        let mut service = Sight::WHOLE;
        for Ballots { field: name, records } in &self.ballots {
            let Some(Field::Ballot(field)) = fields.field(name) else { continue };
            for unknown in field.roles().filter(|named| !roles.contains_key(*named)) {
                let meant = nearest(unknown, roles.keys().map(String::as_str));
                let path = format!("state.{name}.roles");
                let says = format!("there is no role {unknown:?}");
                root.report(None, path, &says, "roles of the charter", meant);
            }
            let secret = (!field.is_secret()).then(|| {
                secrets.push(Secret::of_ballots(records, name.clone()));
                secrets.len() - 1
            });
            for role in roles.values_mut() {
                role.see = role.see.with_ballots(fields, name, records, secret);
            }
            if secret.is_none() {
                service = service.with_ballots(fields, name, records, None);
            }
        }
        service
    }
}

impl Section<'_> {
    /// What may be edited until the needed seats are taken.
    pub(super) fn while_gathering(&mut self, tops: &BTreeSet<&str>) -> Vec<Pattern> {
        match self.has("while-gathering") {
            true => self.patterns("while-gathering", tops),
            false => Vec::new(),
        }
    }

    fn turn(&mut self, name: &str, fields: &Fields) -> Turn {
        let seats = fields.seats().map(|name| format!("/{name}"));
        let given = self.know("seats").and_then(Item::as_str);
        if seats.is_none() || given != seats.as_deref() {
            let expected = "the path of the field of seats, such as \"/seats\"";
            self.fault_at("seats", expected, seats);
        }
        let tops = fields.iter().map(|(name, _)| name).collect();
        let governs = match self.has("governs") {
            true => self.patterns("governs", &tops),
            false => Vec::new(),
        };
        Turn { field: name.into(), governs }
    }

    fn extend(&mut self, fields: &Fields) -> Option<Extend> {
        let mut section = self.known_section("extend")?;
        let mut ms = |key: &'static str| {
            let ms = section.duration(key, 100..=86_400_000);
            if ms.is_none() && !section.has(key) {
                section.fault_at(key, "a time, such as \"10s\"", None);
            }
            ms.and_then(|ms| u64::try_from(ms.as_millis()).ok())
        };
        let (by, within) = (ms("by"), ms("within"));
        let tops = fields.iter().map(|(name, _)| name).collect();
        let item = section.know("when");
        let path = section.inner_path("when");
        let when = section.pattern_of(
            item.and_then(Item::as_str),
            item.and_then(Item::span),
            &path,
            &tops,
        );
        section.finish();
        Some(Extend { by: by?, within: within?, when: when? })
    }

    fn shuffled(&mut self, fields: &Fields) -> Vec<Pattern> {
        if !self.has("shuffles") {
            return Vec::new();
        }
        let tops = fields.iter().map(|(name, _)| name).collect();
        let patterns = self.patterns("shuffles", &tops);
        let is_register = |pattern: &Pattern| {
            pattern.len() == 3
                && fields.declared(pattern).is_some_and(|field| field.words().name == "register")
        };
        if !patterns.iter().all(is_register) {
            let expected = "registers of the records of a map, such as [\"/cards/*/face\"]";
            self.fault_at("shuffles", expected, None);
        }
        patterns
    }

    fn total(&mut self, name: &str, fields: &Fields) -> Option<Total> {
        let from = self.know("from").and_then(Item::as_str).and_then(Pattern::parse);
        let around = from.as_ref().and_then(|from| fields.declared(from));
        let is_plain = around.is_some_and(Field::has_plain_elements);
        if !is_plain && around.and_then(Field::each).is_none() {
            let expected = "the path of a map or list of records, such as \"/baskets\"";
            self.fault_at("from", expected, None);
            return None;
        }
        let from = Pattern::parse(&format!("{}/*", from?))?;
        let given: Vec<_> = Measure::ALL.into_iter().filter(|(name, _)| self.has(name)).collect();
        let [(named_measure, measure)] = given[..] else {
            let expected = "one of count, sum, mean, min, max and share";
            self.fault_at(given.get(1).map_or("sum", |(name, _)| name), expected, None);
            return None;
        };
        let record = fields.record_around(&from);
        let registers: Vec<&str> = record
            .into_iter()
            .flat_map(Fields::iter)
            .filter(|(_, field)| field.is_small() && field.words().name != "total")
            .map(|(name, _)| name)
            .collect();
        let of = match self.item(named_measure).and_then(Item::as_value) {
            Some(toml_edit::Value::Boolean(truth))
                if *truth.value() && matches!(measure, Measure::Count | Measure::Share) =>
            {
                None
            }
            value => {
                let named = value.and_then(toml_edit::Value::as_str);
                let is_known = named.is_some_and(|named| registers.contains(&named));
                if measure == Measure::Count || !is_known {
                    let expected = match measure {
                        Measure::Count => "true: it counts records".to_owned(),
                        _ => format!(
                            "a register or counter of the records: {}",
                            registers.join(", ")
                        ),
                    };
                    let meant = named.and_then(|named| nearest(named, registers.iter().copied()));
                    self.fault_at(named_measure, &expected, meant);
                    return None;
                }
                named.map(str::to_owned)
            }
        };
        let by = self.know("by").map(|item| item.as_str().unwrap_or_default().to_owned());
        if let Some(by) = &by
            && !registers.contains(&by.as_str())
        {
            let expected = format!("a register of the records: {}", registers.join(", "));
            self.fault_at("by", &expected, nearest(by, registers.iter().copied()));
        }
        if measure == Measure::Share && by.is_none() {
            self.fault_at("by", "a register of the records: shares are those of groups", None);
        }
        let condition = self.has("where").then(|| {
            let condition = self.expression("where", &["record", "id"])?;
            self.check_reads("where", &condition, fields, &from);
            Some((condition, self.line_of(self.item("where").and_then(Item::span))))
        });
        Some(Total { at: Path::of([name]), from, measure, of, condition: condition.flatten(), by })
    }
}
