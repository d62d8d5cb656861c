//! Roles: who may edit where, who sees what, and who has powers.

use std::collections::{BTreeMap, BTreeSet};

use super::expression::{Expression, Read, Unanswered};
use super::pattern::Pattern;
use super::section::Section;
use super::sight::Sight;
use crate::edit::Actor;
use crate::kind::Fields;
use crate::path::Path;

/// What a role may do.
#[derive(Clone, Debug)]
pub struct Role {
    /// Where it may edit.
    pub edit: Vec<Grant>,
    /// What it is shown.
    pub see: Sight,
    /// What it may do beside editing.
    pub powers: BTreeSet<Power>,
}

/// A part of the state that a role may edit.
#[derive(Clone, Debug)]
pub struct Grant {
    /// Where.
    pub pattern: Pattern,
    /// Under which condition on the record.
    pub condition: Option<Expression>,
    /// The line of the charter that says so.
    pub line: usize,
}

/// What a role may do beside editing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Power {
    /// Freeze the session, and thaw it.
    Freeze,
    /// Give the state its opening data again.
    Reset,
    /// Remove participants.
    Remove,
    /// Take over what somebody else holds.
    TakeOver,
}

/// Whether somebody may edit somewhere, and by which line of the charter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Permission {
    /// The backend itself.
    Service,
    /// By this line.
    Granted(usize),
    /// Some lines speak of the place, and their conditions do not hold.
    Unmet(Vec<usize>),
    /// No line speaks of it.
    Nowhere,
}

/// The names that a condition on a record may use.
pub(super) const CONDITION_NAMES: [&str; 3] = ["record", "who", "state"];

/// The role that everyone has where a charter declares none.
const SOLE_ROLE: &str = "participant";

impl Power {
    /// All of them with their names.
    pub const ALL: [(&'static str, Self); 4] = [
        ("freeze", Self::Freeze),
        ("reset", Self::Reset),
        ("remove", Self::Remove),
        ("take-over", Self::TakeOver),
    ];

    /// Its name in a charter.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(_, power)| *power == self).map_or("", |(name, _)| name)
    }
}

impl Permission {
    /// Whether it is given.
    pub fn is_given(&self) -> bool {
        matches!(self, Self::Service | Self::Granted(_))
    }
}

impl Role {
    fn everything() -> Self {
        let edit = vec![Grant { pattern: Pattern::everything(), condition: None, line: 0 }];
        Self { edit, see: Sight::WHOLE, powers: BTreeSet::new() }
    }

    /// Whether an edit is allowed. `read` gives what a condition reads; a condition without an
    /// answer does not hold and is told to `unanswered`.
    pub(crate) fn permission(
        &self,
        path: &Path,
        made: Option<&Path>,
        read: impl Fn(&Read) -> Option<serde_json::Value>,
        mut unanswered: impl FnMut(usize, Unanswered),
    ) -> Permission {
        let mut unmet = Vec::new();
        for grant in &self.edit {
            let covers = |path: &Path| grant.pattern.matches(path.tokens());
            if !covers(path) && !made.is_some_and(covers) {
                continue;
            }
            let Some(condition) = &grant.condition else { return Permission::Granted(grant.line) };
            match condition.holds(&read) {
                Ok(true) => return Permission::Granted(grant.line),
                Ok(false) => {}
                Err(why) => unanswered(grant.line, why),
            }
            unmet.push(grant.line);
        }
        if unmet.is_empty() { Permission::Nowhere } else { Permission::Unmet(unmet) }
    }
}

pub(super) fn read_roles(root: &mut Section<'_>, fields: &Fields) -> BTreeMap<String, Role> {
    let Some(mut section) = root.section("roles") else {
        return BTreeMap::from([(SOLE_ROLE.to_owned(), Role::everything())]);
    };
    let tops: BTreeSet<&str> = fields.iter().map(|(name, _)| name).collect();
    let mut roles = BTreeMap::new();
    for name in section.keys() {
        if name == Actor::SERVICE {
            section.fault_at(
                &name,
                "another name: `service` is the backend itself, which may do all",
                None,
            );
        }
        let Some(mut inner) = section.section(&name) else { continue };
        let edit = inner.grants("edit", &tops, fields);
        let see = match inner.sights("see", &tops) {
            Some(rules) => Sight::of(&rules, fields),
            None => Sight::WHOLE,
        };
        let names = Power::ALL.map(|(name, _)| name);
        let powers = inner.several("powers", &names, &["unseal", "restart"]);
        let powers = Power::ALL
            .iter()
            .filter(|(name, _)| powers.contains(*name))
            .map(|(_, power)| *power)
            .collect();
        inner.finish();
        roles.insert(name, Role { edit, see, powers });
    }
    section.finish();
    roles
}
