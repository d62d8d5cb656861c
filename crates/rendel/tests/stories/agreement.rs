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
        .args([&script, &service.server, "slope-plan", &token, "12"])
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
