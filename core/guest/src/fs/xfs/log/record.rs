//! Records of the log: a head, and bytes whose blocks each begin with the number of their round instead of their own bytes,
//! which stand in the head.

use reformis_disk::to_usize;

use super::{BLOCK, Log, MAGIC};
use crate::{
    error::Result,
    fs::xfs::{
        Xfs,
        fields::{be32, be64, put, slice},
    },
};

/// Bytes that one block of a head has room for the rounds of.
const PER_HEAD: usize = 32 << 10;
/// The longest record.
const MAX_RECORD: usize = 256 << 10;
/// Bytes of the fields of a head, as 64-bit and as 32-bit systems count them.
pub(super) const HEAD_SIZES: [usize; 2] = [328, 324];
const EXTENSION: usize = 260;
/// Byte of the checksum.
const CHECKSUM: usize = 32;

/// The head of a record.
#[derive(Debug, Clone)]
pub(super) struct Head {
    bytes: Vec<u8>,
    /// Its first block.
    pub(super) at: u64,
}

impl Head {
    pub(super) fn cycle(&self) -> u32 {
        be32(&self.bytes, 4)
    }

    /// Bytes behind the head.
    pub(super) fn len(&self) -> usize {
        be32(&self.bytes, 12) as usize
    }

    /// When it was written: the round, and the block.
    pub(super) fn lsn(&self) -> u64 {
        be64(&self.bytes, 16)
    }

    /// The block of the oldest record that was not all written to its place.
    pub(super) fn tail(&self) -> u64 {
        be64(&self.bytes, 24) & u64::from(u32::MAX)
    }

    pub(super) fn operations(&self) -> u32 {
        be32(&self.bytes, 40)
    }

    /// Blocks of the head.
    pub(super) fn blocks(&self) -> u64 {
        let size = be32(&self.bytes, 320) as usize;
        if be32(&self.bytes, 8) & 2 != 0 && size > PER_HEAD { size.div_ceil(PER_HEAD) as u64 } else { 1 }
    }

    /// Blocks of the whole record.
    pub(super) fn total(&self) -> u64 {
        self.blocks() + self.len().div_ceil(BLOCK) as u64
    }
}

/// Checksum of a record, over its head without it and over its bytes as they lie in the log.
pub(super) fn checksum(heads: &[u8], data: &[u8], size: usize) -> u32 {
    let sum = crc32c::crc32c(slice(heads, 0, CHECKSUM));
    let sum = crc32c::crc32c_append(sum, &[0; 4]);
    let mut sum = crc32c::crc32c_append(sum, slice(heads, CHECKSUM + 4, size - CHECKSUM - 4));
    for extension in 1..data.len().div_ceil(PER_HEAD) {
        sum = crc32c::crc32c_append(sum, slice(heads, extension * BLOCK, EXTENSION));
    }
    crc32c::crc32c_append(sum, data)
}

impl Xfs {
    /// `len` blocks of the log from `at` on, around its end.
    pub(super) fn log_blocks(&self, log: Log, at: u64, len: u64) -> Result<Vec<u8>> {
        let mut bytes = vec![0; to_usize(len) * BLOCK];
        let first = len.min(log.blocks - at);
        let (head, rest) = bytes.split_at_mut(to_usize(first) * BLOCK);
        self.device.read(log.start + at * BLOCK as u64, head)?;
        self.device.read(log.start, rest)?;
        Ok(bytes)
    }

    /// The head of the record at block `at`; `None` when there is none.
    ///
    /// # Errors
    /// Those of reading; [`crate::Error::Damaged`] for one that cannot be.
    pub(super) fn record_head(&self, log: Log, at: u64) -> Result<Option<Head>> {
        let head = Head { bytes: self.log_blocks(log, at, 1)?, at };
        if be32(&head.bytes, 0) != MAGIC {
            return Ok(None);
        }
        let version = be32(&head.bytes, 8);
        if !(1..=3).contains(&version) || head.len() > MAX_RECORD || head.total() > log.blocks || head.blocks() > 8 {
            return Err(self.device.damaged(format!("a record of its log, at block {at}, cannot be")));
        }
        Ok(Some(head))
    }

    /// The bytes of a record, with their own bytes where the rounds were; `None` when they are not those that were written.
    ///
    /// # Errors
    /// [`crate::Error::Unsupported`] for one that another kind of processor wrote.
    pub(super) fn record_bytes(&self, log: Log, head: &Head) -> Result<Option<Vec<u8>>> {
        if be32(&head.bytes, 300) != 1 {
            return Err(self.device.unreadable("its log was written by a processor of another byte order"));
        }
        let heads = self.log_blocks(log, head.at, head.blocks())?;
        let mut data = self.log_blocks(log, log.after(head.at, head.blocks()), head.total() - head.blocks())?;
        let stored = slice(&heads, CHECKSUM, 4);
        let covered = data.get(..head.len()).unwrap_or_default();
        let sound = HEAD_SIZES.iter().any(|size| checksum(&heads, covered, *size).to_le_bytes() == stored);
        // Before version 5 there may be none.
        if !sound && !cfg!(fuzzing) && (self.sb.is_v5() || stored != [0; 4]) {
            return Ok(None);
        }
        for (number, block) in data.chunks_mut(BLOCK).enumerate() {
            let (extension, place) = (number / 64, number % 64);
            let at = if extension == 0 { 44 + place * 4 } else { extension * BLOCK + 4 + place * 4 };
            put(block, 0, slice(&heads, at, 4));
        }
        data.truncate(head.len());
        Ok(Some(data))
    }
}
