//! Outside checks: what passes, what waits, and what is away.

use std::process::{Child, Command, Stdio};
use std::time::Duration;

use serde_json::{Value, json};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpListener;

use crate::harness::{Raw, Service, free_port, name, until};

pub(crate) const SECRET: &str =
    "whsec_YSBzZWNyZXQgdGhhdCB0aGUgZ2F0ZSBhbmQgdGhlIHNlcnZpY2Ugc2hhcmU=";

fn charter(if_away: &str) -> String {
    format!(
        "charter = \"remarks\"\nversion = 1\n[state.remarks]\nkind = \
         \"list\"\n[state.remarks.each.says]\nkind = \"register\"\n[state.remarks.each.by]\nkind \
         = \"register\"\nfilled = \"author\"\n[state.heads]\nkind = \"counter\"\n[[gates]]\nat = \
         \"/remarks/*\"\nurl = \"${{GATE_URL}}/check\"\ntimeout = \"700ms\"\nif-away = \
         \"{if_away}\"\n"
    )
}

async fn service(url: &str, if_away: &str) -> Service {
    let variables = format!("{{GATE_URL=\"{url}\"}}");
    let service =
        Service::start_with(&[("RENDEL_VARIABLES", &variables), ("RENDEL_GATE_SECRET", SECRET)])
            .await;
    service.publish(&charter(if_away)).await;
    service.open("remarks", json!({})).await;
    service
}

fn remark(says: &str) -> Value {
    json!([{ "at": "/remarks", "op": "insert", "id": says.split(' ').next().unwrap(), "value": { "says": says } }])
}

/// The stand-in that ships with the demo, in a process of its own.
pub(crate) struct StandIn(Child);

