//! Charters: the declared kind of a session.

mod expression;
mod follows;
mod guards;
mod leaks;
mod pattern;
mod people;
mod play;
mod queries;
mod reading;
mod redacted;
mod role;
mod rules;
mod secrecy;
mod sight;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

use toml_edit::Document;

pub use expression::{Expression, NoAnswer, Unanswered};
pub(crate) use expression::{Read, Relation};
pub use guards::{Gate, Guard};
pub use pattern::Pattern;
pub use people::{Cue, CueTo, Fact, HoldRules, PresenceRules};
use play::Play;
pub(crate) use play::{Ballots, Turn};
pub use queries::{Query, Shape};
pub use role::{Grant, Permission, Power, Role, RosterSight};
pub use rules::{BuiltIn, Rules};
pub(crate) use rules::{Cause, Rule};
pub use secrecy::SecretIndex;
pub(crate) use secrecy::{Secret, disclosures};
pub(crate) use sight::nothing_at;
pub use sight::{Extent, Lens, Sight};

use crate::actor::Actor;
use crate::declaration::{Fault, Faults, Section, syntax_fault, table_to_json};
use crate::kind::Link;
use crate::kind::{CHOICE, Declared, Field, Fields, Kind as _, MemoryLimits, OnDrop};
use crate::op::{Act, Op};
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::suggest::nearest;
use crate::surface::Surface;
pub(crate) use follows::Followed;
use guards::{read_gates, read_guards};
use people::read_cues;
use queries::read_queries;
use role::read_roles;
use rules::circles;

/// A checked charter.
#[derive(Clone, Debug)]
pub struct Charter {
    /// Its name, the same for all versions.
    pub name: String,
    /// 1, 2, 3 …; sessions keep the version that they were opened with.
    pub version: u32,
    /// A line for people.
    pub title: String,
    /// How its sessions run.
    pub session: SessionRules,
    /// What bounds its sessions.
    pub limits: Limits,
    /// The coordinate systems that everyone shares.
    pub surfaces: BTreeMap<String, Surface>,
    /// Who may do what, by the name of the role.
    pub roles: BTreeMap<String, Role>,
    /// What participants tell of themselves.
    pub presence: PresenceRules,
    /// How holds work.
    pub holds: HoldRules,
    /// Rules that every change must keep.
    pub guards: Vec<Guard>,
    /// Outside checks.
    pub gates: Vec<Gate>,
    /// What its sessions do by themselves.
    pub rules: Rules,
    /// What can be asked and followed by name.
    pub queries: BTreeMap<String, Arc<Query>>,
    /// Transient messages, by name.
    pub cues: BTreeMap<String, Cue>,
    /// What the backend sees: all but secret ballots.
    service_sees: Sight,
    /// What the state is made of.
    pub fields: Fields,
    /// What is hidden from some, and from whom.
    pub(crate) secrets: Vec<Secret>,
    /// Rules of play.
    pub(crate) play: Play,
    /// Which registers refer to which maps.
    pub(crate) links: Vec<Link>,
    /// From a change of which fields something follows.
    pub(crate) followed: Followed,
    /// How much its sessions remember of what is gone.
    pub(crate) memory: MemoryLimits,
    /// The text that it was read from.
    pub source: String,
}

/// How the sessions of a charter run.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SessionRules {
    /// The most participants at one time.
    pub participants: usize,
    /// Above zero: updates leave together at this beat.
    pub tick: Duration,
    /// A session that nobody uses leaves memory after this time.
    pub idle: Duration,
    /// How long a session that has ended is kept before it is deleted with all its data; `None` keeps
    /// it.
    pub retain: Option<Duration>,
    /// The role of who comes without a token; where it is none, nobody does.
    pub guests: Option<String>,
    /// The names of labels that sessions are opened and found with.
    pub labels: Vec<String>,
    /// How many steps of what a participant did can be taken back.
    pub undo: usize,
    /// Whether all clients of a participant have one history, or each its own.
    pub is_undo_shared: bool,
}

/// What bounds the sessions of a charter.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Bytes of one frame or HTTP body from a participant.
    pub frame: usize,
    /// Bytes of the state as plain JSON.
    pub state: u64,
    /// Edits in one proposal.
    pub edits: usize,
    /// Proposals per second and participant; see [`Limits::burst`].
    pub proposals_per_second: u32,
    /// Updates that the journal keeps; older ones go once a snapshot holds what they did. `None`
    /// keeps all.
    pub journal: Option<u64>,
}

