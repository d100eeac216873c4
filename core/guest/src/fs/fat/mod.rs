//! FAT, for EFI system partitions: read by ourselves, written by a library once we found it sound.

mod read;
mod write;

use std::sync::Arc;

use reformis_disk::budget::Budget;

use crate::{bench::Device, error::Result};

pub(crate) use read::Entry;

const MAX_LOADERS: usize = 64;
/// Folders below `EFI` that are looked into.
const MAX_FOLDERS: usize = 128;

/// A file system.
pub(crate) struct Fat {
    device: Device,
    geometry: read::Geometry,
    /// The time that changes are made at, in seconds since 1970.
    now: i64,
}

/// The loaders on the EFI system partition `device`; none on one that cannot be read.
pub(crate) fn loaders(device: Device) -> Vec<String> {
    let fat = Fat::open(device, 0).ok().flatten();
    fat.and_then(|fat| fat.loaders().ok()).unwrap_or_default()
}

impl Fat {
    /// The serial number, as `/dev/disk/by-uuid` has it.
    pub(crate) fn serial(&self) -> String {
        let id = self.geometry.volume_id;
        format!("{:04X}-{:04X}", id >> 16, id & 0xffff)
    }

    /// The files below `EFI` that a firmware could start, as paths with `/`.
    fn loaders(&self) -> Result<Vec<String>> {
        let root = self.list(&[])?;
        let Some(efi) = root.into_iter().find(|entry| entry.is_folder && entry.name.eq_ignore_ascii_case("EFI")) else {
            return Ok(Vec::new());
        };
        let mut found = Vec::new();
        let folders = self.list(std::slice::from_ref(&efi.name))?;
        for folder in folders.into_iter().filter(|entry| entry.is_folder).take(MAX_FOLDERS) {
            for file in self.list(&[efi.name.clone(), folder.name.clone()])? {
                if !file.is_folder && file.name.to_ascii_lowercase().ends_with(".efi") && found.len() < MAX_LOADERS {
                    found.push(format!("EFI/{}/{}", folder.name, file.name));
                }
            }
        }
        found.sort();
        Ok(found)
    }

    /// Memory for what is collected from it.
    pub(crate) fn budget(&self) -> &Arc<Budget> {
        self.device.bench().budget()
    }

    /// Free bytes.
    pub(crate) fn free(&self) -> Result<u64> {
        Ok(self.free_clusters()?.saturating_mul(self.geometry.cluster))
    }
}
