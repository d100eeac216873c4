//! Writing to its place what the log holds: buffers, inodes, new inodes and quotas.

use std::collections::HashMap;

use super::{
    Log, Span,
    intents::Open,
    items::{Buffer, kind},
    transactions::{Item, Transaction, le16, le32, le64},
};
use crate::{
    error::Result,
    fs::xfs::{
        Xfs,
        fields::{be16, be32, be64, byte, put, put16, put32, put64, slice},
        inode::{Fork, Inode, flags2},
        seal::{self, Seal},
    },
};

/// Byte of a superblock's checksum, and of when it was written.
const SUPERBLOCK: Seal = Seal { checksum: 224, lsn: 240, uuid: 248, place: None, owner: None, is_logged: true };
/// Bytes of a quota, and where they are sealed.
const QUOTA: usize = 136;
const QUOTA_SEAL: Seal = Seal { checksum: 108, lsn: 112, uuid: 120, place: None, owner: None, is_logged: true };
/// The most bytes that a buffer has: 64 KiB of a folder's block, or inodes.
const MAX_BUFFER: usize = 128 << 10;
/// What a cancelled buffer takes in memory.
const CANCELLED: u64 = 64;

/// Fields of an inode that a log item brings.
mod field {
    pub const DATA: u32 = 0x2 | 0x4 | 0x8;
    pub const DATA_ROOT: u32 = 0x8;
    pub const DEVICE: u32 = 0x10;
    pub const ATTRIBUTES: u32 = 0x40 | 0x80 | 0x100;
    pub const ATTRIBUTE_ROOT: u32 = 0x100;
    pub const NEW_OWNER: u32 = 0x200 | 0x400;
}

/// How often each buffer was given up, by first sector and length: what was written to it before is not wanted any more.
type Cancelled = HashMap<(u64, usize), u32>;

impl Xfs {
    /// Writes what the log holds to its place; what was begun and not finished.
    pub(super) fn replay_items(&self, log: Log, span: Span) -> Result<Open> {
        let mut hold = self.device.bench().budget().hold();
        let mut cancelled = Cancelled::new();
        self.each_transaction(log, span, |transaction| {
            for item in transaction.items.iter().filter(|item| item.kind() == kind::BUFFER) {
                let buffer = Buffer::of(item);
                if buffer.is_cancel() {
                    hold.grow(CANCELLED)?;
                    *cancelled.entry((buffer.sector, buffer.len)).or_default() += 1;
                }
            }
            Ok(())
        })?;
        let mut open = Open::default();
        self.each_transaction(log, span, |transaction| {
            self.replay_transaction(transaction, &mut cancelled, &mut open)
        })?;
        Ok(open)
    }

    fn replay_transaction(&self, transaction: Transaction, cancelled: &mut Cancelled, open: &mut Open) -> Result<()> {
        let lsn = transaction.lsn;
        // Buffers first, then what lies in them; buffers of inodes after the inodes, and what was given up last.
        let turn = |item: &Item| match item.kind() {
            kind::BUFFER => {
                let buffer = Buffer::of(item);
                if buffer.is_cancel() {
                    3
                } else if buffer.flags & Buffer::INODES != 0 {
                    2
                } else {
                    0
                }
            }
            kind::INODE_CREATE => 0,
            _ => 1,
        };
        let mut items = transaction.items;
        items.sort_by_key(turn);
        for item in &items {
            match item.kind() {
                kind::BUFFER => {
                    let buffer = Buffer::of(item);
                    let key = (buffer.sector, buffer.len);
                    if buffer.is_cancel() {
                        if let Some(count) = cancelled.get_mut(&key) {
                            *count -= 1;
                            if *count == 0 {
                                cancelled.remove(&key);
                            }
                        }
                    } else if !cancelled.contains_key(&key) {
                        self.replay_buffer(&buffer, lsn)?;
                    }
                }
                kind::INODE => self.replay_inode(item, lsn, cancelled)?,
                kind::INODE_CREATE => self.replay_new_inodes(item, cancelled)?,
                kind::QUOTA => self.replay_quota(item, lsn, cancelled)?,
                kind::QUOTA_OFF => {}
                _ => open.note(item).map_err(|what| self.device.unreadable(what))?,
            }
        }
        self.device.bench().count_changes()
    }

