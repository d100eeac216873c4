//! Finding what need not be written, nor hashed.

use std::ops::Range;

/// Bytes of a grain, the piece in which zeros inside a block are told apart: 16 chunks of BLAKE3, as many as the widest
/// processors hash at a time.
pub(crate) const GRAIN: usize = 16 << 10;

/// Grains of a block: one bit for each of its [`Grains::COUNT`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Grains(u64);

impl Grains {
    /// Grains of a block.
    pub(crate) const COUNT: usize = 64;

    /// None of them.
    pub(crate) const NONE: Self = Self(0);

    /// The `count` grains from `first` on, as far as a block reaches.
    fn run(first: usize, count: usize) -> Self {
        let ones = |count: usize| if count >= 64 { u64::MAX } else { (1 << count) - 1 };
        Self(ones(first.saturating_add(count)) & !ones(first))
    }

    /// All of a block.
    pub(crate) const ALL: Self = Self(u64::MAX);

    /// Those of these that hold something in `block`: the others are all zero.
    #[expect(clippy::indexing_slicing, reason = "the ranges are cut to the block")]
    pub(crate) fn holding(self, block: &[u8]) -> Self {
        let holds = self.ranges(block.len()).filter(|range| !is_zero(&block[range.clone()]));
        holds.fold(Self::NONE, |all, range| all.with(Self::touching(&range)))
    }

    /// Those that `range` of a block, in bytes, lies in.
    pub(crate) fn touching(range: &Range<usize>) -> Self {
        let first = range.start / GRAIN;
        Self::run(first, range.end.div_ceil(GRAIN).saturating_sub(first))
    }

    /// Of `len` bytes, a whole number of grains, of a block from `start` on: whether they are all in this set, or whether
    /// any is.
    pub(crate) fn all_and_any(self, start: usize, len: usize) -> (bool, bool) {
        let asked = Self::run(start / GRAIN, len / GRAIN).0;
        (self.0 & asked == asked, self.0 & asked != 0)
    }

    /// Those in either.
    pub(crate) fn with(self, others: Self) -> Self {
        Self(self.0 | others.0)
    }

    /// Whether any is in both.
    pub(crate) fn share(self, others: Self) -> bool {
        self.0 & others.0 != 0
    }

    /// Those that are not in `others`.
    pub(crate) fn without(self, others: Self) -> Self {
        Self(self.0 & !others.0)
    }

    /// Where in `range` of a block they lie: neighbours as one.
    pub(crate) fn runs_in(self, range: &Range<usize>) -> impl Iterator<Item = Range<usize>> {
        let end = range.end;
        let mut at = range.start;
        std::iter::from_fn(move || {
            // A shift by 64 and more, behind the last grain, leaves nothing.
            let rest = |at: usize, bits: u64| {
                bits.checked_shr(u32::try_from(at / GRAIN).unwrap_or(64)).unwrap_or(0).trailing_zeros() as usize
            };
            let next =
                |at: usize, grains: usize| if grains == 0 { at } else { ((at / GRAIN + grains) * GRAIN).min(end) };
            let start = next(at, rest(at, self.0));
            at = next(start, rest(start, !self.0));
            (start < end).then_some(start..at)
        })
    }

    /// Their bytes in a block of `len` bytes, one range for each.
    pub(crate) fn ranges(self, len: usize) -> impl Iterator<Item = Range<usize>> {
        let numbers = (0..64).filter(move |number| self.0 >> number & 1 == 1);
        numbers.map(move |number| number * GRAIN..((number + 1) * GRAIN).min(len)).filter(|range| !range.is_empty())
    }
}

/// Whether every byte is zero. Data nearly always says no within its first line, so that is looked at first.
pub(crate) fn is_zero(bytes: &[u8]) -> bool {
    const LINE: usize = 256;
    let mut lines = bytes.chunks_exact(LINE);
    let all = lines.by_ref().all(|line| line.iter().fold(0, |sum, byte| sum | byte) == 0);
    all && lines.remainder().iter().all(|&byte| byte == 0)
}

