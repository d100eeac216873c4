//! The journal (section "Journal (jbd2)"): what was committed and not yet written to its place is written there. All its
//! numbers are big-endian.

use std::collections::HashMap;

use reformis_disk::budget::Hold;

use super::{Ext, checksum, map::Map, superblock::incompat};
use crate::error::Result;

const MAGIC: u32 = 0xc03b_3998;
const DESCRIPTOR: u32 = 1;
const COMMIT: u32 = 2;
const SUPERBLOCKS: [u32; 2] = [3, 4];
const REVOKE: u32 = 5;

mod feature {
    pub const BIT64: u32 = 0x2;
    pub const CSUM_V2: u32 = 0x8;
    pub const CSUM_V3: u32 = 0x10;
    pub const FAST_COMMIT: u32 = 0x20;
    /// Revoked blocks, 64 bits, commits without waiting, both checksums, fast commits.
    pub const KNOWN: u32 = 0x1 | BIT64 | 0x4 | CSUM_V2 | CSUM_V3 | FAST_COMMIT;
}

mod tag {
    /// The block began with the journal's own mark, which was taken out.
    pub const ESCAPED: u32 = 1;
    pub const SAME_UUID: u32 = 2;
    pub const LAST: u32 = 8;
    /// First entry of the area of fast commits.
    pub const FAST_HEAD: u16 = 9;
}

/// An entry of a descriptor.
struct Tag {
    block: u64,
    flags: u32,
    checksum: u32,
}

/// An open journal.
struct Journal {
    map: Map,
    /// Bytes of its superblock's block.
    head: Vec<u8>,
    features: u32,
    seed: u32,
    first: u64,
    /// The first block behind the log.
    end: u64,
}

#[expect(clippy::indexing_slicing, reason = "blocks of at least 1024 bytes, and places inside their heads")]
fn be32(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).map_or(0, |four| u32::from_be_bytes([four[0], four[1], four[2], four[3]]))
}

impl Journal {
    fn has(&self, bits: u32) -> bool {
        self.features & bits != 0
    }

    fn has_checksums(&self) -> bool {
        self.has(feature::CSUM_V2 | feature::CSUM_V3)
    }

    fn after(&self, block: u64) -> u64 {
        if block + 1 >= self.end { self.first } else { block + 1 }
    }

    /// The entries of a descriptor.
    fn tags(&self, bytes: &[u8]) -> Vec<Tag> {
        let v3 = self.has(feature::CSUM_V3);
        let wide = self.has(feature::BIT64);
        let size = match (v3, wide) {
            (true, _) => 16,
            (false, wide) => 8 + if wide { 4 } else { 0 } + if self.has(feature::CSUM_V2) { 2 } else { 0 },
        };
        let end = bytes.len() - if self.has_checksums() { 4 } else { 0 };
        let mut found = Vec::new();
        let mut at = 12;
        while at + size <= end {
            let low = u64::from(be32(bytes, at));
            let (flags, high, checksum) = if v3 {
                (be32(bytes, at + 4), be32(bytes, at + 8), be32(bytes, at + 12))
            } else {
                (be32(bytes, at + 4) & 0xffff, be32(bytes, at + 8), be32(bytes, at + 4) >> 16)
            };
            let block = if wide { u64::from(high) << 32 | low } else { low };
            found.push(Tag { block, flags, checksum });
            at += size + if flags & tag::SAME_UUID == 0 { 16 } else { 0 };
            if flags & tag::LAST != 0 {
                break;
            }
        }
        found
    }

    /// Whether the checksum at `at`, of the block's other bytes, is right.
    #[expect(clippy::indexing_slicing, reason = "blocks of at least 1024 bytes, and places inside their heads")]
    fn is_sound(&self, bytes: &[u8], at: usize) -> bool {
        if !self.has_checksums() {
            return true;
        }
        let mut plain = bytes.to_vec();
        plain[at..at + 4].fill(0);
        checksum::crc32c(self.seed, &plain) == be32(bytes, at)
    }
}

