//! By which names a Linux system calls its volumes.

use crate::volume::found::Found;

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
        let label = unescaped(label);
        return by(&|volume| !label.is_empty() && volume.label == label);
    }
    if let Some(label) = tagged("PARTLABEL=", "/dev/disk/by-partlabel/") {
        let label = unescaped(label);
        return by(&|volume| !label.is_empty() && volume.part_label == label);
    }
    if let Some(id) = tagged("PARTUUID=", "/dev/disk/by-partuuid/") {
        return by(&|volume| volume.part_uuid.as_deref().is_some_and(|uuid| uuid.eq_ignore_ascii_case(id)));
    }
    // What is put together has names that do not depend on where its disks are; some lie beside those that tell a place.
    if let Some(path) = spec.strip_prefix("/dev/")
        && let Some(found) = by(&|volume| volume.aliases.iter().any(|alias| alias == path))
    {
        return Some(found);
    }
    if let Some((disk, partition)) = plain_name(spec) {
        return by(&|volume| volume.disk == disk && volume.partition == partition && volume.is_on_disk());
    }
    if let Some(partition) = by_place(spec) {
        // What tells a disk by its place in the old machine says which one only where there is one.
        let one = volumes.iter().all(|volume| volume.disk == 0);
        return by(&|volume| one && volume.partition == partition && volume.is_on_disk());
    }
    None
}

/// Characters that no name of a file in `/dev/disk` has are there by their numbers: `\\x20` for a space.
fn unescaped(label: &str) -> String {
    let mut parts = label.split("\\x");
    let mut plain = parts.next().unwrap_or_default().to_string();
    for part in parts {
        match part.get(..2).and_then(|digits| u8::from_str_radix(digits, 16).ok()).filter(u8::is_ascii) {
            Some(byte) => {
                plain.push(char::from(byte));
                plain.push_str(part.get(2..).unwrap_or_default());
            }
            None => {
                plain.push_str("\\x");
                plain.push_str(part);
            }
        }
    }
    plain
}

/// How many of `volumes` a label means, where `spec` is one; 1 for every other name.
pub(crate) fn labelled(volumes: &[Found], spec: &str) -> usize {
    let spec = spec.trim_matches('"');
    let tagged = |tag: &str, folder: &str| {
        spec.strip_prefix(tag).or_else(|| spec.strip_prefix(folder)).map(|id| unescaped(id.trim_matches('"')))
    };
    // The devices of one Btrfs have its label each.
    let is_first = |at: usize, volume: &Found| {
        let before = volumes.iter().take(at);
        volume.uuid.is_none() || !before.into_iter().any(|other| other.uuid == volume.uuid && other.kind == volume.kind)
    };
    let count = |fits: &dyn Fn(&Found) -> bool| {
        volumes.iter().enumerate().filter(|(at, volume)| fits(volume) && is_first(*at, volume)).count()
    };
    if let Some(label) = tagged("LABEL=", "/dev/disk/by-label/") {
        return count(&|volume| volume.label == label);
    }
    match tagged("PARTLABEL=", "/dev/disk/by-partlabel/") {
        Some(label) => count(&|volume| volume.part_label == label),
        None => 1,
    }
}

/// The partition that a name below `/dev/disk` tells by the place or the identity of its disk.
pub(crate) fn by_place(spec: &str) -> Option<Option<u32>> {
    disk_called(spec).map(|(_, partition)| partition)
}

/// What such a name calls its disk, and the partition.
pub(crate) fn disk_called(spec: &str) -> Option<(&str, Option<u32>)> {
    let name = spec.strip_prefix("/dev/disk/by-path/").or_else(|| spec.strip_prefix("/dev/disk/by-id/"))?;
    if ["dm-", "lvm-", "md-"].iter().any(|prefix| name.starts_with(prefix)) {
        return None;
    }
    match spec.rsplit_once("-part") {
        Some((disk, number)) => number.parse().ok().map(|number| (disk, Some(number))),
        None => Some((spec, None)),
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
    fn labels_have_characters_by_their_numbers() {
        assert_eq!(unescaped("tide\\x20gauge\\x2f1"), "tide gauge/1");
        for odd in ["", "\\x", "\\xzz", "\\xe9", "ü\\x2"] {
            assert_eq!(unescaped(odd), odd);
        }
    }

    #[test]
    fn names_of_disks() {
        assert_eq!(plain_name("/dev/sda1"), Some((0, Some(1))));
        assert_eq!(plain_name("/dev/vdc"), Some((2, None)));
        assert_eq!(plain_name("/dev/sdaa15"), Some((26, Some(15))));
        assert_eq!(plain_name("/dev/nvme1n1p3"), Some((1, Some(3))));
        for none in ["/dev/sd", "/dev/sda1x", "/dev/mapper/a-b", "/dev/sr0", "sda1", "/dev/nvme0n1x1"] {
            assert_eq!(plain_name(none), None, "{none}");
        }
    }
}
