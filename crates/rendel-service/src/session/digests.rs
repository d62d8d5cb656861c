//! Whether all replicas hold the same state, and what is done about one that does not.
//!
//! Now and then every connection is asked for the digest of its replica, by a frame that stands in
//! order among the updates: so all answer for the same `seq`. The service's own is computed aside,
//! from a clone of the state, and no update waits for it.

use std::collections::BTreeMap;
use std::sync::Arc;

use rendel_core::{Charter, Sight, State, digest};
use rendel_wire::Resync;
use tokio::sync::mpsc;

use super::ConnectionId;
use super::audience::AudienceId;
use super::task::{Output, Task, raw_value, tagged};

/// The question that was asked last, and what came back.
#[derive(Debug, Default)]
pub(super) struct Digests {
    /// The `seq` of the last question that was put, and how many updates have come since.
    asked: u64,
    seq: u64,
    /// The service's own digests, one for each audience.
    ours: Option<Vec<String>>,
    /// Those who were asked and have not answered, each with its audience.
    open: BTreeMap<ConnectionId, AudienceId>,
    early: Vec<(ConnectionId, AudienceId, String)>,
    /// Replicas that hold the same at `seq`, and those that ever did not.
    pub(super) agreed: u64,
    pub(super) differed: u64,
}

/// A connection whose replica differs.
pub(super) struct Differing(pub(super) ConnectionId);

impl Digests {
    /// Whether anything has happened since the last question.
    pub(super) fn is_due(&self, seq: u64, every: u64) -> bool {
        seq >= self.asked + every
    }

    /// A question is on its way out, for the state at `seq`.
    pub(super) fn put(&mut self, seq: u64) {
        self.asked = seq;
    }

    /// It has reached these connections.
    pub(super) fn ask(&mut self, seq: u64, connections: BTreeMap<ConnectionId, AudienceId>) {
        let differed = self.differed;
        *self = Self { asked: self.asked, seq, open: connections, differed, ..Self::default() };
    }

    /// The service's own digests, one for each audience.
    pub(super) fn know(&mut self, seq: u64, ours: Vec<String>) -> Vec<Differing> {
        if seq != self.seq {
            return Vec::new();
        }
        self.ours = Some(ours);
        let early = std::mem::take(&mut self.early);
        early
            .into_iter()
            .filter_map(|(connection, audience, theirs)| self.compare(connection, audience, theirs))
            .collect()
    }

    /// The answer of a replica. One that comes late, or twice, says nothing.
    pub(super) fn answer(
        &mut self,
        connection: ConnectionId,
        seq: u64,
        theirs: String,
    ) -> Option<Differing> {
        if seq != self.seq {
            return None;
        }
        let audience = self.open.remove(&connection)?;
        self.compare(connection, audience, theirs)
    }

    fn compare(
        &mut self,
        connection: ConnectionId,
        audience: AudienceId,
        theirs: String,
    ) -> Option<Differing> {
        match &self.ours {
            None => self.early.push((connection, audience, theirs)),
            Some(ours) if ours.get(audience) == Some(&theirs) => self.agreed += 1,
            Some(_) => {
                self.differed += 1;
                return Some(Differing(connection));
            }
        }
        None
    }

    pub(super) fn forget(&mut self, connection: ConnectionId) {
        self.open.remove(&connection);
    }

    /// At which `seq` so many replicas held the same.
    pub(super) fn agreement(&self) -> (u64, u64) {
        (self.seq, self.agreed)
    }
}

impl Task {
    pub(super) fn may_ask_for_digests(&self, every: u64) -> bool {
        !self.members.is_empty() && self.digests.is_due(self.sequencer.seq(), every)
    }

    /// Asks all replicas for their digests where so many updates have come since the last time.
    pub(super) fn ask_for_digests(&mut self, every: u64) {
        let seq = self.sequencer.seq();
        if self.may_ask_for_digests(every) {
            self.digests.put(seq);
            self.batch
                .outputs
                .push(Output::AskForDigests { seq, state: Box::new(self.sequencer.state()) });
        }
    }

    /// Gives a replica that differs the whole state.
    pub(super) fn repair(&mut self, Differing(connection): Differing) {
        self.app.metrics.divergences.inc();
        let (seq, who) = (
            self.sequencer.seq(),
            self.members.get(&connection).map(|member| member.who.id.clone()),
        );
        tracing::warn!(session = %self.head.id, seq, who, "a replica differed; it gets a snapshot");
        let reason = "The replica's digest differed from the service's.".to_owned();
        let Some(audience) = self.members.get(&connection).map(|member| member.audience) else {
            return;
        };
        let state = raw_value(self.present_snapshot(audience).text().to_owned());
        let frame = tagged("resync", &Resync { seq, state, reason });
        self.batch.outputs.push(Output::Resync { connection, frame });
    }
}

/// Computes the service's digests aside, one for each audience.
pub(super) fn compute(
    charter: Arc<Charter>,
    seq: u64,
    state: State,
    sights: Vec<Sight>,
    known: mpsc::UnboundedSender<(u64, Vec<String>)>,
) {
    tokio::task::spawn_blocking(move || {
        let plain = state.plain(&charter.fields);
        let ours = |sight: &Sight| digest(&sight.state(&charter.fields, plain.clone()));
        let ours = if let [_] = &sights[..] {
            vec![digest(&plain)]
        } else {
            sights.iter().map(ours).collect()
        };
        // A session that has ended asks nobody any more.
        let _ = known.send((seq, ours));
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_count_once_whether_they_come_before_the_service_s_own_or_after() {
        let mut digests = Digests::default();
        digests.put(7);
        digests.ask(7, BTreeMap::from([(1, 0), (2, 0), (3, 1)]));
        assert!(digests.answer(1, 7, "a".into()).is_none());
        assert!(digests.answer(2, 7, "b".into()).is_none());
        assert!(digests.answer(9, 7, "b".into()).is_none(), "nobody asked this one");
        let differing: Vec<_> = digests
            .know(7, vec!["a".into(), "c".into()])
            .into_iter()
            .map(|Differing(connection)| connection)
            .collect();
        assert_eq!(differing, [2]);
        assert!(digests.answer(1, 7, "b".into()).is_none(), "a second answer");
        assert!(digests.answer(3, 6, "b".into()).is_none(), "of another state");
        assert!(digests.answer(3, 7, "c".into()).is_none(), "another audience sees another state");
        assert_eq!((digests.agreement(), digests.differed), ((7, 2), 1));
        assert!(!digests.is_due(7, 1) && digests.is_due(8, 1) && !digests.is_due(8, 256));
    }
}
