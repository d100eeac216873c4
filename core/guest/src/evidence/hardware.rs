//! What a guest will find at its destination, as far as its system has to know.

/// Something that needs a driver.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Need {
    /// The device's name as a Linux kernel makes it for finding a driver (`modalias`).
    pub device: String,
    /// The module that drives it, as it is called everywhere.
    pub module: String,
}

/// A device as a Windows system finds a driver for it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DriverNeed {
    /// Its identity, with all that is known of it.
    pub device: String,
    /// The services that come with systems for it: each version has one of them, if any.
    pub services: Vec<String>,
}

/// Where a disk will be.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DiskPlace {
    /// Its controller, as destinations call it.
    pub controller: String,
    /// What the system will call disks there: `sd`, `vd`, `nvme`, `hd`.
    pub prefix: String,
    /// What has to be driven to reach it, from the bus to the disk.
    pub needs: Vec<Need>,
    /// The same for a Windows system.
    pub drivers: Vec<DriverNeed>,
    /// The other controllers that the person may put it on there, without asking us again.
    pub others: Vec<OtherPlace>,
    /// Its place among what the firmware starts, the lowest first; `None` where it is not told to start it.
    pub boot: Option<u32>,
}

/// Another controller for a disk.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct OtherPlace {
    /// The controller, as destinations call it.
    pub controller: String,
    /// What the system will call disks there.
    pub prefix: String,
    /// What has to be driven to reach them.
    pub needs: Vec<Need>,
    /// The same for a Windows system.
    pub drivers: Vec<DriverNeed>,
}

/// An adapter, before and after.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AdapterPlace {
    /// Its model, as destinations call it.
    pub model: String,
    /// What has to be driven.
    pub needs: Vec<Need>,
    /// The same for a Windows system.
    pub drivers: Vec<DriverNeed>,
    /// The hardware address that it has now, in small letters.
    pub before: Option<String>,
    /// The one that it will have.
    pub after: Option<String>,
    /// The name that the person wants it to have in the system.
    pub name: Option<String>,
}

/// What a host wants of the systems of its machines, beside drivers.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct HostRules {
    /// Whether it is a cloud: a host that its people see over the network alone.
    pub is_cloud: bool,
    /// The serial port that it shows, as a Linux kernel's parameter `console` names it: `ttyS0,115200`.
    pub serial_console: Option<String>,
    /// Whether it gives the first adapter its address.
    pub dhcp: bool,
    /// Whether the network is the only way in.
    pub remote_login: bool,
    /// Whether there is to be no swap space on the system's disk.
    pub no_swap: bool,
    /// Sources of cloud-init that it has, as cloud-init calls them.
    pub data_sources: Vec<String>,
}

/// A machine at its destination.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
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
    /// Devices that it may have beside disks and adapters, as a Windows system identifies them.
    pub others: Vec<String>,
    /// Installers of the host's agent for a Windows system, as they are called on a medium.
    pub agents: Vec<String>,
    /// What its host wants of the system.
    pub rules: HostRules,
    /// Whether its clock shows local time; none where that is not known.
    pub has_local_clock: Option<bool>,
}

impl Hardware {
    /// The disks that the firmware tries, in its order: those that it is told to, else all as they come.
    pub fn started(&self) -> Vec<usize> {
        let places = || self.disks.iter().enumerate().filter_map(|(disk, place)| Some((disk, place.as_ref()?)));
        let mut told: Vec<(u32, usize)> = places().filter_map(|(disk, place)| Some((place.boot?, disk))).collect();
        told.sort_unstable();
        match told.is_empty() {
            true => places().map(|(disk, _)| disk).collect(),
            false => told.into_iter().map(|(_, disk)| disk).collect(),
        }
    }

    /// Where a disk will be.
    pub(crate) fn place(&self, disk: usize) -> Option<&DiskPlace> {
        self.disks.get(disk)?.as_ref()
    }
}
