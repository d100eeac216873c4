//! The table of all kinds of machine file: which one a file is, reading any of them, and what is not kept of one.

use std::collections::{HashMap, HashSet};

use crate::{
    domain,
    earlier::Keep,
    error::{Error, Result},
    kind::MachineFile,
    launch, limits,
    model::Machine,
    ovf::{self, PackageFile},
    typed::Name,
    vbox, vmx, xml,
};

impl MachineFile {
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

/// The settings in the machine file `text` of `kind` that are not known to be harmless: the names that the file gives them,
/// in its order, each once.
pub fn unknown(kind: MachineFile, text: &str) -> Vec<String> {
    use MachineFile as Kind;
    let in_xml = |kept: fn(&roxmltree::Document<'_>, Keep) -> xml::write::Kept| {
        xml::parse(text, "").map(|document| kept(&document, Keep::Harmless).unknown).unwrap_or_default()
    };
    let mut names = match kind {
        Kind::DomainXml => in_xml(domain::kept),
        Kind::Vbox => in_xml(vbox::kept),
        Kind::Ovf | Kind::Ova => in_xml(ovf::kept),
        Kind::Vmx => vmx::unknown(text),
        Kind::LaunchJson => launch::unknown(text),
        Kind::StartScript => Vec::new(),
    };
    let mut told = HashSet::new();
    names.retain(|name| told.insert(name.clone()));
    names
}
