//! Destinations: what a guest will find where it is going. Each is a TOML file; ours are part of the program.

use serde::{Deserialize, Serialize};

use crate::{
    error::{Error, Result},
    model::{AdapterModel, ControllerKind, Firmware},
};

/// A place that machines can go to. Lists start with what is proposed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Destination {
    /// The name to call it by: the file's name without its ending.
    #[serde(skip_deserializing)]
    pub name: String,
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
    /// The network that adapters are connected to when nothing else is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<String>,
    /// What it refuses.
    #[serde(default)]
    pub rules: Rules,
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
}

/// A kind of controller.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Controller {
    /// The kind.
    pub kind: ControllerKind,
    /// Disks that all controllers of the kind hold together.
    pub slots: u32,
    /// Firmware that boots from it.
    pub boots: Vec<String>,
}

/// Kinds of machine file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum MachineFile {
    /// libvirt's domain XML.
    DomainXml,
    /// An OVF descriptor beside its disks.
    Ovf,
    /// The same in one archive.
    Ova,
    /// A `.vmx` file.
    Vmx,
    /// A `.vbox` file.
    Vbox,
    /// A script that makes the machine.
    StartScript,
    /// What a cloud's import needs, as JSON.
    LaunchJson,
}

impl MachineFile {
    /// Whether this version writes the kind.
    pub fn is_written(self) -> bool {
        self == Self::DomainXml
    }

    /// The words for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::DomainXml => "domain XML",
            Self::Ovf => "OVF",
            Self::Ova => "OVA",
            Self::Vmx => ".vmx",
            Self::Vbox => ".vbox",
            Self::StartScript => "start script",
            Self::LaunchJson => "launch JSON",
        }
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
}

/// The destinations that are part of the program: name and file.
const BUILT_IN: [(&str, &str); 7] = [
    ("virtio-host", include_str!("../data/virtio-host.toml")),
    ("vmx-host", include_str!("../data/vmx-host.toml")),
    ("vdi-host", include_str!("../data/vdi-host.toml")),
    ("vmbus-host", include_str!("../data/vmbus-host.toml")),
    ("virtio-cloud", include_str!("../data/virtio-cloud.toml")),
    ("nvme-cloud", include_str!("../data/nvme-cloud.toml")),
    ("vmbus-cloud", include_str!("../data/vmbus-cloud.toml")),
];

impl Destination {
    /// Reads the destination called `name` from `text`.
    ///
    /// # Errors
    /// [`Error::Destination`] for TOML that is not sound, an unknown key, or an empty list.
    pub fn parse(name: &str, text: &str) -> Result<Self> {
        let wrong = |what: String| Error::Destination { file: name.into(), what };
        let mut destination: Self = toml::from_str(text).map_err(|error| wrong(error.to_string()))?;
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
        destination.name = name.into();
        Ok(destination)
    }

    /// All destinations, in the order in which they are listed.
    ///
    /// # Errors
    /// [`Error::Destination`].
    pub fn all() -> Result<Vec<Self>> {
        BUILT_IN.iter().map(|(name, text)| Self::parse(name, text)).collect()
    }

    /// The destination called `name`.
    ///
    /// # Errors
    /// [`Error::NoDestination`], [`Error::Destination`].
    pub fn find(name: &str) -> Result<Self> {
        match BUILT_IN.iter().find(|(known, _)| *known == name) {
            Some((_, text)) => Self::parse(name, text),
            None => Err(Error::NoDestination {
                name: name.into(),
                known: BUILT_IN.iter().map(|(known, _)| known.to_string()).collect(),
            }),
        }
    }

    /// The controller that is proposed for the boot disk of a machine with `firmware`.
    pub fn boot_controller(&self, firmware: Firmware) -> Option<&Controller> {
        self.controllers.iter().find(|controller| controller.boots.iter().any(|name| name == firmware.name()))
    }

    /// The kind of machine file that is written for it by this version.
    pub fn written_machine_file(&self) -> Option<MachineFile> {
        self.machine_files.iter().copied().find(|kind| kind.is_written())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_seven_are_sound_and_each_boots_something() {
        let all = Destination::all().unwrap();
        assert_eq!(all.len(), 7);
        for destination in &all {
            for name in &destination.firmware {
                let firmware = if name == "bios" { Firmware::Bios } else { Firmware::Uefi { secure_boot: false } };
                assert!(destination.boot_controller(firmware).is_some(), "{} {name}", destination.name);
            }
        }
        let bios = Destination::find("vmbus-host").unwrap();
        assert_eq!(bios.boot_controller(Firmware::Bios).unwrap().kind, ControllerKind::Ide);
    }

    #[test]
    fn unknown_names_and_keys_are_told() {
        let error = Destination::find("virtio").unwrap_err().to_string();
        assert!(error.contains("virtio-host, vmx-host"), "{error}");
        let text = include_str!("../data/vdi-host.toml");
        let error = Destination::parse("x", &format!("sumary = 'x'\n{text}")).unwrap_err().to_string();
        assert!(error.contains("sumary"), "{error}");
        let error = Destination::parse("x", &text.replace("\"ovf\", \"vbox\"", "")).unwrap_err().to_string();
        assert!(error.contains("'machine-files' is empty"), "{error}");
    }
}
