//! What comes from outside, damaged in every way: nothing panics, what is read is read the same
//! again, and what is wrong is told in few words.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::path::PathBuf;
use std::sync::{Arc, LazyLock};

use proptest::prelude::*;
use rendel_core::{
    Actor, Charter, Document, Edit, Outcome, Problem, Proposal, Sequencer, Sight, State,
};
use rendel_wire::{FromParticipant, FromService, Propose, decode_cbor, decode_json, encode_cbor};
use serde_json::{Value, json};

const TELLING: usize = 4_096;

fn told(problem: &Problem) {
    let bytes = serde_json::to_string(&problem.clone().bounded()).unwrap().len();
    assert!(bytes <= TELLING, "{bytes} bytes of {}", problem.kind().name());
}

/// A frame of either side in JSON.
fn frame(bytes: &[u8]) {
    match FromParticipant::decode(bytes) {
        Ok(frame) => {
            assert_eq!(FromParticipant::decode(frame.encode().as_bytes()), Ok(frame.clone()));
            let quick = std::str::from_utf8(bytes).ok().and_then(Propose::decode);
            if let (FromParticipant::Propose(slow), Some(quick)) = (frame, quick) {
                assert_eq!(quick, slow, "both readers read the same");
            }
        }
        Err(problem) => {
            told(&problem);
            let quick = std::str::from_utf8(bytes).ok().and_then(Propose::decode);
            assert_eq!(quick, None, "what one reader refuses the other does not read");
        }
    }
    if let Ok(frame) = FromService::decode(bytes) {
        assert_eq!(FromService::decode(frame.encode().as_bytes()), Ok(frame));
    }
}

/// A frame in CBOR.
fn cbor(bytes: &[u8]) {
    match decode_cbor(bytes) {
        Ok(value) => {
            assert_eq!(decode_cbor(&encode_cbor(&value)), Ok(value.clone()));
            drop(FromParticipant::from_value(value.clone()).map_err(|problem| told(&problem)));
            drop(FromService::from_value(value));
        }
        Err(problem) => told(&problem),
    }
}

/// A charter's text, and a session of it where it is one.
fn charter(text: &str) {
    match Charter::parse(text) {
        Ok(charter) => {
            let json = charter.to_json();
            assert_eq!(json["charter"], charter.name.as_str());
            drop(Sequencer::open(Arc::new(charter), None));
        }
        Err(faults) => {
            assert!(!faults.is_empty());
            let lines = text.split('\n').count();
            assert!(faults.iter().all(|fault| (1..=lines).contains(&fault.line)), "{faults:?}");
        }
    }
}

/// A rule of a guard, asked of an edit.
fn expression(rule: &str) {
    let source = format!(
        "charter = \"orchard\"\nversion = 1\n[state.crates]\nkind = \"counter\"\n[state.leads]\n\
         kind = \"register\"\nmerge = \"all\"\n[[guards]]\nat = \"/crates\"\nrule = {}\n\
         says = \"No.\"\n",
        toml_text(rule)
    );
    let Ok(charter) = Charter::parse(&source) else { return };
    let mut sequencer = Sequencer::open(Arc::new(charter), None).unwrap();
    let actor = Actor::new("oda", "participant", uuid::Uuid::nil());
    let edits = vec![Edit::new("/crates", "add").with("by", 7)];
    match sequencer.handle_proposal(&actor, &Proposal::new(1, None, edits), 0) {
        Outcome::Settled(_) => assert_eq!(sequencer.plain()["crates"], 7),
        Outcome::Refused(problem) => {
            told(&problem);
            assert_eq!(sequencer.plain()["crates"], 0);
        }
        Outcome::Repeated(_) => unreachable!("it was sent once"),
    }
}

/// A string as TOML has it: JSON's escapes but for those of surrogates are TOML's.
fn toml_text(text: &str) -> String {
    serde_json::to_string(text).unwrap().replace('\u{7f}', "\\u007f")
}

/// A document that changes the state.
fn document(bytes: &[u8]) {
    static SLOPE: LazyLock<(Charter, State)> = LazyLock::new(|| {
        let text = demo("slope-plan");
        let charter = Charter::parse(&text).unwrap();
        let opening = json!({ "markers": { "m1": {}, "m2": {} }, "title": "North slope" });
        let state = State::open(&charter, Some(&opening)).unwrap();
        (charter, state)
    });
    let (charter, state) = &*SLOPE;
    let Ok(value) = serde_json::from_slice::<Value>(bytes) else { return };
    let patch = Document::patch(value.clone()).map_err(|problem| told(&problem));
    for document in patch.into_iter().chain([Document::Merge(value)]) {
        match state.edits_for(charter, &document, &Sight::WHOLE, None) {
            Ok(edits) => assert!(edits.iter().all(|edit| edit.at.starts_with('/'))),
            Err(problem) => told(&problem),
        }
    }
}

fn demo(name: &str) -> String {
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../demo/charters");
    std::fs::read_to_string(folder.join(name).with_extension("toml")).unwrap()
}

