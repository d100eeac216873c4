//! Disks that a system calls by where they were or who made them (`/dev/disk/by-path`, `/dev/disk/by-id`): nothing in a disk says so. Which one is
//! meant follows from what the system says of them: its own root lies on its root's disk, a partition has to be there and hold what is mounted,
//! and two names of one kind mean two disks.

use std::collections::{BTreeMap, BTreeSet};

use super::{devices, entry::Entry, fstab};
use crate::volume::{found::Found, probe::Volume};

/// Which disk each such name means, as far as that follows.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Places(BTreeMap<String, usize>);

/// Names of disks that are followed; a machine has no more disks.
const MOST: usize = 256;

/// Uses of a name that are looked at.
const MOST_USES: usize = 64;

/// One use of a name.
struct Use<'t> {
    partition: Option<u32>,
    /// What is said to lie there.
    kind: Option<&'t str>,
    is_root: bool,
}

/// Whether what fstab says lies in a volume may be what was found there.
fn fits(kind: &str, found: Option<Volume>) -> bool {
    match kind {
        "ext2" | "ext3" | "ext4" => found == Some(Volume::Ext),
        "xfs" => found == Some(Volume::Xfs),
        "btrfs" => found == Some(Volume::Btrfs),
        "swap" => matches!(found, Some(Volume::Swap | Volume::Hibernation)),
        "vfat" | "msdos" => found == Some(Volume::Fat),
        _ => true,
    }
}

impl Places {
    /// What follows for a system on the volume of number `root`.
    pub(crate) fn find(volumes: &[Found], root: usize, fstab: &[fstab::Line], entries: &[Entry]) -> Self {
        let mut uses: BTreeMap<&str, Vec<Use<'_>>> = BTreeMap::new();
        let mut note = |spec, kind, is_root| {
            let Some((disk, partition)) = devices::disk_called(spec) else { return };
            if uses.len() < MOST || uses.contains_key(disk) {
                let uses = uses.entry(disk).or_default();
                if uses.len() < MOST_USES {
                    uses.push(Use { partition, kind, is_root });
                }
            }
        };
        for line in fstab {
            note(&line.spec, Some(line.kind.as_str()), line.place == "/");
        }
        for entry in entries {
            for (key, is_root) in [("root", true), ("resume", false)] {
                if let Some(spec) = entry.parameter(key) {
                    note(spec, None, is_root);
                }
            }
        }
        let disks: BTreeSet<usize> =
            volumes.iter().filter(|volume| volume.is_on_disk()).map(|volume| volume.disk).collect();
        let may_be = |disk: usize, one: &Use<'_>| {
            let is_meant = |(index, volume): (usize, &Found)| {
                let is_there = volume.disk == disk && volume.partition == one.partition && volume.is_on_disk();
                is_there && (!one.is_root || index == root) && one.kind.is_none_or(|kind| fits(kind, volume.kind))
            };
            // Of a disk as a whole there is a volume only where it has no partitions.
            one.partition.is_none() && !one.is_root || volumes.iter().enumerate().any(is_meant)
        };
        let mut left: BTreeMap<&str, BTreeSet<usize>> = uses
            .iter()
            .map(|(name, uses)| {
                (*name, disks.iter().copied().filter(|disk| uses.iter().all(|one| may_be(*disk, one))).collect())
            })
            .collect();
        let mut known = BTreeMap::new();
        loop {
            let single = left
                .iter()
                .find_map(|(name, disks)| (disks.len() == 1).then(|| disks.first().map(|disk| (*name, *disk)))?);
            let Some((name, disk)) = single else { break };
            left.remove(name);
            known.insert(name.to_string(), disk);
            let others = left.iter_mut().filter(|(other, _)| sort_of(other) == sort_of(name));
            others.for_each(|(_, disks)| {
                disks.remove(&disk);
            });
        }
        Self(known)
    }

    /// The volume that a name means.
    pub(crate) fn resolve<'v>(&self, volumes: &'v [Found], spec: &str) -> Option<(usize, &'v Found)> {
        let (name, partition) = devices::disk_called(spec)?;
        let disk = *self.0.get(name)?;
        let fits = |volume: &Found| volume.disk == disk && volume.partition == partition && volume.is_on_disk();
        volumes.iter().enumerate().find(|(_, volume)| fits(volume))
    }
}

/// The kind of a name: of one kind, each disk has one.
fn sort_of(name: &str) -> &str {
    let end = name.rfind('/').and_then(|at| name.get(at..)?.find('-').map(|dash| at + dash));
    end.and_then(|end| name.get(..end)).unwrap_or(name)
}