impl Charter {
    /// Reads and checks a charter; what is wrong comes back as a list of faults, in the order of
    /// the text.
    ///
    /// Sources are refused above 256 KiB. Cost O(source) apart from compiling its JSON Schemas.
    pub fn parse(source: &str) -> Result<Self, Vec<Fault>> {
        if source.len() > 256 * 1024 {
            return Err(vec![Fault::whole("the text is too long", "at most 256 KiB")]);
        }
        let document =
            Document::parse(source).map_err(|error| vec![syntax_fault(source, &error)])?;
        let faults = Faults::default();
        let mut root = Section::root(source, document.as_table(), &faults);
        let charter = Self::read(&mut root, source);
        root.finish();
        let mut faults = faults.into_inner();
        faults.sort_by_key(|fault| (fault.line, fault.column));
        match charter {
            Some(charter) if faults.is_empty() => Ok(charter),
            _ => Err(faults),
        }
    }

    fn read(root: &mut Section<'_>, source: &str) -> Option<Self> {
        let name = root.name("charter");
        let version = root
            .integer_needed("version", 1..=i64::from(u32::MAX))
            .and_then(|version| u32::try_from(version).ok());
        let title = root.text("title").or_else(|| name.clone()).unwrap_or_default();
        let declared = Declared { surfaces: Surface::declare_all(root) };
        let limits = root
            .known_section("limits")
            .map_or_else(Limits::default, |mut section| Limits::read(&mut section));
        let mut fields = Fields::declare(root, "state", &declared);
        if let Err(name) = fields.add_ballots() {
            let expected = format!("another name than {name:?}, which holds the ballots beside it");
            root.fault_at("state", &expected, None);
        }
        let mut links = Vec::new();
        fields.links(&mut Vec::new(), None, &mut links);
        let maps: Vec<_> = fields
            .iter()
            .filter(|(_, field)| field.words().name == "map")
            .map(|(name, _)| name)
            .collect();
        root.check_links(&links, &maps);
        let mut play = Play::read(root, &fields);
        let mut secrets = Vec::new();
        let mut roles = read_roles(root, &fields, &mut secrets);
        let service_sees = play.hide_ballots(root, &fields, &mut roles, &mut secrets);
        let names: BTreeSet<String> = roles.keys().cloned().collect();
        let session = root.known_section("session");
        let session = session.map_or_else(SessionRules::default, |mut section| {
            let tops = fields.iter().map(|(name, _)| name).collect();
            play.while_gathering = section.while_gathering(&tops);
            SessionRules::read(&mut section, &names)
        });
        let presence = root.known_section("presence");
        let presence = presence
            .map(|mut section| PresenceRules::read(&mut section, &fields, &declared))
            .unwrap_or_default();
        let tops = fields.iter().map(|(name, _)| name).collect();
        let holds = root
            .known_section("holds")
            .map(|mut section| HoldRules::read(&mut section, &tops))
            .unwrap_or_default();
        let guards = read_guards(root, &fields);
        let gates = read_gates(root, &fields);
        let cues = read_cues(root, &names);
        let rules = Rules::read(root, &fields, &play);
        let queries = read_queries(root, &fields);
        let mut charter = Self {
            name: name?,
            version: version?,
            title,
            session,
            limits,
            surfaces: declared.surfaces,
            roles,
            presence,
            holds,
            guards,
            gates,
            rules,
            queries,
            cues,
            service_sees,
            fields,
            secrets,
            play,
            links,
            followed: Followed::default(),
            memory: MemoryLimits::default(),
            source: source.to_owned(),
        };
        charter.followed = Followed::of(&charter);
        for circle in circles(&charter) {
            let names: Vec<_> = circle.iter().map(|rule| format!("{:?}", rule.name)).collect();
            root.circle(circle[0].line, &names.join(" → "));
        }
        Some(charter)
    }

    /// The same charter, of whose sessions each remembers at most so many records and elements that
    /// are gone, and every place in texts and lists over so many changes: for tests of what is
    /// forgotten.
    #[doc(hidden)]
    #[must_use]
    pub fn remembering(self, gone: usize, changes: usize) -> Self {
        Self { memory: MemoryLimits { gone, changes, ..MemoryLimits::default() }, ..self }
    }

