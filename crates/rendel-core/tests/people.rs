//! Who may edit, who sees, and which rules changes keep: told as stories over a charter.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::Arc;

use rendel_core::{
    Actor, Charter, Document, Edit, Effect, Outcome, Permission, Problem, Proposal, Sequencer,
    Sight,
};
use serde_json::{Value, json};
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "last-barrel"
version = 1

[roles.steward]
edit   = ["/**"]
powers = ["freeze", "remove"]
[roles.bidder]
edit = [
  "/offers",
  { at = "/offers/*/note", if = "record.by == who.id" },
  { at = "/offers/*", if = "record.by == who.id && state.status == 'open'" },
  "/box",
]
see = ["/**", { but = "/offers/*/limit" }, { but = "/ledger" }, { but = "/box" }]

[state.status]
kind = "register"
initial = "open"
[state.ledger]
kind = "map"
[state.ledger.each.sum]
kind = "counter"
max = 10
[state.box]
kind = "register"
merge = "unchanged"
[state.offers]
kind = "map"
[state.offers.each.amount]
kind = "register"
[state.offers.each.limit]
kind = "register"
[state.offers.each.note]
kind = "register"
[state.offers.each.by]
kind = "register"
filled = "author"
[state.offers.each.entry]
kind = "register"
refers = { to = "/ledger" }

[[guards]]
at   = "/offers/*"
rule = "new == null || (new.amount >= 5 && (old == null || new.amount >= old.amount))"
says = "An offer is at least 5, and is never lowered."
[[guards]]
at   = "/status"
rule = "who.role == 'steward' && new.length > 3"
says = "Only a steward closes."
"#;

struct Story(Sequencer, u64);

impl Story {
    fn new() -> Self {
        Self(Sequencer::open(Arc::new(Charter::parse(CHARTER).unwrap()), None).unwrap(), 0)
    }

    fn propose(&mut self, who: &str, role: &str, edits: Vec<Edit>) -> Result<Vec<Effect>, Problem> {
        self.propose_seen(who, role, edits, None)
    }

    fn propose_seen(
        &mut self,
        who: &str,
        role: &str,
        edits: Vec<Edit>,
        seen: Option<u64>,
    ) -> Result<Vec<Effect>, Problem> {
        self.1 += 1;
        let actor = Actor::new(who, role, Uuid::from_u128(u128::from(self.1)));
        let proposal = Proposal::new(1, seen, edits);
        match self.0.handle_proposal(&actor, &proposal, 0) {
            Outcome::Settled(update) => Ok(update.effects.into_vec()),
            Outcome::Refused(problem) => Err(problem),
            Outcome::Repeated(_) => unreachable!("every client proposes once"),
        }
    }

    fn kind(&mut self, who: &str, role: &str, edit: Edit) -> &'static str {
        match self.propose(who, role, vec![edit]) {
            Ok(_) => "settled",
            Err(problem) => problem.kind().name(),
        }
    }
}

fn put(id: &str, value: Value) -> Edit {
    Edit::new("/offers", "put").with("id", id).with("value", value)
}

fn set(at: &str, value: impl Into<Value>) -> Edit {
    Edit::new(at, "set").with("value", value)
}

#[test]
fn who_made_a_record_is_filled_in_and_cannot_be_claimed() {
    let mut story = Story::new();
    let effects = story.propose("oda", "bidder", vec![put("o1", json!({ "amount": 5 }))]).unwrap();
    assert_eq!(effects[0].op.makes().unwrap().1["by"], "oda");
    assert_eq!(
        story.kind("oda", "bidder", put("o2", json!({ "amount": 5, "by": "bram" }))),
        "not-allowed"
    );
    assert_eq!(story.kind("oda", "bidder", set("/offers/o1/by", "bram")), "not-allowed");
    assert_eq!(
        story.kind("wren", "steward", set("/offers/o1/by", "wren")),
        "not-allowed",
        "nor by who may edit all"
    );
    assert_eq!(story.kind("oda", "bidder", Edit::new("/offers/o1/by", "clear")), "not-allowed");
    assert_eq!(
        story.kind("service", "service", put("o3", json!({ "amount": 5, "by": "bram" }))),
        "settled"
    );
    assert_eq!(
        story.0.plain()["offers"]["o3"]["by"],
        "bram",
        "the backend may bring in what another did"
    );
}

