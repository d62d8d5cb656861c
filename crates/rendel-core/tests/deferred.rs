//! An edit whose effects are deferred leads to the same as one that is applied to a copy of the state.

#![allow(clippy::unwrap_used, reason = "a test that cannot continue has failed")]

use std::sync::Arc;

use proptest::prelude::*;
use rendel_core::{Actor, Charter, Edit, Outcome, Proposal, Sequencer};
use serde_json::{Value, json};
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "sheet"
version = 1
[limits]
state = "1KiB"
[roles.picker]
edit = ["/**"]
[state.heads]
kind = "counter"
max = 9
[state.title]
kind = "register"
[state.lock]
kind = "register"
merge = "unchanged"
[state.rows]
kind = "set"
[state.notes]
kind = "text"
[state.steps]
kind = "list"
[state.steps.each.what]
kind = "text"
[state.barrels]
kind = "map"
most = 3
[state.barrels.each.crew]
kind = "register"
"#;

/// A guard on each field, which always holds, so that no effect is deferred.
fn guarded() -> String {
    let fields = ["/heads", "/title", "/lock", "/rows", "/notes", "/steps", "/barrels"];
    let guard = |at: &str| format!("[[guards]]\nat = \"{at}\"\nrule = \"1 == 1\"\nsays = \"no\"\n");
    CHARTER.to_owned() + &fields.map(guard).concat()
}

fn edit() -> impl Strategy<Value = Edit> {
    let edits = prop::sample::select(vec![
        r#""at":"/heads","op":"add","by":3"#,
        r#""at":"/heads","op":"add","by":-1"#,
        r#""at":"/title","op":"set","value":"quince""#,
        r#""at":"/title","op":"clear""#,
        r#""at":"/lock","op":"set","value":1"#,
        r#""at":"/rows","op":"include","value":"x""#,
        r#""at":"/rows","op":"exclude","value":"x""#,
        r#""at":"/notes","op":"splice","index":0,"insert":"windfall ""#,
        r#""at":"/notes","op":"splice","index":2,"delete":3"#,
        r#""at":"/steps","op":"insert","id":"a","value":{"what":"press"},"after":null"#,
        r#""at":"/steps","op":"insert","id":"b","value":{},"after":"a""#,
        r#""at":"/steps/a","op":"move","after":"b""#,
        r#""at":"/steps/a","op":"remove""#,
        r#""at":"/steps/a/what","op":"splice","index":0,"insert":"re""#,
        r#""at":"/barrels","op":"put","id":"b1","value":{"crew":"east"}"#,
        r#""at":"/barrels","op":"put","value":{}"#,
        r#""at":"/barrels/b1","op":"drop""#,
        r#""at":"/barrels/b1/crew","op":"set","value":"west""#,
        r#""at":"/title","op":"test","value":"quince""#,
        r#""at":"/nothing","op":"set","value":1"#,
        r#""at":"/steps","op":"undo""#,
        r#""at":"","op":"undo""#,
        r#""at":"","op":"redo""#,
    ]);
    edits.prop_map(|text| serde_json::from_str(&format!("{{{text}}}")).unwrap())
}

fn stored(sequencer: &Sequencer) -> Value {
    serde_json::to_value(sequencer.snapshot()).unwrap()
}

proptest! {
    #[test]
    fn one_edit_is_settled_the_same_in_place_and_on_a_clone(
        steps in prop::collection::vec((0..3u128, 0..5u64, edit()), 1..60),
    ) {
        let open = |source: &str| {
            Sequencer::open(Arc::new(Charter::parse(source).unwrap()), None).unwrap()
        };
        let (mut plain, mut guarded) = (open(CHARTER), open(&guarded()));
        for (n, (who, late, edit)) in (1..).zip(steps) {
            let actor = Actor::new(format!("p{who}"), "picker", Uuid::from_u128(who + 1));
            let seen = Some(plain.seq().saturating_sub(late));
            let proposal = Proposal { answered: n - 1, ..Proposal::new(n, seen, vec![edit]) };
            let kept = (plain.state(), plain.plain());
            let one = plain.handle_proposal(&actor, &proposal, n);
            prop_assert_eq!(&one, &guarded.handle_proposal(&actor, &proposal, n));
            prop_assert_eq!(stored(&plain), stored(&guarded));
            if matches!(one, Outcome::Refused(_)) {
                prop_assert_eq!(&kept.1, &plain.plain());
            }
            // A clone of the earlier state is unchanged.
            prop_assert_eq!(kept.0.plain(&plain.charter().fields), kept.1);
            prop_assert_eq!(plain.weight(), rendel_core::weight(&plain.plain()) as u64);
        }
    }
}

#[test]
fn what_an_edit_in_place_would_make_too_large_is_refused_and_changes_nothing() {
    let charter = Arc::new(Charter::parse(CHARTER).unwrap());
    let mut sequencer = Sequencer::open(charter, None).unwrap();
    let oda = Actor::new("oda", "picker", Uuid::from_u128(1));
    let mut set = |length: usize| {
        let edit = Edit::new("/title", "set").with("value", "x".repeat(length));
        let outcome = sequencer.handle_proposal(&oda, &Proposal::new(0, None, vec![edit]), 1);
        (matches!(outcome, Outcome::Settled(_)), sequencer.plain()["title"].clone())
    };
    assert_eq!(set(900), (true, json!("x".repeat(900))));
    assert_eq!(set(1_000), (false, json!("x".repeat(900))));
    assert_eq!(set(890), (true, json!("x".repeat(890))));
}
