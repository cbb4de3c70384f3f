//! Chance that is the same for the same seed (SplitMix64).

/// A source of chance.
pub struct Random(u64);

impl Random {
    /// Begins with a seed.
    pub fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ 0x5bf0_3635)
    }

    /// Returns a number below a bound.
    pub fn below(&mut self, bound: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (mixed ^ (mixed >> 31)) % bound
    }

    /// Returns a number from a range.
    pub fn between(&mut self, from: i64, to: i64) -> i64 {
        from + i64::try_from(self.below(u64::try_from(to - from + 1).unwrap())).unwrap()
    }

    /// Returns whether something happens that happens in so many of a hundred cases.
    pub fn percent(&mut self, chance: u64) -> bool {
        self.below(100) < chance
    }

    /// Returns one of these.
    pub fn one_of<T: Copy>(&mut self, all: &[T]) -> T {
        all[usize::try_from(self.below(all.len() as u64)).unwrap()]
    }
}
