//! The machine by itself: what comes in, and what it wants done. Most of these are what rehearsals
//! found.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::Arc;

use rendel_core::{Actor, Charter, Edit, Proposal, Reader, Rows, Settled};
use rendel_session::{
    Answer, Ask, Content, Entry, Found, Had, Heard, Input, Output, Report, Session, SessionStatus,
    Settings, ShownUpdate, Spacing, Status, To, WayIn,
};
use rendel_wire::{LeftWhy, Propose, SessionHead};
use serde_json::{Value, json};
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "orchard"
version = 1
[holds]
for = "5s"
[presence.fields]
caret = { anchor = "/diary" }
place = { anchor = "/notes" }
[roles.steward]
edit = ["/**"]
[roles.picker]
edit = ["/**"]
see = ["/**", { but = "/ledger" }, { but = "/diary" }]
[state.heads]
kind = "counter"
[state.title]
kind = "register"
merge = "unchanged"
[state.diary]
kind = "text"
[state.notes]
kind = "text"
[state.ledger]
kind = "register"
merge = "unchanged"
"#;

struct Story {
    machine: Session,
    now: u64,
    append: u64,
}

fn reader(role: &str) -> Reader {
    Reader::of(&Actor::new("reads", role, Uuid::from_u128(9)))
}

fn found(epoch: u64) -> Found {
    Found {
        epoch,
        epochs: (1..=epoch).map(|epoch| (epoch, 0)).collect(),
        standing: SessionStatus::default(),
        snapshot: None,
        updates: vec![],
        refusals: vec![],
        unseen: None,
        secret: Uuid::nil(),
        opened: 0,
        wakes: None,
    }
}

fn actor(who: &str, role: &str) -> Actor {
    Actor::new(who, role, Uuid::from_u128(who.len() as u128))
}

impl Story {
    fn begin() -> Self {
        Self::of(&found(1))
    }

    fn of(found: &Found) -> Self {
        Self::with(CHARTER, found)
    }

    fn with(charter: &str, found: &Found) -> Self {
        let head = SessionHead {
            id: "slope".into(),
            charter: "orchard".into(),
            version: 1,
            status: String::new(),
        };
        let settings = Settings {
            snapshots: Spacing { updates: 1_000, bytes: 1 << 20 },
            digest_every: 1_000,
            digest_within: 5_000,
            connections_per_participant: 4,
        };
        let charter = Arc::new(Charter::parse(charter).unwrap());
        let machine = Session::new(charter, head, None, found, settings, 0).unwrap();
        Self { machine, now: 1_000, append: 0 }
    }

    fn tell(&mut self, input: Input) -> Vec<Output> {
        self.machine.handle(self.now, input);
        let outputs = self.machine.poll_outputs();
        for output in &outputs {
            if let Output::Append { append, .. } = output {
                self.append = *append;
            }
        }
        outputs
    }

    /// The append that is under way is on disk.
    fn write(&mut self) -> Vec<Output> {
        let append = self.append;
        self.tell(Input::Written { append })
    }

    fn enter(&mut self, connection: u64, who: &str, role: &str, had: Option<Had>) -> Vec<Output> {
        self.tell(Input::Entered(Box::new(Entry {
            connection,
            who: actor(who, role),
            name: who.into(),
            way: WayIn::Replica { had },
            presence: None,
            fields: false,
            token: None,
            seat: None,
        })))
    }

    fn propose(&mut self, connection: u64, n: u64, seen: u64, edit: Edit) -> Vec<Output> {
        let (edits, answered, gesture, note) = (vec![edit], 0, None, None);
        let frame = Propose { n, seen, answered, edits, gesture, note };
        self.tell(Input::Frame { connection, frame: Heard::Propose(frame) })
    }
}

/// What is shown, as the JSON that goes out.
fn shown(outputs: &[Output]) -> Vec<Value> {
    let text = |output: &Output| match output {
        Output::Show { shown, .. } => Some(match shown.get() {
            Content::Welcome(welcomed) => {
                let mut head: Value = serde_json::from_str(&welcomed.head).unwrap();
                if let Some((_, state)) = &welcomed.state {
                    head["state"] = serde_json::from_str(state).unwrap();
                }
                head
            }
            Content::Updates(entries) => {
                let update = |entry: &ShownUpdate| serde_json::from_str(&entry.update).unwrap();
                let updates = entries.iter().map(update);
                json!({ "type": "settled", "updates": updates.collect::<Vec<Value>>() })
            }
            Content::Frame(json) | Content::Aside(json) => serde_json::from_str(json).unwrap(),
            Content::Presence(of) => json!({ "type": "presence", "of": of }),
            other => json!(other),
        }),
        _ => None,
    };
    outputs.iter().filter_map(text).collect()
}

fn types(outputs: &[Output]) -> Vec<String> {
    shown(outputs).iter().map(|frame| frame["type"].as_str().unwrap().to_owned()).collect()
}

/// The first connection tells a place in a text.
fn said(fact: &str, at: &str, index: u64) -> Input {
    let place = json!({ fact: { "at": at, "index": index } });
    let said = rendel_wire::Said { seen: None, set: place.as_object().unwrap().clone() };
    Input::Frame { connection: 1, frame: Heard::Said(said) }
}

fn add() -> Edit {
    Edit::new("/heads", "add").with("by", 1)
}

#[test]
fn nothing_is_shown_or_answered_before_it_is_written() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    let settled = story.propose(1, 1, 0, add());
    assert!(matches!(settled[..], [Output::Append { .. }]), "{settled:?}");
    let proposal = Proposal::new(1, None, vec![add()]);
    let call = Ask::Propose { actor: actor("backend", "service"), proposal };
    assert!(story.tell(Input::Call { call: 7, ask: call }).is_empty());
    let read = Ask::Read { reader: reader("steward"), path: None };
    assert!(story.tell(Input::Call { call: 8, ask: read }).is_empty());
    assert!(
        story
            .enter(2, "bram", "picker", None)
            .iter()
            .all(|one| shown(std::slice::from_ref(one)).is_empty())
    );
    let first = story.write();
    assert_eq!(types(&first), ["settled"]);
    assert!(matches!(first.last(), Some(Output::Append { updates, .. }) if updates.len() == 1));
    let second = story.write();
    assert_eq!(types(&second), ["settled", "roster", "welcome"]);
    let answers = second.iter().filter(|output| matches!(output, Output::Answer { .. }));
    assert_eq!(answers.count(), 2);
}