#[test]
fn what_the_service_fills_in_is_there_for_conditions_and_tests() {
    let charter = "charter = \"wishes\"\nversion = 1\n[roles.picker]\n\
        edit = [{ at = \"/wishes/*\", if = \"record.by == who.id\" }, { at = \"/wishes/*/text\", if = \"record.by == who.id\" }]\n\
        [state.wishes]\nkind = \"map\"\n[state.wishes.each.text]\nkind = \"register\"\n\
        [state.wishes.each.by]\nkind = \"register\"\nfilled = \"author\"\n\
        [state.wishes.each.lines]\nkind = \"list\"\n[state.wishes.each.lines.each.by]\nkind = \"register\"\nfilled = \"author\"\n";
    let mut story =
        Story(Sequencer::open(Arc::new(Charter::parse(charter).unwrap()), None).unwrap(), 0);
    let put =
        |id: &str, value: Value| Edit::new("/wishes", "put").with("id", id).with("value", value);
    assert_eq!(
        story.kind("oda", "picker", put("w1", json!({ "text": "perry" }))),
        "settled",
        "`by` is left out"
    );
    assert_eq!(story.0.plain()["wishes"]["w1"]["by"], "oda");
    assert_eq!(story.kind("bram", "picker", set("/wishes/w1/text", "mead")), "not-allowed");
    // Inside a list of the record, too.
    let line = |by: &str| json!({ "lines": [{ "id": "a", "value": { "by": by } }] });
    assert_eq!(story.kind("oda", "picker", put("w2", line("bram"))), "not-allowed");
    let left_out = json!({ "lines": [{ "id": "a", "value": {} }] });
    assert_eq!(story.kind("oda", "picker", put("w3", left_out)), "settled");
    assert_eq!(story.0.plain()["wishes"]["w3"]["lines"][0]["value"]["by"], "oda");
    let tested = vec![
        Edit::new("/wishes/w1/by", "test").with("value", "oda"),
        set("/wishes/w1/text", "cider"),
    ];
    assert!(story.propose("oda", "picker", tested).is_ok());
}

#[test]
fn a_guard_of_a_field_is_asked_however_its_record_comes_and_goes() {
    let charter = "charter = \"sheet\"\nversion = 1\n[state.rows]\nkind = \"map\"\n[state.rows.each.brix]\nkind = \"counter\"\n\
        [state.rows.each.label]\nkind = \"register\"\n[state.steps]\nkind = \"list\"\n[state.steps.each.brix]\nkind = \"counter\"\n\
        [[guards]]\nat = \"/rows/*/brix\"\nrule = \"new != null && (old == null || new >= old)\"\nsays = \"Never lower.\"\n\
        [[guards]]\nat = \"/steps/*/brix\"\nrule = \"new < 20 && record.brix == new\"\nsays = \"Below 20.\"\n";
    let mut story =
        Story(Sequencer::open(Arc::new(Charter::parse(charter).unwrap()), None).unwrap(), 0);
    let put = |brix: i64| {
        Edit::new("/rows", "put").with("id", "r").with("value", json!({ "brix": brix }))
    };
    let drop = || Edit::new("/rows/r", "drop");
    let add = |at: &str, by: i64| Edit::new(at, "add").with("by", by);
    assert_eq!(story.kind("oda", "participant", put(9)), "settled");
    assert_eq!(story.kind("oda", "participant", add("/rows/r/brix", -1)), "guard");
    assert_eq!(story.kind("oda", "participant", drop()), "guard", "it would be gone");
    let anew = |brix| vec![drop(), put(brix)];
    assert_eq!(
        story.propose("oda", "participant", anew(8)).unwrap_err().kind().name(),
        "guard",
        "lower by way of a new record"
    );
    assert!(story.propose("oda", "participant", anew(10)).is_ok());
    // In whole elements, and the record is the one after the whole proposal.
    let insert = |id: &str, brix: i64| {
        Edit::new("/steps", "insert").with("id", id).with("value", json!({ "brix": brix }))
    };
    assert_eq!(story.kind("oda", "participant", insert("s", 20)), "guard");
    assert!(
        story.propose("oda", "participant", vec![insert("s", 5), add("/steps/s/brix", 5)]).is_ok()
    );
    assert_eq!(story.kind("oda", "participant", add("/steps/s/brix", 10)), "guard");
}

