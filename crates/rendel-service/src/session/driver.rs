//! The driver of one session: it moves what comes in to the machine, and does what the machine
//! says. What a session is about is none of its business.

use std::collections::{BTreeMap, HashMap};
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::time::Duration;

use futures_util::FutureExt as _;
use rendel_core::{Actor, Charter, Problem};
use rendel_session::{
    CallId, ConnectionId, Entry as MachineEntry, GateCall, Heard, Input, Output, Report, Session,
    digests, unavailable,
};
use rendel_store::{Note, TakenOver};
use serde_json::json;
use tokio::sync::{mpsc, oneshot};
use tokio::time::Instant;

use super::amendments::Amendments;
use super::handle::{Ask, CallAnswer, Entered, Entry};
use super::keeping::StoreSide;
use super::outlets::{Outlet, Outlets};
use super::removals::Removals;
use crate::app::App;
use crate::clock::SteadyClock;
use crate::failure::removed;
use crate::identity::Identity;
use crate::rate::Rate;

/// Asks that are taken out of the mailbox at one time.
const BATCH: usize = 256;
/// Rates remembered of participants.
const RATES: usize = 4_096;

pub(super) struct Driver {
    pub(super) app: Arc<App>,
    pub(super) id: String,
    pub(super) ord: i64,
    pub(super) charter: Arc<Charter>,
    pub(super) machine: Session,
    pub(super) removals: Arc<Removals>,
    pub(super) amendments: Arc<Amendments>,
    pub(super) clock: SteadyClock,
    store: StoreSide,
    outlets: Outlets,
    entering: BTreeMap<ConnectionId, (Outlet, oneshot::Sender<Result<Entered, Problem>>)>,
    calls: HashMap<CallId, CallAnswer>,
    rates: BTreeMap<String, Arc<Rate>>,
    next_id: u64,
    /// What was begun elsewhere comes back here.
    returns: mpsc::UnboundedSender<Input>,
    /// Bytes of its memory that the metric has of it.
    remembered: i64,
    is_superseded: bool,
    has_stopped: bool,
    touched: Instant,
}

impl Driver {
    pub(super) fn new(
        app: Arc<App>,
        taken: &TakenOver,
        machine: Session,
        charter: Arc<Charter>,
        clock: SteadyClock,
        returns: mpsc::UnboundedSender<Input>,
    ) -> Self {
        let until = |(sub, until): &(String, chrono::DateTime<chrono::Utc>)| {
            (sub.clone(), u64::try_from(until.timestamp_millis()).unwrap_or(0))
        };
        Self {
            id: taken.row.id.clone(),
            ord: taken.row.ord,
            store: StoreSide::new(app.clone(), taken, &charter, returns.clone()),
            app,
            amendments: Arc::new(Amendments::of(taken.amendments.iter().cloned().collect())),
            removals: Arc::new(Removals::of(taken.removals.iter().map(until).collect())),
            charter,
            machine,
            clock,
            outlets: Outlets::default(),
            entering: BTreeMap::new(),
            calls: HashMap::new(),
            rates: BTreeMap::new(),
            next_id: 1,
            returns,
            remembered: 0,
            is_superseded: false,
            has_stopped: false,
            touched: Instant::now(),
        }
    }

    /// Drives the session until it stops. One that panics ends its connections and leaves memory;
    /// whoever comes next has it loaded anew.
    pub(super) async fn run(
        mut self,
        mut asks: mpsc::Receiver<Ask>,
        mut returned: mpsc::UnboundedReceiver<Input>,
    ) {
        self.app.metrics.sessions.inc();
        let stop = AssertUnwindSafe(self.drive(&mut asks, &mut returned)).catch_unwind().await;
        match stop {
            Ok(stop) => {
                self.store.end().await;
                if self.is_superseded {
                    tracing::warn!(session = %self.id, "another process has taken the session over");
                    self.app.metrics.superseded.inc();
                    self.app.fence(&self.id);
                }
                if let Some(stopped) = stop {
                    // Who asked may have gone away meanwhile, here and in every answer.
                    let _ = stopped.send(());
                }
            }
            Err(_) => {
                tracing::error!(session = %self.id, "a session has panicked; its connections end");
                self.app.metrics.panics.inc();
                self.outlets.end_all(&unavailable());
                self.app.forget_session(&self.id);
            }
        }
        self.app.metrics.sessions.dec();
        self.app.metrics.remembered.dec_by(self.remembered);
    }