#[test]
fn a_role_that_the_charter_does_not_have_sees_nothing() {
    let mut story = Story::begin();
    let welcome = &shown(&story.enter(1, "wren", "stranger", None))[0];
    assert_eq!((&welcome["state"], &welcome["you"]["role"]), (&json!({}), &json!("stranger")));
    let read = Ask::Read { reader: reader("stranger"), path: None };
    let answer = story.tell(Input::Call { call: 1, ask: read });
    assert!(
        matches!(&answer[..], [Output::Answer { answer: Ok(Answer::Reading { json, .. }), .. }]
        if &**json.get() == "{}")
    );
    story.propose(1, 1, 0, add());
    story.write();
    story.enter(2, "oda", "steward", None);
    story.propose(2, 1, 1, Edit::new("/ledger", "set").with("value", "hidden"));
    let written = story.write();
    assert!(!json!(shown(&written)[0]).to_string().contains("hidden"), "{written:?}");
}

#[test]
fn who_sees_nothing_is_told_of_every_place_in_the_order() {
    let charter = "charter = \"orchard\"\nversion = 1\n[state.heads]\nkind = \"counter\"\n";
    let mut story = Story::with(charter, &found(1));
    story.enter(1, "wren", "stranger", None);
    story.enter(2, "oda", "participant", None);
    story.propose(2, 1, 0, add());
    let mut told = shown(&story.write());
    story.now = story.machine.next_timeout().unwrap();
    told.extend(shown(&story.tell(Input::Timeout)));
    let blank: Vec<_> =
        told.iter().filter(|frame| frame["updates"][0]["effects"] == json!([])).collect();
    assert_eq!((blank.len(), &blank[0]["updates"][0]["seq"]), (1, &json!(1)), "{told:?}");
}

#[test]
fn a_replica_of_another_audience_gets_the_whole_state() {
    let mut story = Story::begin();
    let was = shown(&story.enter(1, "oda", "steward", None))[0]["audience"].as_u64().unwrap();
    story.tell(Input::Left { connection: 1, why: LeftWhy::Lost });
    let audience = usize::try_from(was).unwrap();
    let had = Some(Had { seen: 0, epoch: 1, audience });
    let same = shown(&story.enter(2, "oda", "steward", had)).pop().unwrap();
    assert_eq!((same.get("state"), &same["updates"]), (None, &json!([])));
    story.tell(Input::Left { connection: 2, why: LeftWhy::Lost });
    let other = shown(&story.enter(3, "oda", "picker", had)).pop().unwrap();
    assert_eq!(other["state"], json!({ "heads": 0, "title": null, "notes": "" }));
}

#[test]
fn what_a_replica_saw_beyond_the_beginning_of_a_later_epoch_was_lost() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    let sent = story.propose(1, 1, 0, add());
    let found = found_with_what_was_written(&sent);
    let mut story = Story::of(&found);
    for (connection, seen, epoch, is_whole) in [(1, 1, 2, false), (2, 1, 1, true), (3, 9, 2, true)]
    {
        let had = Some(Had { seen, epoch, audience: 0 });
        let welcome = shown(&story.enter(connection, "oda", "steward", had)).pop().unwrap();
        assert_eq!(welcome.get("state").is_some(), is_whole, "{seen} of {epoch}: {welcome}");
        story.tell(Input::Left { connection, why: LeftWhy::Lost });
    }
}

#[test]
fn what_was_refused_in_another_role_is_told_in_the_words_of_this_one() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    story.propose(1, 1, 0, Edit::new("/ledger", "set").with("value", "hidden"));
    story.write();
    story.enter(2, "bram", "steward", None);
    story.propose(2, 1, 0, Edit::new("/ledger", "set").with("value", "mine"));
    let refused = story.write();
    assert!(json!(shown(&refused)).to_string().contains("hidden"), "a steward sees what stands");
    story.tell(Input::Left { connection: 2, why: LeftWhy::Lost });
    let welcome = shown(&story.enter(3, "bram", "picker", None)).pop().unwrap();
    assert_eq!(welcome["outcomes"].as_array().unwrap().len(), 1);
    assert!(!welcome.to_string().contains("hidden"), "{welcome}");
}

#[test]
fn a_refusal_that_left_no_trace_stands_when_its_proposal_comes_again() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    story.propose(1, 1, 0, add());
    story.tell(Input::JournalLost);
    let refused = shown(&story.propose(1, 2, 0, add()));
    assert_eq!((&refused[0]["n"], refused.len()), (&json!(2), 1));
    story.tell(Input::JournalFound(Box::new(found(2))));
    // Its client sent it again before it read that.
    let again = story.propose(1, 2, 0, add());
    assert_eq!(types(&again), ["refused"]);
    let is_counted = |output: &&Output| matches!(output, Output::Report(Report::Refused(_)));
    assert_eq!((again.iter().filter(is_counted).count(), again.len()), (1, 2));
    assert!(matches!(story.propose(1, 3, 0, add())[..], [Output::Append { .. }]));
}

/// The journal as it is when the append that failed is in it after all.
fn found_with_what_was_written(outputs: &[Output]) -> Found {
    let rows = outputs.iter().find_map(|output| match output {
        Output::Append { updates, .. } => Some(updates),
        _ => None,
    });
    let updates = rows.unwrap().iter().map(|row| serde_json::from_str(&row.body).unwrap());
    Found { updates: updates.collect(), ..found(2) }
}

#[test]
fn a_proposal_that_comes_again_while_the_journal_is_away_is_told_what_is_in_it() {
    for is_written in [true, false] {
        let mut story = Story::begin();
        story.enter(1, "oda", "steward", None);
        let sent = story.propose(1, 1, 0, add());
        story.enter(2, "oda", "steward", None);
        // One comes again before the journal goes, and one after.
        story.propose(2, 1, 0, add());
        story.tell(Input::JournalLost);
        assert!(story.propose(2, 1, 0, add()).is_empty(), "what became of it is not known");
        let found = if is_written { found_with_what_was_written(&sent) } else { found(2) };
        let told = shown(&story.tell(Input::JournalFound(Box::new(found))));
        let told: Vec<&Value> = told.iter().filter(|frame| frame["n"] == 1).collect();
        let expected = if is_written { "outcome" } else { "refused" };
        assert!(!told.is_empty() && told.iter().all(|frame| frame["type"] == expected), "{told:?}");
    }
}

