//! `ballot`: what participants choose. Each participant has one ballot, however many tabs they have;
//! casting again replaces it.
//!
//! | edit | what it does |
//! |---|---|
//! | `cast` | `choices`, or a `value` of the scale or `"unsure"` |
//! | `withdraw` | withdraws your own ballot |
//! | `unseal` | opens a sealed ballot for all participants at once; needs the power `unseal` |
//! | `restart` | begins the next round, with another `question` if given; needs the power `restart` |
//!
//! Each may name the `round` that it is meant for and is `stale` in any other. Clients add it to
//! what they send, so that a choice made offline never counts for the next question.
//!
//! The ballots themselves are records of a second map, under the ids of their casters. A caster sees
//! their own ballot, and all participants see all ballots once the field is open and not secret. The
//! tally in the field itself is counted on a beat, so many casts make few updates.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use bigdecimal::{BigDecimal, RoundingMode, Zero as _};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use super::edit_context::stored_op;
use super::map::Field as MapField;
use super::record::ballot_records;
use super::ruled::{self, Ruled, replace};
use super::{Applying, Fields, KindWords, Loading};
use crate::decimal::{decimal, number, shares};
use crate::declaration::Section;
use crate::op::Op;
use crate::path::{Path, Token, inner};
use crate::problem::{Problem, ProblemKind};
use crate::suggest::nearest;
use crate::update::{Effect, Effects};

/// A declared ballot.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    of: Choice,
    /// The roles that may cast; every role that may edit the field if none is named.
    roles: Option<BTreeSet<String>>,
    is_sealed: bool,
    is_secret: bool,
    names_voters: bool,
    /// Whether it is unsealed when all seated participants that may cast have cast.
    unseals_itself: bool,
}

/// What is chosen from.
#[derive(Clone, Debug)]
enum Choice {
    Among { choices: Vec<String>, most: usize },
    Scale { from: BigDecimal, to: BigDecimal, step: BigDecimal, unsure: bool },
}

/// The public part of a ballot.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub(crate) struct Cell(Arc<BallotShown>);

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct BallotShown {
    /// How many have cast.
    cast: u64,
    /// The rounds before, the oldest first.
    earlier: Vec<Round>,
    /// Whether results are shown.
    open: bool,
    question: Option<String>,
    results: Option<Results>,
    round: u64,
    /// The participants that have cast, if names are public.
    voters: Option<BTreeMap<String, bool>>,
}

/// A round that has ended.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Round {
    cast: u64,
    question: Option<String>,
    results: Option<Results>,
    round: u64,
}

/// What a ballot comes to.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Results {
    /// Of a scale: whom a moderator would ask.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    ask: Option<Ask>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    mean: Option<Value>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    median: Option<Value>,
    /// Of choices: the percent of each, which add up to 100.0.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    shares: Option<BTreeMap<String, Value>>,
    /// Of a scale: the median distance from the median.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    spread: Option<Value>,
    /// How often each was chosen.
    tally: BTreeMap<String, u64>,
}

/// The participants far from the median, and those that are not sure.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Ask {
    high: Vec<String>,
    low: Vec<String>,
    unsure: Vec<String>,
}

/// Choices of one ballot, characters of one of them, steps of a scale, rounds that are kept.
const MOST_CHOICES: usize = 100;
const MOST_CHARS: usize = 64;
const MOST_STEPS: u32 = 10_000;
const MOST_ROUNDS: usize = 20;
/// Characters of a question.
const QUESTION: usize = 200;
/// How somebody says that they do not know.
const UNSURE: &str = "unsure";

/// The choices by participant.
pub(crate) type Votes = BTreeMap<String, Value>;

impl Cell {
    pub(crate) fn is_open(&self) -> bool {
        self.0.open
    }

    /// How many had cast when that was counted last.
    pub(crate) fn cast(&self) -> u64 {
        self.0.cast
    }

    /// Refuses an edit that was meant for another round, such as a choice made while offline before
    /// the next question was asked.
    pub(crate) fn check_round(&self, meant: Option<u64>) -> Result<(), Problem> {
        let BallotShown { round, question, .. } = &*self.0;
        let Some(meant) = meant.filter(|meant| meant != round) else { return Ok(()) };
        let detail = format!("This was meant for round {meant}; the ballot is in round {round}.");
        let current = json!({ "question": question, "round": round });
        Err(Problem::new(ProblemKind::Stale, detail).current(current))
    }

