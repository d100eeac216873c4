//! The kinds of machine file: which one it is, reading any of them, and what goes lost when one is written.

use std::collections::{HashMap, HashSet};

use serde::{Deserialize, Serialize};

use crate::{
    domain,
    error::{Error, Result},
    launch, limits,
    model::Machine,
    ovf::{self, PackageFile},
    typed::Name,
    vbox, vmx,
};

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
    /// A script that makes the machine, and an OVF descriptor that says what it is.
    StartScript,
    /// What a cloud's import needs, as JSON.
    LaunchJson,
}

impl MachineFile {
    /// All of them.
    pub const ALL: [Self; 7] =
        [Self::DomainXml, Self::Ovf, Self::Ova, Self::Vmx, Self::Vbox, Self::StartScript, Self::LaunchJson];

    /// The word for it in briefs and destinations.
    pub fn word(self) -> &'static str {
        match self {
            Self::DomainXml => "domain-xml",
            Self::Ovf => "ovf",
            Self::Ova => "ova",
            Self::Vmx => "vmx",
            Self::Vbox => "vbox",
            Self::StartScript => "start-script",
            Self::LaunchJson => "launch-json",
        }
    }

    /// The kind that `word` stands for.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }

    /// The words for it in sentences.
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

    /// The kind of the file whose start is `head`.
    pub fn detect(head: &[u8]) -> Option<Self> {
        let kinds = [Self::Ovf, Self::DomainXml, Self::Vbox, Self::LaunchJson, Self::Vmx];
        kinds.into_iter().find(|kind| match kind {
            Self::DomainXml => domain::looks_like(head),
            Self::Vbox => vbox::looks_like(head),
            Self::LaunchJson => launch::looks_like(head),
            Self::Vmx => vmx::looks_like(head),
            _ => ovf::looks_like(head),
        })
    }
}

/// A machine file that was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Document {
    /// Its kind: never [`MachineFile::Ova`] or [`MachineFile::StartScript`].
    pub kind: MachineFile,
    /// The machines that it describes, at least one.
    pub machines: Vec<Machine>,
    /// The files that a package lists with their lengths; empty for other kinds.
    pub files: Vec<PackageFile>,
    /// Files of disks that those of the machines may be deltas of.
    pub related: Vec<String>,
}

/// Reads a machine file of `kind`, which is called `file` in errors.
///
/// # Errors
/// Those of the kind's reader.
pub fn read(kind: MachineFile, bytes: &[u8], file: &str) -> Result<Document> {
    let mut document = read_as_is(kind, bytes, file)?;
    for machine in &mut document.machines {
        if let Some(what) = limits::excess(machine) {
            return Err(Error::Unsupported { file: file.into(), what });
        }
        tell_apart(machine.adapters.iter_mut().map(|adapter| &mut adapter.name));
        tell_apart(machine.disks.iter_mut().map(|disk| &mut disk.id));
    }
    Ok(document)
}

/// Gives every name its own: a brief calls disks and adapters by it.
fn tell_apart<'n>(names: impl Iterator<Item = &'n mut Name>) {
    let mut known: HashSet<Name> = HashSet::new();
    // From where to count on for each name: a thousand equal ones take a thousand steps.
    let mut counts: HashMap<Name, usize> = HashMap::new();
    for name in names {
        let base = name.clone();
        let count = counts.entry(base.clone()).or_insert(1);
        while known.contains(name) {
            *count += 1;
            // The number stays when a long name is cut.
            let stem: String = base.chars().take(240).collect();
            *name = Name::cleaned(&format!("{stem} ({count})"), "");
        }
        known.insert(name.clone());
    }
}

fn read_as_is(kind: MachineFile, bytes: &[u8], file: &str) -> Result<Document> {
    let one = |machine: Machine| Document { kind, machines: vec![machine], files: Vec::new(), related: Vec::new() };
    Ok(match kind {
        MachineFile::DomainXml => one(domain::read(bytes, file)?),
        MachineFile::Vmx => one(vmx::read(bytes, file)?),
        MachineFile::Vbox => {
            let settings = vbox::read(bytes, file)?;
            Document { related: settings.media, ..one(settings.machine) }
        }
        MachineFile::LaunchJson => one(launch::read(bytes, file)?),
        MachineFile::Ovf | MachineFile::Ova | MachineFile::StartScript => {
            let package = ovf::read(bytes, file)?;
            let (machines, files) = (package.machines, package.files);
            Document { kind: MachineFile::Ovf, machines, files, related: Vec::new() }
        }
    })
}