#[test]
fn while_the_journal_is_away_nothing_piles_up() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    story.propose(1, 1, 0, add());
    story.tell(Input::JournalLost);
    for n in 1..100 {
        let hold = Heard::Hold { n, at: "/title".into(), for_ms: None, over: false };
        let told = shown(&story.tell(Input::Frame { connection: 1, frame: hold }));
        assert_eq!((&told[0]["type"], told.len()), (&json!("answer"), 1), "at once");
        assert!(story.propose(1, 1, 0, add()).is_empty());
        let begin = Ask::BeginPatch { actor: actor("oda", "steward"), n: 0, if_match: None };
        let told = story.tell(Input::Call { call: n, ask: begin });
        assert!(matches!(told[..], [Output::Answer { answer: Err(_), .. }]), "{told:?}");
    }
    let told = shown(&story.tell(Input::JournalFound(Box::new(found(2)))));
    assert_eq!(told.iter().filter(|frame| frame["type"] == "refused").count(), 2, "{told:?}");
}

#[test]
fn what_is_told_while_a_welcome_waits_for_the_disk_is_not_lost() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    story.propose(1, 1, 0, add());
    story.tell(said("caret", "/diary", 0));
    story.enter(2, "bram", "steward", None);
    let told = story.write();
    let told: Vec<Value> = shown(&told)
        .into_iter()
        .chain({
            story.now += 1_000;
            shown(&story.tell(Input::Timeout))
        })
        .collect();
    let welcome = told.iter().position(|frame| frame["type"] == "welcome").unwrap();
    assert!(json!(told[welcome..]).to_string().contains("caret"), "{told:?}");
}

#[test]
fn what_is_told_while_the_journal_is_away_is_shown_once_it_is_back() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    story.enter(2, "bram", "steward", None);
    story.propose(1, 1, 0, add());
    story.tell(said("caret", "/diary", 0));
    story.tell(Input::JournalLost);
    story.tell(said("place", "/notes", 0));
    assert!(story.machine.poll_outputs().is_empty());
    story.tell(Input::JournalFound(Box::new(found(2))));
    story.now += 1_000;
    let told = format!("{:?}", story.tell(Input::Timeout));
    assert!(told.contains("caret") && told.contains("place"), "{told}");
}

#[test]
fn a_welcome_that_waited_is_not_told_in_a_role_that_is_over() {
    let mut story = Story::begin();
    story.enter(1, "bram", "steward", None);
    let secret = Edit::new("/ledger", "set").with("value", "hidden");
    story.propose(1, 1, 0, secret);
    // The welcome waits for the disk, and so does the whole state in it.
    story.enter(2, "oda", "steward", None);
    let (name, role) = ("oda".to_owned(), "picker".to_owned());
    story.tell(Input::Amended { connection: 2, name, role, claims: Default::default() });
    let outputs = story.write();
    let to_oda = |output: &&Output| match output {
        Output::Show { to, .. } => matches!(to, To::One(2) | To::Audience(1)),
        _ => false,
    };
    let told = format!("{:?}", outputs.iter().filter(to_oda).collect::<Vec<_>>());
    let more = format!("{:?}", story.write());
    assert!(!told.contains("hidden"), "{told}");
    let both = told + &more;
    assert!(both.contains("Welcome") && both.contains("picker"), "{both}");
}

/// Whoever asks for much waits for it, others come in turn, and nothing else is held up.
#[test]
fn who_asks_for_much_gets_it_bit_by_bit_and_others_in_turn() {
    let charter = "charter = \"orchard\"\nversion = 1\n[roles.picker]\nedit = [\"/**\"]\n\
        [roles.blind]\nedit = []\nsee = [\"/other\"]\n[state.other]\nkind = \"register\"\n[state.trees]\nkind = \"map\"\n\
        [state.trees.each.fruit]\nkind = \"counter\"\n[queries.trees]\nfrom = \"/trees\"\n\
        where = \"record.fruit > least\"\nwith = { least = {} }\nlimit = 1\n";
    let mut story = Story::with(charter, &found(1));
    let tree =
        |id: u64| Edit::new("/trees", "put").with("id", id.to_string()).with("value", json!({}));
    for (connection, who) in [(1, "oda"), (2, "bram")] {
        story.enter(connection, who, "picker", None);
    }
    for batch in 0..50u64 {
        let edits = (0..100).map(|at| tree(batch * 100 + at)).collect();
        let frame =
            Propose { n: batch + 1, seen: 0, answered: 0, edits, gesture: None, note: None };
        story.tell(Input::Frame { connection: 1, frame: Heard::Propose(frame) });
        story.write();
    }
    let follow = |story: &mut Story, connection, query: u64, least: i64| {
        let asked = json!({ "name": "trees", "with": { "least": least } });
        let ask = serde_json::from_value(asked).unwrap();
        let frame = rendel_wire::FollowQuery { query, ask, had: None };
        let frame = Heard::FollowQuery(Box::new(frame));
        types(&story.tell(Input::Frame { connection, frame })).len()
    };
    // 5,000 records each: more than there is time for at once.
    let at_once: usize = (0..8).map(|query| follow(&mut story, 1, query, 9)).sum();
    assert_eq!(at_once + follow(&mut story, 1, 8, 10) + follow(&mut story, 2, 1, 77), 0);
    let (mut told, mut waits) = (Vec::new(), 0);
    let mut n = 50;
    while told.len() < 10 {
        story.now = story.now.max(story.machine.next_timeout().unwrap());
        waits += 1;
        let outputs = story.tell(Input::Timeout);
        for output in &outputs {
            if let Output::Show { to: To::These(these), shown } = output
                && let Content::Frame(json) = shown.get()
            {
                let rows: Value = serde_json::from_str(json).unwrap();
                let first = rows["rows"][0]["path"].clone();
                told.push((these[0], rows["query"].as_u64().unwrap(), first));
            }
        }
        // What changes meanwhile is settled meanwhile, and is in the rows.
        n += 1;
        let id = 5_000 - n * 50;
        story.propose(1, n, n - 1, Edit::new(format!("/trees/{id}/fruit"), "add").with("by", n));
        assert!(types(&story.write()).contains(&"settled".to_owned()));
        assert!(waits < 50, "{told:?}");
    }
    let of = |connection, query| {
        told.iter().position(|told| (told.0, told.1) == (connection, query)).unwrap()
    };
    assert!(of(2, 1) < of(1, 8), "the other participant has waited for less: {told:?}");
    assert!(
        waits > 5
            && told.iter().all(|(connection, _, first)| first.is_null() == (*connection == 2)),
        "{waits} {told:?}"
    );

    // What is put off for another role is not of the one before until then.
    let (name, role) = ("oda".to_owned(), "blind".to_owned());
    story.tell(Input::Amended { connection: 1, name, role, claims: Default::default() });
    story.write();
    let mut outputs = story.propose(2, 1, 20, Edit::new("/trees/5/fruit", "add").with("by", 1_000));
    outputs.extend(story.write());
    let is_to_oda = |output: &&Output| match output {
        Output::Show { to: To::These(these), .. } => these.contains(&1),
        _ => false,
    };
    assert_eq!(outputs.iter().filter(is_to_oda).count(), 0, "{outputs:?}");
    assert!(types(&outputs).contains(&"row-steps".to_owned()), "Bram is told");
}

