//! A client in another language, written from the protocol's page alone, agrees with the command
//! and the service.

use std::io::Write as _;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::Duration;

use serde_json::{Value, json};

use crate::harness::{Service, until};

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
        let output =
            service.rendel(&["propose", "slope-plan", edit, "--as", "steward", "--name", "Keziah"]);
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    }
    for n in 0..3 {
        let body = json!({ "edits": [{ "at": "/title", "op": "set", "value": format!("South slope \
            {n}") }] });
        assert_eq!(service.post("/v1/sessions/slope-plan/proposals", &body).await.status(), 200);
    }
    // The foreign client proposes five edits of its own, and ends when it has applied all twelve.
    let output = foreign.wait_with_output().unwrap();
    assert!(output.status.success());
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    let by_command: Value =
        serde_json::from_slice(&service.rendel(&["--json", "state", "slope-plan"]).stdout).unwrap();
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
        let output =
            service.rendel(&["propose", "pressing-sheet", edit, "--seen", "0", "--as", "cellar"]);
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
    let last = service
        .get("/v1/sessions/pressing-sheet/journal?form=json-patch&from=16")
        .await
        .text()
        .await
        .unwrap();
    assert_eq!(
        Some(last.trim_end()),
        lines.lines().last(),
        "a part of them is made against the state before it"
    );
    assert_eq!(service.get("/v1/sessions/pressing-sheet/journal?form=yaml").await.status(), 400);
}

/// A program of the Python packages that `scripts/test` fetches.
pub(crate) fn python_program(name: &str) -> PathBuf {
    let program =
        PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../target/test-python/bin").join(name);
    assert!(program.exists(), "{} is missing: scripts/test fetches it", program.display());
    program
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn in_another_language_every_way_follows_over_five_kills_and_two_of_the_database() {
    let mut service = Service::start().await;
    let port = service.database_port();
    service.open_demo("pressing-sheet").await;
    let token = service.token("pressing-sheet", "paloma", "cellar").await;
    let script = format!("{}/tests/clients/every_way.py", env!("CARGO_MANIFEST_DIR"));
    let mut foreign = Command::new(python_program("python"))
        .args([&script, &service.server, "pressing-sheet", &token])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let (server, key, http) = (service.server.clone(), service.key.clone(), service.http.clone());
    let is_over = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
    let over = is_over.clone();
    let settled = std::sync::Arc::new(std::sync::atomic::AtomicU64::new(0));
    let count = settled.clone();
    // A busy session: every kind of edit, over HTTP, each safe to repeat until it is answered.
    let writing = tokio::spawn(async move {
        for n in 0u64.. {
            if over.load(std::sync::atomic::Ordering::Relaxed) {
                return;
            }
            let edit = match n % 5 {
                0 => json!({ "at": "/pressings/p3/litres", "op": "add", "by": 1 }),
                1 => {
                    json!({ "at": "/pressings/p1/notes", "op": "splice", "index": 0, "insert": format!("{n}🍎") })
                }
                2 => {
                    json!({ "at": "/pressings/p1/notes", "op": "splice", "index": 1, "delete": 2 })
                }
                3 => json!({ "at": "/pressings", "op": "put", "id": format!("n{n}"), "value": {} }),
                _ => json!({ "at": format!("/pressings/n{}", n - 1), "op": "drop" }),
            };
            let body = json!({ "edits": [edit] });
            loop {
                let call = http
                    .post(format!("{server}/v1/sessions/pressing-sheet/proposals"))
                    .bearer_auth(&key);
                let answer =
                    call.header("Idempotency-Key", format!("n{n}")).json(&body).send().await;
                match answer.map(|answer| answer.status().as_u16()) {
                    Ok(200) => {
                        count.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                        break;
                    }
                    Ok(400..500) => break,
                    _ => tokio::time::sleep(Duration::from_millis(30)).await,
                }
            }
        }
    });
    let so_far = || settled.load(std::sync::atomic::Ordering::Relaxed);
    for fault in 0..7 {
        let due = so_far() + 20;
        until("more is settled", async || (so_far() >= due).then_some(())).await;
        if fault % 3 == 2 {
            service.kill_database();
            tokio::time::sleep(Duration::from_millis(400)).await;
            service.start_database(port);
        } else {
            service.kill();
            service.launch();
        }
    }
    let due = so_far() + 20;
    until("more is settled", async || (so_far() >= due).then_some(())).await;
    is_over.store(true, std::sync::atomic::Ordering::Relaxed);
    writing.await.unwrap();
    let settled = so_far();
    let journal = service.journal("pressing-sheet").await;
    assert_eq!(journal.len() as u64, settled, "every call counts once");
    writeln!(foreign.stdin.take().unwrap(), "{settled}").unwrap();
    let output = foreign.wait_with_output().unwrap();
    assert!(output.status.success());
    let newcomer = service.state("pressing-sheet").await;
    for line in String::from_utf8(output.stdout).unwrap().lines() {
        let told: Value = serde_json::from_str(line).unwrap();
        assert_eq!((&told["seq"], &told["state"]), (&json!(settled), &newcomer), "{}", told["way"]);
        assert!(told["returns"].as_u64().unwrap() >= 5, "{}: {}", told["way"], told["returns"]);
    }
}

/// What does not hold of a service by design: what the schema allows may be refused all the same,
/// since the charter and the state decide (`positive_data_acceptance`).
const LEFT_OUT: &str = "positive_data_acceptance";

/// Calls are about one session, which the tester may end; what it sends after that is refused as
/// ended.
const TESTER: &str = r#"
[parameters]
"path.session" = "slope-plan"
"query.as" = "steward"
[checks.negative_data_rejection]
expected-statuses = ["400", "401", "403", "404", "405", "409", "410", "413", "415", "422", "429", "5xx"]
"#;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn no_call_that_the_description_allows_breaks_the_service() {
    let service = Service::start().await;
    for name in ["headcount", "slope-plan"] {
        service.open_demo(name).await;
    }
    // Streams never end; what they refuse is told in the stories of delivery.
    std::fs::write(service.path("schemathesis.toml"), TESTER).unwrap();
    let output = Command::new(python_program("schemathesis"))
        .args(["run", &format!("{}/v1/openapi.json", service.server)])
        .args(["--header", &format!("Authorization: Bearer {}", service.key)])
        .args(["--checks", "all", "--exclude-checks", LEFT_OUT])
        .args(["--exclude-path", "/sessions/{session}/events"])
        .args(["--exclude-path", "/sessions/{session}/lines"])
        // It takes any text, and tells what is wrong with it.
        .args(["--exclude-path", "/charters/check"])
        .args([
            "--max-examples",
            "25",
            "--phases",
            "examples,coverage,fuzzing",
            "--request-timeout",
            "20",
        ])
        .args(["--workers", "1", "--generation-deterministic", "--no-color"])
        .env("SCHEMATHESIS_HOOKS", "media")
        .env("PYTHONPATH", format!("{}/tests/clients", env!("CARGO_MANIFEST_DIR")))
        .current_dir(service.path(""))
        .output()
        .unwrap();
    let told = String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success(), "{told}\n{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(service.get("/readyz").await.status(), 200);
    assert!(!service.log().contains("panicked"), "{}", service.log());
}
