//! What travels between the service and its clients.
//!
//! * [`FromParticipant`] and [`FromService`] are the frames of a connection; one table each lists
//!   them by name. A frame is one JSON object whose member `type` names it.
//!   [`FromParticipant::decode`] is strict: it says which member is wrong and what might have been
//!   meant. In CBOR ([`decode_cbor`], [`encode_cbor`]) they are the same objects.
//! * [`http`] has the bodies of the HTTP interface.

mod cbor;
mod decode;
pub mod described;
mod frame;
pub mod http;

pub use cbor::{cbor_of_json, decode_cbor, decode_told_cbor, encode_cbor, settled_frame_cbor};
pub use decode::{DEEPEST, DEEPEST_TOLD, decode_json, decode_object};
pub use frame::{
    AnswerFrame, Bye, ConnectionLimits, CueFor, CueFrame, Digest, DigestAsked, Enter, FollowQuery,
    FollowUndo, FromParticipant, FromService, HadRows, Leave, LeaveQuery, Left, LeftWhy, Notice,
    OutcomeFrame, OutcomeOf, Participant, Ping, Pong, PresenceFrame, Proposals, Propose,
    QueryRefused, Refused, Release, Renew, Resync, Roster, RowStepsFrame, RowsFrame, Said, SendCue,
    SessionHead, SettledFrame, Status, TakeHold, Waiting, Welcome, You, settled_frame,
};

/// The subprotocol of text frames with one JSON object each.
pub const JSON_SUBPROTOCOL: &str = "rendel.v1.json";

/// The subprotocol of binary frames with one CBOR item each: the same frames.
pub const CBOR_SUBPROTOCOL: &str = "rendel.v1.cbor";