#[test]
fn a_condition_is_asked_of_the_record_as_it_is() {
    let mut story = Story::new();
    story.propose("oda", "bidder", vec![put("o1", json!({ "amount": 5 }))]).unwrap();
    assert_eq!(story.kind("oda", "bidder", set("/offers/o1/note", "firm")), "settled");
    assert_eq!(story.kind("bram", "bidder", set("/offers/o1/note", "weak")), "not-allowed");
    assert_eq!(story.kind("bram", "bidder", Edit::new("/offers/o1", "drop")), "not-allowed");
    story.propose("wren", "service", vec![set("/offers/o1/note", "seen")]).unwrap();
    story.propose("service", "service", vec![Edit::new("/status", "clear")]).unwrap_err();
    assert_eq!(story.kind("oda", "bidder", Edit::new("/offers/o1", "drop")), "settled");
    assert_eq!(
        story.kind("oda", "bidder", set("/offers/o9/note", "x")),
        "not-allowed",
        "a record that is not there"
    );
    assert_eq!(story.0.poll_unanswered(), [], "which is no fault of the condition");
}

#[test]
fn a_guard_keeps_its_rule_whatever_the_change() {
    let mut story = Story::new();
    let refused =
        story.propose("oda", "bidder", vec![put("o1", json!({ "amount": 4 }))]).unwrap_err();
    assert_eq!(
        (refused.kind().name(), refused.detail()),
        ("guard", "An offer is at least 5, and is never lowered.")
    );
    assert_eq!(story.kind("oda", "bidder", put("o1", json!({ "amount": 5.5 }))), "settled");
    let lower = set("/offers/o1/amount", 5);
    assert_eq!(
        story.kind("wren", "steward", lower.clone()),
        "guard",
        "the field is inside what it is about"
    );
    // The rule is about the whole proposal.
    let both = vec![lower, set("/offers/o1/amount", 7)];
    assert!(story.propose("wren", "steward", both).is_ok());
    assert_eq!(story.kind("wren", "steward", Edit::new("/offers/o1", "drop")), "settled");
    assert_eq!(story.0.poll_unanswered(), [], "nothing was at fault so far");
}

#[test]
fn a_rule_without_an_answer_refuses_and_tells_the_backend_only() {
    let mut story = Story::new();
    let refused = story.propose("wren", "steward", vec![set("/status", "sold")]).unwrap_err();
    assert_eq!((refused.kind().name(), refused.detail()), ("guard", "Only a steward closes."));
    assert!(!serde_json::to_string(&refused).unwrap().contains("length"));
    let faults = story.0.poll_unanswered();
    assert!(faults.len() == 1 && faults[0].1.to_string().contains("length"), "{faults:?}");
    assert!(story.0.poll_unanswered().is_empty(), "it is told once");
}

