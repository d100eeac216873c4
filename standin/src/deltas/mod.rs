//! Deltas that no free emulator makes, built by hand from their formats' descriptions, small as they are.

pub mod datastore;
pub mod vdi;
pub mod vhd;
pub mod vhdx;

use std::ops::Range;

use crate::content::Content;

/// What a delta holds: the whole disk as it reads, and which of its bytes the delta has itself (whole sectors).
pub struct Delta<'a> {
    /// The disk with all below it.
    pub whole: &'a Content,
    /// What was written since the delta was made.
    pub written: &'a [Range<u64>],
}

impl Delta<'_> {
    /// Whether the delta has any byte of `range`.
    fn has(&self, range: Range<u64>) -> bool {
        self.written.iter().any(|own| own.start < range.end && range.start < own.end)
    }

    /// The bytes at `offset`; behind the end of the disk, zeros.
    fn bytes(&self, offset: u64, len: u64) -> Vec<u8> {
        let mut bytes = vec![0; len as usize];
        let inside = self.whole.size.saturating_sub(offset).min(len) as usize;
        self.whole.read_at(offset, &mut bytes[..inside]);
        bytes
    }

    /// Blocks of `len` bytes of which the delta has something, in order.
    fn blocks(&self, len: u64) -> Vec<u64> {
        (0..self.whole.size.div_ceil(len)).filter(|block| self.has(block * len..(block + 1) * len)).collect()
    }
}

/// A file that is filled at positions.
#[derive(Default)]
struct File(Vec<u8>);

impl File {
    fn put(&mut self, at: u64, bytes: &[u8]) {
        let end = at as usize + bytes.len();
        if self.0.len() < end {
            self.0.resize(end, 0);
        }
        self.0[at as usize..end].copy_from_slice(bytes);
    }
}

/// `text` in UTF-16.
fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}
