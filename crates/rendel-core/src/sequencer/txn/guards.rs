//! Whether changes are allowed: by a line of the charter for the role, by references, and by guards.

use std::collections::BTreeSet;

use super::Txn;
use crate::actor::Actor;
use crate::charter::{Pattern, Permission, Read};
use crate::op::Op;
use crate::path::{Path, inner};
use crate::problem::{Problem, ProblemKind};
use crate::references::check_references;
use crate::scope::{Made, Scope};
use crate::state::State;
use crate::update::{Effect, Effects};

impl Txn<'_> {
    /// Whether a role lets a participant change a path with an operation.
    pub(in super::super) fn permission(
        &self,
        actor: &Actor,
        path: &Path,
        op: Option<&Op>,
    ) -> Permission {
        let charter = &self.session.charter;
        if actor.role == Actor::SERVICE {
            return Permission::Service;
        }
        let Some(role) = charter.roles.get(&actor.role) else { return Permission::Nowhere };
        let (state, fields) = (self.state(), self.fields());
        let made = op.and_then(Op::makes).map(|(id, value)| Made { id, value });
        let scope = Scope {
            state: (fields, state.root()),
            before: None,
            place: path.tokens(),
            record: fields.record_prefix(path),
            made,
            who: self.who(actor),
            now: None,
        };
        // A record that does not exist has no members, which is no fault of the expression.
        let record = &path.tokens()[..scope.record];
        let exists = made.is_some() || record.is_empty() || state.has(fields, record);
        // Both the path of the collection and that of the record stand for a record that is made.
        let made = made.map(|made| inner(path, made.id.unwrap_or("*")));
        role.permission(
            path,
            made.as_ref(),
            |read: &Read| scope.read(read),
            |line, why| {
                if exists {
                    self.unanswered.borrow_mut().push((line, why));
                }
            },
        )
    }

    /// Refuses what breaks references or guards, among the effects from `first` on and the derived
    /// values that differ from `before`. `old` of a guard is the value before the update.
    pub(super) fn check_changes(
        &mut self,
        first: usize,
        before: &State,
        actor: &Actor,
    ) -> Result<(), Problem> {
        let charter = &self.session.charter;
        let changes: Effects =
            self.log.effects[first..].iter().cloned().chain(self.derived_since(before)).collect();
        check_references(self.fields(), self.state().root(), &charter.links, &changes)?;
        let (fields, base) = (self.fields(), &self.session.indexed.state);
        for guard in &charter.guards {
            let places = self.changed_places([base, self.state()], &guard.at, &changes);
            self.count_steps(places.len())?;
            for path in places {
                let state = self.state();
                let scope = Scope {
                    state: (fields, state.root()),
                    before: Some((fields, base.root())),
                    place: path.tokens(),
                    record: fields.record_prefix(&path),
                    made: None,
                    who: self.who(actor),
                    now: None,
                };
                let holds = guard.rule.holds(|read| scope.read(read)).unwrap_or_else(|why| {
                    self.unanswered.borrow_mut().push((guard.line, why));
                    false
                });
                if !holds {
                    return Err(Problem::new(ProblemKind::Guard, guard.says.clone()).at(&path));
                }
            }
        }
        Ok(())
    }

    /// The paths that match a pattern and that effects changed: at or around each change, and inside a
    /// record that came or went.
    pub(super) fn changed_places(
        &self,
        states: [&State; 2],
        pattern: &Pattern,
        effects: &[Effect],
    ) -> BTreeSet<Path> {
        let len = pattern.len();
        let mut places = BTreeSet::new();
        for effect in effects {
            let change = effect.change();
            let Some(path) = change.path() else { continue };
            let tokens = path.tokens();
            if len <= tokens.len() {
                let around = pattern.matches(&tokens[..len]);
                places.extend(around.then(|| Path::of(tokens[..len].iter().cloned())));
                continue;
            }
            // A guard of a field is also asked when the record around the field goes.
            for state in states {
                state.each_at(self.fields(), pattern, tokens, &mut |path| {
                    places.insert(Path::of(path.iter().cloned()));
                });
            }
        }
        places
    }
}