    /// The charter as JSON: the same tables and keys as its text, and the maps of ballots beside
    /// the fields that they belong to.
    pub fn to_json(&self) -> serde_json::Value {
        // The text was read once already when this charter was made.
        let document = Document::parse(self.source.as_str()).ok();
        let mut json =
            document.and_then(|document| table_to_json(document.as_table())).unwrap_or_default();
        if let Some(state) = json.get_mut("state").and_then(serde_json::Value::as_object_mut) {
            for ballots in &self.play.ballots {
                let choice = serde_json::json!({ CHOICE: { "kind": "register" } });
                let records = serde_json::json!({ "kind": "map", "key": "author", "each": choice });
                state.insert(ballots.records.to_string(), records);
            }
        }
        json
    }

    /// The charter as JSON, as a role may know it: without the fields that are hidden from it, and,
    /// for participants, without what the service does on its own.
    pub fn shown_to(&self, role: &str) -> serde_json::Value {
        let mut json = self.to_json();
        let Some(root) = json.as_object_mut().filter(|_| role != Actor::SERVICE) else {
            return json;
        };
        root.shift_remove("gates");
        root.shift_remove("when");
        root.shift_remove("announcements");
        if let Some(queries) = root.get_mut("queries").and_then(serde_json::Value::as_object_mut) {
            let hides = |name: &str| {
                self.queries.get(name).is_none_or(|query| query.hidden_from(self, role).is_some())
            };
            queries.retain(|name, _| !hides(name));
        }
        if !self.sight(role).is_whole() {
            root.shift_remove("guards");
            if let Some(roles) = root.get_mut("roles").and_then(serde_json::Value::as_object_mut) {
                roles.retain(|name, _| name == role);
                roles
                    .values_mut()
                    .filter_map(serde_json::Value::as_object_mut)
                    .for_each(|own| drop(own.shift_remove("see")));
            }
            if let Some(state) = root.get_mut("state") {
                self.sight(role).declaration(&self.fields, state);
            }
        }
        json
    }

    /// How the fields are declared that a role may see, as JSON.
    pub fn fields_shown_to(&self, role: &str) -> serde_json::Value {
        let mut declared = self.to_json().get_mut("state").map(serde_json::Value::take);
        if let Some(declared) = &mut declared {
            self.sight(role).declaration(&self.fields, declared);
        }
        declared.unwrap_or_default()
    }

    /// The queries with the roles that may ask each.
    pub fn askers(&self) -> impl Iterator<Item = (&str, Vec<&str>)> {
        self.queries.iter().map(|(name, query)| {
            let roles = self.role_names().filter(|role| query.hidden_from(self, role).is_none());
            (name.as_str(), roles.collect())
        })
    }

    /// Whether `role` is one that a participant of this charter can have.
    pub fn has_role(&self, role: &str) -> bool {
        role == Actor::SERVICE || self.roles.contains_key(role)
    }

    /// Refuses labels that the charter does not name, or values that are none.
    pub fn check_labels(&self, labels: &BTreeMap<String, String>) -> Result<(), Problem> {
        let names = &self.session.labels;
        for (name, value) in labels {
            if !names.contains(name) {
                let detail = match names[..] {
                    [] => "The charter names no [session] labels.".to_owned(),
                    _ => format!(
                        "The charter has the labels {}; {name:?} is none.",
                        names.join(", ")
                    ),
                };
                let meant = nearest(name, names.iter().map(String::as_str));
                return Err(Problem::new(ProblemKind::OutOfBounds, detail).did_you_mean(meant));
            }
            let chars = value.chars().count();
            let is_apart = |one: char| one == ',' || one.is_control();
            if !(1..=LABEL).contains(&chars) || value.chars().any(is_apart) {
                let detail = format!(
                    "The label {name:?} has 1 to {LABEL} characters, none a comma or a control \
                     character."
                );
                return Err(Problem::new(ProblemKind::OutOfBounds, detail));
            }
        }
        Ok(())
    }

    /// Whether its sessions do something by themselves from when they are opened, whether anybody
    /// comes or not.
    pub fn acts_from_opening(&self) -> bool {
        self.play.deadlines.iter().any(|deadline| {
            let field = self.fields.field(&deadline.field);
            matches!(field, Some(Field::Deadline(of)) if of.is_set() && !of.waits_for_seats())
        })
    }