#[test]
fn rows_that_go_by_claims_follow_a_new_token() {
    let charter = "charter = \"orchard\"\nversion = 1\n[state.trees]\nkind = \"map\"\n\
        [state.trees.each.team]\nkind = \"register\"\n[queries.ours]\nfrom = \"/trees\"\n\
        where = \"record.team == who.claims.team\"\n";
    let mut story = Story::with(charter, &found(1));
    story.enter(1, "oda", "participant", None);
    for (n, team) in [(1, "plum"), (2, "pear")] {
        let put =
            Edit::new("/trees", "put").with("id", team).with("value", json!({ "team": team }));
        story.propose(1, n, 0, put);
        story.write();
    }
    let ask = serde_json::from_value(json!({ "name": "ours" })).unwrap();
    let frame = Heard::FollowQuery(Box::new(rendel_wire::FollowQuery { query: 1, ask, had: None }));
    story.tell(Input::Frame { connection: 1, frame });
    for team in ["plum", "pear"] {
        let claims = [("team".to_owned(), json!(team))].into();
        let frame = Heard::Renewed { n: 1, claims };
        let told = shown(&story.tell(Input::Frame { connection: 1, frame }));
        let rows = told.iter().find(|frame| frame["type"] == "rows").unwrap();
        assert_eq!(rows["rows"].as_array().unwrap().len(), 1, "{rows}");
        assert_eq!(rows["rows"][0]["path"], format!("/trees/{team}"));
    }
}

/// Somebody comes and goes for an hour, in one role and the other, with changes meanwhile: the rows
/// that they have then are those that a newcomer gets. Who was away for a short while gets only what
/// has changed.
#[test]
fn who_comes_and_goes_for_an_hour_has_the_right_rows() {
    let charter = "charter = \"orchard\"\nversion = 1\n[roles.picker]\nedit = [\"/**\"]\n\
        see = [\"/**\", { but = \"/trees/*/cut\", unless = \"state.open\" }]\n[roles.steward]\nedit = [\"/**\"]\n\
        [state.open]\nkind = \"register\"\ninitial = false\n[state.trees]\nkind = \"map\"\n\
        [state.trees.each.fruit]\nkind = \"counter\"\n[state.trees.each.cut]\nkind = \"register\"\n\
        [queries.best]\nfrom = \"/trees\"\norder = [\"-fruit\"]\nlimit = 8\n";
    let mut story = Story::with(charter, &found(1));
    story.enter(1, "wren", "steward", None);
    let change = |story: &mut Story, n: u64| {
        let id = (n * n * 7 + n / 3) % 13;
        let tree = format!("/trees/{id}");
        let edit = match n % 9 {
            _ if n < 13 => {
                Edit::new("/trees", "put").with("id", n.to_string()).with("value", json!({}))
            }
            0 => Edit::new("/open", "set").with("value", n.is_multiple_of(2)),
            1 => Edit::new(tree, "drop"),
            2 => Edit::new("/trees", "put").with("id", id.to_string()).with("value", json!({})),
            3 => Edit::new(tree + "/cut", "set").with("value", n),
            _ => Edit::new(tree + "/fruit", "add").with("by", (n * 5) % 11),
        };
        story.propose(1, n, 0, edit);
        story.write();
    };
    let follow = |story: &mut Story, connection, had: Option<Value>| {
        let frame = json!({ "query": 1, "ask": { "name": "best" }, "had": had });
        let frame = serde_json::from_value(frame).unwrap();
        let frame = Heard::FollowQuery(Box::new(frame));
        shown(&story.tell(Input::Frame { connection, frame })).pop().unwrap()
    };
    let apply = |kept: &mut Rows, frame: &Value| {
        kept.apply(&serde_json::from_value(frame.clone()).unwrap()).unwrap();
    };
    let leave = |story: &mut Story, connection| {
        story.tell(Input::Left { connection, why: LeftWhy::Lost });
        story.write();
    };
    let (mut kept, mut mark) = (Rows::default(), Value::Null);
    let (mut n, mut whole, mut in_part) = (0, [0, 0], [0, 0]);
    for turn in 0..200u64 {
        let away = [2, 5, 45, 11, 29, 33, 3][usize::try_from(turn % 7).unwrap()];
        for _ in 0..away.min(9) {
            story.now += away * 1_000 / away.min(9);
            story.tell(Input::Timeout);
            n += 1;
            change(&mut story, n);
        }
        let (me, newcomer) = (10 + turn * 2, 11 + turn * 2);
        let role = ["picker", "picker", "steward"][usize::try_from(turn / 3 % 3).unwrap()];
        story.enter(me, "oda", role, None);
        story.write();
        let had = (!mark.is_null()).then(|| json!({ "mark": mark, "seq": kept.seq }));
        let frame = follow(&mut story, me, had);
        let is_short = usize::from(away < 30);
        match frame["type"].as_str().unwrap() {
            "rows" => {
                whole[is_short] += 1;
                mark = frame["mark"].clone();
                kept = serde_json::from_value(frame).unwrap();
            }
            _ => {
                in_part[is_short] += 1;
                apply(&mut kept, &frame);
            }
        }
        for _ in 0..3 {
            story.now += 1_000;
            n += 1;
            story.propose(
                1,
                n,
                0,
                Edit::new(format!("/trees/{}/fruit", n % 13), "add").with("by", 2),
            );
            for frame in shown(&story.write()).iter().filter(|frame| frame["type"] == "row-steps") {
                apply(&mut kept, frame);
            }
        }
        story.enter(newcomer, "bram", role, None);
        story.write();
        let fresh: Rows = serde_json::from_value(follow(&mut story, newcomer, None)).unwrap();
        assert_eq!((&kept.rows, &kept.end), (&fresh.rows, &fresh.end), "turn {turn}");
        leave(&mut story, newcomer);
        leave(&mut story, me);
    }
    assert!(story.now > 60 * 60 * 1_000, "{}", story.now);
    assert_eq!(in_part[0], 0, "beyond the recent past all comes");
    assert!(in_part[1] > 60 && whole[1] > 10, "{in_part:?} {whole:?}");
}

