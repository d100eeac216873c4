//! XFS, versions 4 and 5, read and written. Structures and their names are those of the file system's own documentation, "XFS
//! Algorithms & Data Structures".

mod attributes;
mod change;
mod fields;
mod files;
mod folder;
mod group;
mod grow;
mod hashes;
mod inode;
mod inodes;
mod links;
mod log;
mod map;
mod owner;
mod reverse;
mod seal;
mod shared;
mod space;
mod superblock;
mod tree;
pub(crate) mod volume;

use std::collections::BTreeMap;

use group::Group;
use superblock::{Superblock, incompat, ro_compat};

use crate::{bench::Device, error::Result};

/// A file system.
pub(crate) struct Xfs {
    device: Device,
    sb: Superblock,
    /// When what we write was written, in the log's own time: right after what the log ends with.
    lsn: u64,
    /// Its log is on another device, and nobody can tell what it holds.
    log_is_elsewhere: bool,
    /// Heads of groups that a change is about.
    groups: BTreeMap<u32, Group>,
    /// The time that changes are made at, in seconds since 1970.
    now: i64,
}

impl Xfs {
    /// Opens the file system on `device`, as it is. Changes are made at `now`, in seconds since 1970.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] and [`crate::Error::Unsupported`].
    pub(crate) fn open(device: Device, now: i64) -> Result<Self> {
        let sb = Superblock::read(&device)?;
        Ok(Self { lsn: sb.sb_lsn.get(), device, sb, log_is_elsewhere: false, groups: BTreeMap::new(), now })
    }

    /// Reads again what is kept in memory, after the device below was changed by others.
    fn read_again(&mut self) -> Result<()> {
        self.groups.clear();
        self.sb = Superblock::read(&self.device)?;
        Ok(())
    }

    fn uuid(&self) -> uuid::Uuid {
        uuid::Uuid::from_bytes(self.sb.sb_uuid)
    }

    /// Its label; empty when it has none.
    fn label(&self) -> String {
        let name = self.sb.sb_fname.split(|byte| *byte == 0).next().unwrap_or_default();
        String::from_utf8_lossy(name).into()
    }

    /// Refuses what we could not keep right.
    fn check_changeable(&self) -> Result<()> {
        let ro = self.sb.sb_features_ro_compat.get() & !ro_compat::KEPT;
        let other = self.sb.sb_features_incompat.get() & !incompat::KEPT;
        let reason = if self.sb.has_incompat(incompat::NEEDS_REPAIR) {
            "it is marked as one that has to be repaired".to_string()
        } else if self.sb.has_incompat(incompat::PARENTS) {
            "its files know their folders".to_string()
        } else if self.sb.is_v5() && (ro | other) != 0 {
            format!("it uses the features {:#x} and {ro:#x}", other)
        } else if self.log_is_elsewhere {
            "its log lies on another device".to_string()
        } else if self.sb.sb_inprogress != 0 {
            "it was not made to its end".to_string()
        } else {
            return Ok(());
        };
        Err(self.device.unchangeable(reason))
    }

    /// Begins a change: another view of the same volume may have changed it since.
    fn begin_change(&mut self) -> Result<()> {
        self.read_again()?;
        self.check_changeable()?;
        self.check_names()
    }
}
