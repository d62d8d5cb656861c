//! The raw protocol: a WebSocket and JSON, with no client of ours.

use std::time::Duration;

use futures_util::{SinkExt as _, StreamExt as _};
use serde_json::{Value, json};
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::client::IntoClientRequest as _;
use tokio_tungstenite::{MaybeTlsStream, WebSocketStream};
use uuid::Uuid;

use super::{PATIENCE, Service};

/// A WebSocket and what came over it.
pub(crate) struct Raw {
    pub(crate) socket: WebSocketStream<MaybeTlsStream<TcpStream>>,
    pub(crate) client: Uuid,
    pub(crate) n: u64,
    pub(crate) seq: u64,
}

impl Raw {
    /// Connects and says nothing.
    pub(crate) async fn connect(service: &Service, session: &str) -> Self {
        Self::connect_as(service, session, "rendel.v1.json").await
    }

    pub(crate) async fn connect_as(service: &Service, session: &str, subprotocol: &str) -> Self {
        Self::connect_to(&service.server, session, subprotocol).await
    }

    pub(crate) async fn connect_to(server: &str, session: &str, subprotocol: &str) -> Self {
        let address = format!("{}/v1/sessions/{session}/connect", server.replace("http", "ws"));
        let mut request = address.into_client_request().unwrap();
        request.headers_mut().insert("Sec-WebSocket-Protocol", subprotocol.parse().unwrap());
        let (socket, _) = tokio_tungstenite::connect_async(request).await.unwrap();
        Self { socket, client: Uuid::now_v7(), n: 0, seq: 0 }
    }

    /// Connects and enters; gives the welcome too.
    pub(crate) async fn enter(service: &Service, session: &str, token: &str) -> (Self, Value) {
        let mut raw = Self::connect(service, session).await;
        raw.send(&json!({ "type": "enter", "token": token, "client": raw.client })).await;
        let welcome = raw.next("welcome").await;
        raw.seq = welcome["seq"].as_u64().unwrap();
        (raw, welcome)
    }

    pub(crate) async fn send(&mut self, frame: &Value) {
        self.send_text(&frame.to_string()).await;
    }

    pub(crate) async fn send_text(&mut self, text: &str) {
        self.socket.send(Message::text(text)).await.unwrap();
    }

    /// Proposes with what was seen last; gives the proposal's number.
    pub(crate) async fn propose(&mut self, edits: Value) -> u64 {
        self.n += 1;
        let frame = json!({ "type": "propose", "n": self.n, "seen": self.seq, "answered": self.n - 1, "edits": edits });
        self.send(&frame).await;
        self.n
    }

    /// Proposes until the session, which is finding out how its journal stands, takes it; gives the
    /// update.
    pub(crate) async fn propose_until_taken(&mut self, edits: &Value) -> Value {
        loop {
            self.propose(edits.clone()).await;
            match self.answer().await {
                Ok(update) => return update,
                Err(problem) => assert_eq!(name(&problem), "unavailable"),
            }
        }
    }

    /// The next frame of that type; others are passed over.
    pub(crate) async fn next(&mut self, kind: &str) -> Value {
        loop {
            let frame = self
                .any()
                .await
                .unwrap_or_else(|| panic!("the connection ended before {kind:?} came"));
            if let Some(updates) = frame["updates"].as_array() {
                self.seq =
                    updates.last().map_or(self.seq, |update| update["seq"].as_u64().unwrap());
            }
            if frame["type"] == kind {
                return frame;
            }
        }
    }

    /// The next frame, or `None` at the end of the connection.
    pub(crate) async fn any(&mut self) -> Option<Value> {
        loop {
            match timeout(PATIENCE, self.socket.next()).await.expect("nothing came in time")? {
                Ok(Message::Text(text)) => return Some(serde_json::from_str(&text).unwrap()),
                Ok(Message::Close(_)) | Err(_) => return None,
                Ok(_) => {}
            }
        }
    }

    /// What became of the last proposal: the update, or the problem.
    pub(crate) async fn answer(&mut self) -> Result<Value, Value> {
        let mut own = None::<Value>;
        loop {
            let frame = self.any().await.expect("the connection ended before the answer came");
            if frame["type"] == "refused" && frame["n"] == self.n {
                return Err(frame["problem"].clone());
            }
            // Of an update that is hidden from its proposer, only the outcome is told.
            if frame["type"] == "outcome" && frame["n"] == self.n {
                return Ok(frame);
            }
            let is_own = |update: &Value| {
                update["client"] == self.client.to_string() && update["n"] == self.n
            };
            // What all others see nothing of is one's own by what comes beside it.
            if frame["type"] == "beside" && is_own(&frame) {
                own = Some(frame.clone());
            }
            for update in frame["updates"].as_array().into_iter().flatten() {
                self.seq = update["seq"].as_u64().unwrap();
                let beside = own.take_if(|own| own["seq"] == update["seq"]);
                if is_own(update) || beside.is_some() {
                    return Ok(beside.unwrap_or_else(|| update.clone()));
                }
            }
        }
    }

    /// The problem that the service ends the connection with, and the code that the socket closes
    /// with.
    pub(crate) async fn bye(&mut self) -> (String, u16) {
        let mut problem = None;
        loop {
            match timeout(PATIENCE, self.socket.next())
                .await
                .expect("the connection did not end in time")
            {
                Some(Ok(Message::Text(text))) => {
                    let frame: Value = serde_json::from_str(&text).unwrap();
                    if frame["type"] == "bye" {
                        problem = Some(name(&frame["problem"]));
                    }
                }
                Some(Ok(Message::Close(frame))) => {
                    return (
                        problem.expect("no bye came"),
                        frame.map_or(0, |frame| frame.code.into()),
                    );
                }
                Some(Ok(_)) => {}
                Some(Err(error)) => panic!("{error}, after {problem:?}"),
                None => panic!("the connection ended without a close, after {problem:?}"),
            }
        }
    }

    /// Whether nothing but what is passed over comes for a while; for frames that must not come,
    /// each test also waits for one that must.
    pub(crate) async fn drain(&mut self) {
        while let Ok(Some(Ok(_))) = timeout(Duration::from_millis(1), self.socket.next()).await {}
    }
}

/// The last part of a problem's type.
pub(crate) fn name(problem: &Value) -> String {
    problem["type"].as_str().unwrap_or_default().rsplit(':').next().unwrap_or_default().to_owned()
}
