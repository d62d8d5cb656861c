//! A client in another language, written from the protocol's page alone, agrees with the command and the service.

use std::process::{Command, Stdio};

use serde_json::{Value, json};

use crate::harness::Service;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_client_in_another_language_agrees_with_the_command_and_the_service() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let token = service.token("slope-plan", "paloma", "steward").await;
    let script = format!("{}/tests/clients/follow.py", env!("CARGO_MANIFEST_DIR"));
    let foreign = Command::new("python3")
        .args([&script, &service.server, "slope-plan", &token, "12", "/crates"])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let edits = [
        "/crates add 3",
        "/markers put m7 {\"what\":\"ladder\"}",
        "/markers/m7/spot set {\"x\":1,\"y\":2.5}",
        "/markers/ladder-1 drop",
    ];
    for edit in edits {
        let output = service.rendel(&["propose", "slope-plan", edit, "--as", "steward", "--name", "Keziah"]);
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    }
    for n in 0..3 {
        let body = json!({ "edits": [{ "at": "/title", "op": "set", "value": format!("South slope {n}") }] });
        assert_eq!(service.post("/v1/sessions/slope-plan/proposals", &body).await.status(), 200);
    }
    // The foreign client proposes five edits of its own, and ends when it has applied all twelve.
    let output = foreign.wait_with_output().unwrap();
    assert!(output.status.success());
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    let by_command: Value = serde_json::from_slice(&service.rendel(&["--json", "state", "slope-plan"]).stdout).unwrap();
    assert_eq!(told["seq"], 12);
    assert_eq!(told["state"], by_command);
    assert_eq!(told["state"], service.state("slope-plan").await);
    assert_eq!(told["state"]["crates"], 18 + 3 + 5);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn lists_and_texts_reach_it_too_and_so_do_the_patches_of_an_unrelated_library() {
    let service = Service::start().await;
    service.open_demo("pressing-sheet").await;
    let opening = service.state("pressing-sheet").await;
    let token = service.token("pressing-sheet", "paloma", "cellar").await;
    let script = format!("{}/tests/clients/follow.py", env!("CARGO_MANIFEST_DIR"));
    let foreign = Command::new("python3")
        .args([&script, &service.server, "pressing-sheet", &token, "16", "/pressings/p3/litres"])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    // Each is made against the opening state, so that most meet what the ones before them did.
    let edits = [
        "/pressings/p1/notes splice 4 0 \" very\"",
        "/pressings/p1/notes splice 0 30 \"\u{1f34e} Bright.\"",
        "/pressings/p1/notes splice 20 3 \"\"",
        "/steps move x last",
        "/steps/wash move last",
        "/steps/mill move after wash",
        "/steps/wash move before rest",
        "/steps/press remove",
        "/steps insert after press {\"what\":\"Weigh\"}",
        "/steps/rest/done set true",
        "/label set \"Windfall\"",
        "/pressings/p2/ph set 3.9",
    ];
    let mut settled = 0;
    for edit in edits {
        let output = service.rendel(&["propose", "pressing-sheet", edit, "--seen", "0", "--as", "cellar"]);
        settled += usize::from(output.status.success());
    }
    assert_eq!(settled, 11, "one is no edit at all");
    let output = foreign.wait_with_output().unwrap();
    assert!(output.status.success());
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    let state = service.state("pressing-sheet").await;
    assert_eq!((&told["seq"], &told["state"]), (&json!(16), &state));

    let output = service.rendel(&["journal", "pressing-sheet", "--as", "json-patch"]);
    let mut patched = opening;
    let lines = String::from_utf8(output.stdout).unwrap();
    for (seq, line) in (1..).zip(lines.lines()) {
        let line: Value = serde_json::from_str(line).unwrap();
        assert_eq!(line["seq"], seq);
        let patch: json_patch::Patch = serde_json::from_value(line["patch"].clone()).unwrap();
        json_patch::patch(&mut patched, &patch).unwrap();
    }
    assert_eq!(patched, state);
    let last = service.get("/v1/sessions/pressing-sheet/journal?form=json-patch&from=16").await.text().await.unwrap();
    assert_eq!(Some(last.trim_end()), lines.lines().last(), "a part of them is made against the state before it");
    assert_eq!(service.get("/v1/sessions/pressing-sheet/journal?form=yaml").await.status(), 400);
}
