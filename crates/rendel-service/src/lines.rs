//! The lines that are open: connections for which no WebSocket gets through, and the ways to them.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use bytes::Bytes;
use bytestring::ByteString;
use parking_lot::Mutex;
use tokio::sync::mpsc;
use uuid::Uuid;

/// Frames that were posted and not read yet.
const POSTED: usize = 64;

/// The open lines, by their ids: whoever knows one may speak on it.
#[derive(Clone, Debug, Default)]
pub(crate) struct Lines(Arc<Mutex<HashMap<Uuid, Way>>>);

/// The way to a line's connection.
#[derive(Clone, Debug)]
pub(crate) struct Way {
    pub(crate) frames: mpsc::Sender<ByteString>,
    limit: Arc<AtomicUsize>,
}

/// What is posted to a line, as its connection reads it.
pub(crate) struct Posted {
    pub(crate) id: Uuid,
    way: Way,
    frames: mpsc::Receiver<ByteString>,
    /// Whether the other side still reads.
    events: mpsc::Sender<Bytes>,
    lines: Lines,
}

impl Lines {
    /// Opens a line that takes frames of `limit` bytes, until what is given is dropped.
    pub(crate) fn open(&self, limit: usize, events: mpsc::Sender<Bytes>) -> Posted {
        let (posted, frames) = mpsc::channel(POSTED);
        let way = Way { frames: posted, limit: Arc::new(AtomicUsize::new(limit)) };
        let id = Uuid::new_v4();
        self.0.lock().insert(id, way.clone());
        Posted { id, way, frames, events, lines: self.clone() }
    }

    pub(crate) fn way_to(&self, id: Uuid) -> Option<Way> {
        self.0.lock().get(&id).cloned()
    }
}

impl Way {
    /// Bytes that a frame may have.
    pub(crate) fn limit(&self) -> usize {
        self.limit.load(Ordering::Relaxed)
    }
}

impl Posted {
    pub(crate) fn allow(&self, limit: usize) {
        self.way.limit.store(limit, Ordering::Relaxed);
    }

    pub(crate) fn limit(&self) -> usize {
        self.way.limit()
    }

    /// The next frame, or nothing where the other side is gone. Safe to be dropped half-way.
    pub(crate) async fn next(&mut self) -> Option<ByteString> {
        tokio::select! {
            biased;
            frame = self.frames.recv() => frame,
            () = self.events.closed() => None,
        }
    }
}

impl Drop for Posted {
    fn drop(&mut self) {
        self.lines.0.lock().remove(&self.id);
    }
}
