//! The brief: one move as a person reads and changes it before it is made. TOML.

mod text;

use std::path::{Path, PathBuf};

use reformis_disk::{ByteSize, Shape, ground};
use reformis_machine::{
    AdapterModel, Clock, ControllerKind, Firmware, MachineFile, Name, RemovableKind, Tpm, Uuid, explain,
};
use reformis_wire::clouds::Then;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::error::{Error, Result};

pub use text::{Notes, write};

/// The highest number of a controller or of a place on one that a brief may say.
const MAX_PLACE: u32 = 255;

/// A move.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Brief {
    /// From where to where.
    #[serde(rename = "move")]
    pub journey: Journey,
    /// The machine.
    pub machine: NewMachine,
    /// Its disks; a disk of the source that is not here stays behind.
    #[serde(default)]
    pub disks: Vec<NewDisk>,
    /// Its adapters.
    #[serde(default)]
    pub adapters: Vec<NewAdapter>,
    /// Its drives for media that a person changes.
    #[serde(default)]
    pub drives: Vec<NewDrive>,
    /// What is changed inside.
    #[serde(default)]
    pub guest: NewGuest,
}

/// What is changed inside the guest, apart from what its new hardware needs.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct NewGuest {
    /// Edits that are not made, by name.
    pub leave_out: Vec<String>,
    /// Files of scripts that run once, on the first start.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub first_boot: Vec<String>,
    /// Media with drivers for a Windows guest: folders, ISO images, archives, cabinets.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub drivers: Vec<String>,
    /// The file that cloud-init gets as its user data, on a small medium that lands with the machine.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub user_data: Option<String>,
    /// The file that it gets as the settings of the network, on the same medium.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub network_config: Option<String>,
    /// A new host name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub host_name: Option<String>,
    /// Whether the machine's identity is made anew on the first start.
    pub new_machine_id: bool,
    /// Whether the SSH server's keys are made anew on the first start.
    pub new_ssh_keys: bool,
    /// The folder that what is named must not lead out of: that of the brief or the fleet file, where somebody else may have written it.
    #[serde(skip)]
    pub confined_to: Option<PathBuf>,
}

/// From where to where.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Journey {
    /// Path of what is moved.
    pub source: String,
    /// Its name there, where the source describes several machines.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<String>,
    /// Name of the destination.
    pub destination: String,
    /// The folder in which the landing is made.
    pub into: String,
    /// The store that the disks go to, and the folder there: `NAME:FOLDER`. The landing's folder keeps the machine file and the receipt.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// The cloud that makes an image of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cloud: Option<String>,
    /// What becomes of the image: `image`, or an instance that is `stopped` or `started`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub then: Option<Then>,
    /// The machine file that is written.
    pub machine_file: MachineFile,
    /// Whether settings of the source's machine file stay that are not known to be harmless.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub keep_unknown: bool,
}

/// What starts the machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum FirmwareKind {
    /// Boots from a master boot record.
    Bios,
    /// Boots a loader from an EFI system partition.
    Uefi,
}

/// The machine as it is to be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct NewMachine {
    /// Its name, and that of the landing's folder.
    pub name: String,
    /// A person's words about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Identity that the guest sees; made anew when it is not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uuid: Option<Uuid>,
    /// Sockets.
    pub sockets: u32,
    /// Cores of each socket.
    pub cores: u32,
    /// Memory.
    pub memory: Size,
    /// What starts it.
    pub firmware: FirmwareKind,
    /// Whether UEFI starts only what is signed.
    #[serde(default)]
    pub secure_boot: bool,
    /// A trusted platform module, empty.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tpm: Option<Tpm>,
    /// What its clock shows.
    pub clock: Clock,
    /// The zone of local time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time_zone: Option<String>,
    /// The kind of system, as CIM's `OSType` numbers it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub system: Option<u16>,
    /// A word for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub system_name: Option<String>,
    /// Serial ports.
    #[serde(default)]
    pub serial_ports: u32,
    /// Whether it starts when its host does.
    #[serde(default)]
    pub start_with_host: bool,
}

impl NewMachine {
    /// Firmware and secure boot in one.
    pub fn starts_with(&self) -> Firmware {
        match self.firmware {
            FirmwareKind::Bios => Firmware::Bios,
            FirmwareKind::Uefi => Firmware::Uefi { secure_boot: self.secure_boot },
        }
    }
}

/// A disk as it is to be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct NewDisk {
    /// Its name in the source.
    pub source: String,
    /// The file that holds it, where that is not the one that the source names; may be a device.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The shape in which it lands.
    #[serde(with = "by_text")]
    pub shape: Shape,
    /// How the file is compressed as a whole: `gzip`, `zstd`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub compress: Option<String>,
    /// What it is attached to.
    pub controller: ControllerKind,
    /// Which of those.
    #[serde(default)]
    pub bus: u32,
    /// The place there.
    pub slot: u32,
    /// Its place in the boot order, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boot: Option<u32>,
    /// The size that it is to have, not less than it has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grow: Option<Size>,
    /// Its size is rounded up to a multiple of this.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub align: Option<Size>,
}

