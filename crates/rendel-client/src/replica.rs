//! The copy of a session that a client keeps.

use std::collections::{BTreeMap, VecDeque};

use rendel_core::{
    Edit, Facts, Hold, HoldChange, Op, Path, Place, Problem, ProblemKind, Settled, Splicing,
    digest, follow_carets,
};
use rendel_wire::{
    ConnectionLimits, Digest, Enter, FromParticipant, FromService, OutcomeFrame, OutcomeOf,
    Participant, Propose, Roster, Said, SessionHead, Status, Welcome, You,
};
use serde_json::Value;
use uuid::Uuid;

use crate::anchor::{Anchor, Anchors};
use crate::apply::{after_index, apply_edit, apply_effect, text_at, text_at_mut};
use crate::draft::{Draft, Shift};

/// A proposal that has no answer yet.
#[derive(Clone, Debug, PartialEq)]
struct Pending {
    /// Own proposals are shown in the order of these.
    key: u64,
    /// Its first number.
    first: u64,
    /// The number that its user knows it by.
    n: u64,
    /// The welcome after which it was first sent, if it was.
    sent: Option<u64>,
    /// The frame, as it was sent and as it is sent again. None while it waits: its positions mean
    /// nothing to the service until those before it are answered, and it is made anew then.
    frame: Option<Propose>,
    edits: Vec<Edit>,
    gesture: Option<String>,
    note: Option<String>,
}

impl Pending {
    fn has_splice(&self) -> bool {
        self.edits.iter().any(|edit| splice_of(edit).is_some())
    }
}

/// What a frame of the service changed.
#[derive(Clone, Debug, PartialEq)]
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
    seq: u64,
    confirmed: Option<Value>,
    roster: Vec<Participant>,
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
}