    fn buffer_bytes(&self, sector: u64, len: usize) -> Result<(Vec<u8>, u64)> {
        let place = sector.checked_mul(512).filter(|_| len > 0 && len <= MAX_BUFFER);
        let place = place.ok_or_else(|| self.device.damaged("its log names a buffer that cannot be"))?;
        let mut bytes = vec![0; len];
        self.device.read(place, &mut bytes)?;
        Ok((bytes, place))
    }

    /// What version 5 put into the structure in a buffer, where it knows when it was written.
    fn seal_of(&self, bytes: &[u8]) -> Option<Seal> {
        let found = match slice(bytes, 0, 4) {
            b"AB3B" | b"AB3C" | b"IAB3" | b"FIB3" | b"RMB3" | b"R3FC" => seal::GROUP_TREE,
            b"BMA3" => seal::FILE_TREE,
            b"XAGF" => seal::AGF,
            b"XAGI" => seal::AGI,
            b"XAFL" => seal::AGFL,
            b"XDB3" | b"XDD3" | b"XDF3" => seal::ENTRIES,
            b"XSLM" => seal::TARGET,
            b"XARM" => seal::VALUE,
            b"XFSB" => SUPERBLOCK,
            _ => match be16(bytes, 8) {
                0x3df1 | 0x3dff | 0x3ebe | 0x3bee => seal::HASHES,
                _ => return None,
            },
        };
        self.sb.is_v5().then_some(found)
    }

    fn replay_buffer(&self, buffer: &Buffer<'_>, lsn: u64) -> Result<()> {
        let (mut bytes, place) = self.buffer_bytes(buffer.sector, buffer.len)?;
        if buffer.flags & Buffer::INODES != 0 {
            return self.replay_inode_links(buffer, &mut bytes, place);
        }
        // What was written later than this has it already.
        if let Some(kind) = self.seal_of(&bytes).filter(|kind| kind.is_logged) {
            let own = fields_uuid(&bytes, kind) == self.sb.own_uuid() || kind.lsn == SUPERBLOCK.lsn;
            let written = be64(&bytes, kind.lsn);
            if own && written != 0 && written != u64::MAX && written >= lsn {
                return Ok(());
            }
        }
        for (at, part) in buffer.changes() {
            if at + part.len() > bytes.len() {
                return Err(self.device.damaged("its log changes a buffer behind its end"));
            }
            put(&mut bytes, at, part);
        }
        if buffer.flags & Buffer::QUOTAS != 0 || matches!(buffer.structure(), 1..=3) {
            if self.sb.is_v5() {
                for quota in bytes.chunks_exact_mut(QUOTA).filter(|quota| quota.starts_with(b"DQ")) {
                    seal::seal(quota, QUOTA_SEAL.checksum);
                }
            }
        } else if let Some(kind) = self.seal_of(&bytes) {
            if kind.is_logged {
                put64(&mut bytes, kind.lsn, lsn);
            }
            seal::seal(&mut bytes, kind.checksum);
        }
        self.device.write(place, &bytes)
    }

    /// Of inodes in a buffer only what leads to the next one that was removed while it was open is of the buffer itself.
    fn replay_inode_links(&self, buffer: &Buffer<'_>, bytes: &mut [u8], place: u64) -> Result<()> {
        let size = usize::from(self.sb.sb_inodesize.get());
        for (at, part) in buffer.changes() {
            for start in (0..bytes.len()).step_by(size) {
                let link = start + 96;
                if link >= at && link + 4 <= at + part.len() {
                    put(bytes, link, slice(part, link - at, 4));
                }
            }
        }
        if self.sb.is_v5() {
            for inode in bytes.chunks_exact_mut(size).filter(|inode| inode.starts_with(b"IN")) {
                seal::seal(inode, seal::INODE.checksum);
            }
        }
        self.device.write(place, bytes)
    }

