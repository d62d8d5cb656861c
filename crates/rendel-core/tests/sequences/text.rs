use proptest::prelude::*;
use rendel_core::{Op, ProblemKind, VerdictKind};

use crate::model::Model;
use crate::session::{Session, key, splice};

/// A proposal of one of a few clients, with places as parts of 255 of what is there.
#[derive(Clone, Debug)]
struct Step {
    by: usize,
    /// By how much the client catches up before it proposes.
    catches_up: u64,
    splices: Vec<(u8, u8, String)>,
}

fn step(people: usize) -> impl Strategy<Value = Step> {
    let text = prop_oneof![4 => "[a-z]{0,3}", 1 => Just("\u{1f34e}e\u{301}".to_owned()), 1 => Just("שלום".to_owned())];
    let splice = (any::<u8>(), prop_oneof![3 => Just(0), 2 => 0..60u8], text);
    (0..people, 0..6u64, prop::collection::vec(splice, 1..4))
        .prop_map(|(by, catches_up, splices)| Step { by, catches_up, splices })
}

fn scaled(part: u8, len: usize) -> usize {
    (usize::from(part) * (len + 1)) / 256
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, ..ProptestConfig::default() })]

    #[test]
    fn a_text_ends_as_the_literal_rule_says(steps in prop::collection::vec(step(4), 1..60)) {
        let opening = "Dry, with a long finish.";
        let mut session = Session::of_text(opening);
        let mut model = Model::new(opening.chars());
        let mut seen = [0u64; 4];
        let mut shown = opening.to_owned();
        for Step { by, catches_up, splices } in steps {
            let seq = session.sequencer.seq();
            seen[by] = (seen[by] + catches_up).min(seq);
            let (mut edits, mut next) = (Vec::new(), model.clone());
            for (at, delete, insert) in splices {
                let len = next.view(seen[by], by).len();
                let index = scaled(at, len);
                let delete = scaled(delete, len - index);
                if delete == 0 && insert.is_empty() {
                    continue;
                }
                edits.push(splice(index, delete, &insert));
                (0..delete).for_each(|_| next.remove((seq + 1, by), seen[by], index));
                insert.chars().enumerate().for_each(|(k, one)| next.insert((seq + 1, by), seen[by], index + k, one));
            }
            if edits.is_empty() {
                continue;
            }
            model = next;
            let update = session.propose(&by.to_string(), seen[by], 0, edits).unwrap();
            // A replica splices its plain string and needs no rule.
            for effect in &update.effects {
                let Op::Splice { splice, .. } = &effect.op else { panic!("{effect:?}") };
                let mut chars: Vec<char> = shown.chars().collect();
                chars.splice(splice.index..splice.index + splice.delete, splice.insert.chars());
                shown = chars.into_iter().collect();
            }
            prop_assert_eq!(&shown, &model.values().into_iter().collect::<String>());
            prop_assert_eq!(&shown, &session.notes());
            // Where a character of the client's own view is now: what is left of it, in the same
            // order.
            let view = model.view(seen[by], by);
            let state = session.sequencer.state();
            let path = rendel_core::Path::parse("/notes").unwrap();
            let fields = &session.sequencer.charter().fields;
            let anchors = (0..view.len()).map(|at| state.anchored(fields, &path, seen[by], key(&by.to_string()), at).unwrap());
            let there: Vec<char> = shown.chars().collect();
            let mut last = 0;
            for (at, anchor) in anchors.enumerate() {
                prop_assert!(anchor.index >= last);
                last = anchor.index;
                prop_assert!(!anchor.is_there || there[anchor.index] == view[at]);
            }
        }
        session.check_recovery();
    }
}

#[test]
fn runs_typed_at_one_place_do_not_interleave_forwards() {
    let mut session = Session::of_text("Oak ends.");
    for (at, (ours, theirs)) in "smoke".chars().zip("honey".chars()).enumerate() {
        session.settle("mirela", 0, splice(4 + at, 0, &ours.to_string()));
        session.settle("tobin", 0, splice(4 + at, 0, &theirs.to_string()));
    }
    assert_eq!(session.notes(), "Oak smokehoneyends.");
    session.check_recovery();
}

