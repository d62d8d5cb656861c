//! The cases that every replica passes, whatever its language.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod cases;
mod reference;
mod scenario;

use std::collections::BTreeMap;
use std::fs;
use std::path::PathBuf;

use rendel_client::{Change, Replica};
use rendel_core::{Act, Edit, Facts, KINDS, follow_carets};
use rendel_wire::{FromParticipant, FromService, decode_cbor, encode_cbor};
use serde_json::{Value, json};

#[test]
fn the_replica_passes_every_case() {
    if std::env::var_os("RENDEL_WRITE").is_some() {
        return eprintln!("the cases are being written: run them once more without RENDEL_WRITE");
    }
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../conformance");
    let mut passed = 0;
    for entry in fs::read_dir(folder).unwrap() {
        let file: Value =
            serde_json::from_slice(&fs::read(entry.unwrap().path()).unwrap()).unwrap();
        for case in file["cases"].as_array().unwrap() {
            for encoding in [as_it_is, through_cbor] {
                run(case, &file["client"], encoding);
            }
            passed += 1;
        }
    }
    assert!(passed > 20, "only {passed} cases were found");
}

/// Compares a file with what the run made; writes it where `RENDEL_WRITE` is set.
fn check_file(path: &str, made: &str) {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..").join(path);
    if std::env::var_os("RENDEL_WRITE").is_some() {
        fs::write(&path, made).unwrap();
    }
    let kept = fs::read_to_string(&path).unwrap_or_default();
    let hint = "the rules have changed: look at the difference after RENDEL_WRITE=1 cargo test -p \
        rendel-client --test conformance";
    assert!(kept == made, "{}: {hint}", path.display());
}

/// What a kind needs beside its file in the core: whatever is forgotten is named.
#[test]
fn every_kind_is_in_all_its_places() {
    let places = [
        ("crates/rendel-core/src/declaration/charter.schema.json", "\"NAME\""),
        ("docs/charter.md", "### `NAME`"),
        ("docs/charter.md", "<!-- runs: NAME -->\n| "),
        ("crates/rendel-client/tests/conformance/cases.rs", "kind = \\\"NAME\\\""),
        ("crates/rendel-client/tests/agreement.rs", "kind = \"NAME\""),
        ("crates/rendel-core/tests/worlds.rs", "kind = \"NAME\""),
    ];
    // What an operation needs besides.
    let words = [
        ("docs/protocol.md", "`NAME`"),
        ("crates/rendel/src/words.rs", " NAME "),
        ("crates/rendel/tests/clients/follow.py", "\"NAME\""),
        ("web/client/src/apply.ts", "case \"NAME\""),
    ];
    let acts = [("docs/protocol.md", "`NAME"), ("crates/rendel/src/words.rs", " NAME ")];
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..");
    let read = |path: &str| fs::read_to_string(folder.join(path)).unwrap().replace("\\\n", "");
    let mut missing = Vec::new();
    let mut look = |path: &str, wanted: String| {
        let is_there =
            read(path).contains(&wanted) || read(path).replace(' ', "").contains(&wanted);
        missing.extend((!is_there).then(|| format!("{path} lacks {wanted:?}")));
    };
    for kind in KINDS {
        places.iter().for_each(|(path, mark)| look(path, mark.replace("NAME", kind.name)));
        for op in kind.takes.iter().chain(kind.inside) {
            // What became of an act is told as values that were set.
            let places = if Act::is_named(op) { &acts[..] } else { &words[..] };
            places.iter().for_each(|(path, mark)| look(path, mark.replace("NAME", op)));
        }
    }
    check_file("web/client/src/kinds.ts", &kinds_in_typescript());
    assert!(missing.is_empty(), "{}", missing.join("\n"));
}

/// The names of the kinds for the front end, which has an editor and a collision for each of them
/// or does not compile.
fn kinds_in_typescript() -> String {
    let mut made =
        "/** The kinds of fields, as the core lists them. Made by its tests. */\n".to_owned();
    made += "export const KINDS = {\n";
    for kind in KINDS {
        let list =
            |ops: &[&str]| ops.iter().map(|op| format!("\"{op}\"")).collect::<Vec<_>>().join(", ");
        let (takes, inside) = (list(kind.takes), list(kind.inside));
        made += &format!("  {}: {{ takes: [{takes}], inside: [{inside}] }},\n", kind.name);
    }
    made + "} as const;\n\nexport type KindName = keyof typeof KINDS;\n"
}

#[test]
fn the_kept_cases_are_what_real_runs_give() {
    let files = [
        ("merging", "Two edits of each kind and rule, concurrent and not.", cases::merging()),
        (
            "texts",
            "Texts: what is shown before an answer, what waits, what is made anew, anchors.",
            cases::texts(),
        ),
        ("random", "Random sessions of a text and a list.", cases::random()),
    ];
    for (name, about, cases) in files {
        let lines = |case: &Value| {
            let steps: Vec<String> =
                case["steps"].as_array().unwrap().iter().map(ToString::to_string).collect();
            format!(
                "    {{ \"name\": {}, \"steps\": [\n      {}\n    ] }}",
                case["name"],
                steps.join(",\n      ")
            )
        };
        let cases: Vec<String> = cases.iter().map(lines).collect();
        let file = format!(
            "{{\n  \"about\": {},\n  \"client\": {},\n  \"cases\": [\n{}\n  ]\n}}\n",
            json!(about),
            json!(scenario::CLIENT),
            cases.join(",\n")
        );
        check_file(&format!("conformance/{name}.json"), &file);
    }
}

