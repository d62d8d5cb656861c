//! The behaviour of one session as a state machine: who enters and is shown what, what they
//! propose, tell, hold and call out, what waits for a gate, and what waits for the disk.
//!
//! * What comes in: [`Session::handle`], with the time and one [`Input`]; and when nothing came by
//!   then, [`Session::next_timeout`].
//! * What comes out: [`Session::poll_outputs`]. An [`Output`] is a plain value; whoever drives the
//!   session does what it says, in order.
//!
//! Nothing is shown or answered before what it rests on was reported as [`Input::Written`]. There
//! is no IO here, no clock and no randomness: the same inputs give the same outputs.

mod audiences;
mod digests;
mod gates;
mod input;
mod members;
mod order;
mod output;
mod people;
mod problems;
mod quiet;
mod recent;
mod roster;
mod session;
mod standing;

pub use audiences::{
    Content, NO_AUDIENCE, Shown, Told, Welcomed, digests, states_seen, update_seen,
};
pub use input::{
    AppendId, Ask, CallId, ConnectionId, Entry, Found, GateVerdict, Had, Heard, IfMatch, Input,
    Person, SessionStatus, StateDigests, Status, WayIn,
};
pub use order::Spacing;
pub use output::{Answer, Figures, GateCall, Output, RefusalRow, Report, To, UpdateRow, Wake};
pub use problems::{ended, moved, nothing_at, shutting_down, unavailable};
pub use quiet::ShownUpdate;
pub use session::{Session, Settings};
