//! The content digest: what a disk holds, independent of how it is stored.
//!
//! The guest-visible bytes are cut into blocks of 1 MiB (the last may be shorter); each block's digest is BLAKE3; the
//! disk's digest is BLAKE3 over the size (u64, little endian) and the block digests in order. A block of zeros has a
//! constant digest, so a hole costs nothing to read.

use crate::to_usize;
use std::{fmt, str::FromStr, sync::LazyLock};

use crate::zeros::is_zero;

/// Bytes of a block.
pub const BLOCK: u64 = 1 << 20;

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
        if bytes.len() as u64 == BLOCK && is_zero(bytes) { Self(*ZERO_BLOCK) } else { Self(blake3::hash(bytes)) }
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
    use super::*;

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