    /// The effects that lead from one cell to another: one for each part that differs.
    pub(crate) fn told(&self, at: &Path, next: &Self) -> Effects {
        let (was, now) = (&*self.0, &*next.0);
        let mut effects = Effects::new();
        let mut set = |name: &str, is_same: bool, value: Value| {
            if !is_same {
                effects.push(Effect::new(inner(at, name), Op::Set(value.into())));
            }
        };
        set("cast", was.cast == now.cast, now.cast.into());
        set("earlier", was.earlier == now.earlier, ruled::plain(&now.earlier));
        set("open", was.open == now.open, now.open.into());
        set("question", was.question == now.question, now.question.clone().into());
        set("results", was.results == now.results, ruled::plain(&now.results));
        set("round", was.round == now.round, now.round.into());
        let none = BTreeMap::new();
        let (before, after) =
            (was.voters.as_ref().unwrap_or(&none), now.voters.as_ref().unwrap_or(&none));
        let voter = |who: &str| inner(&inner(at, "voters"), who);
        let came = after.keys().filter(|who| !before.contains_key(*who));
        effects.extend(came.map(|who| Effect::new(voter(who), Op::Set(Value::from(true).into()))));
        let went = before.keys().filter(|who| !after.contains_key(*who));
        effects.extend(went.map(|who| Effect::new(voter(who), Op::Drop)));
        effects
    }
}

impl Field {
    pub(crate) fn is_secret(&self) -> bool {
        self.is_secret
    }

    pub(crate) fn unseals_itself(&self) -> bool {
        self.unseals_itself
    }

    /// The roles that are named, so that the charter can check that they exist.
    pub(crate) fn roles(&self) -> impl Iterator<Item = &str> {
        self.roles.iter().flatten().map(String::as_str)
    }

    /// Refuses what cannot be cast, or not now, or not by this role; gives the ballot in one form.
    pub(crate) fn check_cast(
        &self,
        cell: &Cell,
        role: &str,
        cast: &Value,
    ) -> Result<Value, Problem> {
        self.check_voter(cell, role)?;
        match (&self.of, cast) {
            (Choice::Among { choices, most }, Value::Array(given)) => {
                let mut names = BTreeSet::new();
                for one in given {
                    let name = one.as_str().unwrap_or_default();
                    if !choices.iter().any(|choice| choice == name) {
                        let detail = format!("{one} is none of {}.", choices.join(", "));
                        let meant = nearest(name, choices.iter().map(String::as_str));
                        let problem = Problem::new(ProblemKind::OutOfBounds, detail);
                        return Err(problem.did_you_mean(meant));
                    }
                    names.insert(name);
                }
                if names.len() != given.len() || !(1..=*most).contains(&given.len()) {
                    let detail = format!("Choose 1 to {most}, each once.");
                    return Err(Problem::new(ProblemKind::OutOfBounds, detail));
                }
                Ok(choices
                    .iter()
                    .filter(|choice| names.contains(choice.as_str()))
                    .cloned()
                    .collect())
            }
            (Choice::Among { .. }, _) => {
                let detail = "Cast \"choices\": an array of those you choose.";
                Err(Problem::new(ProblemKind::WrongType, detail))
            }
            (Choice::Scale { unsure: true, .. }, Value::String(text)) if text == UNSURE => {
                Ok(cast.clone())
            }
            (Choice::Scale { from, to, step, .. }, value) => {
                let on_it = decimal(value).filter(|value| {
                    value >= from && value <= to && ((value - from) % step).is_zero()
                });
                on_it.map(|value| number(&value)).ok_or_else(|| {
                    let detail = format!("The scale goes from {from} to {to} in steps of {step}.");
                    Problem::new(ProblemKind::OutOfBounds, detail)
                })
            }
        }
    }

    /// Refuses a role that may not cast, and a cast that comes too late.
    pub(crate) fn check_voter(&self, cell: &Cell, role: &str) -> Result<(), Problem> {
        if self.roles.as_ref().is_some_and(|roles| !roles.contains(role)) {
            let detail = format!("The role {role:?} does not cast here.");
            return Err(Problem::new(ProblemKind::NotAllowed, detail));
        }
        if self.is_sealed && cell.0.open {
            let detail = "The ballot was unsealed. It takes ballots again once it is restarted.";
            return Err(Problem::new(ProblemKind::Stale, detail));
        }
        Ok(())
    }

    /// The cell after a count.
    pub(crate) fn counted(&self, cell: &Cell, votes: &Votes) -> Cell {
        let voters =
            self.names_voters.then(|| votes.keys().map(|who| (who.clone(), true)).collect());
        let results = cell.0.open.then(|| self.results(votes));
        Cell(Arc::new(BallotShown {
            cast: votes.len() as u64,
            results,
            voters,
            ..(*cell.0).clone()
        }))
    }

    /// The cell with everything shown.
    pub(crate) fn unsealed(&self, cell: &Cell, votes: &Votes) -> Cell {
        let open = Cell(Arc::new(BallotShown { open: true, ..(*cell.0).clone() }));
        self.counted(&open, votes)
    }

