//! Whether all replicas hold the same state, and what is done about one that does not.
//!
//! Now and then every connection is asked for the digest of its replica, by a frame that stands in
//! order among the updates: so all answer for the same `seq`. The service's own is computed aside,
//! from a clone of the state, and no update waits for it.

use std::collections::BTreeMap;

use rendel_core::Viewer;

use crate::input::{ConnectionId, StateDigests};

/// The digests of a replica: of what all of its audience see, and of what is its own beside that.
pub(crate) type Theirs = (String, Option<String>);

#[derive(Debug)]
struct Ours {
    all: Vec<String>,
    yours: BTreeMap<(usize, Viewer), String>,
}

/// The question that was asked last, and what came back.
#[derive(Debug, Default)]
pub(crate) struct Digests {
    /// The `seq` of the last question that was put, and how many updates have come since.
    asked: u64,
    seq: u64,
    /// The service's own digests, one for each audience.
    ours: Option<Ours>,
    /// Those who were asked and have not answered, each with its audience and who looks.
    open: BTreeMap<ConnectionId, (usize, Viewer)>,
    early: Vec<(ConnectionId, (usize, Viewer), Theirs)>,
    /// Replicas that hold the same at `seq`, and those that ever did not.
    agreed: u64,
    differed: u64,
}

impl Digests {
    /// Whether anything has happened since the last question.
    pub(crate) fn is_due(&self, seq: u64, every: u64) -> bool {
        seq >= self.asked + every
    }

    /// A question is on its way out, for the state at `seq`.
    pub(crate) fn put(&mut self, seq: u64) {
        self.asked = seq;
    }

    /// It has reached these connections.
    pub(crate) fn ask(&mut self, seq: u64, connections: BTreeMap<ConnectionId, (usize, Viewer)>) {
        let differed = self.differed;
        *self = Self { asked: self.asked, seq, open: connections, differed, ..Self::default() };
    }

    /// The service's own digests.
    pub(crate) fn know(&mut self, seq: u64, ours: StateDigests) -> Vec<ConnectionId> {
        if seq != self.seq {
            return Vec::new();
        }
        self.ours = Some(Ours { all: ours.all, yours: ours.yours.into_iter().collect() });
        let early = std::mem::take(&mut self.early);
        early
            .into_iter()
            .filter_map(|(connection, audience, theirs)| self.compare(connection, audience, theirs))
            .collect()
    }

    /// The answer of a replica. One that comes late, or twice, says nothing.
    pub(crate) fn answer(
        &mut self,
        connection: ConnectionId,
        seq: u64,
        theirs: Theirs,
    ) -> Option<ConnectionId> {
        if seq != self.seq {
            return None;
        }
        let audience = self.open.remove(&connection)?;
        self.compare(connection, audience, theirs)
    }

    fn compare(
        &mut self,
        connection: ConnectionId,
        audience: (usize, Viewer),
        theirs: Theirs,
    ) -> Option<ConnectionId> {
        let is_same = |ours: &Ours| {
            ours.all.get(audience.0) == Some(&theirs.0)
                && ours.yours.get(&audience) == theirs.1.as_ref()
        };
        match &self.ours {
            None => self.early.push((connection, audience, theirs)),
            Some(ours) if is_same(ours) => self.agreed += 1,
            Some(_) => {
                self.differed += 1;
                return Some(connection);
            }
        }
        None
    }

    pub(crate) fn forget(&mut self, connection: ConnectionId) {
        self.open.remove(&connection);
    }

    /// At which `seq` so many replicas held the same, and how many ever did not.
    pub(crate) fn agreement(&self) -> (u64, u64, u64) {
        (self.seq, self.agreed, self.differed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_count_once_whether_they_come_before_the_service_s_own_or_after() {
        let mut digests = Digests::default();
        digests.put(7);
        let [oda, bram] = ["oda", "bram"].map(|id| Viewer::new(id, &BTreeMap::new()));
        let whole = |all: &str| (all.to_owned(), None);
        let with = |all: &str, own: &str| (all.to_owned(), Some(own.to_owned()));
        let asked =
            [(1, (0, oda.clone())), (2, (0, bram)), (3, (1, oda.clone())), (4, (1, oda.clone()))];
        digests.ask(7, BTreeMap::from(asked));
        assert!(digests.answer(1, 7, whole("a")).is_none());
        assert!(digests.answer(2, 7, whole("b")).is_none());
        assert!(digests.answer(9, 7, whole("b")).is_none(), "nobody asked this one");
        let all = vec!["a".into(), "c".into()];
        let differing = digests.know(7, StateDigests { all, yours: vec![((1, oda), "o".into())] });
        assert_eq!(differing, [2]);
        assert!(digests.answer(1, 7, whole("b")).is_none(), "a second answer");
        assert!(digests.answer(3, 6, whole("b")).is_none(), "of another state");
        assert!(
            digests.answer(3, 7, with("c", "o")).is_none(),
            "another audience sees another state"
        );
        assert_eq!(digests.answer(4, 7, whole("c")), Some(4), "and has something of its own");
        assert_eq!(digests.agreement(), (7, 2, 2));
        assert!(!digests.is_due(7, 1) && digests.is_due(8, 1) && !digests.is_due(8, 256));
    }
}
