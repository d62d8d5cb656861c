//! What a charter says of people: presence, holds and cues.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

use jsonschema::Validator;
use serde_json::{Map, Value, json};

use super::pattern::Pattern;
use super::sight::{Extent, Sight};
use crate::canonical::weight;
use crate::declaration::{Section, check_schema};
use crate::kind::{Declared, Fields};
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::suggest::nearest;
use crate::surface::Surface;

/// What participants tell of themselves.
#[derive(Clone, Debug)]
pub struct PresenceRules {
    /// Times per second that a participant's presence is told at most.
    pub rate: u32,
    /// A participant whose last connection was lost is away for so long before they have left.
    pub linger: Duration,
    /// The declared facts.
    pub facts: BTreeMap<String, Fact>,
}

/// A declared fact about a participant.
#[derive(Clone, Debug)]
pub struct Fact {
    kind: FactKind,
    /// It lapses so long after it was last said.
    pub linger: Option<Duration>,
}

#[derive(Clone, Debug)]
enum FactKind {
    Pointer(Surface),
    /// Ids of records of this map.
    Selection(String),
    /// A place in one of these texts.
    Caret(Pattern),
    Free(Arc<Validator>),
}

/// Facts that a charter may declare, and bytes of one.
const FACTS: usize = 16;
const FACT_BYTES: usize = 1_024;
/// Records that one participant may have selected.
const SELECTED: usize = 100;

impl Default for PresenceRules {
    fn default() -> Self {
        Self { rate: 30, linger: Duration::from_secs(10), facts: BTreeMap::new() }
    }
}

impl PresenceRules {
    pub(super) fn read(section: &mut Section<'_>, fields: &Fields, declared: &Declared) -> Self {
        let standard = Self::default();
        let rate = section.number("rate", 1..=120, standard.rate);
        let linger = section.duration("linger", 0..=600_000).unwrap_or(standard.linger);
        let mut facts = BTreeMap::new();
        if let Some(mut inner) = section.known_section("fields") {
            for name in inner.keys() {
                let Some(mut fact) = inner.section(&name) else { continue };
                if facts.len() >= FACTS {
                    inner.fault_at(&name, &format!("at most {FACTS} facts"), None);
                    break;
                }
                facts.extend(Fact::read(&mut fact, fields, declared).map(|fact| (name, fact)));
            }
            inner.finish();
        }
        section.finish();
        Self { rate, linger, facts }
    }

    /// Checks what a participant says of themselves; `null` takes a fact back.
    pub fn check(&self, said: &Map<String, Value>) -> Result<(), Problem> {
        for (name, value) in said {
            let Some(fact) = self.facts.get(name) else {
                let known: Vec<&str> = self.facts.keys().map(String::as_str).collect();
                let detail = match known.is_empty() {
                    true => "The charter declares no presence.".to_owned(),
                    false => format!(
                        "There is no fact {name:?} in presence; there are {}.",
                        known.join(", ")
                    ),
                };
                return Err(Problem::new(ProblemKind::UnknownPath, detail)
                    .did_you_mean(nearest(name, known)));
            };
            if !value.is_null() {
                fact.check(name, value)?;
            }
        }
        Ok(())
    }

    /// The texts in which a fact is a place, and the records to which one refers, as a role is
    /// shown them.
    pub fn is_shown(&self, fields: &Fields, sight: &Sight, name: &str, value: &Value) -> bool {
        let sees = |path: &Path| sight.extent(fields, path) != Extent::Nothing;
        match self.facts.get(name).map(|fact| &fact.kind) {
            // Ids say that their records are there.
            Some(FactKind::Selection(map)) => sees(&Path::of([map.as_str(), "*"])),
            Some(FactKind::Caret(_)) => {
                let at =
                    value.get("at").and_then(Value::as_str).and_then(|at| Path::parse(at).ok());
                at.is_some_and(|at| sees(&at))
            }
            Some(_) => true,
            None => false,
        }
    }