/// The ranges of `block` that hold something, in whole units of `unit` bytes (the last may be cut by the end). Only in
/// `holds` is there anything.
pub(crate) fn data_runs(block: &[u8], unit: usize, holds: Grains) -> Vec<Range<usize>> {
    let mut runs: Vec<Range<usize>> = Vec::new();
    for (index, piece) in block.chunks(unit).enumerate() {
        let range = index * unit..index * unit + piece.len();
        let grains = Grains::touching(&range);
        if !holds.share(grains) || (!unit.is_multiple_of(GRAIN) && is_zero(piece)) {
            continue;
        }
        match runs.last_mut() {
            Some(last) if last.end == range.start => last.end = range.end,
            _ => runs.push(range),
        }
    }
    runs
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const BLOCK: usize = GRAIN * Grains::COUNT;

    #[test]
    fn runs_are_whole_units_joined() {
        let mut bytes = vec![0; 1000];
        let runs = |bytes: &[u8], unit| data_runs(bytes, unit, Grains::ALL.holding(bytes));
        assert!(is_zero(&bytes) && runs(&bytes, 100).is_empty());
        bytes[199] = 1;
        bytes[200] = 1;
        bytes[999] = 1;
        assert_eq!(runs(&bytes, 100), [100..300, 900..1000]);
        assert_eq!(runs(&bytes, 300), [0..300, 900..1000]);
        assert_eq!(runs(&bytes, 4096), [0..1000]);
    }

    proptest! {
        /// Against looking at each unit on its own.
        #[test]
        fn runs_cover_what_holds_something_and_nothing_else(
            len in 1..=BLOCK,
            bytes in prop::collection::vec(0..BLOCK, 0..12),
            unit in prop::sample::select(vec![512, 4096, GRAIN, 64 << 10, 1 << 20]),
        ) {
            let mut block = vec![0; len];
            bytes.iter().filter(|&&at| at < len).for_each(|&at| block[at] = 1);
            let holds = Grains::ALL.holding(&block);
            let runs = data_runs(&block, unit, holds);
            let units = block.chunks(unit).enumerate().filter(|(_, piece)| piece.contains(&1));
            let expected: Vec<usize> = units.map(|(index, _)| index).collect();
            let found: Vec<usize> = runs.iter().flat_map(|run| run.start / unit..run.end.div_ceil(unit)).collect();
            prop_assert_eq!(found, expected);
            prop_assert!(runs.windows(2).all(|pair| pair[0].end < pair[1].start));
            let grains: Vec<usize> = holds.ranges(len).map(|range| range.start / GRAIN).collect();
            prop_assert!(block.chunks(GRAIN).enumerate().all(|(index, grain)| grain.contains(&1) == grains.contains(&index)));
        }

        /// Against asking for each byte whether its grain is one of them.
        #[test]
        fn grains_of_a_range_are_joined_and_cut_to_it(bits: u64, bound in 0..=BLOCK, other in 0..=BLOCK) {
            let range = bound.min(other)..bound.max(other);
            for grains in [Grains(bits), Grains(bits & bits >> 1 & bits >> 2), Grains::NONE, Grains::ALL] {
                let runs: Vec<Range<usize>> = grains.runs_in(&range).collect();
                prop_assert!(runs.iter().all(|run| run.start < run.end && range.start <= run.start && run.end <= range.end));
                prop_assert!(runs.windows(2).all(|pair| pair[0].end < pair[1].start));
                let held: usize = range.clone().filter(|at| grains.0 >> (at / GRAIN) & 1 == 1).count();
                prop_assert_eq!(runs.iter().map(ExactSizeIterator::len).sum::<usize>(), held);
                prop_assert!(runs.iter().flat_map(|run| [run.start, run.end - 1]).all(|at| grains.0 >> (at / GRAIN) & 1 == 1));
            }
        }
    }
}
