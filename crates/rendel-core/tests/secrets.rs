//! Values that only some see: whatever is edited, each follows what they may see and nothing else,
//! and what they are told has no word of the rest.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use proptest::prelude::*;
use rendel_core::{
    Actor, Charter, Edit, Lens, Outcome, Proposal, SecretIndex, Sequencer, Settled, State, Viewer,
};
use serde_json::{Value, json};
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "windfall"
version = 1
[roles.player]
edit = ["/**"]
see = ["/**",
  { but = "/cards/*/face", unless = "record.open == true || record.holder == who.id" },
  { but = "/drafts/*", unless = "record.by == who.id || who.id in record.editors || record.team == who.claims.team" },
  { but = "/votes/*/choice", unless = "state.revealed == true || id == who.id" },
  { but = "/steps/*/hint", unless = "who.id in record.told" },
  { but = "/end", unless = "state.revealed == true" },
]
[roles.onlooker]
edit = []
see = ["/**",
  { but = "/cards/*/face", unless = "record.open == true" },
  { but = "/drafts" }, { but = "/votes/*/choice" }, { but = "/steps/*/hint" }, { but = "/end" },
]
[state.revealed]
kind = "register"
[state.end]
kind = "text"
[state.cards]
kind = "map"
[state.cards.each.face]
kind = "register"
[state.cards.each.holder]
kind = "register"
[state.cards.each.open]
kind = "register"
[state.drafts]
kind = "map"
drop-conflict = "revive"
[state.drafts.each.by]
kind = "register"
filled = "author"
[state.drafts.each.team]
kind = "register"
[state.drafts.each.editors]
kind = "set"
[state.drafts.each.text]
kind = "text"
[state.votes]
kind = "map"
[state.votes.each.choice]
kind = "register"
[state.steps]
kind = "list"
[state.steps.each.told]
kind = "set"
[state.steps.each.hint]
kind = "text"
"#;

/// Somebody who looks, and how.
struct Seat {
    role: &'static str,
    viewer: Option<Viewer>,
    id: &'static str,
    team: &'static str,
}

fn seats() -> Vec<Seat> {
    let seat = |role, id: &'static str, team: &'static str| {
        let claims = BTreeMap::from([("team".to_owned(), json!(team))]);
        let viewer = (!id.is_empty()).then(|| Viewer::new(id, &claims));
        Seat { role, viewer, id, team }
    };
    vec![
        seat("player", "", ""),
        seat("player", "oda", "east"),
        seat("player", "bram", "west"),
        seat("player", "wil", "east"),
        seat("onlooker", "", ""),
        seat("onlooker", "oda", "east"),
    ]
}

/// What somebody may see, by the letter of the charter.
fn expected(plain: &Value, seat: &Seat) -> Value {
    let mut seen = plain.clone();
    let is_player = seat.role == "player";
    let me = |value: &Value| !seat.id.is_empty() && value == seat.id;
    let has_me = |value: &Value| value.as_array().is_some_and(|all| all.iter().any(me));
    let is_revealed = plain["revealed"] == true;
    let map = |seen: &mut Value, name: &str, keep: &dyn Fn(&str, &mut Value) -> bool| {
        let records = seen[name].as_object_mut().unwrap();
        records.retain(|id, record| keep(id, record));
    };
    map(&mut seen, "cards", &|_, card| {
        if card["open"] != true && !(is_player && me(&card["holder"])) {
            card.as_object_mut().unwrap().shift_remove("face");
        }
        true
    });
    map(&mut seen, "drafts", &|_, draft| {
        let team = !seat.team.is_empty() && draft["team"] == seat.team;
        is_player && (me(&draft["by"]) || has_me(&draft["editors"]) || team)
    });
    map(&mut seen, "votes", &|id, vote| {
        if !(is_player && (is_revealed || id == seat.id)) {
            vote.as_object_mut().unwrap().shift_remove("choice");
        }
        true
    });
    for step in seen["steps"].as_array_mut().unwrap() {
        if !(is_player && has_me(&step["value"]["told"])) {
            step["value"].as_object_mut().unwrap().shift_remove("hint");
        }
    }
    let members = seen.as_object_mut().unwrap();
    if !(is_player && is_revealed) {
        members.shift_remove("end");
    }
    if !is_player {
        members.shift_remove("drafts");
    }
    seen
}

#[derive(Clone, Debug)]
struct Act {
    who: usize,
    edits: Vec<(u8, u8, u8)>,
    resets: bool,
}

