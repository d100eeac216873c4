//! The volumes of a guest: partitions, logical volumes and whole disks, each with what lies in it and by which names a
//! guest can call for it.

use std::sync::Arc;

use serde::Serialize;

use crate::{
    bench::{Bench, Device},
    error::{Error, Result},
    fs::{efi, registry},
    volume::{
        lvm,
        probe::{self, Volume},
        {
            partition::{Partition, Role},
            table::{self, Table},
        },
    },
};

/// A volume.
#[derive(Debug, Clone, Serialize)]
pub struct Found {
    /// What to call it: `disk 1`, `disk 1 partition 2`, `group/volume`.
    pub name: String,
    /// Its disk, from 0; for a logical volume, the one that it begins on.
    pub disk: usize,
    /// Number of its partition.
    pub partition: Option<u32>,
    /// What the partition is for.
    pub role: Role,
    /// Bytes.
    pub size: u64,
    /// What lies in it; `None` when that is not known.
    pub kind: Option<Volume>,
    /// Its UUID, or the serial number of FAT, as `/dev/disk/by-uuid` has it.
    pub uuid: Option<String>,
    /// Its label; empty when it has none.
    pub label: String,
    /// The partition's own UUID, as `/dev/disk/by-partuuid` has it.
    pub part_uuid: Option<String>,
    /// Why it cannot be read.
    pub trouble: Option<String>,
    #[serde(skip)]
    pub(crate) device: Option<Device>,
}

impl Found {
    /// Whether it is a logical volume.
    pub fn is_logical(&self) -> bool {
        self.name.contains('/')
    }

    /// The loaders on it, as paths with `/`, when it is an EFI system partition.
    pub(crate) fn loaders(&self) -> Vec<String> {
        // Firmware reads FAT alone; and opening another one may replay its journal.
        let device = self.device.as_ref().filter(|_| self.kind == Some(Volume::Fat));
        let opened = device.and_then(|device| registry::open(device, Volume::Fat, 0).ok().flatten());
        opened.and_then(|opened| efi::loaders(&**opened.fs.lock()).ok()).unwrap_or_default()
    }

    fn new(name: String, device: Device, disk: usize) -> Self {
        Self {
            name,
            disk,
            partition: None,
            role: Role::Other,
            size: device.size(),
            kind: None,
            uuid: None,
            label: String::new(),
            part_uuid: None,
            trouble: None,
            device: Some(device),
        }
    }

    /// Looks at what lies in it. What is not sound is its trouble, not an error.
    fn look(mut self) -> Result<Self> {
        if let Some(trouble) = self.role.trouble() {
            self.trouble = Some(trouble.into());
            return Ok(self);
        }
        match self.fill() {
            Ok(()) => {}
            Err(error @ Error::Disk(_)) => return Err(error),
            Err(error) => self.trouble = Some(error.to_string()),
        }
        Ok(self)
    }

    #[expect(clippy::indexing_slicing, reason = "the end was found in these bytes")]
    fn fill(&mut self) -> Result<()> {
        let Some(device) = &self.device else { return Ok(()) };
        self.kind = probe::probe(device, 0, device.size())?;
        match self.kind {
            Some(kind @ (Volume::Ext | Volume::Xfs | Volume::Fat | Volume::Ntfs)) => {
                if let Some(facts) = registry::facts(device, kind)? {
                    self.uuid = facts.identity;
                    self.label = facts.label;
                }
            }
            // LUKS writes its UUID as text (its on-disk format, versions 1 and 2: byte 168, 40 bytes).
            Some(Volume::Luks) => {
                let mut text = [0; 40];
                device.read(168, &mut text)?;
                let end = text.iter().position(|byte| *byte == 0).unwrap_or(text.len());
                self.uuid =
                    std::str::from_utf8(&text[..end]).ok().map(Into::into).filter(|uuid: &String| uuid.len() == 36);
            }
            Some(kind) => {
                let (at, text) = match kind {
                    // `mkswap` keeps its UUID there (util-linux `include/swapheader.h`).
                    Volume::Swap => (1036, 1052),
                    Volume::Btrfs => (65_568, 65_835),
                    _ => return Ok(()),
                };
                let mut bytes = [0; 16];
                device.read(at, &mut bytes)?;
                self.uuid = Some(uuid::Uuid::from_bytes(bytes).to_string());
                let mut label = [0; 12];
                device.read(text, &mut label)?;
                let end = label.iter().position(|byte| *byte == 0).unwrap_or(label.len());
                self.label = String::from_utf8_lossy(&label[..end]).into();
            }
            None => {}
        }
        Ok(())
    }
}

/// The volumes of all disks on `bench`: of each disk in turn its partitions, or it as a whole; then logical volumes.
///
/// # Errors
/// Those of the disks.
pub fn find(bench: &Arc<Bench>) -> Result<Vec<Found>> {
    let mut found = Vec::new();
    for disk in 0..bench.disks() {
        let whole = Device::part(bench, disk, 0, u64::MAX, &format!("disk {}", disk + 1));
        match table::read(&whole)? {
            Some((table, partitions)) => {
                let id = disk_id(&whole)?;
                for partition in partitions {
                    found.push(of_partition(bench, disk, table, id, &partition).look()?);
                }
            }
            None => found.push(Found::new(whole.name().into(), whole, disk).look()?),
        }
    }
    let places: Vec<_> = found
        .iter()
        .filter(|volume| volume.kind == Some(Volume::Lvm))
        .filter_map(|volume| volume.device.as_ref()?.start().map(|(disk, start)| (disk, start, volume.size)))
        .collect();
    for logical in lvm::volumes(bench, &places)? {
        match logical.device {
            Ok(device) => {
                let disk = device.start().map_or(0, |(disk, _)| disk);
                found.push(Found::new(logical.name, device, disk).look()?);
            }
            Err(trouble) => {
                let none = Device::part(bench, 0, 0, 0, &logical.name);
                let volume = Found { trouble: Some(trouble), device: None, ..Found::new(logical.name, none, 0) };
                found.push(volume);
            }
        }
    }
    Ok(found)
}

/// The identity of a disk with a master boot record.
fn disk_id(disk: &Device) -> Result<u32> {
    let mut bytes = [0; 4];
    if disk.size() >= 512 {
        disk.read(440, &mut bytes)?;
    }
    Ok(u32::from_le_bytes(bytes))
}

fn of_partition(bench: &Arc<Bench>, disk: usize, table: Table, id: u32, partition: &Partition) -> Found {
    let name = format!("disk {} partition {}", disk + 1, partition.number);
    let device = Device::part(bench, disk, partition.start, partition.size, &name);
    let part_uuid = match table {
        Table::Gpt => partition.uuid.map(|uuid| uuid.to_string()),
        Table::Mbr => (id != 0).then(|| format!("{id:08x}-{:02x}", partition.number)),
    };
    Found { partition: Some(partition.number), role: partition.role, part_uuid, ..Found::new(name, device, disk) }
}
