//! What a connection writes to: a WebSocket, or the stream of events of a line.

use std::time::Duration;

use actix_ws::{CloseReason, Closed, Item, Session};
use bytes::Bytes;
use tokio::sync::mpsc;

use super::encoding::{Encoding, Message};

pub(super) enum Socket {
    Web(Session),
    /// Parts of the response that a line is, each a whole event.
    Line(mpsc::Sender<Bytes>),
}

impl Socket {
    pub(super) async fn write(&mut self, message: Message) -> Result<(), Closed> {
        match self {
            Self::Web(session) => write(session, message).await,
            Self::Line(events) => send(events, event(message)).await,
        }
    }

    /// How long nothing may be heard. Over a line a client speaks by posts alone, and the timers of a
    /// page that nobody looks at run once a minute.
    pub(super) fn patience(&self, silence: Duration) -> Duration {
        match self {
            Self::Web(_) => silence,
            Self::Line(_) => 3 * silence,
        }
    }

    pub(super) async fn ping(&mut self) -> Result<(), Closed> {
        match self {
            Self::Web(session) => session.ping(b"").await,
            Self::Line(events) => send(events, Bytes::from_static(b": still here\n\n")).await,
        }
    }

    pub(super) async fn pong(&mut self, payload: &[u8]) -> Result<(), Closed> {
        match self {
            Self::Web(session) => session.pong(payload).await,
            Self::Line(_) => Ok(()),
        }
    }

    pub(super) async fn close(self, reason: Option<CloseReason>) -> Result<(), Closed> {
        match self {
            Self::Web(session) => session.close(reason).await,
            // Its stream ends with its sender.
            Self::Line(_) => Ok(()),
        }
    }
}

async fn send(events: &mpsc::Sender<Bytes>, event: Bytes) -> Result<(), Closed> {
    events.send(event).await.map_err(|_| Closed)
}

/// A frame as an event: JSON as we write it has no line breaks outside of strings, where they are
/// escaped.
fn event(message: Message) -> Bytes {
    let parts: [Bytes; 3] = match message {
        Message::Text(text) => [text.into_bytes(), Bytes::new(), Bytes::new()],
        Message::Binary(bytes) => [bytes, Bytes::new(), Bytes::new()],
        Message::Parts(_, parts) => parts,
    };
    [&b"event: frame\ndata: "[..], &parts[0], &parts[1], &parts[2], b"\n\n"].concat().into()
}

async fn write(socket: &mut Session, message: Message) -> Result<(), Closed> {
    match message {
        Message::Text(text) => socket.text(text).await,
        Message::Binary(bytes) => socket.binary(bytes).await,
        Message::Parts(encoding, [head, state, tail]) => {
            socket
                .continuation(match encoding {
                    Encoding::Json => Item::FirstText(head),
                    Encoding::Cbor => Item::FirstBinary(head),
                })
                .await?;
            socket.continuation(Item::Continue(state)).await?;
            socket.continuation(Item::Last(tail)).await
        }
    }
}
