//! Work on documents, aside from sessions and connections and a bounded number at a time.

use std::time::Duration;

use rendel_core::{Problem, ProblemKind};
use tokio::sync::Semaphore;

use crate::failure::unavailable;

/// How long a call waits for its turn.
const PATIENCE: Duration = Duration::from_secs(10);

/// Turns to work on a document: as many at a time as there are processors.
#[derive(Debug)]
pub(crate) struct Documents(Semaphore);

impl Default for Documents {
    fn default() -> Self {
        Self(Semaphore::new(std::thread::available_parallelism().map_or(2, usize::from)))
    }
}

impl Documents {
    /// Does `work` on a thread of its own; `too-fast` where its turn does not come in time.
    pub(crate) async fn work<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> Result<T, Problem> + Send + 'static,
    ) -> Result<T, Problem> {
        let turn = tokio::time::timeout(PATIENCE, self.0.acquire()).await;
        let _turn = turn.map_err(|_| {
            let detail = "The service works on as many documents as it can. Try again in a moment.";
            Problem::new(ProblemKind::TooFast, detail)
                .with("limit", "documents")
                .with("wait_ms", 1_000)
        })?;
        tokio::task::spawn_blocking(work).await.map_err(|_| unavailable())?
    }
}