/// Rows that wait for the disk are for who they were then.
#[test]
fn rows_on_their_way_are_not_shown_to_who_has_lost_the_role_for_them() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    story.enter(2, "bram", "steward", None);
    let path = rendel_core::Path::parse("/ledger").ok();
    let ask = rendel_core::Asked { path, ..Default::default() };
    let frame = Heard::FollowQuery(Box::new(rendel_wire::FollowQuery { query: 1, ask, had: None }));
    let told = shown(&story.tell(Input::Frame { connection: 2, frame }));
    assert_eq!((&told[0]["type"], &told[0]["rows"][0]["value"]), (&json!("rows"), &Value::Null));
    let secret = |value: &str| Edit::new("/ledger", "set").with("value", value);
    story.propose(1, 1, 0, secret("seen"));
    assert_eq!(types(&story.write()), ["settled", "row-steps"]);
    story.propose(1, 2, 1, secret("hidden"));
    let (name, role) = ("bram".to_owned(), "picker".to_owned());
    story.tell(Input::Amended { connection: 2, name, role, claims: Default::default() });
    let mut told = shown(&story.write());
    told.extend(shown(&story.write()));
    let of_rows: Vec<_> =
        told.iter().filter(|frame| frame.get("query").is_some()).map(|one| &one["type"]).collect();
    assert_eq!(of_rows, ["query-refused"], "{told:?}");
}

#[test]
fn presence_does_not_overtake_who_came_and_went() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    story.enter(2, "bram", "steward", None);
    story.tell(said("place", "/notes", 0));
    story.now += 1_000;
    story.propose(2, 1, 0, add());
    story.tell(Input::Left { connection: 1, why: LeftWhy::Left });
    story.enter(1, "oda", "steward", None);
    story.now += 1_000;
    let early = types(&story.tell(Input::Timeout));
    assert!(early.is_empty(), "{early:?}");
    story.tell(said("place", "/notes", 0));
    let told = types(&story.write());
    let at = |what: &str| told.iter().rposition(|one| one == what);
    assert!(at("roster") < at("presence"), "{told:?}");
}

#[test]
fn whoever_arrives_is_heard_of_before_what_they_tell() {
    let mut story = Story::begin();
    story.enter(1, "bram", "steward", None);
    story.now += 1_000;
    let place = json!({ "place": { "at": "/notes", "index": 0 } });
    let entry = Entry {
        connection: 2,
        who: actor("oda", "steward"),
        name: "oda".into(),
        way: WayIn::Replica { had: None },
        presence: Some(place.as_object().unwrap().clone()),
        fields: false,
        token: None,
        seat: None,
    };
    let told = types(&story.tell(Input::Entered(Box::new(entry))));
    let at = |what: &str| told.iter().position(|one| one == what);
    assert!(at("roster").is_some() && at("roster") < at("presence"), "{told:?}");
}

#[test]
fn a_caret_that_goes_back_to_where_it_was_said_to_be_is_told_again() {
    let mut story = Story::begin();
    for (connection, who, role) in [(1, "oda", "steward"), (2, "bram", "picker")] {
        story.enter(connection, who, role, None);
    }
    let of_pickers = |outputs: &[Output]| {
        let is_theirs = |output: &&Output| {
            matches!(output, Output::Show { to: To::AudienceBut(1, _), shown }
                if matches!(shown.get(), Content::Presence(_)))
        };
        outputs.iter().filter(is_theirs).count()
    };
    let splice = Edit::new("/notes", "splice").with("index", 0).with("insert", "pear");
    assert_eq!(of_pickers(&story.tell(said("place", "/notes", 0))), 1);
    story.propose(1, 1, 0, splice);
    story.write();
    story.now += 1_000;
    // Their replicas have moved it behind what was typed before it.
    assert_eq!(of_pickers(&story.tell(said("place", "/notes", 0))), 1);
}

#[test]
fn nobody_hears_that_something_hidden_moves() {
    let mut story = Story::begin();
    for (connection, who, role) in
        [(1, "oda", "steward"), (2, "bram", "steward"), (3, "wren-w", "picker")]
    {
        story.enter(connection, who, role, None);
    }
    let told = story.tell(said("caret", "/diary", 0));
    let audiences: Vec<&To> = told
        .iter()
        .filter_map(|output| match output {
            Output::Show { to, .. } => Some(to),
            _ => None,
        })
        .collect();
    assert!(matches!(audiences[..], [To::AudienceBut(0, _)]), "{told:?}");
}

#[test]
fn a_proposal_that_comes_again_gets_its_first_outcome_also_after_a_restart() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    let sent = story.propose(1, 1, 0, add());
    story.write();
    story.propose(1, 2, 1, Edit::new("/nowhere", "clear"));
    let refused = shown(&story.write()).remove(0);
    let again = |story: &mut Story, n| shown(&story.propose(1, n, 0, add())).remove(0);
    let first = [json!({ "type": "outcome", "n": 1, "seq": 1 }), {
        json!({ "type": "outcome", "n": 2, "problem": refused["problem"] })
    }];
    assert_eq!([again(&mut story, 1), again(&mut story, 2)], first);
    let problem = serde_json::from_value(refused["problem"].clone()).unwrap();
    let key = actor("oda", "steward").key();
    let found =
        Found { refusals: vec![(1, key, 2, problem)], ..found_with_what_was_written(&sent) };
    let mut story = Story::of(&found);
    story.enter(1, "oda", "steward", None);
    assert_eq!([again(&mut story, 1), again(&mut story, 2)], first);
}

#[test]
fn what_was_written_before_the_journal_went_is_told_as_that() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    let sent = story.propose(1, 1, 0, add());
    story.write();
    story.propose(1, 2, 1, add());
    story.tell(Input::JournalLost);
    assert!(story.propose(1, 1, 0, add()).is_empty());
    let found = found_with_what_was_written(&sent);
    let told = shown(&story.tell(Input::JournalFound(Box::new(found))));
    let told: Vec<_> = told.iter().map(|frame| (&frame["type"], &frame["n"])).collect();
    assert_eq!(told, [(&json!("refused"), &json!(2)), (&json!("outcome"), &json!(1))]);
}

#[test]
fn what_has_lapsed_goes_on_no_more_however_late_that_is_noticed() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    let hold = Heard::Hold { n: 1, at: "/title".into(), for_ms: Some(1_000), over: false };
    story.tell(Input::Frame { connection: 1, frame: hold });
    assert_eq!(story.machine.holds()[0].until, 2_000);
    story.now = 2_500;
    story.propose(1, 1, 0, Edit::new("/title", "set").with("value", "West"));
    assert!(story.machine.holds().is_empty(), "an edit prolongs what is held, not what was");
}

