//! What somebody hears, byte for byte.

use futures_util::{SinkExt as _, StreamExt as _};
use serde_json::json;
use tokio_tungstenite::tungstenite::Message;

use super::{Raw, Service};

/// Everything that somebody gets, in which a mark is looked for.
pub(crate) struct Heard {
    mark: String,
    heard: Vec<(String, Vec<u8>)>,
}

impl Heard {
    pub(crate) fn new(mark: impl Into<String>) -> Self {
        Self { mark: mark.into(), heard: Vec::new() }
    }

    pub(crate) fn note(&mut self, way: &str, bytes: impl Into<Vec<u8>>) {
        self.heard.push((way.to_owned(), bytes.into()));
    }

    /// At least so many bytes were heard, and the mark is nowhere among them.
    pub(crate) fn check(&self, least: usize) {
        let size: usize = self.heard.iter().map(|(_, bytes)| bytes.len()).sum();
        assert!(size >= least, "only {size} bytes were heard");
        for (way, bytes) in &self.heard {
            let at =
                bytes.windows(self.mark.len()).position(|window| window == self.mark.as_bytes());
            assert!(
                at.is_none(),
                "{way}: {}",
                String::from_utf8_lossy(&bytes[at.unwrap().saturating_sub(300)..])
                    .chars()
                    .take(700)
                    .collect::<String>()
            );
        }
    }
}

pub(crate) type Socket =
    tokio_tungstenite::WebSocketStream<tokio_tungstenite::MaybeTlsStream<tokio::net::TcpStream>>;

/// A connection that only listens; gives its first message too.
pub(crate) async fn listener(
    service: &Service,
    session: &str,
    token: &str,
    subprotocol: &str,
) -> (Socket, Vec<u8>) {
    let mut raw = Raw::connect_as(service, session, subprotocol).await;
    let mut enter = json!({ "type": "enter", "client": raw.client });
    if !token.is_empty() {
        enter["token"] = token.into();
    }
    let message = match subprotocol {
        "rendel.v1.cbor" => Message::binary(rendel_wire::cbor_of_json(&enter.to_string())),
        _ => Message::text(enter.to_string()),
    };
    raw.socket.send(message).await.unwrap();
    let first = raw.socket.next().await.unwrap().unwrap().into_data().to_vec();
    (raw.socket, first)
}

/// All that a stream of events gives until the service goes.
pub(crate) fn stream(
    service: &Service,
    session: &str,
    token: &str,
    path: &str,
) -> tokio::task::JoinHandle<Vec<u8>> {
    let url = format!("{}/v1/sessions/{session}{path}", service.server);
    let call = service.http.get(url).bearer_auth(token);
    tokio::spawn(async move {
        let mut response = call.send().await.unwrap();
        let mut all = Vec::new();
        while let Ok(Some(chunk)) = response.chunk().await {
            all.extend_from_slice(&chunk);
        }
        all
    })
}
