//! The neutral machine: the hardware settings of a guest, in the words of no host.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::cim;

/// The hardware settings of a guest.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Machine {
    /// Its name, as its host shows it.
    pub name: String,
    /// Identity that its host gave it, or is to give it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uuid: Option<String>,
    /// A person's words about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Processors.
    pub cpu: Cpu,
    /// Memory in bytes.
    pub memory: u64,
    /// What starts it.
    pub firmware: Firmware,
    /// What its clock shows when it starts.
    pub clock: Clock,
    /// The kind of system inside.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub system: Option<System>,
    /// Its disks, in the order of their controllers and slots.
    pub disks: Vec<DiskDevice>,
    /// Drives for media that a person changes.
    pub removable: Vec<Removable>,
    /// Its network adapters.
    pub adapters: Vec<Adapter>,
    /// Number of its serial ports.
    pub serial_ports: u32,
    /// What its file describes, and this model cannot hold.
    pub leftovers: Vec<Leftover>,
}

/// Processors: sockets times cores.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cpu {
    /// Sockets.
    pub sockets: u32,
    /// Cores of each socket.
    pub cores: u32,
}

impl Cpu {
    /// All cores.
    pub fn total(self) -> u32 {
        self.sockets.saturating_mul(self.cores)
    }
}

impl fmt::Display for Cpu {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let plural = |n: u32| if n == 1 { "" } else { "s" };
        let (s, c) = (self.sockets, self.cores);
        write!(f, "{s} socket{} × {c} core{}", plural(s), plural(c))
    }
}

/// What starts the machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase", tag = "kind")]
pub enum Firmware {
    /// Boots from a master boot record.
    Bios,
    /// Boots a loader from an EFI system partition.
    Uefi {
        /// Only a signed loader is started.
        secure_boot: bool,
    },
}

impl Firmware {
    /// The word for it in destinations: `bios` or `uefi`.
    pub fn name(self) -> &'static str {
        match self {
            Self::Bios => "bios",
            Self::Uefi { .. } => "uefi",
        }
    }
}

impl fmt::Display for Firmware {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Bios => "BIOS",
            Self::Uefi { secure_boot: false } => "UEFI",
            Self::Uefi { secure_boot: true } => "UEFI with secure boot",
        })
    }
}

/// What the machine's clock shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Clock {
    /// Coordinated universal time, as Linux and most others expect.
    Utc,
    /// The host's local time.
    Local,
}

/// The kind of system inside, as CIM's `OSType` numbers it (DMTF CIM schema, `CIM_OperatingSystem.OSType`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct System {
    /// The number.
    pub cim_os_type: u16,
    /// The source's own word for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
}

impl System {
    /// Whether a system of this kind keeps the machine's clock in local time.
    pub fn keeps_local_time(&self) -> bool {
        cim::keeps_local_time(self.cim_os_type)
    }

    /// Whether a system of this kind is older than PCI Express.
    pub fn predates_pcie(&self) -> bool {
        cim::predates_pcie(self.cim_os_type)
    }
}

impl fmt::Display for System {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.description {
            Some(description) => f.write_str(description),
            None => write!(f, "CIM OS type {}", self.cim_os_type),
        }
    }
}

macro_rules! words {
    ($(#[$outer:meta])* $name:ident { $($(#[$inner:meta])* $variant:ident = $word:literal,)+ }) => {
        $(#[$outer])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
        pub enum $name { $($(#[$inner])* #[serde(rename = $word)] $variant,)+ }

        impl $name {
            /// The word for it in files and messages.
            pub fn name(self) -> &'static str {
                match self { $(Self::$variant => $word,)+ }
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(self.name())
            }
        }
    };
}

words! {
    /// What a disk is attached to.
    ControllerKind {
        /// Virtio SCSI host adapter.
        VirtioScsi = "virtio-scsi",
        /// A virtio block device of its own for each disk.
        VirtioBlk = "virtio-blk",
        /// SATA by AHCI.
        Ahci = "ahci",
        /// Parallel ATA.
        Ide = "ide",
        /// Paravirtual SCSI.
        Pvscsi = "pvscsi",
        /// LSI 53c1030, parallel SCSI.
        Lsi = "lsi",
        /// LSI SAS 1068.
        LsiSas = "lsi-sas",
        /// BusLogic parallel SCSI.
        Buslogic = "buslogic",
        /// NVM Express.
        Nvme = "nvme",
        /// SCSI over VMBus.
        VmbusScsi = "vmbus-scsi",
        /// USB storage.
        Usb = "usb",
        /// Its file does not say, or says it in a word that is not known.
        Unknown = "unknown",
    }
}

words! {
    /// The model of a network adapter.
    AdapterModel {
        /// Virtio network device.
        VirtioNet = "virtio-net",
        /// Intel 82540/82545 family.
        E1000 = "e1000",
        /// Intel 82574.
        E1000e = "e1000e",
        /// Paravirtual, third generation.
        Vmxnet3 = "vmxnet3",
        /// Paravirtual, second generation.
        Vmxnet2 = "vmxnet2",
        /// AMD PCnet.
        Pcnet = "pcnet",
        /// Realtek 8139.
        Rtl8139 = "rtl8139",
        /// Synthetic adapter over VMBus.
        VmbusNet = "vmbus-net",
        /// Elastic network adapter.
        Ena = "ena",
        /// Its file does not say, or says it in a word that is not known.
        Unknown = "unknown",
    }
}

/// A disk, as it is attached.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DiskDevice {
    /// The name its file gives it.
    pub id: String,
    /// The files that hold its bytes, in order, relative to the machine file; several are pieces of one image, none
    /// means that the disk starts empty.
    pub files: Vec<String>,
    /// How those files are compressed as a whole, such as "gzip".
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub compression: Option<String>,
    /// Size in bytes, where the file states it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub capacity: Option<u64>,
    /// What it is attached to.
    pub controller: ControllerKind,
    /// Which of the controllers of that kind, from 0.
    pub bus: u32,
    /// Its place there, from 0.
    pub slot: u32,
    /// Its place in the boot order, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boot: Option<u32>,
}

/// What a removable drive takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum RemovableKind {
    /// CD or DVD.
    Cdrom,
    /// Floppy disk.
    Floppy,
}

/// A drive for media that a person changes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Removable {
    /// What it takes.
    pub kind: RemovableKind,
    /// What it is attached to.
    pub controller: ControllerKind,
    /// The file that lay in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub media: Option<String>,
}

/// A network adapter.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Adapter {
    /// The source's own word for it.
    pub name: String,
    /// Its model.
    pub model: AdapterModel,
    /// Hardware address, six pairs of lower-case hexadecimal digits with colons.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mac: Option<String>,
    /// The network it is connected to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<String>,
}

/// Something that the machine file describes, and the model cannot hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Leftover {
    /// What it is, such as "sound card".
    pub what: String,
    /// The source's own word for it.
    pub detail: String,
}
