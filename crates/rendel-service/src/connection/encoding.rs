//! How frames are written to a socket and read from it.

use std::collections::VecDeque;
use std::sync::Arc;

use bytes::Bytes;
use bytestring::ByteString;
use rendel_wire::{
    CBOR_SUBPROTOCOL, FromService, JSON_SUBPROTOCOL, cbor_of_json, settled_frame,
    settled_frame_cbor,
};

use crate::queue::{Arrival, Item as Waiting, Run};

/// A joined frame is closed once it has grown to this.
const FRAME_BYTES: usize = 256 << 10;
/// A state of so many bytes is sent as a part of its own.
const PARTS_FROM: usize = 64 << 10;

/// The encoding that a connection chose by its subprotocol.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Encoding {
    Json,
    Cbor,
}

/// A frame on its way out.
#[derive(Debug, PartialEq)]
pub(crate) enum Message {
    Text(ByteString),
    Binary(Bytes),
    /// One message in parts (RFC 6455, section 5.4), so that a large state in it is not copied for
    /// each who gets it.
    Parts(Encoding, [Bytes; 3]),
}

impl Encoding {
    /// The subprotocols, the one that is taken where a client offers both first.
    pub(crate) const SUBPROTOCOLS: [&str; 2] = [JSON_SUBPROTOCOL, CBOR_SUBPROTOCOL];