    async fn drive(
        &mut self,
        asks: &mut mpsc::Receiver<Ask>,
        returned: &mut mpsc::UnboundedReceiver<Input>,
    ) -> Option<oneshot::Sender<()>> {
        let mut taken = Vec::with_capacity(BATCH);
        let mut stopped = None;
        while !self.has_stopped {
            let timeout = self.next_timeout();
            let rested = self.outlets.next_presence();
            let idle = self.touched + self.charter.session.idle;
            let now = Instant::now();
            tokio::select! {
                biased;
                Some(input) = returned.recv() => self.feed(input),
                () = tokio::time::sleep_until(timeout.unwrap_or(now)), if timeout.is_some() => {
                    self.feed(Input::Timeout);
                }
                () = tokio::time::sleep_until(rested.unwrap_or(now)), if rested.is_some() => {
                    self.outlets.tell_rested(&self.app.metrics);
                }
                count = asks.recv_many(&mut taken, BATCH), if !self.machine.is_writing() => {
                    if count == 0 {
                        self.feed(Input::Stop);
                    }
                    self.app.metrics.mailbox.observe(count as f64);
                    for ask in taken.drain(..) {
                        if let Ask::Stop { answer } = ask {
                            stopped = Some(answer);
                            self.feed(Input::Stop);
                        } else {
                            self.handle(ask);
                        }
                    }
                }
                () = tokio::time::sleep_until(idle), if self.is_idle() => {
                    if self.app.let_go(&self.id) {
                        self.app.metrics.rested.inc();
                        tracing::debug!(session = %self.id, "nobody used a session; it has left memory");
                        self.feed(Input::Stop);
                    } else {
                        self.touched = now;
                    }
                }
            }
            self.carry_out().await;
        }
        stopped
    }

    fn is_idle(&self) -> bool {
        self.machine.is_idle() && self.calls.is_empty() && self.entering.is_empty()
    }

    fn next_timeout(&mut self) -> Option<Instant> {
        let due = self.machine.next_timeout()?;
        let wait = Duration::from_millis(due.saturating_sub(self.clock.now()));
        Some(Instant::now() + wait)
    }

    fn feed(&mut self, input: Input) {
        self.is_superseded |= matches!(input, Input::Superseded);
        self.store.note(&input);
        fail::fail_point!("session-fed");
        let now = self.clock.now();
        self.machine.handle(now, input);
    }

    fn handle(&mut self, ask: Ask) {
        if !ask.is_a_look() {
            self.touched = Instant::now();
        }
        match ask {
            Ask::Enter(entry) => self.enter(*entry),
            Ask::Frame { connection, frame } => self.feed(Input::Frame { connection, frame }),
            Ask::Renewed { connection, n, told } => {
                let who = self.amendments.over(&told);
                let claims = who.claims.clone();
                if let Some(outlet) = self.outlets.get_mut(connection) {
                    outlet.who = who;
                }
                self.feed(Input::Frame { connection, frame: Heard::Renewed { n, claims } });
            }
            Ask::CatchUp { connection } => {
                self.app.metrics.catch_ups.inc();
                let seen = self.outlets.handle_behind(connection);
                self.feed(Input::Behind { connection, seen });
            }
            Ask::Leave { connection, why } => {
                self.outlets.remove(connection);
                self.feed(Input::Left { connection, why });
            }
            Ask::Call { call, cost, answer } => {
                let within = cost.map_or(Ok(()), |(actor, cost)| self.rate_of(&actor).check(cost));
                match within {
                    Err(problem) => {
                        self.app.metrics.count(&problem);
                        let _ = answer.send(Err(problem));
                    }
                    Ok(()) => {
                        let id = self.take_id();
                        self.calls.insert(id, answer);
                        self.feed(Input::Call { call: id, ask: *call });
                    }
                }
            }
            Ask::Recheck { answer } => {
                let check = |(connection, outlet): (ConnectionId, &Outlet)| {
                    let problem = outlet.who.check(&self.id, &self.app).err()?;
                    Some(Input::Revoked { connection, problem })
                };
                let revoked: Vec<_> = self.outlets.iter().filter_map(check).collect();
                revoked.into_iter().for_each(|input| self.feed(input));
                let _ = answer.send(());
            }
            Ask::Remove { sub, answer } => {
                let now = crate::clock::now_ms();
                let problem = self.removals.check(&sub).err().unwrap_or_else(|| removed(now));
                self.feed(Input::Removed { id: sub, problem });
                let _ = answer.send(());
            }
            Ask::Deleted => self.feed(Input::Deleted),
            Ask::Amend { sub, answer } => {
                self.amend(&sub);
                let _ = answer.send(());
            }
            Ask::OwnedElsewhere { epoch } => {
                // What was asked before we took the session over says nothing of us.
                if epoch > self.store.epoch() {
                    self.feed(Input::Superseded);
                }
            }
            Ask::Connections { answer } => drop(answer.send(self.outlets.list())),
            Ask::Stop { answer } => drop(answer),
        }
    }