    /// The fact's map, if it selects records.
    pub(crate) fn selects(&self, name: &str) -> Option<&str> {
        match &self.facts.get(name)?.kind {
            FactKind::Selection(map) => Some(map),
            _ => None,
        }
    }

    /// Whether a fact is a place in a text.
    pub(crate) fn is_caret(&self, name: &str) -> bool {
        self.facts.get(name).is_some_and(|fact| matches!(fact.kind, FactKind::Caret(_)))
    }
}

impl Fact {
    fn read(section: &mut Section<'_>, fields: &Fields, declared: &Declared) -> Option<Self> {
        let linger = section.duration("linger", 100..=600_000);
        let kind = if section.has("surface") {
            Surface::named(section, "surface", &declared.surfaces).map(FactKind::Pointer)
        } else if section.has("refers") {
            let map = section.pattern("refers").map(|pattern| pattern.to_string()[1..].to_owned());
            let is_map =
                |map: &String| fields.field(map).is_some_and(|field| field.words().name == "map");
            if !map.as_ref().is_some_and(is_map) {
                section.fault_at(
                    "refers",
                    "the path of a map of [state], such as \"/markers\"",
                    None,
                );
            }
            map.map(FactKind::Selection)
        } else if section.has("anchor") {
            let pattern = section.pattern("anchor");
            let is_text = pattern.as_ref().is_some_and(|pattern| {
                fields.declared(pattern).is_some_and(|field| field.words().name == "text")
            });
            if !is_text {
                section.fault_at(
                    "anchor",
                    "the path of a text of [state], such as \"/notes\" or \"/pressings/*/notes\"",
                    None,
                );
            }
            pattern.map(FactKind::Caret)
        } else {
            section.schema_beside("linger").map(FactKind::Free)
        };
        section.finish();
        Some(Self { kind: kind?, linger })
    }

    fn check(&self, name: &str, value: &Value) -> Result<(), Problem> {
        let at = Path::of([name]);
        if weight(value) > FACT_BYTES {
            let detail = format!("A fact of presence has at most {FACT_BYTES} bytes.");
            return Err(Problem::new(ProblemKind::TooLarge, detail)
                .at(&at)
                .with("limit", "presence"));
        }
        let wrong = |detail: &str| {
            Err(Problem::new(ProblemKind::WrongType, format!("{name} {detail}")).at(&at))
        };
        match &self.kind {
            FactKind::Pointer(surface) => surface.check(&at, value),
            FactKind::Free(schema) => check_schema(schema, &at, value),
            FactKind::Selection(_) => match value.as_array() {
                Some(ids) if ids.len() <= SELECTED && ids.iter().all(Value::is_string) => Ok(()),
                _ => wrong(&format!("is an array of at most {SELECTED} ids of records.")),
            },
            FactKind::Caret(pattern) => {
                let path =
                    value.get("at").and_then(Value::as_str).and_then(|at| Path::parse(at).ok());
                let index = |name: &str| value.get(name).is_none_or(Value::is_u64);
                let is_known = path.is_some_and(|path| pattern.matches(path.tokens()));
                match is_known && value.get("index").is_some() && index("index") && index("to") {
                    true => Ok(()),
                    false => wrong(&format!(
                        "is a place in a text: {{\"at\", \"index\", \"to\"?}}, with a path such \
                         as {pattern}."
                    )),
                }
            }
        }
    }
}

/// How holds work.
#[derive(Clone, Debug)]
pub struct HoldRules {
    /// Whether edits of others under a hold are refused as `held`, or the hold is only shown.
    pub is_binding: bool,
    /// Where one may hold; everywhere where it is empty.
    pub at: Vec<Pattern>,
    /// How long a hold lasts that says nothing of it, and at most.
    pub standard: Duration,
    /// See `standard`.
    pub longest: Duration,
    /// Holds of one participant at one time.
    pub most: usize,
}