/// Memory for the number of a revoked block, in a table that grows by doubling.
const REVOKED: u64 = 64;

/// The transactions that revoked blocks, by the blocks' numbers.
struct Revoked {
    by: HashMap<u64, u32>,
    hold: Hold,
}

/// One walk over the log.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Pass {
    /// How far whole transactions go.
    Scan,
    /// Which blocks were revoked.
    Revoke,
    /// Everything else is written.
    Replay,
}

impl Ext {
    /// Writes what the journal holds to its place, and marks the file system as recovered.
    #[expect(clippy::indexing_slicing, reason = "blocks of at least 1024 bytes, and places inside their heads")]
    pub(crate) fn replay(&mut self) -> Result<()> {
        if !self.has_journal() || self.sb.s_journal_inum.get() == 0 {
            return Err(self.device.unreadable("its journal is on another device"));
        }
        let journal = self.open_journal()?;
        let start = u64::from(be32(&journal.head, 28));
        let mut end = be32(&journal.head, 24);
        if start != 0 {
            let mut revoked = Revoked { by: HashMap::new(), hold: self.device.bench().budget().hold() };
            end = self.walk(&journal, start, Pass::Scan, u32::MAX, &mut revoked)?;
            if journal.has(feature::FAST_COMMIT) {
                self.check_fast_commits(&journal, end)?;
            }
            for pass in [Pass::Revoke, Pass::Replay] {
                self.walk(&journal, start, pass, end, &mut revoked)?;
            }
            end = end.wrapping_add(1);
        }
        let mut head = journal.head.clone();
        head[24..28].copy_from_slice(&end.to_be_bytes());
        head[28..32].fill(0);
        if journal.has_checksums() {
            head[0xfc..0x100].fill(0);
            let sum = checksum::crc32c(!0, &head[..1024]);
            head[0xfc..0x100].copy_from_slice(&sum.to_be_bytes());
        }
        let place = journal.map.block(0).ok_or_else(|| self.device.damaged("its journal has a hole"))?;
        self.write_block(place, &head)?;
        self.read_again()?;
        self.sb.s_feature_incompat = (self.sb.s_feature_incompat.get() & !incompat::RECOVER).into();
        self.flush()
    }

    #[expect(clippy::indexing_slicing, reason = "blocks of at least 1024 bytes, and places inside their heads")]
    fn open_journal(&self) -> Result<Journal> {
        let inode = self.inode(self.sb.s_journal_inum.get())?;
        let map = self.map(&inode)?;
        let wrong = |what: &str| self.device.damaged(format!("its journal {what}"));
        let head = self.read_block(map.block(0).ok_or_else(|| wrong("has a hole"))?)?;
        if be32(&head, 0) != MAGIC || !SUPERBLOCKS.contains(&be32(&head, 4)) || be32(&head, 12) as usize != self.block {
            return Err(wrong("does not begin with its mark"));
        }
        // The first version has no features.
        let features = if be32(&head, 4) == SUPERBLOCKS[0] { 0 } else { be32(&head, 40) };
        if features & !feature::KNOWN != 0 {
            return Err(self.device.unreadable(format!("its journal uses the features {features:#x}")));
        }
        let (len, first) = (u64::from(be32(&head, 16)), u64::from(be32(&head, 20)));
        let fast = if features & feature::FAST_COMMIT == 0 { 0 } else { u64::from(be32(&head, 0x54)).max(1) };
        let end = len.saturating_sub(fast);
        if first == 0 || first >= end || len > map.blocks() {
            return Err(wrong("is longer or shorter than its file"));
        }
        let seed = checksum::crc32c(!0, &head[0x30..0x40]);
        Ok(Journal { map, head, features, seed, first, end })
    }

    fn log_block(&self, journal: &Journal, block: u64) -> Result<Vec<u8>> {
        let place = journal.map.block(block).ok_or_else(|| self.device.damaged("its journal has a hole"))?;
        self.read_block(place)
    }

