//! A block in memory, read so that what is known to be zero costs neither a read nor a hash.

use std::ops::Range;

use crate::{
    digest::{BLOCK, BlockDigest},
    error::Result,
    to_usize,
    zeros::{GRAIN, Grains},
};

/// A block that was read.
#[derive(Clone, Copy)]
pub(super) struct Block<'a> {
    /// Its bytes.
    pub(super) bytes: &'a [u8],
    /// Where in it there is anything but zeros.
    pub(super) holds: Grains,
    /// Its digest.
    pub(super) digest: BlockDigest,
}

/// Memory of a worker for one block at a time.
pub(super) struct Buffer {
    bytes: Vec<u8>,
    /// Grains in which the memory may hold something.
    used: Grains,
    /// Length and digest of the block in it.
    filled: (usize, BlockDigest),
}

impl Default for Buffer {
    fn default() -> Self {
        Self { bytes: vec![0; to_usize(BLOCK)], used: Grains::NONE, filled: (0, BlockDigest::of(&[])) }
    }
}

impl Buffer {
    /// All of it, to be filled by the caller.
    pub(super) fn whole(&mut self) -> &mut [u8] {
        self.used = Grains::ALL;
        &mut self.bytes
    }

    /// Fills the first `len` bytes: `read` gets the place in the block and the memory for each range of `data`, which
    /// ascend; the rest is zero.
    #[expect(clippy::indexing_slicing, reason = "ranges and length are those of a block, which the memory holds")]
    pub(super) fn fill(
        &mut self,
        len: usize,
        data: &[Range<usize>],
        read: impl Fn(usize, &mut [u8]) -> Result<()>,
    ) -> Result<()> {
        let touched = data.iter().map(Grains::touching).fold(Grains::NONE, Grains::with);
        for grain in self.used.without(touched).ranges(self.bytes.len()) {
            self.bytes[grain].fill(0);
        }
        self.used = touched;
        let mut end = 0;
        for range in data {
            self.clear_edges(end..range.start);
            read(range.start, &mut self.bytes[range.clone()])?;
            end = range.end;
        }
        self.clear_edges(end..len.next_multiple_of(GRAIN));
        let bytes = &self.bytes[..len];
        self.used = touched.holding(bytes);
        self.filled = (len, BlockDigest::of_holding(bytes, self.used));
        Ok(())
    }

    /// The block that was read last.
    #[expect(clippy::indexing_slicing, reason = "the length is that of a block, which the memory holds")]
    pub(super) fn block(&self) -> Block<'_> {
        let (len, digest) = self.filled;
        Block { bytes: &self.bytes[..len], holds: self.used, digest }
    }

    /// Makes those bytes of `gap` zero that lie in a grain of which something else was read.
    #[expect(clippy::indexing_slicing, reason = "a gap lies between ranges of the block")]
    fn clear_edges(&mut self, gap: Range<usize>) {
        let first = gap.start.next_multiple_of(GRAIN).min(gap.end);
        let last = (gap.end / GRAIN * GRAIN).max(first);
        self.bytes[gap.start..first].fill(0);
        self.bytes[last..gap.end].fill(0);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Memory that is used again holds what was read now, and zeros, and nothing of the blocks before.
        #[test]
        fn a_block_holds_what_was_read_and_nothing_of_another(
            blocks in prop::collection::vec(
                (1..=to_usize(BLOCK), prop::collection::btree_set(0..=to_usize(BLOCK), 0..10), 0..3_u8),
                1..5,
            ),
        ) {
            let mut buffer = Buffer::default();
            for (number, (len, bounds, value)) in blocks.iter().enumerate() {
                let bounds: Vec<usize> = bounds.iter().copied().filter(|at| at <= len).collect();
                let data: Vec<Range<usize>> = bounds.as_chunks::<2>().0.iter().map(|[start, end]| *start..*end).collect();
                let mut expected = vec![0; *len];
                data.iter().for_each(|range| expected[range.clone()].fill(*value));
                if number == 2 {
                    buffer.whole().fill(7);
                }
                let read = |start: usize, bytes: &mut [u8]| {
                    assert!(data.contains(&(start..start + bytes.len())));
                    bytes.fill(*value);
                    Ok(())
                };
                buffer.fill(*len, &data, read).unwrap();
                let block = buffer.block();
                prop_assert!(block.bytes == expected);
                prop_assert_eq!(block.holds, Grains::ALL.holding(&expected));
                prop_assert_eq!(block.digest, BlockDigest::of(&expected));
            }
        }
    }
}