    fn replay_inode(&self, item: &Item, lsn: u64, cancelled: &Cancelled) -> Result<()> {
        let wrong = || self.device.damaged("its log has an inode that cannot be");
        let head = item.region(0);
        // 32-bit systems have no gap before the number.
        let gap = if head.len() == 52 { 0 } else { 4 };
        let (fields, number) = (le32(head, 4), le64(head, 12 + gap));
        let (sector, len, offset) =
            (le64(head, 36 + gap), le32(head, 44 + gap) as usize, le32(head, 48 + gap) as usize);
        if cancelled.contains_key(&(sector, len.saturating_mul(512))) {
            return Ok(());
        }
        if fields & field::NEW_OWNER != 0 {
            return Err(self.device.unreadable("its log lets a file take over another one's map"));
        }
        let place = sector.checked_mul(512).and_then(|place| place.checked_add(offset as u64)).ok_or_else(wrong)?;
        let mut bytes = vec![0; usize::from(self.sb.sb_inodesize.get())];
        self.device.read(place, &mut bytes)?;
        let core = item.region(1);
        if !bytes.starts_with(b"IN") || le16(core, 0) != 0x494e || place != self.inode_place(number)? {
            return Err(wrong());
        }
        let mut inode = Inode { number, bytes };
        let written = be64(&inode.bytes, 112);
        if inode.version() == 3 && written != 0 && written != u64::MAX && written > lsn {
            return Ok(());
        }
        if inode.version() < 3 {
            let (there, logged) = (be16(&inode.bytes, 30), le16(core, 30));
            if logged < there && !(there == u16::MAX - 1 && logged < (u16::MAX - 1) >> 1) {
                return Ok(());
            }
        }
        put_core(&mut inode.bytes, core, lsn);
        if inode.head() + inode.fork_offset() > inode.bytes.len() {
            return Err(wrong());
        }
        if fields & field::DEVICE != 0 {
            let device = le32(head, 20 + gap);
            inode.set_fork(Fork::Data, &device.to_be_bytes());
        }
        let mut region = 2;
        for (fork, any, root) in
            [(Fork::Data, field::DATA, field::DATA_ROOT), (Fork::Attributes, field::ATTRIBUTES, field::ATTRIBUTE_ROOT)]
        {
            if fields & any == 0 {
                continue;
            }
            let logged = item.region(region);
            region += 1;
            let room = inode.fork(fork).to_vec();
            let bytes = if fields & root == 0 {
                // What does not reach the fork's end stays, as in the kernel.
                let mut whole = room.clone();
                put(&mut whole, 0, slice(logged, 0, room.len()));
                whole
            } else {
                self.disk_root(logged, room.len()).ok_or_else(wrong)?
            };
            inode.set_fork(fork, &bytes);
        }
        if self.sb.is_v5() {
            seal::seal(&mut inode.bytes, seal::INODE.checksum);
        }
        self.device.write(place, &inode.bytes)
    }

    /// The root of a map as an inode keeps it, out of one as it is in memory.
    fn disk_root(&self, logged: &[u8], room: usize) -> Option<Vec<u8>> {
        let head = if self.sb.is_v5() { 72 } else { 24 };
        let (level, count) = (be16(logged, 4), usize::from(be16(logged, 6)));
        let (most, fits) = (logged.len().checked_sub(head)? / 16, room.checked_sub(4)? / 16);
        if count > most || count > fits {
            return None;
        }
        let mut root = vec![0; room];
        put16(&mut root, 0, level);
        put16(&mut root, 2, u16::try_from(count).ok()?);
        put(&mut root, 4, slice(logged, head, count * 8));
        put(&mut root, 4 + fits * 8, slice(logged, head + most * 8, count * 8));
        Some(root)
    }

