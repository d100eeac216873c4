//! The content digest: what a disk holds, independent of how it is stored.
//!
//! The guest-visible bytes are cut into blocks of 1 MiB (the last may be shorter); each block's digest is BLAKE3; the
//! disk's digest is BLAKE3 over the size (u64, little endian) and the block digests in order. A block of zeros has a
//! constant digest, so a hole costs nothing to read.

use crate::to_usize;
use std::{fmt, str::FromStr, sync::LazyLock};

use blake3::hazmat::{self, ChainingValue, HasherExt, Mode};

use crate::zeros::{GRAIN, Grains};

/// Bytes of a block.
pub const BLOCK: u64 = 1 << 20;
const _: () = assert!(BLOCK == (GRAIN * Grains::COUNT) as u64);

static ZERO_BLOCK: LazyLock<blake3::Hash> = LazyLock::new(|| blake3::hash(&vec![0; to_usize(BLOCK)]));

/// Zero blocks whose digests are added in one go: hashing is fast only where it is given much at a time.
const MANY: usize = 4096;
static MANY_ZERO_BLOCKS: LazyLock<Vec<u8>> = LazyLock::new(|| ZERO_BLOCK.as_bytes().repeat(MANY));

/// A disk's content digest; prints as 64 hexadecimal digits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ContentDigest(blake3::Hash);

impl fmt::Display for ContentDigest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0.to_hex())
    }
}

impl FromStr for ContentDigest {
    type Err = blake3::HexError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        blake3::Hash::from_hex(text).map(Self)
    }
}

/// The digest of one block.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BlockDigest(blake3::Hash);

impl BlockDigest {
    /// Digest of `bytes`, a whole block or the last of a disk.
    pub fn of(bytes: &[u8]) -> Self {
        // Looking costs next to nothing where there is data, and hashing costs a lot where there is none.
        Self::of_holding(bytes, Grains::ALL.holding(bytes))
    }

    /// As bytes, for a journal.
    pub(crate) fn as_bytes(&self) -> &[u8; 32] {
        self.0.as_bytes()
    }

    /// The digest of these bytes, which a journal kept.
    pub(crate) fn from_bytes(bytes: [u8; 32]) -> Self {
        Self(blake3::Hash::from_bytes(bytes))
    }

    /// Digest of `bytes`, a whole block or the last of a disk, of which only the grains in `holds` hold anything.
    pub(crate) fn of_holding(bytes: &[u8], holds: Grains) -> Self {
        if bytes.len() as u64 != BLOCK {
            return Self(blake3::hash(bytes));
        }
        if !holds.all_and_any(0, bytes.len()).1 {
            return Self(*ZERO_BLOCK);
        }
        let (left, right) = bytes.split_at(bytes.len() / 2);
        let right = subtree(right, left.len(), holds);
        let left = subtree(left, 0, holds);
        Self(hazmat::merge_subtrees_root(&left, &right, Mode::Hash))
    }
}

/// Chaining values of the subtrees of a block that hold nothing but zeros: those of 512 KiB first, those of a grain last.
static ZERO_SUBTREES: LazyLock<Vec<ChainingValue>> = LazyLock::new(|| {
    let block = to_usize(BLOCK);
    let zeros = vec![0; block / 2];
    let lens = std::iter::successors(Some(block / 2), |len| Some(len / 2)).take_while(|len| *len >= GRAIN);
    lens.flat_map(|len| (0..block).step_by(len).map(move |start| (start, len)))
        .map(|(start, len)| chaining_value(zeros.get(..len).unwrap_or_default(), start))
        .collect()
});

/// Chaining value of the subtree of a block that starts at byte `start` and holds `bytes`: BLAKE3, section 2.1. Its length
/// is a power of two, of which the start is a multiple.
fn chaining_value(bytes: &[u8], start: usize) -> ChainingValue {
    blake3::Hasher::new().set_input_offset(start as u64).update(bytes).finalize_non_root()
}

/// Bytes that are hashed in one go: a part of a processor's own cache.
const CACHED: usize = 128 << 10;

/// As [`chaining_value`], where only `holds` of the block holds anything: what is zero is not hashed.
fn subtree(bytes: &[u8], start: usize, holds: Grains) -> ChainingValue {
    let len = bytes.len();
    match holds.all_and_any(start, len) {
        (true, _) if len <= CACHED => chaining_value(bytes, start),
        (_, false) => {
            // Before the subtrees of this length there are those that are longer: two, four, eight and so on.
            let longer = to_usize(BLOCK) / len - 2;
            let known = ZERO_SUBTREES.get(longer + start / len);
            known.copied().unwrap_or_else(|| chaining_value(bytes, start))
        }
        _ => {
            let (left, right) = bytes.split_at(len / 2);
            // From the end: what was read last is still in the processor's cache.
            let right = subtree(right, start + left.len(), holds);
            let left = subtree(left, start, holds);
            hazmat::merge_subtrees_non_root(&left, &right, Mode::Hash)
        }
    }
}

