//! Destinations: what a guest will find where it is going. Each is TOML; ours are part of the program, and a
//! [`Site`](crate::Site) adds to them.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::{
    device::{AdapterModel, ControllerKind},
    error::{Error, Result},
    kind::MachineFile,
    model::Firmware,
    suggest::explain,
    typed::Name,
    units::bytes_per_unit,
};

/// A place that machines can go to. Lists start with what is proposed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Destination {
    /// The name to call it by: the file's name without its ending.
    #[serde(skip_deserializing)]
    pub name: String,
    /// Where what is said here comes from.
    #[serde(skip_deserializing)]
    pub origin: String,
    /// What it is, in a line.
    pub summary: String,
    /// Disk shapes that it takes.
    pub disks: Vec<DiskShape>,
    /// Controllers that its machines have.
    pub controllers: Vec<Controller>,
    /// Adapter models that its machines have.
    pub adapters: Vec<AdapterModel>,
    /// Firmware that its machines start with: `bios`, `uefi`.
    pub firmware: Vec<String>,
    /// Kinds of machine file that it takes.
    pub machine_files: Vec<MachineFile>,
    /// The hardware family that stands in an OVF descriptor for it.
    #[serde(default, skip_serializing)]
    pub hardware_family: Option<String>,
    /// The network that adapters are connected to when nothing else is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<Name>,
    /// The kind of host, for the helpers that a guest may have for it: `virtio`, `vmx`, `vdi`, `vmbus`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub helpers: Option<String>,
    /// Installers of its agent for Windows systems, as they are called on a driver medium, whatever their folder.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub agents: Vec<String>,
    /// What it does not have: `tpm`, `secure-boot`, `serial-ports`, `drives`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lacks: Vec<Lacking>,
    /// What it refuses.
    #[serde(default)]
    pub rules: Rules,
    /// What a guest needs for a controller or an adapter, by its word.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub guest: BTreeMap<String, Needs>,
}

/// Something that a destination's machines may lack.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Lacking {
    /// A trusted platform module.
    Tpm,
    /// Firmware that starts only what is signed.
    SecureBoot,
    /// Serial ports.
    SerialPorts,
    /// Drives for media that a person changes.
    Drives,
}

/// What a guest needs to find a device.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Needs {
    /// Modules of a Linux kernel, from the bus to the device.
    pub modules: Vec<String>,
    /// The device that each of them drives, as such a kernel names it for finding a driver (`modalias`).
    pub devices: Vec<String>,
    /// Services of a Windows system that drive it, from the bus to the device; `|` stands between what different versions have.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub drivers: Vec<String>,
    /// The device that each of them drives, as such a system identifies it: one on PCI with all that is known of it, as
    /// `PCI\VEN_1AF4&DEV_1048&SUBSYS_11001AF4&REV_01&CC_010000`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub ids: Vec<String>,
}

/// A disk shape, as `FORMAT/LAYOUT`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct DiskShape {
    /// The shape.
    pub shape: String,
    /// The stream it is wrapped in, such as `gzip`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wrapped: Option<String>,
    /// The machine files that it goes with, where not all of them do.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub machine_files: Vec<MachineFile>,
}

impl DiskShape {
    /// Whether it goes with a machine file of `kind`.
    pub fn goes_with(&self, kind: MachineFile) -> bool {
        self.machine_files.is_empty() || self.machine_files.contains(&kind)
    }
}

/// A kind of controller.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Controller {
    /// The kind.
    pub kind: ControllerKind,
    /// Disks that all controllers of the kind hold together.
    pub slots: u32,
    /// Disks that one of them holds; all of them when it is not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub each: Option<u32>,
    /// A place on each that no disk can have: the controller's own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own_place: Option<u32>,
    /// Firmware that boots from it.
    pub boots: Vec<String>,
}

impl Controller {
    /// Bus and slot of each place, in order.
    pub fn places(&self) -> impl Iterator<Item = (u32, u32)> {
        let each = self.each.unwrap_or(self.slots).max(1);
        // The controller's own place is one more number on each bus.
        let numbers = each + u32::from(self.own_place.is_some());
        let own = self.own_place;
        let all = (0..).flat_map(move |bus| (0..numbers).map(move |slot| (bus, slot)));
        all.filter(move |(_, slot)| own != Some(*slot)).take(self.slots as usize)
    }

    /// Whether machines with `firmware` boot from it.
    pub fn boots(&self, firmware: Firmware) -> bool {
        self.boots.iter().any(|name| name == firmware.name())
    }
}