#[test]
fn time_that_goes_back_changes_nothing() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    let hold = |n| Heard::Hold { n, at: "/title".into(), for_ms: Some(1_000), over: false };
    story.tell(Input::Frame { connection: 1, frame: hold(1) });
    story.now = 10;
    story.tell(Input::Frame { connection: 1, frame: hold(2) });
    assert_eq!(story.machine.holds()[0].until, 2_000);
}

#[test]
fn time_is_not_behind_the_journal() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    let sent = story.propose(1, 1, 0, add());
    let story = Story::of(&found_with_what_was_written(&sent));
    assert_eq!(story.machine.now(), 1_000);
}

#[test]
fn a_session_that_stops_tells_what_is_written_and_gives_up_the_rest() {
    let mut story = Story::begin();
    story.enter(1, "oda", "steward", None);
    let proposal = Proposal::new(1, None, vec![add()]);
    let ask = Ask::Propose { actor: actor("backend", "service"), proposal };
    story.tell(Input::Call { call: 7, ask: ask.clone() });
    assert!(story.tell(Input::Stop).is_empty(), "an append is under way");
    let stopped = story.write();
    let done: Vec<&str> = stopped
        .iter()
        .map(|output| match output {
            Output::Show { .. } => "show",
            Output::Answer { answer: Ok(_), .. } => "answer",
            Output::Keep(_) => "keep",
            Output::Close { .. } => "close",
            Output::Stopped => "stopped",
            _ => "other",
        })
        .collect();
    assert_eq!(done, ["answer", "show", "keep", "close", "stopped"]);
    let late = story.tell(Input::Call { call: 8, ask: ask.clone() });
    assert!(matches!(late[..], [Output::Answer { answer: Err(_), .. }]));
    // Without the journal nobody is told of what may not be there, and nothing is kept.
    let mut story = Story::begin();
    story.tell(Input::Call { call: 7, ask });
    story.tell(Input::JournalLost);
    let stopped = story.tell(Input::Stop);
    let [Output::Answer { answer: Err(_), .. }, Output::Stopped] = &stopped[..] else {
        panic!("{stopped:?}")
    };
}

#[test]
fn frozen_and_ended_sessions_say_so_once_that_is_written() {
    let mut story = Story::begin();
    story.enter(1, "oda", "picker", None);
    let standing: SessionStatus = Status::Frozen.into();
    let ask = Ask::Stand { by: "service".into(), standing: standing.clone() };
    let asked = story.tell(Input::Call { call: 1, ask });
    assert!(matches!(asked[..], [Output::WriteStanding { .. }]));
    assert!(matches!(story.propose(1, 1, 0, add())[..], [Output::Append { .. }]), "not yet");
    story.write();
    let (call, by) = (1, "service".to_owned());
    let told = story.tell(Input::StandingWritten { call, by, standing, result: Ok(()) });
    assert_eq!(types(&told), ["status"]);
    story.propose(1, 2, 0, add());
    let refused = shown(&story.write()).pop().unwrap();
    assert_eq!(refused["problem"]["type"], "urn:rendel:problem:frozen");
}

#[test]
fn each_of_those_who_look_on_costs_the_others_nothing_but_a_count() {
    let charter = CHARTER.replace(
        "[roles.picker]\n",
        "[roles.looker]\nedit = []\nroster = \"count\"\n[roles.picker]\n",
    );
    let mut story = Story::with(&charter, &found(1));
    story.enter(1, "oda", "steward", None);
    let mut told = (0, 0);
    for looker in 0..2_000u64 {
        let entry = Entry {
            connection: 10 + looker,
            who: Actor::new(
                format!("looker-{looker}"),
                "looker",
                Uuid::from_u128(u128::from(looker)),
            ),
            name: "Looker".into(),
            way: WayIn::Replica { had: None },
            presence: None,
            fields: false,
            token: None,
            seat: None,
        };
        story.now += 5;
        let outputs = story.tell(Input::Entered(Box::new(entry)));
        let due = story.machine.next_timeout().filter(|due| *due <= story.now);
        let outputs =
            [outputs, due.map(|_| story.tell(Input::Timeout)).unwrap_or_default()].concat();
        for output in &outputs {
            if let Output::Show { to, shown } = output {
                let bytes = format!("{:?}", shown.get()).len();
                told = (told.0 + usize::from(!matches!(to, To::One(_))), told.1.max(bytes));
            }
        }
    }
    // Ten seconds: a count each second to each of the two audiences, and no welcome grows.
    assert!(told.0 <= 2 * 11, "{told:?}");
    assert!(told.1 < 1_500, "{told:?}");
}

#[test]
fn what_somebody_told_while_they_were_not_named_is_told_once_they_are() {
    let charter = format!("{CHARTER}[roles.onlooker]\nedit = []\nroster = \"count\"\n");
    let mut story = Story::with(&charter, &found(1));
    story.enter(1, "oda", "steward", None);
    story.enter(2, "bram", "onlooker", None);
    let place = json!({ "place": { "at": "/notes", "index": 0 } });
    let set = place.as_object().unwrap().clone();
    let said =
        Input::Frame { connection: 2, frame: Heard::Said(rendel_wire::Said { seen: None, set }) };
    let told = format!("{:?}", story.tell(said));
    assert!(told.contains("without being named") && !told.contains("AudienceBut"), "{told}");
    story.now += 1_000;
    let (name, role) = ("bram".to_owned(), "picker".to_owned());
    let amended = Input::Amended { connection: 2, name, role, claims: Default::default() };
    let told = types(&story.tell(amended));
    let at = |what: &str| told.iter().position(|one| one == what);
    assert!(at("roster").is_some() && at("roster") < at("presence"), "{told:?}");
}

const POLL: &str = r#"
charter = "orchard"
version = 1
[session]
participants = 5000
[roles.steward]
edit = ["/**"]
powers = ["unseal"]
roster = "count"
[roles.picker]
edit = ["/**"]
roster = "count"
[state.blend]
kind = "ballot"
choices = ["dry", "sweet"]
sealed = true
[state.title]
kind = "register"
"#;

/// To whom updates go out, and the `first` and `seq` of each with its number of effects.
type Runs = Vec<(To, Vec<(u64, u64, usize)>)>;