/// Takes the blocks of one disk in order.
pub struct ContentHasher {
    hasher: blake3::Hasher,
}

impl ContentHasher {
    /// A hasher for a disk of `size` bytes.
    pub fn new(size: u64) -> Self {
        let mut hasher = blake3::Hasher::new();
        hasher.update(&size.to_le_bytes());
        Self { hasher }
    }

    /// Adds the next block.
    pub fn push(&mut self, block: BlockDigest) {
        self.hasher.update(block.0.as_bytes());
    }

    /// Adds zeros of `len` bytes, which start at a block's start and end at a block's or the disk's end.
    #[expect(clippy::indexing_slicing, reason = "never more blocks of zeros at once than the table holds")]
    pub fn push_zeros(&mut self, len: u64) {
        let mut blocks = (len / BLOCK) as usize;
        while blocks > 0 {
            let now = blocks.min(MANY);
            self.hasher.update(&MANY_ZERO_BLOCKS[..now * 32]);
            blocks -= now;
        }
        let rest = (len % BLOCK) as usize;
        if rest > 0 {
            self.push(BlockDigest::of(&vec![0; rest]));
        }
    }

    /// The digest of all that was added.
    pub fn finish(self) -> ContentDigest {
        ContentDigest(self.hasher.finalize())
    }
}

/// Takes the blocks of a disk whose size is known only at its end: it keeps 40 bytes for each block that is not zero.
#[derive(Default)]
pub struct LateHasher {
    runs: Vec<LateRun>,
    blocks: u64,
}

enum LateRun {
    Zeros(u64),
    Block(BlockDigest),
}

impl LateHasher {
    /// Adds the next block; only the last may be shorter than the others.
    pub fn push(&mut self, block: BlockDigest) {
        self.blocks += 1;
        match self.runs.last_mut() {
            Some(LateRun::Zeros(blocks)) if block.0 == *ZERO_BLOCK => *blocks += 1,
            _ if block.0 == *ZERO_BLOCK => self.runs.push(LateRun::Zeros(1)),
            _ => self.runs.push(LateRun::Block(block)),
        }
    }

    /// Adds zeros of `len` bytes, which start at a block's start and end at a block's or the disk's end.
    pub fn push_zeros(&mut self, len: u64) {
        self.blocks += len / BLOCK;
        match self.runs.last_mut() {
            Some(LateRun::Zeros(blocks)) => *blocks += len / BLOCK,
            _ => self.runs.push(LateRun::Zeros(len / BLOCK)),
        }
        if !len.is_multiple_of(BLOCK) {
            self.push(BlockDigest::of(&vec![0; (len % BLOCK) as usize]));
        }
    }

    /// Blocks that were added.
    pub fn blocks(&self) -> u64 {
        self.blocks
    }

    /// The digest of all that was added, of a disk of `size` bytes.
    pub fn finish(self, size: u64) -> ContentDigest {
        let mut hasher = ContentHasher::new(size);
        for run in self.runs {
            match run {
                LateRun::Zeros(blocks) => hasher.push_zeros(blocks * BLOCK),
                LateRun::Block(block) => hasher.push(block),
            }
        }
        hasher.finish()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Against the plain digest of all bytes, whatever is zero in them.
        #[test]
        fn a_block_with_zeros_in_it_has_the_digest_of_its_bytes(
            len in prop_oneof![4 => Just(BLOCK), 1 => 1..=BLOCK],
            runs in prop::collection::vec((0..BLOCK, 1..BLOCK / 4, 1..=255_u8), 0..6),
        ) {
            let mut bytes = vec![0; len as usize];
            for (start, count, value) in runs {
                let range = start.min(len) as usize..(start + count).min(len) as usize;
                bytes[range].fill(value);
            }
            prop_assert_eq!(BlockDigest::of(&bytes), BlockDigest(blake3::hash(&bytes)));
            // What holds zeros may be taken for something that has to be read.
            prop_assert_eq!(BlockDigest::of_holding(&bytes, Grains::ALL), BlockDigest::of(&bytes));
        }
    }

    #[test]
    fn zeros_cost_nothing_and_count_the_same() {
        let size = 3 * BLOCK + 700;
        let mut whole = blake3::Hasher::new();
        whole.update(&size.to_le_bytes());
        for len in [BLOCK, BLOCK, BLOCK, 700] {
            whole.update(blake3::hash(&vec![0; len as usize]).as_bytes());
        }
        let mut hasher = ContentHasher::new(size);
        hasher.push_zeros(size);
        let digest = hasher.finish();
        let mut late = LateHasher::default();
        for len in [BLOCK, BLOCK, BLOCK, 700] {
            late.push(BlockDigest::of(&vec![0; len as usize]));
        }
        assert_eq!(late.finish(size), digest);
        assert_eq!(digest.to_string(), whole.finalize().to_hex().to_string());
        assert_eq!(digest.to_string().parse::<ContentDigest>().ok(), Some(digest));
    }
}