#[test]
fn what_is_hidden_reads_as_what_is_not_there() {
    let mut story = Story::new();
    let entry = Edit::new("/ledger", "put").with("id", "e1").with("value", json!({ "sum": 7 }));
    let offer = put("o1", json!({ "amount": 5, "limit": 99, "entry": "e1" }));
    story.propose("service", "service", vec![entry, offer]).unwrap();
    let hidden =
        |story: &mut Story, edit: Edit| story.propose("bram", "bidder", vec![edit]).unwrap_err();
    for (there, not_there) in [
        (set("/offers/o1/limit", 1), set("/offers/o1/limjt", 1)),
        (
            Edit::new("/offers/o1/limit", "test").with("value", 99),
            Edit::new("/offers/o1/limjt", "test").with("value", 99),
        ),
        (
            Edit::new("/ledger/e1/sum", "add").with("by", 9),
            Edit::new("/ledgxr/e1/sum", "add").with("by", 9),
        ),
        (Edit::new("/ledger/e1", "drop"), Edit::new("/ledgxr/e1", "drop")),
    ] {
        let (one, other) =
            (hidden(&mut story, there.clone()), hidden(&mut story, not_there.clone()));
        let told =
            |problem: &Problem, at: &str| serde_json::to_string(problem).unwrap().replace(at, "AT");
        if there.op != "test" {
            assert_eq!(
                told(&one, &there.at),
                told(&other, &not_there.at).replace("/ledgxr", "AT"),
                "{there:?}"
            );
        }
        assert!(!told(&one, "").contains("99") && !told(&one, "").contains('7'), "{one:?}");
    }
    // A condition on a record of which a part is hidden is one on what is shown.
    let whole = json!({ "amount": 5, "by": "service", "entry": "e1", "note": null });
    assert!(
        story
            .propose("bram", "bidder", vec![Edit::new("/offers/o1", "test").with("value", whole)])
            .is_ok()
    );
    let refused = hidden(&mut story, Edit::new("/offers/o1", "test").with("value", 1));
    assert!(!serde_json::to_string(&refused).unwrap().contains("limit"));
    let exists = hidden(&mut story, put("o1", json!({ "amount": 6 })));
    assert_eq!(
        (exists.kind().name(), exists.member("current").unwrap().get("limit")),
        ("exists", None)
    );
    // A box that a role drops into and cannot look into.
    assert_eq!(story.kind("bram", "bidder", set("/box", "a secret")), "settled");
    let refused =
        story.propose_seen("oda", "bidder", vec![set("/box", "mine")], Some(1)).unwrap_err();
    assert_eq!(refused.kind().name(), "stale");
    assert!(!serde_json::to_string(&refused).unwrap().contains("secret"), "{refused:?}");
}

#[test]
fn a_document_is_read_against_what_its_sender_is_shown() {
    let mut story = Story::new();
    story
        .propose("service", "service", vec![put("o1", json!({ "amount": 5, "limit": 99 }))])
        .unwrap();
    let charter = story.0.charter().clone();
    let test = json!([{ "op": "test", "path": "/offers/o1/limit", "value": 99 }]);
    assert!(
        story
            .0
            .state()
            .edits_for(
                story.0.charter(),
                &Document::patch(test.clone()).unwrap(),
                &Sight::WHOLE,
                None
            )
            .is_ok()
    );
    assert!(
        story
            .0
            .state()
            .edits_for(
                story.0.charter(),
                &Document::patch(test).unwrap(),
                charter.sight("bidder"),
                None
            )
            .is_err()
    );
    let merge = Document::Merge(json!({ "offers": { "o1": { "note": "firm" } } }));
    let edits = story
        .0
        .state()
        .edits_for(story.0.charter(), &merge, charter.sight("bidder"), None)
        .unwrap();
    assert_eq!(edits, [set("/offers/o1/note", "firm")], "what is hidden stays as it is");
}

#[test]
fn whether_somebody_may_is_answered_with_the_line_that_says_so() {
    let mut story = Story::new();
    story.propose("oda", "bidder", vec![put("o1", json!({ "amount": 5 }))]).unwrap();
    let may = |who: &str, role: &str, edit: &Edit| {
        let actor = Actor::new(who, role, Uuid::nil());
        story.0.may(&actor, edit).unwrap()
    };
    let line = |part: &str| CHARTER.lines().position(|line| line.contains(part)).unwrap() + 1;
    let note = set("/offers/o1/note", "x");
    assert_eq!(may("oda", "bidder", &note).permission, Permission::Granted(line("/offers/*/note")));
    let unmet = may("bram", "bidder", &note);
    assert_eq!(unmet.permission, Permission::Unmet(vec![line("/offers/*/note")]));
    assert_eq!(unmet.refusal.unwrap().kind().name(), "not-allowed");
    assert_eq!(may("bram", "bidder", &set("/status", "x")).permission, Permission::Nowhere);
    let guarded = may("wren", "steward", &set("/offers/o1/amount", 1));
    assert!(guarded.permission.is_given() && guarded.refusal.unwrap().kind().name() == "guard");
    assert_eq!(story.0.seq(), 1, "asking changes nothing");
}

