//! What is shown over connections, shared by all who get it. Each encoding is made once, by who
//! needs it first.

use std::sync::{Arc, OnceLock};

use bytes::Bytes;
use bytestring::ByteString;
use rendel_session::ShownUpdate;
use rendel_wire::{cbor_of_json, settled_frame};

/// A run of updates.
#[derive(Debug)]
pub(crate) struct Run {
    pub(crate) entries: Vec<ShownUpdate>,
    json: OnceLock<ByteString>,
    cbor: OnceLock<Vec<Bytes>>,
}

impl Run {
    pub(crate) fn new(entries: Vec<ShownUpdate>) -> Self {
        Self { entries, json: OnceLock::new(), cbor: OnceLock::new() }
    }

    /// Each update in JSON.
    pub(crate) fn updates(&self) -> impl Iterator<Item = &str> {
        self.entries.iter().map(|entry| &*entry.update)
    }

    /// The `seq` of the last update.
    pub(crate) fn last(&self) -> u64 {
        self.entries.last().map_or(0, |entry| entry.seq)
    }

    /// The whole `settled` frame.
    pub(crate) fn json(&self) -> &ByteString {
        self.json.get_or_init(|| settled_frame(self.updates()).into())
    }

    /// Each update in CBOR.
    pub(crate) fn cbor(&self) -> &[Bytes] {
        let cbor = |entry: &ShownUpdate| cbor_of_json(&entry.update).into();
        self.cbor.get_or_init(|| self.entries.iter().map(cbor).collect())
    }

    fn bytes(&self) -> usize {
        self.updates().map(str::len).sum()
    }
}

/// A frame of any other kind, shared by all connections that get it.
#[derive(Debug)]
pub(crate) struct Frame {
    pub(crate) json: ByteString,
    cbor: OnceLock<Bytes>,
}

impl Frame {
    pub(crate) fn new(json: impl Into<ByteString>) -> Arc<Self> {
        Arc::new(Self { json: json.into(), cbor: OnceLock::new() })
    }

    pub(crate) fn cbor(&self) -> &Bytes {
        self.cbor.get_or_init(|| cbor_of_json(&self.json).into())
    }
}

/// The state, shared by all who get it. Each encoding of it is made once.
#[derive(Debug)]
pub(crate) struct Snapshot {
    pub(crate) json: Bytes,
    cbor: OnceLock<Bytes>,
}

impl Snapshot {
    pub(crate) fn new(json: &str) -> Arc<Self> {
        let json = Bytes::copy_from_slice(json.as_bytes());
        Arc::new(Self { json, cbor: OnceLock::new() })
    }

    pub(crate) fn text(&self) -> &str {
        std::str::from_utf8(&self.json).unwrap_or_default()
    }

    pub(crate) fn cbor(&self) -> &Bytes {
        self.cbor.get_or_init(|| cbor_of_json(self.text()).into())
    }
}

/// Where the session stands, for one connection.
#[derive(Debug)]
pub(crate) struct Arrival {
    /// The frame but for the state.
    pub(crate) head: Arc<Frame>,
    pub(crate) state: Option<Arc<Snapshot>>,
    /// The `seq` that a replica has after it.
    pub(crate) seq: u64,
}

/// Where someone who follows by events begins.
#[derive(Debug)]
pub(crate) struct Beginning {
    pub(crate) seq: u64,
    /// The state at `seq`, for those who have none; else what they missed is theirs to read.
    pub(crate) state: Option<Arc<Snapshot>>,
}

/// What somebody who follows by events gets in place of an update of a run that comes later, since
/// they see more of it.
#[derive(Debug)]
pub(crate) struct Instead {
    pub(crate) seq: u64,
    pub(crate) update: Arc<str>,
    pub(crate) patch: Option<String>,
}

#[derive(Clone, Debug)]
pub(crate) enum Item {
    Updates(Arc<Run>),
    /// For who follows by events alone.
    Instead(Arc<Instead>),
    Frame(Arc<Frame>),
    /// A frame that says nothing of the state.
    Aside(Arc<Frame>),
    /// At first, and as the one catch-up in place of a backlog.
    Welcome(Arc<Arrival>),
    Begin(Arc<Beginning>),
}

impl Item {
    pub(super) fn bytes(&self) -> usize {
        match self {
            Self::Updates(run) => run.bytes(),
            Self::Instead(own) => own.update.len() + own.patch.as_ref().map_or(0, String::len),
            Self::Frame(frame) | Self::Aside(frame) => frame.json.len(),
            Self::Welcome(arrival) => {
                arrival.head.json.len() + arrival.state.as_ref().map_or(0, |state| state.json.len())
            }
            Self::Begin(beginning) => beginning.state.as_ref().map_or(0, |state| state.json.len()),
        }
    }

    pub(super) fn seq(&self) -> Option<u64> {
        match self {
            Self::Updates(run) => Some(run.last()),
            Self::Welcome(arrival) => Some(arrival.seq),
            Self::Begin(beginning) => Some(beginning.seq),
            Self::Instead(_) | Self::Frame(_) | Self::Aside(_) => None,
        }
    }
}
