//! Where what a session shows goes out: the queues of its connections, and the encodings that they
//! share.

use std::collections::BTreeMap;
use std::sync::Arc;

use chrono::{DateTime, SecondsFormat, Utc};
use rendel_core::Problem;
use rendel_session::{ConnectionId, Content, NO_AUDIENCE, Shown, To, Told, Welcomed};
use rendel_wire::http::ConnectionInfo;
use tokio::time::Instant;
use uuid::Uuid;

use crate::clock::now_ms;
use crate::identity::Identity;
use crate::metrics::Metrics;
use crate::queue::{Arrival, Beat, Beginning, Frame, Instead, Item, Outbound, Run, Snapshot};

/// A connection that entered.
#[derive(Debug)]
pub(super) struct Outlet {
    pub(super) who: Identity,
    pub(super) client: Uuid,
    pub(super) outbound: Arc<Outbound>,
    /// The name of how it is spoken to.
    pub(super) encoding: &'static str,
    pub(super) address: String,
    since: u64,
    /// Whose updates it gets; none before it was welcomed, nor while it is behind.
    audience: Option<usize>,
}

impl Outlet {
    pub(super) fn new(
        who: Identity,
        client: Uuid,
        outbound: Arc<Outbound>,
        encoding: &'static str,
        address: String,
    ) -> Self {
        Self { who, client, outbound, encoding, address, since: now_ms(), audience: None }
    }
}

/// All of them.
#[derive(Debug, Default)]
pub(super) struct Outlets {
    all: BTreeMap<ConnectionId, Outlet>,
    /// The queues of those of each audience.
    audiences: BTreeMap<usize, BTreeMap<ConnectionId, Arc<Outbound>>>,
    /// The last state of each audience, and its encodings.
    snapshots: BTreeMap<usize, (Arc<str>, Arc<Snapshot>)>,
    /// The presence of each audience that rests, and what was told last.
    presence: BTreeMap<usize, Resting>,
    shown: u64,
}

#[derive(Debug, Default)]
struct Resting {
    told: Option<Arc<Beat>>,
    waits: Option<Told>,
}

impl Outlets {
    pub(super) fn add(&mut self, connection: ConnectionId, outlet: Outlet) {
        self.all.insert(connection, outlet);
    }

    pub(super) fn remove(&mut self, connection: ConnectionId) {
        self.set_audience(connection, None);
        self.all.remove(&connection);
    }

    fn set_audience(&mut self, connection: ConnectionId, audience: Option<usize>) {
        let Some(outlet) = self.all.get_mut(&connection) else { return };
        let before = std::mem::replace(&mut outlet.audience, audience);
        if let Some(of) = before.and_then(|before| self.audiences.get_mut(&before)) {
            of.remove(&connection);
        }
        if let Some(audience) = audience {
            let of = self.audiences.entry(audience).or_default();
            of.insert(connection, outlet.outbound.clone());
        }
        if let Some(before) = before
            && self.audiences.get(&before).is_some_and(BTreeMap::is_empty)
        {
            self.audiences.remove(&before);
        }
    }

    pub(super) fn get_mut(&mut self, connection: ConnectionId) -> Option<&mut Outlet> {
        self.all.get_mut(&connection)
    }

    pub(super) fn of_participant(&self, sub: &str) -> Vec<ConnectionId> {
        self.iter().filter(|(_, outlet)| outlet.who.id == sub).map(|(id, _)| id).collect()
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = (ConnectionId, &Outlet)> {
        self.all.iter().map(|(id, outlet)| (*id, outlet))
    }

    /// A connection lost its backlog: until its next welcome it gets nothing. Gives the last update
    /// that it was given.
    pub(super) fn handle_behind(&mut self, connection: ConnectionId) -> Option<u64> {
        self.set_audience(connection, None);
        self.all.get(&connection)?.outbound.figures().taken
    }

    pub(super) fn end(&self, connection: ConnectionId, problem: Problem) {
        if let Some(outlet) = self.all.get(&connection) {
            outlet.outbound.end(problem);
        }
    }

    pub(super) fn end_all(&self, problem: &Problem) {
        self.all.values().for_each(|outlet| outlet.outbound.end(problem.clone()));
    }

    /// The queues of those who are meant. Cost O(those), but for who is left out.
    fn meant<'o>(&'o self, to: &'o To) -> Box<dyn Iterator<Item = &'o Arc<Outbound>> + 'o> {
        let of_audience = |audience: &usize| self.audiences.get(audience).into_iter().flatten();
        match to {
            To::Audience(audience) => Box::new(of_audience(audience).map(|(_, outbound)| outbound)),
            To::AudienceBut(audience, (who, client)) => {
                let is_meant = move |id: &ConnectionId| {
                    let outlet = self.all.get(id);
                    outlet.is_none_or(|outlet| outlet.who.id != *who || outlet.client != *client)
                };
                let others = of_audience(audience).filter(move |(id, _)| is_meant(id));
                Box::new(others.map(|(_, outbound)| outbound))
            }
            To::These(these) => {
                let here = these.iter().filter_map(|id| self.all.get(id));
                let placed = here.filter(|outlet| outlet.audience.is_some());
                Box::new(placed.map(|outlet| &outlet.outbound))
            }
            To::One(one) => Box::new(self.all.get(one).map(|outlet| &outlet.outbound).into_iter()),
        }
    }

