//! The neutral machine: the hardware settings of a guest, in the words of no host.

use std::{collections::HashMap, fmt};

use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::{
    device::{Adapter, ControllerKind, DiskDevice, Leftover, Removable, Tpm},
    systems::System,
    typed::Name,
};

/// The hardware settings of a guest.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Machine {
    /// Its name, as its host shows it.
    pub name: Name,
    /// Identity that its host gave it, or is to give it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uuid: Option<Uuid>,
    /// A person's words about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Processors.
    pub cpu: Cpu,
    /// Memory in bytes.
    pub memory: u64,
    /// What starts it.
    pub firmware: Firmware,
    /// File of the firmware's variables, relative to the machine file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nvram: Option<String>,
    /// Its trusted platform module.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tpm: Option<Tpm>,
    /// What its clock shows when it starts.
    pub clock: Clock,
    /// The zone of local time, by its name in the IANA database, where it is not the host's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time_zone: Option<String>,
    /// Whether it starts when its host does.
    #[serde(default)]
    pub start_with_host: bool,
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
    /// What its file tells of its state.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub signs: Vec<Sign>,
}

impl Machine {
    /// A machine with nothing but a name: what a host gives when nothing else is said.
    pub fn new(name: impl AsRef<str>) -> Self {
        Self {
            name: Name::cleaned(name.as_ref(), "machine"),
            uuid: None,
            description: None,
            cpu: Cpu { sockets: 1, cores: 1 },
            memory: 1 << 30,
            firmware: Firmware::Bios,
            nvram: None,
            tpm: None,
            clock: Clock::Utc,
            time_zone: None,
            start_with_host: false,
            system: None,
            disks: Vec::new(),
            removable: Vec::new(),
            adapters: Vec::new(),
            serial_ports: 0,
            leftovers: Vec::new(),
            signs: Vec::new(),
        }
    }

    /// Makes the disk at `first` the first in the boot order, unless one is already.
    pub(crate) fn settle_boot(&mut self, first: usize) {
        if self.disks.iter().all(|disk| disk.boot.is_none())
            && let Some(disk) = self.disks.get_mut(first)
        {
            disk.boot = Some(1);
        }
    }

    /// Puts the disks in the order of their controllers and slots, the kinds as they came first.
    pub(crate) fn sort_disks(&mut self) {
        let mut ranks: HashMap<ControllerKind, usize> = HashMap::new();
        for disk in &self.disks {
            let next = ranks.len();
            ranks.entry(disk.controller).or_insert(next);
        }
        self.disks.sort_by_key(|disk| (ranks.get(&disk.controller).copied(), disk.bus, disk.slot));
    }
}

/// What a machine file tells of the machine's state.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase", tag = "sign")]
pub enum Sign {
    /// It was running when its file was written.
    Running,
    /// Its memory is kept in a file: it was suspended, not shut down.
    Suspended {
        /// The file, where it is named.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        file: Option<String>,
    },
    /// Its settings or its disks are encrypted by its host.
    Encrypted,
    /// Its host keeps snapshots of it.
    Snapshots {
        /// How many.
        count: u32,
    },
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