prop_compose! {
    fn act()(
        who in 0usize..3,
        edits in prop::collection::vec((0u8..22, 0u8..3, 0u8..4), 1..4),
        resets in prop::bool::weighted(0.04),
    ) -> Act { Act { who, edits, resets } }
}

const PEOPLE: [&str; 3] = ["oda", "bram", "wil"];

/// An edit; what it hides has a word of its own.
fn edit(kind: u8, of: u8, with: u8, word: &str) -> Edit {
    let who = [Some("oda"), Some("bram"), Some("wil"), None][usize::from(with)];
    let is = with.is_multiple_of(2);
    let (card, draft, step) =
        (format!("/cards/c{of}"), format!("/drafts/d{of}"), format!("/steps/s{of}"));
    let vote = PEOPLE[usize::from(of)];
    let splice = |at: String| {
        Edit::new(at, "splice").with("index", 0).with("delete", 0).with("insert", word)
    };
    match kind {
        0 | 1 => {
            let value = json!({ "face": word, "holder": who, "open": kind == 1 && is });
            Edit::new("/cards", "put").with("id", format!("c{of}")).with("value", value)
        }
        2 => Edit::new(card, "drop"),
        3 | 4 => Edit::new(format!("{card}/holder"), "set").with("value", who),
        5 => Edit::new(format!("{card}/open"), "set").with("value", is),
        6 => Edit::new(format!("{card}/face"), "set").with("value", word),
        7 | 8 => {
            let team = [None, Some("east"), None, Some("west")][usize::from(with)];
            let editors: Vec<_> = who.iter().collect();
            let value = json!({ "text": word, "team": team, "editors": editors });
            Edit::new("/drafts", "put").with("id", format!("d{of}")).with("value", value)
        }
        9 => Edit::new(draft, "drop"),
        10 => Edit::new(format!("{draft}/editors"), if is { "include" } else { "exclude" })
            .with("value", who.unwrap_or("oda")),
        11 => Edit::new(format!("{draft}/team"), "set")
            .with("value", if is { "east" } else { "west" }),
        12 | 13 => splice(format!("{draft}/text")),
        14 => Edit::new("/votes", "put").with("id", vote).with("value", json!({ "choice": word })),
        15 => Edit::new(format!("/votes/{vote}/choice"), "set").with("value", word),
        16 => Edit::new("/revealed", "set").with("value", is),
        17 => {
            let value = json!({ "hint": word, "told": who.iter().collect::<Vec<_>>() });
            Edit::new("/steps", "insert")
                .with("id", format!("s{of}{with}"))
                .with("value", value)
                .with("after", Value::Null)
        }
        18 => Edit::new(format!("{step}{with}/told"), if is { "include" } else { "exclude" })
            .with("value", PEOPLE[usize::from(with) % 3]),
        19 => splice(format!("{step}{with}/hint")),
        20 => Edit::new(format!("{step}{with}"), "move").with("after", Value::Null),
        _ => splice("/end".to_owned()),
    }
}

fn words(text: &str) -> BTreeSet<String> {
    let parts = text.split(|letter: char| !letter.is_alphanumeric() && letter != '-');
    parts
        .flat_map(|part| part.split("h-").skip(1))
        .map(|word| word.chars().take(4).collect())
        .collect()
}

/// What is told of an update: as JSON and as a JSON Patch.
fn told(charter: &Charter, seat: &Seat, update: &Settled, state: &mut State) -> (String, Value) {
    let sight = charter.sight(seat.role);
    let shown = sight.update(&charter.fields, update);
    let beside = seat.viewer.as_ref().and_then(|who| sight.beside(&charter.fields, update, who));
    let viewers: Vec<&Viewer> = seat.viewer.iter().collect();
    let (all, mut theirs) = state.patches(&charter.fields, update, sight, &viewers).unwrap();
    let patch = theirs.pop().unwrap_or(all);
    let told = format!("{}{}", json!(shown), json!(beside));
    (told, serde_json::to_value(patch).unwrap())
}

