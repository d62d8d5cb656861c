//! Rules of play: seats, turns, chance and totals.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::Arc;

use hmac::{Hmac, KeyInit as _, Mac as _};
use proptest::prelude::*;
use rendel_core::{
    Actor, Chance, Charter, DrawKey, Edit, Effect, Holds, Lens, Op, Outcome, Path, Problem,
    ProblemKind, Proposal, Sequencer, Settled, Viewer,
};
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};
use uuid::Uuid;

const GAME: &str = r#"
charter = "windfall"
version = 1
[session]
while-gathering = ["/wishes"]
[roles.player]
edit = ["/**"]
see  = ["/**", { but = "/cards/*/face", unless = "record.holder == who.seat || state.left == 0" }]
[roles.steward]
edit   = ["/**"]
powers = ["seat", "turn", "open-draws"]
[state.seats]
kind    = "seats"
names   = ["north", "east", "south"]
needed  = 2
reserve = "60s"
[state.turn]
kind    = "turn"
seats   = "/seats"
governs = ["/baskets/**"]
[state.bag]
kind     = "random"
shuffles = ["/cards/*/face"]
[state.wishes]
kind = "register"
[state.baskets]
kind = "map"
most = 9
[state.baskets.each.apples]
kind = "counter"
min  = 0
[state.baskets.each.sort]
kind = "register"
[state.cards]
kind = "map"
[state.cards.each.face]
kind = "register"
[state.cards.each.holder]
kind = "register"
[state.left]
kind = "total"
from = "/baskets"
sum  = "apples"
[[guards]]
at   = "/cards/*/face"
rule = "new == null || new != 7 || old != null"
says = "No seven is dealt."
[[guards]]
at   = "/baskets/*/sort"
rule = "state.baskets.filter(basket, basket.sort == new).size() <= 2"
says = "A sort fills two baskets at most."
"#;

fn opened(source: &str) -> Sequencer {
    let charter = Charter::parse(source).unwrap_or_else(|faults| panic!("{faults:#?}"));
    let cards: serde_json::Map<_, _> =
        (1..=9).map(|face| (format!("c{face}"), json!({ "face": face, "holder": null }))).collect();
    let opening = json!({
        "baskets": { "a": { "apples": 3 }, "b": { "apples": 5 } },
        "cards": cards,
    });
    let opening = source.contains("state.cards").then_some(opening);
    let sequencer = Sequencer::open(Arc::new(charter), opening.as_ref()).unwrap();
    let mut sequencer = sequencer.with_chance(Some(Chance::new([7; 32])));
    let bind = sequencer.own_edits(&|_| true, 1);
    if !bind.is_empty() {
        assert!(matches!(sequencer.handle_act(bind, 1), Outcome::Settled(_)));
    }
    sequencer
}

fn actor(who: &str) -> Actor {
    let role = if who == "keziah" { "steward" } else { "player" };
    Actor::new(who, role, Uuid::from_u128(1))
}

fn all(session: &mut Sequencer, who: &str, edits: Vec<Edit>) -> Result<Settled, Problem> {
    match session.handle_proposal(&actor(who), &Proposal::new(0, None, edits), 1_000) {
        Outcome::Settled(update) => Ok(update),
        Outcome::Refused(problem) => Err(problem),
        Outcome::Repeated(_) => panic!("it has no number"),
    }
}

/// An edit from JSON, without its braces.
fn edit(text: &str) -> Edit {
    serde_json::from_str(&format!("{{{text}}}")).unwrap()
}

fn act(session: &mut Sequencer, who: &str, text: &str) -> Result<Settled, Problem> {
    all(session, who, vec![edit(text)])
}

fn refusal(session: &mut Sequencer, who: &str, text: &str) -> ProblemKind {
    let before = session.plain();
    let problem = act(session, who, text).unwrap_err();
    assert_eq!(session.plain(), before, "a refusal changes nothing");
    problem.kind()
}

fn at(session: &Sequencer, path: &str) -> Value {
    session.plain().pointer(path).cloned().unwrap_or_default()
}

const SIT: &str = r#""at":"/seats","op":"sit""#;
const ADVANCE: &str = r#""at":"/turn","op":"advance""#;
const STAND: &str = r#""at":"/seats","op":"stand""#;