impl Default for HoldRules {
    fn default() -> Self {
        Self {
            is_binding: false,
            at: Vec::new(),
            standard: Duration::from_secs(30),
            longest: Duration::from_secs(300),
            most: 16,
        }
    }
}

impl HoldRules {
    pub(super) fn read(section: &mut Section<'_>, tops: &BTreeSet<&str>) -> Self {
        let standard = Self::default();
        let rules = Self {
            is_binding: section.choice("kind", &["advisory", "binding"], "advisory") == "binding",
            at: if section.has("at") { section.patterns("at", tops) } else { Vec::new() },
            standard: section.duration("for", 1_000..=3_600_000).unwrap_or(standard.standard),
            longest: section.duration("longest", 1_000..=3_600_000).unwrap_or(standard.longest),
            most: section.number("most", 1..=1_000, standard.most),
        };
        section.finish();
        rules
    }
}

/// A transient message.
#[derive(Clone, Debug)]
pub struct Cue {
    /// Who may send it.
    pub from: BTreeSet<String>,
    /// Who gets it.
    pub to: CueTo,
    /// Times per second that one participant may send it.
    pub rate: u32,
    /// What its data may be; none where it is left out.
    pub data: Option<Arc<Validator>>,
}

/// Who gets a cue.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CueTo {
    /// Everyone, its sender included.
    Everyone,
    /// Everyone but its sender.
    EveryoneElse,
    /// Those of a role.
    Role(String),
    /// The participant whom the sender names.
    Participant,
    /// Whom the sender names: any of these.
    Choice,
}

pub(super) fn read_cues(root: &mut Section<'_>, roles: &BTreeSet<String>) -> BTreeMap<String, Cue> {
    let Some(mut section) = root.known_section("cues") else { return BTreeMap::new() };
    let names: Vec<&str> = roles.iter().map(String::as_str).collect();
    let mut cues = BTreeMap::new();
    for name in section.keys() {
        let Some(mut cue) = section.section(&name) else { continue };
        let from = if cue.has("from") { cue.several("from", &names, &[]) } else { roles.clone() };
        let to = cue.text("to").unwrap_or_else(|| "everyone".to_owned());
        let to = match to.as_str() {
            "everyone" => CueTo::Everyone,
            "everyone-else" => CueTo::EveryoneElse,
            "participant" => CueTo::Participant,
            "choice" => CueTo::Choice,
            other => {
                let role = other.strip_prefix("role:").unwrap_or_default();
                if !roles.contains(role) {
                    let expected = "everyone, everyone-else, role:NAME, participant (whom the \
                        sender names) or choice (any of these, as the sender says)";
                    cue.fault_at(
                        "to",
                        expected,
                        nearest(other, ["everyone", "everyone-else", "participant", "choice"]),
                    );
                }
                CueTo::Role(role.to_owned())
            }
        };
        let rate = cue.number("rate", 1..=100, 5);
        let data = cue.schema("data");
        cue.finish();
        cues.insert(name, Cue { from, to, rate, data });
    }
    section.finish();
    cues
}

impl Cue {
    /// Checks what is sent along.
    pub fn check(&self, name: &str, data: Option<&Value>) -> Result<(), Problem> {
        match (&self.data, data) {
            (_, Some(data)) if weight(data) > FACT_BYTES => {
                let detail = format!("The data of a cue have at most {FACT_BYTES} bytes.");
                Err(Problem::new(ProblemKind::TooLarge, detail).with("limit", "cue"))
            }
            (Some(schema), data) => {
                check_schema(schema, &Path::of([name]), data.unwrap_or(&json!(null)))
            }
            (None, Some(_)) => {
                Err(Problem::new(ProblemKind::WrongType, format!("The cue {name:?} has no data.")))
            }
            (None, None) => Ok(()),
        }
    }
}