    /// Whether there are seats.
    pub fn has_seats(&self) -> bool {
        self.play.seats.is_some()
    }

    /// Refuses a seat that the charter does not have.
    pub fn check_seat(&self, seat: &str) -> Result<(), Problem> {
        let field = self.play.seats.as_ref().and_then(|name| self.fields.field(name));
        match field {
            Some(Field::Seats(seats)) => seats.check(seat),
            _ => {
                let detail = format!("The charter has no seats, so none is called {seat:?}.");
                Err(Problem::new(ProblemKind::OutOfBounds, detail))
            }
        }
    }

    /// The names of its roles.
    pub fn role_names(&self) -> impl Iterator<Item = &str> {
        self.roles.keys().map(String::as_str)
    }

    /// The role that `given` might have meant.
    pub fn nearest_role(&self, given: &str) -> Option<String> {
        nearest(given, self.role_names())
    }

    /// What a role is shown. The backend itself sees all but secret ballots, and a role that the
    /// charter does not have sees nothing.
    pub fn sight(&self, role: &str) -> &Sight {
        match self.roles.get(role) {
            Some(role) => &role.see,
            None if role == Actor::SERVICE => &self.service_sees,
            None => &Sight::NOTHING,
        }
    }

    /// The names of the maps that hold what was cast on secret ballots.
    pub fn secret_ballots(&self) -> impl Iterator<Item = &str> {
        let secret = self.play.ballots.iter().filter(|ballots| self.is_secret(&ballots.field));
        secret.map(|ballots| ballots.records.as_str())
    }

    /// Whether an edit casts a secret ballot, so that nobody but the session may see it.
    pub fn casts_in_secret(&self, path: &Path, op: &Op) -> bool {
        matches!((path.tokens(), op), ([name], Op::Act(Act::Cast { .. })) if self.is_secret(name))
    }

    fn is_secret(&self, field: &Token) -> bool {
        matches!(self.fields.field(field), Some(Field::Ballot(ballot)) if ballot.is_secret())
    }

    /// Whether there is anything that only some of a role see.
    pub fn has_secrets(&self) -> bool {
        !self.secrets.is_empty()
    }

    /// Whether there is anything that only some of a role see: by their ids or claims.
    pub fn sees_by_claims(&self, role: &str) -> bool {
        self.has_secrets() && !self.sight(role).secrets().is_empty()
    }

    /// Whether a path leads to a field that keeps rules of play.
    pub(crate) fn is_of_play(&self, path: &Path) -> bool {
        self.top(path).is_some_and(Field::is_of_play)
    }

    /// Whether a path leads to ballots that were cast.
    pub(crate) fn holds_ballots(&self, path: &Path) -> bool {
        matches!(self.top(path), Some(Field::Map(map)) if map.is_of_play())
    }

    fn top(&self, path: &Path) -> Option<&Field> {
        self.fields.field(path.tokens().first()?)
    }

    /// Whether a role has a power. The backend itself has all.
    pub fn has_power(&self, role: &str, power: Power) -> bool {
        role == Actor::SERVICE
            || self.roles.get(role).is_some_and(|role| role.powers.contains(&power))
    }

    /// How much a role sees of who is here; nothing, if the charter has no such role.
    pub fn roster_sight(&self, role: &str) -> RosterSight {
        match role == Actor::SERVICE {
            true => RosterSight::Names,
            false => self.roles.get(role).map_or(RosterSight::Nothing, |role| role.roster),
        }
    }

    /// Whether somebody may look on without being named.
    pub fn has_onlookers(&self) -> bool {
        self.roles.values().any(|role| role.roster != RosterSight::Names)
    }

    /// Whether there is anything that a role may edit, if only under a condition.
    pub fn edits_somewhere(&self, role: &str) -> bool {
        role == Actor::SERVICE || self.roles.get(role).is_some_and(|role| !role.edit.is_empty())
    }

    /// The names of the fields that are filled with the author's id.
    pub fn author_fields(&self) -> BTreeSet<String> {
        fn gather(fields: &Fields, found: &mut BTreeSet<String>) {
            for (name, field) in fields.iter() {
                if field.is_filled() {
                    found.insert(name.to_owned());
                }
                field.each().into_iter().for_each(|each| gather(each, found));
            }
        }
        let mut found = BTreeSet::new();
        gather(&self.fields, &mut found);
        found
    }