#[test]
fn what_a_charter_says_wrongly_of_people_is_a_fault_with_its_place() {
    let table = [
        (
            "record.by == who.id\" },\n  { at = \"/offers/*\"",
            "record.bye == who.id\" },\n  { at = \"/offers/*\"",
            "by",
        ),
        ("powers = [\"freeze\"", "powers = [\"freez\"", "freeze"),
        ("{ but = \"/ledger\" }", "{ but = \"/leger\" }", "/ledger"),
        ("new.amount >= 5", "new.amont >= 5", "amount"),
        ("at   = \"/offers/*\"", "at   = \"/offer/*\"", "/offers/*"),
        ("state.status == 'open'", "state.statu == 'open'", "status"),
    ];
    for (old, new, meant) in table {
        assert!(CHARTER.contains(old), "{old}");
        let faults = Charter::parse(&CHARTER.replacen(old, new, 1)).unwrap_err();
        let found = faults.iter().any(|fault| fault.did_you_mean.as_deref() == Some(meant));
        assert!(found, "{new}: {faults:?}");
    }
    for (old, new) in [
        ("{ but = \"/ledger\" }", "{ but = \"/ledger/e1\" }"),
        ("{ but = \"/ledger\" }", "{ but = \"/ledger\", if = \"true\" }"),
        ("if = \"record.by == who.id\"", "if = \"state == null\""),
        ("if = \"record.by == who.id\"", "if = \"[1].all(x, x == 1)\""),
        ("filled = \"author\"", "filled = \"time\""),
        ("says = \"Only a steward closes.\"", ""),
        ("at   = \"/status\"", "at   = \"/**\""),
    ] {
        assert!(Charter::parse(&CHARTER.replacen(old, new, 1)).is_err(), "{new}");
    }
    let noted = "whether /offers/*/entry may refer to a record tells \"bidder\" that it is in \
        /ledger/*, which that role does not always see";
    assert_eq!(Charter::parse(CHARTER).unwrap().warnings(), [noted]);
    let warned = Charter::parse(&CHARTER.replace("[\"/**\"]\npowers", "[\"/status\"]\npowers"))
        .unwrap()
        .warnings();
    assert_eq!(warned.len(), 2, "{warned:?}");
    assert!(warned[0].contains("/ledger/*/sum"), "{warned:?}");
}

#[test]
fn a_rule_may_be_about_the_elements_of_a_plain_list_and_about_a_record_s_own_id() {
    let charter = r#"
charter = "orchard"
version = 1
[roles.picker]
edit = ["/remarks/*", { at = "/wishes/*", if = "id == who.id" }, { at = "/wishes/*/**", if = "id == who.id" }]
[state.remarks]
kind = "list"
schema = { type = "string" }
[state.wishes]
kind = "map"
[state.wishes.each.text]
kind = "register"
[[guards]]
at = "/remarks/*"
rule = "old == null ? size(new) < 9 : id != 'first'"
says = "Short ones, and the first stays."
[[guards]]
at = "/wishes/*/text"
rule = "new == null || new != id"
says = "Not your name."
"#;
    let charter = Charter::parse(charter).unwrap_or_else(|faults| panic!("{faults:?}"));
    let mut story = Story(Sequencer::open(Arc::new(charter), None).unwrap(), 0);
    let remark =
        |id: &str, text: &str| Edit::new("/remarks", "insert").with("id", id).with("value", text);
    let wish = |id: &str, text: &str| {
        Edit::new("/wishes", "put").with("id", id).with("value", json!({ "text": text }))
    };
    let table = [
        (remark("first", "ripe"), "settled"),
        (remark("second", "far too long"), "guard"),
        (remark("second", "dry"), "settled"),
        (Edit::new("/remarks/second", "remove"), "settled"),
        (Edit::new("/remarks/first", "remove"), "guard"),
        (wish("bram", "rain"), "not-allowed"),
        (wish("oda", "oda"), "guard"),
        (wish("oda", "rain"), "settled"),
        (set("/wishes/oda/text", "sun"), "settled"),
        (set("/wishes/oda/text", "oda"), "guard"),
    ];
    for (edit, kind) in table {
        assert_eq!(story.kind("oda", "picker", edit.clone()), kind, "{edit:?}");
    }
    assert_eq!(story.kind("bram", "picker", set("/wishes/oda/text", "wasps")), "not-allowed");
    let faulty = "charter = \"orchard\"\nversion = 1\n[state.rows]\nkind = \"set\"\n[[guards]]\n\
        at = \"/rows/*\"\nrule = \"true\"\nsays = \"No.\"\n";
    assert!(Charter::parse(faulty).is_err(), "an element of a set has no path");
}
