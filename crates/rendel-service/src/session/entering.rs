//! Who comes and goes.

use std::collections::BTreeMap;
use std::sync::Arc;

use chrono::{DateTime, SecondsFormat, Utc};
use rendel_core::{Problem, ProblemKind};
use rendel_wire::http::ConnectionInfo;
use rendel_wire::{ConnectionLimits, LeftWhy, OutcomeFrame, Roster, Said, Welcome, You};
use serde_json::value::RawValue;

use super::audience::AudienceId;
use super::life::Status;
use super::roster::absorb;
use super::task::{Member, Output, Task, raw_value, tagged};
use super::{ConnectionId, Entered, Entry, WayIn};
use crate::app::now_ms;
use crate::connection::{Arrival, Beginning, Frame, Snapshot};
use crate::failure::{ended, unavailable};

/// A late joiner may get a snapshot that is this many updates old, and the updates after it.
const SNAPSHOT_AGE: u64 = 64;

/// The facts that lapse after they were said, with the time in milliseconds.
fn lapses(charter: &rendel_core::Charter) -> BTreeMap<String, u64> {
    let linger = |fact: &rendel_core::Fact| fact.linger.map(|linger| linger.as_millis());
    let ms = |ms: u128| u64::try_from(ms).unwrap_or(u64::MAX);
    let facts = charter.presence.facts.iter();
    facts.filter_map(|(name, fact)| Some((name.clone(), ms(linger(fact)?)))).collect()
}

impl Task {
    pub(super) fn enter(&mut self, entry: Entry) {
        let answer = match self.check_entry(&entry) {
            Ok(()) => entry.answer,
            Err(problem) => {
                let _ = entry.answer.send(Err(problem));
                return;
            }
        };
        let Entry { who, client, outbound, way, encoding, address, presence, token, .. } = entry;
        let actor = who.actor(client);
        let rate = self.rate_of(&actor);
        let (most, tabs) =
            (self.charter.session.participants, self.app.config.connections_per_participant);
        let change = match self.present.add(&who, most, tabs) {
            Ok(change) => change,
            Err(problem) => {
                let _ = answer.send(Err(problem));
                return;
            }
        };
        // A client that comes back before its old connection was missed takes its place.
        let is_same = |member: &Member| member.who.client == client && member.who.id == actor.id;
        let replaced: Vec<_> =
            self.members.iter().filter(|(_, member)| is_same(member)).map(|(id, _)| *id).collect();
        let id = self.next_connection;
        self.next_connection += 1;
        let member = Member {
            audience: self.audiences.of_role(&actor.role),
            who: actor,
            identity: who,
            token,
            outbound,
            way: encoding,
            address,
            since: now_ms(),
            is_welcome: false,
            is_replica: matches!(way, WayIn::Enter { .. }),
            refused: 0,
        };
        self.members.insert(id, member);
        for old in replaced {
            self.end_replaced(old);
        }
        absorb(&mut self.roster, change);
        self.arrivals.push((id, way));
        if let Some(set) = presence {
            self.said(id, Said { seen: None, set });
        }
        let entered = Entered { id, rate, frame_limit: self.charter.limits.frame };
        if answer.send(Ok(entered)).is_err() {
            self.leave(id, LeftWhy::Lost);
        }
    }

    fn check_entry(&mut self, entry: &Entry) -> Result<(), Problem> {
        self.removals.check(&entry.who.id)?;
        if self.adrift.is_some() {
            return Err(unavailable());
        }
        if self.standing.status == Status::Ended {
            return Err(ended());
        }
        match entry.way {
            WayIn::Follow { after: Some(after), .. } if after > self.sequencer.seq() => {
                let detail =
                    format!("The session is at {}, not yet at {after}.", self.sequencer.seq());
                Err(Problem::new(ProblemKind::FromTheFuture, detail)
                    .with("seq", self.sequencer.seq()))
            }
            _ => Ok(()),
        }
    }

    fn end_replaced(&mut self, old: ConnectionId) {
        if let Some(member) = self.members.get(&old) {
            let detail = "The same client has entered again over another connection.";
            member.outbound.end(Problem::new(ProblemKind::Gone, detail));
        }
        self.leave(old, LeftWhy::Lost);
    }

