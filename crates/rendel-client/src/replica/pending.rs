//! One's own proposals without an answer: made, refused, answered, and made anew.

use std::collections::VecDeque;

use rendel_core::{Edit, Op, Place, Problem, ProblemKind, Splicing};
use rendel_wire::{ConnectionLimits, FromParticipant, OutcomeFrame, OutcomeOf, Propose};
use serde_json::Value;

use super::{Change, Replica};
use crate::apply::{after_index, apply_edit, text_at};
use crate::draft::Draft;

/// A proposal that has no answer yet.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Pending {
    /// Own proposals are shown in the order of these.
    pub(super) key: u64,
    /// Its first number.
    pub(super) first: u64,
    /// The number that its user knows it by.
    pub(super) n: u64,
    /// The welcome after which it was first sent, if it was.
    pub(super) sent: Option<u64>,
    /// The frame, as it was sent and as it is sent again. None while it waits: its positions mean
    /// nothing to the service until those before it are answered, and it is made anew then.
    pub(super) frame: Option<Propose>,
    pub(super) edits: Vec<Edit>,
    pub(super) gesture: Option<String>,
    pub(super) note: Option<String>,
}

impl Pending {
    pub(super) fn has_splice(&self) -> bool {
        self.edits.iter().any(|edit| splice_of(edit).is_some())
    }
}

impl Replica {
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
    pub(super) fn is_dropped(&self, at: &str) -> bool {
        let drops =
            |edit: &Edit| is_inside(at, &edit.at) && edit.read().is_some_and(|op| op.takes_away());
        self.pending.iter().flat_map(|pending| &pending.edits).any(drops)
    }

    /// Inserts into lists by index, as inserts behind the element that is shown before it: an id
    /// means the same whatever becomes of earlier proposals.
    pub(super) fn beside_elements(&self, mut edits: Vec<Edit>) -> Vec<Edit> {
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

    /// Edits of ballots, for the round that is shown: made while offline, they count in no later one.
    pub(crate) fn for_this_round(&self, mut edits: Vec<Edit>) -> Vec<Edit> {
        const OPS: [&str; 4] = ["cast", "withdraw", "unseal", "restart"];
        for edit in &mut edits {
            if !OPS.contains(&edit.op.as_str()) || edit.arg("round").is_some() {
                continue;
            }
            let ballot = self.confirmed.as_ref().and_then(|state| state.pointer(&edit.at));
            if let Some(round) = ballot.and_then(|ballot| ballot.get("round")) {
                edit.args.insert("round".to_owned(), round.clone());
            }
        }
        edits
    }

    /// The draft of the text at a path, made where there is none and a text is shown.
    pub(super) fn draft(&mut self, at: &str) -> Option<&mut Draft> {
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

    /// The service remembers nothing of this client. What was sent before the last welcome may be
    /// settled or not, which nobody can tell any more; the rest is not, and is made anew under
    /// numbers from 1.
    pub(super) fn begin_anew(&mut self, problem: &Problem) -> Vec<Change> {
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

    /// What an earlier version may have kept, and the service would end the connection for.
    pub(super) fn refuse_what_is_too_large(&mut self, limits: &ConnectionLimits) -> Vec<Change> {
        let refused = |pending: &Pending| {
            let problem =
                too_large(limits, &pending.edits, pending.gesture.as_ref(), pending.note.as_ref());
            Some((pending.frame.as_ref()?.n, problem?))
        };
        let refused: Vec<_> = self.pending.iter().filter_map(refused).collect();
        refused.into_iter().filter_map(|(n, problem)| self.refuse(n, problem)).collect()
    }

    pub(super) fn handle_outcome(&mut self, outcome: OutcomeFrame) -> Option<Change> {
        let n = outcome.n;
        match outcome.outcome {
            OutcomeOf::Seq(seq) => self.answer(n).then_some(Change::SettledAway { n, seq }),
            OutcomeOf::Problem(problem) => self.refuse(n, problem),
        }
    }

    pub(super) fn refuse(&mut self, n: u64, problem: Problem) -> Option<Change> {
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
    pub(super) fn answer(&mut self, n: u64) -> bool {
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
    pub(super) fn count_answered(&mut self) {
        self.answered = self.unanswered().map(|frame| frame.n - 1).min().unwrap_or(self.last_n);
    }

    /// Takes what is left of an own proposal out of the drafts.
    pub(super) fn forget(&mut self, key: u64) {
        for (at, draft) in &mut self.drafts {
            let shifts = draft.forget(key);
            self.anchors.follow(at, &shifts);
        }
    }

    /// Lets go of the drafts of texts in which nothing is pending.
    pub(super) fn drop_idle_drafts(&mut self) {
        let pending = &self.pending;
        self.drafts.retain(|at, _| {
            pending.iter().any(|pending| pending.edits.iter().any(|edit| edit.at == *at))
        });
    }

    /// When nothing is on its way any more, what waited means what it says among what everyone
    /// agrees on.
    pub(super) fn send_what_waited(&mut self) -> Vec<Change> {
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
    pub(super) fn made_anew(&self, pending: &Pending) -> Vec<Edit> {
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
}

/// Whether a refusal says that the service does not know the client any more.
pub(super) fn is_forgotten(n: u64, problem: &Problem) -> bool {
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

pub(super) fn is_inside(at: &str, outer: &str) -> bool {
    at.strip_prefix(outer).is_some_and(|rest| rest.starts_with('/'))
}

/// The splice that an edit is.
pub(super) fn splice_of(edit: &Edit) -> Option<Splicing> {
    match edit.read()? {
        Op::Splice { splice, .. } => Some(splice),
        _ => None,
    }
}

fn splice_edit(at: &str, splice: &Splicing) -> Edit {
    let edit = Edit::new(at, "splice").with("index", splice.index).with("delete", splice.delete);
    edit.with("insert", splice.insert.as_str())
}