fn runs(outputs: &[Output]) -> Runs {
    let run = |output: &Output| match output {
        Output::Show { to, shown } => match shown.get() {
            Content::Updates(entries) => {
                let read = |entry: &ShownUpdate| {
                    let update: Settled = serde_json::from_str(&entry.update).unwrap();
                    (update.first(), update.seq, update.effects.len())
                };
                Some((to.clone(), entries.iter().map(read).collect()))
            }
            _ => None,
        },
        _ => None,
    };
    outputs.iter().filter_map(run).collect()
}

#[test]
fn who_is_shown_nothing_of_casts_is_told_of_them_together_and_who_casts_at_once() {
    let mut story = Story::with(POLL, &found(1));
    for (connection, who) in [(1, "p"), (2, "pp"), (3, "ppp")] {
        story.enter(connection, who, "picker", None);
        story.write();
    }
    let cast = || Edit::new("/blend", "cast").with("choices", json!(["dry"]));
    for (connection, seq) in [(1, 1), (2, 2)] {
        story.now += 10;
        story.propose(connection, 1, 0, cast());
        let told = story.write();
        assert_eq!(
            runs(&told),
            [(To::These(vec![connection]), vec![(1, seq, 0)])],
            "theirs is taken in up to there, and nobody else hears"
        );
        assert_eq!(types(&told).iter().filter(|one| *one == "beside").count(), 1);
    }
    assert_eq!(story.machine.next_timeout(), Some(1_250));
    // What all are shown comes after what was not told yet.
    story.propose(3, 1, 0, Edit::new("/title", "set").with("value", "Blend"));
    let told = story.write();
    let [(To::Audience(_), all)] = &runs(&told)[..] else { panic!("{told:?}") };
    assert_eq!(all[..], [(1, 2, 0), (3, 3, 1)]);
    // Else it waits for its time.
    story.propose(3, 2, 0, cast());
    story.write();
    story.now = 1_250;
    let told = story.tell(Input::Timeout);
    assert_eq!(runs(&told).len(), 1, "{told:?}");
    assert_eq!(runs(&told)[0].1, [(4, 4, 0)]);
    let counted = story.write();
    assert_eq!(runs(&counted)[0].1[..1], [(5, 5, 4)], "three voters, and their number");
    // Replicas are compared 5 s after the first change, and are told of all of it before.
    story.now = 6_005;
    story.propose(1, 2, 0, Edit::new("/blend", "cast").with("choices", json!(["sweet"])));
    let told = story.write();
    assert_eq!(runs(&told), [(To::These(vec![1]), vec![(6, 6, 0)])]);
    story.now = 6_010;
    let told = [story.tell(Input::Timeout), story.write()].concat();
    let told = types(&told);
    let at = |what: &str| told.iter().position(|one| one == what);
    assert!(at("settled").is_some() && at("settled") < at("digest"), "{told:?}");
}

/// What each of many is shown of a cast costs them a part of a blank update, and an unsealing is written once.
#[test]
fn an_unsealing_is_encoded_once_for_an_audience_however_many_are_in_it() {
    let mut sizes = Vec::new();
    for voters in [2u64, 300] {
        let mut story = Story::with(POLL, &found(1));
        story.enter(1, "keziah", "steward", None);
        story.write();
        for voter in 0..voters {
            // Ids of different lengths, by which this test tells clients apart.
            let who = format!("p{}", "x".repeat(usize::try_from(voter).unwrap()));
            story.enter(10 + voter, &who, "picker", None);
            story.write();
        }
        for voter in 0..2 {
            let cast = Edit::new("/blend", "cast").with("choices", json!(["dry"]));
            story.propose(10 + voter, 1, 0, cast);
            let told = story.write();
            for update in shown(&told).iter().filter(|frame| frame["type"] == "settled") {
                assert_eq!(update["updates"][0]["effects"], json!([]), "{update}");
            }
        }
        story.propose(1, 1, 0, Edit::new("/blend", "unseal"));
        let told = story.write();
        let updates = |output: &&Output| matches!(output, Output::Show { shown, .. } if matches!(shown.get(), Content::Updates(_)));
        sizes.push(told.iter().filter(updates).count());
    }
    assert_eq!(sizes[0], sizes[1], "once for each audience");
    assert!(sizes[0] <= 2, "{sizes:?}");
}

const TABLE: &str = r#"
charter = "table"
version = 1
[roles.player]
edit = ["/**"]
[state.seats]
kind = "seats"
names = ["east", "west"]
[[guards]]
at = "/seats"
rule = "new.by.west == null"
says = "The west seat is not for now."
"#;

#[test]
fn nobody_is_told_of_a_seat_that_they_were_not_given() {
    let mut story = Story::with(TABLE, &found(1));
    let mut ask = |seat: Option<&str>| {
        let ask = Ask::Seat { who: "oda".into(), seat: seat.map(str::to_owned) };
        let told = story.tell(Input::Call { call: 7, ask });
        let answer = told.into_iter().chain(story.write()).find_map(|output| match output {
            Output::Answer { answer, .. } => Some(answer),
            _ => None,
        });
        match answer.unwrap() {
            Ok(Answer::Seat(seat)) => Ok(seat),
            other => Err(format!("{other:?}")),
        }
    };
    let refused = ask(Some("west")).unwrap_err();
    assert!(refused.contains("not for now"), "{refused}");
    assert_eq!(ask(None), Ok("east".to_owned()));
}

const HAND: &str = r#"
charter = "hand"
version = 1
[roles.player]
edit = ["/**"]
see = [
  "/**",
  { but = "/cards/*/face", unless = "record.holder == who.id" },
  { but = "/cards/*/note", unless = "record.holder == who.id" },
]
[state.cards]
kind = "map"
[state.cards.each.face]
kind = "register"
[state.cards.each.holder]
kind = "register"
[state.cards.each.note]
kind = "text"
[state.title]
kind = "register"
"#;

/// All that goes to connections other than the first, and when.
#[derive(Default)]
struct Overheard(Vec<(u64, String)>);

impl Overheard {
    fn note(&mut self, now: u64, outputs: &[Output]) {
        for output in outputs {
            let told = match output {
                Output::Show { to: To::One(1), .. } | Output::Append { .. } => continue,
                Output::Show { to: To::These(these), .. } if these[..] == [1] => continue,
                Output::Digest { .. } | Output::Keep(_) => continue,
                Output::Show { shown, .. } => serde_json::to_string(shown.get()).unwrap(),
                other => format!("{other:?}"),
            };
            self.0.push((now, told));
        }
    }