/// An adapter as it is to be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct NewAdapter {
    /// Its name in the source; none for one that is new.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// Its model.
    pub model: AdapterModel,
    /// Its hardware address.
    #[serde(with = "by_text")]
    pub mac: Mac,
    /// The network that it is connected to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<Name>,
    /// Whether its cable is plugged in when the machine starts.
    #[serde(default = "yes", skip_serializing_if = "Clone::clone")]
    pub connected: bool,
    /// The name that the guest's system is to give it, in place of the one that it has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub guest_name: Option<String>,
}

fn yes() -> bool {
    true
}

/// A drive as it is to be; it arrives empty.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct NewDrive {
    /// What it takes.
    pub kind: RemovableKind,
    /// What it is attached to.
    pub controller: ControllerKind,
}

/// The hardware address of an adapter.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Mac {
    /// The one that it has.
    Keep,
    /// A new one.
    Fresh,
    /// This one.
    Given(reformis_machine::Mac),
}

impl std::fmt::Display for Mac {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Keep => f.write_str("keep"),
            Self::Fresh => f.write_str("fresh"),
            Self::Given(mac) => mac.fmt(f),
        }
    }
}

impl std::str::FromStr for Mac {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "keep" => Ok(Self::Keep),
            "fresh" => Ok(Self::Fresh),
            other => match other.parse() {
                Ok(mac) => Ok(Self::Given(mac)),
                Err(what) => Err(format!("{what}, or 'keep', or 'fresh'")),
            },
        }
    }
}

/// A number of bytes, written as a person writes it, and exactly.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Size(pub u64);

impl std::fmt::Display for Size {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let units = [("TiB", 40), ("GiB", 30), ("MiB", 20), ("KiB", 10)];
        match units.into_iter().find(|(_, shift)| self.0 > 0 && self.0.is_multiple_of(1 << shift)) {
            Some((unit, shift)) => write!(f, "{}{unit}", self.0 >> shift),
            None => write!(f, "{}", self.0),
        }
    }
}

impl Serialize for Size {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Size {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum Either {
            Bytes(u64),
            Text(String),
        }
        match Either::deserialize(deserializer)? {
            Either::Bytes(bytes) => Ok(Self(bytes)),
            Either::Text(text) => text.parse::<ByteSize>().map(|size| Self(size.0)).map_err(serde::de::Error::custom),
        }
    }
}

/// Values that are written as the text that they print.
mod by_text {
    use std::{fmt::Display, str::FromStr};

    use serde::{Deserialize, Deserializer, Serializer, de::Error};

    pub(super) fn serialize<T: Display, S: Serializer>(value: &T, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(value)
    }

    pub(super) fn deserialize<'de, T, D>(deserializer: D) -> Result<T, D::Error>
    where
        T: FromStr<Err: Display>,
        D: Deserializer<'de>,
    {
        String::deserialize(deserializer)?.parse().map_err(D::Error::custom)
    }
}

/// Whether `text` is a brief, not another kind of file: it has the table of the move.
pub fn looks_like(text: &[u8]) -> bool {
    let text = String::from_utf8_lossy(text);
    text.lines().any(|line| line.trim() == "[move]" || line.trim_start().starts_with("move."))
}

/// Whether `name` is one that a system takes for itself: letters, digits, dots, dashes and underscores.
pub fn is_host_name(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_');
    (1..=64).contains(&name.len()) && name.chars().all(plain)
}

/// The largest brief, in bytes.
const MOST: u64 = 1 << 20;

/// The text of the brief at `path`, and whether only we or the system's administrator can have written it.
///
/// # Errors
/// Those of reading; that it is no plain file, or too long.
pub fn text_of(path: &Path) -> Result<(String, bool)> {
    let file = ground::open_plain(path)?;
    let is_own = ground::is_own(&file, path)?;
    Ok((ground::read_text(file, path, MOST)?, is_own))
}

/// Reads a brief, which is called `file` in messages.
///
/// # Errors
/// [`Error::Brief`] with the line, and with what was probably meant where a key or a word is not known.
pub fn read(text: &str, file: &str) -> Result<Brief> {
    let brief: Brief = toml::from_str(text)
        .map_err(|error: toml::de::Error| Error::Brief { file: file.into(), what: explain(text, &error) })?;
    let wrong = |what: &str| Err(Error::Brief { file: file.into(), what: what.into() });
    let machine = &brief.machine;
    if machine.sockets.checked_mul(machine.cores).is_none_or(|total| !(1..=4096).contains(&total)) {
        return wrong("sockets times cores is not from 1 to 4096");
    }
    if !(1 << 20..=1 << 46).contains(&machine.memory.0) {
        return wrong("memory is not from 1MiB to 64TiB");
    }
    if brief.disks.iter().any(|disk| disk.bus > MAX_PLACE || disk.slot > MAX_PLACE) {
        return wrong(&format!("bus and slot are from 0 to {MAX_PLACE}"));
    }
    if brief.guest.host_name.as_ref().is_some_and(|name| !is_host_name(name)) {
        return wrong("host-name is not valid: it takes letters, digits, dots and dashes");
    }
    let names = brief.adapters.iter().filter_map(|adapter| adapter.guest_name.as_ref());
    if names.into_iter().any(|name| !is_host_name(name) || name.len() > 15) {
        return wrong("guest-name is not valid: it takes at most 15 letters, digits, dots and dashes");
    }
    Ok(brief)
}
