//! Inodes (section "On-disk Inode"): what is known of a file, and the two forks that lead to its bytes and its attributes.

use super::{
    Xfs, fields,
    fields::{be16, be32, be64, byte, put, put16, put32, put64},
    seal,
    superblock::{features2, incompat},
};
use crate::{error::Result, fs::node::Device};

const MAGIC: &[u8; 2] = b"IN";
const CHECKSUM_V3: usize = 176;
const SIZE_V2: usize = 100;
/// Seconds from 1901 to 1970, which times of 64 bits begin with.
const BIGTIME_START: i64 = 1 << 31;

/// Kinds in a mode.
pub(super) mod mode {
    pub const KIND: u16 = 0xf000;
    pub const FILE: u16 = 0x8000;
    pub const FOLDER: u16 = 0x4000;
    pub const LINK: u16 = 0xa000;
}

/// `di_flags`.
pub(super) mod flags {
    pub const REALTIME: u16 = 1;
    pub const PREALLOCATED: u16 = 2;
    pub const INHERIT_PROJECT: u16 = 0x200;
    pub const INHERIT_REALTIME: u16 = 0x100;
}

/// `di_flags2`.
pub(super) mod flags2 {
    pub const REFLINK: u64 = 2;
    pub const BIGTIME: u64 = 8;
    pub const NREXT64: u64 = 16;
    pub const METADATA: u64 = 32;
}

/// How a fork keeps what it has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Format {
    Device = 0,
    Local = 1,
    Extents = 2,
    Tree = 3,
}

/// One of the forks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Fork {
    Data,
    Attributes,
}

/// A time of an inode, by its place.
#[derive(Debug, Clone, Copy)]
pub(super) enum Time {
    Access = 32,
    Modification = 40,
    Change = 48,
    Creation = 144,
}

/// An inode in memory.
#[derive(Debug, Clone)]
pub(super) struct Inode {
    pub(super) number: u64,
    pub(super) bytes: Vec<u8>,
}

impl Inode {
    pub(super) fn mode(&self) -> u16 {
        be16(&self.bytes, 2)
    }

    pub(super) fn set_mode(&mut self, mode: u16) {
        put16(&mut self.bytes, 2, mode);
    }

    pub(super) fn version(&self) -> u8 {
        byte(&self.bytes, 4)
    }

    pub(super) fn is(&self, kind: u16) -> bool {
        self.mode() & mode::KIND == kind
    }

    pub(super) fn owner(&self) -> (u32, u32) {
        (be32(&self.bytes, 8), be32(&self.bytes, 12))
    }

    pub(super) fn set_owner(&mut self, uid: u32, gid: u32) {
        put32(&mut self.bytes, 8, uid);
        put32(&mut self.bytes, 12, gid);
    }

    pub(super) fn links(&self) -> u32 {
        // The first version had 16 bits for them.
        if self.version() == 1 { be16(&self.bytes, 6).into() } else { be32(&self.bytes, 16) }
    }

    pub(super) fn set_links(&mut self, links: u32) {
        if self.version() == 1 {
            // As the kernel does it: an inode that changes becomes one of the second version.
            put(&mut self.bytes, 4, &[2]);
            put16(&mut self.bytes, 6, 0);
        }
        put32(&mut self.bytes, 16, links);
    }

    pub(super) fn project(&self) -> (u16, u16) {
        (be16(&self.bytes, 20), be16(&self.bytes, 22))
    }

    pub(super) fn set_project(&mut self, (low, high): (u16, u16)) {
        put16(&mut self.bytes, 20, low);
        put16(&mut self.bytes, 22, high);
    }

    pub(super) fn size(&self) -> u64 {
        be64(&self.bytes, 56)
    }

    pub(super) fn set_size(&mut self, size: u64) {
        put64(&mut self.bytes, 56, size);
    }

    /// Blocks of both forks, and of their maps.
    pub(super) fn blocks(&self) -> u64 {
        be64(&self.bytes, 64)
    }