    pub(super) fn show(&mut self, to: &To, shown: Shown<Content>, metrics: &Metrics) {
        match shown.into_inner() {
            Content::Welcome(welcomed) => self.welcome(to, welcomed),
            Content::Begin { audience, seq, state } => {
                let state = state.map(|json| self.snapshot(audience, &json));
                let beginning = Arc::new(Beginning { seq, state });
                self.place(to, audience, |outbound| {
                    outbound.put(Item::Begin(beginning.clone()));
                });
            }
            Content::Updates(entries) => {
                let count = entries.len() as u64;
                let run = Arc::new(Run::new(entries));
                self.shown = self.shown.max(run.last());
                let mut reached = 0;
                for outbound in self.meant(to) {
                    reached += count;
                    if outbound.put(Item::Updates(run.clone())) {
                        metrics.fell_behind.inc();
                    }
                }
                metrics.deliveries.inc_by(reached);
            }
            Content::Instead { seq, update, patch } => {
                let own = Arc::new(Instead { seq, update, patch });
                self.put_all(to, &Item::Instead(own));
            }
            Content::Presence(told) => self.tell_presence(to, told, metrics),
            Content::Frame(json) => self.put_all(to, &Item::Frame(Frame::new(&*json))),
            Content::Aside(json) => self.put_all(to, &Item::Aside(Frame::new(&*json))),
        }
    }

    fn put_all(&self, to: &To, item: &Item) {
        for outbound in self.meant(to) {
            outbound.put(item.clone());
        }
    }

    fn welcome(&mut self, to: &To, welcomed: Welcomed) {
        let Welcomed { audience, head, state, seq } = welcomed;
        let state = state.map(|(_, json)| self.snapshot(audience, &json));
        let head = Frame::new(head);
        self.place(to, audience, |outbound| {
            outbound.put_welcome(Arrival { head: head.clone(), state: state.clone(), seq });
        });
    }

    /// From here on these get what their audience is shown.
    fn place(&mut self, to: &To, audience: usize, put: impl Fn(&Outbound)) {
        let connections = match to {
            To::One(one) => std::slice::from_ref(one),
            To::These(these) => these,
            // Whoever is in an audience is placed there.
            To::Audience(_) | To::AudienceBut(..) => &[],
        };
        for connection in connections {
            self.set_audience(*connection, Some(audience));
            if let Some(outlet) = self.all.get(connection) {
                put(&outlet.outbound);
            }
        }
    }

    /// The encodings of a state, which all share who get it.
    fn snapshot(&mut self, audience: usize, json: &Arc<str>) -> Arc<Snapshot> {
        let known = self.snapshots.get(&audience);
        if let Some((_, made)) = known.filter(|(known, _)| Arc::ptr_eq(known, json)) {
            return made.clone();
        }
        let made = Snapshot::new(json);
        self.snapshots.insert(audience, (json.clone(), made.clone()));
        made
    }

    /// Under load presence is told less often, and what waits is the newest; updates do not wait
    /// for it.
    fn tell_presence(&mut self, to: &To, told: Told, metrics: &Metrics) {
        let (To::Audience(audience) | To::AudienceBut(audience, _)) = *to else {
            let beat = Arc::new(Beat::new(told, 0));
            return self.meant(to).for_each(|outbound| outbound.put_presence(&beat));
        };
        let resting = self.presence.entry(audience).or_default();
        if resting.waits.is_none() && rest(resting).is_zero() {
            return self.put_presence(to, told, metrics);
        }
        let waits = resting.waits.get_or_insert_default();
        for (who, of) in told {
            waits.entry(who).or_default().extend(of);
        }
    }