impl Replica {
    /// A replica of the tab or process `client`, which knows nothing yet.
    pub fn new(client: Uuid) -> Self {
        Self {
            client,
            you: None,
            session: None,
            epoch: 0,
            seq: 0,
            confirmed: None,
            roster: Vec::new(),
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
            presence: (!self.said.is_empty()).then(|| self.said.clone()),
        }
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

    /// Makes a proposal that is pending from now on, and gives its number; `None` before the first
    /// `welcome`. The frame to send comes from [`poll_outgoing`](Self::poll_outgoing), at once or
    /// when those before it are answered.
    ///
    /// The edits mean what is shown: splices count positions in [`view`](Self::view). What is
    /// larger than the session takes is refused at once, see [`poll_refused`](Self::poll_refused).
    pub fn propose(
        &mut self,
        edits: Vec<Edit>,
        gesture: Option<String>,
        note: Option<String>,
    ) -> Option<u64> {
        self.confirmed.as_ref()?;
        let edits = self.beside_elements(edits);
        self.last_n += 1;
        self.made += 1;
        let (key, n) = (self.made, self.last_n);
        if let Some(problem) = self
            .limits
            .as_ref()
            .and_then(|limits| too_large(limits, &edits, gesture.as_ref(), note.as_ref()))
        {
            self.refused_here.push_back(Change::Refused { n, problem });
            return Some(n);
        }
        let mut must_wait = self.pending.iter().any(|pending| pending.frame.is_none());
        for edit in &edits {
            let Some(splice) = splice_of(edit) else { continue };
            let is_dropped = self.is_dropped(&edit.at);
            let Some(draft) = self.draft(&edit.at) else { continue };
            must_wait |= draft.is_overtaken || is_dropped;
            let shifts = draft.edit(key, &splice);
            self.anchors.follow(&edit.at, &shifts);
        }
        let frame = (!must_wait).then(|| Propose {
            n,
            seen: self.seq,
            answered: self.answered,
            edits: edits.clone(),
            gesture: gesture.clone(),
            note: note.clone(),
        });
        self.outgoing.extend(frame.clone().map(FromParticipant::Propose));
        let sent = None;
        self.pending.push_back(Pending { key, first: n, n, sent, frame, edits, gesture, note });
        Some(n)
    }

    /// Whether an own proposal without an answer drops what is around a text: a text that is there
    /// still came anew, and where positions in it belong is known when that is settled.
    fn is_dropped(&self, at: &str) -> bool {
        let drops =
            |edit: &Edit| is_inside(at, &edit.at) && edit.read().is_some_and(|op| op.takes_away());
        self.pending.iter().flat_map(|pending| &pending.edits).any(drops)
    }

    /// Inserts into lists by index, as inserts behind the element that is shown before it: an id
    /// means the same whatever becomes of earlier proposals.
    fn beside_elements(&self, mut edits: Vec<Edit>) -> Vec<Edit> {
        let is_by_index = |op: Op| matches!(op, Op::Insert { to: Place::Index(_), .. });
        if !edits.iter().filter_map(Edit::read).any(is_by_index) {
            return edits;
        }
        let mut view = self.view().unwrap_or_default();
        for edit in &mut edits {
            if let Some(after) = after_index(&view, edit) {
                edit.args.remove("index");
                edit.args.insert("after".to_owned(), after);
            }
            apply_edit(&mut view, edit);
        }
        edits
    }

    /// The draft of the text at a path, made where there is none and a text is shown.
    fn draft(&mut self, at: &str) -> Option<&mut Draft> {
        if !self.drafts.contains_key(at) {
            let view = self.view()?;
            self.drafts.insert(at.to_owned(), Draft::over(text_at(&view, at)?));
        }
        self.drafts.get_mut(at)
    }

    /// The next own proposal that was refused here, without a word to the service.
    pub fn poll_refused(&mut self) -> Option<Change> {
        self.refused_here.pop_front()
    }

    /// The next frame to send: a proposal, or an answer to the service. Without a connection it may
    /// be thrown away: what has no answer is sent after `welcome`.
    pub fn poll_outgoing(&mut self) -> Option<FromParticipant> {
        self.outgoing.pop_front()
    }

    /// The proposals to send again after a `welcome`, in order.
    pub fn unanswered(&self) -> impl Iterator<Item = &Propose> {
        self.pending.iter().filter_map(|pending| pending.frame.as_ref())
    }

    /// A proposal is on its way to the service, which may settle it though no answer comes.
    pub fn note_sent(&mut self, n: u64) {
        let is_it = |pending: &&mut Pending| pending.frame.as_ref().is_some_and(|f| f.n == n);
        if let Some(pending) = self.pending.iter_mut().find(is_it) {
            pending.sent.get_or_insert(self.welcomes);
        }
    }

    /// The highest number up to which every outcome is known.
    pub fn answered(&self) -> u64 {
        self.answered
    }

    /// The first numbers of the proposals that have no answer yet, those that wait included.
    pub fn pending(&self) -> impl Iterator<Item = u64> {
        self.pending.iter().map(|pending| pending.first)
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
                self.take_state(resync.state);
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

    /// The service remembers nothing of this client. What was sent before the last welcome may be
    /// settled or not, which nobody can tell any more; the rest is not, and is made anew under
    /// numbers from 1.
    fn begin_anew(&mut self, problem: &Problem) -> Vec<Change> {
        let welcomes = self.welcomes;
        let is_unsure = |pending: &Pending| pending.sent.is_some_and(|sent| sent < welcomes);
        let unsure = self.pending.iter().filter(|pending| is_unsure(pending));
        let mut changes = vec![Change::Unknown];
        for n in unsure.filter_map(|pending| Some(pending.frame.as_ref()?.n)).collect::<Vec<_>>() {
            let refused = Change::Refused { n, problem: problem.clone() };
            changes.extend(self.answer(n).then_some(refused));
        }
        for pending in &mut self.pending {
            (pending.frame, pending.sent) = (None, None);
        }
        (self.last_n, self.answered, self.refused) = (0, 0, 0);
        changes
    }

    fn answer_digest(&mut self, seq: u64) {
        if let Some(sha256) = self.digest().filter(|_| seq == self.seq) {
            self.outgoing.push_back(FromParticipant::Digest(Digest { seq, sha256 }));
        }
    }

    fn handle_welcome(&mut self, welcome: Welcome) -> Vec<Change> {
        let Welcome {
            you,
            session,
            epoch,
            seq,
            state,
            updates,
            roster,
            presence,
            holds,
            outcomes,
            limits,
            ..
        } = welcome;
        let updates = updates.unwrap_or_default();
        // What comes after a snapshot is part of where one arrives, and no news.
        let is_arrival = state.is_some();
        if let Some(state) = state {
            self.take_state(state);
            self.seq = seq - updates.len() as u64;
        }
        self.welcomes += 1;
        self.you = Some(you);
        self.session = Some(session);
        self.epoch = epoch;
        self.roster = roster;
        self.holds = holds.into_iter().map(|hold| (hold.at.clone(), hold)).collect();
        let mut changes = vec![Change::Welcomed];
        let open: Vec<u64> = self.unanswered().map(|frame| frame.n).collect();
        let news = self.handle_updates(updates);
        changes.extend(news.into_iter().filter_map(|change| match change {
            Change::Settled(update) if is_arrival => {
                let (n, seq) = (update.n, update.seq);
                (self.is_own(&update) && open.contains(&n))
                    .then_some(Change::SettledAway { n, seq })
            }
            change => Some(change),
        }));
        changes.extend(outcomes.into_iter().filter_map(|outcome| self.handle_outcome(outcome)));
        // Places in it count in the texts as they are now.
        self.presence = presence;
        changes.extend(self.refuse_what_is_too_large(&limits));
        self.limits = Some(limits);
        // A service that was started anew may not know which of them it had refused: what counts
        // positions on top of one of those waits, and so does what counts on top of that.
        let refused = self.refused;
        let is_on_top = |frame: &Propose| frame.answered < refused && frame.n > refused;
        let splices = self.pending.iter_mut().filter(|pending| pending.has_splice());
        let on_top = splices.skip_while(|pending| !pending.frame.as_ref().is_none_or(is_on_top));
        on_top.for_each(|pending| pending.frame = None);
        // Everything without an answer is sent again now, and so need not go out twice.
        self.outgoing.clear();
        changes
    }

    /// What an earlier version may have kept, and the service would end the connection for.
    fn refuse_what_is_too_large(&mut self, limits: &ConnectionLimits) -> Vec<Change> {
        let refused = |pending: &Pending| {
            let problem =
                too_large(limits, &pending.edits, pending.gesture.as_ref(), pending.note.as_ref());
            Some((pending.frame.as_ref()?.n, problem?))
        };
        let refused: Vec<_> = self.pending.iter().filter_map(refused).collect();
        refused.into_iter().filter_map(|(n, problem)| self.refuse(n, problem)).collect()
    }

    /// Another state than the one that updates led to.
    fn take_state(&mut self, state: Value) {
        for (at, draft) in &mut self.drafts {
            let shifts = draft.settle_as(text_at(&state, at).unwrap_or_default());
            self.anchors.follow(at, &shifts);
        }
        for at in
            self.anchors.paths().filter(|at| !self.drafts.contains_key(at)).collect::<Vec<_>>()
        {
            let old = self
                .confirmed
                .as_ref()
                .and_then(|confirmed| text_at(confirmed, &at))
                .unwrap_or_default();
            let shifts = Draft::over(old).settle_as(text_at(&state, &at).unwrap_or_default());
            self.anchors.follow(&at, &shifts);
        }
        self.confirmed = Some(state);
        self.diverged = false;
    }

    fn handle_updates(&mut self, updates: Vec<Settled>) -> Vec<Change> {
        let mut changes = Vec::with_capacity(updates.len());
        for update in updates {
            // An update that is known already comes twice only after a resume; the order has no gap
            // otherwise.
            if update.seq <= self.seq {
                continue;
            }
            if let Err(why) = self.apply(&update) {
                self.diverged = true;
                changes.push(Change::Diverged(why));
                return changes;
            }
            if self.is_own(&update) {
                self.answer(update.n);
            }
            changes.push(Change::Settled(update));
        }
        changes
    }

    /// Applies an update effect by effect. Drafts follow in the same order: a splice is of the text
    /// that the effects before it left. What is replaced is looked at when they have all been
    /// applied or a splice comes, so that a record that goes and comes anew in one update is as it
    /// is then.
    fn apply(&mut self, update: &Settled) -> Result<(), String> {
        if update.seq != self.seq + 1 {
            return Err(format!("update {} came after {}", update.seq, self.seq));
        }
        let is_sent =
            |pending: &&Pending| pending.frame.as_ref().is_some_and(|frame| frame.n == update.n);
        let own = self
            .pending
            .iter()
            .find(is_sent)
            .map(|pending| pending.key)
            .filter(|_| self.is_own(update));
        let (mut splices, mut replaced) = (Splices::new(), Vec::new());
        for effect in &update.effects {
            match &effect.op {
                Op::Splice { splice, .. } => {
                    replaced.drain(..).for_each(|around| self.follow_replacement(around));
                    splices.entry(effect.at.to_string()).or_default().push(splice.clone());
                }
                _ => {
                    self.redraft(&mut splices, own, update.seq)?;
                    replaced.push(&effect.at);
                }
            }
            let state = self.confirmed.as_mut().ok_or("an update came before the welcome")?;
            apply_effect(state, effect).map_err(|error| error.to_string())?;
        }
        self.redraft(&mut splices, own, update.seq)?;
        replaced.into_iter().for_each(|around| self.follow_replacement(around));
        self.seq = update.seq;
        let told = self.presence.values_mut().flat_map(BTreeMap::values_mut);
        told.for_each(|facts| follow_carets(facts, &update.effects));
        Ok(())
    }

    /// Brings drafts and anchors up to date with splices that were applied.
    fn redraft(&mut self, splices: &mut Splices, own: Option<u64>, seq: u64) -> Result<(), String> {
        let beyond = || format!("update {seq} reaches beyond a text with own splices");
        for (at, splices) in std::mem::take(splices) {
            let shifts = match (self.drafts.get_mut(&at), own) {
                (None, _) => splices.iter().map(shift_of).collect(),
                (Some(draft), Some(key)) => draft.settle_own(key, &splices).ok_or_else(beyond)?,
                (Some(draft), None) => {
                    let shifts = splices
                        .iter()
                        .map(|splice| draft.settle_foreign(splice))
                        .collect::<Option<Vec<_>>>();
                    shifts.ok_or_else(beyond)?.concat()
                }
            };
            self.anchors.follow(&at, &shifts);
        }
        Ok(())
    }

    /// A text may be another, or gone, where what is around it was put, dropped or moved.
    fn follow_replacement(&mut self, around: &Path) {
        let state = self.confirmed.as_ref();
        let around = around.to_string();
        let is_inside = |at: &str| is_inside(at, &around);
        let text = |at: &str| state.and_then(|state| text_at(state, at));
        for (at, draft) in self.drafts.iter_mut().filter(|(at, _)| is_inside(at)) {
            let now = text(at).unwrap_or_default();
            if !draft.agrees_on(now) {
                self.anchors.follow(at, &draft.settle_as(now));
            }
        }
        for at in self
            .anchors
            .paths()
            .filter(|at| is_inside(at) && text(at).is_none())
            .collect::<Vec<_>>()
        {
            self.anchors.follow(&at, &[Shift::Splice { at: 0, delete: usize::MAX, insert: 0 }]);
        }
    }

    fn handle_outcome(&mut self, outcome: OutcomeFrame) -> Option<Change> {
        let n = outcome.n;
        match outcome.outcome {
            OutcomeOf::Seq(seq) => self.answer(n).then_some(Change::SettledAway { n, seq }),
            OutcomeOf::Problem(problem) => self.refuse(n, problem),
        }
    }

    fn refuse(&mut self, n: u64, problem: Problem) -> Option<Change> {
        self.refused = self.refused.max(n);
        // What was made on top of a refused proposal is made anew where it can be; so is what the
        // service cannot place any more, since here it is known where it belongs.
        let is_passing =
            matches!(problem.kind(), ProblemKind::FollowsRefused | ProblemKind::TooOld);
        let waiting = self
            .pending
            .iter_mut()
            .find(|pending| pending.frame.as_ref().is_some_and(|frame| frame.n == n));
        if let Some(pending) = waiting.filter(|pending| is_passing && pending.has_splice()) {
            pending.frame = None;
            self.count_answered();
            return None;
        }
        self.answer(n).then_some(Change::Refused { n, problem })
    }

    /// Takes a proposal out of the pending ones; gives whether it was there.
    fn answer(&mut self, n: u64) -> bool {
        let at = self
            .pending
            .iter()
            .position(|pending| pending.frame.as_ref().is_some_and(|frame| frame.n == n));
        let gone = at.and_then(|at| self.pending.remove(at));
        if let Some(pending) = &gone {
            self.forget(pending.key);
            self.drop_idle_drafts();
        }
        self.count_answered();
        gone.is_some()
    }

    /// The highest number below which nothing is on its way.
    fn count_answered(&mut self) {
        self.answered = self.unanswered().map(|frame| frame.n - 1).min().unwrap_or(self.last_n);
    }

    /// Takes what is left of an own proposal out of the drafts.
    fn forget(&mut self, key: u64) {
        for (at, draft) in &mut self.drafts {
            let shifts = draft.forget(key);
            self.anchors.follow(at, &shifts);
        }
    }

    /// Lets go of the drafts of texts in which nothing is pending.
    fn drop_idle_drafts(&mut self) {
        let pending = &self.pending;
        self.drafts.retain(|at, _| {
            pending.iter().any(|pending| pending.edits.iter().any(|edit| edit.at == *at))
        });
    }

    /// When nothing is on its way any more, what waited means what it says among what everyone
    /// agrees on.
    fn send_what_waited(&mut self) -> Vec<Change> {
        if self.pending.iter().any(|pending| pending.frame.is_some()) {
            return vec![];
        }
        self.drafts.values_mut().for_each(|draft| draft.is_overtaken = false);
        let mut changes = Vec::new();
        let mut kept = VecDeque::new();
        for mut pending in std::mem::take(&mut self.pending) {
            let edits = self.made_anew(&pending);
            self.last_n += 1;
            let n = self.last_n;
            if edits.is_empty() {
                self.forget(pending.key);
                changes.push(Change::Moot { n: pending.n });
                continue;
            }
            let Pending { gesture, note, .. } = pending.clone();
            let frame =
                Propose { n, seen: self.seq, answered: self.answered, edits, gesture, note };
            self.outgoing.push_back(FromParticipant::Propose(frame.clone()));
            changes.push(Change::MadeAnew { was: pending.n, n });
            pending.n = n;
            pending.frame = Some(frame);
            kept.push_back(pending);
        }
        self.pending = kept;
        self.drop_idle_drafts();
        self.count_answered();
        changes
    }

    /// The edits of a proposal that waited, its splices where they belong now. Of each text the
    /// splices stand together.
    fn made_anew(&self, pending: &Pending) -> Vec<Edit> {
        let mut edits = Vec::new();
        let mut done: Vec<&str> = Vec::new();
        for edit in &pending.edits {
            match self.drafts.get(&edit.at).filter(|_| splice_of(edit).is_some()) {
                None => edits.push(edit.clone()),
                Some(_) if done.contains(&edit.at.as_str()) => {}
                Some(draft) => {
                    done.push(&edit.at);
                    edits.extend(
                        draft
                            .splices(pending.key)
                            .into_iter()
                            .map(|splice| splice_edit(&edit.at, &splice)),
                    );
                }
            }
        }
        edits
    }

    fn handle_roster(&mut self, change: &Roster) {
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
}

/// Whether a refusal says that the service does not know the client any more.
fn is_forgotten(n: u64, problem: &Problem) -> bool {
    let next = || problem.member("next_n").and_then(Value::as_u64);
    problem.kind() == ProblemKind::Forgotten && next().is_some_and(|next| next < n)
}

/// Bytes of a `propose` frame around its edits.
const FRAME_AROUND: usize = 160;

/// The refusal of a proposal that the session would not take for its size or depth.
fn too_large(
    limits: &ConnectionLimits,
    edits: &[Edit],
    gesture: Option<&String>,
    note: Option<&String>,
) -> Option<Problem> {
    if let Some(problem) = edits.iter().find_map(|edit| edit.check_depth().err()) {
        return Some(problem);
    }
    if edits.len() > limits.edits {
        let detail = format!(
            "A proposal has at most {} edits; this one has {}. Propose several.",
            limits.edits,
            edits.len()
        );
        return Some(Problem::new(ProblemKind::TooLarge, detail).with("limit", "edits"));
    }
    let bytes =
        serde_json::to_string(&(edits, gesture, note)).map_or(0, |json| json.len()) + FRAME_AROUND;
    (bytes > limits.frame).then(|| {
        let detail = format!(
            "A proposal has at most {} bytes; this one has {bytes}. Propose less at a time.",
            limits.frame
        );
        Problem::new(ProblemKind::TooLarge, detail).with("limit", "frame")
    })
}

fn is_inside(at: &str, outer: &str) -> bool {
    at.strip_prefix(outer).is_some_and(|rest| rest.starts_with('/'))
}

/// Splices that were applied, by the paths of their texts.
type Splices = BTreeMap<String, Vec<Splicing>>;

/// The splice that an edit is.
fn splice_of(edit: &Edit) -> Option<Splicing> {
    match edit.read()? {
        Op::Splice { splice, .. } => Some(splice),
        _ => None,
    }
}

fn splice_edit(at: &str, splice: &Splicing) -> Edit {
    let edit = Edit::new(at, "splice").with("index", splice.index).with("delete", splice.delete);
    edit.with("insert", splice.insert.as_str())
}

fn shift_of(splice: &Splicing) -> Shift {
    Shift::Splice { at: splice.index, delete: splice.delete, insert: splice.insert.chars().count() }
}
