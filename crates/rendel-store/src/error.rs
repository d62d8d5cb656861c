//! What can go wrong between us and the database.

use diesel::result::{DatabaseErrorKind, Error};

/// A failed call of the store.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// It exists already.
    #[error("it exists already")]
    Exists,
    /// The database cannot be reached, or the connection broke.
    #[error("the database is away: {0}")]
    Away(String),
    /// The journal was cut since, and what is asked for lies before that.
    #[error("what was before {kept_from} is not kept, and {at} lies before it")]
    Forgotten {
        /// What was asked for.
        at: u64,
        /// From where on it is kept.
        kept_from: u64,
    },
    /// A snapshot of what the journal does not have, or of a session that another process has taken
    /// over.
    #[error("the snapshot was not kept: {0}")]
    NotKept(String),
    /// What is stored cannot be read: it was damaged or written by a newer version.
    #[error("what is stored cannot be read: {0}")]
    Damaged(String),
    /// The database refused a statement of ours.
    #[error("the database answered: {0}")]
    Database(Error),
}

impl From<Error> for StoreError {
    fn from(error: Error) -> Self {
        match error {
            Error::DatabaseError(DatabaseErrorKind::UniqueViolation, _) => Self::Exists,
            Error::DatabaseError(
                DatabaseErrorKind::ClosedConnection | DatabaseErrorKind::UnableToSendCommand,
                info,
            ) => Self::Away(info.message().to_owned()),
            // libpq reports a server that is stopping or starting as an error of no named kind.
            Error::DatabaseError(DatabaseErrorKind::Unknown, info)
                if is_about_the_connection(info.message()) =>
            {
                Self::Away(info.message().to_owned())
            }
            Error::BrokenTransactionManager => {
                Self::Away("the connection broke within a transaction".to_owned())
            }
            other => Self::Database(other),
        }
    }
}

fn is_about_the_connection(message: &str) -> bool {
    [
        "terminating connection",
        "shutting down",
        "starting up",
        "server closed the connection",
        "could not connect",
        "recovery mode",
        // One of our own time-outs: somebody holds a lock, or the database hangs.
        "due to statement timeout",
        "due to lock timeout",
        "idle-in-transaction timeout",
    ]
    .iter()
    .any(|part| message.contains(part))
}
