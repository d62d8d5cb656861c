//! The copy of a session that a client keeps.

use std::collections::{BTreeMap, VecDeque};

use rendel_core::{Facts, Hold, HoldChange, Problem, ProblemKind, Settled, Undoable, digest};
use rendel_wire::{
    ConnectionLimits, Digest, Enter, FromParticipant, FromService, Participant, Roster, Said,
    SessionHead, Status, You,
};
use serde_json::Value;
use uuid::Uuid;

mod following;
mod own;
mod pending;
mod querying;
mod undoing;

use own::Own;
use pending::{Pending, is_forgotten, splice_of};
pub use undoing::Undoing;

use crate::anchor::{Anchor, Anchors};
use crate::apply::{apply_edit, text_at_mut};
use crate::draft::Draft;

/// What a frame of the service changed.
#[derive(Clone, Debug, PartialEq)]
#[expect(clippy::large_enum_variant, reason = "nearly all are updates, and a box is an allocation")]
pub enum Change {
    /// The session is there, anew or again.
    Welcomed,
    /// An update was applied.
    Settled(Settled),
    /// An own proposal was taken back.
    Refused {
        /// Its number.
        n: u64,
        /// Why.
        problem: Problem,
    },
    /// An own proposal had been settled while its answer was lost.
    SettledAway {
        /// Its number.
        n: u64,
        /// The update that it is.
        seq: u64,
    },
    /// An own proposal that waited, or was refused for what it was made on top of, is sent under
    /// another number.
    MadeAnew {
        /// The number that it had.
        was: u64,
        /// The one that it has.
        n: u64,
    },
    /// An own proposal that waited has nothing left to change: what it was to delete is gone. It is
    /// not sent.
    Moot {
        /// Its number.
        n: u64,
    },
    /// This replica differed from the service's state, and has that now.
    Repaired {
        /// At which `seq`.
        seq: u64,
        /// A sentence.
        reason: String,
    },
    /// Its participant can undo or redo something else.
    Undoable(Undoable),
    /// The rows of that query are others.
    Rows(u64),
    /// A query cannot be followed, and is followed no more.
    QueryRefused {
        /// Its number.
        query: u64,
        /// Why.
        problem: Problem,
    },
    /// Who came, went or changed.
    Roster(Roster),
    /// These participants tell something else of themselves, or nothing any more.
    Presence(Vec<String>),
    /// What is held, and what is free.
    Holds(HoldChange),
    /// The service remembers nothing of this client, which is to enter again: what it did not send
    /// before is sent anew then.
    Unknown,
    /// An own proposal waits for an outside check.
    Waiting {
        /// Its number.
        n: u64,
    },
    /// The session was frozen, thawed or ended.
    Status(Status),
    /// An update did not fit: this replica has diverged, and must enter again without `seen`.
    Diverged(String),
}

/// The confirmed state plus one's own pending proposals.
///
/// Nothing is known until the first `welcome`: [`view`](Self::view) is `None` then, which is not
/// the same as an empty state.
#[derive(Clone, Debug)]
pub struct Replica {
    client: Uuid,
    you: Option<You>,
    session: Option<SessionHead>,
    epoch: u64,
    /// Which of the session's audiences it is of.
    audience: usize,
    seq: u64,
    confirmed: Option<Value>,
    own: Own,
    roster: Vec<Participant>,
    /// How many are here in all, if some are not named.
    count: Option<u64>,
    presence: BTreeMap<String, BTreeMap<Uuid, Facts>>,
    holds: BTreeMap<String, Hold>,
    /// What this client tells of its participant.
    said: Facts,
    pending: VecDeque<Pending>,
    outgoing: VecDeque<FromParticipant>,
    drafts: BTreeMap<String, Draft>,
    anchors: Anchors,
    /// Proposals that were made here.
    made: u64,
    last_n: u64,
    answered: u64,
    /// Welcomes so far.
    welcomes: u64,
    /// The last own proposal that was refused.
    refused: u64,
    diverged: bool,
    limits: Option<ConnectionLimits>,
    /// What was refused here, before it was sent.
    refused_here: VecDeque<Change>,
    follows_undo: bool,
    undoable: Undoable,
    followings: querying::Followings,
    is_stateless: bool,
}

