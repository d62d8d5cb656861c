//! Following the session: welcomes, updates, and another state.

use std::collections::BTreeMap;

use rendel_core::{Op, Path, Settled, Splicing, Undoable, follow_carets};
use rendel_wire::{Propose, Welcome};
use serde_json::Value;

use super::pending::{Pending, is_inside};
use super::{Change, Replica};
use crate::apply::{apply_effect, text_at};
use crate::draft::{Draft, Shift};

/// Splices that were applied, by the paths of their texts.
type Splices = BTreeMap<String, Vec<Splicing>>;

impl Replica {
    pub(super) fn handle_welcome(&mut self, welcome: Welcome) -> Vec<Change> {
        let Welcome {
            you,
            session,
            epoch,
            audience,
            seq,
            state,
            updates,
            yours,
            beside,
            roster,
            count,
            presence,
            holds,
            outcomes,
            limits,
            ..
        } = welcome;
        let updates = updates.unwrap_or_default();
        // What comes after a snapshot is part of where one arrives, and no news.
        let is_arrival = state.is_some();
        self.own.begin(beside);
        if let Some(state) = state {
            let state = self.own.joined(state, BTreeMap::new());
            self.take_state(state);
            self.seq = seq - updates.len() as u64;
        }
        self.welcomes += 1;
        // It is told anew, where there is anything.
        self.undoable = Undoable::default();
        self.you = Some(you);
        self.session = Some(session);
        self.epoch = epoch;
        self.audience = audience;
        self.roster = roster;
        self.count = count;
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
        if is_arrival && !yours.is_empty() {
            // It stands as after the updates.
            if let Some(state) = self.confirmed.clone() {
                let state = self.own.joined(state, yours);
                self.take_state(state);
            }
        }
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

    /// Another state than the one that updates led to.
    pub(super) fn take_state(&mut self, state: Value) {
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

    pub(super) fn handle_updates(&mut self, updates: Vec<Settled>) -> Vec<Change> {
        let mut changes = Vec::with_capacity(updates.len());
        for update in updates {
            // An update that is known already comes twice only after a resume; the order has no gap
            // otherwise.
            if update.seq <= self.seq {
                continue;
            }
            let update = self.own.with_own(update);
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
    pub(super) fn apply(&mut self, update: &Settled) -> Result<(), String> {
        if update.first() > self.seq + 1 {
            return Err(format!("update {} came after {}", update.first(), self.seq));
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
                    replaced.drain(..).for_each(|around| self.follow_replacement(&around));
                    splices.entry(effect.at.to_string()).or_default().push(splice.clone());
                }
                op => {
                    self.redraft(&mut splices, own, update.seq)?;
                    // A text that is shown or hidden may itself be the place.
                    let is_place = matches!(op, Op::Show(_) | Op::Hide);
                    let tokens = effect.at.tokens();
                    let around = tokens.len() - usize::from(is_place).min(tokens.len());
                    replaced.push(Path::of(tokens[..around].iter().cloned()));
                }
            }
            let state = self.confirmed.as_mut().ok_or("an update came before the welcome")?;
            apply_effect(state, effect).map_err(|error| error.to_string())?;
        }
        self.redraft(&mut splices, own, update.seq)?;
        replaced.into_iter().for_each(|around| self.follow_replacement(&around));
        self.seq = update.seq;
        let told = self.presence.values_mut().flat_map(BTreeMap::values_mut);
        told.for_each(|facts| follow_carets(facts, &update.effects));
        Ok(())
    }

    /// Brings drafts and anchors up to date with splices that were applied.
    pub(super) fn redraft(
        &mut self,
        splices: &mut Splices,
        own: Option<u64>,
        seq: u64,
    ) -> Result<(), String> {
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
    pub(super) fn follow_replacement(&mut self, around: &Path) {
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
}

fn shift_of(splice: &Splicing) -> Shift {
    Shift::Splice { at: splice.index, delete: splice.delete, insert: splice.insert.chars().count() }
}
