//! Refusals that speak of the session as a whole.

use rendel_core::{Problem, ProblemKind};

/// The journal is away.
pub fn unavailable() -> Problem {
    Problem::new(
        ProblemKind::Unavailable,
        "The database is away. Nothing was settled; try again in a moment.",
    )
}

/// Another process goes on with the session.
pub fn moved() -> Problem {
    let detail = "Another service has taken this session over. Come again in a moment; what is \
        sent again counts once.";
    Problem::new(ProblemKind::Unavailable, detail)
}

/// The session is there no more.
pub(crate) fn deleted() -> Problem {
    Problem::new(ProblemKind::NoSession, "This session was deleted, with all that was kept of it.")
}

/// The session has ended for good.
pub fn ended() -> Problem {
    let detail = "The session has ended. Its state and its journal can still be read over HTTP.";
    Problem::new(ProblemKind::Ended, detail)
}

/// The service stops.
pub fn shutting_down() -> Problem {
    Problem::new(
        ProblemKind::ShuttingDown,
        "The service is stopping. Come back in a moment; what is pending is sent again then.",
    )
}

/// Nothing of the session changes now.
pub(crate) fn frozen() -> Problem {
    let detail = "The session is frozen: it can be looked at, and nothing changes until it is \
        thawed.";
    Problem::new(ProblemKind::Frozen, detail)
}

/// The refusal of a path at which nothing is, or nothing that is shown: the two read the same.
pub fn nothing_at(path: &rendel_core::Path) -> Problem {
    Problem::new(ProblemKind::UnknownPath, format!("There is nothing at {path}.")).at(path)
}