impl Replica {
    /// A replica of the tab or process `client`, which knows nothing yet.
    pub fn new(client: Uuid) -> Self {
        Self {
            client,
            you: None,
            session: None,
            epoch: 0,
            audience: 0,
            seq: 0,
            confirmed: None,
            own: Own::default(),
            roster: Vec::new(),
            count: None,
            presence: BTreeMap::new(),
            holds: BTreeMap::new(),
            said: Facts::new(),
            pending: VecDeque::new(),
            outgoing: VecDeque::new(),
            drafts: BTreeMap::new(),
            anchors: Anchors::default(),
            made: 0,
            last_n: 0,
            answered: 0,
            welcomes: 0,
            refused: 0,
            diverged: false,
            limits: None,
            refused_here: VecDeque::new(),
            follows_undo: false,
            undoable: Undoable::default(),
            followings: querying::Followings::default(),
            is_stateless: false,
        }
    }

    /// The frame to enter with: where it was here before, it says up to where.
    pub fn enter(&self, token: Option<String>) -> Enter {
        let is_known = self.confirmed.is_some() && !self.diverged;
        Enter {
            token,
            client: self.client,
            seen: is_known.then_some(self.seq),
            epoch: is_known.then_some(self.epoch),
            audience: is_known.then_some(self.audience),
            presence: (!self.said.is_empty()).then(|| self.said.clone()),
            fields: false,
            stateless: self.is_stateless,
        }
    }

    /// The same without a state, for queries only.
    #[must_use]
    pub fn stateless(self) -> Self {
        Self { is_stateless: true, ..self }
    }

    /// Notes what this client tells of its participant from now on, and gives the frame that says
    /// so; `null` takes a fact back. It is said again by itself after a return.
    pub fn say(&mut self, set: Facts) -> Said {
        for (name, value) in &set {
            match value {
                Value::Null => drop(self.said.shift_remove(name)),
                value => drop(self.said.insert(name.clone(), value.clone())),
            }
        }
        Said { seen: self.confirmed.is_some().then_some(self.seq), set }
    }

