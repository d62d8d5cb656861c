//! The messages of a WebSocket (RFC 6455), never more of one in memory than it may be large.
//!
//! A frame that is too large is refused while it is being read, and the parts of a message (section
//! 5.4) count together. So what a connection can make the service keep is bounded from its first
//! byte on.

use actix_codec::Decoder as _;
use actix_http::ws::{Codec, Frame, Item, ProtocolError};
use actix_web::dev::Payload;
use bytes::{Bytes, BytesMut};
use bytestring::ByteString;
use futures_util::StreamExt as _;

use crate::lines::Posted;

/// Bytes before the content of a frame, at most: two, eight of a length, four of a mask.
const HEAD: usize = 14;

/// What comes over a connection.
pub(super) enum Messages {
    Socket(Stream),
    Line(Posted),
}

impl Messages {
    /// Takes messages of another size from now on.
    pub(super) fn allow(&mut self, limit: usize) {
        match self {
            Self::Socket(stream) => stream.allow(limit),
            Self::Line(posted) => posted.allow(limit),
        }
    }

    /// The next message. Safe to be dropped half-way: what has come stays.
    pub(super) async fn next(&mut self) -> Result<Message, Unread> {
        match self {
            Self::Socket(stream) => stream.next().await,
            Self::Line(posted) => match posted.next().await.ok_or(Unread::Gone)? {
                frame if frame.len() > posted.limit() => Err(Unread::TooLarge(posted.limit())),
                frame => Ok(Message::Text(frame)),
            },
        }
    }
}

/// What comes over a WebSocket.
pub(super) struct Stream {
    payload: Payload,
    /// What has come and was not read yet: at most one frame and one read of the socket.
    came: BytesMut,
    codec: Codec,
    limit: usize,
    /// A message of which more parts are to come.
    begun: Option<(Kind, BytesMut)>,
}

#[derive(Clone, Copy)]
enum Kind {
    Text,
    Binary,
}

/// One whole message.
pub(super) enum Message {
    Text(ByteString),
    Binary(Bytes),
    Ping(Bytes),
    Pong,
    Close,
}

/// Why there is no next message.
pub(super) enum Unread {
    /// It is larger than so many bytes.
    TooLarge(usize),
    NotUtf8,
    Protocol(ProtocolError),
    /// The other side is gone.
    Gone,
}

impl From<ProtocolError> for Unread {
    fn from(error: ProtocolError) -> Self {
        Self::Protocol(error)
    }
}

impl Stream {
    /// The messages of an upgraded request, of at most `limit` bytes each.
    pub(super) fn of(payload: Payload, limit: usize) -> Self {
        Self {
            payload,
            came: BytesMut::new(),
            codec: Codec::new().max_size(limit),
            limit,
            begun: None,
        }
    }

    fn allow(&mut self, limit: usize) {
        let codec = std::mem::replace(&mut self.codec, Codec::new());
        self.codec = codec.max_size(limit);
        self.limit = limit;
    }

    async fn next(&mut self) -> Result<Message, Unread> {
        loop {
            match self.codec.decode(&mut self.came) {
                Ok(Some(frame)) => match self.take(frame)? {
                    Some(message) => return Ok(message),
                    None => continue,
                },
                Ok(None) if self.came.len() > self.limit + HEAD => {
                    return Err(Unread::TooLarge(self.limit));
                }
                Ok(None) => {}
                Err(ProtocolError::Overflow) => return Err(Unread::TooLarge(self.limit)),
                Err(error) => return Err(error.into()),
            }
            match self.payload.next().await {
                Some(Ok(bytes)) => self.came.extend_from_slice(&bytes),
                Some(Err(_)) | None => return Err(Unread::Gone),
            }
        }
    }

    fn take(&mut self, frame: Frame) -> Result<Option<Message>, Unread> {
        Ok(Some(match frame {
            Frame::Text(bytes) => text(bytes)?,
            Frame::Binary(bytes) => Message::Binary(bytes),
            Frame::Ping(bytes) => Message::Ping(bytes),
            Frame::Pong(_) => Message::Pong,
            Frame::Close(_) => Message::Close,
            Frame::Continuation(Item::FirstText(bytes)) => {
                self.begun = Some((Kind::Text, BytesMut::from(&*bytes)));
                return Ok(None);
            }
            Frame::Continuation(Item::FirstBinary(bytes)) => {
                self.begun = Some((Kind::Binary, BytesMut::from(&*bytes)));
                return Ok(None);
            }
            Frame::Continuation(Item::Continue(bytes)) => {
                self.add(&bytes)?;
                return Ok(None);
            }
            Frame::Continuation(Item::Last(bytes)) => {
                self.add(&bytes)?;
                match self.begun.take() {
                    Some((Kind::Text, whole)) => text(whole.freeze())?,
                    Some((Kind::Binary, whole)) => Message::Binary(whole.freeze()),
                    None => return Err(ProtocolError::ContinuationNotStarted.into()),
                }
            }
        }))
    }

    /// Parts are copied together: many small ones take no more than their bytes.
    fn add(&mut self, bytes: &[u8]) -> Result<(), Unread> {
        let Some((_, whole)) = &mut self.begun else {
            return Err(ProtocolError::ContinuationNotStarted.into());
        };
        if whole.len() + bytes.len() > self.limit {
            return Err(Unread::TooLarge(self.limit));
        }
        whole.extend_from_slice(bytes);
        Ok(())
    }
}

fn text(bytes: Bytes) -> Result<Message, Unread> {
    ByteString::try_from(bytes).map(Message::Text).map_err(|_| Unread::NotUtf8)
}
