//! LVM2: logical volumes, read from the metadata that every physical volume holds (LVM2 sources, `lib/format_text/layout.h`
//! and `lib/label/label.h`; `man 5 lvm`). Linear, striped, mirrored (RAID 1), thin and
//! cached volumes are opened, the last two only to be read; others are named.

mod cache;
mod header;
mod raid;
mod segments;
mod tables;
mod text;
mod thin;

use std::{collections::HashMap, sync::Arc};

use reformis_disk::budget::Held;

use crate::{
    bench::{Bench, Device},
    error::{Error, Result},
};
use segments::Group;
use text::Section;

/// A logical volume.
#[derive(Clone)]
pub(crate) struct Logical {
    /// Volume group and volume, as `group/volume`.
    pub(crate) name: String,
    /// Its bytes; or why they cannot be read.
    pub(crate) device: Result<Device, String>,
}

/// The name of a logical volume below `/dev/mapper`: dashes inside names are doubled.
pub(crate) fn mapper_name(name: &str) -> String {
    let (group, volume) = name.split_once('/').unwrap_or((name, ""));
    format!("{}-{}", group.replace('-', "--"), volume.replace('-', "--"))
}

/// A physical volume: its UUID without dashes, and where it lies.
struct Physical {
    disk: usize,
    start: u64,
    size: u64,
}

/// The logical volumes on the physical volumes at `places` (disk, first byte, length), in order of their names.
///
/// # Errors
/// Those of the disks; metadata that is not sound is left out.
pub(crate) fn volumes(bench: &Arc<Bench>, places: &[(usize, u64, u64)]) -> Result<Vec<Logical>> {
    let mut physical = HashMap::new();
    // The newest metadata of each group, by its UUID.
    let mut groups: HashMap<String, (u64, String, Held<Section>)> = HashMap::new();
    for &(disk, start, size) in places {
        let device = Device::part(bench, disk, start, size, "a physical volume");
        let label = match header::read(&device) {
            Ok(Some(label)) => label,
            Err(error @ Error::Disk(_)) => return Err(error),
            // What leads beyond its device is no physical volume.
            Ok(None) | Err(_) => continue,
        };
        physical.insert(label.uuid.clone(), Physical { disk, start, size });
        for text in label.metadata {
            let hold = bench.budget().take(text::memory(&text))?;
            let Some((name, group)) = text::parse(&text).and_then(|file| file.sections.into_iter().next()) else {
                continue;
            };
            let group = hold.of(group);
            let (Some(id), Some(seqno)) = (group.string("id"), group.number("seqno")) else { continue };
            if groups.get(id).is_none_or(|(known, ..)| *known < seqno) {
                groups.insert(id.to_string(), (seqno, name, group));
            }
        }
    }
    let mut found: Vec<Logical> =
        groups.values().flat_map(|(_, name, group)| of_group(bench, name, group, &physical)).collect();
    found.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(found)
}

fn of_group(bench: &Arc<Bench>, name: &str, group: &Section, physical: &HashMap<String, Physical>) -> Vec<Logical> {
    let Some(volumes) = group.section("logical_volumes") else { return Vec::new() };
    // What stands below others is not for mounting.
    let visible =
        volumes.sections.iter().filter(|(_, section)| section.strings("status").any(|status| status == "VISIBLE"));
    let group = Group { bench, group, physical };
    let opened = visible.map(|(volume, section)| {
        let name = format!("{name}/{volume}");
        let device = group.lay(section, 0).and_then(|lay| lay.device(bench, &name));
        Logical { name, device }
    });
    opened.collect()
}

/// Reads a volume of metadata, for the fuzzers: the tree and the array at each of its first blocks. The number of values.
pub(crate) fn read_tables(bytes: &[u8]) -> usize {
    use reformis_disk::{Disk, Format, budget::Budget, format, source::MemoryStorage};
    let storage = Arc::new(MemoryStorage::new("metadata", bytes.to_vec()));
    let Ok(opened) = format::open(storage, Some(Format::Raw)) else { return 0 };
    let disk: Arc<dyn Disk> = opened.disk;
    let bench = Bench::new([disk], &Budget::whole());
    let device = Device::part(&bench, 0, 0, u64::MAX, "metadata");
    let mut values = 0;
    for root in 0..4 {
        let mut count = |_, _| {
            values += 1;
            Ok(())
        };
        drop(tables::each(&device, root, &mut count));
        drop(tables::array(&device, root, count));
    }
    values
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dashes_in_names_are_doubled() {
        assert_eq!(mapper_name("tide-group/log-root"), "tide--group-log--root");
    }
}