    pub(super) fn count_blocks(&mut self, by: i64) {
        let blocks = self.blocks().saturating_add_signed(by);
        put64(&mut self.bytes, 64, blocks);
    }

    pub(super) fn flags(&self) -> u16 {
        be16(&self.bytes, 90)
    }

    pub(super) fn set_flags(&mut self, flags: u16) {
        put16(&mut self.bytes, 90, flags);
    }

    pub(super) fn flags2(&self) -> u64 {
        if self.version() == 3 { be64(&self.bytes, 120) } else { 0 }
    }

    pub(super) fn set_flags2(&mut self, flags: u64) {
        put64(&mut self.bytes, 120, flags);
    }

    pub(super) fn generation(&self) -> u32 {
        be32(&self.bytes, 92)
    }

    pub(super) fn set_generation(&mut self, generation: u32) {
        put32(&mut self.bytes, 92, generation);
    }

    /// The next one in a list of inodes that were removed while they were open.
    pub(super) fn next_unlinked(&self) -> u32 {
        be32(&self.bytes, 96)
    }

    pub(super) fn set_next_unlinked(&mut self, next: u32) {
        put32(&mut self.bytes, 96, next);
    }

    pub(super) fn time(&self, time: Time) -> i64 {
        let at = time as usize;
        if self.flags2() & flags2::BIGTIME == 0 {
            return i64::from(be32(&self.bytes, at).cast_signed());
        }
        (be64(&self.bytes, at) / 1_000_000_000).cast_signed() - BIGTIME_START
    }

    /// Nanoseconds of a time.
    pub(super) fn nanoseconds(&self, time: Time) -> u32 {
        let at = time as usize;
        if self.flags2() & flags2::BIGTIME == 0 {
            return be32(&self.bytes, at + 4).min(999_999_999);
        }
        fields::low32(be64(&self.bytes, at) % 1_000_000_000)
    }

    /// The device that this stands for (section "Data Fork", `xfs_dev`: in the form of System V).
    pub(super) fn device(&self) -> Device {
        let stored = be32(self.fork(Fork::Data), 0);
        Device { major: stored >> 18 & 0x3fff, minor: stored & 0x3_ffff }
    }

    /// Sets a time in seconds since 1970; what the inode cannot say becomes the nearest that it can.
    pub(super) fn set_time(&mut self, time: Time, seconds: i64) {
        let at = time as usize;
        if self.flags2() & flags2::BIGTIME != 0 {
            let since = seconds.saturating_add(BIGTIME_START).max(0).unsigned_abs();
            put64(&mut self.bytes, at, since.saturating_mul(1_000_000_000));
            return;
        }
        let seconds = i32::try_from(seconds).unwrap_or(if seconds < 0 { i32::MIN } else { i32::MAX });
        put32(&mut self.bytes, at, seconds.cast_unsigned());
        put32(&mut self.bytes, at + 4, 0);
    }

    /// Counts one change more, where that is counted.
    pub(super) fn count_change(&mut self) {
        if self.version() == 3 {
            let changes = be64(&self.bytes, 104).wrapping_add(1);
            put64(&mut self.bytes, 104, changes);
        }
    }

    /// Where the forks begin.
    pub(super) fn head(&self) -> usize {
        if self.version() == 3 { CHECKSUM_V3 } else { SIZE_V2 }
    }

    /// Byte of the attributes' fork behind the other's start; 0 when there is none.
    pub(super) fn fork_offset(&self) -> usize {
        usize::from(byte(&self.bytes, 82)) * 8
    }

    pub(super) fn set_fork_offset(&mut self, bytes: usize) {
        put(&mut self.bytes, 82, &[fields::low8(bytes / 8)]);
    }