proptest! {
    #[test]
    fn each_follows_what_they_may_see_and_is_told_nothing_else(acts in prop::collection::vec(act(), 1..24)) {
        let charter = Arc::new(Charter::parse(CHARTER).unwrap());
        let mut sequencer = Sequencer::open(charter.clone(), None).unwrap();
        let mut journal = Vec::new();
        let mut followed = SecretIndex::of(&charter, &sequencer.state());
        let mut docs: Vec<_> = seats().into_iter().map(|seat| {
            let state = sequencer.state();
            let plain = Lens::new(&charter, charter.sight(seat.role), seat.viewer.as_ref(), &state).plain();
            (seat, state, plain)
        }).collect();
        for (n, act) in acts.into_iter().enumerate() {
            let word = format!("h-{n:04}");
            let actor = Actor::new(PEOPLE[act.who], "player", Uuid::from_u128(act.who as u128));
            let edits = act.edits.iter().map(|(kind, of, with)| edit(*kind, *of, *with, &word)).collect();
            let outcome = if act.resets {
                let opening = json!({ "cards": { "c0": { "face": word, "holder": "bram" } }, "drafts": { "d1": { "text": word, "by": "oda" } }, "end": word });
                sequencer.handle_reset(&actor, 0, Some(&opening), 5)
            } else {
                sequencer.handle_proposal(&actor, &Proposal::new(0, None, edits), 5)
            };
            let Outcome::Settled(update) = outcome else { continue };
            // As it is read from the journal.
            let update: Settled = serde_json::from_str(&serde_json::to_string(&update).unwrap()).unwrap();
            followed.handle_settled(&update.disclosures);
            let plain = sequencer.plain();
            for (seat, state, doc) in &mut docs {
                let before = doc.clone();
                let (said, patch) = told(&charter, seat, &update, state);
                let ops: json_patch::Patch = serde_json::from_value(patch.clone()).unwrap();
                json_patch::patch(doc, &ops).unwrap();
                let expected = expected(&plain, seat);
                prop_assert_eq!(&*doc, &expected, "{} {} after {:?}", seat.role, seat.id, update);
                let known = words(&format!("{before}{expected}"));
                for said in [said, patch.to_string()] {
                    prop_assert!(words(&said).is_subset(&known), "{} {} was told {}", seat.role, seat.id, said);
                }
                let now = sequencer.state();
                let lens = Lens::new(&charter, charter.sight(seat.role), seat.viewer.as_ref(), &now);
                prop_assert_eq!(lens.plain(), expected.clone());
                // What all are shown and what is theirs beside it make up the whole.
                let all = Lens::new(&charter, charter.sight(seat.role), None, &now);
                let mut joined = all.plain();
                let index = SecretIndex::of(&charter, &now);
                for (path, value) in lens.beside(&followed) {
                    put(&mut joined, &path, value);
                }
                prop_assert_eq!(lens.beside(&followed), lens.beside(&index));
                prop_assert!(rendel_core::is_same(&joined, &expected));
            }
            journal.push(update);
        }
        // The journal is the same whoever reads it later.
        let mut back = Sequencer::open(charter.clone(), None).unwrap();
        for update in &journal {
            back.replay(update).unwrap();
        }
        prop_assert_eq!(back.plain(), sequencer.plain());
    }
}

fn put(plain: &mut Value, path: &str, value: Value) {
    let mut at = plain;
    let tokens: Vec<&str> = path.split('/').skip(1).collect();
    for token in &tokens[..tokens.len() - 1] {
        at = match at {
            Value::Array(elements) => {
                let element = elements.iter_mut().find(|element| element["id"] == *token);
                &mut element.unwrap()["value"]
            }
            other => &mut other[*token],
        };
    }
    at[tokens[tokens.len() - 1]] = value;
}

#[test]
fn a_value_that_was_hidden_in_the_middle_of_an_update_is_told_only_as_it_ends() {
    let charter = Arc::new(Charter::parse(CHARTER).unwrap());
    let opening = json!({ "cards": { "c0": { "face": "first", "holder": "oda" } } });
    let mut sequencer = Sequencer::open(charter.clone(), Some(&opening)).unwrap();
    let set = |at: &str, value: &str| Edit::new(at, "set").with("value", value);
    // While bram holds the card, its face is none of oda's business.
    let cases = [
        [set("/cards/c0/holder", "bram"), set("/cards/c0/holder", "oda")],
        [set("/cards/c0/holder", "wil"), set("/cards/c0/holder", "oda")],
        [set("/cards/c0/open", "x"), set("/cards/c0/holder", "oda")],
    ];
    for (case, [away, back]) in cases.into_iter().enumerate() {
        let mut state = sequencer.state();
        let last = format!("last{case}");
        let faces = [set("/cards/c0/face", "middle"), set("/cards/c0/face", &last)];
        let edits = [away].into_iter().chain(faces).chain([back]).collect();
        let actor = Actor::new("bram", "player", Uuid::from_u128(2));
        let outcome = sequencer.handle_proposal(&actor, &Proposal::new(0, None, edits), 5);
        let Outcome::Settled(update) = outcome else { panic!("{outcome:?}") };
        let oda = &seats()[1];
        let (said, patch) = told(&charter, oda, &update, &mut state);
        let is_hidden = case < 2;
        for said in [said, patch.to_string()] {
            assert!(said.contains(&last), "{said}");
            assert_eq!(said.contains("middle"), !is_hidden, "{said}");
        }
    }
}