    /// What a charter's author may not have meant, though it is no fault: fields that no role can
    /// edit, and outcomes by which a hidden value shows.
    pub fn warnings(&self) -> Vec<String> {
        let mut warnings = Vec::new();
        self.warn(&self.fields, &mut Vec::new(), &mut warnings);
        warnings.extend(leaks::notes(self));
        warnings
    }

    fn warn(&self, fields: &Fields, place: &mut Vec<Token>, warnings: &mut Vec<String>) {
        for (name, field) in fields.iter() {
            place.push(name.into());
            let is_edited = |place: &[Token]| {
                let covers = |grant: &Grant| grant.pattern.matches(place);
                self.roles.values().any(|role| role.edit.iter().any(covers))
                    || self.rules.edit(place)
            };
            // A deadline that is set from the start needs nobody.
            let is_filled = field.is_filled()
                || matches!(field, Field::Deadline(deadline) if deadline.is_set());
            match field.each() {
                _ if is_filled => {}
                Some(each) => {
                    place.push("*".into());
                    if !is_edited(&place[..place.len() - 1]) && !is_edited(place) {
                        self.warn(each, place, warnings);
                    }
                    place.pop();
                }
                None if is_edited(place) => {}
                None => warnings.push(format!(
                    "no role can edit {}; only the backend does",
                    Path::of(place.iter().cloned())
                )),
            }
            place.pop();
        }
    }
}

impl SessionRules {
    fn read(section: &mut Section<'_>, roles: &BTreeSet<String>) -> Self {
        let standard = Self::default();
        let names: Vec<&str> = roles.iter().map(String::as_str).collect();
        let guests = section.has("guests").then(|| section.one_of("guests", &names)).flatten();
        section.one_so_far("durability", "confirmed", &["relaxed", "none"]);
        let participants = section.number("participants", 1..=100_000, standard.participants);
        let tick = section.duration("tick", 0..=10_000).unwrap_or(standard.tick);
        let idle = section.duration("idle", 1_000..=86_400_000).unwrap_or(standard.idle);
        let retain = section.duration("retain", 60_000..=3_650 * 86_400_000);
        let has_labels = section.has("labels");
        let labels = if has_labels { section.names("labels", MOST_LABELS) } else { Vec::new() };
        let undo = section.number("undo", 0..=MOST_UNDO, standard.undo);
        let is_undo_shared =
            section.choice("undo-by", &["participant", "client"], "participant") == "participant";
        section.finish();
        Self { participants, tick, idle, retain, guests, labels, undo, is_undo_shared }
    }
}

impl Default for SessionRules {
    fn default() -> Self {
        Self {
            participants: 200,
            tick: Duration::ZERO,
            idle: Duration::from_secs(600),
            retain: None,
            guests: None,
            labels: Vec::new(),
            undo: 100,
            is_undo_shared: true,
        }
    }
}

/// Steps that a participant may take back.
const MOST_UNDO: i64 = 1_000;
/// Labels of one session.
const MOST_LABELS: usize = 16;
/// Characters of the value of one.
const LABEL: usize = 64;

/// More updates than any session has.
const EVER: i64 = 1_000_000_000_000;

impl Limits {
    fn read(section: &mut Section<'_>) -> Self {
        let standard = Self::default();
        let frame = section
            .bytes("frame", 1 << 10..=16 << 20)
            .and_then(|bytes| usize::try_from(bytes).ok());
        let limits = Self {
            frame: frame.unwrap_or(standard.frame),
            state: section.bytes("state", 1 << 10..=256 << 20).unwrap_or(standard.state),
            edits: section.number("edits", 1..=4096, standard.edits),
            proposals_per_second: section.number(
                "proposals-per-second",
                1..=100_000,
                standard.proposals_per_second,
            ),
            journal: section
                .integer("journal", 1_000..=EVER)
                .and_then(|updates| u64::try_from(updates).ok()),
        };
        section.finish();
        limits
    }
}

/// Seconds for which somebody who was away may make up at once.
const MADE_UP: u32 = 20;

impl Limits {
    /// Proposals that a participant may make at once, after making none for a while: as many as in
    /// 20 seconds, and never fewer than what the largest one counts.
    pub fn burst(&self) -> u32 {
        let (edits, frame) = (self.edits / 16, self.frame / 4_096);
        let largest = u32::try_from(edits.max(frame) + 1).unwrap_or(u32::MAX);
        self.proposals_per_second.saturating_mul(MADE_UP).max(largest)
    }
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            frame: 64 << 10,
            state: 8 << 20,
            edits: 256,
            proposals_per_second: 50,
            journal: None,
        }
    }
}