    fn take_id(&mut self) -> u64 {
        self.next_id += 1;
        self.next_id
    }

    fn enter(&mut self, entry: Entry) {
        let Entry { told, client, way, encoding, address, outbound, .. } = entry;
        let Entry { presence, fields, token, answer, .. } = entry;
        let who = self.amendments.over(&told);
        let is_good = self.removals.check(&who.id).and_then(|()| told.check(&self.id, &self.app));
        if let Err(problem) = is_good {
            let _ = answer.send(Err(problem));
            return;
        }
        let connection = self.take_id();
        let (actor, name, seat) = (who.actor(client), who.name.clone(), who.seat.clone());
        let outlet = Outlet::new(who, client, outbound, encoding, address);
        self.entering.insert(connection, (outlet, answer));
        let entry =
            MachineEntry { connection, who: actor, name, way, presence, fields, token, seat };
        self.feed(Input::Entered(Box::new(entry)));
    }

    /// The backend has said something else of a participant: their connections go on under it, with
    /// the state that they may see now.
    fn amend(&mut self, sub: &str) {
        for connection in self.outlets.of_participant(sub) {
            let Some(outlet) = self.outlets.get_mut(connection) else { continue };
            let who = self.amendments.over(&outlet.who);
            if who == outlet.who {
                continue;
            }
            let sees_other = self.charter.sees_by_claims(&who.role)
                && who.reader().viewer.mark() != outlet.who.reader().viewer.mark();
            let is_shown =
                sees_other || (&who.role, &who.name) != (&outlet.who.role, &outlet.who.name);
            outlet.who = who.clone();
            if is_shown {
                // Nothing that the old role was shown goes out to them any more.
                outlet.outbound.drop_shown();
                self.outlets.handle_behind(connection);
            }
            let Identity { name, role, claims, .. } = who;
            self.feed(Input::Amended { connection, name, role, claims });
        }
    }

    /// The rate of a participant, the same however often they come and go.
    fn rate_of(&mut self, actor: &Actor) -> Arc<Rate> {
        if actor.role == Actor::SERVICE || actor.id == Actor::SERVICE {
            return Arc::new(Rate::unbounded());
        }
        if self.rates.len() > RATES {
            // Those that a connection uses stay.
            self.rates.retain(|_, rate| Arc::strong_count(rate) > 1);
        }
        let rate = || Arc::new(Rate::of_proposals(&self.charter.limits));
        self.rates.entry(actor.id.clone()).or_insert_with(rate).clone()
    }

    async fn carry_out(&mut self) {
        loop {
            let outputs = self.machine.poll_outputs();
            if outputs.is_empty() {
                break;
            }
            for output in outputs {
                self.carry_out_one(output).await;
            }
        }
        let now = i64::try_from(self.machine.remembered()).unwrap_or(i64::MAX);
        self.app.metrics.remembered.inc_by(now - self.remembered);
        self.remembered = now;
    }

