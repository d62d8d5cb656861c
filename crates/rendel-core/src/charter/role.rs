//! Roles: who may edit where, who sees what, and who has powers.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;
use toml_edit::Value;

use super::expression::{Expression, Read, Unanswered};
use super::pattern::Pattern;
use super::secrecy::Secret;
use super::sight::Sight;
use crate::actor::Actor;
use crate::declaration::Section;
use crate::kind::Fields;
use crate::path::Path;
use crate::suggest::nearest;

/// What a role may do.
#[derive(Clone, Debug)]
pub struct Role {
    /// Where it may edit.
    pub edit: Vec<Grant>,
    /// What it is shown.
    pub see: Sight,
    /// The line of the charter that says so; 0 where none does.
    pub see_line: usize,
    /// What it may do beside editing.
    pub powers: BTreeSet<Power>,
    /// How much it sees of who is here.
    pub roster: RosterSight,
}

/// How much a role sees of who is here. Whoever sees no names looks on: they are counted, and
/// nobody is told their names.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum RosterSight {
    /// All names but those of who looks on.
    #[default]
    Names,
    /// How many they are.
    Count,
    /// Nothing.
    Nothing,
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
    /// Put others on a seat, and free seats.
    Seat,
    /// Give the turn to a seat, whoever has it.
    Turn,
    /// Show all of a sealed ballot.
    Unseal,
    /// Begin the next round of a ballot.
    Restart,
    /// Open shuffles, so that anybody can check them.
    OpenDraws,
    /// Take the session, or a part of it, back to how it was.
    Revert,
    /// Ask queries that the charter does not name.
    Ask,
}

/// Whether somebody may edit somewhere, and by which line of the charter.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
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
const CONDITION_NAMES: [&str; 4] = ["record", "id", "who", "state"];

/// The role that everyone has where a charter declares none.
const SOLE_ROLE: &str = "participant";

impl Power {
    /// All of them with their names.
    pub const ALL: [(&'static str, Self); 11] = [
        ("freeze", Self::Freeze),
        ("reset", Self::Reset),
        ("remove", Self::Remove),
        ("take-over", Self::TakeOver),
        ("seat", Self::Seat),
        ("turn", Self::Turn),
        ("open-draws", Self::OpenDraws),
        ("unseal", Self::Unseal),
        ("restart", Self::Restart),
        ("revert", Self::Revert),
        ("ask", Self::Ask),
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
        let (powers, roster) = (BTreeSet::new(), RosterSight::Names);
        Self { edit, see: Sight::WHOLE, see_line: 0, powers, roster }
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

pub(super) fn read_roles(
    root: &mut Section<'_>,
    fields: &Fields,
    secrets: &mut Vec<Secret>,
) -> BTreeMap<String, Role> {
    let Some(mut section) = root.known_section("roles") else {
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
        let see_line = inner.item("see").map_or(0, |item| inner.line_of(item.span()));
        let see = inner.sights("see", &tops, fields, secrets).unwrap_or(Sight::WHOLE);
        let names = Power::ALL.map(|(name, _)| name);
        let powers = inner.several("powers", &names, &[]);
        let powers = Power::ALL
            .iter()
            .filter(|(name, _)| powers.contains(*name))
            .map(|(_, power)| *power)
            .collect();
        let roster =
            inner.has("roster").then(|| inner.one_of("roster", &["names", "count", "none"]));
        let roster = match roster.flatten().as_deref() {
            Some("count") => RosterSight::Count,
            Some("none") => RosterSight::Nothing,
            _ => RosterSight::Names,
        };
        inner.finish();
        roles.insert(name, Role { edit, see, see_line, powers, roster });
    }
    section.finish();
    roles
}

impl Section<'_> {
    /// Where a role may edit: patterns, or tables with a pattern and a condition.
    fn grants(&mut self, key: &'static str, tops: &BTreeSet<&str>, fields: &Fields) -> Vec<Grant> {
        let items = self.pattern_items(key, "an array of path patterns such as \"/markers/**\"");
        let mut grants = Vec::new();
        for (path, item) in items {
            let (text, source) = match item.as_inline_table() {
                None => (item.as_str(), None),
                Some(table) => {
                    if let Some((other, _)) =
                        table.iter().find(|(name, _)| !["at", "if"].contains(name))
                    {
                        let meant = nearest(other, ["at", "if"]);
                        self.report(
                            item.span(),
                            path.clone(),
                            &format!("unknown key {other:?}"),
                            "at and if",
                            meant,
                        );
                    }
                    (table.get("at").and_then(Value::as_str), Some(table.get("if")))
                }
            };
            let Some(pattern) = self.pattern_of(text, item.span(), &path, tops) else { continue };
            let compiled = source.map(|source| match source.and_then(Value::as_str) {
                None => {
                    Err("a condition in CEL as `if`, such as \"record.by == who.id\"".to_owned())
                }
                Some(source) => Expression::compile(source, &CONDITION_NAMES),
            });
            let condition = match compiled.transpose() {
                Ok(condition) => condition,
                Err(expected) => {
                    let source = source.flatten().and_then(Value::as_str).unwrap_or_default();
                    let says = format!("{source:?} does not fit");
                    self.report(item.span(), path, &says, &expected, None);
                    continue;
                }
            };
            if let Some(condition) = &condition {
                self.check_reads_at(item.span().as_ref(), &path, condition, fields, &pattern);
            }
            grants.push(Grant { pattern, condition, line: self.line_of(item.span()) });
        }
        grants
    }
}