#[test]
fn runs_typed_at_one_place_do_not_interleave_backwards() {
    let mut session = Session::of_text("Oak ends.");
    for (ours, theirs) in "smoke".chars().rev().zip("honey".chars().rev()) {
        session.settle("mirela", 0, splice(4, 0, &ours.to_string()));
        session.settle("tobin", 0, splice(4, 0, &theirs.to_string()));
    }
    assert_eq!(session.notes(), "Oak smokehoneyends.");
    session.check_recovery();
}

#[test]
fn type_inside_a_word_that_another_deletes() {
    let mut session = Session::of_text("a bitter end");
    session.settle("tobin", 0, splice(2, 7, ""));
    let typed = session.settle("mirela", 0, splice(5, 0, "--"));
    assert_eq!(session.notes(), "a --end");
    let verdict = Session::verdict(&typed);
    assert_eq!((verdict.verdict, &verdict.met[..]), (VerdictKind::Rebased, &[1][..]));
    assert_eq!(verdict.because, "It stays, though update 1 deleted the text around it.");
}

#[test]
fn deletes_of_the_same_characters_count_once() {
    let mut session = Session::of_text("dry and bright");
    session.settle("tobin", 0, splice(3, 4, ""));
    let partly = session.settle("mirela", 0, splice(0, 7, ""));
    assert_eq!(session.notes(), " bright");
    assert_eq!(Session::verdict(&partly).verdict, VerdictKind::Merged);
    let wholly = session.settle("oda", 0, splice(0, 3, ""));
    assert_eq!(session.notes(), " bright");
    let is_empty = |op: &Op| matches!(op, Op::Splice { splice, .. } if splice.delete == 0 && splice.insert.is_empty());
    assert!(wholly.effects.iter().all(|effect| is_empty(&effect.op)), "{wholly:?}");
    // Who deleted what was gone already still does not see it: its next position counts without it.
    session.settle("oda", 0, splice(0, 4, "Not "));
    assert_eq!(session.notes(), "Not  bright");
    session.check_recovery();
}

#[test]
fn a_replacement_around_what_another_inserts_leaves_that_in_its_place() {
    let mut session = Session::of_text("dry apple");
    session.settle("tobin", 0, splice(3, 0, "ish"));
    let replaced = session.settle("mirela", 0, splice(0, 9, "Pear"));
    assert_eq!(session.notes(), "Pearish");
    assert_eq!(replaced.effects.len(), 2, "what lies between is not touched");
    session.check_recovery();
}

#[test]
fn positions_count_scalar_values_not_bytes_or_code_units() {
    let mut session = Session::of_text("\u{1f34e}\u{1f34f} e\u{301} שלום");
    session.settle("mirela", 0, splice(2, 1, "|"));
    session.settle("tobin", 0, splice(4, 1, ""));
    assert_eq!(session.notes(), "\u{1f34e}\u{1f34f}|e שלום");
    let problem = session.refuse("oda", 0, splice(10, 1, ""));
    assert_eq!(
        (problem.kind(), problem.member("length")),
        (ProblemKind::OutOfBounds, Some(&10.into()))
    );
}

#[test]
fn ten_thousand_inserts_at_one_place_by_fifty_authors_stay_in_runs() {
    let mut session = Session::of_text("<>");
    let people: Vec<String> = (0..50).map(|at| at.to_string()).collect();
    for k in 0..200 {
        for (at, who) in people.iter().enumerate() {
            let letter = char::from(b'A' + u8::try_from(at / 2).unwrap());
            let letter = if at % 2 == 0 { letter } else { letter.to_ascii_lowercase() };
            session.settle(who, 0, splice(1 + k, 0, &letter.to_string()));
        }
    }
    let notes = session.notes();
    assert_eq!(notes.len(), 10_002);
    let mut runs: Vec<char> = notes.chars().collect();
    runs.dedup();
    assert_eq!(runs.len(), 52, "each author's letters stand together");
    session.check_recovery();
}

#[test]
fn fifty_who_delete_the_same_range_delete_it_once() {
    let mut session = Session::of_text(&"windfall ".repeat(50));
    for who in 0..50 {
        session.settle(&who.to_string(), 0, splice(9, 432, ""));
    }
    assert_eq!(session.notes(), "windfall windfall ");
    session.check_recovery();
}

