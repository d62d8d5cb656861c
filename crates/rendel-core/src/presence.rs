//! Presence: short-lived facts about participants, such as where they point and what they have
//! selected.
//!
//! A [`Presence`] is a state machine as the sequencer is one: `handle_*` takes what happens,
//! `poll_*` gives what came of it, and `now` is an argument. It holds the newest of each
//! participant and nothing of the past.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Map, Value, json};
use uuid::Uuid;

use crate::actor::ClientKey;
use crate::charter::{Charter, Sight};
use crate::op::{Op, Splicing};
use crate::path::Path;
use crate::problem::Problem;
use crate::state::State;
use crate::update::{Effect, Settled};

/// What a participant tells of themselves, by the names of the charter's facts.
pub type Facts = Map<String, Value>;

/// A participant and the tab or process in which they tell something: in two tabs they have two
/// pointers.
pub type Teller = (String, Uuid);

/// What everyone in a session tells of themselves.
#[derive(Clone, Debug, Default)]
pub struct Presence {
    tellers: BTreeMap<Teller, BTreeMap<String, Said>>,
    changed: BTreeMap<Teller, BTreeSet<String>>,
    /// Participants of whom nothing is shown.
    hidden: BTreeSet<String>,
}

#[derive(Clone, Debug)]
struct Said {
    value: Value,
    /// The connection that said it: it goes with that.
    by: u64,
    /// When it lapses, in milliseconds since 1970 UTC.
    until: Option<u64>,
}

/// Reads facts as the service keeps them: a caret counts positions in the text as it is now, which
/// its author, having seen `seen`, may have been shown otherwise. `null` takes a fact back.
pub fn placed(
    charter: &Charter,
    state: &State,
    mut said: Facts,
    seen: u64,
    client: ClientKey,
) -> Result<Facts, Problem> {
    charter.presence.check(&said)?;
    let is_caret = |name: &str| charter.presence.is_caret(name);
    for (_, value) in said.iter_mut().filter(|(name, value)| !value.is_null() && is_caret(name)) {
        let at = value.get("at").and_then(Value::as_str).unwrap_or_default();
        let Ok(path) = Path::parse(at) else { continue };
        let index = |end: &str| {
            value.get(end).and_then(Value::as_u64).and_then(|index| usize::try_from(index).ok())
        };
        let present = |index: usize| {
            let anchored = state.anchored(&charter.fields, &path, seen, client, index);
            // Behind the last character there is none to stand at: the caret stands behind the one
            // before.
            let before =
                || state.anchored(&charter.fields, &path, seen, client, index.checked_sub(1)?);
            anchored.map(|anchored| anchored.index).or_else(|| {
                before()
                    .map(|before| before.index + usize::from(before.is_there))
                    .or((index == 0).then_some(0))
            })
        };
        let Some(from) = index("index").and_then(present) else {
            // The text is another now, and the next caret will tell.
            *value = Value::Null;
            continue;
        };
        let to = index("to").and_then(present);
        *value = json!({ "at": at, "index": from });
        if let (Some(to), Some(members)) = (to.filter(|to| *to != from), value.as_object_mut()) {
            members.insert("to".to_owned(), to.into());
        }
    }
    Ok(said)
}

impl Presence {
    /// Takes facts that were [`placed`].
    pub fn handle_said(
        &mut self,
        charter: &Charter,
        teller: &Teller,
        connection: u64,
        said: Facts,
        now: u64,
    ) {
        let told = self.tellers.entry(teller.clone()).or_default();
        let changed = self.changed.entry(teller.clone()).or_default();
        for (name, value) in said {
            changed.insert(name.clone());
            if value.is_null() {
                told.remove(&name);
                continue;
            }
            let linger = charter.presence.facts.get(&name).and_then(|fact| fact.linger);
            let until = linger.map(|linger| {
                now.saturating_add(u64::try_from(linger.as_millis()).unwrap_or(u64::MAX))
            });
            told.insert(name, Said { value, by: connection, until });
        }
        self.tidy(teller);
    }

