//! Where a disk is stored: a file, a block device, memory, or several pieces in a row.

mod access;
mod file;
mod holes;
mod identity;
mod links;
mod memory;
mod pieces;

use crate::to_usize;
use std::sync::Arc;

pub use access::Access;
pub use file::FileStorage;
pub use identity::{Identity, Stamp, Version};
pub use links::{Links, check_relative_name, check_within, open_link, open_within};
pub use memory::MemoryStorage;
pub use pieces::Pieces;

use crate::{
    budget::{Budget, Held, Hold},
    disk::Extent,
    error::{Error, Result},
};

/// Bytes as they lie in a file, before any format is considered. Reading never changes them.
pub trait Storage: Send + Sync {
    /// The file as the person would name it; a member of an archive continues the archive's path.
    fn name(&self) -> &str;

    /// Length in bytes.
    fn len(&self) -> u64;

    /// Whether there is nothing.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Bytes that the file takes on its file system: less than the length where it has holes.
    fn allocated(&self) -> u64 {
        self.len()
    }

    /// Whether they come over a network: they are read once, and what can be left unread is.
    fn is_far(&self) -> bool {
        false
    }

    /// Whether they are what a guest sees, whatever they begin with: those of a network block device.
    fn is_raw(&self) -> bool {
        false
    }

    /// Fills `buf` from `offset`.
    ///
    /// # Errors
    /// [`Error::CutShort`] when the range ends after [`Storage::len`].
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()>;

    /// The run at `offset` (less than [`Storage::len`]) that is a hole of the file system, or not.
    fn extent_at(&self, offset: u64) -> Result<Extent>;

    /// Fails with [`Error::Changed`] when a file below was written since it was opened.
    fn check_unchanged(&self) -> Result<()>;

    /// What told the bytes apart from others when they were opened; of several files, the first. `None` for memory.
    fn identity(&self) -> Option<&Identity>;

    /// Whether every write from now on would make another version of them, the one that was there when they were opened: only then can
    /// bytes be left unread because their version is still the same.
    fn is_at_rest(&self) -> bool {
        false
    }

    /// The memory that what is collected from these bytes is counted against.
    fn budget(&self) -> &Arc<Budget>;

    /// Opens what this file calls `name`: a file in its folder, or a member of the same archive.
    ///
    /// # Errors
    /// [`Error::UnsafeName`] when `links` does not allow where it leads; what the system says when it is not there.
    fn sibling(&self, name: &str, _links: Links) -> Result<Arc<dyn Storage>> {
        Err(Error::NoMember { archive: self.name().into(), member: name.into() })
    }

    /// Names of the plain files beside this one, for [`Storage::sibling`].
    ///
    /// # Errors
    /// What the system says.
    fn neighbours(&self) -> Result<Vec<String>> {
        Ok(Vec::new())
    }
}

/// The most files that are looked at beside one.
pub(crate) const MAX_NEIGHBOURS: usize = 4096;

/// Memory for `bytes` bytes of `what`, a structure that `storage` has.
pub(crate) fn hold(storage: &dyn Storage, bytes: u64, what: &str) -> Result<Hold> {
    storage.budget().take(bytes).map_err(Error::memory(storage.name(), what))
}

/// Reads `len` bytes at `offset`; `what` names the structure in the error.
pub fn read_vec(storage: &dyn Storage, offset: u64, len: usize, what: &str) -> Result<Held<Vec<u8>>> {
    require(storage, offset, len as u64, what)?;
    let hold = hold(storage, len as u64, what)?;
    let mut buf = vec![0; len];
    storage.read_at(offset, &mut buf)?;
    Ok(hold.of(buf))
}

/// Reads a table of `count` entries of `N` bytes; what is read takes no more memory than the table, and little beside it.
#[expect(clippy::indexing_slicing, reason = "a part is never longer than the piece")]
pub(crate) fn read_entries<const N: usize, T>(
    storage: &dyn Storage,
    offset: u64,
    count: u64,
    what: &str,
    decode: fn([u8; N]) -> T,
) -> Result<Held<Vec<T>>> {
    let len = count.saturating_mul(N as u64);
    require(storage, offset, len, what)?;
    let hold = hold(storage, count.saturating_mul(size_of::<T>() as u64), what)?;
    let mut entries = Vec::with_capacity(to_usize(count));
    let mut piece = vec![0; len.min(64 << 10) as usize];
    let mut done = 0;
    while done < len {
        let part = to_usize((len - done).min(piece.len() as u64));
        storage.read_at(offset + done, &mut piece[..part])?;
        let (whole, _) = piece[..part].as_chunks::<N>();
        entries.extend(whole.iter().map(|bytes| decode(*bytes)));
        done += part as u64;
    }
    Ok(hold.of(entries))
}

/// Fails with [`Error::CutShort`] when `what` does not lie inside the storage.
pub(crate) fn require(storage: &dyn Storage, offset: u64, len: u64, what: &str) -> Result<()> {
    match offset.checked_add(len) {
        Some(end) if end <= storage.len() => Ok(()),
        _ => Err(Error::CutShort {
            path: storage.name().into(),
            what: what.into(),
            start: offset,
            end: offset.saturating_add(len),
            len: storage.len(),
        }),
    }
}