    /// Refuses a log that goes on with fast commits: what they hold would be lost.
    #[expect(clippy::indexing_slicing, reason = "blocks of at least 1024 bytes, and places inside their heads")]
    fn check_fast_commits(&self, journal: &Journal, end: u32) -> Result<()> {
        let bytes = self.log_block(journal, journal.end)?;
        let is_head = u16::from_le_bytes([bytes[0], bytes[1]]) == tag::FAST_HEAD;
        let number = u32::from_le_bytes([bytes[8], bytes[9], bytes[10], bytes[11]]);
        if is_head && number == end {
            return Err(self
                .device
                .unreadable("its journal ends with fast commits, which only its own kernel replays"));
        }
        Ok(())
    }

    /// Walks the log from block `start`; the number of the first transaction that is not whole. `until` ends the walk.
    #[expect(clippy::indexing_slicing, reason = "blocks of at least 1024 bytes, and places inside their heads")]
    fn walk(&self, journal: &Journal, start: u64, pass: Pass, until: u32, revoked: &mut Revoked) -> Result<u32> {
        let mut sequence = be32(&journal.head, 24);
        let mut at = start;
        if start >= journal.end {
            return Err(self.device.damaged("its journal starts behind its end"));
        }
        // The log is a ring: nothing is met twice.
        let mut left = journal.end;
        while left > 0 && sequence != until {
            let bytes = self.log_block(journal, at)?;
            at = journal.after(at);
            left -= 1;
            if be32(&bytes, 0) != MAGIC || be32(&bytes, 8) != sequence {
                break;
            }
            match be32(&bytes, 4) {
                DESCRIPTOR => {
                    if !journal.is_sound(&bytes, bytes.len() - 4) {
                        break;
                    }
                    for tag in journal.tags(&bytes) {
                        if pass == Pass::Replay {
                            self.replay_block(journal, at, &tag, sequence, revoked)?;
                        }
                        at = journal.after(at);
                        left = left.saturating_sub(1);
                    }
                }
                COMMIT => {
                    if !journal.is_sound(&bytes, 16) {
                        break;
                    }
                    sequence = sequence.wrapping_add(1);
                }
                REVOKE if pass == Pass::Revoke => {
                    let size = if journal.has(feature::BIT64) { 8 } else { 4 };
                    let used = (be32(&bytes, 12) as usize).clamp(16, bytes.len());
                    for entry in bytes[16..used].chunks_exact(size) {
                        let block = entry.iter().fold(0, |number, byte| number << 8 | u64::from(*byte));
                        if revoked.by.insert(block, sequence).is_none() {
                            revoked.hold.grow(REVOKED)?;
                        }
                    }
                }
                REVOKE => {}
                _ => break,
            }
        }
        Ok(sequence)
    }

    #[expect(clippy::indexing_slicing, reason = "blocks of at least 1024 bytes, and places inside their heads")]
    fn replay_block(&self, journal: &Journal, at: u64, tag: &Tag, sequence: u32, revoked: &Revoked) -> Result<()> {
        // Revoked by this transaction or by a later one; numbers go round.
        if revoked.by.get(&tag.block).is_some_and(|by| by.wrapping_sub(sequence).cast_signed() >= 0) {
            return Ok(());
        }
        let mut bytes = self.log_block(journal, at)?;
        if journal.has_checksums() {
            let sum = checksum::crc32c(checksum::crc32c(journal.seed, &sequence.to_be_bytes()), &bytes);
            let stated = if journal.has(feature::CSUM_V3) { sum } else { sum & 0xffff };
            if stated != tag.checksum {
                return Err(self
                    .device
                    .damaged(format!("a block of transaction {sequence} in its journal has a wrong checksum")));
            }
        }
        if tag.flags & tag::ESCAPED != 0 {
            bytes[..4].copy_from_slice(&MAGIC.to_be_bytes());
        }
        self.write_block(tag.block, &bytes)?;
        self.device.bench().count_changes()
    }
}