    /// Facts that were said have lapsed: they are not said again after a return.
    pub fn lapse<'n>(&mut self, names: impl IntoIterator<Item = &'n str>) {
        names.into_iter().for_each(|name| drop(self.said.shift_remove(name)));
    }

    /// Attaches an anchor to the text that is shown at a path: to the character before `index`, or
    /// to the one at it. It moves with that character, and says so when it is gone.
    pub fn anchor(&mut self, at: &str, index: usize, is_left: bool) -> Anchor {
        self.anchors.add(at, index, is_left)
    }

    /// Where an anchor is now, and whether its character is still there.
    pub fn anchored(&self, anchor: Anchor) -> Option<(usize, bool)> {
        self.anchors.find(anchor)
    }

    /// Forgets an anchor.
    pub fn release(&mut self, anchor: Anchor) {
        self.anchors.remove(anchor);
    }

    /// Takes in a frame of the service, and says what it changed.
    pub fn handle(&mut self, frame: FromService) -> Vec<Change> {
        let mut changes = self.handle_frame(frame);
        changes.extend(self.send_what_waited());
        changes
    }

    fn handle_frame(&mut self, frame: FromService) -> Vec<Change> {
        match frame {
            FromService::Welcome(welcome) => self.handle_welcome(*welcome),
            FromService::Settled(frame) => self.handle_updates(frame.updates),
            FromService::PrivatePatch(beside) => {
                self.own.expect(beside);
                vec![]
            }
            // It is sent again in a moment, and everything after it: nobody is told.
            FromService::Refused(refused) if refused.problem.kind() == ProblemKind::TooFast => {
                vec![]
            }
            FromService::Refused(refused) if is_forgotten(refused.n, &refused.problem) => {
                self.begin_anew(&refused.problem)
            }
            FromService::Refused(refused) => {
                self.refuse(refused.n, refused.problem).into_iter().collect()
            }
            FromService::Outcome(outcome) => self.handle_outcome(outcome).into_iter().collect(),
            FromService::Roster(change) => {
                self.handle_roster(&change);
                vec![Change::Roster(change)]
            }
            FromService::Presence(frame) => {
                let who = frame.of.keys().cloned().collect();
                for (who, told) in frame.of {
                    let mut here = self.presence.remove(&who).unwrap_or_default();
                    for (client, facts) in told {
                        match facts.filter(|_| !self.is_self(&who, client)) {
                            Some(facts) => drop(here.insert(client, facts)),
                            None => drop(here.remove(&client)),
                        }
                    }
                    if !here.is_empty() {
                        self.presence.insert(who, here);
                    }
                }
                vec![Change::Presence(who)]
            }
            FromService::Undoable(undoable) => self.handle_undoable(undoable),
            FromService::Rows(frame) => self.handle_rows(frame),
            FromService::RowSteps(frame) => self.handle_row_steps(&frame),
            FromService::QueryRefused(frame) => self.handle_query_refused(frame),
            FromService::Holds(change) => {
                change.freed.iter().for_each(|at| drop(self.holds.remove(at)));
                self.holds.extend(change.taken.iter().map(|hold| (hold.at.clone(), hold.clone())));
                vec![Change::Holds(change)]
            }
            FromService::Waiting(waiting) => vec![Change::Waiting { n: waiting.n }],
            FromService::Status(status) => {
                if let Some(session) = &mut self.session {
                    session.status.clone_from(&status.status);
                }
                vec![Change::Status(status)]
            }
            FromService::Digest(asked) => {
                self.answer_digest(asked.seq);
                vec![]
            }
            FromService::Resync(resync) => {
                let state = self.own.joined(resync.state, resync.yours);
                self.take_state(state);
                self.seq = resync.seq;
                vec![Change::Repaired { seq: resync.seq, reason: resync.reason }]
            }
            FromService::Pong(_)
            | FromService::Notice(_)
            | FromService::Bye(_)
            | FromService::Answer(_)
            | FromService::Cue(_) => vec![],
        }
    }

    fn answer_digest(&mut self, seq: u64) {
        let Some(confirmed) = self.confirmed.as_ref().filter(|_| seq == self.seq) else { return };
        let (sha256, yours) = match self.own.parted(confirmed) {
            None => (digest(confirmed), None),
            Some((all, yours)) => (digest(&all), Some(digest(&yours))),
        };
        self.outgoing.push_back(FromParticipant::Digest(Digest { seq, sha256, yours }));
    }

    /// Who this client is, once welcomed.
    pub fn you(&self) -> Option<&You> {
        self.you.as_ref()
    }

    /// The session, once welcomed.
    pub fn session(&self) -> Option<&SessionHead> {
        self.session.as_ref()
    }

    /// The tab or process.
    pub fn client(&self) -> Uuid {
        self.client
    }

    /// Whether this client made an update. Its id alone does not tell: another participant may use
    /// the same.
    pub fn is_own(&self, update: &Settled) -> bool {
        self.is_self(&update.by, update.client)
    }

    fn is_self(&self, who: &str, client: Uuid) -> bool {
        client == self.client && self.you.as_ref().is_some_and(|you| you.id == who)
    }

    /// The last update applied.
    pub fn seq(&self) -> u64 {
        self.seq
    }

    /// Who is here.
    pub fn roster(&self) -> &[Participant] {
        &self.roster
    }

    /// How many are here, those included who look on and are not named.
    pub fn count(&self) -> u64 {
        self.count.unwrap_or(self.roster.len() as u64)
    }

    /// What participants tell of themselves, by participant and client: in two tabs they have two
    /// carets. What this client tells is not among it. Carets (`{"at", "index"}`) count in what
    /// everyone agrees on; see [`shown_index`](Self::shown_index).
    pub fn presence(&self) -> &BTreeMap<String, BTreeMap<Uuid, Facts>> {
        &self.presence
    }

    /// What is held, by path.
    pub fn holds(&self) -> &BTreeMap<String, Hold> {
        &self.holds
    }

    /// Where a gap of the text that everyone agrees on stands in the text that is shown.
    pub fn shown_index(&self, at: &str, index: usize) -> usize {
        self.drafts.get(at).map_or(index, |draft| draft.shown_index(index))
    }

    /// The state that everyone agrees on, `None` before the first `welcome`.
    pub fn confirmed(&self) -> Option<&Value> {
        self.confirmed.as_ref()
    }

    /// The confirmed state with one's own pending edits over it: what a user is shown. Cost O(size)
    /// while something is pending.
    pub fn view(&self) -> Option<Value> {
        let mut view = self.confirmed.clone()?;
        let edits = self.pending.iter().flat_map(|pending| &pending.edits);
        edits.filter(|edit| splice_of(edit).is_none()).for_each(|edit| apply_edit(&mut view, edit));
        for (at, draft) in &self.drafts {
            if let Some(text) = text_at_mut(&mut view, at) {
                *text = draft.text();
            }
        }
        Some(view)
    }

    /// The SHA-256 of the confirmed state as canonical JSON, to compare with other replicas at the
    /// same `seq`.
    pub fn digest(&self) -> Option<String> {
        self.confirmed.as_ref().map(digest)
    }

    fn handle_roster(&mut self, change: &Roster) {
        self.count = change.count.or(self.count);
        for left in &change.left {
            self.roster.retain(|here| here.id != left.id);
            self.presence.remove(&left.id);
        }
        for shown in change.joined.iter().chain(&change.changed) {
            match self.roster.iter_mut().find(|here| here.id == shown.id) {
                Some(here) => here.clone_from(shown),
                None => self.roster.push(shown.clone()),
            }
        }
        self.roster.sort_by(|one, other| one.id.cmp(&other.id));
    }
}
