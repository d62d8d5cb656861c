//! How long statements, locks and connections may take.

/// Kept by the server itself, so that nothing hangs for ever on a lock that somebody holds, and no
/// lock of ours outlives a process that hangs.
pub(crate) const TIME_OUTS: &str = "SET statement_timeout = '60s'; SET lock_timeout = '5s'; SET \
    idle_in_transaction_session_timeout = '60s'";

/// The journal's writer has small statements only, and every session waits for it.
pub(crate) const WRITER_TIME_OUTS: &str = "SET statement_timeout = '10s'; SET lock_timeout = \
    '5s'; SET idle_in_transaction_session_timeout = '10s'";

/// Adds timeouts to a URL that says nothing of them, so that a database that vanished is noticed.
pub(crate) fn with_timeouts(url: &str) -> String {
    if url.contains("connect_timeout") {
        return url.to_owned();
    }
    let sign = if url.contains('?') { '&' } else { '?' };
    format!(
        "{url}{sign}connect_timeout=3&keepalives_idle=5&keepalives_interval=2&keepalives_count=3&tcp_user_timeout=10000"
    )
}