    /// What comes of a step, of what is written then, and of time, until nothing is due.
    fn play(&mut self, story: &mut Story, step: impl FnOnce(&mut Story) -> Vec<Output>) {
        let told = step(story);
        self.note(story.now, &told);
        let told = story.write();
        self.note(story.now, &told);
        while let Some(due) = story.machine.next_timeout().filter(|due| *due <= story.now + 600) {
            story.now = story.now.max(due);
            let told = story.tell(Input::Timeout);
            self.note(story.now, &told);
            let told = story.write();
            self.note(story.now, &told);
        }
        story.now += 7;
    }
}

/// What the others get while somebody's card, with a face and a note that they do not see, is put,
/// changed, written on and dropped, and while they edit there, look, come and come back.
fn overheard(face: &Value, note: &str) -> Vec<(u64, String)> {
    let (mut story, mut heard) = (Story::with(HAND, &found(1)), Overheard::default());
    let events = |connection, who: &str, patches| {
        let way = WayIn::Events { after: None, patches };
        let (who, name) = (actor(who, "player"), who.to_owned());
        let (presence, fields, token, seat) = (None, false, None, None);
        Input::Entered(Box::new(Entry {
            connection,
            who,
            name,
            way,
            presence,
            fields,
            token,
            seat,
        }))
    };
    heard.play(&mut story, |story| story.enter(1, "oda", "player", None));
    let arrived = heard.0.len();
    heard.play(&mut story, |story| story.enter(2, "bram", "player", None));
    let welcome = heard.0[arrived..].iter().find(|(_, told)| told.contains("audience"));
    let welcome: Value = serde_json::from_str(&welcome.unwrap().1).unwrap();
    let head: Value = serde_json::from_str(welcome["Welcome"]["head"].as_str().unwrap()).unwrap();
    let audience = usize::try_from(head["audience"].as_u64().unwrap()).unwrap();
    heard.play(&mut story, |story| story.tell(events(3, "bram", true)));
    heard.play(&mut story, |story| story.tell(events(4, "pippa", false)));
    let card = json!({ "face": face, "holder": "oda", "note": note });
    let put = Edit::new("/cards", "put").with("id", "c1").with("value", card);
    let title = |to: &str| Edit::new("/title", "set").with("value", to);
    let again = Edit::new("/cards/c1/face", "set").with("value", json!([face, face]));
    let write = Edit::new("/cards/c1/note", "splice").with("index", 0).with("insert", note);
    let clear = Edit::new("/cards/c1/face", "clear");
    for (n, edit) in (1..).zip([put, again, write, clear]) {
        heard.play(&mut story, |story| story.propose(1, n, 0, edit));
    }
    let guess = Edit::new("/cards/c1/face", "test").with("value", "plum");
    let over = Edit::new("/cards/c1/face", "set").with("value", "quince");
    let beyond = Edit::new("/cards/c1/note", "splice").with("index", 2).with("insert", "!");
    let move_in = Edit::new("/cards/c1/nothing", "set").with("value", 1);
    for (n, edit) in (1..).zip([guess, title("noon"), over, beyond, move_in, title("night")]) {
        heard.play(&mut story, |story| story.propose(2, n, 1, edit));
    }
    for path in ["/cards/c1", "/cards/c1/face", ""] {
        let path = (!path.is_empty()).then(|| rendel_core::Path::parse(path).unwrap());
        let ask = Ask::Read { reader: Reader::of(&actor("bram", "player")), path };
        heard.play(&mut story, |story| story.tell(Input::Call { call: 1, ask }));
    }
    heard.play(&mut story, |story| story.enter(5, "pippa", "player", None));
    let had = Some(Had { seen: 2, epoch: 1, audience });
    heard.play(&mut story, |story| story.enter(6, "bram", "player", had));
    let drop = Edit::new("/cards/c1", "drop");
    heard.play(&mut story, |story| story.propose(1, 5, 0, drop));
    heard.0
}

#[test]
fn what_and_when_others_are_told_does_not_depend_on_what_they_do_not_see() {
    let expected = overheard(&json!("plum"), "ripe");
    assert!(expected.len() > 20, "{expected:#?}");
    let faces = [
        json!(true),
        json!(0),
        json!(-1.5e300),
        json!(""),
        json!("p".repeat(5_000)),
        json!("\"\\\u{0}🍐\u{2028}"),
        json!([[], [[1, 2], null]]),
        json!({ "plum": { "pear": vec!["quince"; 200] } }),
    ];
    for (face, note) in faces.iter().zip(["x", "ripe", "🍐", "\n", "y"].iter().cycle()) {
        for note in [(*note).to_owned(), note.repeat(2_000)] {
            assert_eq!(overheard(face, &note), expected, "{face} and {} characters", note.len());
        }
    }
}

#[test]
fn an_undo_is_let_through_as_it_was_when_its_gate_was_asked_and_not_otherwise() {
    let gated = format!("{CHARTER}[[gates]]\nat = \"/title\"\nurl = \"http://127.0.0.1:1\"\n");
    let mut story = Story::with(&gated, &found(1));
    story.enter(1, "oda", "steward", None);
    story.enter(2, "bram", "steward", None);
    let asked = |outputs: &[Output]| {
        outputs.iter().find_map(|output| match output {
            Output::AskGate { client, asked, .. } => Some((*client, asked.clone())),
            _ => None,
        })
    };
    let accept =
        |story: &mut Story, (client, asked): (rendel_core::ClientKey, rendel_session::GateCall)| {
            story.tell(Input::GateAnswered {
                client,
                n: asked.n,
                verdict: rendel_session::GateVerdict::Accept,
            });
            story.write()
        };
    let set = |title: &str| Edit::new("/title", "set").with("value", title);
    let outputs = story.propose(1, 1, 0, set("one"));
    accept(&mut story, asked(&outputs).unwrap());
    // Asked is what it comes to.
    let outputs = story.propose(1, 2, 1, Edit::new("", "undo"));
    let first = asked(&outputs).unwrap();
    assert_eq!(first.1.edits, [Edit::new("/title", "clear")]);
    // Bram's passes meanwhile, so the undo would come to something else.
    let outputs = story.propose(2, 1, 1, set("two"));
    accept(&mut story, asked(&outputs).unwrap());
    let told = shown(&accept(&mut story, first));
    assert_eq!(told[0]["problem"]["type"], "urn:rendel:problem:stale", "{told:?}");
    let outputs = story.propose(2, 2, 2, Edit::new("", "undo"));
    let told = shown(&accept(&mut story, asked(&outputs).unwrap()));
    assert_eq!(told[0]["updates"][0]["effects"][0]["value"], "one");
}
