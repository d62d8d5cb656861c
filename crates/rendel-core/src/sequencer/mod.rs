//! The sequencer of one session: a deterministic state machine that puts proposals in order.

mod acting;
mod allowing;
mod balloting;
mod clients;
mod filling;
mod in_place;
mod noting;
mod playing;
mod ruling;
mod settling;
mod timing;
mod undoing;

use std::sync::{Arc, OnceLock};

use imbl::OrdMap;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use smallvec::smallvec;

use acting::Agenda;
pub use allowing::Verdicted;
pub use clients::ClientOutcome;
use clients::Clients;
use noting::{Coming, Noted};
use settling::{Settling, broken, too_large};
pub use undoing::{Look, Place, Skipped, Undoable};

use crate::actor::{Actor, ClientKey};
use crate::charter::{Charter, NoAnswer};
use crate::history::Histories;
use crate::kind::{Before, Chance, Memory, Settlement};
use crate::op::Op;
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::references::{Referrers, check_all_references};
use crate::stamp::Stamp;
use crate::state::{Misfit, State};
use crate::totals::Totals;
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
    present: Present,
    seq: u64,
    /// When the last update was settled. A clock that is set back does not take the journal back.
    at: u64,
    clients: Clients,
    /// What participants did lately.
    histories: Histories,
    agenda: Agenda,
    /// When ballots that were cast are counted next.
    count_at: Option<u64>,
    /// No seat that is kept becomes free before.
    no_lapse_before: u64,
    /// Nothing that is due is done before.
    no_due_before: u64,
    /// When the session was opened, in milliseconds since 1970 UTC.
    opened: u64,
    /// Who is here, with their roles, where anything follows from that.
    here: OrdMap<String, String>,
    /// From which draws are made.
    chance: Option<Chance>,
    /// Expressions that had no answer, until somebody asks.
    unanswered: Vec<NoAnswer>,
}

/// The state, who refers to what in it, and what its totals are made of.
#[derive(Clone, Debug)]
struct Present {
    state: State,
    referrers: Referrers,
    totals: Totals,
    /// When something is due next, once it has been asked for.
    next_due: OnceLock<Option<u64>>,
    /// What was changed since the last update.
    noted: Noted,
}

impl Present {
    fn of(charter: &Charter, state: State) -> Self {
        let referrers = Referrers::of(&charter.fields, state.root(), &charter.links);
        let totals = Totals::of(&charter.fields, state.root(), &charter.play.totals);
        Self { state, referrers, totals, next_due: OnceLock::new(), noted: Noted::default() }
    }

    /// As [`apply`](Self::apply), of what was settled just now.
    fn put(&mut self, charter: &Charter, effect: &Effect, stamp: Stamp) -> Result<(), Problem> {
        self.apply(charter, effect, stamp, None).map_err(|misfit| broken(&misfit))
    }

    fn apply(
        &mut self,
        charter: &Charter,
        effect: &Effect,
        stamp: Stamp,
        before: Option<&mut Before>,
    ) -> Result<(), Misfit> {
        let (fields, links) = (&charter.fields, &charter.links);
        let totals = &charter.play.totals;
        if effect.at.tokens().first().is_none_or(|field| charter.play.is_of_time(field)) {
            self.next_due = OnceLock::new();
        }
        if links.is_empty() && totals.is_empty() {
            return self.state.apply_one(fields, effect, stamp, before);
        }
        let change = effect.change();
        self.referrers.handle_going(fields, self.state.root(), links, &change);
        self.totals.handle_going(fields, self.state.root(), totals, &change);
        self.state.apply_one(fields, effect, stamp, before)?;
        self.referrers.handle_came(fields, self.state.root(), links, &change);
        self.totals.handle_came(fields, self.state.root(), totals, &change);
        Ok(())
    }
}

