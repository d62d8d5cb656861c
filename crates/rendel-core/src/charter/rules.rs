//! Rules of the session: what it does by itself when something happens.

mod reading;

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;

use super::Charter;
use super::expression::Expression;
use super::pattern::Pattern;
use crate::edit::Edit;
use crate::path::{Path, Token};
use crate::update::Whose;

/// What a session does by itself, and what it hands to other systems.
#[derive(Clone, Debug, Default)]
pub struct Rules {
    /// In the order of the charter, in which they are carried out.
    pub(crate) rules: Vec<Rule>,
    /// The announcements of the service's own that the charter asks for.
    pub(crate) built_in: BTreeSet<BuiltIn>,
}

/// Something that the session does by itself.
#[derive(Clone, Debug)]
pub(crate) struct Rule {
    /// How it is called in the journal and in refusals.
    pub(crate) name: String,
    pub(crate) cause: Cause,
    pub(crate) condition: Option<Expression>,
    pub(crate) edits: Vec<RuleEdit>,
    /// The type of what is announced, with the values that go with it.
    pub(crate) announce: Option<(String, BTreeMap<String, Expression>)>,
    /// Its line in the charter.
    pub(crate) line: usize,
}

/// When a rule is carried out.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Cause {
    /// A deadline fires, or the time of a turn runs out.
    Fires(Token),
    /// A value is another, a record comes, goes or changes.
    Changes(Pattern),
    /// Somebody comes: the participant, or each of their connections.
    Enters(Whose),
    /// Somebody goes, likewise.
    Leaves(Whose),
    /// The needed seats are taken.
    Seated,
    /// Everybody has cast.
    AllCast(Token),
}

/// One edit of a rule.
#[derive(Clone, Debug)]
pub(crate) struct RuleEdit {
    at: Vec<Step>,
    op: String,
    members: Vec<(String, Given)>,
}

#[derive(Clone, Debug)]
enum Step {
    Is(Token),
    /// What an expression gives.
    Given(Expression),
}

/// What a member of an edit is.
#[derive(Clone, Debug)]
enum Given {
    Value(Value),
    Expression(Expression),
    /// A record, each of whose members is one or the other.
    Record(Vec<(String, Self)>),
}

/// What the service itself announces, where a charter asks for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum BuiltIn {
    /// A session was opened.
    Opened,
    /// It has ended.
    Ended,
    /// A participant has come.
    Joined,
    /// A participant has gone.
    Left,
    /// The needed seats are taken.
    Seated,
    /// A ballot shows what was cast.
    Unsealed,
    /// A deadline has fired, or the time of a turn has run out.
    Fired,
    /// A rule could not be carried out.
    Failed,
}

impl BuiltIn {
    /// All of them, with the types that they are announced under.
    pub const ALL: [(Self, &'static str); 8] = [
        (Self::Opened, "session.opened"),
        (Self::Ended, "session.ended"),
        (Self::Joined, "participant.joined"),
        (Self::Left, "participant.left"),
        (Self::Seated, "seats.taken"),
        (Self::Unsealed, "ballot.unsealed"),
        (Self::Fired, "deadline.fired"),
        (Self::Failed, "rule.failed"),
    ];

    /// The type that it is announced under.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(own, _)| *own == self).map_or("", |(_, name)| name)
    }
}

impl Rules {
    /// Whether the charter asks for an announcement of the service's own.
    pub fn announces(&self, what: BuiltIn) -> bool {
        self.built_in.contains(&what)
    }

    /// Whether the charter has a rule or an announcement about arrivals and departures.
    pub fn follow_people(&self, whose: Whose) -> bool {
        let follows = |rule: &Rule| match &rule.cause {
            Cause::Enters(of) | Cause::Leaves(of) => *of == whose,
            Cause::AllCast(_) => whose == Whose::Participant,
            _ => false,
        };
        let announces = self.announces(BuiltIn::Joined) || self.announces(BuiltIn::Left);
        self.rules.iter().any(follows) || (whose == Whose::Participant && announces)
    }

