//! ext2, ext3 and ext4, read and written. Structures and their names are those of the Linux kernel's documentation, "ext4
//! Data Structures and Algorithms".

mod allocate;
mod attributes;
mod bytes;
mod checksum;
mod files;
mod folder;
mod group;
mod hash;
mod index;
mod inode;
mod journal;
mod map;
mod orphans;
mod superblock;
pub(crate) mod volume;

use superblock::{Superblock, compat, incompat, ro_compat};

use crate::{
    bench::Device,
    error::{Error, Result},
};

pub(crate) use inode::{Inode, ROOT};

/// A file system.
pub(crate) struct Ext {
    device: Device,
    sb: Superblock,
    /// What every checksum of metadata starts from.
    seed: u32,
    /// Bytes of a block.
    block: usize,
    /// The time that changes are made at, in seconds since 1970.
    now: i64,
}

/// Whether a file system was left in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum State {
    /// It was.
    Clean,
    /// Its journal is to be replayed first.
    Journal,
    /// It has no journal and was in use, or it noted errors.
    Unchecked,
}

impl Ext {
    /// Opens the file system on `device`, as it is. Changes are made at `now`, in seconds since 1970.
    ///
    /// # Errors
    /// [`Error::Damaged`] and [`Error::Unsupported`].
    pub(crate) fn open(device: Device, now: i64) -> Result<Self> {
        let sb = Superblock::read(&device)?;
        let (seed, block) = (sb.checksum_seed(), sb.block_size());
        Ok(Self { device, sb, seed, block, now })
    }

    /// Reads again what is kept in memory, after the device below was changed by others.
    pub(super) fn read_again(&mut self) -> Result<()> {
        *self = Self::open(self.device.clone(), self.now)?;
        Ok(())
    }

    /// Its UUID.
    pub(crate) fn uuid(&self) -> uuid::Uuid {
        uuid::Uuid::from_bytes(self.sb.s_uuid)
    }

    /// Its label; empty when it has none.
    #[expect(clippy::indexing_slicing, reason = "the end was found in these bytes")]
    pub(crate) fn label(&self) -> String {
        let end = self.sb.s_volume_name.iter().position(|byte| *byte == 0).unwrap_or(16);
        String::from_utf8_lossy(&self.sb.s_volume_name[..end]).into()
    }

    pub(crate) fn state(&self) -> State {
        if self.sb.has_incompat(incompat::RECOVER) {
            State::Journal
        } else if self.sb.s_state.get() & 1 == 0 || self.sb.s_state.get() & 2 != 0 {
            State::Unchecked
        } else {
            State::Clean
        }
    }

    /// Free bytes.
    pub(super) fn free_bytes(&self) -> u64 {
        self.sb.free_blocks().saturating_mul(self.block as u64)
    }

    /// Refuses what we could not keep right.
    pub(super) fn check_changeable(&self) -> Result<()> {
        self.check_features()?;
        match self.state() {
            State::Clean => Ok(()),
            State::Journal => Err(self.device.unchangeable("its journal has not been replayed")),
            State::Unchecked => {
                Err(self.device.unchangeable("it was not unmounted, or it noted errors: it has to be checked first"))
            }
        }
    }

    /// Refuses features whose counts we could not keep right.
    pub(crate) fn check_features(&self) -> Result<()> {
        let unknown = self.sb.s_feature_ro_compat.get() & !ro_compat::KEPT;
        let reason = match unknown {
            0 => return Ok(()),
            0x1000 => "it is marked as read-only".to_string(),
            bits if bits & 0x100 != 0 => "it keeps quotas".to_string(),
            bits if bits & ro_compat::BIGALLOC != 0 => "it allocates in clusters".to_string(),
            bits => format!("it uses the features {bits:#x}"),
        };
        Err(self.device.unchangeable(reason))
    }

    /// Begins a change: another view of the same volume may have changed its counts since they were read.
    fn begin_change(&mut self) -> Result<()> {
        self.read_again()?;
        self.check_changeable()
    }

    fn has_group_checksums(&self) -> bool {
        self.sb.has_ro(ro_compat::METADATA_CSUM | ro_compat::GDT_CSUM)
    }

    /// Refuses a run of blocks that the file system does not have.
    fn check_blocks(&self, first: u64, len: u64, what: &str) -> Result<()> {
        let low = u64::from(self.sb.s_first_data_block.get());
        if first < low || first.checked_add(len).is_none_or(|end| end > self.sb.blocks()) {
            let blocks = self.sb.blocks();
            let text = format!("{what} names blocks {first} and {len} more, and there are {blocks}");
            return Err(self.device.damaged(text));
        }
        Ok(())
    }

    fn read_block(&self, block: u64) -> Result<Vec<u8>> {
        self.check_blocks(block, 1, "a table")?;
        let mut bytes = vec![0; self.block];
        self.device.read(block * self.block as u64, &mut bytes)?;
        Ok(bytes)
    }

    fn write_block(&self, block: u64, bytes: &[u8]) -> Result<()> {
        self.check_blocks(block, 1, "a table")?;
        self.device.write(block * self.block as u64, bytes)
    }

    /// Writes the superblock; its copies are left as they are, as the kernel does it.
    fn flush(&mut self) -> Result<()> {
        let bytes = self.sb.sealed();
        self.device.write(superblock::OFFSET, &bytes)
    }

    fn has_journal(&self) -> bool {
        self.sb.has_compat(compat::HAS_JOURNAL)
    }

    fn too_large(number: u32, size: u64, most: u64) -> Error {
        Error::TooLarge { path: format!("inode {number}"), size, most }
    }
}