    /// A settled update was shown: carets move with their texts, and what was selected and is gone
    /// is selected no more.
    pub fn handle_settled(&mut self, charter: &Charter, update: &Settled) {
        for (teller, told) in &mut self.tellers {
            let mut changed = BTreeSet::new();
            told.retain(|name, said| {
                let mut has_lost = false;
                let is_kept = match charter.presence.selects(name) {
                    Some(map) => {
                        keep_selected(map, &mut said.value, &update.effects, &mut has_lost)
                    }
                    None if charter.presence.is_caret(name) => {
                        keep_caret(&mut said.value, &update.effects)
                    }
                    None => true,
                };
                if has_lost || !is_kept {
                    changed.insert(name.clone());
                }
                is_kept
            });
            note(&mut self.changed, teller, changed);
        }
    }

    /// From now on nothing is shown of a participant, or all that they tell is again.
    pub fn hide(&mut self, id: &str, is_hidden: bool) {
        let is_other = match is_hidden {
            true => self.hidden.insert(id.to_owned()),
            false => self.hidden.remove(id),
        };
        let theirs = self.tellers.iter().filter(|(teller, _)| is_other && teller.0 == id);
        for (teller, told) in theirs {
            note(&mut self.changed, teller, told.keys().cloned().collect());
        }
    }

    /// A connection is gone, and with it what it said.
    pub fn handle_gone(&mut self, teller: &Teller, connection: u64) {
        let Some(told) = self.tellers.get_mut(teller) else { return };
        let gone = take(told, |said| said.by == connection);
        note(&mut self.changed, teller, gone);
        self.tidy(teller);
    }

    /// Takes back what has lapsed.
    pub fn handle_timeout(&mut self, now: u64) {
        for (teller, told) in &mut self.tellers {
            let lapsed = take(told, |said| said.until.is_some_and(|until| until <= now));
            note(&mut self.changed, teller, lapsed);
        }
        self.tellers.retain(|_, told| !told.is_empty());
    }

    /// When something lapses next.
    pub fn poll_timeout(&self) -> Option<u64> {
        self.tellers.values().flat_map(BTreeMap::values).filter_map(|said| said.until).min()
    }

    /// Whether something of it moves or goes with the state.
    pub fn follows_state(&self, charter: &Charter) -> bool {
        let names = || self.tellers.values().flat_map(BTreeMap::keys);
        names()
            .any(|name| charter.presence.is_caret(name) || charter.presence.selects(name).is_some())
    }

    /// Whether something changed since the last time.
    pub fn has_changed(&self) -> bool {
        !self.changed.is_empty()
    }

    /// Which facts of whom changed since the last time.
    pub fn poll_changed(&mut self) -> BTreeMap<Teller, BTreeSet<String>> {
        std::mem::take(&mut self.changed)
    }

    /// What one tells, as a role is shown it; `None` where that is nothing.
    pub fn facts(&self, charter: &Charter, sight: &Sight, teller: &Teller) -> Option<Facts> {
        let told = self.tellers.get(teller).filter(|_| !self.hidden.contains(&teller.0))?;
        let is_shown = |name: &str, value: &Value| {
            sight.is_whole() || charter.presence.is_shown(&charter.fields, sight, name, value)
        };
        let facts = told.iter().filter(|(name, said)| is_shown(name, &said.value));
        let facts: Facts = facts.map(|(name, said)| (name.clone(), said.value.clone())).collect();
        (!facts.is_empty()).then_some(facts)
    }

    /// Those who tell something.
    pub fn tellers(&self) -> impl Iterator<Item = &Teller> {
        self.tellers.keys()
    }

    fn tidy(&mut self, teller: &Teller) {
        if self.tellers.get(teller).is_some_and(BTreeMap::is_empty) {
            self.tellers.remove(teller);
        }
    }
}

/// Takes out the facts of which `is_gone` says so; gives their names.
fn take(told: &mut BTreeMap<String, Said>, is_gone: impl Fn(&Said) -> bool) -> BTreeSet<String> {
    let gone: BTreeSet<_> =
        told.iter().filter(|(_, said)| is_gone(said)).map(|(name, _)| name.clone()).collect();
    told.retain(|name, _| !gone.contains(name));
    gone
}