    /// Whether a rule edits what is at a place.
    pub(super) fn edit(&self, place: &[Token]) -> bool {
        let mut edits = self.rules.iter().flat_map(|rule| &rule.edits);
        edits.any(|edit| {
            let own = edit.pattern();
            own.len() <= place.len() && own.iter().zip(place).all(|(own, token)| own == token)
        })
    }

    /// The types that it may announce.
    pub fn announced(&self) -> BTreeSet<&str> {
        let own = self.rules.iter().filter_map(|rule| rule.announce.as_ref());
        own.map(|(name, _)| name.as_str())
            .chain(self.built_in.iter().map(|built_in| built_in.name()))
            .collect()
    }
}

impl Rule {
    /// All its expressions.
    pub(super) fn expressions(&self) -> Vec<&Expression> {
        let mut all: Vec<&Expression> = self.condition.iter().collect();
        for edit in &self.edits {
            all.extend(edit.at.iter().filter_map(|step| match step {
                Step::Given(expression) => Some(expression),
                Step::Is(_) => None,
            }));
            edit.members.iter().for_each(|(_, given)| given.gather(&mut all));
        }
        all
    }

    /// The patterns of what it edits.
    pub(super) fn edited(&self) -> impl Iterator<Item = Vec<Token>> {
        self.edits.iter().map(RuleEdit::pattern)
    }

    fn is_called(&self, name: &str) -> bool {
        let rest = self.name.strip_prefix(name);
        rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(" ("))
    }

    /// Whether what it did could be what another waits for, in the same update.
    fn leads_to(&self, other: &Self, charter: &Charter) -> bool {
        self.edits.iter().any(|edit| edit.touches(&other.cause, charter))
    }
}

impl RuleEdit {
    /// The pattern of the paths that it may change, with `*` for what an expression gives.
    fn pattern(&self) -> Vec<Token> {
        let step = |step: &Step| match step {
            Step::Is(token) => token.clone(),
            Step::Given(_) => "*".into(),
        };
        self.at.iter().map(step).collect()
    }

    /// Whether a cause may be among what it changes, or among what follows from that by itself.
    fn touches(&self, cause: &Cause, charter: &Charter) -> bool {
        let own = self.pattern();
        let Charter { play, links, .. } = charter;
        let is_of_seats = own.first() == play.seats.as_ref();
        let watched = match cause {
            Cause::Changes(pattern) => pattern,
            // No rule casts a ballot. But if somebody stands up, those left may all have cast.
            Cause::Seated | Cause::AllCast(_) => return is_of_seats,
            Cause::Fires(_) | Cause::Enters(_) | Cause::Leaves(_) => return false,
        };
        let concerns = |tokens: &[Token]| {
            watched.concerns(tokens, matches!(self.op.as_str(), "put" | "insert"))
        };
        let mut reached = vec![own.clone()];
        // A record that goes takes references with it.
        if matches!(self.op.as_str(), "drop" | "remove") {
            let of =
                |link: &&crate::kind::Link| own.first() == Some(&link.reference.to.as_str().into());
            reached.extend(links.iter().filter(of).map(|link| {
                link.steps.iter().map(|step| step.clone().unwrap_or_else(|| "*".into())).collect()
            }));
        }
        for total in &play.totals {
            let is_counted = |tokens: &Vec<Token>| total.from.concerns(tokens, true);
            if reached.iter().any(is_counted) {
                reached.push(total.at.tokens().to_vec());
            }
        }
        if is_of_seats {
            reached.extend(play.turns.iter().map(|turn| vec![turn.field.clone()]));
        }
        for deadline in &play.deadlines {
            let pushes = |extend: &super::play::Extend| {
                reached.iter().any(|tokens| extend.when.concerns(tokens, true))
            };
            if deadline.extend.as_ref().is_some_and(pushes) {
                reached.push(vec![deadline.field.clone()]);
            }
        }
        // The ballots that are restarted go.
        for ballots in play.ballots.iter().filter(|ballots| own.first() == Some(&ballots.field)) {
            reached.push(vec![ballots.records.clone()]);
        }
        reached.iter().any(|tokens| concerns(tokens))
    }

