//! What travels between the service and its clients.
//!
//! * [`FromParticipant`] and [`FromService`] are the frames of a connection; one table each lists them by name. A
//!   frame is one JSON object whose member `type` names it. [`FromParticipant::decode`] is strict: it says which member
//!   is wrong and what might have been meant. The shapes derive serde, so that another encoding is one more pair of
//!   functions beside [`decode_json`].
//! * [`http`] has the bodies of the HTTP interface.

mod decode;
mod frame;
pub mod http;

pub use decode::{DEEPEST, decode_json};
pub use frame::{
    Bye, ConnectionLimits, Digest, DigestAsked, Enter, FromParticipant, FromService, Leave, Notice, OutcomeFrame,
    OutcomeOf, Participant, Ping, Pong, Propose, Refused, Resync, Roster, SessionHead, SettledFrame, Welcome, You,
    settled_frame,
};

/// The subprotocol of text frames with one JSON object each.
pub const JSON_SUBPROTOCOL: &str = "rendel.v1.json";
