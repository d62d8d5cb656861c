//! Time and the session's own rules: deadlines, clocks, the time of a turn, and `[[when]]`.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::Arc;

use rendel_core::{
    Actor, Charter, Edit, Outcome, Passage, Problem, ProblemKind, Proposal, Sequencer, Settled,
    Way, Whose,
};
use serde_json::{Value, json};
use uuid::Uuid;

const BARREL: &str = r#"
charter = "last-barrel"
version = 1
[limits]
state = "2KiB"
[roles.bidder]
edit = ["/offers/**"]
[roles.steward]
edit = ["/**"]
[state.status]
kind    = "register"
initial = "open"
[state.leading]
kind = "register"
[state.winner]
kind = "register"
[state.offers]
kind = "map"
[state.offers.each.amount]
kind = "register"
[state.offers.each.bidder]
kind = "register"
filled = "author"
[state.made]
kind = "total"
from = "/offers"
count = true
[state.closing]
kind   = "deadline"
in     = "10m"
extend = { by = "10s", within = "10s", when = "/offers" }
[[when]]
name    = "lead"
changes = "/offers/*"
if      = "old == null"
do      = [{ at = "/leading", op = "set", from = { value = { amount = "new.amount", bidder = "new.bidder" } } }]
[[when]]
name     = "sell"
fires    = "/closing"
if       = "state.leading != null"
do       = [{ at = "/status", op = "set", value = "sold" }, { at = "/winner", op = "set", from = "state.leading.bidder" }]
announce = "barrel.sold"
values   = { winner = "state.winner", amount = "state.leading.amount", offers = "state.made", by = "who", at = "now" }
[[guards]]
at   = "/leading"
rule = "old == null || new.amount >= old.amount + 5"
says = "Beat the leading offer by 5."
[[guards]]
at   = "/offers/*"
rule = "state.status == \"open\""
says = "The barrel is sold."
[announcements]
built-in = ["deadline.fired", "rule.failed"]
"#;

const OPENED: u64 = 1_000_000;
const CLOSES: u64 = OPENED + 600_000;

fn opened(source: &str) -> Sequencer {
    let charter = Charter::parse(source).unwrap_or_else(|faults| panic!("{faults:#?}"));
    Sequencer::open(Arc::new(charter), None).unwrap().with_opened(OPENED)
}

fn actor(who: &str) -> Actor {
    let role = match who {
        "keziah" => "steward",
        _ => "bidder",
    };
    Actor::new(who, role, Uuid::from_u128(1))
}

fn act(session: &mut Sequencer, who: &str, now: u64, text: &str) -> Result<Settled, Problem> {
    let edit: Edit = serde_json::from_str(&format!("{{{text}}}")).unwrap();
    let before = session.plain();
    match session.handle_proposal(&actor(who), &Proposal::new(0, None, vec![edit]), now) {
        Outcome::Settled(update) => Ok(update),
        Outcome::Refused(problem) => {
            assert_eq!(session.plain(), before, "a refusal changes nothing");
            Err(problem)
        }
        Outcome::Repeated(_) => panic!("it has no number"),
    }
}

/// What the session does by itself up to a time.
fn until(session: &mut Sequencer, now: u64) -> Vec<Settled> {
    let mut updates = Vec::new();
    while session.poll_timeout().is_some_and(|due| due <= now) {
        match session.handle_timeout(now) {
            Some(Outcome::Settled(update)) => updates.push(update),
            Some(Outcome::Refused(problem)) => panic!("{problem}"),
            _ => break,
        }
        assert!(updates.len() < 100, "it goes on for ever");
    }
    updates
}

