//! The sequencer of one session: a deterministic state machine that puts proposals in order.

mod allowing;
mod clients;
mod filling;

use std::sync::Arc;

use serde::{Deserialize, Serialize};
use serde_json::Value;

pub use allowing::{NoAnswer, Verdicted};
pub use clients::ClientOutcome;
use clients::Clients;
use filling::fill;

use crate::canonical::is_same;
use crate::charter::{Charter, Extent, Permission, Sight, nothing_at};
use crate::edit::{Actor, ClientKey, Effect, Proposal, Settled, Verdict, VerdictKind};
use crate::kind::{Settlement, Site, listed};
use crate::op::{Op, TEST, Unread};
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::references::{Followed, check_all_references, check_references, follow_drops};
use crate::state::{Misfit, Stamp, State};

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
    state: State,
    seq: u64,
    /// When the last update was settled. A clock that is set back does not take the journal back.
    at: u64,
    clients: Clients,
    /// Expressions that had no answer, until somebody asks.
    unanswered: Vec<NoAnswer>,
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
    version: Version,
}

/// The shape of a snapshot. The first one, which had no number, told clients apart by the ids that
/// they gave themselves.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[serde(try_from = "u32", into = "u32")]
struct Version;

const VERSION: u32 = 2;

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
    /// Reads a snapshot of the first version, without what it remembers of clients: whose that was
    /// cannot be told from it.
    pub fn of_first_version(mut stored: Value) -> serde_json::Result<Self> {
        if let Some(members) =
            stored.as_object_mut().filter(|members| !members.contains_key("version"))
        {
            members.insert("version".to_owned(), VERSION.into());
            members.insert("clients".to_owned(), serde_json::to_value(Clients::default())?);
        }
        serde_json::from_value(stored)
    }

    /// The state that it holds.
    pub fn into_state(self) -> State {
        self.state
    }
}

