//! When ballots are counted.

use super::Sequencer;
use crate::charter::Ballots;
use crate::edit::Edit;
use crate::path::Path;
use crate::update::Settled;

/// Milliseconds between two counts of a ballot.
const COUNT_EVERY: u64 = 250;

impl Sequencer {
    /// Ballots that an update touches are counted on the next beat.
    pub(super) fn note_cast(&mut self, update: &Settled) {
        let play = &self.charter.play;
        if !play.ballots.is_empty()
            && update
                .effects
                .iter()
                .any(|effect| effect.op.is_reset() || self.charter.holds_ballots(&effect.at))
        {
            let beat = (update.at / COUNT_EVERY + 1).saturating_mul(COUNT_EVERY);
            self.count_at.get_or_insert(beat);
        }
    }

    /// Counts all ballots of the charter.
    pub(super) fn to_count(&self) -> Vec<Edit> {
        let at = |ballots: &Ballots| Path::of([ballots.field.clone()]).to_string();
        self.charter.play.ballots.iter().map(|ballots| Edit::new(at(ballots), "count")).collect()
    }
}