    /// The cell at the beginning of the next round.
    pub(crate) fn restarted(
        &self,
        cell: &Cell,
        votes: &Votes,
        question: Option<&str>,
    ) -> Result<Cell, Problem> {
        if question.is_some_and(|question| question.chars().count() > QUESTION) {
            let detail = format!("\"question\" has at most {QUESTION} characters.");
            return Err(Problem::new(ProblemKind::TooLarge, detail));
        }
        let last = self.counted(cell, votes);
        let BallotShown { cast, question: before, results, round, .. } = &*last.0;
        let ended = Round {
            cast: *cast,
            question: before.clone(),
            results: results.clone(),
            round: *round,
        };
        let mut earlier = cell.0.earlier.clone();
        earlier.push(ended);
        earlier.drain(..earlier.len().saturating_sub(MOST_ROUNDS));
        let asked = question.map(str::to_owned).or_else(|| before.clone());
        let next = BallotShown { earlier, question: asked, round: round + 1, ..self.begun() };
        Ok(Cell(Arc::new(next)))
    }

    fn begun(&self) -> BallotShown {
        let open = !self.is_sealed;
        BallotShown {
            cast: 0,
            earlier: Vec::new(),
            open,
            question: None,
            results: open.then(|| self.results(&Votes::new())),
            round: 1,
            voters: self.names_voters.then(BTreeMap::new),
        }
    }

    fn results(&self, votes: &Votes) -> Results {
        let mut tally: BTreeMap<String, u64> = BTreeMap::new();
        match &self.of {
            Choice::Among { choices, .. } => {
                tally.extend(choices.iter().map(|choice| (choice.clone(), 0)));
                let cast = votes.values().filter_map(Value::as_array).flatten();
                for choice in cast.filter_map(Value::as_str) {
                    *tally.entry(choice.to_owned()).or_default() += 1;
                }
                let weights = tally.iter().map(|(choice, count)| (choice.clone(), (*count).into()));
                Results { shares: Some(shares(weights.collect())), tally, ..Results::default() }
            }
            Choice::Scale { step, .. } => {
                for value in votes.values() {
                    let name = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
                    *tally.entry(name).or_default() += 1;
                }
                let mut numbers: Vec<BigDecimal> = votes.values().filter_map(decimal).collect();
                numbers.sort();
                let middle = median(&numbers);
                let spread = middle.as_ref().and_then(|middle| {
                    let mut away: Vec<_> =
                        numbers.iter().map(|number| (number - middle).abs()).collect();
                    away.sort();
                    median(&away)
                });
                let mean = (!numbers.is_empty()).then(|| {
                    let sum: BigDecimal = numbers.iter().sum();
                    let mean = sum / BigDecimal::from(numbers.len() as u64);
                    number(&mean.with_scale_round(2, RoundingMode::HalfEven))
                });
                let ask = || whom_to_ask(votes, middle.as_ref(), spread.as_ref(), step);
                Results {
                    ask: (!self.is_secret).then(ask),
                    mean,
                    median: middle.as_ref().map(number),
                    spread: spread.as_ref().map(number),
                    shares: None,
                    tally,
                }
            }
        }
    }
}

/// The middle of some numbers in order, of an even count that between the two.
fn median(numbers: &[BigDecimal]) -> Option<BigDecimal> {
    let half = numbers.len() / 2;
    match numbers.len() % 2 {
        1 => numbers.get(half).cloned(),
        _ => Some((numbers.get(half.checked_sub(1)?)? + numbers.get(half)?) / 2),
    }
}

/// Far is more than three times the median distance from the median, and more than two steps.
fn whom_to_ask(
    votes: &Votes,
    middle: Option<&BigDecimal>,
    spread: Option<&BigDecimal>,
    step: &BigDecimal,
) -> Ask {
    let mut ask = Ask::default();
    let far = spread.map(|spread| (spread * BigDecimal::from(3)).max(step * BigDecimal::from(2)));
    for (who, value) in votes {
        match (decimal(value), middle, &far) {
            (None, ..) => ask.unsure.push(who.clone()),
            (Some(value), Some(middle), Some(far)) if value > middle + far => {
                ask.high.push(who.clone());
            }
            (Some(value), Some(middle), Some(far)) if value < middle - far => {
                ask.low.push(who.clone());
            }
            _ => {}
        }
    }
    ask
}

impl Ruled for Field {
    type Cell = Cell;
    const WORDS: KindWords = KindWords {
        name: "ballot",
        takes: &["cast", "withdraw", "unseal", "restart"],
        inside: &[],
    };
    const WHAT: &'static str = "A ballot";