fn note(all: &mut BTreeMap<Teller, BTreeSet<String>>, teller: &Teller, changed: BTreeSet<String>) {
    if !changed.is_empty() {
        all.entry(teller.clone()).or_default().extend(changed);
    }
}

/// Takes ids of dropped records out; gives whether something is selected still.
fn keep_selected(map: &str, value: &mut Value, effects: &[Effect], has_lost: &mut bool) -> bool {
    let Some(ids) = value.as_array_mut() else { return false };
    let before = ids.len();
    for effect in effects {
        if effect.op.is_reset() {
            ids.clear();
        } else if let (true, [of, gone]) = (effect.op.takes_away(), effect.at.tokens())
            && of == map
        {
            ids.retain(|id| id.as_str() != Some(gone));
        }
    }
    *has_lost |= ids.len() < before;
    !ids.is_empty() || before == 0
}

/// Moves the carets among somebody's facts (`{"at", "index", "to"?}`) with their texts, and takes
/// those back whose text is gone: what a replica does, to which the charter's names are not known.
pub fn follow_carets(facts: &mut Facts, effects: &[Effect]) {
    let is_caret = |value: &Value| {
        value.get("at").is_some_and(Value::is_string) && value.get("index").is_some()
    };
    facts.retain(|_, value| !is_caret(value) || keep_caret(value, effects));
}

/// Moves a caret with its text; gives whether the text is still there.
fn keep_caret(value: &mut Value, effects: &[Effect]) -> bool {
    let at = value.get("at").and_then(Value::as_str).and_then(|at| Path::parse(at).ok());
    let Some(at) = at else { return false };
    for effect in effects {
        if effect.op.is_reset() || (effect.op.takes_away() && at.is_within(&effect.at)) {
            return false;
        }
        if let (Op::Splice { splice, .. }, true) = (&effect.op, effect.at == at) {
            for end in ["index", "to"] {
                if let Some(index) = value.get_mut(end) {
                    *index = followed(index.as_u64().unwrap_or(0), splice).into();
                }
            }
        }
    }
    true
}

