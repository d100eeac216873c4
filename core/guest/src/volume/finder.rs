//! Looking for volumes: partitions or whole disks first, then what is put together of them, which may hold partitions of its own.

use std::sync::Arc;

use super::{
    found::Found,
    luks::{self, Keys},
    lvm, md,
    probe::Volume,
    table::{self, Table},
    {lvm::Logical, partition::Partition},
};
use crate::{
    bench::{Bench, Device},
    error::Result,
};

/// The volumes of all disks on `bench`: of each disk in turn its partitions, or it as a whole; then arrays, what `keys` open, and logical
/// volumes.
///
/// # Errors
/// Those of the disks.
pub fn find(bench: &Arc<Bench>, keys: &Keys) -> Result<Vec<Found>> {
    let mut finder = Finder { bench, keys, found: Vec::new() };
    for disk in 0..bench.disks() {
        let whole = Device::part(bench, disk, 0, u64::MAX, &format!("disk {}", disk + 1));
        finder.scan(&whole, disk, &|found| found)?;
    }
    finder.arrays()?;
    finder.unlock()?;
    finder.logical()?;
    // Logical volumes may be encrypted, too.
    finder.unlock()?;
    Ok(finder.found)
}

struct Finder<'b> {
    bench: &'b Arc<Bench>,
    keys: &'b Keys,
    found: Vec<Found>,
}

impl Finder<'_> {
    /// Looks at a disk, or at what serves as one, of this number: at its partitions, or at it as a whole.
    fn scan(&mut self, whole: &Device, disk: usize, mark: &dyn Fn(Found) -> Found) -> Result<()> {
        let first = whole.first_disk();
        // The start of a member may look like what the array holds, its table among it.
        if !md::is_member(whole)?
            && let Some((table, partitions)) = table::read(whole)?
        {
            let id = disk_id(whole)?;
            for partition in partitions {
                let device = self.partition(whole, disk, &partition);
                self.found.push(mark(of_partition(device, first, table, id, &partition)).look()?);
            }
            return Ok(());
        }
        self.found.push(mark(Found::new(whole.name().into(), whole.clone(), first)).look()?);
        Ok(())
    }

    fn partition(&self, whole: &Device, disk: usize, partition: &Partition) -> Device {
        let name = format!("{} partition {}", whole.name(), partition.number);
        Device::part(self.bench, disk, partition.start, partition.size, &name)
    }

    /// The volumes of this kind that were found.
    fn of_kind(&self, kind: Volume) -> Vec<Device> {
        self.found
            .iter()
            .filter(|volume| volume.kind == Some(kind))
            .filter_map(|volume| volume.device.clone())
            .collect()
    }

    /// Puts arrays together, and looks at what they hold.
    fn arrays(&mut self) -> Result<()> {
        for assembled in md::arrays(self.bench, &self.of_kind(Volume::Md))? {
            let mark = |found: Found| Found {
                array: Some(assembled.array.clone()),
                aliases: assembled.array.names().iter().map(|name| with_part(name, found.partition)).collect(),
                ..found
            };
            match assembled.device {
                Ok(device) => self.scan(&device, device.as_disk(), &mark)?,
                Err(trouble) => self.found.push(mark(self.lost(format!("array {}", assembled.array.name), trouble))),
            }
        }
        Ok(())
    }

    /// Opens what is encrypted and was not tried yet, and looks at what it holds.
    fn unlock(&mut self) -> Result<()> {
        for place in 0..self.found.len() {
            let Some(volume) = self.found.get_mut(place).filter(|volume| volume.kind == Some(Volume::Luks)) else {
                continue;
            };
            let Some(device) = volume.device.clone().filter(|_| !volume.is_opened && volume.trouble.is_none()) else {
                continue;
            };
            let Some(uuid) = volume.uuid.clone() else { continue };
            match luks::open(&device, Some(&uuid), self.keys)? {
                None => {}
                Some(Err(trouble)) => volume.trouble = Some(trouble),
                Some(Ok(opened)) => {
                    volume.is_opened = true;
                    let array = volume.array.clone();
                    // As it is called where nobody gives it another name (systemd, `systemd-cryptsetup-generator`).
                    let alias = format!("mapper/luks-{uuid}");
                    let mark = |found: Found| Found {
                        array: array.clone(),
                        opens: Some(uuid.clone()),
                        aliases: vec![with_part(&alias, found.partition)],
                        ..found
                    };
                    self.scan(&opened, opened.as_disk(), &mark)?;
                }
            }
        }
        Ok(())
    }

    /// Puts logical volumes together.
    fn logical(&mut self) -> Result<()> {
        let places: Vec<_> = self
            .of_kind(Volume::Lvm)
            .iter()
            .map(|device| {
                let (disk, start) = device.base();
                (disk, start, device.size())
            })
            .collect();
        for Logical { name, device } in lvm::volumes(self.bench, &places)? {
            let aliases = vec![name.clone(), format!("mapper/{}", lvm::mapper_name(&name))];
            let found = match device {
                Ok(device) => {
                    let disk = device.first_disk();
                    Found { aliases, ..Found::new(name, device, disk) }.look()?
                }
                Err(trouble) => Found { aliases, ..self.lost(name, trouble) },
            };
            self.found.push(found);
        }
        Ok(())
    }

    /// A volume that cannot be put together.
    fn lost(&self, name: String, trouble: String) -> Found {
        let none = Device::part(self.bench, 0, 0, 0, &name);
        Found { trouble: Some(trouble), device: None, ..Found::new(name, none, 0) }
    }
}

/// The name of a partition of what is called `name`.
pub(crate) fn with_part(name: &str, partition: Option<u32>) -> String {
    match partition {
        None => name.into(),
        Some(number) if name.starts_with("disk/") => format!("{name}-part{number}"),
        Some(number) if name.ends_with(|c: char| c.is_ascii_digit()) => format!("{name}p{number}"),
        Some(number) => format!("{name}{number}"),
    }
}

/// The identity of a disk with a master boot record.
fn disk_id(disk: &Device) -> Result<u32> {
    let mut bytes = [0; 4];
    if disk.size() >= 512 {
        disk.read(440, &mut bytes)?;
    }
    Ok(u32::from_le_bytes(bytes))
}

fn of_partition(device: Device, disk: usize, table: Table, id: u32, partition: &Partition) -> Found {
    let part_uuid = match table {
        Table::Gpt => partition.uuid.map(|uuid| uuid.to_string()),
        Table::Mbr => (id != 0).then(|| format!("{id:08x}-{:02x}", partition.number)),
    };
    let name = device.name().to_string();
    Found {
        partition: Some(partition.number),
        role: partition.role,
        part_uuid,
        part_label: partition.label.clone(),
        ..Found::new(name, device, disk)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn partitions_of_arrays_have_names_of_their_own() {
        for (name, partition, expected) in [
            ("md0", None, "md0"),
            ("md0", Some(2), "md0p2"),
            ("md/root", Some(2), "md/root2"),
            ("disk/by-id/md-uuid-a:b", Some(1), "disk/by-id/md-uuid-a:b-part1"),
        ] {
            assert_eq!(with_part(name, partition), expected);
        }
    }
}