fn sit(seat: &str) -> String {
    format!(r#"{SIT},"seat":"{seat}""#)
}

fn take(basket: &str, by: i64) -> String {
    format!(r#""at":"/baskets/{basket}/apples","op":"add","by":-{by}"#)
}

#[test]
fn the_first_to_sit_has_the_seat_and_two_who_offer_theirs_swap() {
    let mut game = opened(GAME);
    act(&mut game, "oda", &sit("east")).unwrap();
    let taken = act(&mut game, "bram", &sit("east")).unwrap_err();
    assert_eq!(
        (taken.kind(), taken.member("current")),
        (ProblemKind::SeatTaken, Some(&"oda".into()))
    );
    // A double click sits once; whoever sits does not sit twice.
    assert!(act(&mut game, "oda", &sit("east")).unwrap().effects.is_empty());
    assert_eq!(refusal(&mut game, "oda", &sit("north")), ProblemKind::Exists);
    assert_eq!(refusal(&mut game, "bram", &sit("est")), ProblemKind::OutOfBounds);
    assert_eq!(refusal(&mut game, "bram", STAND), ProblemKind::NotAllowed);
    act(&mut game, "bram", SIT).unwrap();
    assert_eq!(at(&game, "/seats/by"), json!({ "east": "oda", "north": "bram", "south": null }));

    let accept = r#""at":"/seats","op":"accept""#;
    assert_eq!(refusal(&mut game, "bram", accept), ProblemKind::Gone);
    act(&mut game, "oda", r#""at":"/seats","op":"offer","to":"bram""#).unwrap();
    assert_eq!(refusal(&mut game, "wren", accept), ProblemKind::Gone, "it is not theirs");
    assert_eq!(refusal(&mut game, "bram", accept), ProblemKind::Exists);
    // A swap is two offers to each other, not one beside another.
    act(&mut game, "bram", r#""at":"/seats","op":"offer","to":"wren""#).unwrap();
    assert_eq!(refusal(&mut game, "bram", accept), ProblemKind::Exists);
    act(&mut game, "bram", r#""at":"/seats","op":"offer","to":"oda""#).unwrap();
    act(&mut game, "bram", accept).unwrap();
    assert_eq!(at(&game, "/seats/by"), json!({ "east": "bram", "north": "oda", "south": null }));
    assert_eq!(at(&game, "/seats/offers"), json!({}));

    act(&mut game, "oda", r#""at":"/seats","op":"offer","to":"wren""#).unwrap();
    act(&mut game, "wren", accept).unwrap();
    assert_eq!(at(&game, "/seats/by"), json!({ "east": "bram", "north": "wren", "south": null }));
    // An offer goes with who made it.
    act(&mut game, "bram", r#""at":"/seats","op":"offer","to":"ishaan""#).unwrap();
    act(&mut game, "bram", STAND).unwrap();
    assert_eq!(refusal(&mut game, "ishaan", accept), ProblemKind::Gone);
    act(&mut game, "bram", &sit("east")).unwrap();
    assert_eq!(at(&game, "/seats/offers"), json!({}));

    let give = r#""at":"/seats","op":"give","seat":"south","to":"bram""#;
    assert_eq!(refusal(&mut game, "bram", give), ProblemKind::NotAllowed);
    act(&mut game, "keziah", give).unwrap();
    assert_eq!(at(&game, "/seats/by"), json!({ "east": null, "north": "wren", "south": "bram" }));
    for own in [r#""at":"/seats","op":"lapse","now":9"#, r#""at":"/bag","op":"bind""#] {
        assert_eq!(refusal(&mut game, "keziah", own), ProblemKind::UnknownOp, "{own}");
    }
}

#[test]
fn a_seat_is_kept_for_whoever_comes_back_in_time_and_free_after_that() {
    let mut game = opened(GAME);
    act(&mut game, "oda", &sit("east")).unwrap();
    let goes = |game: &mut Sequencer, here: &[&str], now: u64| {
        let edits = game.own_edits(&|who| here.contains(&who), now);
        let acts = !edits.is_empty();
        if acts {
            assert!(matches!(game.handle_act(edits, now), Outcome::Settled(_)));
        }
        acts
    };
    assert!(goes(&mut game, &[], 5_000));
    assert_eq!(at(&game, "/seats/away"), json!({ "east": 65_000 }));
    assert!(!goes(&mut game, &[], 6_000), "one goes once");
    assert_eq!(refusal(&mut game, "bram", &sit("east")), ProblemKind::SeatTaken);
    assert!(goes(&mut game, &["oda"], 7_000) && !goes(&mut game, &["oda"], 7_001));
    assert_eq!((game.poll_timeout(), at(&game, "/seats/away")), (None, json!({})));

    assert!(goes(&mut game, &["bram"], 8_000));
    assert_eq!(game.poll_timeout(), Some(68_000));
    assert_eq!(game.handle_timeout(67_999), None, "an early call does no harm");
    assert!(matches!(game.handle_timeout(68_000), Some(Outcome::Settled(_))));
    assert_eq!((game.poll_timeout(), at(&game, "/seats/by/east")), (None, Value::Null));
    // A promised seat is given where it is free, and takes nobody's.
    act(&mut game, "bram", &sit("east")).unwrap();
    assert_eq!(game.promised("oda", "east"), None);
    let promised = game.promised("oda", "south").unwrap();
    game.handle_act(vec![promised], 70_000);
    assert_eq!((at(&game, "/seats/by/south"), game.promised("oda", "north")), ("oda".into(), None));
}

#[test]
fn all_who_go_at_once_keep_their_seats_however_few_edits_a_proposal_has() {
    let mut game = opened(&GAME.replace("[roles.player]", "[limits]\nedits = 1\n[roles.player]"));
    act(&mut game, "oda", SIT).unwrap();
    act(&mut game, "bram", SIT).unwrap();
    let edits = game.own_edits(&|_| false, 5_000);
    assert!(matches!(game.handle_act(edits, 5_000), Outcome::Settled(_)));
    assert_eq!(at(&game, "/seats/away"), json!({ "east": 65_000, "north": 65_000 }));
}

#[test]
fn no_guard_keeps_a_seat_whose_time_is_over() {
    let guard =
        "[[guards]]\nat = \"/seats\"\nrule = \"new.by.east != null\"\nsays = \"East stays.\"";
    let mut game = opened(&format!("{GAME}{guard}"));
    act(&mut game, "oda", &sit("east")).unwrap();
    assert_eq!(refusal(&mut game, "oda", STAND), ProblemKind::Guard);
    let edits = game.own_edits(&|_| false, 5_000);
    assert!(matches!(game.handle_act(edits, 5_000), Outcome::Settled(_)));
    assert!(matches!(game.handle_timeout(65_000), Some(Outcome::Settled(_))));
    assert_eq!((game.poll_timeout(), at(&game, "/seats/by/east")), (None, Value::Null));
}

#[test]
fn until_enough_sit_only_what_the_charter_names_is_edited() {
    let mut game = opened(GAME);
    act(&mut game, "oda", SIT).unwrap();
    assert_eq!(refusal(&mut game, "oda", &take("a", 1)), ProblemKind::Gathering);
    assert_eq!(at(&game, "/turn/seat"), Value::Null);
    act(&mut game, "oda", r#""at":"/wishes","op":"set","value":"luck""#).unwrap();
    act(&mut game, "bram", SIT).unwrap();
    // It was enough once: a seat that is left later stops nothing.
    act(&mut game, "bram", STAND).unwrap();
    act(&mut game, "oda", &take("a", 1)).unwrap();
    // A reset begins a game anew, which waits for as many.
    game.handle_reset(&actor("keziah"), 0, None, 1);
    assert_eq!(at(&game, "/seats/by/north"), "oda");
    assert_eq!(refusal(&mut game, "oda", &take("a", 1)), ProblemKind::Gathering);
}

#[test]
fn only_the_seat_whose_turn_it_is_moves_and_empty_seats_are_skipped() {
    let mut game = opened(GAME);
    for (who, seat) in [("oda", "south"), ("bram", "north"), ("wren", "east")] {
        act(&mut game, who, &sit(seat)).unwrap();
    }
    // Two sat on south and north when it began; the first of them in the charter's order began.
    assert_eq!(
        at(&game, "/turn"),
        json!({ "moves": 0, "number": 1, "reversed": false, "seat": "north" })
    );
    let problem = act(&mut game, "oda", &take("a", 1)).unwrap_err();
    assert_eq!(problem.kind(), ProblemKind::NotYourTurn);
    assert_eq!(
        (problem.member("seat").unwrap(), problem.member("by").unwrap()),
        (&json!("north"), &json!("bram"))
    );
    assert_eq!(refusal(&mut game, "ishaan", &take("a", 1)), ProblemKind::NotYourTurn);
    assert_eq!(refusal(&mut game, "oda", ADVANCE), ProblemKind::NotYourTurn);

    // In the same proposal as the move; what comes after it is not theirs any more.
    let mut move_on = |who: &str, more: Option<&str>| {
        let edits = [Some(take("a", 1).as_str()), Some(ADVANCE), more]
            .into_iter()
            .flatten()
            .map(edit)
            .collect();
        all(&mut game, who, edits)
    };
    assert_eq!(move_on("bram", Some(&take("a", 1))).unwrap_err().kind(), ProblemKind::NotYourTurn);
    move_on("bram", None).unwrap();
    assert_eq!(at(&game, "/turn/seat"), "east");
    act(&mut game, "wren", r#""at":"/turn","op":"reverse""#).unwrap();
    act(&mut game, "wren", ADVANCE).unwrap();
    assert_eq!(at(&game, "/turn/seat"), "north");
    act(&mut game, "bram", ADVANCE).unwrap();
    assert_eq!(at(&game, "/turn/seat"), "south");
    // Whoever leaves in their turn hands it on.
    act(&mut game, "oda", STAND).unwrap();
    assert_eq!(at(&game, "/turn/seat"), "east");
    assert_eq!(
        refusal(&mut game, "wren", r#""at":"/turn","op":"advance","to":"south""#),
        ProblemKind::OutOfBounds
    );
    act(&mut game, "keziah", r#""at":"/turn","op":"advance","to":"north""#).unwrap();
    // An advance that was made for another turn, as by a client that was offline, changes nothing.
    let number = at(&game, "/turn/number").as_u64().unwrap();
    let advance = |turn: u64| format!(r#""at":"/turn","op":"advance","to":"north","turn":{turn}"#);
    assert_eq!(refusal(&mut game, "keziah", &advance(number - 1)), ProblemKind::Stale);
    act(&mut game, "keziah", &advance(number)).unwrap();
    assert_eq!(at(&game, "/turn/number"), 7);
}

#[test]
fn a_turn_of_so_many_moves_passes_on_by_itself_so_that_a_double_click_moves_once() {
    let mut game = opened(
        &GAME.replace("governs = [\"/baskets/**\"]", "governs = [\"/baskets/**\"]\nmoves = 2"),
    );
    act(&mut game, "oda", &sit("north")).unwrap();
    act(&mut game, "bram", &sit("east")).unwrap();
    let both = vec![edit(&take("a", 1)), edit(&take("b", 1))];
    all(&mut game, "oda", both).unwrap();
    assert_eq!(at(&game, "/turn/moves"), 1, "a proposal is one move");
    let update = act(&mut game, "oda", &take("a", 1)).unwrap();
    assert_eq!(at(&game, "/turn/seat"), "east");
    assert_eq!(refusal(&mut game, "oda", &take("a", 1)), ProblemKind::NotYourTurn);
    // All of it is told with the move that it follows from.
    let told: Vec<String> = update.effects.iter().map(|effect| effect.at.to_string()).collect();
    assert_eq!(told, ["/baskets/a/apples", "/left", "/turn"]);
}

#[test]
fn expressions_read_totals_and_go_through_what_the_charter_bounds() {
    let mut game = opened(GAME);
    act(&mut game, "oda", SIT).unwrap();
    act(&mut game, "bram", SIT).unwrap();
    let put =
        |id: &str| format!(r#""at":"/baskets","op":"put","id":"{id}","value":{{"sort":"dry"}}"#);
    act(&mut game, "oda", &put("x")).unwrap();
    act(&mut game, "oda", &put("y")).unwrap();
    assert_eq!(refusal(&mut game, "oda", &put("z")), ProblemKind::Guard);
    assert_eq!(at(&game, "/left"), 8);
    for refused in [
        r#""at":"/left","op":"add","by":1"#,
        r#""at":"/left","op":"set","value":1"#,
        r#""at":"/turn","op":"set","value":null"#,
        r#""at":"/baskets","op":"sit""#,
    ] {
        assert_eq!(refusal(&mut game, "oda", refused), ProblemKind::UnknownOp, "{refused}");
    }
}

#[test]
fn who_sits_sees_what_is_their_seats_until_they_leave_it() {
    let mut game = opened(GAME);
    let sees = |game: &Sequencer, who: &str| {
        let (charter, state) = (game.charter().clone(), game.state());
        let viewer = Viewer::of(&actor(who));
        let lens = Lens::new(&charter, charter.sight("player"), Some(&viewer), &state);
        lens.plain().pointer("/cards/c3/face").is_some()
    };
    act(&mut game, "keziah", r#""at":"/seats","op":"give","seat":"south","to":"ishaan""#).unwrap();
    act(&mut game, "oda", &sit("east")).unwrap();
    act(&mut game, "oda", r#""at":"/cards/c3/holder","op":"set","value":"east""#).unwrap();
    assert_eq!(["oda", "bram"].map(|who| sees(&game, who)), [true, false]);
    act(&mut game, "oda", r#""at":"/seats","op":"offer","to":"bram""#).unwrap();
    let swapped = act(&mut game, "bram", r#""at":"/seats","op":"accept""#).unwrap();
    assert_eq!(["oda", "bram"].map(|who| sees(&game, who)), [false, true]);
    // The journal tells it: it is shown to the one and hidden from the other with the swap.
    let told = |who: &str| {
        let viewer = Viewer::of(&actor(who));
        let sight = game.charter().sight("player");
        let beside = sight.beside(&game.charter().fields, &swapped, &viewer).unwrap();
        let effect = |op: &Op| op.name().to_owned();
        beside.effects.iter().map(|one| (one.at.to_string(), effect(&one.op))).collect::<Vec<_>>()
    };
    let face = "/cards/c3/face".to_owned();
    assert_eq!(told("bram"), [(face.clone(), "show".to_owned())]);
    assert_eq!(told("oda"), [(face, "hide".to_owned())]);
    // Once nothing is left all cards are open.
    act(&mut game, "bram", ADVANCE).unwrap();
    all(&mut game, "ishaan", vec![edit(&take("a", 3)), edit(&take("b", 5))]).unwrap();
    assert!(sees(&game, "oda"));
}

#[test]
fn a_draw_is_bound_before_it_is_made_and_nothing_that_is_refused_tells_of_it() {
    let mut game = opened(GAME);
    act(&mut game, "oda", SIT).unwrap();
    act(&mut game, "bram", SIT).unwrap();
    let roll = |sides: u64| format!(r#""at":"/bag","op":"roll","sides":{sides},"count":5"#);
    let bound = at(&game, "/bag/next");
    let mut twin = game.clone();
    // Whatever is refused, tested or reset before it, the draw is the one that was bound.
    for (edits, kind) in [
        (
            vec![roll(6), r#""at":"/bag/last","op":"test","value":null"#.to_owned()],
            ProblemKind::Malformed,
        ),
        (
            vec![r#""at":"/bag/draws","op":"test","value":9"#.to_owned(), roll(6)],
            ProblemKind::TestFailed,
        ),
        (vec![roll(6), roll(6)], ProblemKind::Malformed),
        (vec![take("a", 9), roll(6)], ProblemKind::OutOfBounds),
        (vec![roll(1)], ProblemKind::OutOfBounds),
        (vec![roll(1_000_001)], ProblemKind::OutOfBounds),
    ] {
        let edits: Vec<Edit> = edits.iter().map(|text| edit(text)).collect();
        assert_eq!(all(&mut game, "oda", edits.clone()).unwrap_err().kind(), kind, "{edits:?}");
        assert_eq!(at(&game, "/bag/next"), bound);
    }
    assert!(game.may(&actor("oda"), &edit(&roll(6))).unwrap().refusal.is_none());
    game.handle_reset(&actor("keziah"), 0, None, 1);
    assert_eq!(
        (at(&game, "/bag/next"), at(&game, "/seats/by/north")),
        (bound.clone(), "oda".into())
    );
    act(&mut game, "oda", &roll(6)).unwrap();
    act(&mut twin, "oda", &roll(6)).unwrap();
    let last = at(&game, "/bag/last");
    assert_eq!(last, at(&twin, "/bag/last"));
    let key = DrawKey::from_hex(last["key"].as_str().unwrap()).unwrap();
    assert_eq!(Value::from(key.commitment()), bound);
    assert_eq!(json!(key.roll(6, 5)), last["values"]);
    // Reset or not, the next is another.
    game.handle_reset(&actor("keziah"), 0, None, 1);
    assert_eq!(at(&game, "/bag/draws"), 1);
    assert_ne!(at(&game, "/bag/next"), bound);
}

#[test]
fn a_shuffle_permutes_hidden_values_is_checked_once_it_is_open_and_no_guard_sees_it() {
    let mut game = opened(GAME);
    act(&mut game, "oda", SIT).unwrap();
    act(&mut game, "bram", SIT).unwrap();
    let faces = |game: &Sequencer| -> Vec<u64> {
        (1..=9).map(|id| at(game, &format!("/cards/c{id}/face")).as_u64().unwrap()).collect()
    };
    let before = faces(&game);
    let shuffle = r#""at":"/bag","op":"shuffle","of":"/cards","field":"face""#;
    let bound = at(&game, "/bag/next");
    // What was dealt has to be what everybody could know before.
    for before in [
        r#""at":"/cards/c1/face","op":"set","value":9"#,
        r#""at":"/cards","op":"put","id":"c10","value":{"face":9}"#,
        r#""at":"/cards/c2","op":"drop""#,
    ] {
        let both = vec![edit(before), edit(shuffle)];
        assert_eq!(all(&mut game, "oda", both).unwrap_err().kind(), ProblemKind::Malformed);
    }
    let update = act(&mut game, "oda", shuffle).unwrap();
    assert_eq!(update.effects.len(), 10, "each is told, changed or not");
    let after = faces(&game);
    assert_ne!(before, after);
    // Nothing of the values leaves with the draw itself.
    assert_eq!(
        at(&game, "/bag/last"),
        json!({ "kind": "shuffle", "draw": 1, "of": "/cards", "field": "face" })
    );
    let open = r#""at":"/bag","op":"open","draw":1"#;
    assert_eq!(refusal(&mut game, "oda", open), ProblemKind::NotAllowed);
    act(&mut game, "keziah", open).unwrap();
    let key = DrawKey::from_hex(at(&game, "/bag/opened/key").as_str().unwrap()).unwrap();
    assert_eq!(Value::from(key.commitment()), bound);
    let mut again = before;
    key.shuffle(&mut again);
    assert_eq!(again, after);
    let other = r#""at":"/bag","op":"shuffle","of":"/baskets","field":"sort""#;
    assert_eq!(refusal(&mut game, "oda", other), ProblemKind::NotAllowed);
    assert_eq!(
        refusal(&mut game, "keziah", r#""at":"/bag","op":"open","draw":2"#),
        ProblemKind::OutOfBounds
    );
}

#[test]
fn what_seats_add_to_a_draw_is_bound_before_anybody_knows_what_others_add() {
    let source = GAME.replace("[state.bag]", "[state.bag]\nentropy = \"seats\"");
    let (mut game, mut twin) = (opened(&source), opened(&source));
    for game in [&mut game, &mut twin] {
        act(game, "oda", SIT).unwrap();
        act(game, "bram", SIT).unwrap();
    }
    let bound = at(&game, "/bag/next");
    let hash = |byte: u8| hex::encode(Sha256::digest([byte; 32]));
    let commit = |byte: u8| format!(r#""at":"/bag","op":"commit","sha256":"{}""#, hash(byte));
    let reveal =
        |byte: u8| format!(r#""at":"/bag","op":"reveal","value":"{}""#, hex::encode([byte; 32]));
    let waive = |seat: &str| format!(r#""at":"/bag","op":"waive","seat":"{seat}""#);
    let roll = r#""at":"/bag","op":"roll","sides":1000000,"count":4"#;

    assert_eq!(refusal(&mut game, "pippa", &commit(1)), ProblemKind::NotAllowed, "no seat");
    assert_eq!(refusal(&mut game, "oda", &reveal(1)), ProblemKind::OutOfBounds);
    let short = r#""at":"/bag","op":"commit","sha256":"abc""#;
    assert_eq!(refusal(&mut game, "oda", short), ProblemKind::WrongType);
    act(&mut game, "oda", &commit(9)).unwrap();
    act(&mut game, "oda", &commit(1)).unwrap();
    act(&mut game, "bram", &commit(2)).unwrap();
    // Nothing is drawn while one may still choose whether to reveal.
    assert_eq!(refusal(&mut game, "keziah", roll), ProblemKind::NotAllowed);
    assert_eq!(refusal(&mut game, "oda", &reveal(9)), ProblemKind::OutOfBounds);
    act(&mut game, "oda", &reveal(1)).unwrap();
    assert_eq!(refusal(&mut game, "bram", &commit(3)), ProblemKind::Stale);
    assert_eq!(refusal(&mut game, "bram", &waive("east")), ProblemKind::NotAllowed);
    assert_eq!(refusal(&mut game, "keziah", &waive("north")), ProblemKind::OutOfBounds);
    let mut waived = game.clone();
    act(&mut game, "bram", &reveal(2)).unwrap();
    act(&mut game, "oda", roll).unwrap();

    // As whoever checks it by hand makes it.
    let last = at(&game, "/bag/last");
    let added = json!({ "north": hex::encode([1; 32]), "east": hex::encode([2; 32]) });
    assert_eq!(last["entropy"], added);
    let key = DrawKey::from_hex(last["key"].as_str().unwrap()).unwrap();
    assert_eq!(Value::from(key.commitment()), bound, "the key was bound before they committed");
    let mut mac =
        Hmac::<Sha256>::new_from_slice(&hex::decode(last["key"].as_str().unwrap()).unwrap())
            .unwrap();
    mac.update(&[b"east\0", &[2; 32][..], b"north\0", &[1; 32][..]].concat());
    let mixed = DrawKey::from_hex(&hex::encode(mac.finalize().into_bytes())).unwrap();
    assert_eq!(json!(mixed.roll(1_000_000, 4)), last["values"]);
    assert_eq!(at(&game, "/bag/entropy"), json!({}), "the next draw begins anew");

    act(&mut waived, "keziah", &waive("east")).unwrap();
    act(&mut waived, "oda", roll).unwrap();
    act(&mut twin, "oda", roll).unwrap();
    let values = |game: &Sequencer| at(game, "/bag/last/values");
    assert_ne!(values(&waived), values(&game));
    assert_ne!(values(&twin), values(&game));
    assert_ne!(values(&twin), values(&waived));
    assert_eq!(at(&twin, "/bag/last/key"), at(&game, "/bag/last/key"));
    let mut plain = opened(GAME);
    act(&mut plain, "oda", SIT).unwrap();
    act(&mut plain, "bram", SIT).unwrap();
    assert_eq!(refusal(&mut plain, "oda", &commit(1)), ProblemKind::NotAllowed);
}

#[test]
fn nothing_is_drawn_over_what_somebody_else_holds() {
    let source = GAME.replace("[roles.player]", "[holds]\nkind = \"binding\"\n[roles.player]");
    let mut game = opened(&source);
    act(&mut game, "oda", SIT).unwrap();
    act(&mut game, "bram", SIT).unwrap();
    let charter = Charter::parse(&source).unwrap();
    let shuffle = edit(r#""at":"/bag","op":"shuffle","of":"/cards","field":"face""#);
    let roll = edit(r#""at":"/bag","op":"roll","sides":6"#);
    let none: &[&Edit] = &[];
    for (held, refused) in [
        ("/cards/c4/face", &[&shuffle][..]),
        ("/cards/c4", &[&shuffle]),
        ("/cards", &[&shuffle]),
        ("/bag", &[&shuffle, &roll]),
        ("/baskets", none),
    ] {
        let mut holds = Holds::default();
        let path = Path::parse(held).unwrap();
        holds.handle_hold(&charter, &actor("pippa"), &path, None, false, 1_000).unwrap();
        for draw in [&shuffle, &roll] {
            let (oda, before) = (actor("oda"), game.plain());
            let proposal = Proposal::new(0, None, vec![draw.clone()]);
            let is_held = |effects: &[Effect]| holds.refusal(&charter, &oda, effects);
            let outcome = game.handle_proposal_unless(&oda, &proposal, 1_000, &is_held);
            let is_refused = match outcome {
                Outcome::Refused(problem) => problem.kind() == ProblemKind::Held,
                _ => false,
            };
            assert_eq!(is_refused, refused.contains(&draw), "{draw:?} while {held} is held");
            assert_eq!(is_refused, game.plain() == before);
        }
    }
}

#[test]
fn faults_of_rules_of_play_say_where_they_are_and_what_was_meant() {
    for (old, new, path) in [
        ("seats   = \"/seats\"", "seats = \"/seat\"", "state.turn.seats"),
        ("\"/baskets/**\"", "\"/basket/**\"", "state.turn.governs[0]"),
        ("[\"/cards/*/face\"]\n", "[\"/cards/*\"]\n", "state.bag.shuffles"),
        ("sum  = \"apples\"", "sum = \"apple\"", "state.left.sum"),
        ("sum  = \"apples\"", "sum = \"apples\"\ncount = true", "state.left.sum"),
        ("sum  = \"apples\"", "share = \"apples\"", "state.left.by"),
        ("from = \"/baskets\"", "from = \"/wishes\"", "state.left.from"),
        ("sum  = \"apples\"", "sum = \"apples\"\nwhere = \"record.ripe\"", "state.left.where"),
        (
            "names   = [\"north\", \"east\", \"south\"]",
            "names = [\"north\", \"north\"]",
            "state.seats.names",
        ),
        ("needed  = 2", "needed = 4", "state.seats.needed"),
        (
            "while-gathering = [\"/wishes\"]",
            "while-gathering = [\"/wish\"]",
            "session.while-gathering[0]",
        ),
        ("most = 9", "most = 101", "guards[1].rule"),
        ("record.holder == who.seat", "record.holder == who.place", "roles.player.see[1]"),
        (
            "[state.wishes]\nkind = \"register\"",
            "[state.wishes]\nkind = \"seats\"\ncount = 2",
            "state.wishes.kind",
        ),
    ] {
        assert!(GAME.contains(old), "{old}");
        let faults = Charter::parse(&GAME.replace(old, new)).unwrap_err();
        let paths: Vec<&str> = faults.iter().map(|fault| fault.path.as_str()).collect();
        assert!(paths.contains(&path), "{new}: {faults:#?}");
    }
}

const TOTALS: &str = r#"
charter = "sheet"
version = 1
[state.crates]
kind = "map"
[state.crates.each.weight]
kind = "register"
[state.crates.each.sort]
kind = "register"
[state.sum]
kind = "total"
from = "/crates"
sum  = "weight"
[state.mean]
kind = "total"
from = "/crates"
mean = "weight"
[state.least]
kind = "total"
from = "/crates"
min  = "weight"
by   = "sort"
[state.most]
kind  = "total"
from  = "/crates"
max   = "weight"
where = "record.sort != \"dry\""
[state.parts]
kind  = "total"
from  = "/crates"
share = "weight"
by    = "sort"
"#;

#[test]
fn sums_are_those_of_the_decimals_that_people_write_and_shares_make_a_hundred() {
    let mut sheet = opened(TOTALS);
    let who = Actor::new("oda", "participant", Uuid::nil());
    let mut put = |id: &str, weight: Value, sort: &str| {
        let edit = Edit::new("/crates", "put").with("id", id);
        let edits = vec![edit.with("value", json!({ "weight": weight, "sort": sort }))];
        let outcome = sheet.handle_proposal(&who, &Proposal::new(0, None, edits), 1);
        assert!(matches!(outcome, Outcome::Settled(_)), "{outcome:?}");
        sheet.plain()
    };
    assert_eq!(put("x", json!("heavy"), "dry")["mean"], Value::Null, "no number counts for none");
    put("a", json!(0.1), "dry");
    put("b", json!(0.2), "sweet");
    let state = put("c", json!(0.3), "mellow");
    assert_eq!(
        (&state["sum"], &state["mean"], &state["most"]),
        (&json!(0.6), &json!(0.2), &json!(0.3))
    );
    assert_eq!(state["least"], json!({ "dry": 0.1, "mellow": 0.3, "sweet": 0.2 }));
    // 16.66…, 50 and 33.33…: the tenth that is missing goes to the largest remainder.
    assert_eq!(state["parts"], json!({ "dry": 16.7, "mellow": 50, "sweet": 33.3 }));
    assert_eq!(put("e", json!(1.1), "dry")["sum"], json!(1.7), "and not what doubles come to");
    let state = put("d", json!(1e300), "sweet");
    assert_eq!(state["sum"], json!(1e300));
}

proptest! {
    /// Whatever comes and goes, a total is that of a session that opens with what is there.
    #[test]
    fn totals_do_not_depend_on_the_way_by_which_records_came(
        steps in prop::collection::vec((0..6u8, prop::option::of((-50..50i32, 0..3u8))), 1..40),
    ) {
        let mut sheet = opened(TOTALS);
        let who = Actor::new("oda", "participant", Uuid::nil());
        let mut patched = sheet.plain();
        let mut state = sheet.state();
        for (id, crates) in steps {
            let (id, is_there) = (id.to_string(), sheet.plain()["crates"].get(id.to_string()).is_some());
            let at = format!("/crates/{id}");
            let edits = match crates {
                None if is_there => vec![Edit::new(at, "drop")],
                None => continue,
                Some((tenths, sort)) => {
                    let weight = json!(f64::from(tenths) / 10.0);
                    let sort = ["dry", "sweet", "mellow"][usize::from(sort)];
                    match is_there {
                        true => vec![
                            Edit::new(format!("{at}/weight"), "set").with("value", weight),
                            Edit::new(format!("{at}/sort"), "set").with("value", sort),
                        ],
                        false => vec![Edit::new("/crates", "put").with("id", id)
                            .with("value", json!({ "weight": weight, "sort": sort }))],
                    }
                }
            };
            let outcome = sheet.handle_proposal(&who, &Proposal::new(0, None, edits), 1);
            let Outcome::Settled(update) = outcome else { panic!("{outcome:?}") };
            let charter = sheet.charter();
            let patch = state.patch(&charter.fields, &update, charter.sight("participant")).unwrap();
            let patch: json_patch::Patch = serde_json::from_value(json!(patch)).unwrap();
            json_patch::patch(&mut patched, &patch).unwrap();
            prop_assert_eq!(&patched, &sheet.plain());
        }
        let opening = json!({ "crates": sheet.plain()["crates"] });
        let anew = Sequencer::open(sheet.charter().clone(), Some(&opening)).unwrap();
        prop_assert_eq!(anew.plain(), sheet.plain());
    }
}

const POLL: &str = r#"
charter = "blend-vote"
version = 1
[roles.voter]
edit = ["/**"]
[roles.onlooker]
edit = ["/**"]
see  = ["/blend", "/blend-ballots"]
[roles.steward]
edit   = ["/**"]
powers = ["unseal", "restart"]
[state.blend]
kind    = "ballot"
choices = ["dry", "mellow", "sweet"]
most    = 2
sealed  = true
roles   = ["voter"]
[state.brix]
kind   = "ballot"
scale  = { from = 0, to = 30, step = 0.5, unsure = true }
voters = "count"
[state.whom]
kind    = "ballot"
choices = ["oda", "bram"]
secret  = true
"#;

fn as_role(who: &str, role: &str) -> Actor {
    Actor::new(who, role, Uuid::from_u128(1))
}

fn poll_act(poll: &mut Sequencer, who: &str, role: &str, text: &str) -> Result<Settled, Problem> {
    let before = poll.plain();
    match poll.handle_proposal(
        &as_role(who, role),
        &Proposal::new(0, None, vec![edit(text)]),
        1_000,
    ) {
        Outcome::Settled(update) => Ok(update),
        Outcome::Refused(problem) => {
            assert_eq!(poll.plain(), before, "a refusal changes nothing");
            Err(problem)
        }
        Outcome::Repeated(_) => panic!("it has no number"),
    }
}

fn cast(poll: &mut Sequencer, who: &str, choices: &str) -> Result<Settled, Problem> {
    let text = format!(r#""at":"/blend","op":"cast","choices":{choices}"#);
    poll_act(poll, who, "voter", &text)
}

fn count(poll: &mut Sequencer) {
    let due = poll.poll_timeout().expect("something was cast");
    assert_eq!((due % 250, poll.handle_timeout(due - 1)), (0, None));
    while poll.handle_timeout(due).is_some() {}
    assert_eq!(poll.poll_timeout(), None);
}

fn seen(poll: &Sequencer, who: &str, role: &str) -> Value {
    let (charter, state) = (poll.charter().clone(), poll.state());
    let viewer = Viewer::new(who, &std::collections::BTreeMap::new());
    Lens::new(&charter, charter.sight(role), Some(&viewer), &state).plain()
}

#[test]
fn a_sealed_ballot_tells_that_one_was_cast_and_not_what_until_it_is_unsealed() {
    let mut poll = opened(POLL);
    let update = cast(&mut poll, "oda", r#"["sweet","dry"]"#).unwrap();
    cast(&mut poll, "bram", r#"["mellow"]"#).unwrap();
    assert_eq!(
        seen(&poll, "oda", "voter")["blend-ballots"],
        json!({ "oda": { "choice": ["dry", "sweet"] } })
    );
    for (who, role) in [("keziah", "steward"), ("wren", "voter"), ("wren", "onlooker")] {
        assert_eq!(seen(&poll, who, role)["blend-ballots"], json!({}), "{who}");
        // To them the update says no more than that there was one.
        let charter = poll.charter();
        let told = charter.sight(role).update(&charter.fields, &update);
        assert!(told.effects.is_empty() && told.by.is_empty(), "{told:?}");
    }
    assert_eq!(at(&poll, "/blend/cast"), 0, "it is counted on the beat");
    count(&mut poll);
    assert_eq!(at(&poll, "/blend/cast"), 2);
    assert_eq!(at(&poll, "/blend/voters"), json!({ "bram": true, "oda": true }));
    assert_eq!(at(&poll, "/blend/results"), Value::Null);
    // Casting again replaces one's own; the same again changes nothing.
    cast(&mut poll, "oda", r#"["dry"]"#).unwrap();
    assert!(cast(&mut poll, "oda", r#"["dry"]"#).unwrap().effects.is_empty());
    for (wrong, kind) in [
        (r#"[]"#, ProblemKind::OutOfBounds),
        (r#"["dry","dry"]"#, ProblemKind::OutOfBounds),
        (r#"["dry","mellow","sweet"]"#, ProblemKind::OutOfBounds),
        (r#"["dri"]"#, ProblemKind::OutOfBounds),
        (r#""dry""#, ProblemKind::Malformed),
    ] {
        assert_eq!(cast(&mut poll, "oda", wrong).unwrap_err().kind(), kind, "{wrong}");
    }
    let others = [
        (
            "wren",
            "onlooker",
            r#""at":"/blend","op":"cast","choices":["dry"]"#,
            ProblemKind::NotAllowed,
        ),
        ("oda", "voter", r#""at":"/blend","op":"unseal""#, ProblemKind::NotAllowed),
        ("oda", "voter", r#""at":"/blend","op":"restart""#, ProblemKind::NotAllowed),
        ("wren", "voter", r#""at":"/blend","op":"withdraw""#, ProblemKind::Gone),
        ("oda", "voter", r#""at":"/blend-ballots/oda","op":"drop""#, ProblemKind::UnknownOp),
        (
            "oda",
            "voter",
            r#""at":"/blend-ballots/oda/choice","op":"set","value":["x"]"#,
            ProblemKind::UnknownOp,
        ),
        ("oda", "voter", r#""at":"/blend","op":"count""#, ProblemKind::UnknownOp),
        (
            "service",
            "service",
            r#""at":"/blend","op":"cast","choices":["dry"]"#,
            ProblemKind::NotAllowed,
        ),
    ];
    for (who, role, text, kind) in others {
        assert_eq!(poll_act(&mut poll, who, role, text).unwrap_err().kind(), kind, "{text}");
    }
    let unsealed =
        poll_act(&mut poll, "keziah", "steward", r#""at":"/blend","op":"unseal""#).unwrap();
    assert_eq!(at(&poll, "/blend/results/tally"), json!({ "dry": 1, "mellow": 1, "sweet": 0 }));
    assert_eq!(at(&poll, "/blend/results/shares"), json!({ "dry": 50, "mellow": 50, "sweet": 0 }));
    assert_eq!(seen(&poll, "wren", "voter")["blend-ballots"]["oda"], json!({ "choice": ["dry"] }));
    // What was replaced is in nothing that anybody is told of it.
    let told = poll.charter().sight("voter").update(&poll.charter().fields, &unsealed);
    let told = serde_json::to_value(&told.effects).unwrap();
    assert!(
        told.as_array().unwrap().iter().all(|effect| effect["value"] != json!(["dry", "sweet"]))
    );
    assert_eq!(cast(&mut poll, "oda", r#"["sweet"]"#).unwrap_err().kind(), ProblemKind::Stale);

    let restart = r#""at":"/blend","op":"restart","question":"And next year?""#;
    poll_act(&mut poll, "keziah", "steward", restart).unwrap();
    let blend = at(&poll, "/blend");
    assert_eq!(
        (&blend["round"], &blend["open"], &blend["cast"]),
        (&json!(2), &json!(false), &json!(0))
    );
    assert_eq!(blend["earlier"][0]["results"]["tally"]["dry"], 1);
    assert_eq!(
        (&blend["question"], &at(&poll, "/blend-ballots")),
        (&json!("And next year?"), &json!({}))
    );
    cast(&mut poll, "oda", r#"["sweet"]"#).unwrap();
    assert_eq!(seen(&poll, "bram", "voter")["blend-ballots"], json!({}));
}

#[test]
fn a_scale_says_where_most_are_and_whom_to_ask() {
    let mut poll = opened(POLL);
    let mut say = |who: &str, value: Value| {
        let text = format!(r#""at":"/brix","op":"cast","value":{value}"#);
        poll_act(&mut poll, who, "voter", &text).map(drop).map_err(|problem| problem.kind())
    };
    for (who, value) in [
        ("oda", json!(12)),
        ("bram", json!(12.5)),
        ("wren", json!(13)),
        ("mirela", json!(29.5)),
        ("tobin", json!("unsure")),
        ("anouk", json!(2)),
    ] {
        assert_eq!(say(who, value), Ok(()));
    }
    for wrong in [json!(12.3), json!(-1), json!(30.5), json!("maybe")] {
        assert_eq!(say("lucjan", wrong), Err(ProblemKind::OutOfBounds));
    }
    count(&mut poll);
    let brix = at(&poll, "/brix");
    assert_eq!((&brix["cast"], &brix["voters"]), (&json!(6), &Value::Null));
    // 2, 12, 12.5, 13 and 29.5: the median distance from 12.5 is 0.5, so far is more than 1.5.
    let expected = json!({
        "median": 12.5, "mean": 13.8, "spread": 0.5,
        "ask": { "high": ["mirela"], "low": ["anouk"], "unsure": ["tobin"] },
        "tally": { "12": 1, "12.5": 1, "13": 1, "2": 1, "29.5": 1, "unsure": 1 },
    });
    assert_eq!(brix["results"], expected);
    poll_act(&mut poll, "oda", "voter", r#""at":"/brix","op":"withdraw""#).unwrap();
    count(&mut poll);
    assert_eq!(
        (at(&poll, "/brix/cast"), at(&poll, "/brix/results/median")),
        (json!(5), json!(12.75))
    );
}

#[test]
fn where_most_agree_far_is_more_than_two_steps_and_a_secret_ballot_names_nobody() {
    let secret = POLL.replace("voters = \"count\"", "secret = true");
    for (charter, ask) in [
        (POLL, json!({ "high": ["anouk"], "low": [], "unsure": [] })),
        (secret.as_str(), Value::Null),
    ] {
        let mut poll = opened(charter);
        for (who, value) in
            [("oda", 12.0), ("bram", 12.0), ("wren", 12.0), ("mirela", 13.0), ("anouk", 13.5)]
        {
            let text = format!(r#""at":"/brix","op":"cast","value":{value}"#);
            poll_act(&mut poll, who, "voter", &text).unwrap();
        }
        poll_act(&mut poll, "keziah", "steward", r#""at":"/brix","op":"unseal""#).unwrap();
        assert_eq!(at(&poll, "/brix/results/spread"), 0);
        assert_eq!(at(&poll, "/brix/results/ask"), ask);
    }
}

#[test]
fn the_newest_rounds_of_a_ballot_stay_readable() {
    let mut poll = opened(POLL);
    for _ in 0..25 {
        poll_act(&mut poll, "keziah", "steward", r#""at":"/blend","op":"restart""#).unwrap();
    }
    let earlier = at(&poll, "/blend/earlier");
    let rounds: Vec<u64> =
        earlier.as_array().unwrap().iter().filter_map(|round| round["round"].as_u64()).collect();
    assert_eq!((rounds, at(&poll, "/blend/round")), ((6..=25).collect(), json!(26)));
}

#[test]
fn what_the_session_may_not_do_by_itself_it_tries_again_later() {
    let full = POLL.replace("[roles.voter]", "[limits]\nstate = \"1KiB\"\n[roles.voter]");
    let mut poll = opened(&full);
    let cast = r#""at":"/blend","op":"cast","choices":["dry"]"#;
    let mut voter =
        |n: usize| poll_act(&mut poll, &format!("v{n}{}", "x".repeat(60)), "voter", cast);
    let cast = (0..).take_while(|n| voter(*n).is_ok()).count();
    assert!(cast > 0, "the limit is of what is cast and of what is told of it");
    let due = poll.poll_timeout().unwrap();
    assert!(matches!(poll.handle_timeout(due), Some(Outcome::Refused(_))));
    assert_eq!((poll.poll_timeout(), poll.handle_timeout(due)), (Some(due + 1_000), None));
}

#[test]
fn what_was_cast_in_secret_is_never_told_to_anybody() {
    let mut poll = opened(POLL);
    let cast = r#""at":"/whom","op":"cast","choices":["bram"]"#;
    let update = poll_act(&mut poll, "oda", "voter", cast).unwrap();
    let viewer = Viewer::new("oda", &std::collections::BTreeMap::new());
    let sight = poll.charter().sight("voter");
    assert_eq!(sight.beside(&poll.charter().fields, &update, &viewer), None);
    assert!(update.disclosures.is_empty(), "{update:?}");
    let unseal = r#""at":"/whom","op":"unseal""#;
    let unsealed = poll_act(&mut poll, "keziah", "steward", unseal).unwrap();
    assert_eq!(at(&poll, "/whom/results/tally"), json!({ "bram": 1, "oda": 0 }));
    for (who, role) in
        [("oda", "voter"), ("bram", "voter"), ("keziah", "steward"), ("service", "service")]
    {
        assert_eq!(seen(&poll, who, role).get("whom-ballots"), None, "{who}");
    }
    let charter = poll.charter();
    let told = charter.sight("service").update(&charter.fields, &unsealed);
    assert!(told.effects.iter().all(|effect| !effect.at.to_string().contains("ballots")));
}

#[test]
fn a_ballot_that_unseals_itself_waits_for_all_who_sit() {
    let source = POLL.replace("most    = 2", "unseal  = \"all-cast\"")
        + "[state.seats]\nkind = \"seats\"\ncount = 3\nneeded = 2\n";
    let source =
        source.replace("version = 1\n", "version = 1\n[session]\nwhile-gathering = [\"/blend\"]\n");
    let mut poll = opened(&source);
    poll_act(&mut poll, "oda", "voter", SIT).unwrap();
    cast(&mut poll, "oda", r#"["dry"]"#).unwrap();
    cast(&mut poll, "wren", r#"["dry"]"#).unwrap();
    assert_eq!(at(&poll, "/blend/open"), false);
    poll_act(&mut poll, "bram", "voter", SIT).unwrap();
    cast(&mut poll, "bram", r#"["sweet"]"#).unwrap();
    assert_eq!(
        (at(&poll, "/blend/open"), at(&poll, "/blend/results/tally/dry")),
        (json!(true), json!(2))
    );
}

proptest! {
    /// However often people cast, change and withdraw, a ballot comes to what stands in the end, and
    /// a session that was started from a snapshot counts the same.
    #[test]
    fn nobody_counts_twice(
        acts in prop::collection::vec((0..5u8, prop::option::of(0..3usize), prop::bool::weighted(0.2)), 1..40),
    ) {
        let mut poll = opened(POLL);
        let mut model = std::collections::BTreeMap::new();
        for (who, choice, counts) in acts {
            let who = format!("p{who}");
            match choice {
                Some(choice) => {
                    let choice = ["dry", "mellow", "sweet"][choice];
                    cast(&mut poll, &who, &format!(r#"["{choice}"]"#)).unwrap();
                    model.insert(who, choice);
                }
                None => {
                    let done = poll_act(&mut poll, &who, "voter", r#""at":"/blend","op":"withdraw""#);
                    prop_assert_eq!(done.is_ok(), model.remove(&who).is_some());
                }
            }
            if counts {
                while poll.handle_timeout(1 << 40).is_some() {}
            }
        }
        let stored = serde_json::to_value(poll.snapshot()).unwrap();
        let snapshot = serde_json::from_value(stored).unwrap();
        let mut twin = Sequencer::restore(poll.charter().clone(), snapshot);
        for session in [&mut poll, &mut twin] {
            while session.handle_timeout(1 << 40).is_some() {}
            poll_act(session, "keziah", "steward", r#""at":"/blend","op":"unseal""#).unwrap();
        }
        prop_assert_eq!(poll.plain(), twin.plain());
        let mut tally = std::collections::BTreeMap::from([("dry", 0u64), ("mellow", 0), ("sweet", 0)]);
        model.values().for_each(|choice| *tally.get_mut(choice).unwrap() += 1);
        prop_assert_eq!(at(&poll, "/blend/results/tally"), json!(tally));
        prop_assert_eq!(at(&poll, "/blend/cast"), json!(model.len()));
        prop_assert_eq!(poll.weight(), rendel_core::weight(&poll.plain()) as u64);
    }
}

/// Whatever else of a charter reads records could tell what a sealed or secret ballot keeps.
#[test]
fn nothing_of_a_charter_reads_the_ballots_that_were_cast() {
    for (rest, path) in [
        (
            "[state.sum]\nkind = \"total\"\nfrom = \"/whom-ballots\"\ncount = true\nby = \"choice\"\n",
            "state.sum.from",
        ),
        (
            "[[guards]]\nat = \"/whom-ballots/*/choice\"\nrule = \"new != 1\"\nsays = \"no\"\n",
            "guards[0].at",
        ),
        ("[[when]]\nchanges = \"/whom-ballots/*\"\nannounce = \"a.b\"\n", "when[0].changes"),
        ("[queries.all]\nfrom = \"/whom-ballots\"\n", "queries.all.from"),
        (
            "[state.picks]\nkind = \"map\"\n[state.picks.each.of]\nkind = \"register\"\nrefers = \"/whom-ballots\"\n",
            "state.picks.each.of.refers",
        ),
        ("[[gates]]\nat = \"/whom-ballots/*\"\nurl = \"http://127.0.0.1:1/\"\n", "gates[0].at"),
    ] {
        let faults = Charter::parse(&format!("{POLL}{rest}")).err().unwrap_or_default();
        assert!(faults.iter().any(|fault| fault.path == path), "{path}: {faults:#?}");
    }
}

#[test]
fn an_edit_of_a_ballot_counts_in_the_round_that_it_names_and_in_no_other() {
    let mut poll = opened(POLL);
    let cast = r#""at":"/blend","op":"cast","choices":["dry"]"#;
    poll_act(&mut poll, "oda", "voter", &format!(r#"{cast},"round":1"#)).unwrap();
    let next = r#""at":"/blend","op":"restart","question":"And next year?","round":1"#;
    poll_act(&mut poll, "keziah", "steward", next).unwrap();
    for (who, role, text) in [
        ("bram", "voter", cast),
        ("oda", "voter", r#""at":"/blend","op":"withdraw""#),
        ("keziah", "steward", r#""at":"/blend","op":"unseal""#),
        ("keziah", "steward", r#""at":"/blend","op":"restart""#),
    ] {
        // Made while offline, for the first question.
        let late = poll_act(&mut poll, who, role, &format!(r#"{text},"round":1"#)).unwrap_err();
        assert_eq!(late.kind(), ProblemKind::Stale, "{text}");
        let current = json!({ "question": "And next year?", "round": 2 });
        assert_eq!(late.member("current"), Some(&current), "{text}");
        let wrong = poll_act(&mut poll, who, role, &format!(r#"{text},"round":"two""#));
        assert_eq!(wrong.unwrap_err().kind(), ProblemKind::WrongType, "{text}");
    }
    assert_eq!(at(&poll, "/blend-ballots"), json!({}));
    poll_act(&mut poll, "bram", "voter", &format!(r#"{cast},"round":2"#)).unwrap();
    // One that names no round is for the present one.
    poll_act(&mut poll, "wren", "voter", cast).unwrap();
    assert_eq!(at(&poll, "/blend-ballots").as_object().map(|cast| cast.len()), Some(2));
}

#[test]
fn nothing_but_withdraw_takes_a_ballot_back() {
    let source = POLL.to_owned() + "[state.notes]\nkind = \"text\"\n";
    let mut poll = opened(&source);
    let act = |poll: &mut Sequencer, text: &str| poll_act(poll, "oda", "voter", text);
    let undo = r#""at":"","op":"undo""#;
    act(&mut poll, r#""at":"/notes","op":"splice","index":0,"delete":0,"insert":"dry""#).unwrap();
    let before = poll.seq();
    act(&mut poll, r#""at":"/blend","op":"cast","choices":["dry"]"#).unwrap();
    act(&mut poll, r#""at":"/brix","op":"cast","value":12.5"#).unwrap();
    // What was done before it is the last step.
    act(&mut poll, undo).unwrap();
    assert_eq!(at(&poll, "/notes"), "");
    assert_eq!(act(&mut poll, undo).unwrap_err().kind(), ProblemKind::NothingToUndo);
    act(&mut poll, r#""at":"","op":"redo""#).unwrap();
    poll_act(&mut poll, "keziah", "steward", r#""at":"/blend","op":"unseal""#).unwrap();
    act(&mut poll, undo).unwrap();
    assert_eq!(at(&poll, "/blend-ballots/oda/choice"), json!(["dry"]));
    assert_eq!(at(&poll, "/brix-ballots/oda/choice"), 12.5);

    // Nor does taking the session back to where it was before.
    let (now, charter) = (poll.state(), poll.charter().clone());
    let mut past = Sequencer::open(charter.clone(), None).unwrap();
    while past.seq() < before {
        let text = r#""at":"/notes","op":"splice","index":0,"delete":0,"insert":"dry""#;
        poll_act(&mut past, "oda", "voter", text).unwrap();
    }
    let back = |at: &str| {
        let path = Path::parse(at).unwrap();
        let backend = (&Actor::session(), charter.sight("service"));
        now.edits_back_to(&past.state(), &charter, &path, backend)
    };
    let edits: Vec<String> = back("").unwrap().iter().map(|edit| edit.at.clone()).collect();
    assert_eq!(edits, ["/notes"]);
    for at in ["/blend-ballots", "/blend-ballots/oda"] {
        assert_eq!(back(at).unwrap_err().kind(), ProblemKind::OutOfBounds, "{at}");
    }
}

#[test]
fn a_turn_waits_at_a_free_seat_if_the_charter_says_so() {
    let game = |vacant: &str| {
        let source = format!(
            "charter = \"c\"\nversion = 1\n[roles.player]\nedit = [\"/**\"]\n[state.seats]\n\
            kind = \"seats\"\nnames = [\"north\", \"east\", \"south\"]\n[state.turn]\nkind = \"turn\"\n\
            seats = \"/seats\"\ngoverns = [\"/tally\"]\nmoves = 1\nvacant = \"{vacant}\"\n[state.tally]\n\
            kind = \"counter\"\n"
        );
        let charter = Arc::new(Charter::parse(&source).unwrap());
        let mut game = Sequencer::open(charter, None).unwrap();
        for who in ["oda", "bram", "wren"] {
            act(&mut game, who, r#""at":"/seats","op":"sit""#).unwrap();
        }
        game
    };
    let add = r#""at":"/tally","op":"add","by":1"#;
    let mut waits = game("wait");
    act(&mut waits, "bram", STAND).unwrap();
    act(&mut waits, "oda", add).unwrap();
    assert_eq!(at(&waits, "/turn/seat"), "east", "the seat that bram has left");
    assert_eq!(refusal(&mut waits, "wren", add), ProblemKind::NotYourTurn);
    act(&mut waits, "tobin", r#""at":"/seats","op":"sit","seat":"east""#).unwrap();
    act(&mut waits, "tobin", add).unwrap();
    assert_eq!(at(&waits, "/turn/seat"), "south");
    act(&mut waits, "wren", STAND).unwrap();
    assert_eq!(at(&waits, "/turn/seat"), "south", "it waits for a substitute");
    let mut skips = game("skip");
    act(&mut skips, "bram", STAND).unwrap();
    act(&mut skips, "oda", add).unwrap();
    assert_eq!(at(&skips, "/turn/seat"), "south");
}
