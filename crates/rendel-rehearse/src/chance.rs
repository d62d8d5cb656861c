//! All chance of a world, from one seed.

use std::ops::Range;

use rand::{Rng as _, SeedableRng as _};
use rand_chacha::ChaCha8Rng;
use uuid::Uuid;

/// Chance that is the same on every machine.
#[derive(Debug)]
pub(crate) struct Chance(ChaCha8Rng);

impl Chance {
    pub(crate) fn of(seed: u64) -> Self {
        Self(ChaCha8Rng::seed_from_u64(seed))
    }

    pub(crate) fn within(&mut self, range: Range<u64>) -> u64 {
        self.0.random_range(range)
    }

    pub(crate) fn below(&mut self, bound: usize) -> usize {
        usize::try_from(self.within(0..bound.max(1) as u64)).unwrap_or(0)
    }

    /// Whether something happens that does so once in `n` times.
    pub(crate) fn one_in(&mut self, n: u64) -> bool {
        self.within(0..n.max(1)) == 0
    }

    pub(crate) fn pick<'p, T>(&mut self, of: &'p [T]) -> Option<&'p T> {
        of.get(self.below(of.len()))
    }

    pub(crate) fn uuid(&mut self) -> Uuid {
        Uuid::from_u128(self.0.random())
    }
}
