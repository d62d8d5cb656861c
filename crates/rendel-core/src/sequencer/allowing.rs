//! Whether a change is allowed: by a line of the charter for the role, and by every guard.

use std::collections::BTreeSet;

use serde::Serialize;
use serde_json::Value;
use uuid::Uuid;

use super::Sequencer;
use super::settling::Settling;
use crate::actor::Actor;
use crate::charter::{NoAnswer, Permission, Read};
use crate::edit::Edit;
use crate::op::Op;
use crate::path::inner;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::state::State;
use crate::update::{Effect, Proposal};

/// Faults of expressions that are remembered until somebody asks.
const REMEMBERED: usize = 16;

/// Whether an edit would take effect, and by which line of the charter.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Verdicted {
    /// Whether the role allows it.
    pub permission: Permission,
    /// Why it would be refused as the state is now, if it would.
    pub refusal: Option<Problem>,
}

impl Sequencer {
    /// Whether somebody may make an edit as the state is now. Changes nothing. Cost as settling it.
    pub fn may(&self, actor: &Actor, edit: &Edit) -> Result<Verdicted, Problem> {
        let path = Path::parse(&edit.at)?;
        let actor = Actor::new(actor.id.clone(), actor.role.clone(), Uuid::nil())
            .with_claims(actor.claims.clone());
        let permission = self.permission(
            &self.present.state,
            &actor,
            &path,
            edit.read().as_ref(),
            &mut Vec::new(),
        );
        let proposal = Proposal::new(0, None, vec![edit.clone()]);
        let key = actor.key();
        let unanswered = &mut Vec::new();
        let mut settling = Settling::of(&actor, key, &proposal, self.at, unanswered);
        let settled = self.settle(&mut settling, &|_| None);
        Ok(Verdicted { permission, refusal: settled.err().map(Problem::bounded) })
    }

    /// The expressions that had no answer since the last time, each with its line in the charter.
    pub fn poll_unanswered(&mut self) -> Vec<NoAnswer> {
        std::mem::take(&mut self.unanswered)
    }

    pub(super) fn note_unanswered(&mut self, unanswered: Vec<NoAnswer>) {
        let space = REMEMBERED.saturating_sub(self.unanswered.len());
        self.unanswered.extend(unanswered.into_iter().take(space));
    }

    pub(super) fn permission(
        &self,
        state: &State,
        actor: &Actor,
        path: &Path,
        op: Option<&Op>,
        unanswered: &mut Vec<NoAnswer>,
    ) -> Permission {
        if actor.role == Actor::SERVICE {
            return Permission::Service;
        }
        let Some(role) = self.charter.roles.get(&actor.role) else { return Permission::Nowhere };
        let record = &path.tokens()[..self.charter.fields.record_prefix(path)];
        let made = op.and_then(Op::makes);
        let id = || {
            let made = made.map(|(id, _)| id.map(str::to_owned));
            made.unwrap_or_else(|| id_around(path.tokens())).map(Value::from)
        };
        let of_record = |member: Option<&str>| match (member, made) {
            (None, Some((_, value))) => Some(value.clone()),
            (Some(member), Some((_, value))) => value.get(member).cloned(),
            _ if record.is_empty() => None,
            _ => state.member(&self.charter.fields, record, member),
        };
        let read = |read: &Read| match (read.name.as_str(), read.member.as_deref()) {
            ("record", Some("id")) => of_record(Some("id")).or_else(id),
            ("record", member) => of_record(member),
            ("id", _) => id(),
            _ => self.read(state, actor, read),
        };
        // A record that is not there has no members, which is no fault of the expression.
        let is_there =
            made.is_some() || record.is_empty() || state.has(&self.charter.fields, record);
        // A record that is made is meant by its own path as well as by that of the map or list.
        let made = made.map(|(id, _)| inner(path, id.unwrap_or("*")));
        role.permission(path, made.as_ref(), read, |line, why| {
            if is_there {
                unanswered.push((line, why));
            }
        })
    }

    /// What an expression reads of who proposes and of the state.
    pub(super) fn read(&self, state: &State, actor: &Actor, read: &Read) -> Option<Value> {
        match (read.name.as_str(), read.member.as_deref()) {
            ("who", Some("id")) => Some(actor.id.clone().into()),
            ("who", Some("seat")) => Some(state.seat_of(&self.charter, &actor.id).into()),
            ("who", Some("role")) => Some(actor.role.clone().into()),
            ("who", Some("claims")) => serde_json::to_value(&actor.claims).ok(),
            ("who", None) => Some(serde_json::json!({
                "id": actor.id, "role": actor.role, "claims": actor.claims,
                "seat": state.seat_of(&self.charter, &actor.id),
            })),
            ("state", Some(member)) => state.member(&self.charter.fields, &[], Some(member)),
            _ => None,
        }
    }

    /// Refuses what breaks a rule of the charter. Each guard is asked once for each value that it
    /// is about and that changed.
    pub(super) fn check_guards(
        &self,
        after: &State,
        actor: &Actor,
        effects: &[Effect],
        unanswered: &mut Vec<NoAnswer>,
    ) -> Result<(), Problem> {
        for guard in &self.charter.guards {
            for path in self.guarded(&self.present.state, after, &guard.at, effects) {
                let tokens = path.tokens();
                let record = &tokens[..self.charter.fields.record_prefix(&path)];
                let fields = &self.charter.fields;
                let read = |read: &Read| {
                    let of = |state: &State, tokens: &[Token]| match state.has(fields, tokens) {
                        true => state.member(fields, tokens, read.member.as_deref()),
                        false if read.member.is_none() => Some(Value::Null),
                        false => None,
                    };
                    match read.name.as_str() {
                        "old" => of(&self.present.state, tokens),
                        "new" => of(after, tokens),
                        "record" if read.member.as_deref() == Some("id") => {
                            of(after, record).or_else(|| id_around(tokens).map(Value::from))
                        }
                        "record" => of(after, record),
                        "id" => id_around(tokens).map(Value::from),
                        _ => self.read(after, actor, read),
                    }
                };
                let holds = guard.rule.holds(read).unwrap_or_else(|why| {
                    unanswered.push((guard.line, why));
                    false
                });
                if !holds {
                    return Err(Problem::new(ProblemKind::Guard, guard.says.clone()).at(&path));
                }
            }
        }
        Ok(())
    }

    /// The paths that a pattern is about and that effects changed: at or around what changed, and
    /// inside what came anew or went.
    pub(super) fn guarded(
        &self,
        before: &State,
        after: &State,
        pattern: &crate::Pattern,
        effects: &[Effect],
    ) -> BTreeSet<Path> {
        let len = pattern.len();
        let mut guarded = BTreeSet::new();
        for effect in effects {
            let change = effect.change();
            let Some(path) = change.path() else { continue };
            let tokens = path.tokens();
            if len <= tokens.len() {
                guarded.extend(
                    pattern
                        .matches(&tokens[..len])
                        .then(|| Path::of(tokens[..len].iter().cloned())),
                );
            } else {
                // What came anew, and what went: a guard of a field is asked when its record goes,
                // too.
                for state in [before, after] {
                    state.each_at(&self.charter.fields, pattern, tokens, &mut |path| {
                        guarded.insert(Path::of(path.iter().cloned()));
                    });
                }
            }
        }
        guarded
    }
}

/// The id of the innermost record or element at or around a path, in which names and ids take
/// turns.
pub(super) fn id_around(tokens: &[Token]) -> Option<String> {
    tokens[..tokens.len() / 2 * 2].last().map(Token::to_string)
}