/// What became of a proposal.
#[derive(Clone, Debug, PartialEq)]
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
        let state = State::open(&charter.fields, opening)?;
        check_all_references(&charter.fields, state.root(), &charter.links)?;
        if state.weight() > charter.limits.state {
            return Err(too_large(&charter));
        }
        Ok(Self {
            charter,
            state,
            seq: 0,
            at: 0,
            clients: Clients::default(),
            unanswered: Vec::new(),
        })
    }

    /// A sequencer as it was when the snapshot was taken.
    pub fn restore(charter: Arc<Charter>, snapshot: SequencerSnapshot) -> Self {
        let SequencerSnapshot { seq, at, state, clients, .. } = snapshot;
        Self { charter, state, seq, at, clients, unanswered: Vec::new() }
    }

    /// Everything that [`restore`](Self::restore) needs. Cheap: the state is shared, not copied.
    pub fn snapshot(&self) -> SequencerSnapshot {
        let (state, clients) = (self.state.clone(), self.clients.clone());
        SequencerSnapshot { seq: self.seq, at: self.at, state, clients, version: Version }
    }

    /// Applies an update of the journal. Fails where it is not the next one or does not fit, and
    /// then changes nothing that is looked at again: the session must not go on.
    pub fn replay(&mut self, update: &Settled) -> Result<(), Misfit> {
        if update.seq != self.seq + 1 {
            let why = format!("the update after {} should be {}", self.seq, self.seq + 1);
            return Err(Misfit { seq: update.seq, at: String::new(), why });
        }
        self.state.apply(&self.charter.fields, update)?;
        self.seq = update.seq;
        self.at = self.at.max(update.at);
        self.clients.record(update.key(), update.n, ClientOutcome::Settled(update.seq));
        Ok(())
    }

    /// Remembers a refusal of the past, so that its proposal, sent again, is answered with it.
    pub fn replay_refusal(&mut self, client: ClientKey, n: u64, problem: Problem) {
        self.clients.record(client, n, ClientOutcome::Refused(problem));
    }

    /// The charter it runs by.
    pub fn charter(&self) -> &Arc<Charter> {
        &self.charter
    }

    /// The place of the last settled update; 0 before the first.
    pub fn seq(&self) -> u64 {
        self.seq
    }

    /// About how many bytes the plain state takes as JSON.
    pub fn weight(&self) -> u64 {
        self.state.weight()
    }

    /// The state as plain JSON. Cost O(size).
    pub fn plain(&self) -> Value {
        self.state.plain(&self.charter.fields)
    }

    /// The plain value at a path, `None` if nothing is there.
    pub fn plain_at(&self, path: &Path) -> Option<Value> {
        self.state.plain_at(&self.charter.fields, path)
    }

    /// The state itself, to be read elsewhere; a cheap clone.
    pub fn state(&self) -> State {
        self.state.clone()
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
        let mut unanswered = Vec::new();
        let outcome = self.handle(actor, proposal, |this, key| {
            this.settle(actor, key, proposal, now, &mut unanswered)
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
        let proposal =
            Proposal { n, seen: None, answered: 0, edits: vec![], gesture: None, note: None };
        self.handle(actor, &proposal, |this, client| {
            let mut state = Self::open(this.charter.clone(), opening)?.state;
            let plain = state.plain(&this.charter.fields);
            let effect = Effect::new(Path::of::<String>([]), Op::Reset(plain));
            let stamp = Stamp { seq: this.seq + 1, client };
            state
                .apply_one(&this.charter.fields, &effect, stamp)
                .map_err(|misfit| broken(&misfit))?;
            Ok((state, this.settled(actor, &proposal, now, vec![effect], vec![])))
        })
    }

    fn handle(
        &mut self,
        actor: &Actor,
        proposal: &Proposal,
        settle: impl FnOnce(&Self, ClientKey) -> Result<(State, Settled), Problem>,
    ) -> Outcome {
        let key = actor.key();
        match self.clients.known(key, proposal.n, proposal.answered) {
            Err(problem) => {
                self.clients.note_forgotten(key, proposal.n);
                return Outcome::Refused(problem);
            }
            Ok(Some(outcome)) => return Outcome::Repeated(outcome),
            Ok(None) => {}
        }
        let (outcome, kept) = match settle(self, key) {
            Ok((state, update)) => {
                self.state = state;
                self.seq = update.seq;
                self.at = update.at;
                (Outcome::Settled(update), ClientOutcome::Settled(self.seq))
            }
            Err(problem) => {
                let problem = problem.bounded();
                (Outcome::Refused(problem.clone()), ClientOutcome::Refused(problem))
            }
        };
        self.clients.record(key, proposal.n, kept);
        self.clients.answered(key, proposal.answered);
        outcome
    }

    /// A proposal of the client, and perhaps all before it, was refused without getting here; 0 for
    /// none. What counts positions on top of it is refused as `follows-refused`.
    pub fn handle_refused(&mut self, client: ClientKey, n: u64) {
        if n > 0 {
            self.clients.note_refused(client, n);
        }
    }

    /// What a proposal makes of the state, with the update that says so. Changes nothing.
    fn settle(
        &self,
        actor: &Actor,
        key: ClientKey,
        proposal: &Proposal,
        now: u64,
        unanswered: &mut Vec<NoAnswer>,
    ) -> Result<(State, Settled), Problem> {
        let settled =
            self.settle_edits(actor, key, proposal, now, unanswered).and_then(|(state, update)| {
                let is_over = state.weight() > self.charter.limits.state
                    && state.weight() > self.state.weight();
                if is_over {
                    return Err(too_large(&self.charter));
                }
                check_references(
                    &self.charter.fields,
                    state.root(),
                    &self.charter.links,
                    &update.effects,
                )?;
                self.check_guards(&state, actor, &update.effects, unanswered)?;
                Ok((state, update))
            });
        settled.map_err(|problem| {
            self.charter.sight(&actor.role).problem(&self.charter.fields, problem)
        })
    }

    fn check_shape(&self, proposal: &Proposal) -> Result<(), Problem> {
        let (edits, most) = (proposal.edits.len(), self.charter.limits.edits);
        if edits == 0 {
            return Err(Problem::new(
                ProblemKind::Malformed,
                "A proposal needs at least one edit.",
            ));
        }
        if edits > most {
            let detail =
                format!("A proposal has at most {most} edits; this one has {edits}. Send several.");
            return Err(Problem::new(ProblemKind::TooLarge, detail).with("limit", "edits"));
        }
        for (name, text) in [("gesture", &proposal.gesture), ("note", &proposal.note)] {
            if text.as_ref().is_some_and(|text| text.chars().count() > 200) {
                return Err(Problem::new(
                    ProblemKind::TooLarge,
                    format!("\"{name}\" has at most 200 characters."),
                ));
            }
        }
        match proposal.seen {
            Some(seen) if seen > self.seq => {
                let detail = format!("\"seen\" is {seen}, but the session is at {}.", self.seq);
                Err(Problem::new(ProblemKind::FromTheFuture, detail).with("seq", self.seq))
            }
            _ => Ok(()),
        }
    }

    fn settle_edits(
        &self,
        actor: &Actor,
        key: ClientKey,
        proposal: &Proposal,
        now: u64,
        unanswered: &mut Vec<NoAnswer>,
    ) -> Result<(State, Settled), Problem> {
        self.check_shape(proposal)?;
        let mut state = self.state.clone();
        let stamp = Stamp { seq: self.seq + 1, client: key };
        let mut effects = Vec::with_capacity(proposal.edits.len());
        let mut verdicts = Vec::new();
        for index in 0..proposal.edits.len() {
            let settlement = self
                .settle_edit(&state, actor, key, proposal, index, unanswered)
                .map_err(|problem| at_edit(problem, proposal, index))?;
            for effect in &settlement.effects {
                state
                    .apply_one(&self.charter.fields, effect, stamp)
                    .map_err(|misfit| broken(&misfit))?;
            }
            effects.extend(settlement.effects);
            verdicts.extend(
                Some(settlement.verdict)
                    .filter(|verdict: &Verdict| verdict.verdict != VerdictKind::Applied),
            );
        }
        Ok((state, self.settled(actor, proposal, now, effects, verdicts)))
    }

    fn settled(
        &self,
        actor: &Actor,
        proposal: &Proposal,
        now: u64,
        effects: Vec<Effect>,
        verdicts: Vec<Verdict>,
    ) -> Settled {
        Settled {
            seq: self.seq + 1,
            by: actor.id.clone(),
            client: actor.client,
            n: proposal.n,
            at: now.max(self.at),
            effects,
            verdicts,
            gesture: proposal.gesture.clone(),
            note: proposal.note.clone(),
        }
    }

    /// Settles one edit of a proposal against what those before it have made of the state.
    fn settle_edit(
        &self,
        state: &State,
        actor: &Actor,
        key: ClientKey,
        proposal: &Proposal,
        index: usize,
        unanswered: &mut Vec<NoAnswer>,
    ) -> Result<Settlement, Problem> {
        let edit = &proposal.edits[index];
        let path = Path::parse(&edit.at)?;
        let fields = &self.charter.fields;
        let mut op = Op::asked(edit);
        // A condition on a record that is made speaks of the record as it will be.
        let is_filled = op.as_mut().map_or(Ok(()), |op| fill(fields, op, &path, actor));
        let permission = self.permission(state, actor, &path, op.as_ref().ok(), unanswered);
        let is_condition = match &op {
            Ok(op) => op.is_condition(),
            Err(Unread::Name(_)) => false,
            Err(Unread::Member(name, _)) => *name == TEST,
        };
        // What is hidden is not there for who may not edit it either, and for nobody to be tested.
        let extent = self.charter.sight(&actor.role).extent(fields, &path);
        if extent == Extent::Nothing && (is_condition || !permission.is_given()) {
            return Err(nothing_at(&path));
        }
        is_filled?;
        let site = Site {
            op: &op,
            path: &path,
            index,
            n: proposal.n,
            client: key,
            seen: proposal.seen.unwrap_or(self.seq),
            follows_refused: proposal.seen.is_some()
                && self.clients.has_refused_beyond(key, proposal.answered),
        };
        match &op {
            Ok(Op::Test(expected)) => {
                return self.test(state, &site, expected, self.charter.sight(&actor.role));
            }
            Err(Unread::Member(_, problem)) if is_condition => return Err(problem.clone()),
            _ => {}
        }
        let settlement = fields.settle(state.root(), path.tokens(), &site);
        // A path that does not exist is said to be so before a role is; what exists is guarded by
        // the role.
        let is_known =
            !matches!(&settlement, Err(problem) if problem.kind() == ProblemKind::UnknownPath);
        if is_known && !permission.is_given() {
            return Err(not_allowed(&actor.role, &path, &permission));
        }
        self.follow(state, settlement?, &site)
    }

    /// With what a drop does to those who refer to the record.
    fn follow(
        &self,
        state: &State,
        settlement: Settlement,
        site: &Site<'_>,
    ) -> Result<Settlement, Problem> {
        let Settlement { effects, mut verdict } = settlement;
        let Followed { effects, mut met } =
            follow_drops(&self.charter.fields, state.root(), &self.charter.links, effects, site)?;
        if !met.is_empty() {
            let because = format!(
                "What referred to the record went with it, also what {} set unseen by the proposer.",
                listed(&met)
            );
            met.extend(verdict.met);
            met.sort_unstable();
            met.dedup();
            verdict =
                Verdict { lost: verdict.lost, ..site.verdict(VerdictKind::Overrode, met, because) };
        }
        Ok(Settlement { effects, verdict })
    }

    fn test(
        &self,
        state: &State,
        site: &Site<'_>,
        expected: &Value,
        sight: &Sight,
    ) -> Result<Settlement, Problem> {
        let present = state.plain_at(&self.charter.fields, site.path);
        let present =
            present.and_then(|present| sight.value(&self.charter.fields, site.path, present));
        if present.as_ref().is_some_and(|present| is_same(present, expected)) {
            let verdict = site.verdict(VerdictKind::Applied, vec![], "The condition holds.");
            return Ok(Settlement { effects: vec![], verdict });
        }
        let detail = format!("{} is not what the proposal asks for.", site.path);
        Err(Problem::new(ProblemKind::TestFailed, detail)
            .at(site.path)
            .current(present.unwrap_or_default()))
    }
}

fn not_allowed(role: &str, path: &Path, permission: &Permission) -> Problem {
    let detail = match permission {
        Permission::Unmet(_) => {
            format!(
                "The role {role:?} may edit {path} only under a condition of the charter's \
                 [roles.{role}], which does not hold."
            )
        }
        _ => format!(
            "The role {role:?} may not edit {path}. The charter's [roles.{role}] says where it may."
        ),
    };
    Problem::new(ProblemKind::NotAllowed, detail).at(path)
}

/// Names the edit that failed, where there are several.
fn at_edit(problem: Problem, proposal: &Proposal, index: usize) -> Problem {
    if proposal.edits.len() > 1 { problem.with("edit", index) } else { problem }
}

/// Never told while settling and applying agree; the sentence is for whoever breaks that.
fn broken(misfit: &Misfit) -> Problem {
    Problem::new(ProblemKind::Unavailable, format!("Nothing was settled: {misfit}."))
}

fn too_large(charter: &Charter) -> Problem {
    let detail = format!(
        "The state would be larger than the {} bytes that the charter allows.",
        charter.limits.state
    );
    Problem::new(ProblemKind::TooLarge, detail).with("limit", "state")
}
