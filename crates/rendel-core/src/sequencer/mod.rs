//! The sequencer of one session: a deterministic state machine that puts proposals in order.

mod clients;
mod counting;
mod indexed;
mod may;
mod reversal;
mod seating;
mod txn;
mod undo;
mod waking;

use std::sync::Arc;

use imbl::OrdMap;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use smallvec::SmallVec;

pub use clients::ClientOutcome;
use clients::Clients;
use indexed::IndexedState;
pub use may::Permitted;
use reversal::{Authored, Reversal};
pub use txn::Skipped;
use txn::{Objection, Origin, Sealed, Txn, broken, too_large};
pub use undo::{Look, UndoPlace, Undoable};

use crate::actor::{Actor, ClientKey};
use crate::charter::{Charter, Lens, NoAnswer};
use crate::grantees::Viewer;
use crate::history::Histories;
use crate::kind::{Chance, Memory};
use crate::op::Op;
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::references::check_all_references;
use crate::stamp::Stamp;
use crate::state::{Misfit, State};
use crate::update::{Effect, Proposal, Settled};

/// Puts the proposals of one session in order and settles them.
///
/// * Getters: [`seq`](Self::seq), [`plain`](Self::plain), [`plain_at`](Self::plain_at),
///   [`outcomes`](Self::outcomes) …
/// * What comes in: [`handle_proposal`](Self::handle_proposal). Outputs are values; a refusal
///   changes nothing but the memory of it.
/// * Coming back: [`snapshot`](Self::snapshot), [`restore`](Self::restore),
///   [`replay`](Self::replay) and [`replay_refusal`](Self::replay_refusal).
#[derive(Clone, Debug)]
pub struct Sequencer {
    charter: Arc<Charter>,
    indexed: IndexedState,
    seq: u64,
    /// When the last update was settled. A clock that is set back does not take the journal back.
    at: u64,
    clients: Clients,
    /// What participants did lately.
    histories: Histories,
    /// When ballots that were cast are counted next.
    count_at: Option<u64>,
    /// No seat that is kept becomes free before.
    no_lapse_before: u64,
    /// Nothing that is due is done before.
    no_due_before: u64,
    /// When the session was opened, in milliseconds since 1970 UTC.
    opened: u64,
    /// The participants in the session with their roles, if anything follows from that.
    here: OrdMap<String, String>,
    /// From which draws are made.
    chance: Option<Chance>,
    /// Expressions that had no answer, until somebody asks.
    unanswered: Vec<NoAnswer>,
}

/// What a sequencer needs to be restored, without the charter.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct SequencerSnapshot {
    /// The last update that it holds.
    pub seq: u64,
    #[serde(default)]
    at: u64,
    state: State,
    clients: Clients,
    #[serde(default)]
    histories: Histories,
    /// The participants in the session.
    #[serde(default, skip_serializing_if = "OrdMap::is_empty")]
    here: OrdMap<String, String>,
    version: Version,
}

/// The shape of a snapshot. The first one, which had no number, told clients apart by the ids that
/// they gave themselves; up to the second each field remembered for itself what had gone from it.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[serde(try_from = "u32", into = "u32")]
struct Version;

const VERSION: u32 = 3;

impl From<Version> for u32 {
    fn from(Version: Version) -> Self {
        VERSION
    }
}

impl TryFrom<u32> for Version {
    type Error = String;

    fn try_from(version: u32) -> Result<Self, String> {
        (version == VERSION)
            .then_some(Self)
            .ok_or_else(|| format!("a snapshot of version {version}"))
    }
}

impl SequencerSnapshot {
    /// Reads a snapshot of any version. From versions before the third it takes no removed records,
    /// so positions that are older than the snapshot are too old. From the first it takes no clients
    /// either, since that version does not say which participant a client belongs to.
    pub fn read(mut stored: Value) -> serde_json::Result<Self> {
        let version = stored.get("version").and_then(Value::as_u64);
        if let Some(members) = stored.as_object_mut()
            && version.is_none_or(|version| version < VERSION.into())
        {
            let seq = members.get("seq").and_then(Value::as_u64).unwrap_or_default();
            if let Some(state) = members.get_mut("state").and_then(Value::as_object_mut) {
                state.insert("memory".to_owned(), serde_json::to_value(Memory::since(seq))?);
            }
            if version.is_none() {
                members.insert("clients".to_owned(), serde_json::to_value(Clients::forgetful())?);
            }
            members.insert("version".to_owned(), VERSION.into());
        }
        serde_json::from_value(stored)
    }