    fn fork_range(&self, fork: Fork) -> (usize, usize) {
        let (start, end, offset) = (self.head(), self.bytes.len(), self.fork_offset());
        match fork {
            Fork::Data if offset == 0 => (start, end),
            Fork::Data => (start, start + offset),
            Fork::Attributes if offset == 0 => (end, end),
            Fork::Attributes => (start + offset, end),
        }
    }

    pub(super) fn fork(&self, fork: Fork) -> &[u8] {
        let (start, end) = self.fork_range(fork);
        self.bytes.get(start..end).unwrap_or_default()
    }

    /// Fills a fork: `bytes`, and zeros behind them.
    pub(super) fn set_fork(&mut self, fork: Fork, bytes: &[u8]) {
        let (start, end) = self.fork_range(fork);
        if let Some(room) = self.bytes.get_mut(start..end) {
            room.fill(0);
            put(room, 0, bytes);
        }
    }

    fn format_place(fork: Fork) -> usize {
        match fork {
            Fork::Data => 5,
            Fork::Attributes => 83,
        }
    }

    /// How a fork keeps what it has; `None` for what no fork does.
    pub(super) fn format(&self, fork: Fork) -> Option<Format> {
        match byte(&self.bytes, Self::format_place(fork)) {
            0 if fork == Fork::Data => Some(Format::Device),
            1 => Some(Format::Local),
            2 => Some(Format::Extents),
            3 => Some(Format::Tree),
            _ => None,
        }
    }

    pub(super) fn set_format(&mut self, fork: Fork, format: Format) {
        put(&mut self.bytes, Self::format_place(fork), &[format as u8]);
    }

    fn has_large_counts(&self) -> bool {
        self.flags2() & flags2::NREXT64 != 0
    }

    /// Runs of a fork's map.
    pub(super) fn runs(&self, fork: Fork) -> u64 {
        match (fork, self.has_large_counts()) {
            (Fork::Data, true) => be64(&self.bytes, 24),
            (Fork::Attributes, true) => be32(&self.bytes, 76).into(),
            (Fork::Data, false) => be32(&self.bytes, 76).into(),
            (Fork::Attributes, false) => be16(&self.bytes, 80).into(),
        }
    }

    /// The most runs that a fork's map may have.
    pub(super) fn most_runs(&self, fork: Fork) -> u64 {
        match (fork, self.has_large_counts()) {
            (Fork::Data, true) => (1 << 48) - 1,
            (Fork::Attributes, true) => u32::MAX.into(),
            (Fork::Data, false) => i32::MAX.unsigned_abs().into(),
            (Fork::Attributes, false) => i16::MAX.unsigned_abs().into(),
        }
    }

    pub(super) fn set_runs(&mut self, fork: Fork, runs: usize) {
        match (fork, self.has_large_counts()) {
            (Fork::Data, true) => put64(&mut self.bytes, 24, runs as u64),
            (Fork::Attributes, true) | (Fork::Data, false) => put32(&mut self.bytes, 76, fields::low32(runs as u64)),
            (Fork::Attributes, false) => put16(&mut self.bytes, 80, fields::low16(runs)),
        }
    }
}

impl Xfs {
    /// Byte of an inode in the volume.
    pub(super) fn inode_place(&self, number: u64) -> Result<u64> {
        let (group, inner) = self.sb.split_inode(number);
        let block = inner >> self.sb.sb_inopblog;
        if number == 0 || group >= self.sb.groups() || block >= self.sb.group_blocks(group) {
            return Err(self.device.damaged(format!("something leads to inode {number}, which is outside of it")));
        }
        let inside = u64::from(inner & ((1 << self.sb.sb_inopblog) - 1)) << self.sb.sb_inodelog;
        Ok(self.sb.group_byte(group, block) + inside)
    }