    fn declare(section: &mut Section<'_>) -> Self {
        let of = match (section.has("choices"), section.has("scale")) {
            (false, true) => section.scale(),
            (true, true) => {
                section.fault_at("scale", "either `choices` or a `scale`", None);
                section.scale()
            }
            _ => {
                let choices = section.words("choices", MOST_CHOICES, MOST_CHARS);
                let most = i64::try_from(choices.len().max(1)).unwrap_or(1);
                Choice::Among { choices, most: section.number("most", 1..=most, 1) }
            }
        };
        let is_secret = section.flag("secret");
        let is_sealed = section.flag("sealed") || is_secret;
        let names_voters = section.choice("voters", &["names", "count"], "names") == "names";
        let unseal = section.choice("unseal", &["by-power", "all-cast"], "by-power");
        if unseal == "all-cast" && !is_sealed {
            section.fault_at("unseal", "a ballot that is sealed", None);
        }
        let roles = section.has("roles").then(|| section.words("roles", 100, MOST_CHARS));
        Self {
            of,
            roles: roles.map(|roles| roles.into_iter().collect()),
            is_sealed,
            is_secret,
            names_voters,
            unseals_itself: unseal == "all-cast",
        }
    }

    fn initial(&self) -> Cell {
        Cell(Arc::new(self.begun()))
    }

    /// Opening data may ask the first question; anything else of it was a session's own.
    fn load(&self, at: &Path, plain: &Value, loading: Loading) -> Result<Cell, Problem> {
        if loading.is_settled {
            return ruled::load(at, plain);
        }
        let question = match plain.get("question") {
            None | Some(Value::Null) => None,
            Some(Value::String(text)) if text.chars().count() <= QUESTION => Some(text.clone()),
            Some(_) => {
                let detail = format!("\"question\" is a text of at most {QUESTION} characters.");
                return Err(Problem::new(ProblemKind::WrongType, detail).at(at));
            }
        };
        Ok(Cell(Arc::new(BallotShown { question, ..self.begun() })))
    }

    fn apply(
        &self,
        cell: &mut Cell,
        rest: &[Token],
        effect: &Effect,
        applying: &mut Applying<'_>,
    ) -> Result<(), String> {
        if let ([voters, who], Some(names)) = (rest, Arc::make_mut(&mut cell.0).voters.as_mut())
            && voters == "voters"
        {
            let comma = usize::from(!names.is_empty());
            let weight = who.len() + 7;
            match &effect.op {
                Op::Set(_) if names.insert(who.to_string(), true).is_none() => {
                    applying.grow(0, weight + comma);
                }
                Op::Set(_) => {}
                Op::Drop if names.remove(who.as_str()).is_some() => {
                    applying.grow(weight + usize::from(!names.is_empty()), 0);
                }
                _ => return Err(stored_op(effect)),
            }
            return Ok(());
        }
        let (Op::Set(value), [name]) = (&effect.op, rest) else { return Err(stored_op(effect)) };
        let told = Arc::make_mut(&mut cell.0);
        match name.as_str() {
            "cast" => replace(&mut told.cast, value, applying),
            "earlier" => replace(&mut told.earlier, value, applying),
            "open" => replace(&mut told.open, value, applying),
            "question" => replace(&mut told.question, value, applying),
            "results" => replace(&mut told.results, value, applying),
            "round" => replace(&mut told.round, value, applying),
            _ => Err("no such part of a ballot".to_owned()),
        }
    }
}

impl Fields {
    /// Adds the map of ballots for each field of ballots; the error is a name that is taken.
    pub(crate) fn add_ballots(&mut self) -> Result<(), String> {
        let ballots = self.iter().filter(|(_, field)| matches!(field, super::Field::Ballot(_)));
        let names: Vec<String> = ballots.map(|(name, _)| ballot_records(name)).collect();
        for name in names {
            if self.field(&name).is_some() {
                return Err(name);
            }
            self.add(name, super::Field::Map(MapField::of_ballots()));
        }
        Ok(())
    }
}

impl Section<'_> {
    /// `scale = { from, to, step, unsure }`.
    fn scale(&mut self) -> Choice {
        let mut inner = self.known_section("scale");
        let scale = inner.as_mut().and_then(|scale| {
            let numbers = [scale.decimal("from"), scale.decimal("to"), scale.decimal("step")];
            let unsure = scale.flag("unsure");
            scale.finish();
            let [Some(from), Some(to), Some(step)] = numbers else { return None };
            Some((from, to, step, unsure))
        });
        let one = || BigDecimal::from(1);
        let Some((from, to, step, unsure)) = scale else {
            if inner.is_none() {
                let expected = "a table such as { from = 0, to = 30, step = 0.5 }";
                self.fault_at("scale", expected, None);
            }
            return Choice::Scale { from: one(), to: one(), step: one(), unsure: false };
        };
        let is_one = from < to && step > BigDecimal::zero();
        if !is_one || (&to - &from) / &step > MOST_STEPS {
            let expected = format!("`from` below `to`, and at most {MOST_STEPS} steps between");
            self.fault_at("scale", &expected, None);
        }
        Choice::Scale { from, to, step, unsure }
    }
}
