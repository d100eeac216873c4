//! File systems: what all of them offer, each of them, and the tree that a guest makes of them.
//!
//! A file system is asked by **nodes**: a file or a folder is found once, by name in its folder, and read or changed by its node
//! from then on. A path means something to a [`tree::Tree`] alone, which knows what is mounted where.

pub(crate) mod acl;
pub(crate) mod btrfs;
pub(crate) mod efi;
pub(crate) mod ext;
pub(crate) mod fat;
pub(crate) mod node;
pub(crate) mod ntfs;
pub(crate) mod registry;
mod runs;
pub(crate) mod tree;
pub(crate) mod xfs;

use std::{
    iter,
    ops::{ControlFlow, Range},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use reformis_disk::{budget::Budget, to_usize};

use crate::error::{Error, Result};
use node::{Attribute, Entry, Facts, Meta, New, Node, Owner, Stat, Stream};

/// Which of the trees of a volume is meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Subvolume {
    /// The one of this number; 0 is the first one.
    Number(u64),
    /// The one at this path, from the first one on.
    Path(Vec<u8>),
}

/// A file system that can be read. What only some have (extended attributes, streams, subvolumes) is a method that gives nothing for the
/// others.
pub(crate) trait FileSystem: Send {
    /// What it is.
    ///
    /// # Errors
    /// Those of reading.
    fn facts(&self) -> Result<Facts>;

    /// Free bytes.
    ///
    /// # Errors
    /// Those of reading.
    fn free(&self) -> Result<u64>;

    /// Memory for what is collected from it.
    fn budget(&self) -> &Arc<Budget>;

    /// Its first folder.
    fn root(&self) -> Node;

    /// The first folder of a subvolume; `None` where there is no such one.
    ///
    /// # Errors
    /// Those of reading.
    fn subvolume(&self, _: &Subvolume) -> Result<Option<Node>> {
        Ok(None)
    }

    /// The paths of all subvolumes, from the first one on.
    ///
    /// # Errors
    /// Those of reading.
    fn subvolumes(&self) -> Result<Vec<Vec<u8>>> {
        Ok(Vec::new())
    }

    /// What is called `name` in a folder, by the file system's own rules for letters' case, with its name as it is stored;
    /// `None` when there is nothing.
    ///
    /// # Errors
    /// [`Error::WrongKind`] for what is no folder; those of reading.
    fn lookup(&self, folder: Node, name: &[u8]) -> Result<Option<Entry>>;

    /// Calls `visit` with each entry of a folder, in the order in which they lie, until it breaks; `.` and `..` are none.
    ///
    /// # Errors
    /// [`Error::WrongKind`] for what is no folder; those of reading and of `visit`.
    fn read_dir(&self, folder: Node, visit: &mut dyn FnMut(Entry) -> Result<ControlFlow<()>>) -> Result<()>;

    /// What is known of a node.
    ///
    /// # Errors
    /// Those of reading.
    fn stat(&self, node: Node) -> Result<Stat>;

    /// Fills `buf` from `offset` of a file, as far as it goes; the number of bytes.
    ///
    /// # Errors
    /// Those of reading.
    fn read_at(&self, node: Node, offset: u64, buf: &mut [u8]) -> Result<usize>;

    /// All bytes of a file of at most `most`.
    ///
    /// # Errors
    /// [`Error::TooLarge`]; those of reading.
    fn content(&self, node: Node, most: u64) -> Result<Vec<u8>> {
        let size = self.stat(node)?.size;
        if size > most {
            return Err(Error::TooLarge { path: String::new(), size, most });
        }
        let mut bytes = vec![0; to_usize(size)];
        let len = self.read_at(node, 0, &mut bytes)?;
        bytes.truncate(len);
        Ok(bytes)
    }

    /// The ranges of bytes of a file that are stored, in order; all between them reads as zero.
    ///
    /// # Errors
    /// Those of reading.
    fn stored(&self, node: Node) -> Result<Vec<Range<u64>>> {
        Ok(iter::once(0..self.stat(node)?.size).collect())
    }