    /// An inode, also one that is free.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`]; those of reading.
    pub(super) fn any_inode(&self, number: u64) -> Result<Inode> {
        let place = self.inode_place(number)?;
        let mut bytes = vec![0; usize::from(self.sb.sb_inodesize.get())];
        self.device.read(place, &mut bytes)?;
        let inode = Inode { number, bytes };
        let wrong = |what: &str| self.device.damaged(format!("inode {number} {what}"));
        let version = inode.version();
        let fits = if self.sb.is_v5() { version == 3 } else { (1..=2).contains(&version) };
        if !inode.bytes.starts_with(MAGIC) || !fits {
            return Err(wrong("does not begin with its mark"));
        }
        self.check_seal(&inode.bytes, seal::INODE, place, 0, "an inode")?;
        if self.sb.is_v5() && be64(&inode.bytes, 152) != number {
            return Err(wrong("says that it is another one"));
        }
        if inode.head() + inode.fork_offset() >= inode.bytes.len() {
            return Err(wrong("has a fork of attributes behind its end"));
        }
        Ok(inode)
    }

    /// An inode that is in use.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`]; those of reading.
    pub(super) fn inode(&self, number: u64) -> Result<Inode> {
        let inode = self.any_inode(number)?;
        if inode.mode() == 0 {
            return Err(self.device.damaged(format!("something leads to inode {number}, which is free")));
        }
        if inode.size() > i64::MAX.unsigned_abs() {
            return Err(self.device.damaged(format!("inode {number} has an impossible size")));
        }
        Ok(inode)
    }

    pub(super) fn write_inode(&self, inode: &mut Inode) -> Result<()> {
        let place = self.inode_place(inode.number)?;
        self.write_sealed(&mut inode.bytes, seal::INODE, place, 0)
    }

    /// The bytes of an inode that is in no use.
    pub(super) fn empty_inode(&self, number: u64, generation: u32) -> Inode {
        let mut bytes = vec![0; usize::from(self.sb.sb_inodesize.get())];
        put(&mut bytes, 0, MAGIC);
        put(&mut bytes, 4, &[if self.sb.is_v5() { 3 } else { 2 }]);
        put32(&mut bytes, 92, generation);
        put32(&mut bytes, 96, super::group::NULL);
        if self.sb.is_v5() {
            put64(&mut bytes, 152, number);
        }
        Inode { number, bytes }
    }

    /// Makes an inode that is free one of a new file of `mode`; the caller gives it all that is particular to it.
    pub(super) fn begin_inode(&self, inode: &mut Inode, mode: u16, folder: &Inode) {
        let mut fresh = self.empty_inode(inode.number, inode.generation());
        if fresh.version() == 3 {
            let mut flags = 0;
            for (feature, flag) in [(incompat::BIGTIME, flags2::BIGTIME), (incompat::NREXT64, flags2::NREXT64)] {
                if self.sb.has_incompat(feature) {
                    flags |= flag;
                }
            }
            fresh.set_flags2(flags);
            fresh.count_change();
            fresh.set_time(Time::Creation, self.now);
        }
        fresh.set_mode(mode);
        fresh.set_links(1);
        fresh.set_format(Fork::Data, Format::Extents);
        fresh.set_format(Fork::Attributes, Format::Extents);
        for time in [Time::Access, Time::Modification, Time::Change] {
            fresh.set_time(time, self.now);
        }
        if folder.flags() & flags::INHERIT_PROJECT != 0 {
            let (low, high) = folder.project();
            let wide = self.sb.is_v5() || self.sb.has_features2(features2::PROJECT32);
            fresh.set_project((low, if wide { high } else { 0 }));
            if mode & mode::KIND == mode::FOLDER {
                fresh.set_flags(flags::INHERIT_PROJECT);
            }
        }
        *inode = fresh;
    }

    /// Notes that the bytes of a file changed now.
    pub(super) fn touch(&self, inode: &mut Inode) {
        inode.set_time(Time::Modification, self.now);
        self.touch_change(inode);
    }

    /// Notes that what is known of a file changed now.
    pub(super) fn touch_change(&self, inode: &mut Inode) {
        inode.set_time(Time::Change, self.now);
        inode.count_change();
    }
}
