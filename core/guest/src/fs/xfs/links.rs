//! Symbolic links (section "Symbolic Links"): a target in the inode, or in blocks of its own. With checksums each run of blocks begins with a head,
//! whatever blocks it has (Linux, `fs/xfs/xfs_symlink.c`); as many blocks are taken as if each had one.

use reformis_disk::to_usize;

use super::{
    Xfs,
    fields::{be32, low32, put, put32, slice},
    inode::{Fork, Format, Inode, mode},
    map::Map,
    seal,
};
use crate::error::{Error, Result};

/// The longest target.
const MAX_TARGET: u64 = 1023;
/// Bytes before a part of a target in a block of its own.
const HEAD: usize = 56;

impl Xfs {
    /// Where a symbolic link leads.
    pub(super) fn target_of(&self, inode: &Inode) -> Result<Vec<u8>> {
        if !inode.is(mode::LINK) {
            return Err(Error::WrongKind { path: format!("inode {}", inode.number), wanted: "link" });
        }
        let wrong = |what: &str| self.device.damaged(format!("the link in inode {} {what}", inode.number));
        if inode.size() > MAX_TARGET {
            return Err(wrong("is longer than a link can be"));
        }
        let size = to_usize(inode.size());
        if inode.format(Fork::Data) == Some(Format::Local) {
            let target = slice(inode.fork(Fork::Data), 0, size);
            return if target.len() == size { Ok(target.to_vec()) } else { Err(wrong("is longer than its inode")) };
        }
        let map = self.map(inode, Fork::Data)?;
        let mut target = Vec::with_capacity(size);
        // A target needs no more than a few blocks, whatever a stranger's map says.
        let mut left = self.target_blocks(size);
        for run in &map.runs {
            let len = run.len.min(left);
            if len == 0 {
                break;
            }
            left -= len;
            let place = self.block_byte(run.physical);
            let mut bytes = vec![0; to_usize(len * self.sb.block())];
            self.device.read(place, &mut bytes)?;
            if !self.sb.is_v5() {
                target.extend(slice(&bytes, 0, (size - target.len()).min(bytes.len())));
                continue;
            }
            self.check_seal(&bytes, seal::TARGET, place, inode.number, "a block of a link")?;
            let (offset, len) = (be32(&bytes, 4) as usize, be32(&bytes, 8) as usize);
            if !bytes.starts_with(b"XSLM") || offset != target.len() || len == 0 || len > bytes.len() - HEAD {
                return Err(wrong("leads to a block that is no part of it"));
            }
            target.extend(slice(&bytes, HEAD, len.min(size - target.len())));
        }
        if target.len() == size { Ok(target) } else { Err(wrong("is shorter than it says")) }
    }

    /// Blocks that the kernel takes for a target of `size` bytes.
    fn target_blocks(&self, size: usize) -> u64 {
        let room = to_usize(self.sb.block()) - if self.sb.is_v5() { HEAD } else { 0 };
        size.div_ceil(room) as u64
    }

    /// Lets a new inode be a link to `target`.
    ///
    /// # Errors
    /// [`Error::NoRoom`]; [`Error::Unsupported`] for a target that is too long.
    pub(super) fn lay_target(&mut self, inode: &mut Inode, target: &[u8]) -> Result<()> {
        if target.is_empty() || target.len() as u64 > MAX_TARGET {
            return Err(self.device.unchangeable("a link leads to between 1 and 1023 bytes"));
        }
        inode.set_size(target.len() as u64);
        if target.len() <= inode.fork(Fork::Data).len() {
            inode.set_format(Fork::Data, Format::Local);
            inode.set_fork(Fork::Data, target);
            return Ok(());
        }
        let block = to_usize(self.sb.block());
        let mut map = Map::default();
        if self.sb.is_v5() {
            self.fill_hole(inode, Fork::Data, &mut map, 0, self.target_blocks(target.len()))?;
            let mut done = 0;
            for run in map.runs.clone() {
                let mut bytes = vec![0; to_usize(run.len) * block];
                let part = slice(target, done, (target.len() - done).min(bytes.len() - HEAD));
                put(&mut bytes, 0, b"XSLM");
                put32(&mut bytes, 4, low32(done as u64));
                put32(&mut bytes, 8, low32(part.len() as u64));
                put(&mut bytes, HEAD, part);
                done += part.len();
                let place = self.block_byte(run.physical);
                self.write_sealed(&mut bytes, seal::TARGET, place, inode.number)?;
            }
        } else {
            self.lay_bytes(inode, Fork::Data, &mut map, 0, target)?;
        }
        self.lay_map(inode, Fork::Data, map)
    }
}