#[test]
fn the_charter_reference_tells_what_real_runs_give() {
    check_file("docs/charter.md", &reference::charter_page());
}

fn as_it_is(frame: &Value) -> FromService {
    FromService::decode(frame.to_string().as_bytes()).unwrap()
}

fn through_cbor(frame: &Value) -> FromService {
    FromService::from_value(decode_cbor(&encode_cbor(frame)).unwrap()).unwrap()
}

#[test]
fn frames_in_cbor_are_these_bytes() {
    let file = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../conformance/encoding.json");
    let file: Value = serde_json::from_slice(&fs::read(file).unwrap()).unwrap();
    for vector in file["vectors"].as_array().unwrap() {
        let bytes = vector["cbor"].as_str().unwrap();
        let encoded: String =
            encode_cbor(&vector["json"]).iter().map(|byte| format!("{byte:02x}")).collect();
        assert_eq!(encoded, bytes, "{}", vector["json"]);
    }
    assert!(file["vectors"].as_array().unwrap().len() > 3);
}

#[test]
fn facts_of_presence_follow_their_texts() {
    let file = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../conformance/presence.json");
    let file: Value = serde_json::from_slice(&fs::read(file).unwrap()).unwrap();
    for case in file["followed"].as_array().unwrap() {
        let mut facts: Facts = serde_json::from_value(case["facts"].clone()).unwrap();
        let effects: Vec<rendel_core::Effect> =
            serde_json::from_value(case["effects"].clone()).unwrap();
        follow_carets(&mut facts, &effects);
        assert_eq!(json!(facts), case["then"], "{}", case["name"]);
    }
    assert!(file["followed"].as_array().unwrap().len() > 5);
}

fn run(case: &Value, client: &Value, read: fn(&Value) -> FromService) {
    let mut replica = Replica::new(serde_json::from_value(client.clone()).unwrap());
    let mut has_diverged = false;
    let mut anchors = BTreeMap::new();
    for (index, step) in case["steps"].as_array().unwrap().iter().enumerate() {
        let place = format!("{}, step {}", case["name"], index + 1);
        if let Some(frame) = step.get("receive") {
            let changes = replica.handle(read(frame));
            has_diverged = changes.iter().any(|change| matches!(change, Change::Diverged(_)));
            let sent = std::iter::from_fn(|| replica.poll_outgoing()).map(|frame| plain(&frame));
            let sent: Vec<_> = sent.collect();
            assert_eq!(json!(sent), step.get("sends").cloned().unwrap_or(json!([])), "{place}");
        } else if let Some(edits) = step.get("propose") {
            let edits: Vec<Edit> = serde_json::from_value(edits.clone()).unwrap();
            replica.propose(edits, None, None);
            let sent = replica.poll_outgoing().map(|frame| plain(&frame));
            assert_eq!(sent.unwrap_or_default(), step["sends"], "{place}");
        } else if let Some(anchor) = step.get("anchor") {
            let (at, index) = (
                anchor["at"].as_str().unwrap(),
                usize::try_from(anchor["index"].as_u64().unwrap()).unwrap(),
            );
            anchors.insert(
                anchor["name"].to_string(),
                replica.anchor(at, index, anchor["left"] == true),
            );
        } else {
            let expect = &step["expect"];
            assert!(
                expect.get("confirmed").is_none() || expect.get("view").is_some(),
                "{place}: it says no view"
            );
            for (name, expected) in step["expect"]["anchors"].as_object().into_iter().flatten() {
                let (index, is_there) =
                    replica.anchored(anchors[&json!(name).to_string()]).unwrap();
                assert_eq!(
                    &json!({ "index": index, "there": is_there }),
                    expected,
                    "{place}: anchor {name}"
                );
            }
            for (member, expected) in step["expect"]
                .as_object()
                .unwrap()
                .iter()
                .filter(|(member, _)| *member != "anchors")
            {
                assert_eq!(&actual(&replica, has_diverged, member), expected, "{place}: {member}");
            }
        }
    }
}

fn actual(replica: &Replica, has_diverged: bool, member: &str) -> Value {
    match member {
        "seq" => json!(replica.seq()),
        "confirmed" => json!(replica.confirmed()),
        "view" => json!(replica.view()),
        "pending" => replica.pending().map(Value::from).collect(),
        "unanswered" => replica
            .unanswered()
            .map(|frame| plain(&FromParticipant::Propose(frame.clone())))
            .collect(),
        "enter" => plain(&FromParticipant::Enter(replica.enter(None))),
        "digest" => json!(replica.digest()),
        "diverged" => json!(has_diverged),
        other => panic!("the runner does not know {other:?}"),
    }
}

fn plain(frame: &FromParticipant) -> Value {
    serde_json::from_str(&frame.encode()).unwrap()
}