/// What a destination refuses.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Rules {
    /// A disk's size must be a multiple of this, such as `1MiB`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub size_multiple: Option<String>,
    /// The largest disk, such as `2040GiB`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub largest_disk: Option<String>,
    /// Only disks with all their space present.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub full_only: bool,
    /// Characters that a name may have: single ones and ranges, such as `a-z0-9-`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name_characters: Option<String>,
    /// The longest name, in characters.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub longest_name: Option<u32>,
    /// Whether it is a cloud: people see its machines over the network alone.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub cloud: bool,
    /// The serial port that it shows, as a Linux kernel's parameter `console` names it: `ttyS0,115200`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub serial_console: Option<String>,
    /// It gives the first adapter its address.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub dhcp: bool,
    /// The network is the only way in, so that a server for remote logins starts with the system.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub remote_login: bool,
    /// It wants no swap space on the system's disk.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub no_swap: bool,
    /// Sources of cloud-init that it has, as cloud-init calls them: `NoCloud`, `ConfigDrive`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub data_sources: Vec<String>,
}

/// Bytes of a size such as `2040GiB`.
#[expect(clippy::string_slice, reason = "cut where the digits end")]
fn bytes(text: &str) -> Option<u64> {
    let digits = text.find(|c: char| !c.is_ascii_digit())?;
    let unit = text[digits..].trim();
    text[..digits].parse::<u64>().ok()?.checked_mul(bytes_per_unit(unit).filter(|_| unit.ends_with("iB"))?)
}

impl Rules {
    /// The number of bytes that a disk's size must be a multiple of.
    pub fn multiple(&self) -> u64 {
        self.size_multiple.as_deref().and_then(bytes).unwrap_or(1).max(1)
    }

    /// The size in bytes of the largest disk.
    pub fn largest(&self) -> Option<u64> {
        self.largest_disk.as_deref().and_then(bytes)
    }

    /// Whether a name may hold `c`. Every name becomes a file's, so it is of ASCII letters, digits, `.`, `_` and `-` in
    /// any case.
    #[expect(clippy::indexing_slicing, reason = "the place is one past what was found")]
    pub fn allows(&self, c: char) -> bool {
        let plain = c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-');
        let Some(set) = &self.name_characters else { return plain };
        let set: Vec<char> = set.chars().collect();
        let mut at = 0;
        let mut listed = false;
        while at < set.len() {
            match set[at..] {
                [from, '-', to, ..] => {
                    listed |= (from..=to).contains(&c);
                    at += 3;
                }
                [one, ..] => {
                    listed |= one == c;
                    at += 1;
                }
                [] => break,
            }
        }
        plain && listed
    }
}

/// The destinations that are part of the program: name and file.
pub(crate) const BUILT_IN: [(&str, &str); 7] = [
    ("virtio-host", include_str!("../data/virtio-host.toml")),
    ("vmx-host", include_str!("../data/vmx-host.toml")),
    ("vdi-host", include_str!("../data/vdi-host.toml")),
    ("vmbus-host", include_str!("../data/vmbus-host.toml")),
    ("virtio-cloud", include_str!("../data/virtio-cloud.toml")),
    ("nvme-cloud", include_str!("../data/nvme-cloud.toml")),
    ("vmbus-cloud", include_str!("../data/vmbus-cloud.toml")),
];