/// What a sequencer needs to come back, with nothing of the charter in it.
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
    #[serde(default)]
    agenda: Agenda,
    /// Who is here.
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
    /// Reads a snapshot of any version. Of one before the third it has nothing of what was gone;
    /// positions of before it are too old. Of the first it has nothing of clients besides: whose
    /// that was cannot be told from it.
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

    /// The same with a participant who is here under another name.
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
        let present = Present::of(&charter, state);
        Ok(Self {
            charter,
            present,
            seq: 0,
            at: 0,
            clients: Clients::default(),
            histories: Histories::default(),
            agenda: Agenda::default(),
            count_at: None,
            no_lapse_before: 0,
            no_due_before: 0,
            opened: 0,
            here: OrdMap::new(),
            chance: None,
            unanswered: Vec::new(),
        })
    }

    /// A sequencer as it was when the snapshot was taken. Cost O(what may refer to something).
    pub fn restore(charter: Arc<Charter>, snapshot: SequencerSnapshot) -> Self {
        let SequencerSnapshot { seq, at, state, clients, histories, agenda, here, .. } = snapshot;
        let present = Present::of(&charter, state);
        Self {
            count_at: (!charter.play.ballots.is_empty()).then_some(0),
            charter,
            present,
            seq,
            at,
            clients,
            histories,
            agenda,
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
        let (state, clients) = (self.present.state.clone(), self.clients.clone());
        let (agenda, here) = (self.agenda.clone(), self.here.clone());
        let histories = self.histories.clone();
        let (seq, at) = (self.seq, self.at);
        SequencerSnapshot { seq, at, state, clients, histories, agenda, here, version: Version }
    }

    /// Applies an update of the journal. Fails where it is not the next one or does not fit, and
    /// then changes nothing that is looked at again: the session must not go on.
    pub fn replay(&mut self, update: &Settled) -> Result<(), Misfit> {
        if update.seq != self.seq + 1 {
            let why = format!("the update after {} should be {}", self.seq, self.seq + 1);
            return Err(Misfit { seq: update.seq, at: String::new(), why });
        }
        let key = update.key();
        let own = update.own.unwrap_or(usize::MAX);
        for (index, (effect, stamp)) in update.stamped(key).enumerate() {
            if index < own && stamp.client == key {
                let coming = Coming { by: &update.by, at: update.at, effect, stamp };
                self.present.apply_noting(&self.charter, &self.histories, coming)?;
            } else {
                self.present.apply(&self.charter, effect, stamp, None)?;
            }
        }
        let noted = std::mem::take(&mut self.present.noted);
        self.note_done(update, key, noted);
        self.present.state.age(&self.charter.fields, update.seq);
        self.seq = update.seq;
        self.at = self.at.max(update.at);
        self.note_cast(update);
        self.note_passage(update);
        if key.is_session() {
            self.agenda.handle_done(update.n);
        } else {
            self.clients.record(key, update.n, ClientOutcome::Settled(update.seq), 0);
        }
        Ok(())
    }

    /// Remembers a refusal of the past, so that its proposal, sent again, is answered with it.
    pub fn replay_refusal(&mut self, client: ClientKey, n: u64, problem: Problem) {
        if client.is_session() {
            self.agenda.handle_done(n);
        } else {
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

    /// About how many bytes the plain state takes as JSON.
    pub fn weight(&self) -> u64 {
        self.present.state.weight()
    }

    /// About how many bytes are taken by what is remembered: of what is gone, of the places in
    /// texts and lists, and of what clients were answered.
    pub fn remembered(&self) -> usize {
        self.present.state.memory().bytes() + self.clients.bytes() + self.histories.bytes()
    }

    /// The state as plain JSON. Cost O(size).
    pub fn plain(&self) -> Value {
        self.present.state.plain(&self.charter.fields)
    }

    /// The plain value at a path, `None` if nothing is there.
    pub fn plain_at(&self, path: &Path) -> Option<Value> {
        self.present.state.plain_at(&self.charter.fields, path)
    }

    /// The state itself, to be read elsewhere; a cheap clone.
    pub fn state(&self) -> State {
        self.present.state.clone()
    }

    /// The outcomes of a client's proposals that it is not known to have heard of, by `n`.
    pub fn outcomes(&self, client: ClientKey) -> impl Iterator<Item = (u64, ClientOutcome)> {
        self.clients.outcomes(client)
    }

    /// Whether a client's proposal of that number has its outcome, or is past having one.
    pub fn has_answered(&self, client: ClientKey, n: u64) -> bool {
        !matches!(self.clients.known(client, n, 0), Ok(None))
    }

    /// Settles or refuses a proposal. Cost O(edits × log size + top-level fields): it is settled on
    /// a clone of the state, which becomes the state where nothing is refused.
    pub fn handle_proposal(&mut self, actor: &Actor, proposal: &Proposal, now: u64) -> Outcome {
        self.handle_proposal_unless(actor, proposal, now, &|_| None)
    }

    /// As [`handle_proposal`](Self::handle_proposal), unless what it would do has a problem that
    /// lies outside the state, such as that somebody holds what it changes.
    pub fn handle_proposal_unless(
        &mut self,
        actor: &Actor,
        proposal: &Proposal,
        now: u64,
        problem: &dyn Fn(&[Effect]) -> Option<Problem>,
    ) -> Outcome {
        let mut unanswered = Vec::new();
        let outcome = self.handle(actor, proposal, |this, key| {
            let mut settling = Settling::of(actor, key, proposal, now, &mut unanswered);
            match this.settle_in_place(&mut settling, problem) {
                Ok(Some(update)) => Ok((None, update)),
                Ok(None) => this
                    .settle(&mut settling, problem)
                    .map(|(present, update)| (Some(present), update)),
                Err(problem) => Err(this.seen_by(actor, problem)),
            }
        });
        self.note_unanswered(unanswered);
        outcome
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
            let mut present = this.present.clone();
            present.apply(&this.charter, &effect, stamp, None).map_err(|misfit| broken(&misfit))?;
            let unanswered = &mut Vec::new();
            let settling = Settling::of(actor, client, &proposal, now, unanswered);
            let update = this.settled(&settling, smallvec![effect], vec![]);
            let (present, update) = this.with_disclosures(present, update);
            Ok((Some(present), update))
        })
    }

    fn handle(
        &mut self,
        actor: &Actor,
        proposal: &Proposal,
        settle: impl FnOnce(&mut Self, ClientKey) -> Result<(Option<Present>, Settled), Problem>,
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

    /// With the state that an update leads to, unless it was settled in place.
    fn commit(
        &mut self,
        key: ClientKey,
        settled: Result<(Option<Present>, Settled), Problem>,
    ) -> Outcome {
        match settled {
            Ok((present, update)) => {
                if let Some(present) = present {
                    self.present = present;
                }
                let noted = std::mem::take(&mut self.present.noted);
                self.note_done(&update, key, noted);
                self.seq = update.seq;
                self.at = update.at;
                self.note_cast(&update);
                self.note_passage(&update);
                Outcome::Settled(update)
            }
            Err(problem) => Outcome::Refused(problem.bounded()),
        }
    }

    /// A proposal of the client, and perhaps all before it, was refused without getting here; 0 for
    /// none. What counts positions on top of it is refused as `follows-refused`.
    pub fn note_refused(&mut self, client: ClientKey, n: u64) {
        if n > 0 {
            self.clients.note_refused(client, n);
        }
    }
}
