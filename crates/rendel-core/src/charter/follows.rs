//! What follows from a change: whether anything but the change itself comes of it.

use std::collections::BTreeSet;

use super::rules::Cause;
use super::{Charter, Pattern};
use crate::path::Token;

/// The fields of the state from a change of which something may follow, or from which it may follow
/// whether a change is allowed: by rules, guards, references, totals, secrets or rules of play.
#[derive(Clone, Debug, Default)]
pub(crate) enum Followed {
    /// All of them.
    #[default]
    All,
    /// These.
    Some(BTreeSet<Token>),
}

impl Followed {
    /// Those of a charter. Cost O(what it declares).
    pub(super) fn of(charter: &Charter) -> Self {
        let Charter { play, links, guards, rules, secrets, .. } = charter;
        // Visibility may depend on any field of the state.
        if !secrets.is_empty() {
            return Self::All;
        }
        let causes = rules.rules.iter().filter_map(|rule| match &rule.cause {
            Cause::Changes(pattern) => Some(pattern),
            // They follow from fields that keep rules of play, or from no field.
            Cause::Fires(_)
            | Cause::Enters(_)
            | Cause::Leaves(_)
            | Cause::Seated
            | Cause::AllCast(_) => None,
        });
        let extends = play.deadlines.iter().filter_map(|deadline| deadline.extend.as_ref());
        let patterns = causes
            .chain(guards.iter().map(|guard| &guard.at))
            .chain(play.totals.iter().map(|total| &total.from))
            .chain(play.turns.iter().flat_map(|turn| &turn.governs))
            .chain(extends.map(|extend| &extend.when));
        let tops: Option<BTreeSet<Token>> =
            patterns.map(|pattern: &Pattern| pattern.top().map(Token::from)).collect();
        let Some(mut tops) = tops else { return Self::All };
        for link in links {
            tops.insert(link.reference.to.as_str().into());
            tops.extend(link.steps.first().cloned().flatten());
        }
        tops.extend(play.fields().cloned());
        Self::Some(tops)
    }

    /// Whether something may follow from a change of a field of the state.
    pub(crate) fn has(&self, top: &Token) -> bool {
        match self {
            Self::All => true,
            Self::Some(tops) => tops.contains(top),
        }
    }
}
