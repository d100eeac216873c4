//! Folders that lie in their inode.

use super::{Entry, data};
use crate::{
    error::Result,
    fs::xfs::{
        Xfs,
        fields::{be32, be64, byte, low8, low16, put, slice},
        inode::{Fork, Inode},
    },
};

impl Xfs {
    /// The folder above, and the entries.
    pub(super) fn short_entries(&self, folder: &Inode) -> Result<(u64, Vec<Entry>)> {
        let wrong = |what: &str| self.device.damaged(format!("the folder in inode {} {what}", folder.number));
        let fork = folder.fork(Fork::Data);
        let size = reformis_disk::to_usize(folder.size());
        if size > fork.len() || size < 6 {
            return Err(wrong("is longer than its inode, or too short"));
        }
        let bytes = slice(fork, 0, size);
        let (count, wide) = (byte(bytes, 0), byte(bytes, 1) > 0);
        let number = |at: usize| if wide { be64(bytes, at) } else { be32(bytes, at).into() };
        let width = if wide { 8 } else { 4 };
        let has_kinds = self.sb.has_kinds();
        let mut entries = Vec::new();
        let mut at = 2 + width;
        for _ in 0..count {
            let name = usize::from(byte(bytes, at));
            let kind = at + 3 + name;
            let inode = kind + usize::from(has_kinds);
            if name == 0 || inode + width > bytes.len() {
                return Err(wrong("has an entry that cannot be"));
            }
            let kind = if has_kinds { byte(bytes, kind) } else { 0 };
            entries.push(Entry { name: slice(bytes, at + 3, name).into(), inode: number(inode), kind });
            at = inode + width;
        }
        Ok((number(2), entries))
    }

    /// The bytes of a folder in its inode; `None` where they would not fit its fork, or not one block, which it has to be able
    /// to become.
    pub(super) fn short_bytes(&self, above: u64, entries: &[Entry], room: usize) -> Option<Vec<u8>> {
        let wide =
            entries.iter().map(|entry| entry.inode).chain([above]).filter(|inode| *inode > u32::MAX.into()).count();
        let has_kinds = self.sb.has_kinds();
        let number = |inode: u64| inode.to_be_bytes().into_iter().skip(if wide > 0 { 0 } else { 4 });
        let count = u8::try_from(entries.len()).ok()?;
        let mut bytes = vec![count, low8(wide)];
        bytes.extend(number(above));
        // Where each would lie in a block, behind `.` and `..`.
        let mut place =
            data::head(self.sb.is_v5()) + data::size_of_entry(1, has_kinds) + data::size_of_entry(2, has_kinds);
        for entry in entries {
            bytes.push(low8(entry.name.len()));
            bytes.extend(low16(place).to_be_bytes());
            bytes.extend(&entry.name);
            if has_kinds {
                bytes.push(entry.kind);
            }
            bytes.extend(number(entry.inode));
            place += data::size_of_entry(entry.name.len(), has_kinds);
        }
        let as_block = place + (entries.len() + 2) * 8 + 8;
        (bytes.len() <= room && as_block <= self.sb.folder_block()).then_some(bytes)
    }

    /// Lays a folder's bytes down in its inode.
    pub(super) fn lay_short(&self, folder: &mut Inode, bytes: &[u8]) {
        folder.set_format(Fork::Data, crate::fs::xfs::inode::Format::Local);
        folder.set_size(bytes.len() as u64);
        folder.set_runs(Fork::Data, 0);
        let mut fork = vec![0; folder.fork(Fork::Data).len()];
        put(&mut fork, 0, bytes);
        folder.set_fork(Fork::Data, &fork);
    }
}