impl Destination {
    /// Reads the destination called `name` from `text`, which comes from `origin`.
    ///
    /// # Errors
    /// [`Error::Destination`] for TOML that is not sound, an unknown key, an empty list, or a size that is none.
    pub fn parse(name: &str, text: &str, origin: &str) -> Result<Self> {
        let wrong = |what: String| Error::Destination { file: name.into(), what };
        let mut destination: Self = toml::from_str(text).map_err(|error| wrong(explain(text, &error)))?;
        let lists = [
            ("disks", destination.disks.is_empty()),
            ("controllers", destination.controllers.is_empty()),
            ("adapters", destination.adapters.is_empty()),
            ("firmware", destination.firmware.is_empty()),
            ("machine-files", destination.machine_files.is_empty()),
        ];
        if let Some((key, _)) = lists.iter().find(|(_, empty)| *empty) {
            return Err(wrong(format!("'{key}' is empty")));
        }
        for size in [&destination.rules.size_multiple, &destination.rules.largest_disk].into_iter().flatten() {
            bytes(size).ok_or_else(|| wrong(format!("'{size}' is not a size such as '2040GiB'")))?;
        }
        let is_word = |text: &str, others: &[char]| {
            !text.is_empty() && text.chars().all(|c| c.is_ascii_alphanumeric() || others.contains(&c))
        };
        let rules = &destination.rules;
        if let Some(port) = rules.serial_console.as_ref().filter(|port| !is_word(port, &[','])) {
            return Err(wrong(format!("'{port}' is not a console such as 'ttyS0,115200'")));
        }
        if let Some(source) = rules.data_sources.iter().find(|source| !is_word(source, &[])) {
            return Err(wrong(format!("'{source}' is not a source such as 'NoCloud'")));
        }
        for (device, needs) in &destination.guest {
            if needs.modules.len() != needs.devices.len() {
                return Err(wrong(format!("'{device}' needs as many devices as modules: one for each")));
            }
            // Devices without a name of a driver are those that a medium may have one for.
            if !needs.drivers.is_empty() && needs.drivers.len() != needs.ids.len() {
                return Err(wrong(format!("'{device}' needs as many ids as drivers: one for each")));
            }
        }
        let controllers = &destination.controllers;
        for firmware in &destination.firmware {
            if !controllers.iter().any(|controller| controller.boots.contains(firmware)) {
                return Err(wrong(format!("no controller boots with {firmware}")));
            }
        }
        for kind in &destination.machine_files {
            if !destination.disks.iter().any(|disk| disk.goes_with(*kind)) {
                return Err(wrong(format!("no disk shape goes with {}", kind.word())));
            }
        }
        destination.name = name.into();
        destination.origin = origin.into();
        Ok(destination)
    }

    /// The controller that is proposed for the boot disk of a machine with `firmware`.
    pub fn boot_controller(&self, firmware: Firmware) -> Option<&Controller> {
        self.controllers.iter().find(|controller| controller.boots(firmware))
    }

    /// The kind of machine file that is proposed: the first that takes the first shape.
    pub fn machine_file(&self) -> Option<MachineFile> {
        let first = self.disks.first()?;
        self.machine_files.iter().copied().find(|kind| first.goes_with(*kind))
    }

    /// Whether its machines lack something.
    pub fn lacks(&self, what: Lacking) -> bool {
        self.lacks.contains(&what)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Site;

    #[test]
    fn all_seven_are_sound_and_each_boots_something() {
        let all = Site::default().destinations().unwrap();
        assert_eq!(all.len(), 7);
        for destination in &all {
            for controller in &destination.controllers {
                assert_eq!(controller.places().count(), controller.slots as usize);
                assert!(destination.guest.contains_key(controller.kind.name()), "{}", destination.name);
            }
            assert!(destination.adapters.iter().all(|model| destination.guest.contains_key(model.name())));
            assert!(destination.machine_file().is_some());
        }
        let bios = Site::default().destination("vmbus-host").unwrap();
        let ide = bios.boot_controller(Firmware::Bios).unwrap();
        assert_eq!(ide.kind, ControllerKind::Ide);
        assert_eq!(ide.places().collect::<Vec<_>>(), [(0, 0), (0, 1), (1, 0), (1, 1)]);
        let vmx = Site::default().destination("vmx-host").unwrap();
        assert_eq!(vmx.controllers[0].places().nth(7), Some((0, 8)), "7 is the controller's own");
        assert_eq!(vmx.controllers[0].places().nth(15), Some((1, 0)));
    }

    #[test]
    fn sizes_and_names_follow_the_rules() {
        let rules =
            Rules { size_multiple: Some("1MiB".into()), name_characters: Some("a-z0-9-".into()), ..Rules::default() };
        assert_eq!(rules.multiple(), 1 << 20);
        let allowed: String = "aZ5-_.é/".chars().filter(|c| rules.allows(*c)).collect();
        assert_eq!(allowed, "a5-");
        assert_eq!(["1GB", "GiB", "99999999999TiB", "5"].map(bytes), [None; 4]);
    }

    #[test]
    fn unknown_names_and_keys_are_told() {
        let error = Site::default().destination("virtio").unwrap_err().to_string();
        assert!(error.contains("virtio-host, vmx-host"), "{error}");
        let text = include_str!("../data/vdi-host.toml");
        let error = Destination::parse("x", &format!("sumary = 'x'\n{text}"), "").unwrap_err().to_string();
        assert!(error.contains("line 1: the key 'sumary' is not known; did you mean 'summary'?"), "{error}");
        let error =
            Destination::parse("x", &text.replace("\"vbox\", \"ovf\", \"ova\"", ""), "").unwrap_err().to_string();
        assert!(error.contains("'machine-files' is empty"), "{error}");
    }
}