    /// The same with another state, made from its plain JSON by `change`. What it remembered of what
    /// is gone goes: positions of before it are too old.
    pub fn with_changed_state(
        mut self,
        charter: &Charter,
        change: impl FnOnce(&mut Value),
    ) -> Result<Self, Misfit> {
        let mut plain = self.state.plain(&charter.fields);
        change(&mut plain);
        let effect = Effect::new(Path::of::<String>([]), Op::Reset(plain));
        let stamp = Stamp { seq: self.seq, client: Actor::session().key() };
        self.state.apply_one(&charter.fields, &effect, stamp, None)?;
        self.histories = Histories::default();
        Ok(self)
    }

    /// The same with another name for one participant.
    #[must_use]
    pub fn with_renamed(mut self, who: &str, alias: &str) -> Self {
        if let Some(role) = self.here.remove(who) {
            self.here.insert(alias.to_owned(), role);
        }
        self
    }

    /// The state that it holds.
    pub fn into_state(self) -> State {
        self.state
    }
}

/// What became of a proposal.
#[derive(Clone, Debug, PartialEq)]
#[expect(clippy::large_enum_variant, reason = "nearly all are settled, and a box is an allocation")]
pub enum Outcome {
    /// It took its place in the order.
    Settled(Settled),
    /// It did not take effect.
    Refused(Problem),
    /// It was sent before; this was its first outcome.
    Repeated(ClientOutcome),
}

impl Sequencer {
    /// A sequencer of a new session. Fails where `opening` does not fit the charter or its limits.
    pub fn open(charter: Arc<Charter>, opening: Option<&Value>) -> Result<Self, Problem> {
        let state = State::open(&charter, opening)?;
        check_all_references(&charter.fields, state.root(), &charter.links)?;
        if state.weight() > charter.limits.state {
            return Err(too_large(&charter));
        }
        let indexed = IndexedState::of(&charter, state);
        Ok(Self {
            charter,
            indexed,
            seq: 0,
            at: 0,
            clients: Clients::default(),
            histories: Histories::default(),
            count_at: None,
            no_lapse_before: 0,
            no_due_before: 0,
            opened: 0,
            here: OrdMap::new(),
            chance: None,
            unanswered: Vec::new(),
        })
    }

    /// A sequencer with the content of a snapshot. Cost O(what may refer to something).
    pub fn restore(charter: Arc<Charter>, snapshot: SequencerSnapshot) -> Self {
        let SequencerSnapshot { seq, at, state, clients, histories, here, .. } = snapshot;
        let indexed = IndexedState::of(&charter, state);
        Self {
            count_at: (!charter.play.ballots.is_empty()).then_some(0),
            charter,
            indexed,
            seq,
            at,
            clients,
            histories,
            no_lapse_before: 0,
            no_due_before: 0,
            opened: 0,
            here,
            chance: None,
            unanswered: Vec::new(),
        }
    }

    /// The same with a secret from which its draws are made.
    #[must_use]
    pub fn with_chance(self, chance: Option<Chance>) -> Self {
        Self { chance, ..self }
    }

    /// The same, opened at a time, in milliseconds since 1970 UTC.
    #[must_use]
    pub fn with_opened(self, opened: u64) -> Self {
        Self { opened, ..self }
    }

    /// Everything that [`restore`](Self::restore) needs. Cheap: the state is shared, not copied.
    pub fn snapshot(&self) -> SequencerSnapshot {
        let (state, clients) = (self.indexed.state.clone(), self.clients.clone());
        let (histories, here) = (self.histories.clone(), self.here.clone());
        let (seq, at) = (self.seq, self.at);
        SequencerSnapshot { seq, at, state, clients, histories, here, version: Version }
    }

    /// Applies an update of the journal. Fails if it is not the next one or does not fit. The
    /// sequencer must not be used after that.
    pub fn replay(&mut self, update: &Settled) -> Result<(), Misfit> {
        if update.seq != self.seq + 1 {
            let why = format!("the update after {} should be {}", self.seq, self.seq + 1);
            return Err(Misfit { seq: update.seq, at: String::new(), why });
        }
        let key = update.key();
        let own = update.own.unwrap_or(usize::MAX);
        let mut reversal = Reversal::default();
        for (index, (effect, stamp)) in update.stamped(key).enumerate() {
            if index < own && stamp.client == key {
                let authored = Authored { by: &update.by, at: update.at, stamp };
                let Self { indexed, charter, histories, .. } = self;
                reversal.apply(indexed, charter, histories, effect, authored)?;
            } else {
                self.indexed.apply(&self.charter, effect, stamp, None)?;
            }
        }
        self.indexed.state.age(&self.charter.fields, update.seq);
        self.note_settled(update, key, reversal);
        if !key.is_session() {
            self.clients.record(key, update.n, ClientOutcome::Settled(update.seq), 0);
        }
        Ok(())
    }

