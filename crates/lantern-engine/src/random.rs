//! Chance, from a seed given at the start: the same seed gives the same choices.

use std::cell::Cell;

/// A row of numbers that look like chance: SplitMix64 (Steele, Lea and Flood, 2014).
#[derive(Debug)]
pub(crate) struct Random(Cell<u64>);

impl Random {
    pub(crate) fn new(seed: u64) -> Random {
        Random(Cell::new(seed))
    }

    fn next(&self) -> u64 {
        let state = self.0.get().wrapping_add(0x9e37_79b9_7f4a_7c15);
        self.0.set(state);
        let mixed = (state ^ (state >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    /// A number from 0 to `count - 1`.
    pub(crate) fn below(&self, count: u64) -> u64 {
        // The high half of the product is even enough for any count a person writes.
        ((u128::from(self.next()) * u128::from(count)) >> 64) as u64
    }

    /// A choice of `count` that is not the last one, if there is another.
    pub(crate) fn choice(&self, count: usize, last: Option<usize>) -> usize {
        match last {
            Some(last) if count > 1 => {
                let choice = self.below(count as u64 - 1) as usize;
                choice + usize::from(choice >= last)
            }
            _ => self.below(count.max(1) as u64) as usize,
        }
    }
}