/// A disk of a machine that has landed; the machine's own `files` say by which name its file is to call it.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct LandedDisk {
    /// Its format, such as `vmdk`.
    pub format: String,
    /// Its layout, such as `stream`.
    pub layout: String,
    /// How the file is compressed as a whole, such as "gzip".
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub compression: Option<String>,
    /// Guest-visible size in bytes.
    pub size: u64,
    /// Length of the file in bytes.
    pub file_size: u64,
    /// Guest bytes that hold something.
    pub used: u64,
    /// Content digest of the guest-visible bytes, in hexadecimal digits.
    pub content_digest: String,
    /// Identifier that the image carries, for hosts that compare it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image_id: Option<String>,
}

/// A setting that a file of some kind has no word for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Lost {
    /// The setting: its path in the neutral machine, such as `adapters.0.connected`.
    pub setting: String,
    /// Its value.
    pub value: String,
}

/// A setting that is not the same in two machines.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// The setting: its path in the neutral machine, such as `cpu.sockets`.
    pub setting: String,
    /// Its value before; empty where there was none.
    pub before: String,
    /// Its value after; empty where there is none.
    pub after: String,
}

/// What of `machine` is not in `read`, which was read back from the file that was written for it. Disks are numbered in the
/// order of their places: controller, bus, slot.
pub fn lost(machine: &Machine, read: &Machine) -> Vec<Lost> {
    let mut lost = differences(machine, read);
    // What a kind gives on top is no loss.
    lost.retain(|lost| {
        !lost.before.is_empty() && (lost.setting != "serial_ports" || read.serial_ports <= machine.serial_ports)
    });
    lost.into_iter().map(|lost| Lost { setting: lost.setting, value: lost.before }).collect()
}

/// The settings that differ between two machines. Disks are numbered in the order of their places: controller, bus, slot.
pub fn differences(before: &Machine, after: &Machine) -> Vec<Difference> {
    let as_value = |machine: &Machine| {
        let mut settings = Machine { leftovers: Vec::new(), signs: Vec::new(), ..machine.clone() };
        // A file has its own order of controllers; a disk is the one at its place.
        settings.disks.sort_by_key(|disk| (disk.controller.name(), disk.bus, disk.slot));
        serde_json::to_value(settings).unwrap_or_default()
    };
    let mut found = Vec::new();
    compare(&as_value(before), &as_value(after), &mut String::new(), &mut found);
    // Names of disks and adapters, and what the file says of a disk's file, are no settings of the machine.
    let bookkeeping = ["id", "name", "files", "format", "compression", "capacity"];
    found.retain(|difference| {
        let mut parts = difference.setting.split('.');
        !(matches!(parts.next(), Some("disks" | "adapters"))
            && parts.nth(1).is_some_and(|key| bookkeeping.contains(&key)))
    });
    found
}

fn compare(before: &serde_json::Value, after: &serde_json::Value, path: &mut String, found: &mut Vec<Difference>) {
    use serde_json::Value;
    if before == after {
        return;
    }
    let mut inner = |key: &str, before: &Value, after: &Value| {
        let len = path.len();
        if len > 0 {
            path.push('.');
        }
        path.push_str(key);
        compare(before, after, path, found);
        path.truncate(len);
    };
    let null = &Value::Null;
    match (before, after) {
        (Value::Object(before), Value::Object(after)) => {
            for (key, value) in before {
                inner(key, value, after.get(key).unwrap_or(null));
            }
            for (key, value) in after.iter().filter(|(key, _)| !before.contains_key(*key)) {
                inner(key, null, value);
            }
        }
        (Value::Array(before), Value::Array(after)) => {
            for index in 0..before.len().max(after.len()) {
                inner(&index.to_string(), before.get(index).unwrap_or(null), after.get(index).unwrap_or(null));
            }
        }
        _ => {
            let shown = |value: &Value| match value {
                Value::Null => String::new(),
                Value::String(text) => text.clone(),
                other => other.to_string(),
            };
            found.push(Difference { setting: path.clone(), before: shown(before), after: shown(after) });
        }
    }
}