const FRAMES: &[&str] = &[
    r#"{"type":"propose","n":1,"seen":7,"answered":0,"edits":[{"at":"/heads","op":"add","by":1}]}"#,
    r#"{"type":"proposals","proposals":[{"n":1,"seen":0,"edits":[{"at":"/m","op":"put","id":"a","value":{}}],"note":"x"}]}"#,
    r#"{"type":"enter","token":"t","client":"018f0000-0000-7000-8000-000000000001","seen":4,"epoch":2,"presence":{"pointer":{"x":1.5,"y":-2e3}}}"#,
    r#"{"type":"hold","n":1,"at":"/markers/m~17","for":30000,"over":true}"#,
    r#"{"type":"presence","set":{"caret":{"at":"/notes","index":3},"typing":null},"seen":9007199254740991}"#,
    r#"{"type":"settled","updates":[{"seq":3,"by":"oda","client":"018f0000-0000-7000-8000-000000000001","n":1,"at":5,"effects":[{"at":"/notes","op":"splice","index":0,"delete":1,"insert":"\ud83c\udf4e","made":{"seen":2,"index":0,"delete":1}}],"verdicts":[{"edit":0,"at":"/notes","verdict":"rebased","met":[2],"because":"x"}]}]}"#,
];
const RULES: &[&str] = &[
    "new != null && (old == null || new >= old)",
    "who.role == 'steward' || has(state.crates) && size(state.crates) > 0",
    "new % 2 == 0 ? new + 1 > old : [1, 2].exists(x, x == new)",
];
const DOCUMENTS: &[&str] = &[
    r#"[{"op":"add","path":"/markers/m3","value":{"what":"ladder"}},{"op":"move","from":"/markers/m1","path":"/markers/m4"}]"#,
    r#"[{"op":"copy","from":"","path":"/title"},{"op":"test","path":"/crates","value":1.0},{"op":"remove","path":"/markers/m2"}]"#,
    r#"{"title":null,"markers":{"m1":{"spot":{"x":1,"y":2}}}}"#,
];

/// Pieces that mean something to some reader.
const PIECES: &[&str] = &[
    "{",
    "}",
    "[",
    "]",
    "\"",
    ",",
    ":",
    "\\",
    "\\u",
    "\\ud800",
    "null",
    "1e999",
    "-0",
    "[[",
    "=",
    "\n",
    "\u{0}",
    "\u{feff}",
    "__proto__",
    "/",
    "~1",
    "**",
    "'",
    "((",
    "!!",
    "<=",
    "\u{a1}",
    "9007199254740993",
    "18446744073709551616",
    "\u{1f34e}",
    "each",
    "kind = \"map\"",
];

#[derive(Clone, Debug)]
enum Damage {
    Drop(u16, u8),
    Byte(u16, u8),
    Piece(u16, &'static str),
    Again(u16, u8, u8),
}

fn damage() -> impl Strategy<Value = Damage> {
    let at = any::<u16>;
    prop_oneof![
        (at(), 0..30u8).prop_map(|(at, len)| Damage::Drop(at, len)),
        (at(), any::<u8>()).prop_map(|(at, byte)| Damage::Byte(at, byte)),
        (at(), prop::sample::select(PIECES)).prop_map(|(at, piece)| Damage::Piece(at, piece)),
        (at(), 1..60u8, 1..80u8).prop_map(|(at, len, times)| Damage::Again(at, len, times)),
    ]
}

/// One of the texts, damaged in a few places.
fn damaged(texts: Vec<Vec<u8>>) -> impl Strategy<Value = Vec<u8>> {
    let damages = prop::collection::vec(damage(), 0..6);
    (prop::sample::select(texts), damages).prop_map(|(mut text, damages)| {
        for damage in damages {
            let scaled = |at: u16, text: &[u8]| usize::from(at) * text.len() / (1 << 16);
            match damage {
                Damage::Drop(at, len) => {
                    let at = scaled(at, &text);
                    let end = (at + usize::from(len)).min(text.len());
                    text.drain(at..end);
                }
                Damage::Byte(at, byte) => {
                    let at = scaled(at, &text);
                    text.splice(at..at, [byte]);
                }
                Damage::Piece(at, piece) => {
                    let at = scaled(at, &text);
                    text.splice(at..at, piece.bytes());
                }
                Damage::Again(at, len, times) => {
                    let at = scaled(at, &text);
                    let part = text[at..(at + usize::from(len)).min(text.len())].to_vec();
                    text.splice(at..at, part.repeat(usize::from(times)));
                }
            }
        }
        text
    })
}

fn texts(texts: &[&str]) -> Vec<Vec<u8>> {
    texts.iter().map(|text| text.as_bytes().to_vec()).collect()
}

fn charters() -> Vec<Vec<u8>> {
    let names = ["headcount", "slope-plan", "last-barrel", "pressing-sheet", "picking-board"];
    names.iter().map(|name| demo(name).into_bytes()).collect()
}

fn in_cbor() -> Vec<Vec<u8>> {
    let value = |text: &&str| serde_json::from_str::<Value>(text).unwrap();
    FRAMES.iter().map(value).map(|value| encode_cbor(&value)).collect()
}

proptest! {
    #[test]
    fn numbers_come_back_as_they_were(bits in any::<u64>()) {
        let number = f64::from_bits(bits);
        prop_assume!(number.is_finite());
        let text = serde_json::to_string(&number).unwrap();
        let back: serde_json::Value = decode_json(text.as_bytes()).unwrap();
        prop_assert_eq!(back.as_f64(), Some(number));
    }

    #[test]
    fn frames_are_read_or_refused(bytes in damaged(texts(FRAMES))) {
        frame(&bytes);
    }

    #[test]
    fn cbor_is_read_or_refused(bytes in damaged(in_cbor())) {
        cbor(&bytes);
    }

    #[test]
    fn charters_are_read_or_their_faults_told(bytes in damaged(charters())) {
        charter(&String::from_utf8_lossy(&bytes));
    }

    #[test]
    fn expressions_answer_or_refuse(bytes in damaged(texts(RULES))) {
        expression(&String::from_utf8_lossy(&bytes));
    }

    #[test]
    fn documents_lead_to_edits_or_are_refused(bytes in damaged(texts(DOCUMENTS))) {
        document(&bytes);
    }
}
