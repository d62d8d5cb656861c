//! PostgreSQL through Diesel: charters, sessions, journal, snapshots and the refusals that clients may ask for again.
//!
//! * [`Store`] reads and manages; each call runs on a blocking thread with a pooled connection.
//! * [`JournalWriter`] has a thread and a connection of its own and writes in group commits across sessions: while one
//!   commit is under way the next group fills.
//! * [`LocalDatabase`] runs a private server on loopback for whoever has none.
//!
//! `(session, seq)` is the journal's primary key: two processes that both believe to own a session can never both write
//! the same place, and the one that comes second is told so ([`WriteError::Superseded`]).

mod charters;
mod error;
mod journal;
mod local;
mod schema;
mod sessions;
mod store;
mod writer;

pub use charters::CharterRow;
pub use error::StoreError;
pub use local::{LocalDatabase, LocalDatabaseError, find_server_programs};
pub use sessions::{SessionRow, TakenOver};
pub use store::Store;
pub use writer::{Append, JournalWriter, RefusalRow, UpdateRow, WriteError};