#[test]
fn a_condition_is_checked_when_the_charter_is() {
    let faults = |see: &str| {
        let text = CHARTER.replace(
            "see = [\"/**\",\n  { but = \"/cards/*/face\", unless = \"record.open == true\" },",
            &format!("see = [\"/**\", {see},"),
        );
        Charter::parse(&text).map(drop).map_err(|faults| {
            faults
                .iter()
                .map(|fault| format!("{}: {}; expected {}", fault.path, fault.says, fault.expected))
                .collect::<Vec<_>>()
                .join("\n")
        })
    };
    let key = "for each part that speaks of who: a register of the record that equals \
        who.id, who.seat or who.claims.NAME, or who.id in a set or list of the record; parts are \
        joined by ||";
    let table = [
        (
            r#"{ but = "/cards/*/face", unless = "record.holder == who.id && record.open == true" }"#,
            key,
        ),
        (r#"{ but = "/cards/*/face", unless = "record.holder != who.id" }"#, key),
        (r#"{ but = "/cards/*/face", unless = "who.role == 'player'" }"#, key),
        (
            r#"{ but = "/cards/*/face", unless = "record.holdr == who.id" }"#,
            "record.holdr to be a register of the record",
        ),
        (
            r#"{ but = "/cards/*/face", unless = "who.id in record.holder" }"#,
            "record.holder to be a set or list of the record",
        ),
        (
            r#"{ but = "/cards/*/face", unless = "record.opn == true" }"#,
            "one of face, holder, open",
        ),
        (
            r#"{ but = "/cards/**", unless = "record.open == true" }"#,
            "a declared field, or the records of a map",
        ),
        (
            r#"{ but = "/steps/*", unless = "record.hint == 'x'" }"#,
            "a declared field, or the records of a map",
        ),
        (
            r#"{ but = "/cards/*", unless = "record.open == true" }, { but = "/cards/*/face", unless = "record.holder == who.id" }"#,
            "one condition on the way to a value",
        ),
        (r#"{ but = "/cards/*/face", unles = "record.open == true" }"#, "but and unless"),
    ];
    for (see, expected) in table {
        let said = faults(see).expect_err(see);
        assert!(said.contains(expected), "{see}\n{said}");
    }
    assert_eq!(faults(r#"{ but = "/cards/*/face", unless = "record.open == true" }"#), Ok(()));
}

#[test]
fn where_records_are_keyed_by_their_authors_each_makes_and_changes_their_own_alone() {
    let text = "charter = \"vote\"\nversion = 1\n[roles.voter]\nedit = [{ at = \"/votes/**\", if = \
        \"record.id == who.id\" }, \"/boxes/*\", { at = \"/boxes/*/note\", if = \"who.id in record.helpers\" }]\n[state.votes]\nkind = \"map\"\nkey = \
        \"author\"\n[state.votes.each.choice]\nkind = \"register\"\n[state.boxes]\nkind = \"map\"\n[state.boxes.each.note]\nkind = \
        \"register\"\n[state.boxes.each.helpers]\nkind = \"list\"\n[state.boxes.each.votes]\nkind = \"map\"\nkey = \
        \"author\"\n[state.boxes.each.votes.each.choice]\nkind = \"register\"\n";
    let charter = Arc::new(Charter::parse(text).unwrap());
    let mut sequencer = Sequencer::open(charter, None).unwrap();
    let mut ask = |who: &str, edit: Edit| {
        let role = if who == "service" { "service" } else { "voter" };
        let actor = Actor::new(who, role, Uuid::from_u128(7));
        match sequencer.handle_proposal(&actor, &Proposal::new(0, None, vec![edit]), 5) {
            Outcome::Settled(update) => Ok(json!(update.effects[0])),
            Outcome::Refused(problem) => Err(problem.detail().to_owned()),
            Outcome::Repeated(_) => panic!("nothing was sent twice"),
        }
    };
    let put = |id: &str| {
        Edit::new("/votes", "put").with("id", id).with("value", json!({ "choice": "dry" }))
    };
    let made = ask("oda", Edit::new("/votes", "put").with("value", json!({ "choice": "dry" })));
    assert_eq!(made.unwrap()["id"], "oda", "theirs, where they give none");
    let other = "Each has a record of their own in /votes; yours is /votes/oda.";
    assert_eq!(ask("oda", put("bram")).unwrap_err(), other);
    assert!(ask("bram", put("bram")).is_ok());
    let set = |at: &str| Edit::new(at, "set").with("value", "sweet");
    assert_eq!(ask("oda", set("/votes/bram/choice")).unwrap_err(), other);
    assert_eq!(ask("oda", Edit::new("/votes/bram", "drop")).unwrap_err(), other);
    assert!(ask("oda", set("/votes/oda/choice")).is_ok());
    assert!(ask("service", set("/votes/bram/choice")).is_ok());
    assert!(ask("service", put("wil")).is_ok());
    let helpers = json!([{ "id": "h", "value": "bram" }]);
    let boxes = |id: &str| json!({ "helpers": helpers, "votes": { id: { "choice": "dry" } } });
    let put = |id: &str| Edit::new("/boxes", "put").with("id", "b1").with("value", boxes(id));
    assert!(ask("oda", put("bram")).unwrap_err().starts_with("Each has a record of their own"));
    assert!(ask("oda", put("oda")).is_ok());
    assert!(ask("oda", Edit::new("/votes/oda", "drop")).is_ok());
    // A list of plain values reads as those values.
    assert!(ask("bram", set("/boxes/b1/note")).is_ok());
    assert!(ask("oda", set("/boxes/b1/note")).is_err());
}

#[test]
fn the_check_notes_by_what_else_a_hidden_value_shows() {
    let more = "[holds]\nkind = \"binding\"\n[[guards]]\nat = \"/votes/*\"\nrule = \"state.revealed == true || \
        new.choice != 'sour'\"\nsays = \"Not sour.\"\n[[guards]]\nat = \"/cards/*/holder\"\nrule = \
        \"record.face != 'ace'\"\nsays = \"Not the ace.\"\n[state.refers]\nkind = \"register\"\nrefers = { to = \
        \"/drafts\" }\n";
    let charter = Charter::parse(&format!("{CHARTER}{more}")).unwrap();
    let line = |of: &str| charter.source.lines().position(|line| line.contains(of)).unwrap() - 1;
    let (votes, cards) = (line("state.revealed == true || new"), line("record.face != 'ace'"));
    let tells = |line: usize, path: &str| {
        format!(
            "line {line}: whether this guard lets an edit of \"player\" pass tells of {path}, which that role does not always see"
        )
    };
    let expected = [
        tells(votes, "/votes/*/choice"),
        tells(cards, "/cards/*/face"),
        "whether /refers may refer to a record tells \"player\" that it is in /drafts/*, which that role does not always see".to_owned(),
        "whether an edit of \"player\" in /drafts is refused as held tells that somebody is at work there, where that role does not always see".to_owned(),
        "whether an edit of \"player\" in /end is refused as held tells that somebody is at work there, where that role does not always see".to_owned(),
    ];
    assert_eq!(charter.warnings(), expected);
}

/// A register that holds nothing is a member that holds `null`, also when it is read from the journal.
#[test]
fn what_is_shown_without_a_value_is_shown_all_the_same() {
    let charter = Arc::new(Charter::parse(CHARTER).unwrap());
    let mut sequencer = Sequencer::open(charter.clone(), None).unwrap();
    let oda = Actor::new("oda", "player", Uuid::from_u128(1));
    let mut settle = |edit: Edit| {
        let proposal = Proposal::new(0, None, vec![edit]);
        match sequencer.handle_proposal(&oda, &proposal, 5) {
            Outcome::Settled(update) => update,
            other => panic!("{other:?}"),
        }
    };
    settle(Edit::new("/cards", "put").with("id", "c1").with("value", json!({ "holder": "bram" })));
    let opened = settle(Edit::new("/cards/c1/open", "set").with("value", true));
    let read: Settled = serde_json::from_str(&serde_json::to_string(&opened).unwrap()).unwrap();
    assert_eq!(read, opened);
    for (role, who) in [("player", "oda"), ("onlooker", "")] {
        let sight = charter.sight(role);
        let mut told = json!(sight.update(&charter.fields, &read))["effects"].take();
        let viewer = Viewer::new(who, &BTreeMap::new());
        if let Some(beside) = sight.beside(&charter.fields, &read, &viewer) {
            told.as_array_mut().unwrap().extend(json!(beside.effects).as_array().cloned().unwrap());
        }
        let shown = json!({ "at": "/cards/c1/face", "op": "show", "value": null });
        assert!(told.as_array().unwrap().contains(&shown), "{role}: {told}");
    }
}
