//! What a Linux kernel calls disks and partitions: letters and numbers in the order in which it finds them.

use crate::evidence::hardware::{DiskPlace, Hardware};

/// What the system will call a disk, such as `sda`; `None` for a disk that stays behind.
#[expect(clippy::cast_possible_truncation, reason = "a letter of 26")]
#[expect(clippy::indexing_slicing, reason = "the place is that of a disk of this hardware")]
fn disk_name(hardware: &Hardware, disk: usize) -> Option<String> {
    let place = hardware.place(disk)?;
    let before = hardware.disks[..disk].iter().flatten().filter(|other| other.prefix == place.prefix).count();
    Some(match place.prefix.as_str() {
        "nvme" => format!("nvme{before}n1"),
        prefix => {
            let letter = |number: usize| char::from(b'a' + (number % 26) as u8);
            let first = (before >= 26).then(|| letter(before / 26 - 1));
            format!("{prefix}{}{}", first.map(String::from).unwrap_or_default(), letter(before))
        }
    })
}

/// What the system will call a partition, as a path.
fn partition_name(hardware: &Hardware, disk: usize, partition: Option<u32>) -> Option<String> {
    let name = disk_name(hardware, disk)?;
    let digit = name.ends_with(|c: char| c.is_ascii_digit());
    Some(match partition {
        Some(number) if digit => format!("/dev/{name}p{number}"),
        Some(number) => format!("/dev/{name}{number}"),
        None => format!("/dev/{name}"),
    })
}

/// What the system will call a partition on its controller, and on every other one that the disk may be put on.
pub(super) fn names_there(hardware: &Hardware, disk: usize, partition: Option<u32>) -> Vec<String> {
    let Some(place) = hardware.place(disk) else { return Vec::new() };
    let others = place.others.iter().filter(|other| other.prefix != place.prefix).filter_map(|other| {
        let mut there = hardware.clone();
        there.disks.get_mut(disk)?.as_mut()?.prefix.clone_from(&other.prefix);
        partition_name(&there, disk, partition)
    });
    partition_name(hardware, disk, partition).into_iter().chain(others).collect()
}

/// Whether a plain name of a device will mean what it means now. With several disks of one kind their order is chance.
pub(super) fn keeps_name(hardware: &Hardware, spec: &str, disk: usize, partition: Option<u32>) -> bool {
    let Some(place) = hardware.place(disk).filter(|_| !hardware.unchanged) else { return true };
    let alone = hardware.disks.iter().flatten().filter(|other| other.prefix == place.prefix).count() == 1;
    alone && partition_name(hardware, disk, partition).as_deref() == Some(spec)
}

/// Whether it will mean that on every controller which the disk may be put on.
pub(super) fn keeps_name_everywhere(hardware: &Hardware, spec: &str, disk: usize, partition: Option<u32>) -> bool {
    let same = |place: &DiskPlace| place.others.iter().all(|other| other.prefix == place.prefix);
    keeps_name(hardware, spec, disk, partition) && hardware.place(disk).is_none_or(same)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::evidence::hardware::OtherPlace;

    #[test]
    fn names_at_the_destination() {
        let place = |prefix: &str| Some(DiskPlace { prefix: prefix.into(), ..DiskPlace::default() });
        let disks = vec![place("sd"), place("nvme"), place("sd"), place("nvme")];
        let hardware = Hardware { disks, ..Hardware::default() };
        let names: Vec<_> = (0..5).map(|disk| disk_name(&hardware, disk)).collect();
        assert_eq!(names.iter().flatten().collect::<Vec<_>>(), ["sda", "nvme0n1", "sdb", "nvme1n1"]);
        assert_eq!(partition_name(&hardware, 3, Some(2)).as_deref(), Some("/dev/nvme1n1p2"));
        assert!(!keeps_name(&hardware, "/dev/sda1", 0, Some(1)), "there are two of them");
        let one = Hardware { disks: vec![place("sd")], ..hardware };
        assert!(keeps_name(&one, "/dev/sda1", 0, Some(1)) && !keeps_name(&one, "/dev/vda1", 0, Some(1)));
        assert!(keeps_name_everywhere(&one, "/dev/sda1", 0, Some(1)));
        let other = OtherPlace { prefix: "vd".into(), ..OtherPlace::default() };
        let disks =
            one.disks.iter().flatten().map(|place| Some(DiskPlace { others: vec![other.clone()], ..place.clone() }));
        let two = Hardware { disks: disks.collect(), ..one.clone() };
        assert!(keeps_name(&two, "/dev/sda1", 0, Some(1)) && !keeps_name_everywhere(&two, "/dev/sda1", 0, Some(1)));
    }
}