fn offer(id: &str, amount: u64) -> String {
    format!(r#""at":"/offers","op":"put","id":"{id}","value":{{"amount":{amount}}}"#)
}

fn at(session: &Sequencer, path: &str) -> Value {
    session.plain().pointer(path).cloned().unwrap_or_default()
}

fn kinds(update: &Settled) -> Vec<&str> {
    update.announced.iter().map(|announced| announced.kind.as_str()).collect()
}

#[test]
fn a_barrel_is_sold_once_to_who_led_when_its_time_had_come() {
    let mut session = opened(BARREL);
    until(&mut session, OPENED + 5_000);
    assert_eq!(at(&session, "/closing"), json!({ "due": CLOSES, "fired": null }));
    let first = act(&mut session, "oda", OPENED + 10_000, &offer("a", 40)).unwrap();
    assert_eq!(at(&session, "/leading"), json!({ "amount": 40, "bidder": "oda" }));
    assert_eq!(first.rules.len(), 1);
    assert_eq!(
        (first.rules[0].rule.as_str(), first.rules[0].first, first.rules[0].count),
        ("lead", 1, 1)
    );
    let low = act(&mut session, "bram", OPENED + 11_000, &offer("b", 44)).unwrap_err();
    assert_eq!((low.kind(), low.detail()), (ProblemKind::Guard, "Beat the leading offer by 5."));
    assert_eq!(session.poll_timeout(), Some(CLOSES));
    // Long before the end an offer moves nothing; shortly before, it pushes the end back.
    assert!(until(&mut session, CLOSES - 1).is_empty());
    act(&mut session, "bram", CLOSES - 10_000, &offer("b", 45)).unwrap();
    assert_eq!(session.poll_timeout(), Some(CLOSES + 10_000));
    act(&mut session, "oda", CLOSES - 9_999, &offer("c", 50)).unwrap();
    assert_eq!(session.poll_timeout(), Some(CLOSES + 10_000), "there is more time than that left");
    let closed = until(&mut session, CLOSES + 12_345);
    assert_eq!(closed.len(), 1);
    assert_eq!(kinds(&closed[0]), ["deadline.fired", "barrel.sold"]);
    assert_eq!(
        json!(closed[0].announced[1].values),
        json!({ "winner": "oda", "amount": 50, "offers": 3, "by": null, "at": CLOSES + 12_345 })
    );
    let end = json!({ "due": CLOSES + 10_000, "fired": CLOSES + 12_345 });
    assert_eq!(at(&session, "/closing"), end);
    assert_eq!((at(&session, "/status"), at(&session, "/winner")), (json!("sold"), json!("oda")));
    let late = act(&mut session, "bram", CLOSES + 12_345, &offer("d", 99)).unwrap_err();
    assert_eq!((late.kind(), late.detail()), (ProblemKind::Guard, "The barrel is sold."));
    assert!(until(&mut session, u64::MAX >> 12).is_empty(), "it fires once");
    for text in [r#""at":"/closing","op":"extend","by":"5s""#, r#""at":"/closing","op":"cancel""#] {
        assert_eq!(
            act(&mut session, "keziah", CLOSES + 20_000, text).unwrap_err().kind(),
            ProblemKind::Gone
        );
    }
    // Set anew it fires anew.
    act(&mut session, "keziah", CLOSES + 20_000, r#""at":"/closing","op":"set","in":"1m""#)
        .unwrap();
    assert_eq!(session.poll_timeout(), Some(CLOSES + 80_000));
    act(&mut session, "keziah", CLOSES + 20_000, r#""at":"/closing","op":"cancel""#).unwrap();
    assert_eq!(session.poll_timeout(), None);
}

#[test]
fn a_deadline_takes_times_that_are_still_to_come_and_nothing_else() {
    let mut session = opened(BARREL);
    until(&mut session, OPENED);
    let now = OPENED + 1_000;
    for (members, kind) in [
        (r#""op":"set","value":5"#, ProblemKind::UnknownOp),
        (r#""op":"set","in":99"#, ProblemKind::OutOfBounds),
        (r#""op":"set","in":-1"#, ProblemKind::OutOfBounds),
        (r#""op":"set","in":"soon""#, ProblemKind::WrongType),
        (r#""op":"set","due":1000000"#, ProblemKind::OutOfBounds),
        (r#""op":"set","due":5,"in":5"#, ProblemKind::Malformed),
        (r#""op":"set","due":9007199254740991"#, ProblemKind::OutOfBounds),
        (r#""op":"extend","by":-5"#, ProblemKind::OutOfBounds),
        (r#""op":"fire""#, ProblemKind::UnknownOp),
        (r#""op":"begin","from":5"#, ProblemKind::UnknownOp),
        (r#""op":"add","by":5"#, ProblemKind::UnknownOp),
    ] {
        let text = format!(r#""at":"/closing",{members}"#);
        let problem = act(&mut session, "keziah", now, &text).unwrap_err();
        assert_eq!(problem.kind(), kind, "{members}: {problem}");
    }
    let not = act(&mut session, "oda", now, r#""at":"/closing","op":"cancel""#).unwrap_err();
    assert_eq!(not.kind(), ProblemKind::NotAllowed);
}

#[test]
fn nobody_blocks_a_close_by_filling_the_state() {
    let mut session = opened(BARREL);
    until(&mut session, OPENED);
    let mut amount = 10;
    let full = loop {
        amount += 5;
        let id = format!("{:a<100}", amount);
        if let Err(problem) = act(&mut session, "oda", OPENED + 1_000, &offer(&id, amount)) {
            break problem;
        }
    };
    assert_eq!(full.kind(), ProblemKind::TooLarge);
    let closed = until(&mut session, CLOSES);
    assert_eq!(kinds(&closed[0]), ["deadline.fired", "barrel.sold"]);
    assert_eq!(at(&session, "/winner"), "oda");
}

/// Bounds of rules, and what sets them off, at a board where each change of a crate is copied twice.
const COPIES: &str = r#"
charter = "copies"
version = 1
[limits]
state = "8KiB"
[roles.bidder]
edit = ["/**"]
[state.note]
kind = "register"
[state.copy]
kind = "register"
[state.times]
kind = "counter"
[state.spots]
kind = "map"
[state.spots.each.at]
kind = "register"
[state.late]
kind = "deadline"
in = "20s"
[state.soon]
kind = "deadline"
in = "10s"
[[when]]
name = "copy"
changes = "/note"
do = [{ at = "/copy", op = "set", from = "state.note" }]
[[when]]
name = "once"
changes = "/spots/*/at"
do = [{ at = "/times", op = "add", by = 1 }]
[[when]]
name = "twice"
changes = "/spots/*/at"
do = [{ at = "/times", op = "add", by = 1 }]
"#;

#[test]
fn rules_have_space_of_their_own_and_run_only_if_a_value_differs() {
    let mut session = opened(COPIES);
    // What they copy is beyond the limit, of which half is taken.
    let note = "x".repeat(5_000);
    let set = |at: &str, value: &str| format!(r#""at":"{at}","op":"set","value":"{value}""#);
    let update = act(&mut session, "oda", OPENED, &set("/note", &note)).unwrap();
    assert_eq!(update.rules.len(), 1);
    assert_eq!(at(&session, "/copy"), note);
    let again = act(&mut session, "oda", OPENED, &set("/note", &note)).unwrap();
    assert!(again.rules.is_empty(), "the same is no change");
    act(&mut session, "oda", OPENED, &set("/note", "")).unwrap();

    // A record that comes brings its fields, so both rules about them run.
    let put = r#""at":"/spots","op":"put","id":"a","value":{}"#;
    assert_eq!(act(&mut session, "oda", OPENED, put).unwrap().rules.len(), 2);
}

#[test]
fn a_proposal_that_takes_too_many_steps_is_refused_and_changes_nothing() {
    let rules = (0..40).map(|n| {
        format!(
            "[[when]]\nname = \"r{n}\"\nchanges = \"/spots/*/at\"\n\
             do = [{{ at = \"/times\", op = \"add\", by = 1 }}]\n"
        )
    });
    let mut session = opened(&(COPIES.to_owned() + &rules.collect::<String>()));
    let mut propose = |count: usize| {
        let put = |id: usize| {
            Edit::new("/spots", "put").with("id", id.to_string()).with("value", json!({}))
        };
        let proposal = Proposal::new(0, None, (0..count).map(put).collect());
        session.handle_proposal(&actor("oda"), &proposal, OPENED)
    };
    let Outcome::Refused(problem) = propose(100) else { panic!("4,200 rules ran") };
    let cause = problem.member("cause");
    assert_eq!((problem.kind(), cause), (ProblemKind::Rule, Some(&json!("too-large"))));
    let Outcome::Settled(update) = propose(10) else { panic!("420 rules did not run") };
    assert_eq!((update.seq, update.rules.len()), (1, 420));
}

#[test]
fn what_was_due_first_fires_first_however_late_that_is_noticed() {
    let mut session = opened(COPIES);
    let fired = until(&mut session, OPENED + 60_000);
    // The first sets both from the opening on.
    let paths: Vec<_> = fired[1..].iter().map(|update| update.effects[0].at.to_string()).collect();
    assert_eq!(paths, ["/soon", "/late"]);
}

#[test]
fn a_rule_that_fails_refuses_what_somebody_does_and_not_what_the_time_does() {
    let source = BARREL
        .replace("from = \"state.leading.bidder\"", "from = \"state.leading.buyer\"")
        .replace("[[when]]\nname    = \"lead\"", "[[when]]\nname = \"count\"\nfires = \"/closing\"\ndo = [{ at = \"/offers\", op = \"put\", id = \"last\", value = { amount = 1 } }]\n[[when]]\nname    = \"lead\"");
    let mut session = opened(&source);
    until(&mut session, OPENED);
    act(&mut session, "oda", OPENED + 1, &offer("a", 40)).unwrap();
    let closed = &until(&mut session, CLOSES)[0];
    // The one rule failed as a whole, and with it its announcement; what the other led to, failed too.
    let failed: Vec<_> =
        closed.rules.iter().map(|mark| (mark.rule.as_str(), mark.failed.is_some())).collect();
    assert_eq!(failed, [("count", false), ("sell", true), ("lead", true)]);
    assert_eq!(at(&session, "/status"), "open");
    assert_eq!(at(&session, "/offers/last/amount"), 1);
    assert_eq!(at(&session, "/leading/amount"), 40, "a guard is kept by what rules do, too");
    assert_eq!(kinds(closed), ["deadline.fired", "rule.failed", "rule.failed"]);
    let faults = session.poll_unanswered();
    assert_eq!(faults.len(), 1);
    assert!(faults[0].1.to_string().contains("buyer"), "{}", faults[0].1);

    let source = BARREL.replace("bidder = \"new.bidder\"", "bidder = \"who.claims.stall\"");
    let mut session = opened(&source);
    let problem = act(&mut session, "oda", OPENED, &offer("a", 40)).unwrap_err();
    assert_eq!(problem.kind(), ProblemKind::Rule);
    assert_eq!(problem.member("rule"), Some(&json!("lead")));
}

#[test]
fn what_was_settled_with_rules_in_it_is_the_same_again_from_its_journal() {
    let source = r#"
charter = "notes"
version = 1
[state.lines]
kind = "list"
[state.lines.each.text]
kind = "text"
[state.count]
kind = "counter"
[[when]]
changes = "/count"
do = [{ at = "/lines", op = "insert", value = { text = "counted" }, after = "" }]
"#
    .replace(", after = \"\"", "");
    let mut session = opened(&source);
    let mut journal = Vec::new();
    let person = |who: &str| Actor::new(who, "participant", Uuid::from_u128(1));
    for n in 1..=20u64 {
        for who in ["oda", "bram"] {
            let edits = vec![
                Edit::new("/count", "add").with("by", 1),
                Edit::new("/lines", "insert")
                    .with("value", json!({ "text": who }))
                    .with("after", Value::Null),
            ];
            // Made before the rule's own line of the last update was seen.
            let mut proposal = Proposal::new(n, Some(session.seq().saturating_sub(2)), edits);
            proposal.answered = n - 1;
            match session.handle_proposal(&person(who), &proposal, OPENED + n) {
                Outcome::Settled(update) => journal.push(update),
                other => panic!("{other:?}"),
            }
        }
    }
    let mut again = opened(&source);
    for update in &journal {
        let read: Settled = serde_json::from_value(serde_json::to_value(update).unwrap()).unwrap();
        again.replay(&read).unwrap();
    }
    assert_eq!(again.plain(), session.plain());
    let state =
        |session: &Sequencer| serde_json::to_value(session.snapshot().into_state()).unwrap();
    assert!(state(&again) == state(&session), "with all that is remembered");
    assert_eq!(at(&session, "/lines").as_array().unwrap().len(), 80);
}

fn passage(who: &str, way: Way, of: Whose) -> (Actor, Passage) {
    let actor =
        Actor::new(who, if who == "wren" { "viewer" } else { "picker" }, Uuid::from_u128(1));
    let passage = Passage { who: who.to_owned(), role: actor.role.clone(), way, of };
    (actor, passage)
}

fn pass(session: &mut Sequencer, who: &str, way: Way, of: Whose) -> Settled {
    let (actor, passage) = passage(who, way, of);
    match session.handle_passage(&actor, &passage, OPENED) {
        Outcome::Settled(update) => update,
        other => panic!("{other:?}"),
    }
}

#[test]
fn arrivals_and_departures_set_rules_off_and_a_ballot_is_full_when_all_who_are_here_have_cast() {
    let source = r#"
charter = "headcount"
version = 1
[roles.picker]
edit = ["/blend"]
[roles.viewer]
edit = []
[state.heads]
kind = "counter"
[state.lines]
kind = "counter"
[state.here]
kind = "map"
[state.here.each.role]
kind = "register"
[state.done]
kind = "register"
[state.blend]
kind = "ballot"
choices = ["dry", "mellow"]
sealed = true
roles = ["picker"]
[[when]]
enters = "first"
do = [{ at = "/heads", op = "add", by = 1 }, { at = "/here", op = "put", from = { id = "who.id", value = { role = "who.role" } } }]
[[when]]
enters = "each"
do = [{ at = "/lines", op = "add", by = 1 }]
[[when]]
leaves = "last"
do = [{ at = "/here/{who.id}", op = "drop" }]
[[when]]
all-cast = "/blend"
do = [{ at = "/blend", op = "unseal" }, { at = "/done", op = "set", from = "now" }]
[announcements]
built-in = ["participant.joined", "participant.left", "ballot.unsealed"]
"#;
    let mut session = opened(source);
    let came = pass(&mut session, "oda", Way::In, Whose::Participant);
    assert_eq!(kinds(&came), ["participant.joined"]);
    pass(&mut session, "oda", Way::In, Whose::Connection);
    pass(&mut session, "oda", Way::In, Whose::Connection);
    for who in ["bram", "ishaan", "wren"] {
        pass(&mut session, who, Way::In, Whose::Participant);
    }
    assert_eq!((at(&session, "/heads"), at(&session, "/lines")), (json!(4), json!(2)));
    assert_eq!(at(&session, "/here/wren/role"), "viewer");
    let cast = |session: &mut Sequencer, who: &str| {
        let edit = Edit::new("/blend", "cast").with("choices", json!(["dry"]));
        let picker = Actor::new(who, "picker", Uuid::from_u128(1));
        match session.handle_proposal(&picker, &Proposal::new(0, None, vec![edit]), OPENED) {
            Outcome::Settled(update) => update,
            other => panic!("{other:?}"),
        }
    };
    cast(&mut session, "oda");
    cast(&mut session, "bram");
    assert_eq!(at(&session, "/done"), Value::Null);
    // The one who is missing goes, and all who are left have cast.
    let gone = pass(&mut session, "ishaan", Way::Out, Whose::Participant);
    assert_eq!(at(&session, "/blend/open"), true);
    assert_eq!(at(&session, "/done"), OPENED);
    assert_eq!(kinds(&gone), ["participant.left", "ballot.unsealed"]);
    assert_eq!(at(&session, "/here").as_object().unwrap().len(), 3);
    // Who is here comes back with a snapshot, and is nobody's to see.
    let snapshot =
        serde_json::from_value(serde_json::to_value(session.snapshot()).unwrap()).unwrap();
    let back = Sequencer::restore(session.charter().clone(), snapshot);
    assert_eq!(back.here().map(|(who, _)| who).collect::<Vec<_>>(), ["bram", "oda", "wren"]);
    let told = session.charter().sight("picker").update(&session.charter().fields, &gone);
    assert_eq!(told.passage, None);
}

#[test]
fn a_turn_that_takes_too_long_passes_or_is_left_to_a_rule() {
    let source = |late: &str, rule: &str| {
        format!(
            "charter = \"windfall\"\nversion = 1\n[roles.player]\nedit = [\"/seats\", \"/turn\"]\n\
            [state.seats]\nkind = \"seats\"\nnames = [\"east\", \"west\"]\nneeded = 2\n\
            [state.turn]\nkind = \"turn\"\nseats = \"/seats\"\ntime = \"30s\"\nlate = \"{late}\"\n\
            [state.lost]\nkind = \"register\"\n[state.called]\nkind = \"register\"\n{rule}"
        )
    };
    let seated = |session: &mut Sequencer| {
        for (who, seat) in [("oda", "east"), ("bram", "west")] {
            let player = Actor::new(who, "player", Uuid::from_u128(1));
            let sit = Edit::new("/seats", "sit").with("seat", seat);
            let sat = session.handle_proposal(&player, &Proposal::new(0, None, vec![sit]), OPENED);
            assert!(matches!(sat, Outcome::Settled(_)));
        }
    };
    let mut session = opened(&source(
        "pass",
        "[[when]]\nseated = true\ndo = [{ at = \"/called\", op = \"set\", value = \"go\" }]",
    ));
    assert_eq!(session.poll_timeout(), None, "nobody has the turn");
    seated(&mut session);
    assert_eq!(at(&session, "/called"), "go");
    assert_eq!(session.poll_timeout(), Some(OPENED + 30_000));
    assert_eq!(until(&mut session, OPENED + 30_000).len(), 1);
    assert_eq!(
        (at(&session, "/turn/seat"), at(&session, "/turn/number")),
        (json!("west"), json!(2))
    );
    assert_eq!(session.poll_timeout(), Some(OPENED + 60_000));
    let bram = Actor::new("bram", "player", Uuid::from_u128(1));
    let advance = Proposal::new(0, None, vec![Edit::new("/turn", "advance")]);
    session.handle_proposal(&bram, &advance, OPENED + 40_000);
    assert_eq!(session.poll_timeout(), Some(OPENED + 70_000), "each turn has its whole time");
    // A session that was away for long lets one turn pass, from when it is back.
    assert_eq!(until(&mut session, OPENED + 900_000).len(), 1);
    assert_eq!(session.poll_timeout(), Some(OPENED + 930_000));

    let rule = "[[when]]\nfires = \"/turn\"\ndo = [{ at = \"/lost\", op = \"set\", from = \"state.turn.seat\" }]";
    let mut session = opened(&source("rule", rule));
    seated(&mut session);
    until(&mut session, OPENED + 30_000);
    assert_eq!((at(&session, "/lost"), at(&session, "/turn/late")), (json!("east"), json!(true)));
    assert_eq!(session.poll_timeout(), None, "until somebody advances it");
}

#[test]
fn rules_that_set_each_other_off_are_a_fault_that_shows_the_circle() {
    let base = "charter = \"c\"\nversion = 1\n[state.a]\nkind = \"register\"\n[state.b]\nkind = \"register\"\n\
        [state.m]\nkind = \"map\"\n[state.m.each.n]\nkind = \"counter\"\n[state.sum]\nkind = \"total\"\nfrom = \"/m\"\nsum = \"n\"\n\
        [state.end]\nkind = \"deadline\"\nextend = { by = \"1s\", within = \"1s\", when = \"/a\" }\n";
    let rule = |cause: &str, at: &str, op: &str| {
        format!("[[when]]\nchanges = \"{cause}\"\ndo = [{{ at = \"{at}\", {op} }}]\n")
    };
    let set = "op = \"set\", value = 1";
    let fault = |rules: &[String]| {
        let faults = Charter::parse(&(base.to_owned() + &rules.concat())).err();
        faults.map(|faults| {
            faults.iter().map(|fault| fault.says.clone()).collect::<Vec<_>>().join("; ")
        })
    };
    let circle = fault(&[rule("/a", "/b", set), rule("/b", "/a", set)]).unwrap();
    assert!(circle.contains("\"changes /a\" → \"changes /b\" → \"changes /a\""), "{circle}");
    let own = fault(&[rule("/a", "/a", set)]).unwrap();
    assert!(own.contains("\"changes /a\" → \"changes /a\""), "{own}");
    assert!(fault(&[rule("/sum", "/m/{id}/n", "op = \"add\", by = 1")]).is_some(), "over a total");
    assert!(fault(&[rule("/end", "/a", set)]).is_some(), "over what pushes a deadline back");
    assert!(
        fault(&[rule("/m/*/n", "/m", "op = \"put\", id = \"x\", value = {}")]).is_some(),
        "a record that comes"
    );
    assert_eq!(fault(&[rule("/a", "/b", set), rule("/b", "/m/x/n", "op = \"add\", by = 1")]), None);
    assert_eq!(fault(&[rule("/m/*/n", "/a", set), rule("/sum", "/b", set)]), None);
}

#[test]
fn what_a_charter_says_of_rules_is_checked_with_what_was_meant() {
    let base = BARREL.split("[[when]]").next().unwrap();
    for (rule, path, meant) in [
        ("fires = \"/closng\"\nannounce = \"a.b\"", "when[0].fires", Some("/closing")),
        ("fires = \"/leading\"\nannounce = \"a.b\"", "when[0].fires", None),
        ("changes = \"/offer/*\"\nannounce = \"a.b\"", "when[0].changes", Some("/offers/*")),
        ("enters = \"last\"\nannounce = \"a.b\"", "when[0].enters", None),
        ("seated = true\nannounce = \"a.b\"", "when[0].seated", None),
        ("fires = \"/closing\"", "when[0].do", None),
        (
            "fires = \"/closing\"\nchanges = \"/status\"\nannounce = \"a.b\"",
            "when[0].changes",
            None,
        ),
        ("fires = \"/closing\"\nannounce = \"sold\"", "when[0].announce", None),
        ("fires = \"/closing\"\nannounce = \"session.opened\"", "when[0].announce", None),
        (
            "fires = \"/closing\"\nif = \"state.leding != null\"\nannounce = \"a.b\"",
            "when[0].if",
            Some("leading"),
        ),
        ("fires = \"/closing\"\nif = \"new != null\"\nannounce = \"a.b\"", "when[0].if", None),
        (
            "fires = \"/closing\"\ndo = [{ at = \"/statu\", op = \"set\", value = 1 }]",
            "when[0].do[0].at",
            Some("/status"),
        ),
        (
            "fires = \"/closing\"\ndo = [{ at = \"/status\", op = \"sett\", value = 1 }]",
            "when[0].do[0].op",
            Some("set"),
        ),
        (
            "fires = \"/closing\"\ndo = [{ at = \"/status\", op = \"set\" }]",
            "when[0].do[0].op",
            None,
        ),
        (
            "fires = \"/closing\"\ndo = [{ at = \"/made\", op = \"set\", value = 1 }]",
            "when[0].do[0].op",
            None,
        ),
        (
            "fires = \"/closing\"\ndo = [{ at = \"/status\", op = \"set\", value = 1, from = \"now\" }]",
            "when[0].do[0].value",
            None,
        ),
        (
            "fires = \"/closing\"\ndo = [{ at = \"/offers/{nobody}\", op = \"drop\" }]",
            "when[0].do[0].at",
            None,
        ),
        ("fires = \"/closing\"\nwhen = 5\nannounce = \"a.b\"", "when[0].when", None),
    ] {
        let faults = Charter::parse(&format!("{base}[[when]]\n{rule}\n")).unwrap_err();
        let found = faults.iter().find(|fault| fault.path == path);
        let found = found.unwrap_or_else(|| panic!("{rule}: {faults:#?}"));
        assert_eq!(found.did_you_mean.as_deref(), meant, "{rule}: {found:?}");
    }
}

#[test]
fn an_edit_that_would_be_refused_at_every_use_is_a_fault() {
    let base = "charter = \"c\"\nversion = 1\n[state.status]\nkind = \"register\"\n\
        schema = { type = \"string\" }\n[state.count]\nkind = \"counter\"\n[state.rows]\n\
        kind = \"map\"\n[state.rows.each.n]\nkind = \"counter\"\n[[when]]\nchanges = \"/rows/*/n\"\n";
    let faults = |edit: &str| match Charter::parse(&format!("{base}do = [{{ {edit} }}]\n")) {
        Ok(_) => Vec::new(),
        Err(faults) => faults.into_iter().map(|fault| fault.path).collect(),
    };
    for (edit, path) in [
        (r#"at = "/status", op = "set", from = "new > 3""#, "when[0].do[0].op"),
        (r#"at = "/status", op = "set", from = "new - old""#, "when[0].do[0].op"),
        (r#"at = "/count", op = "add", from = "new > 3""#, "when[0].do[0].op"),
        (r#"at = "/count", op = "add", from = { by = "1", hue = "2" }"#, "when[0].do[0].op"),
        (r#"at = "/rows/*", op = "drop""#, "when[0].do[0].at"),
    ] {
        assert_eq!(faults(edit), [path], "{edit}");
    }
    for edit in [
        r#"at = "/status", op = "set", from = "state.status""#,
        r#"at = "/status", op = "set", from = "new > 3 ? 'many' : 'few'""#,
        r#"at = "/count", op = "add", from = "new - old""#,
    ] {
        assert_eq!(faults(edit), Vec::<String>::new(), "{edit}");
    }
}