    async fn carry_out_one(&mut self, output: Output) {
        match output {
            Output::Append { append, epoch, updates, refusals, wake } => {
                self.store.append(append, epoch, updates, refusals, wake).await;
            }
            Output::Recover => self.store.recover(self.machine.shown()),
            Output::Entered { connection, result } => self.entered(connection, result),
            Output::Show { to, shown } => self.outlets.show(&to, shown, &self.app.metrics),
            Output::Close { connection, problem } => self.outlets.end(connection, problem),
            Output::Answer { call, answer } => {
                if let Some(answered) = self.calls.remove(&call) {
                    let answer = answer.map_err(rendel_session::Shown::into_inner);
                    let _ = answered.send(answer);
                }
            }
            Output::AskGate { gate, client, asked } => self.ask_gate(gate, client, asked),
            Output::WriteStanding { call, by, standing } => {
                self.store.write_standing(call, by, standing);
            }
            Output::Fetch { call, reader, seq } => self.store.fetch(call, reader, seq),
            Output::Digest { seq, state, viewers } => {
                let (charter, returns) = (self.charter.clone(), self.returns.clone());
                tokio::task::spawn_blocking(move || {
                    let digests = digests(&charter, &state, &viewers);
                    // A session that has gone meanwhile asks nobody, here and in all that follows.
                    let _ = returns.send(Input::Digested { seq, digests });
                });
            }
            Output::Keep(snapshot) => self.store.keep(*snapshot),
            Output::ForgetRefusals => self.store.forget_refusals(),
            Output::NoteWake(wake) => self.store.note_wake(wake).await,
            Output::FreeSeats(free) => self.store.note_free_seats(free),
            Output::Report(report) => self.report(report),
            Output::Stopped => self.has_stopped = true,
        }
    }

    fn entered(&mut self, connection: ConnectionId, result: Result<(), Problem>) {
        let Some((outlet, answer)) = self.entering.remove(&connection) else { return };
        if let Err(problem) = result {
            let _ = answer.send(Err(problem));
            return;
        }
        let rate = self.rate_of(&outlet.who.actor(outlet.client));
        self.outlets.add(connection, outlet);
        let frame_limit = self.charter.limits.frame;
        if answer.send(Ok(Entered { id: connection, rate, frame_limit })).is_err() {
            self.outlets.remove(connection);
            self.feed(Input::Left { connection, why: rendel_wire::LeftWhy::Lost });
        }
    }

    fn ask_gate(&self, gate: usize, client: rendel_core::ClientKey, asked: GateCall) {
        let Some(declared) = self.charter.gates.get(gate).cloned() else { return };
        let (app, returns) = (self.app.clone(), self.returns.clone());
        tokio::spawn(async move {
            let n = asked.n;
            let verdict = app.gates.ask(&app.metrics, &declared, &asked).await;
            let _ = returns.send(Input::GateAnswered { client, n, verdict });
        });
    }

    fn report(&self, report: Report) {
        match report {
            Report::Refused(problem) => self.app.metrics.refused(&problem),
            Report::Limited(problem) => self.app.metrics.count(&problem),
            Report::Unanswered { line, why } => {
                tracing::warn!(session = %self.id, line, %why, "an expression of the charter has \
                    no answer");
                self.app.metrics.unanswered.inc();
            }
            Report::RuleFailed { rule, why } => {
                tracing::warn!(session = %self.id, rule, why, "a rule of the session could not be \
                    carried out");
                self.app.metrics.rules_failed.inc();
            }
            Report::Differed { who, seq } => {
                tracing::warn!(session = %self.id, seq, who, "a replica differed; it gets a snapshot");
                self.app.metrics.divergences.inc();
            }
            Report::TookOver { by, at } => {
                let (app, session) = (self.app.clone(), self.id.clone());
                tokio::spawn(async move {
                    let note = Note::of_session(&session, &by, "took over", json!({ "at": at }));
                    if let Err(error) = app.store.note(note).await {
                        tracing::error!(%error, %session, "a take-over could not be written down");
                    }
                });
            }
            Report::Unpatched(error) => {
                tracing::error!(%error, "an update could not be told as a patch");
            }
        }
    }
}
