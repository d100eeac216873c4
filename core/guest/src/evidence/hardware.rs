//! What a guest will find at its destination, as far as its system has to know.

/// Something that needs a driver.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Need {
    /// The device's name as a Linux kernel makes it for finding a driver (`modalias`).
    pub device: String,
    /// The module that drives it, as it is called everywhere.
    pub module: String,
}

/// Where a disk will be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DiskPlace {
    /// Its controller, as destinations call it.
    pub controller: String,
    /// What the system will call disks there: `sd`, `vd`, `nvme`, `hd`.
    pub prefix: String,
    /// What has to be driven to reach it, from the bus to the disk.
    pub needs: Vec<Need>,
    /// The other controllers that the person may put it on there, without asking us again.
    pub others: Vec<OtherPlace>,
}

/// Another controller for a disk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OtherPlace {
    /// What the system will call disks there.
    pub prefix: String,
    /// What has to be driven to reach them.
    pub needs: Vec<Need>,
}

/// An adapter, before and after.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AdapterPlace {
    /// Its model, as destinations call it.
    pub model: String,
    /// What has to be driven.
    pub needs: Vec<Need>,
    /// The hardware address that it has now, in small letters.
    pub before: Option<String>,
    /// The one that it will have.
    pub after: Option<String>,
    /// The name that the person wants it to have in the system.
    pub name: Option<String>,
}

/// A machine at its destination.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hardware {
    /// Whether UEFI starts it, or BIOS.
    pub uefi: bool,
    /// Whether it is the hardware that the guest has now, so that all names stay.
    pub unchanged: bool,
    /// Whether the firmware keeps the boot entries that it has now.
    pub keeps_entries: bool,
    /// Its disks, in the guest's order; `None` for one that stays behind.
    pub disks: Vec<Option<DiskPlace>>,
    /// Its adapters.
    pub adapters: Vec<AdapterPlace>,
    /// The kind of its host, for the helpers in a guest; `None` for one without helpers of its own.
    pub host: Option<String>,
}

impl Hardware {
    /// Where a disk will be.
    pub(crate) fn place(&self, disk: usize) -> Option<&DiskPlace> {
        self.disks.get(disk)?.as_ref()
    }

    /// What the system will call a disk, such as `sda`; `None` for a disk that stays behind.
    #[expect(clippy::cast_possible_truncation, reason = "a letter of 26")]
    #[expect(clippy::indexing_slicing, reason = "the place is that of a disk of this hardware")]
    pub fn disk_name(&self, disk: usize) -> Option<String> {
        let place = self.place(disk)?;
        let before = self.disks[..disk].iter().flatten().filter(|other| other.prefix == place.prefix).count();
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
    pub(crate) fn partition_name(&self, disk: usize, partition: Option<u32>) -> Option<String> {
        let name = self.disk_name(disk)?;
        let digit = name.ends_with(|c: char| c.is_ascii_digit());
        Some(match partition {
            Some(number) if digit => format!("/dev/{name}p{number}"),
            Some(number) => format!("/dev/{name}{number}"),
            None => format!("/dev/{name}"),
        })
    }

    /// Whether a plain name of a device will mean what it means now. With several disks of one kind their order is chance.
    pub(crate) fn keeps_name(&self, spec: &str, disk: usize, partition: Option<u32>) -> bool {
        let Some(place) = self.place(disk).filter(|_| !self.unchanged) else { return true };
        let alone = self.disks.iter().flatten().filter(|other| other.prefix == place.prefix).count() == 1;
        alone && self.partition_name(disk, partition).as_deref() == Some(spec)
    }

    /// Whether it will mean that on every controller which the disk may be put on.
    pub(crate) fn keeps_name_everywhere(&self, spec: &str, disk: usize, partition: Option<u32>) -> bool {
        let same = |place: &DiskPlace| place.others.iter().all(|other| other.prefix == place.prefix);
        self.keeps_name(spec, disk, partition) && self.place(disk).is_none_or(same)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_at_the_destination() {
        let place = |prefix: &str| {
            Some(DiskPlace { controller: String::new(), prefix: prefix.into(), needs: Vec::new(), others: Vec::new() })
        };
        let disks = vec![place("sd"), place("nvme"), place("sd"), place("nvme")];
        let hardware =
            Hardware { uefi: false, unchanged: false, keeps_entries: false, disks, adapters: Vec::new(), host: None };
        let names: Vec<_> = (0..5).map(|disk| hardware.disk_name(disk)).collect();
        assert_eq!(names.iter().flatten().collect::<Vec<_>>(), ["sda", "nvme0n1", "sdb", "nvme1n1"]);
        assert_eq!(hardware.partition_name(3, Some(2)).as_deref(), Some("/dev/nvme1n1p2"));
        assert!(!hardware.keeps_name("/dev/sda1", 0, Some(1)), "there are two of them");
        let one = Hardware { disks: vec![place("sd")], ..hardware };
        assert!(one.keeps_name("/dev/sda1", 0, Some(1)) && !one.keeps_name("/dev/vda1", 0, Some(1)));
        assert!(one.keeps_name_everywhere("/dev/sda1", 0, Some(1)));
        let other = OtherPlace { prefix: "vd".into(), needs: Vec::new() };
        let disks =
            one.disks.iter().flatten().map(|place| Some(DiskPlace { others: vec![other.clone()], ..place.clone() }));
        let two = Hardware { disks: disks.collect(), ..one.clone() };
        assert!(two.keeps_name("/dev/sda1", 0, Some(1)) && !two.keeps_name_everywhere("/dev/sda1", 0, Some(1)));
    }
}