    /// Gives a connection that fell behind where the session stands now, in place of its backlog.
    pub(super) fn catch_up(&mut self, connection: ConnectionId) {
        let Some(member) = self.members.get_mut(&connection) else { return };
        if self.adrift.is_some() {
            member.outbound.end(unavailable());
            return;
        }
        member.is_welcome = false;
        let seen = member.outbound.figures().taken;
        self.app.metrics.catch_ups.inc();
        let way = WayIn::Enter { seen, epoch: Some(self.epoch) };
        self.arrivals.push((connection, way));
    }

    /// Welcomes those who came together: the roster that each gets has all of them, and whoever was
    /// here before is told once.
    pub(super) fn receive_arrivals(&mut self) {
        let change = std::mem::take(&mut self.roster);
        if change != Roster::default() {
            self.batch.outputs.push(Output::Roster(change));
        }
        let holds = self.holds.poll_changed();
        if holds != rendel_core::HoldChange::default() {
            self.batch.outputs.push(Output::Holds(holds));
        }
        for (connection, way) in std::mem::take(&mut self.arrivals) {
            match way {
                WayIn::Enter { seen, epoch } => {
                    let arrival = self.arrival(connection, seen, epoch);
                    self.batch
                        .outputs
                        .extend(arrival.map(|arrival| Output::Welcome { connection, arrival }));
                }
                WayIn::Follow { after, patches } => self.begin(connection, after, patches),
            }
        }
    }

    fn arrival(
        &mut self,
        connection: ConnectionId,
        seen: Option<u64>,
        epoch: Option<u64>,
    ) -> Option<Arrival> {
        let member = self.members.get(&connection)?;
        let (who, client, key) = (member.who.clone(), member.who.client, member.who.key());
        let (audience, token) = (member.audience, member.token.clone());
        let (hue, name) = (self.present.hue(&who.id), member.identity.name.clone());
        let you = You { hue, id: who.id, name, role: who.role, client };
        let limits = ConnectionLimits {
            frame: self.charter.limits.frame,
            edits: self.charter.limits.edits,
            proposals_per_second: self.charter.limits.proposals_per_second,
            burst: self.charter.limits.burst(),
            presence_per_second: self.charter.presence.rate,
            presence_lapses_ms: lapses(&self.charter),
        };
        let outcomes = self
            .sequencer
            .outcomes(key)
            .map(|(n, outcome)| OutcomeFrame { n, outcome: outcome.clone().into() });
        let mut welcome = Welcome::<Arc<RawValue>, Arc<RawValue>> {
            you,
            session: self.head.clone(),
            epoch: self.epoch,
            seq: self.sequencer.seq(),
            state: None,
            updates: None,
            roster: self.present.list(),
            presence: self.presence_for(audience),
            holds: self.holds_for(audience),
            token,
            limits,
            outcomes: outcomes.collect(),
            time: now_ms(),
        };
        let mut state = None;
        match seen
            .filter(|seen| self.may_resume(*seen, epoch))
            .and_then(|seen| self.missed(seen, audience))
        {
            Some(updates) => welcome.updates = Some(updates),
            None => {
                let snapshot = self.snapshot(audience);
                welcome.updates = self
                    .seen_after(snapshot.seq, audience)
                    .filter(|updates: &Vec<_>| !updates.is_empty());
                state = Some(snapshot);
            }
        }
        Some(Arrival { head: Frame::new(tagged("welcome", &welcome)), state, seq: welcome.seq })
    }

    /// Where somebody begins who follows by events.
    fn begin(&mut self, connection: ConnectionId, after: Option<u64>, patches: bool) {
        let Some(audience) = self.members.get(&connection).map(|member| member.audience) else {
            return;
        };
        let seq = self.sequencer.seq();
        let state = after.is_none().then(|| self.present_snapshot(audience));
        let followed = patches.then(|| Box::new(self.sequencer.state()));
        self.batch.outputs.push(Output::Begin {
            connection,
            beginning: Beginning { seq, state },
            state: followed,
        });
    }