    /// Notes what follows from an update that has been applied.
    fn note_settled(&mut self, update: &Settled, key: ClientKey, reversal: Reversal) {
        self.note_done(update, key, reversal);
        self.seq = update.seq;
        self.at = self.at.max(update.at);
        self.note_cast(update);
        self.note_passage(update);
    }

    /// Remembers a refusal of the past, so that its proposal, sent again, is answered with it.
    pub fn replay_refusal(&mut self, client: ClientKey, n: u64, problem: Problem) {
        if !client.is_session() {
            self.clients.record(client, n, ClientOutcome::Refused(problem), 0);
        }
    }

    /// The charter it runs by.
    pub fn charter(&self) -> &Arc<Charter> {
        &self.charter
    }

    /// The place of the last settled update; 0 before the first.
    pub fn seq(&self) -> u64 {
        self.seq
    }

    /// When the last update was settled, in milliseconds since 1970 UTC.
    pub fn at(&self) -> u64 {
        self.at
    }

    /// The approximate bytes of the plain state as JSON.
    pub fn weight(&self) -> u64 {
        self.indexed.state.weight()
    }

    /// The approximate bytes of what is remembered: removed records, places in texts and lists, and
    /// the answers that clients were given.
    pub fn remembered(&self) -> usize {
        self.indexed.state.memory().bytes() + self.clients.bytes() + self.histories.bytes()
    }

    /// The state as plain JSON. Cost O(size).
    pub fn plain(&self) -> Value {
        self.indexed.state.plain(&self.charter.fields)
    }

    /// The plain value at a path, `None` if nothing is there.
    pub fn plain_at(&self, path: &Path) -> Option<Value> {
        self.indexed.state.plain_at(&self.charter.fields, path)
    }

    /// The state itself, to be read elsewhere; a cheap clone.
    pub fn state(&self) -> State {
        self.indexed.state.clone()
    }

    /// The outcomes of a client's proposals that it is not known to have heard of, by `n`.
    pub fn outcomes(&self, client: ClientKey) -> impl Iterator<Item = (u64, ClientOutcome)> {
        self.clients.outcomes(client)
    }

    /// Whether a client's proposal of that number has its outcome, or is past having one.
    pub fn has_answered(&self, client: ClientKey, n: u64) -> bool {
        !matches!(self.clients.known(client, n, 0), Ok(None))
    }

    /// Settles or refuses a proposal. Cost O(edits × log size + top-level fields).
    pub fn handle_proposal(&mut self, actor: &Actor, proposal: &Proposal, now: u64) -> Outcome {
        self.handle_proposal_unless(actor, proposal, now, &|_| None)
    }

    /// As [`handle_proposal`](Self::handle_proposal), but refuses a proposal whose effects meet with
    /// an objection that lies outside the state, such as that somebody holds a place.
    pub fn handle_proposal_unless(
        &mut self,
        actor: &Actor,
        proposal: &Proposal,
        now: u64,
        objection: &dyn Fn(&[Effect]) -> Option<Problem>,
    ) -> Outcome {
        self.handle(actor, proposal, |this, key| {
            this.settle(Origin::of(actor, key, proposal, now), objection)
        })
    }

    fn settle(&mut self, origin: Origin<'_>, objection: Objection<'_>) -> Result<Sealed, Problem> {
        let (settled, unanswered) = Txn::begin(self, origin).settle(objection);
        self.note_unanswered(unanswered);
        settled
    }

    /// A problem without the values that are hidden from its recipient.
    fn seen_by(&self, actor: &Actor, problem: Problem) -> Problem {
        let viewer = Viewer::of(actor);
        match problem.kind() {
            // The reason may be a hidden value.
            ProblemKind::Rule if !self.charter.sight(&actor.role).is_whole() => {
                let detail = "A rule of the session follows from this and cannot be carried out.";
                Problem::new(ProblemKind::Rule, detail)
            }
            _ => self.lens(actor, &viewer).problem(problem),
        }
    }