impl Section<'_> {
    /// Reports references that lead nowhere; `maps` are the fields to which one may lead.
    fn check_links(&self, links: &[Link], maps: &[&str]) {
        for Link { steps, holder, reference } in links {
            let names: Vec<_> =
                steps.iter().map(|step| step.as_deref().unwrap_or("each")).collect();
            let path = format!("state.{}.refers", names.join("."));
            let span = || reference.span.clone();
            if !maps.contains(&reference.to.as_str()) {
                let meant =
                    nearest(&reference.to, maps.iter().copied()).map(|meant| format!("/{meant}"));
                let says = format!("\"/{}\" is no map of [state]", reference.to);
                self.report(span(), path.clone(), &says, "the path of a map", meant);
            }
            if reference.on_drop == OnDrop::Cascade && holder.is_none() {
                self.report(
                    span(),
                    path,
                    "there is no record around it that could go",
                    "refuse or clear",
                    None,
                );
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HEADCOUNT: &str =
        "charter = \"headcount\"\nversion = 1\n\n[state.heads]\nkind = \"counter\"\nmin = 0\n";

    #[test]
    fn the_simplest_charter_is_five_lines_long() {
        let charter = Charter::parse(HEADCOUNT).unwrap();
        assert_eq!(
            (charter.name.as_str(), charter.version, charter.title.as_str()),
            ("headcount", 1, "headcount")
        );
        assert!(charter.has_role("participant") && !charter.has_role("steward"));
    }

    #[test]
    fn a_fault_says_where_it_is_and_what_was_meant() {
        let table = [
            (
                "kind = \"counter\"",
                "kind = \"countre\"",
                (5, 8, "state.heads.kind"),
                Some("counter"),
            ),
            ("min = 0", "mni = 0", (6, 1, "state.heads.mni"), Some("min")),
            ("min = 0", "min = \"0\"", (6, 7, "state.heads.min"), None),
            ("version = 1", "version = 0", (2, 11, "version"), None),
            ("charter = \"headcount\"", "charter = \"Head Count\"", (1, 11, "charter"), None),
            ("[state.heads]", "[sate.heads]", (4, 2, "sate"), Some("state")),
            (
                "min = 0",
                "min = 0\n[queries.all]\nfrom = \"/haeds\"",
                (8, 8, "queries.all.from"),
                None,
            ),
            (
                "min = 0",
                "min = 0\n[roles.picker]\nedit = [\"/haeds\"]",
                (8, 9, "roles.picker.edit[0]"),
                Some("/heads"),
            ),
        ];
        for (old, new, (line, column, path), meant) in table {
            let faults = Charter::parse(&HEADCOUNT.replace(old, new)).unwrap_err();
            let found = faults
                .iter()
                .find(|fault| fault.path == path)
                .unwrap_or_else(|| panic!("{new}: {faults:?}"));
            assert_eq!((found.line, found.column), (line, column), "{new}: {found:?}");
            assert_eq!(found.did_you_mean.as_deref(), meant, "{new}");
        }
    }

    #[test]
    fn all_faults_are_found_in_one_go() {
        let source =
            HEADCOUNT.replace("version = 1", "version = -1").replace("min = 0", "min = 5\nmax = 1");
        assert_eq!(Charter::parse(&source).unwrap_err().len(), 2);
    }

    #[test]
    fn broken_toml_is_a_fault_with_its_place() {
        let faults = Charter::parse("charter = \"headcount\"\nversion = = 1\n").unwrap_err();
        assert_eq!((faults.len(), faults[0].line), (1, 2));
    }

    #[test]
    fn a_charter_nested_without_end_is_refused_and_does_no_harm() {
        let mut source = "charter = \"deep\"\nversion = 1\n".to_owned();
        let mut path = "state.a".to_owned();
        for _ in 0..200 {
            source += &format!("[{path}]\nkind = \"map\"\n");
            path += ".each.a";
        }
        assert!(!Charter::parse(&source).unwrap_err().is_empty());
        assert!(Charter::parse(&format!("charter = {}", "[".repeat(100_000))).is_err());
    }
}