    /// Whether a replica at `seen` of `epoch` holds nothing but what the journal has. Each epoch
    /// after the replica's own tells where it began; what the replica saw beyond the first of those
    /// places was lost.
    fn may_resume(&self, seen: u64, epoch: Option<u64>) -> bool {
        let Some(epoch) = epoch else { return false };
        let next = self.epochs.iter().find(|(later, _)| *later > epoch);
        seen <= self.sequencer.seq()
            && epoch <= self.epoch
            && next.is_none_or(|(_, begins)| seen <= *begins)
    }

    /// What a replica at `seen` missed, where that is smaller than a snapshot.
    fn missed(&self, seen: u64, audience: AudienceId) -> Option<Vec<Arc<RawValue>>> {
        let bytes: usize = self.recent.after(seen)?.map(|json| json.len()).sum();
        let is_smaller = bytes == 0 || (bytes as u64) < self.sequencer.weight();
        is_smaller.then(|| self.seen_after(seen, audience)).flatten()
    }

    /// The updates after `seq`, as an audience is shown them.
    fn seen_after(&self, seq: u64, audience: AudienceId) -> Option<Vec<Arc<RawValue>>> {
        let audience = &self.audiences.all[audience];
        Some(self.recent.after(seq)?.map(|json| raw(&audience.seen(&self.charter, json))).collect())
    }

    /// A snapshot, made anew only when the last is too old for the updates in memory to bridge.
    fn snapshot(&mut self, audience: AudienceId) -> Arc<Snapshot> {
        let now = self.sequencer.seq();
        match &self.audiences.all[audience].snapshot {
            Some(last)
                if now - last.seq <= SNAPSHOT_AGE && self.recent.after(last.seq).is_some() =>
            {
                last.clone()
            }
            _ => self.present_snapshot(audience),
        }
    }

    /// A snapshot of the state as it is.
    pub(super) fn present_snapshot(&mut self, audience: AudienceId) -> Arc<Snapshot> {
        let now = self.sequencer.seq();
        let audience = &mut self.audiences.all[audience];
        if let Some(last) = audience.snapshot.as_ref().filter(|last| last.seq == now) {
            return last.clone();
        }
        let shown = audience.sight.state(&self.charter.fields, self.sequencer.plain());
        let made = Snapshot::new(now, serde_json::to_string(&shown).unwrap_or_default());
        audience.snapshot = Some(made.clone());
        made
    }

    pub(super) fn leave(&mut self, connection: ConnectionId, why: LeftWhy) {
        let Some(member) = self.members.remove(&connection) else { return };
        self.digests.forget(connection);
        for (audience, of) in self.audiences.all.iter_mut().enumerate() {
            let is_followed = |one: &Member| one.way == "patches" && one.audience == audience;
            if !self.members.values().any(is_followed) {
                of.patcher = None;
            }
        }
        self.presence.handle_gone(&member.teller(), connection);
        self.plan_presence_beat();
        let linger = u64::try_from(self.charter.presence.linger.as_millis()).unwrap_or(u64::MAX);
        let change = self.present.remove(&member.who.id, why, linger, now_ms());
        self.has_left(change);
    }

    pub(super) fn connections(&self) -> Vec<ConnectionInfo> {
        let mut list: Vec<_> =
            self.members.values().map(|member| self.connection(member)).collect();
        list.sort_by(|one, other| {
            (other.catch_ups, other.lag, &one.participant).cmp(&(
                one.catch_ups,
                one.lag,
                &other.participant,
            ))
        });
        list
    }

    fn connection(&self, member: &Member) -> ConnectionInfo {
        let queue = member.outbound.figures();
        let since =
            i64::try_from(member.since).ok().and_then(DateTime::<Utc>::from_timestamp_millis);
        ConnectionInfo {
            participant: member.who.id.clone(),
            name: member.identity.name.clone(),
            role: member.who.role.clone(),
            client: member.who.client,
            way: member.way.to_owned(),
            address: member.address.clone(),
            since: since.unwrap_or_default().to_rfc3339_opts(SecondsFormat::Secs, true),
            lag: if member.is_welcome {
                self.shown.saturating_sub(queue.taken.unwrap_or(0))
            } else {
                0
            },
            lag_ms: queue.lag_ms,
            queue: queue.frames,
            queue_bytes: queue.bytes,
            catch_ups: queue.catch_ups,
        }
    }
}

fn raw(json: &Arc<str>) -> Arc<RawValue> {
    raw_value(json.to_string())
}