impl StandIn {
    pub(crate) fn start(port: u16) -> Self {
        let words = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/gate/words.json");
        let mut command = Command::new(env!("CARGO_BIN_EXE_rendel"));
        command
            .args(["stand-in", "gate", "--port", &port.to_string(), "--words", words])
            .env("RENDEL_GATE_SECRET", SECRET);
        Self(command.stdout(Stdio::null()).spawn().unwrap())
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

async fn enter(service: &Service, who: &str) -> Raw {
    let token = service.token("remarks", who, "participant").await;
    Raw::enter(service, "remarks", &token).await.0
}

#[tokio::test]
async fn a_remark_is_let_through_refused_or_replaced_before_anybody_else_sees_it() {
    let port = free_port();
    let _stand_in = StandIn::start(port);
    let url = format!("http://127.0.0.1:{port}");
    let service = service(&url, "refuse").await;
    until("the stand-in is there", async || reqwest::get(&url).await.ok()).await;
    let (mut oda, mut bram) = (enter(&service, "oda").await, enter(&service, "bram").await);
    oda.propose(remark("dry rows are done")).await;
    assert_eq!(oda.next("waiting").await["n"], 1);
    let update = oda.answer().await.unwrap();
    assert_eq!(update["effects"][0]["value"], json!({ "by": "oda", "says": "dry rows are done" }));
    oda.propose(remark("rotten luck today")).await;
    let refused = oda.answer().await.unwrap_err();
    assert_eq!(
        (name(&refused), &refused["detail"]),
        ("gate".into(), &json!("Keep remarks friendly: leave \"rotten\" out."))
    );
    oda.propose(remark("that darn ladder")).await;
    let update = oda.answer().await.unwrap();
    assert_eq!(
        (&update["effects"][0]["value"]["says"], &update["note"]),
        (&json!("that dear ladder"), &json!("changed by a check on its way"))
    );
    // Another sees what came through and nothing of the rest.
    let seen: Vec<_> = [bram.next("settled").await, bram.next("settled").await]
        .iter()
        .map(|frame| frame["updates"][0]["effects"][0]["value"]["says"].clone())
        .collect();
    assert_eq!(seen, ["dry rows are done", "that dear ladder"]);
    // By a call it is the same, and the backend itself passes.
    let token = service.token("remarks", "wren", "participant").await;
    let call = service
        .http
        .post(format!("{}/v1/sessions/remarks/proposals", service.server))
        .bearer_auth(token);
    assert_eq!(
        call.json(&json!({ "edits": remark("useless crates") })).send().await.unwrap().status(),
        422
    );
    assert_eq!(
        service
            .post("/v1/sessions/remarks/proposals", &json!({ "edits": remark("useless too") }))
            .await
            .status(),
        200
    );
}

/// A gate that answers when it is told to, and keeps what it was asked.
struct SlowGate {
    listener: TcpListener,
}

impl SlowGate {
    async fn new() -> (Self, String) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        (Self { listener }, url)
    }

    /// The next question, and the connection to answer on.
    async fn asked(&self) -> (Value, tokio::net::TcpStream) {
        let (mut stream, _) = self.listener.accept().await.unwrap();
        let mut read = Vec::new();
        loop {
            let mut buffer = [0; 4_096];
            let count = stream.read(&mut buffer).await.unwrap();
            read.extend_from_slice(&buffer[..count]);
            let text = String::from_utf8_lossy(&read).into_owned();
            if let Some((head, body)) = text.split_once("\r\n\r\n") {
                let length = head
                    .to_lowercase()
                    .lines()
                    .find_map(|line| line.strip_prefix("content-length: ")?.parse::<usize>().ok());
                if body.len() >= length.unwrap_or(0) {
                    return (serde_json::from_str(body).unwrap(), stream);
                }
            }
            assert!(count > 0, "the question broke off");
        }
    }

    async fn answer(stream: tokio::net::TcpStream, body: &str) {
        Self::answer_with("200 OK", stream, body).await;
    }

    async fn answer_with(status: &str, mut stream: tokio::net::TcpStream, body: &str) {
        let response = format!(
            "HTTP/1.1 {status}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
            body.len()
        );
        stream.write_all(response.as_bytes()).await.unwrap();
    }
}

const ACCEPT: &str = r#"{"answer":"accept"}"#;

#[tokio::test]
async fn others_go_on_while_one_waits_and_a_lost_connection_changes_nothing() {
    let (gate, url) = SlowGate::new().await;
    let service = service(&url, "refuse").await;
    let token = service.token("remarks", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "remarks", &token).await;
    let mut bram = enter(&service, "bram").await;
    oda.propose(remark("first")).await;
    let (question, stream) = gate.asked().await;
    assert_eq!(
        (&question["by"], &question["session"], &question["n"]),
        (&json!("oda"), &json!("remarks"), &json!(1))
    );
    // What the same client makes on top waits behind it; another's goes through at once.
    oda.propose(json!([{ "at": "/heads", "op": "add", "by": 5 }])).await;
    bram.propose(json!([{ "at": "/heads", "op": "add", "by": 1 }])).await;
    assert_eq!(bram.answer().await.unwrap()["effects"][0]["now"], 1);
    // Her connection goes; she comes back and sends again what has no answer. It is checked once.
    let (client, n) = (oda.client, oda.n);
    drop(oda);
    let mut back = Raw::connect(&service, "remarks").await;
    back.client = client;
    back.send(&json!({ "type": "enter", "token": token, "client": client })).await;
    back.next("welcome").await;
    for (n, edits) in [(1, remark("first")), (n, json!([{ "at": "/heads", "op": "add", "by": 5 }]))]
    {
        back.send(&json!({ "type": "propose", "n": n, "seen": 0, "answered": 0, "edits": edits }))
            .await;
    }
    assert_eq!(back.next("waiting").await["n"], 1);
    SlowGate::answer(stream, ACCEPT).await;
    let mut seqs = Vec::new();
    while seqs.len() < 2 {
        let frame = back.next("settled").await;
        let updates =
            frame["updates"].as_array().unwrap().iter().filter(|update| update["by"] == "oda");
        seqs.extend(
            updates.map(|update| (update["n"].as_u64().unwrap(), update["seq"].as_u64().unwrap())),
        );
    }
    assert_eq!(seqs, [(1, 2), (2, 3)]);
    assert_eq!(service.journal("remarks").await.len(), 3);
}

#[tokio::test]
async fn a_gate_that_is_away_counts_as_the_charter_says_and_is_left_alone_for_a_while() {
    for (if_away, is_settled) in [("refuse", false), ("accept", true)] {
        let (gate, url) = SlowGate::new().await;
        let service = service(&url, if_away).await;
        let mut oda = enter(&service, "oda").await;
        // What a gate makes of what it is asked says nothing of the gate: whoever provokes that
        // opens nothing.
        let answers = ["{\"answer\":\"maybe\"}", "no JSON", "{\"answer\":\"replace\"}", "{}", "[]"];
        let odd = answers.map(|answer| ("200 OK", answer));
        let broken = [("503 Service Unavailable", ""); 5];
        for (round, (status, answer)) in odd.into_iter().chain(broken).enumerate() {
            oda.propose(remark(&format!("r{round}"))).await;
            let (_, stream) = gate.asked().await;
            SlowGate::answer_with(status, stream, answer).await;
            assert_eq!(oda.answer().await.is_ok(), is_settled, "{if_away} {status} {answer}");
        }
        // Five in a row: it is not asked any more in this session, and nobody waits for it.
        oda.propose(remark("after")).await;
        let asked = tokio::time::timeout(Duration::from_millis(300), gate.asked());
        let (answer, asked) = tokio::join!(oda.answer(), asked);
        assert_eq!((answer.is_ok(), asked.is_err()), (is_settled, true), "{if_away}");
        assert_eq!(service.metric("rendel_gates_away_total").await, 11.0);
    }
}

#[tokio::test]
async fn a_gate_that_does_not_answer_in_time_is_away() {
    let (gate, url) = SlowGate::new().await;
    let service = service(&url, "refuse").await;
    let mut oda = enter(&service, "oda").await;
    oda.propose(remark("slow")).await;
    let (_, stream) = gate.asked().await;
    let refused = oda.answer().await.unwrap_err();
    assert_eq!(name(&refused), "gate");
    SlowGate::answer(stream, ACCEPT).await;
    oda.propose(json!([{ "at": "/heads", "op": "add", "by": 1 }])).await;
    oda.answer().await.unwrap();
    assert_eq!(service.journal("remarks").await.len(), 1, "a late answer settles nothing");
}

#[tokio::test]
async fn where_two_gates_are_about_a_proposal_both_are_asked_in_turn() {
    let (gate, url) = SlowGate::new().await;
    let variables = format!("{{GATE_URL=\"{url}\"}}");
    let service =
        Service::start_with(&[("RENDEL_VARIABLES", &variables), ("RENDEL_GATE_SECRET", SECRET)])
            .await;
    let second = "[[gates]]\nat = \"/remarks/*/says\"\nurl = \"${GATE_URL}/again\"\n";
    service.publish(&format!("{}{second}", charter("refuse"))).await;
    service.open("remarks", json!({})).await;
    let mut oda = enter(&service, "oda").await;
    for (says, verdict) in
        [("first", ACCEPT), ("second", "{\"answer\":\"refuse\",\"says\":\"Not this one.\"}")]
    {
        oda.propose(remark(says)).await;
        let (_, stream) = gate.asked().await;
        SlowGate::answer(stream, ACCEPT).await;
        let (question, stream) = gate.asked().await;
        assert_eq!(question["edits"][0]["value"]["says"], says);
        SlowGate::answer(stream, verdict).await;
        assert_eq!(oda.answer().await.is_ok(), verdict == ACCEPT, "{says}");
    }
    assert_eq!(service.journal("remarks").await.len(), 1);
}

/// Checks a signature with the library of the specification's authors.
const VERIFY: &str = "
import json, sys
from standardwebhooks.webhooks import Webhook
call = json.load(sys.stdin)
for secret, is_good in ((call['secret'], True), ('whsec_' + 'b3RoZXIgb3RoZXIgb3RoZXIgb3RoZXI=', False)):
    try:
        Webhook(secret).verify(call['body'], call['headers'])
        assert is_good
    except Exception as error:
        assert not is_good, error
";

#[tokio::test]
async fn a_stock_verifier_in_another_language_knows_that_the_service_asks() {
    let (gate, url) = SlowGate::new().await;
    let service = service(&url, "refuse").await;
    let mut oda = enter(&service, "oda").await;
    oda.propose(remark("row 3")).await;
    let (mut stream, _) = gate.listener.accept().await.unwrap();
    let mut read = Vec::new();
    let (head, body) = loop {
        let mut buffer = [0; 4_096];
        let count = stream.read(&mut buffer).await.unwrap();
        read.extend_from_slice(&buffer[..count]);
        let text = String::from_utf8(read.clone()).unwrap();
        if let Some((head, body)) =
            text.split_once("\r\n\r\n").filter(|(_, body)| body.ends_with('}'))
        {
            break (head.to_owned(), body.to_owned());
        }
    };
    let headers: serde_json::Map<String, Value> = head
        .lines()
        .filter_map(|line| line.split_once(": "))
        .map(|(name, value)| (name.to_lowercase(), json!(value)))
        .collect();
    let call = json!({ "secret": SECRET, "body": body, "headers": headers });
    let mut verifier = std::process::Command::new(crate::agreement::python_program("python"))
        .args(["-c", VERIFY])
        .stdin(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut verifier.stdin.take().unwrap(), call.to_string().as_bytes())
        .unwrap();
    assert!(verifier.wait().unwrap().success());
    SlowGate::answer(stream, ACCEPT).await;
    oda.answer().await.unwrap();
}
