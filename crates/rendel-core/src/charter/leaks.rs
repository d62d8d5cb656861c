//! By what else a hidden value shows: notes for whoever writes a charter.

use std::collections::BTreeSet;

use super::{Cause, Charter, Extent, Read};
use crate::path::{Path, Token};

/// What outcomes depend on values that a role does not see, or not all of it, though it may bring
/// them about.
pub(super) fn notes(charter: &Charter) -> Vec<String> {
    let mut notes = Vec::new();
    for (name, role) in &charter.roles {
        if role.see.is_whole() || role.edit.is_empty() {
            continue;
        }
        let hides = |path: &Path| role.see.extent(&charter.fields, path) == Extent::Nothing;
        let edits =
            |tokens: &[Token]| role.edit.iter().any(|grant| grant.pattern.concerns(tokens, false));
        for guard in &charter.guards {
            let tokens = declared(&guard.at.tokens().unwrap_or_default());
            if !edits(&tokens) {
                continue;
            }
            let read: BTreeSet<String> = guard
                .rule
                .reads()
                .filter_map(|read| place(read, &tokens))
                .filter(&hides)
                .map(|path| path.to_string())
                .collect();
            for path in read {
                notes.push(format!(
                    "line {}: whether this guard lets an edit of {name:?} pass tells of {path}, \
                     which that role does not always see",
                    guard.line
                ));
            }
        }
        for total in &charter.play.totals {
            let from = declared(&total.from.tokens().unwrap_or_default());
            let condition = total.condition.iter().flat_map(|(condition, _)| condition.reads());
            let read = condition.filter_map(|read| place(read, &from));
            let fields = total.of.iter().chain(&total.by);
            let fields = fields.map(|field| Path::of(from.iter().cloned().chain([field.into()])));
            let hidden: BTreeSet<String> = read
                .chain(fields)
                .chain([Path::of(from.iter().cloned())])
                .filter(&hides)
                .map(|path| path.to_string())
                .collect();
            for path in hidden.into_iter().filter(|_| !hides(&total.at)) {
                notes.push(format!(
                    "the total {} tells {name:?} of {path}, which that role does not always see",
                    total.at
                ));
            }
        }
        for rule in &charter.rules.rules {
            let at = match &rule.cause {
                Cause::Changes(pattern) => declared(&pattern.tokens().unwrap_or_default()),
                _ => Vec::new(),
            };
            let reads = rule.expressions().into_iter().flat_map(|expression| expression.reads());
            let watched = matches!(rule.cause, Cause::Changes(_)).then(|| Path::of(at.clone()));
            let hidden: BTreeSet<String> = reads
                .filter_map(|read| place(read, &at))
                .chain(watched)
                .filter(&hides)
                .map(|path| path.to_string())
                .collect();
            let shows = rule.edited().any(|tokens| !hides(&Path::of(tokens)));
            for path in hidden.into_iter().filter(|_| shows) {
                notes.push(format!(
                    "line {}: what the rule {:?} does tells {name:?} of {path}, which that role \
                     does not always see",
                    rule.line, rule.name
                ));
            }
        }
        for link in &charter.links {
            let (from, to) = (declared(&link.steps), [link.reference.to.as_str(), "*"]);
            let to = Path::of(to);
            if edits(&from) && hides(&to) {
                let from = Path::of(from);
                notes.push(format!(
                    "whether {from} may refer to a record tells {name:?} that it is in {to}, which \
                     that role does not always see"
                ));
            }
        }
        if charter.holds.is_binding {
            let held = charter.fields.iter().map(|(name, _)| [name, "*"]).filter(|held| {
                let path = Path::of(*held);
                let at = &charter.holds.at;
                let may_be_held =
                    at.is_empty() || at.iter().any(|at| at.concerns(path.tokens(), false));
                may_be_held && hides(&path) && edits(path.tokens())
            });
            for [field, _] in held {
                notes.push(format!(
                    "whether an edit of {name:?} in /{field} is refused as held tells that somebody \
                     is at work there, where that role does not always see"
                ));
            }
        }
    }
    notes
}

fn declared(steps: &[Option<Token>]) -> Vec<Token> {
    steps.iter().map(|step| step.clone().unwrap_or_else(|| "*".into())).collect()
}

/// The declared field that a guard reads.
fn place(read: &Read, at: &[Token]) -> Option<Path> {
    let member = read.member.as_deref();
    let record = &at[..at.len() / 2 * 2];
    let inside = |around: &[Token]| Path::of(around.iter().cloned().chain(member.map(Token::from)));
    match read.name.as_str() {
        "state" => Some(Path::of([member?])),
        "record" if !record.is_empty() => Some(inside(record)),
        "old" | "new" if at.len() == record.len() => Some(inside(record)),
        "old" | "new" => Some(Path::of(at.iter().cloned())),
        _ => None,
    }
}