    pub(crate) fn of_subprotocol(name: Option<&str>) -> Self {
        if name == Some(CBOR_SUBPROTOCOL) { Self::Cbor } else { Self::Json }
    }

    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Json => "json",
            Self::Cbor => "cbor",
        }
    }

    pub(crate) fn encode(self, frame: &FromService) -> Message {
        let json = frame.encode();
        match self {
            Self::Json => Message::Text(json.into()),
            Self::Cbor => Message::Binary(cbor_of_json(&json).into()),
        }
    }

    /// The frames of what waits: each run of updates leaves as one, joined from encodings that all
    /// connections share.
    pub(crate) fn frames(self, items: VecDeque<Waiting>) -> Vec<Message> {
        let mut frames = Vec::new();
        let mut runs: Vec<Arc<Run>> = Vec::new();
        let mut bytes = 0;
        for item in items {
            match item {
                Waiting::Updates(run) => {
                    bytes += run.json().len();
                    runs.push(run);
                    if bytes > FRAME_BYTES {
                        frames.extend(self.joined(&mut runs));
                        bytes = 0;
                    }
                }
                Waiting::Frame(frame) | Waiting::Aside(frame) => {
                    frames.extend(self.joined(&mut runs));
                    bytes = 0;
                    frames.push(match self {
                        Self::Json => Message::Text(frame.json.clone()),
                        Self::Cbor => Message::Binary(frame.cbor().clone()),
                    });
                }
                Waiting::Welcome(arrival) => {
                    frames.extend(self.joined(&mut runs));
                    bytes = 0;
                    frames.push(self.welcome(&arrival));
                }
                // Only who follows by events is given one.
                Waiting::Begin(_) | Waiting::Instead(_) => {}
            }
        }
        frames.extend(self.joined(&mut runs));
        frames
    }

    /// The welcome, its state at the end.
    fn welcome(self, arrival: &Arrival) -> Message {
        let Some(state) = &arrival.state else {
            return match self {
                Self::Json => Message::Text(arrival.head.json.clone()),
                Self::Cbor => Message::Binary(arrival.head.cbor().clone()),
            };
        };
        let parts = match self {
            Self::Json => {
                let head = arrival.head.json.strip_suffix('}').unwrap_or_default();
                [
                    Bytes::from(format!("{head},\"state\":")),
                    state.json.clone(),
                    Bytes::from_static(b"}"),
                ]
            }
            Self::Cbor => {
                // The head is a map of fewer than 23 members, whose number is in its first byte; it
                // gets one more.
                let mut head = arrival.head.cbor().to_vec();
                if let Some(first) = head.first_mut() {
                    *first += 1;
                }
                head.extend_from_slice(b"\x65state");
                [Bytes::from(head), state.cbor().clone(), Bytes::new()]
            }
        };
        if parts[1].len() >= PARTS_FROM {
            return Message::Parts(self, parts);
        }
        match self {
            Self::Json => {
                Message::Text(String::from_utf8(parts.concat()).unwrap_or_default().into())
            }
            Self::Cbor => Message::Binary(parts.concat().into()),
        }
    }

    fn joined(self, runs: &mut Vec<Arc<Run>>) -> Option<Message> {
        let frame = match (self, &runs[..]) {
            (_, []) => return None,
            // One that stands alone is passed on as it is, without a copy.
            (Self::Json, [run]) => Message::Text(run.json().clone()),
            (Self::Json, runs) => {
                Message::Text(settled_frame(runs.iter().flat_map(|run| run.updates())).into())
            }
            (Self::Cbor, runs) => {
                let updates: Vec<&[u8]> =
                    runs.iter().flat_map(|run| run.cbor()).map(|update| &**update).collect();
                Message::Binary(settled_frame_cbor(&updates).into())
            }
        };
        runs.clear();
        Some(frame)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::queue::{Frame, Snapshot};
    use rendel_session::ShownUpdate;

    const UPDATE: &str = r#"{"seq":1,"by":"oda","client":"018f0000-0000-7000-8000-000000000001","n":1,"at":5,"effects":[]}"#;

    fn run(count: usize) -> Waiting {
        let update = ShownUpdate { seq: 1, update: UPDATE.into(), patch: None };
        Waiting::Updates(Arc::new(Run::new(vec![update; count])))
    }

    fn counts(encoding: Encoding, items: Vec<Waiting>) -> Vec<usize> {
        let read = |message| match message {
            Message::Text(text) => FromService::decode(text.as_bytes()).unwrap(),
            Message::Binary(bytes) => {
                FromService::from_value(rendel_wire::decode_cbor(&bytes).unwrap()).unwrap()
            }
            Message::Parts(..) => panic!("no state is among these"),
        };
        let frames = encoding.frames(items.into()).into_iter().map(read);
        frames
            .map(
                |frame| {
                    if let FromService::Settled(settled) = frame {
                        settled.updates.len()
                    } else {
                        0
                    }
                },
            )
            .collect()
    }

    #[test]
    fn a_run_of_updates_leaves_as_one_frame_and_keeps_its_place_among_other_frames() {
        for encoding in [Encoding::Json, Encoding::Cbor] {
            let pong = || Waiting::Frame(Frame::new(r#"{"type":"pong","sent":1,"time":2}"#));
            assert_eq!(
                counts(encoding, vec![run(1), run(2), pong(), run(1), pong()]),
                [3, 0, 1, 0]
            );
            assert_eq!(counts(encoding, vec![]), [0usize; 0]);
            let many = counts(encoding, (0..5_000).map(|_| run(1)).collect());
            assert!(many.len() > 1 && many.iter().sum::<usize>() == 5_000, "{many:?}");
        }
    }

    #[test]
    fn a_welcome_reads_the_same_whole_and_in_parts_and_in_both_encodings() {
        let head = r#"{"type":"welcome","you":{"id":"oda"},"seq":7}"#;
        for length in [10, 100_000] {
            let notes = "ä🍎".repeat(length);
            let state = Snapshot::new(&serde_json::json!({ "notes": notes }).to_string());
            let arrival = || {
                Waiting::Welcome(Arc::new(Arrival {
                    head: Frame::new(head),
                    state: Some(state.clone()),
                    seq: 7,
                }))
            };
            let expected = serde_json::json!({ "type": "welcome", "you": { "id": "oda" }, "seq": 7, "state": { "notes": notes } });
            for encoding in [Encoding::Json, Encoding::Cbor] {
                let message = encoding.frames([arrival()].into()).pop().unwrap();
                assert_eq!(matches!(message, Message::Parts(..)), length > 1_000);
                let bytes = match message {
                    Message::Text(text) => text.into_bytes().to_vec(),
                    Message::Binary(bytes) => bytes.to_vec(),
                    Message::Parts(_, parts) => parts.concat(),
                };
                let read: serde_json::Value = match encoding {
                    Encoding::Json => serde_json::from_slice(&bytes).unwrap(),
                    Encoding::Cbor => rendel_wire::decode_cbor(&bytes).unwrap(),
                };
                assert_eq!(read, expected);
            }
        }
    }
}
