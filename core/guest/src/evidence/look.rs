//! What a firmware would find on a disk, and what kind of system lies there.

use std::sync::Arc;

use reformis_disk::{Disk, Result, budget::Budget};
use serde::Serialize;

use crate::{
    bench::{Bench, Device},
    fs::{efi, registry},
    volume::{
        probe::{self, Volume},
        {
            partition::{Partition, Role},
            table::{self, Table},
        },
    },
};

/// Bytes of the master boot record that are code.
pub(crate) const BOOT_CODE: usize = 440;

/// A family of systems, by the file systems that it boots from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Family {
    /// Linux.
    Linux,
    /// The NT family.
    Nt,
    /// The BSD family.
    Bsd,
}

/// What was seen on a disk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Look {
    /// Its partition table.
    pub table: Option<Table>,
    /// Its partitions, each with what lies in it.
    pub partitions: Vec<(Partition, Option<Volume>)>,
    /// What lies on the whole disk, where there is no partition table.
    pub whole: Option<Volume>,
    /// Whether its first sector holds code that a BIOS would run.
    pub boot_code: bool,
    /// Loaders on its EFI system partitions, as paths with `/`.
    pub loaders: Vec<String>,
}

/// Looks at `disk`.
///
/// # Errors
/// Those of reading.
pub fn look(disk: &Arc<dyn Disk>, budget: &Arc<Budget>) -> Result<Look> {
    let (table, found) = match table::read(disk.as_ref())? {
        Some((table, found)) => (Some(table), found),
        None => (None, Vec::new()),
    };
    let whole = if table.is_none() { probe::probe(disk.as_ref(), 0, disk.size())? } else { None };
    let mut look = Look { table, partitions: Vec::new(), whole, boot_code: false, loaders: Vec::new() };
    if table.is_some() {
        let mut code = [0; BOOT_CODE];
        disk.read_at(0, &mut code)?;
        look.boot_code = code.iter().any(|&byte| byte != 0);
    }
    for partition in found {
        let volume = probe::probe(disk.as_ref(), partition.start, partition.size)?;
        if partition.role == Role::Esp && volume == Some(Volume::Fat) {
            look.loaders.extend(loaders(disk, &partition, budget));
        }
        look.partitions.push((partition, volume));
    }
    Ok(look)
}

/// The loaders on an EFI system partition; none on one that cannot be read.
fn loaders(disk: &Arc<dyn Disk>, partition: &Partition, budget: &Arc<Budget>) -> Vec<String> {
    let bench = Bench::new([disk.clone()], budget);
    let device = Device::part(&bench, 0, partition.start, partition.size, "the EFI system partition");
    let opened = registry::open(&device, Volume::Fat, 0).ok().flatten();
    opened.and_then(|opened| efi::loaders(&**opened.fs.lock()).ok()).unwrap_or_default()
}

impl Look {
    fn volumes(&self) -> impl Iterator<Item = Volume> {
        self.whole.into_iter().chain(self.partitions.iter().filter_map(|(_, volume)| *volume))
    }

    /// Whether there is an EFI system partition.
    pub fn has_esp(&self) -> bool {
        self.partitions.iter().any(|(partition, _)| partition.role == Role::Esp)
    }

    /// Whether a BIOS would start something: code in the first sector and, on a GPT disk, a place for the rest of it.
    pub fn boots_bios(&self) -> bool {
        let second = self.partitions.iter().any(|(partition, _)| partition.role == Role::BiosBoot || partition.active);
        self.boot_code && (self.table == Some(Table::Mbr) || second)
    }

    /// Whether a UEFI firmware would start something.
    pub fn boots_uefi(&self) -> bool {
        !self.loaders.is_empty()
    }

    /// Whether a UEFI firmware that remembers nothing would start something: the loader of the fallback path (UEFI
    /// specification 2.10, section 3.5.1.1).
    pub fn has_fallback(&self) -> bool {
        self.loaders.iter().any(|path| path.eq_ignore_ascii_case("EFI/BOOT/BOOTX64.EFI"))
    }

    /// The family of system on the disk, by what its volumes are.
    pub fn family(&self) -> Option<Family> {
        let has = |wanted: &[Volume]| self.volumes().any(|volume| wanted.contains(&volume));
        if has(&[Volume::Ntfs, Volume::Fve]) {
            Some(Family::Nt)
        } else if has(&[Volume::Ext, Volume::Xfs, Volume::Btrfs, Volume::Lvm, Volume::Luks, Volume::Swap, Volume::Md]) {
            Some(Family::Linux)
        } else if has(&[Volume::Ufs]) {
            Some(Family::Bsd)
        } else {
            None
        }
    }

    /// The kinds of its encrypted volumes.
    pub fn encrypted(&self) -> Vec<Volume> {
        self.volumes().filter(|volume| volume.is_encrypted()).collect()
    }
}