    fn put_presence(&mut self, to: &To, told: Told, metrics: &Metrics) {
        let (To::Audience(audience) | To::AudienceBut(audience, _)) = *to else { return };
        let meant: Vec<_> = self.meant(to).cloned().collect();
        let beat = Arc::new(Beat::new(told, meant.len()));
        meant.iter().for_each(|outbound| outbound.put_presence(&beat));
        metrics.presence.inc_by(meant.len() as u64);
        self.presence.entry(audience).or_default().told = Some(beat);
    }

    /// When presence that rests may be told.
    pub(super) fn next_presence(&self) -> Option<Instant> {
        let waiting = self.presence.values().filter(|resting| resting.waits.is_some());
        waiting.map(|resting| Instant::now() + rest(resting)).min()
    }

    /// Tells the presence that has rested.
    pub(super) fn tell_rested(&mut self, metrics: &Metrics) {
        let mut due = Vec::new();
        for (audience, resting) in &mut self.presence {
            if resting.waits.is_some() && rest(resting).is_zero() {
                due.extend(resting.waits.take().map(|told| (*audience, told)));
            }
        }
        for (audience, told) in due {
            self.put_presence(&To::hearers(audience, &told), told, metrics);
        }
    }

    pub(super) fn list(&self) -> Vec<ConnectionInfo> {
        let mut list: Vec<_> = self.all.values().map(|outlet| self.info(outlet)).collect();
        list.sort_by(|one, other| {
            (other.catch_ups, other.lag, &one.participant).cmp(&(
                one.catch_ups,
                one.lag,
                &other.participant,
            ))
        });
        list
    }

    fn info(&self, outlet: &Outlet) -> ConnectionInfo {
        let queue = outlet.outbound.figures();
        let since =
            i64::try_from(outlet.since).ok().and_then(DateTime::<Utc>::from_timestamp_millis);
        let given = queue.taken.unwrap_or(0);
        // Who is told no updates is behind none.
        let follows = outlet.audience.filter(|audience| *audience != NO_AUDIENCE);
        ConnectionInfo {
            participant: outlet.who.id.clone(),
            name: outlet.who.name.clone(),
            role: outlet.who.role.clone(),
            client: outlet.client,
            way: outlet.encoding.to_owned(),
            address: outlet.address.clone(),
            since: since.unwrap_or_default().to_rfc3339_opts(SecondsFormat::Secs, true),
            lag: follows.map_or(0, |_| self.shown.saturating_sub(given)),
            lag_ms: queue.lag_ms,
            queue: queue.frames,
            queue_bytes: queue.bytes,
            catch_ups: queue.catch_ups,
        }
    }
}

/// How long the presence of an audience still rests.
fn rest(resting: &Resting) -> std::time::Duration {
    let now = std::time::Instant::now();
    resting.told.as_ref().map(|beat| beat.rest(now)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;
    use std::time::Duration;

    use serde_json::json;

    use super::*;
    use crate::config::QueueLimits;

    #[test]
    fn who_told_all_that_rested_is_not_told_it() {
        let (metrics, mut outlets) = (Metrics::new(), Outlets::default());
        let tabs = [1, 2].map(Uuid::from_u128);
        let queues = [(1, tabs[0]), (2, tabs[1])].map(|(connection, client)| {
            let limits = QueueLimits { frames: 10, bytes: 1_000 };
            let outbound = Arc::new(Outbound::new(limits, Duration::from_secs(1)));
            let who = Identity { id: "oda".to_owned(), ..Identity::service() };
            let outlet = Outlet::new(who, client, outbound.clone(), "json", String::new());
            outlets.add(connection, outlet);
            outlets.set_audience(connection, Some(0));
            outbound
        });
        let mut heard = |tellers: &[Uuid]| {
            let on_its_way = Arc::new(Beat::new(Told::new(), 2));
            outlets.presence.insert(0, Resting { told: Some(on_its_way), waits: None });
            for client in tellers {
                let told = BTreeMap::from([(*client, json!({ "x": 1 }).as_object().cloned())]);
                let told = Told::from([("oda".to_owned(), told)]);
                outlets.tell_presence(&To::hearers(0, &told), told, &metrics);
            }
            outlets.presence.get_mut(&0).unwrap().told = None;
            outlets.tell_rested(&metrics);
            queues.each_ref().map(|queue| queue.take().items.len())
        };
        assert_eq!(heard(&tabs[..1]), [0, 1]);
        assert_eq!(heard(&tabs[1..]), [1, 0]);
        assert_eq!(heard(&tabs), [1, 1]);
    }
}
