//! PostgreSQL through Diesel: charters, sessions, journal, snapshots and the refusals that clients
//! may ask for again.
//!
//! * [`Store`] reads and manages; each call runs on a blocking thread with a pooled connection.
//! * [`JournalWriter`] has a thread and a connection of its own and writes in group commits across
//!   sessions: while one commit is under way the next group fills.
//! * [`LocalDatabase`] runs a private server on loopback for whoever has none.
//!
//! An append holds a share of the rows of the sessions that it writes, and carries the epoch of
//! whoever appends. What is of an older one than the session's is left out as a whole and its
//! sender told so ([`WriteError::Superseded`]). A take-over locks the session's row alone, so each
//! waits for the other, one session at a time: once a session is read, nothing of an older epoch
//! can come into its journal.

mod access;
mod announcements;
mod audit;
mod calls;
mod charters;
mod error;
mod forgetting;
mod journal;
mod local;
mod participants;
mod rows;
mod schema;
mod sessions;
mod store;
mod tables;
mod timeline;
mod timeouts;
mod waking;
mod webhooks;
mod writer;

pub use access::{InvitationRow, KeyRow, NewInvitation, NewRevocation, Revocation};
pub use announcements::{AnnouncementRow, NewAnnouncement, Wanted};
pub use audit::{AuditRow, Note};
pub use calls::OnceCall;
pub use charters::CharterRow;
pub use error::StoreError;
pub use forgetting::Held;
pub use journal::{Keeping, Past};
pub use local::{LocalDatabase, LocalDatabaseError, find_server_programs};
pub use participants::Amendment;
pub use sessions::{Claim, Findable, Ownership, SessionRow, Sought, StandingRow, TakenOver, Whole};
pub use store::Store;
pub use tables::Tables;
pub use webhooks::{Delivery, DeliveryState, Due, Outcome, WebhookRow};
pub use writer::{Append, JournalWriter, RefusalRow, UpdateRow, WriteError};
