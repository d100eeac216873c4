//! Made-up disk content that can be made again from its description.

/// A run of made-up bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    /// First byte.
    pub offset: u64,
    /// Length in bytes.
    pub len: u64,
    /// Decides the bytes.
    pub seed: u64,
}

/// The seed of a run of zeros.
const ZEROS: u64 = u64::MAX;

/// A disk: a size, and runs of bytes; everything else is zero. Later runs lie over earlier ones.
#[derive(Debug, Clone, Default)]
pub struct Content {
    /// Size in bytes.
    pub size: u64,
    /// The runs.
    pub runs: Vec<Run>,
}

impl Content {
    /// An empty disk of `size` bytes.
    pub fn empty(size: u64) -> Self {
        Self { size, runs: Vec::new() }
    }

    /// With one more run.
    #[must_use]
    pub fn with(mut self, offset: u64, len: u64, seed: u64) -> Self {
        self.runs.push(Run { offset, len, seed });
        self
    }

    /// With zeros over what was there.
    #[must_use]
    pub fn with_zeros(self, offset: u64, len: u64) -> Self {
        self.with(offset, len, ZEROS)
    }

    /// Fills `buf` with the bytes at `offset`.
    pub fn read_at(&self, offset: u64, buf: &mut [u8]) {
        buf.fill(0);
        let end = offset + buf.len() as u64;
        for run in &self.runs {
            let (from, to) = (run.offset.max(offset), (run.offset + run.len).min(end));
            for at in from..to {
                buf[(at - offset) as usize] = if run.seed == ZEROS { 0 } else { byte_at(run.seed, at) };
            }
        }
    }

    /// Whether any run touches `offset..offset + len`.
    pub fn touches(&self, offset: u64, len: u64) -> bool {
        self.runs.iter().any(|run| run.offset < offset + len && offset < run.offset + run.len)
    }
}

/// A byte that depends on its place and is hard to compress for an odd seed, easy for an even one.
fn byte_at(seed: u64, at: u64) -> u8 {
    let word = if seed.is_multiple_of(2) { at / 512 } else { at };
    let mixed = (word ^ seed.rotate_left(32)).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    ((mixed ^ (mixed >> 29)).wrapping_mul(0xbf58_476d_1ce4_e5b9) >> 56) as u8 | 1
}