    /// Where a symbolic link leads.
    ///
    /// # Errors
    /// [`Error::WrongKind`] for what is none; those of reading.
    fn link_target(&self, node: Node) -> Result<Vec<u8>>;

    /// Extended attributes.
    ///
    /// # Errors
    /// Those of reading.
    fn attributes(&self, _: Node) -> Result<Vec<Attribute>> {
        Ok(Vec::new())
    }

    /// Streams beside a file's bytes. Each is found in the file's folder as `name:stream`, and is read and changed as a file.
    ///
    /// # Errors
    /// Those of reading.
    fn streams(&self, _: Node) -> Result<Vec<Stream>> {
        Ok(Vec::new())
    }

    /// Refuses, with a reason, where changes could not be kept right.
    ///
    /// # Errors
    /// [`Error::Unsupported`].
    fn check_writable(&self) -> Result<()>;
}

/// A file system that can be changed. A change that fails may be half made: its edit has to be taken back then, and the file
/// system reloaded.
pub(crate) trait FileSystemMut: FileSystem {
    /// Makes something called `name` in a folder.
    ///
    /// # Errors
    /// [`Error::Exists`]; [`Error::NoRoom`]; those of the file system.
    fn create(&mut self, folder: Node, name: &[u8], new: &New<'_>, owner: &Owner) -> Result<Node>;

    /// Writes `bytes` at `offset` of a file; a gap before them is zero.
    ///
    /// # Errors
    /// [`Error::NoRoom`]; those of the file system.
    fn write_at(&mut self, node: Node, offset: u64, bytes: &[u8]) -> Result<()>;

    /// Lets a file have `size` bytes: cut off, or filled up with zeros.
    ///
    /// # Errors
    /// [`Error::NoRoom`]; those of the file system.
    fn truncate(&mut self, node: Node, size: u64) -> Result<()>;

    /// Replaces all bytes of a file.
    ///
    /// # Errors
    /// [`Error::NoRoom`]; those of the file system.
    fn replace(&mut self, node: Node, bytes: &[u8]) -> Result<()> {
        self.truncate(node, 0)?;
        self.write_at(node, 0, bytes)
    }

    /// Gives what is called `name` in `from` the name `new` in the folder `to`; its node there.
    ///
    /// # Errors
    /// [`Error::NotFound`]; [`Error::Exists`]; [`Error::WrongKind`] for a folder that would lie in itself.
    fn rename(&mut self, from: Node, name: &[u8], to: Node, new: &[u8]) -> Result<Node>;

    /// Removes `name` from a folder: a file, a link, or a folder with nothing in it.
    ///
    /// # Errors
    /// [`Error::NotFound`]; [`Error::WrongKind`] for a folder that holds something.
    fn unlink(&mut self, folder: Node, name: &[u8]) -> Result<()>;

    /// Sets owner, permissions and times, as far as the file system has them.
    ///
    /// # Errors
    /// Those of the file system.
    fn set_meta(&mut self, node: Node, meta: &Meta) -> Result<()>;

    /// Lets something that is there have these extended attributes, and no others.
    ///
    /// # Errors
    /// [`Error::NoRoom`]; [`Error::Unsupported`] where there are none.
    fn set_attributes(&mut self, node: Node, attributes: &[Attribute]) -> Result<()>;

    /// Reads again what is kept in memory, after an edit was taken back.
    ///
    /// # Errors
    /// Those of reading.
    fn reload(&mut self) -> Result<()>;
}

/// A file system that several trees may have mounted.
#[derive(Clone)]
pub(crate) struct Shared(Arc<Mutex<Box<dyn FileSystemMut>>>);

impl Shared {
    /// The only instance for its volume.
    pub(crate) fn new(fs: impl FileSystemMut + 'static) -> Self {
        Self(Arc::new(Mutex::new(Box::new(fs))))
    }

    /// What tells it from the others.
    pub(crate) fn identity(&self) -> usize {
        Arc::as_ptr(&self.0).addr()
    }

    /// The file system, for one question or one change.
    pub(crate) fn lock(&self) -> MutexGuard<'_, Box<dyn FileSystemMut>> {
        // A panic elsewhere leaves the bytes as they are, and its edit is taken back.
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