    /// What somebody sees of the state.
    fn lens<'l>(&'l self, actor: &Actor, viewer: &'l Viewer) -> Lens<'l> {
        let sight = self.charter.sight(&actor.role);
        Lens::new(&self.charter, sight, Some(viewer), &self.indexed.state)
    }

    /// For each effect the update that last changed its place.
    fn since(&self, effects: &[Effect]) -> SmallVec<[u64; 1]> {
        let (fields, root) = (&self.charter.fields, self.indexed.state.root());
        let since = effects.iter().map(|effect| fields.latest(root, effect.at.tokens()));
        let since: SmallVec<[u64; 1]> = since.collect();
        if since.iter().all(|seq| *seq == 0) { SmallVec::new() } else { since }
    }

    /// Refuses a proposal for a reason that lies outside the state, such as a frozen session. As
    /// any refusal it is remembered, and a proposal that was sent before still gets its first
    /// outcome.
    pub fn handle_refusal(
        &mut self,
        actor: &Actor,
        proposal: &Proposal,
        problem: Problem,
    ) -> Outcome {
        self.handle(actor, proposal, |_, _| Err(problem))
    }

    /// Gives the state the values of `opening` over the charter's own, as one update with one
    /// effect. What was made against the state before stands or falls with its field's rule;
    /// positions in texts and lists are `stale`.
    pub fn handle_reset(
        &mut self,
        actor: &Actor,
        n: u64,
        opening: Option<&Value>,
        now: u64,
    ) -> Outcome {
        let proposal = Proposal::new(n, None, vec![]);
        self.handle(actor, &proposal, |this, client| {
            let stamp = Stamp { seq: this.seq + 1, client };
            let mut opened = Self::open(this.charter.clone(), opening)?;
            this.carry_over(&mut opened, stamp)?;
            let effect = Effect::new(Path::of::<String>([]), Op::Reset(opened.plain()));
            Txn::begin(this, Origin::of(actor, client, &proposal, now)).with(effect)
        })
    }

    fn handle(
        &mut self,
        actor: &Actor,
        proposal: &Proposal,
        settle: impl FnOnce(&mut Self, ClientKey) -> Result<Sealed, Problem>,
    ) -> Outcome {
        let key = actor.key();
        if key.is_session() {
            let detail = "This client id is the session's own. Come with another.";
            return Outcome::Refused(Problem::new(ProblemKind::NotAllowed, detail));
        }
        match self.clients.known(key, proposal.n, proposal.answered) {
            Err(problem) => {
                self.clients.note_forgotten(key, proposal.n);
                return Outcome::Refused(problem);
            }
            Ok(Some(outcome)) => return Outcome::Repeated(outcome),
            Ok(None) => {}
        }
        let settled = settle(self, key);
        let outcome = self.commit(key, settled);
        let kept = match &outcome {
            Outcome::Refused(problem) => ClientOutcome::Refused(problem.clone()),
            Outcome::Settled(_) | Outcome::Repeated(_) => ClientOutcome::Settled(self.seq),
        };
        self.clients.record(key, proposal.n, kept, proposal.answered);
        outcome
    }

    fn commit(&mut self, key: ClientKey, settled: Result<Sealed, Problem>) -> Outcome {
        match settled.and_then(|sealed| self.take_over(key, sealed)) {
            Ok(update) => Outcome::Settled(update),
            Err(problem) => Outcome::Refused(problem.bounded()),
        }
    }

    fn take_over(&mut self, key: ClientKey, sealed: Sealed) -> Result<Settled, Problem> {
        let Sealed { update, state, mut reversal } = sealed;
        match state {
            Some(state) => self.indexed = state,
            None => {
                let stamp = Stamp { seq: update.seq, client: key };
                let authored = Authored { by: &update.by, at: update.at, stamp };
                let Self { indexed, charter, histories, .. } = self;
                for effect in &update.effects {
                    let applied = reversal.apply(indexed, charter, histories, effect, authored);
                    applied.map_err(|misfit| broken(&misfit))?;
                }
                self.indexed.state.age(&self.charter.fields, update.seq);
            }
        }
        self.note_settled(&update, key, reversal);
        Ok(update)
    }

    /// A proposal of the client, and perhaps all before it, was refused without getting here; 0 for
    /// none. What counts positions on top of it is refused as `follows-refused`.
    pub fn note_refused(&mut self, client: ClientKey, n: u64) {
        if n > 0 {
            self.clients.note_refused(client, n);
        }
    }
}
