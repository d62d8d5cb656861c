//! Work on documents and on the past, aside from sessions and connections and a bounded number at a
//! time.

use std::sync::Arc;
use std::time::Duration;

use rendel_core::{Problem, ProblemKind};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use crate::failure::unavailable;

/// How long a call waits for its turn.
const PATIENCE: Duration = Duration::from_secs(10);

/// Turns to work on a document: as many at a time as there are processors.
#[derive(Debug)]
pub(crate) struct Documents(Arc<Semaphore>);

/// A turn. A call takes one before it reads what it works on, so that what waits holds nothing. It
/// is over when the call and its work are.
#[derive(Clone, Debug)]
pub(crate) struct Turn {
    _permit: Arc<OwnedSemaphorePermit>,
}

impl Default for Documents {
    fn default() -> Self {
        let turns = std::thread::available_parallelism().map_or(2, usize::from);
        Self(Arc::new(Semaphore::new(turns)))
    }
}

impl Documents {
    /// Waits for a turn; `too-fast` if none comes in time.
    pub(crate) async fn turn(&self) -> Result<Turn, Problem> {
        let turn = tokio::time::timeout(PATIENCE, self.0.clone().acquire_owned()).await;
        let turn = turn.map_err(|_| {
            let detail = "The service works on as many documents as it can. Try again in a moment.";
            Problem::new(ProblemKind::TooFast, detail)
                .with("limit", "documents")
                .with("wait_ms", 1_000)
        })?;
        Ok(Turn { _permit: Arc::new(turn.map_err(|_| unavailable())?) })
    }
}

impl Turn {
    /// Does `work` on a thread of its own.
    pub(crate) async fn work<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> Result<T, Problem> + Send + 'static,
    ) -> Result<T, Problem> {
        let turn = self.clone();
        let work = move || {
            let done = work();
            drop(turn);
            done
        };
        tokio::task::spawn_blocking(work).await.map_err(|_| unavailable())?
    }
}