    /// The edit with the values that its expressions come to.
    pub(crate) fn made<E>(
        &self,
        value: &mut dyn FnMut(&Expression) -> Result<Value, E>,
        wrong: impl Fn(String) -> E,
    ) -> Result<Edit, E> {
        let mut tokens = Vec::with_capacity(self.at.len());
        for step in &self.at {
            tokens.push(match step {
                Step::Is(token) => token.clone(),
                Step::Given(expression) => match value(expression)? {
                    Value::String(id) if !id.is_empty() => id.as_str().into(),
                    other => {
                        let source = expression.source();
                        return Err(wrong(format!("{{{source}}} gives {other}, and no id")));
                    }
                },
            });
        }
        let mut edit = Edit::new(Path::of(tokens).to_string(), &self.op);
        for (name, given) in &self.members {
            edit.args.insert(name.clone(), given.value(value)?);
        }
        Ok(edit)
    }
}

impl Given {
    fn gather<'g>(&'g self, all: &mut Vec<&'g Expression>) {
        match self {
            Self::Value(_) => {}
            Self::Expression(expression) => all.push(expression),
            Self::Record(members) => members.iter().for_each(|(_, given)| given.gather(all)),
        }
    }

    fn value<E>(&self, value: &mut dyn FnMut(&Expression) -> Result<Value, E>) -> Result<Value, E> {
        match self {
            Self::Value(constant) => Ok(constant.clone()),
            Self::Expression(expression) => value(expression),
            Self::Record(members) => {
                let member =
                    |(name, given): &(String, Self)| Ok((name.clone(), given.value(value)?));
                members.iter().map(member).collect::<Result<_, E>>().map(Value::Object)
            }
        }
    }
}

/// Circles among rules: each as the names of the rules on it, the first again at its end.
pub(super) fn circles(charter: &Charter) -> Vec<Vec<&Rule>> {
    let rules = &charter.rules.rules;
    let leads: Vec<Vec<usize>> = rules
        .iter()
        .map(|rule| (0..rules.len()).filter(|at| rule.leads_to(&rules[*at], charter)).collect())
        .collect();
    let mut circles: Vec<Vec<&Rule>> = Vec::new();
    let mut found = BTreeSet::new();
    for start in 0..rules.len() {
        // The shortest way back to where it began, by breadth.
        let mut from = vec![None; rules.len()];
        let mut queue = std::collections::VecDeque::from([start]);
        while let Some(at) = queue.pop_front() {
            if leads[at].contains(&start) {
                let mut circle = vec![start, at];
                while let Some(before) = from[circle[circle.len() - 1]] {
                    circle.push(before);
                }
                if at == start {
                    circle = vec![start, start];
                }
                circle.reverse();
                let members: BTreeSet<usize> = circle.iter().copied().collect();
                if found.insert(members) {
                    circles.push(circle.into_iter().map(|at| &rules[at]).collect());
                }
                break;
            }
            for next in &leads[at] {
                if from[*next].is_none() && *next != start {
                    from[*next] = Some(at);
                    queue.push_back(*next);
                }
            }
        }
    }
    circles
}

impl std::fmt::Display for Cause {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Fires(field) => write!(f, "fires /{field}"),
            Self::Changes(pattern) => write!(f, "changes {pattern}"),
            Self::Enters(Whose::Participant) => f.write_str("enters first"),
            Self::Enters(Whose::Connection) => f.write_str("enters each"),
            Self::Leaves(Whose::Participant) => f.write_str("leaves last"),
            Self::Leaves(Whose::Connection) => f.write_str("leaves each"),
            Self::Seated => f.write_str("seated"),
            Self::AllCast(field) => write!(f, "all-cast /{field}"),
        }
    }
}
