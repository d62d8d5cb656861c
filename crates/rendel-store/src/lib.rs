//! PostgreSQL through Diesel: charters, sessions, journal, snapshots and the refusals that clients may ask for again.
//!
//! * [`Store`] reads and manages; each call runs on a blocking thread with a pooled connection.
//! * [`JournalWriter`] has a thread and a connection of its own and writes in group commits across sessions: while one
//!   commit is under way the next group fills.
//! * [`LocalDatabase`] runs a private server on loopback for whoever has none.
//!
//! Every append carries the epoch of whoever appends. What is of an older one than the session's is left out as a whole and
//! its sender told so ([`WriteError::Superseded`]). A take-over may come in the very moment of a commit; then
//! `(session, seq)`, the journal's primary key, keeps the two from writing the same place.

mod access;
mod audit;
mod charters;
mod error;
mod journal;
mod local;
mod schema;
mod sessions;
mod store;
mod writer;

pub use access::{InvitationRow, KeyRow, Revocation};
pub use audit::AuditRow;
pub use charters::CharterRow;
pub use error::StoreError;
pub use journal::{Keeping, Past};
pub use local::{LocalDatabase, LocalDatabaseError, find_server_programs};
pub use sessions::{SessionRow, TakenOver, Whole};
pub use store::Store;
pub use writer::{Append, JournalWriter, RefusalRow, UpdateRow, WriteError};
