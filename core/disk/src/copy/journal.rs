//! What was put of a disk, piece by piece, so that a copy that was cut off goes on where it stopped.
//!
//! Writers give the same places to the same pieces: what they keep in memory is had again by asking them for all places once more,
//! without any bytes. So a journal holds, for each piece in the disk's order, where its runs were placed, and by what is told that
//! they are there.

use std::ops::Range;

use crate::digest::BlockDigest;

/// A run of a block that was stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stored {
    /// Its bytes in the block.
    pub range: Range<u32>,
    /// Where it lies in the file.
    pub position: u64,
    /// Of an encoded one, the bytes that are stored.
    pub encoded: Option<u32>,
    /// Digest of the stored bytes, in a block that has an encoded run; zeros in others, where the block's own tells enough.
    pub digest: [u8; 32],
}

/// A piece that was put.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Where it lies on the disk, in bytes.
    pub offset: u64,
    /// How long it is, in bytes.
    pub len: u64,
    /// A block's digest and what was stored of it; `None` for a run of zeros.
    pub block: Option<(BlockDigest, Vec<Stored>)>,
}

/// Keeps entries, in their order.
pub trait Journal: Send {
    /// The next entry of the run that was cut off; `None` behind the last that is sound.
    ///
    /// # Errors
    /// Those of reading.
    fn earlier(&mut self) -> crate::Result<Option<Entry>>;

    /// Begins with the first entry again. Behind the first `count`, all are forgotten.
    ///
    /// # Errors
    /// Those of writing.
    fn keep(&mut self, count: u64) -> crate::Result<()>;

    /// Keeps an entry behind those that hold.
    ///
    /// # Errors
    /// Those of writing.
    fn put(&mut self, entry: &Entry) -> crate::Result<()>;
}

/// The most runs of a block: each has a sector at least.
const MANY: u32 = 2048;
/// Bytes of an entry without its runs: length, checksum, offset, length of the piece, kind.
const HEAD: usize = 25;
/// Bytes of a run.
const RUN: usize = 52;

impl Entry {
    /// The longest entry in bytes, as [`Entry::encode`] makes it.
    pub const MOST: usize = HEAD + 36 + MANY as usize * RUN;

    /// As bytes: length (u32) and CRC-32C (u32) of what follows, then offset, length of the piece (u64 each), kind (u8); of a block
    /// its digest, the number of runs (u32) and each run: start, end (u32), position (u64), length (u32, 0 for one that is not encoded)
    /// and digest. All little endian.
    pub fn encode(&self) -> Vec<u8> {
        let mut bytes = vec![0; 8];
        bytes.extend(self.offset.to_le_bytes());
        bytes.extend(self.len.to_le_bytes());
        bytes.push(u8::from(self.block.is_some()));
        if let Some((digest, runs)) = &self.block {
            bytes.extend(digest.as_bytes());
            bytes.extend(u32::try_from(runs.len()).unwrap_or(u32::MAX).to_le_bytes());
            for run in runs {
                bytes.extend(run.range.start.to_le_bytes());
                bytes.extend(run.range.end.to_le_bytes());
                bytes.extend(run.position.to_le_bytes());
                bytes.extend(run.encoded.unwrap_or(0).to_le_bytes());
                bytes.extend(run.digest);
            }
        }
        let len = u32::try_from(bytes.len() - 8).unwrap_or(u32::MAX);
        let sum = crc32c::crc32c(bytes.get(8..).unwrap_or_default());
        if let Some(head) = bytes.first_chunk_mut::<8>() {
            head[..4].copy_from_slice(&len.to_le_bytes());
            head[4..].copy_from_slice(&sum.to_le_bytes());
        }
        bytes
    }

    /// The entry at the start of `bytes`, and its length; `None` where there is none that is whole and sound.
    pub fn decode(bytes: &[u8]) -> Option<(Self, usize)> {
        let mut rest = bytes;
        let len = u32::from_le_bytes(take(&mut rest)?) as usize;
        let sum = u32::from_le_bytes(take(&mut rest)?);
        let mut body = rest.get(..len).filter(|body| len <= Self::MOST && crc32c::crc32c(body) == sum)?;
        let (offset, piece) = (u64::from_le_bytes(take(&mut body)?), u64::from_le_bytes(take(&mut body)?));
        let block = match take(&mut body)? {
            [0] => None,
            [1] => {
                let digest = BlockDigest::from_bytes(take(&mut body)?);
                let count = u32::from_le_bytes(take(&mut body)?);
                let runs = (0..count.min(MANY)).map(|_| run(&mut body)).collect::<Option<Vec<_>>>()?;
                Some((digest, runs)).filter(|_| count <= MANY)
            }
            _ => return None,
        };
        body.is_empty().then_some((Self { offset, len: piece, block }, len + 8))
    }
}

fn run(body: &mut &[u8]) -> Option<Stored> {
    let range = u32::from_le_bytes(take(body)?)..u32::from_le_bytes(take(body)?);
    let position = u64::from_le_bytes(take(body)?);
    let (len, digest) = (u32::from_le_bytes(take(body)?), take(body)?);
    let block = u32::try_from(crate::digest::BLOCK).unwrap_or(u32::MAX);
    let sound = range.start < range.end && range.end <= block && len <= 2 * block;
    sound.then(|| Stored { range, position, encoded: (len > 0).then_some(len), digest })
}

fn take<const N: usize>(rest: &mut &[u8]) -> Option<[u8; N]> {
    let (head, tail) = rest.split_first_chunk()?;
    *rest = tail;
    Some(*head)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn an_entry_is_read_as_it_was_written_and_nothing_else_is(
            offset in any::<u64>(),
            len in any::<u64>(),
            runs in prop::option::of(prop::collection::vec((0u32..1 << 19, 1u32..1 << 19, any::<u64>(), 0u32..1 << 20), 0..20)),
            cut in any::<prop::sample::Index>(),
            bent in any::<(prop::sample::Index, u8)>(),
        ) {
            let stored = |(start, len, position, size): (u32, u32, u64, u32)| {
                Stored { range: start..start + len, position, encoded: (size > 0).then_some(size), digest: [7; 32] }
            };
            let block = runs.map(|runs| (BlockDigest::of(b"x"), runs.into_iter().map(stored).collect()));
            let entry = Entry { offset, len, block };
            let bytes = entry.encode();
            let mut followed = bytes.clone();
            followed.extend(b"more");
            prop_assert_eq!(Entry::decode(&followed), Some((entry, bytes.len())));
            prop_assert_eq!(Entry::decode(&bytes[..cut.index(bytes.len())]), None);
            let mut other = bytes.clone();
            let at = bent.0.index(bytes.len());
            if other[at] != bent.1 {
                other[at] = bent.1;
                prop_assert_eq!(Entry::decode(&other), None);
            }
        }

        #[test]
        fn any_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            let _ = Entry::decode(&bytes);
        }
    }
}
