//! A participant's side of a session.
//!
//! * [`Replica`] is the copy that a client keeps: the confirmed state plus its own pending
//!   proposals. It does no IO and needs no charter: effects arrive in final form. `conformance/`
//!   holds cases that it and every other client pass.
//! * [`Connection`] enters over a WebSocket, keeps a replica up to date, comes back by itself after
//!   a loss and sends again what was not answered.

mod anchor;
mod apply;
mod connection;
mod draft;
mod outbox;
mod position;
mod replica;
mod time;

pub use anchor::Anchor;
pub use apply::{Misapplied, apply_edit, apply_effect};
pub use connection::{Connection, ConnectionError, Encoding, Event, Standing, Target};
pub use position::{to_scalars, to_units};
pub use replica::{Change, Replica, Undoing};
pub use time::ServiceTime;
