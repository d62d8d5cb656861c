//! Settling in place.
//!
//! A proposal is settled on a clone of the state, so that a refusal changes nothing. A clone shares
//! everything, so each node on the way to a change is copied. Most proposals are one edit of a field from
//! which nothing follows, and nothing can refuse such an edit once its effects are known: those are
//! applied to the state itself.

use super::noting::{Coming, Noted};
use super::playing::Following;
use super::settling::{Settling, broken};
use super::{Sequencer, Settlement};
use crate::problem::Problem;
use crate::stamp::Stamp;
use crate::update::{Effect, Settled, VerdictKind};

impl Sequencer {
    /// Settles a proposal in place; gives nothing, and changes nothing, if it cannot be settled so.
    pub(super) fn settle_in_place(
        &mut self,
        settling: &mut Settling<'_>,
        problem: &dyn Fn(&[Effect]) -> Option<Problem>,
    ) -> Result<Option<Settled>, Problem> {
        let [edit] = &settling.proposal.edits[..] else { return Ok(None) };
        let top = edit.at.strip_prefix('/').map(|path| path.split('/').next().unwrap_or_default());
        // A name with an escape is looked at no further.
        let is_followed = |top: &str| top.contains('~') || self.charter.followed.has(&top.into());
        if top.is_none_or(is_followed) || Self::taking_back(settling.proposal).is_some() {
            return Ok(None);
        }
        self.check_shape(settling)?;
        let mut following = Following::of(&self.present);
        let Settlement { effects, mut verdict } =
            self.settle_edit(&self.present, settling, &mut following, 0)?;
        let growth: u64 = effects.iter().map(|effect| effect.op.most_growth()).sum();
        if self.weight().saturating_add(growth) > self.charter.limits.state {
            return Ok(None);
        }
        problem(&effects).map_or(Ok(()), Err)?;
        let since = self.since(&effects);
        let stamp = Stamp { seq: self.seq + 1, client: settling.key };
        let (by, at) = (&*settling.actor.id, self.at.max(settling.now));
        for effect in &effects {
            let coming = Coming { by, at, effect, stamp };
            let applied = self.present.apply_noting(&self.charter, &self.histories, coming);
            applied.map_err(|misfit| {
                self.present.noted = Noted::default();
                broken(&misfit)
            })?;
        }
        self.present.state.age(&self.charter.fields, stamp.seq);
        // If nothing was there, nothing is lost.
        verdict.lost = verdict.lost.filter(|lost| !lost.is_null());
        let is_told = verdict.verdict != VerdictKind::Applied;
        let verdicts = Some(verdict).filter(|_| is_told).into_iter().collect();
        Ok(Some(Settled { since, ..self.settled(settling, effects, verdicts) }))
    }
}
