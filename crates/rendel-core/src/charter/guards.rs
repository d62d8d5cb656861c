//! What a charter says of changes: guards and gates.

use std::time::Duration;

use super::expression::Expression;
use super::pattern::Pattern;
use crate::declaration::Section;
use crate::kind::Fields;

/// A rule that every change must keep.
#[derive(Clone, Debug)]
pub struct Guard {
    /// Which values it is about.
    pub at: Pattern,
    /// What must be true of the value before (`old`) and after (`new`).
    pub rule: Expression,
    /// What a participant is told whose change breaks it.
    pub says: String,
    /// Its line in the charter.
    pub line: usize,
}

/// An outside check that a proposal passes before it is ordered.
#[derive(Clone, Debug)]
pub struct Gate {
    /// Which edits it is about.
    pub at: Pattern,
    /// Whom it asks. `${NAME}` stands for a variable of the service's configuration.
    pub url: String,
    /// How long it waits for the answer.
    pub timeout: Duration,
    /// Whether a proposal is accepted where there is no answer.
    pub accepts_if_away: bool,
    /// Proposals that may wait at one time.
    pub most: usize,
    /// Its line in the charter.
    pub line: usize,
}

const GUARD_NAMES: [&str; 6] = ["old", "new", "record", "id", "who", "state"];

pub(super) fn read_guards(root: &mut Section<'_>, fields: &Fields) -> Vec<Guard> {
    let mut guards = Vec::new();
    for mut section in root.tables("guards") {
        let at = section.declared_pattern("at", fields);
        let rule = section.expression("rule", &GUARD_NAMES);
        let says = section.text("says");
        // One that is no text is a fault already.
        if says.is_none() && !section.has("says") {
            section.fault_at(
                "says",
                "a sentence for the participant whose change breaks the rule",
                None,
            );
        }
        if let (Some(at), Some(rule)) = (&at, &rule) {
            section.check_reads("rule", rule, fields, at);
        }
        section.finish();
        if let (Some(at), Some(rule), Some(says)) = (at, rule, says) {
            guards.push(Guard { at, rule, says, line: section.line() });
        }
    }
    guards
}

pub(super) fn read_gates(root: &mut Section<'_>, fields: &Fields) -> Vec<Gate> {
    let mut gates = Vec::new();
    for mut section in root.tables("gates") {
        let at = section.declared_pattern("at", fields);
        let url = section.text("url");
        let is_address = |url: &String| ["http://", "${"].iter().any(|head| url.starts_with(head));
        if (url.is_none() && !section.has("url"))
            || url.as_ref().is_some_and(|url| !is_address(url))
        {
            section.fault_at(
                "url",
                "an address that begins with http://, such as \
                \"http://127.0.0.1:7461/remarks\", or with a variable, such as \
                \"${GATE_URL}/remarks\"",
                None,
            );
        }
        let timeout = section.duration("timeout", 10..=30_000).unwrap_or(Duration::from_secs(1));
        let accepts_if_away =
            section.choice("if-away", &["refuse", "accept"], "refuse") == "accept";
        let most = section.number("most", 1..=10_000, 256);
        section.finish();
        if let (Some(at), Some(url)) = (at, url) {
            gates.push(Gate { at, url, timeout, accepts_if_away, most, line: section.line() });
        }
    }
    gates
}