/// Where the gap before `index` is after a splice; what comes right there comes behind it.
fn followed(index: u64, splice: &Splicing) -> u64 {
    let (at, delete) = (splice.index as u64, splice.delete as u64);
    let insert = splice.insert.chars().count() as u64;
    if index <= at { index } else { at + insert + index.saturating_sub(at + delete) }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::actor::Actor;
    use crate::edit::Edit;
    use crate::sequencer::{Outcome, Sequencer};
    use crate::update::Proposal;

    const CHARTER: &str = r#"
charter = "slope"
version = 1
[surfaces.slope]
unit = "m"
x = [0, 120]
y = [0, 80]
[roles.all]
edit = ["/**"]
[roles.guest]
edit = []
see = ["/**", { but = "/markers" }, { but = "/notes" }]
[presence.fields]
pointer = { surface = "slope" }
selection = { refers = "/markers" }
caret = { anchor = "/notes" }
typing = { type = "boolean", linger = "4s" }
[state.markers]
kind = "map"
[state.markers.each.what]
kind = "register"
[state.notes]
kind = "text"
initial = "the north rows"
"#;

    fn oda() -> Teller {
        ("oda".to_owned(), Uuid::from_u128(1))
    }

    fn slope() -> (Arc<Charter>, Sequencer) {
        let charter = Arc::new(Charter::parse(CHARTER).unwrap());
        (charter.clone(), Sequencer::open(charter, None).unwrap())
    }

    fn facts(value: Value) -> Facts {
        serde_json::from_value(value).unwrap()
    }

    fn settle(sequencer: &mut Sequencer, n: u64, edit: Edit) -> Settled {
        let actor = Actor::new("bram", "all", uuid::Uuid::from_u128(9));
        let proposal = Proposal { answered: n - 1, ..Proposal::new(n, None, vec![edit]) };
        match sequencer.handle_proposal(&actor, &proposal, 0) {
            Outcome::Settled(update) => update,
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn what_is_said_is_shown_until_it_lapses_or_its_connection_goes() {
        let (charter, sequencer) = slope();
        let mut presence = Presence::default();
        let say = |presence: &mut Presence, connection, said, now| {
            let said =
                placed(&charter, &sequencer.state(), facts(said), 0, ClientKey::NOBODY).unwrap();
            presence.handle_said(&charter, &oda(), connection, said, now);
        };
        say(&mut presence, 1, json!({ "pointer": { "x": 3.5, "y": 4 }, "typing": true }), 1_000);
        say(&mut presence, 2, json!({ "selection": ["m1"] }), 1_500);
        let shown =
            |presence: &Presence| presence.facts(&charter, &Sight::WHOLE, &oda()).map(Value::from);
        let pointer = json!({ "x": 3.5, "y": 4 });
        assert_eq!(
            shown(&presence),
            Some(json!({ "pointer": pointer, "selection": ["m1"], "typing": true }))
        );
        assert_eq!((presence.poll_timeout(), presence.poll_changed().len()), (Some(5_000), 1));
        presence.handle_timeout(4_999);
        assert!(!presence.has_changed(), "an early call does no harm");
        presence.handle_timeout(5_000);
        assert_eq!(shown(&presence), Some(json!({ "pointer": pointer, "selection": ["m1"] })));
        presence.handle_gone(&oda(), 1);
        assert_eq!(
            shown(&presence),
            Some(json!({ "selection": ["m1"] })),
            "what the connection said that came in its place is still here"
        );
        say(&mut presence, 2, json!({ "selection": null }), 6_000);
        assert_eq!(
            (shown(&presence), presence.poll_changed().len(), presence.tellers().count()),
            (None, 1, 0)
        );
        // What is said again, lapses later.
        say(&mut presence, 2, json!({ "typing": true }), 7_000);
        say(&mut presence, 2, json!({ "typing": true }), 9_000);
        presence.handle_timeout(11_000);
        assert_eq!(
            (shown(&presence), presence.poll_timeout()),
            (Some(json!({ "typing": true })), Some(13_000))
        );
        // Another tab has facts of its own.
        let other = ("oda".to_owned(), Uuid::from_u128(2));
        presence.handle_said(
            &charter,
            &other,
            3,
            facts(json!({ "pointer": { "x": 1, "y": 1 } })),
            0,
        );
        presence.handle_gone(&other, 3);
        assert_eq!((shown(&presence).is_some(), presence.tellers().count()), (true, 1));
    }

    #[test]
    fn a_caret_moves_with_its_text_and_a_selection_goes_with_its_record() {
        let (charter, mut sequencer) = slope();
        let put = |id: &str| {
            Edit::new("/markers", "put").with("id", id).with("value", json!({ "what": "ladder" }))
        };
        settle(&mut sequencer, 1, put("m1"));
        settle(&mut sequencer, 2, put("m2"));
        let mut presence = Presence::default();
        let said = facts(
            json!({ "caret": { "at": "/notes", "index": 4, "to": 9 }, "selection": ["m1", "m2"] }),
        );
        let said = placed(&charter, &sequencer.state(), said, 2, ClientKey::NOBODY).unwrap();
        presence.handle_said(&charter, &oda(), 1, said, 0);
        presence.poll_changed();
        let mut after = |n, edit| {
            let update = settle(&mut sequencer, n, edit);
            presence.handle_settled(&charter, &update);
            (
                Value::from(presence.facts(&charter, &Sight::WHOLE, &oda()).unwrap_or_default()),
                !presence.poll_changed().is_empty(),
            )
        };
        let caret = |index: u64, to: u64| json!({ "at": "/notes", "index": index, "to": to });
        let splice = |index: u64, delete: u64, insert: &str| {
            Edit::new("/notes", "splice")
                .with("index", index)
                .with("delete", delete)
                .with("insert", insert)
        };
        // Clients move carets themselves, so that is no news.
        assert_eq!(
            after(3, splice(0, 0, "On ")),
            (json!({ "caret": caret(7, 12), "selection": ["m1", "m2"] }), false)
        );
        assert_eq!(
            after(4, splice(9, 3, "")),
            (json!({ "caret": caret(7, 9), "selection": ["m1", "m2"] }), false)
        );
        assert_eq!(
            after(5, Edit::new("/markers/m1", "drop")),
            (json!({ "caret": caret(7, 9), "selection": ["m2"] }), true)
        );
        assert_eq!(
            after(6, Edit::new("/markers/m2", "drop")),
            (json!({ "caret": caret(7, 9) }), true)
        );
        let said = facts(json!({ "caret": caret(7, 9), "selection": ["m3"], "typing": true }));
        presence.handle_said(&charter, &oda(), 1, said, 0);
        presence.poll_changed();
        let steward = Actor::new("bram", "all", uuid::Uuid::from_u128(9));
        let Outcome::Settled(reset) = sequencer.handle_reset(&steward, 0, None, 0) else {
            panic!()
        };
        presence.handle_settled(&charter, &reset);
        let left = presence.facts(&charter, &Sight::WHOLE, &oda());
        assert_eq!(left.map(Value::from), Some(json!({ "typing": true })));
        assert!(presence.has_changed(), "what a reset took is told");
    }

    #[test]
    fn a_caret_is_read_in_the_text_that_its_author_was_shown() {
        let (charter, mut sequencer) = slope();
        settle(
            &mut sequencer,
            1,
            Edit::new("/notes", "splice").with("index", 0).with("insert", "On "),
        );
        for (seen, index, expected) in [(0, 4, 7), (1, 4, 4), (0, 14, 17), (0, 0, 3), (1, 0, 0)] {
            let said = facts(json!({ "caret": { "at": "/notes", "index": index } }));
            let placed =
                placed(&charter, &sequencer.state(), said, seen, ClientKey::NOBODY).unwrap();
            assert_eq!(placed["caret"]["index"], expected, "{index} as seen at {seen}");
        }
        let beyond = facts(json!({ "caret": { "at": "/notes", "index": 99 } }));
        assert!(
            placed(&charter, &sequencer.state(), beyond, 1, ClientKey::NOBODY).unwrap()["caret"]
                .is_null()
        );
    }

    #[test]
    fn facts_that_lead_to_what_a_role_does_not_see_are_not_shown_to_it() {
        let (charter, sequencer) = slope();
        let said = json!({ "pointer": { "x": 1, "y": 1 }, "selection": ["m1"], "caret": { "at": "/notes", "index": 1 } });
        let said = placed(&charter, &sequencer.state(), facts(said), 0, ClientKey::NOBODY).unwrap();
        let mut presence = Presence::default();
        presence.handle_said(&charter, &oda(), 1, said, 0);
        let shown = presence.facts(&charter, charter.sight("guest"), &oda()).unwrap();
        assert_eq!(shown.keys().collect::<Vec<_>>(), ["pointer"]);
    }

    #[test]
    fn what_the_charter_does_not_declare_is_refused() {
        let (charter, _) = slope();
        for (said, kind) in [
            (json!({ "pointr": 1 }), "unknown-path"),
            (json!({ "pointer": { "x": 1 } }), "wrong-type"),
            (json!({ "pointer": { "x": 121, "y": 1 } }), "out-of-bounds"),
            (json!({ "typing": "yes" }), "wrong-type"),
            (json!({ "selection": "m1" }), "wrong-type"),
            (json!({ "caret": { "at": "/title", "index": 1 } }), "wrong-type"),
            (json!({ "caret": { "at": "/notes", "index": -1 } }), "wrong-type"),
            (json!({ "selection": ["x".repeat(2_000)] }), "too-large"),
        ] {
            let problem = charter.presence.check(said.as_object().unwrap()).unwrap_err();
            assert_eq!(problem.kind().name(), kind, "{said}: {problem}");
        }
    }
}