#[test]
fn whole_text_replacements_keep_what_each_wrote() {
    let mut session = Session::of_text("first pressing");
    session.settle("mirela", 0, splice(0, 14, "Dry."));
    session.settle("tobin", 0, splice(0, 14, "Mellow."));
    assert_eq!(session.notes(), "Dry.Mellow.");
    session.settle("oda", 1, splice(0, 4, "Sweet."));
    let notes = session.notes();
    assert!(
        notes.contains("Sweet.") && notes.contains("Mellow.") && !notes.contains("Dry."),
        "{notes}"
    );
}

#[test]
fn what_was_typed_on_top_of_a_refused_splice_is_refused_too() {
    let mut session = Session::open("[state.notes]\nkind = \"text\"\nmost = 4", None);
    session.propose("mirela", 0, 0, vec![splice(0, 0, "ripe")]).unwrap();
    let full = session.propose("mirela", 0, 1, vec![splice(4, 0, "r")]).unwrap_err();
    assert_eq!(full.kind(), ProblemKind::Full);
    let on_top = session.propose("mirela", 0, 1, vec![splice(5, 0, "!")]).unwrap_err();
    assert_eq!(on_top.kind(), ProblemKind::FollowsRefused);
    let also = session.propose("mirela", 0, 1, vec![splice(0, 1, "")]).unwrap_err();
    assert_eq!(
        also.kind(),
        ProblemKind::FollowsRefused,
        "the second is refused itself, so what follows it is"
    );
    session.propose("mirela", 0, 4, vec![splice(0, 1, "R")]).unwrap();
    assert_eq!(session.notes(), "Ripe");
}

#[test]
fn a_view_older_than_what_is_remembered_is_told_so_and_a_later_one_still_merges() {
    let notes = "[state.notes]\nkind = \"text\"";
    let mut session = Session::remembering(20, notes, None);
    for k in 0..40 {
        session.settle(
            "mirela",
            k,
            splice(0, usize::from(k % 2 == 1), if k % 2 == 0 { "x" } else { "" }),
        );
    }
    let problem = session.refuse("tobin", 10, splice(0, 0, "late"));
    assert_eq!(problem.kind(), ProblemKind::TooOld);
    session.settle("tobin", 30, splice(0, 0, "in time"));
    assert_eq!(session.notes(), "in time");
    session.check_recovery();
}

/// Nothing is forgotten between two parts of one update: the later would be read in another view,
/// and what comes after would be put elsewhere.
#[test]
fn a_splice_in_parts_is_read_in_one_view_also_where_it_is_time_to_forget() {
    let notes = "[state.notes]\nkind = \"text\"";
    let run = |changes| {
        let opening = serde_json::json!({ "notes": "windfall, ripe and dry" });
        let mut session = Session::remembering(changes, notes, Some(opening));
        for (at, index) in (0..10).zip((0..).step_by(2)) {
            session.settle("mirela", at, splice(index, 0, "-"));
        }
        // It goes in as many parts as there are dashes in it, more than is left before it is time.
        let update = session.settle("tobin", 0, splice(2, 18, "all new"));
        assert!(update.effects.len() >= 8);
        session.settle("wren", 10, splice(7, 9, "W"));
        session.check_recovery();
        session.notes()
    };
    for changes in 6..16 {
        assert_eq!(run(changes), run(100_000), "{changes}");
    }
}

#[test]
fn bad_splices_say_what_is_wrong() {
    let mut session = Session::of_text("dry");
    let cases = [
        (splice(4, 0, "x"), ProblemKind::OutOfBounds),
        (splice(0, 4, ""), ProblemKind::OutOfBounds),
        (splice(usize::MAX, 1, ""), ProblemKind::OutOfBounds),
        (splice(0, 0, ""), ProblemKind::Malformed),
        (rendel_core::Edit::new("/notes", "splice").with("insert", "x"), ProblemKind::Malformed),
        (splice(0, 0, "x").with("index", -1), ProblemKind::WrongType),
        (splice(0, 0, "x").with("index", 0.5), ProblemKind::WrongType),
        (splice(0, 0, "x").with("insert", 7), ProblemKind::WrongType),
        (splice(0, 0, "x").with("at_", 7), ProblemKind::Malformed),
        (rendel_core::Edit::new("/notes", "set").with("value", "x"), ProblemKind::UnknownOp),
        (rendel_core::Edit::new("/notes/0", "splice").with("index", 0), ProblemKind::UnknownPath),
    ];
    for (edit, kind) in cases {
        assert_eq!(session.refuse("mirela", 0, edit.clone()).kind(), kind, "{edit:?}");
    }
}
