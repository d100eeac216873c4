//! The volumes of a guest: partitions, logical volumes and whole disks, each with what lies in it and by which names a
//! guest can call for it.

use std::sync::Arc;

use serde::Serialize;

use crate::{
    bench::{Bench, Device},
    error::{Error, Result},
    ext::Ext,
    fat::Fat,
    lvm,
    partitions::{self, Partition, Role, Table},
    volumes::{self, Volume},
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
        self.device.clone().map(crate::fat::loaders).unwrap_or_default()
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
        self.kind = volumes::probe(device, 0, device.size())?;
        match self.kind {
            Some(Volume::Ext) => {
                let ext = Ext::open(device.clone(), 0)?;
                self.uuid = Some(ext.uuid().to_string());
                self.label = ext.label();
            }
            Some(Volume::Fat) => self.uuid = Fat::open(device.clone(), 0)?.map(|fat| fat.serial()),
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
                    // `mkswap` and `xfs` keep their UUIDs there (util-linux `include/swapheader.h`; `xfs_dsb`).
                    Volume::Swap => (1036, 1052),
                    Volume::Xfs => (32, 108),
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
        match partitions::read(&whole)? {
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

/// Which of `volumes` a guest means by `spec`, as fstab and `root=` have it; `None` when it is none of them. Plain names
/// of disks stand for the disks in their order.
pub fn resolve<'v>(volumes: &'v [Found], spec: &str) -> Option<(usize, &'v Found)> {
    let by = |test: &dyn Fn(&Found) -> bool| volumes.iter().enumerate().find(|(_, volume)| test(volume));
    let spec = spec.trim_matches('"');
    let tagged = |tag: &str, folder: &str| {
        spec.strip_prefix(tag).or_else(|| spec.strip_prefix(folder)).map(|id| id.trim_matches('"'))
    };
    if let Some(id) = tagged("UUID=", "/dev/disk/by-uuid/") {
        return by(&|volume| volume.uuid.as_deref().is_some_and(|uuid| uuid.eq_ignore_ascii_case(id)));
    }
    if let Some(label) = tagged("LABEL=", "/dev/disk/by-label/") {
        return by(&|volume| !label.is_empty() && volume.label == label);
    }
    if let Some(id) = tagged("PARTUUID=", "/dev/disk/by-partuuid/") {
        return by(&|volume| volume.part_uuid.as_deref().is_some_and(|uuid| uuid.eq_ignore_ascii_case(id)));
    }
    if let Some((disk, partition)) = plain_name(spec) {
        return by(&|volume| volume.disk == disk && volume.partition == partition && !volume.is_logical());
    }
    if let Some(partition) = by_place(spec) {
        // What tells a disk by its place in the old machine says which one only where there is one.
        let one = volumes.iter().all(|volume| volume.disk == 0);
        return by(&|volume| one && volume.partition == partition && !volume.is_logical());
    }
    if let Some(mapped) = spec.strip_prefix("/dev/mapper/") {
        return by(&|volume| volume.is_logical() && mapper_name(&volume.name) == mapped);
    }
    let path = spec.strip_prefix("/dev/")?;
    by(&|volume| volume.is_logical() && volume.name == path)
}

/// The name of a logical volume below `/dev/mapper`: dashes inside names are doubled.
pub(crate) fn mapper_name(name: &str) -> String {
    let (group, volume) = name.split_once('/').unwrap_or((name, ""));
    format!("{}-{}", group.replace('-', "--"), volume.replace('-', "--"))
}

/// The partition that a name below `/dev/disk` tells by the place or the identity of its disk.
pub(crate) fn by_place(spec: &str) -> Option<Option<u32>> {
    let name = spec.strip_prefix("/dev/disk/by-path/").or_else(|| spec.strip_prefix("/dev/disk/by-id/"))?;
    if name.starts_with("dm-") || name.starts_with("lvm-") {
        return None;
    }
    match name.rsplit_once("-part") {
        Some((_, number)) => number.parse().ok().map(Some),
        None => Some(None),
    }
}

/// Disk (from 0) and partition of a plain name such as `/dev/sda1` or `/dev/nvme0n1p2`.
#[expect(clippy::string_slice, reason = "the letters were counted, one byte each")]
pub(crate) fn plain_name(spec: &str) -> Option<(usize, Option<u32>)> {
    let name = spec.strip_prefix("/dev/")?;
    let number = |text: &str| if text.is_empty() { Some(None) } else { text.parse().ok().map(Some) };
    for prefix in ["sd", "vd", "xvd", "hd"] {
        if let Some(rest) = name.strip_prefix(prefix) {
            let letters = rest.bytes().take_while(u8::is_ascii_lowercase).count();
            if !(1..=2).contains(&letters) {
                return None;
            }
            // a to z, then aa to zz.
            let disk = rest[..letters].bytes().fold(0, |sum, byte| sum * 26 + usize::from(byte - b'a') + 1) - 1;
            return Some((disk, number(&rest[letters..])?));
        }
    }
    let (disk, rest) = name.strip_prefix("nvme")?.split_once("n1")?;
    let partition = if rest.is_empty() { None } else { Some(rest.strip_prefix('p')?.parse().ok()?) };
    Some((disk.parse().ok()?, partition))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_disks() {
        assert_eq!(plain_name("/dev/sda1"), Some((0, Some(1))));
        assert_eq!(plain_name("/dev/vdc"), Some((2, None)));
        assert_eq!(plain_name("/dev/sdaa15"), Some((26, Some(15))));
        assert_eq!(plain_name("/dev/nvme1n1p3"), Some((1, Some(3))));
        for none in ["/dev/sd", "/dev/sda1x", "/dev/mapper/a-b", "/dev/sr0", "sda1", "/dev/nvme0n1x1"] {
            assert_eq!(plain_name(none), None, "{none}");
        }
        assert_eq!(mapper_name("tide-group/log-root"), "tide--group-log--root");
    }
}