    fn replay_new_inodes(&self, item: &Item, cancelled: &Cancelled) -> Result<()> {
        let head = item.region(0);
        let [group, block, count, size, len, generation] = [4, 8, 12, 16, 20, 24].map(|at| be32(head, at));
        let per_block = u32::from(self.sb.sb_inopblock.get());
        if size != u32::from(self.sb.sb_inodesize.get()) || count != len.saturating_mul(per_block) || count > 4096 {
            return Err(self.device.damaged("its log makes inodes of another size"));
        }
        self.check_group_block(group, block, len)?;
        // Where some of the blocks were given up, all of them were.
        let first = self.sb.group_byte(group, block);
        let end = self.sb.group_byte(group, block + len);
        if cancelled.keys().any(|(sector, _)| (first..end).contains(&(sector.saturating_mul(512)))) {
            return Ok(());
        }
        for index in 0..count {
            let inner = block * per_block + index;
            let number = u64::from(group) << self.sb.group_inode_bits() | u64::from(inner);
            let mut inode = self.empty_inode(number, generation);
            // As written before all that follows.
            let place = self.inode_place(number)?;
            if self.sb.is_v5() {
                put(&mut inode.bytes, seal::INODE.uuid, &self.sb.own_uuid());
                seal::seal(&mut inode.bytes, seal::INODE.checksum);
            }
            self.device.write(place, &inode.bytes)?;
        }
        Ok(())
    }

    fn replay_quota(&self, item: &Item, lsn: u64, cancelled: &Cancelled) -> Result<()> {
        let head = item.region(0);
        let (sector, len, offset) = (le64(head, 8), le32(head, 16) as usize, le32(head, 20) as usize);
        let len = len.saturating_mul(self.sb.sb_blocksize.get() as usize);
        if cancelled.contains_key(&(sector, len)) || item.regions.len() < 2 {
            return Ok(());
        }
        let place = sector.checked_mul(512).and_then(|place| place.checked_add(offset as u64));
        let place = place.ok_or_else(|| self.device.damaged("its log names a quota that cannot be"))?;
        let mut bytes = vec![0; QUOTA];
        self.device.read(place, &mut bytes)?;
        let written = be64(&bytes, QUOTA_SEAL.lsn);
        if self.sb.is_v5() && written != 0 && written != u64::MAX && written >= lsn {
            return Ok(());
        }
        put(&mut bytes, 0, slice(item.region(1), 0, 104));
        if self.sb.is_v5() {
            put64(&mut bytes, QUOTA_SEAL.lsn, lsn);
            put(&mut bytes, QUOTA_SEAL.uuid, &self.sb.own_uuid());
            seal::seal(&mut bytes, QUOTA_SEAL.checksum);
        }
        self.device.write(place, &bytes)
    }
}

fn fields_uuid(bytes: &[u8], kind: Seal) -> &[u8] {
    slice(bytes, kind.uuid, 16)
}

/// Puts what an item says of an inode into its bytes: the same fields, in the byte order of the disk.
fn put_core(bytes: &mut [u8], core: &[u8], lsn: u64) {
    for at in [0, 2, 20, 22, 88, 90] {
        put16(bytes, at, le16(core, at));
    }
    put(bytes, 4, slice(core, 4, 2));
    put16(bytes, 6, 0);
    for at in [8, 12, 16, 72, 84, 92] {
        put32(bytes, at, le32(core, at));
    }
    for at in [56, 64] {
        put64(bytes, at, le64(core, at));
    }
    put(bytes, 82, slice(core, 82, 2));
    let is_v3 = byte(core, 4) == 3;
    let flags = if is_v3 { le64(core, 120) } else { 0 };
    let mut time = |at: usize| {
        if flags & flags2::BIGTIME != 0 {
            put64(bytes, at, le64(core, at));
        } else {
            put32(bytes, at, le32(core, at));
            put32(bytes, at + 4, le32(core, at + 4));
        }
    };
    [32, 40, 48].into_iter().for_each(&mut time);
    if is_v3 {
        time(144);
    }
    if is_v3 {
        for at in [104, 120] {
            put64(bytes, at, le64(core, at));
        }
        put32(bytes, 128, le32(core, 128));
        put(bytes, 132, &[0; 12]);
        put64(bytes, 112, lsn);
        put64(bytes, 152, le64(core, 152));
        put(bytes, 160, slice(core, 160, 16));
    } else {
        put16(bytes, 30, 0);
    }
    if flags & flags2::NREXT64 != 0 {
        put64(bytes, 24, le64(core, 24));
        put32(bytes, 76, le32(core, 76));
        put16(bytes, 80, 0);
    } else {
        if is_v3 {
            put64(bytes, 24, 0);
        }
        put32(bytes, 76, le32(core, 76));
        put16(bytes, 80, le16(core, 80));
    }
}
