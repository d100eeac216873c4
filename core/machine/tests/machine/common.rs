//! What the tests of machine files share.

use std::{fs, path::Path};

use reformis_machine::{Document, Earlier, LandedDisk, Machine, MachineFile, domain, launch, ovf, read, vbox, vmx};

/// All samples: name and content, sorted.
pub(crate) fn samples() -> Vec<(String, Vec<u8>)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/machine/samples");
    let mut samples: Vec<_> = fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap())
        .map(|entry| (entry.file_name().into_string().unwrap(), fs::read(entry.path()).unwrap()))
        .collect();
    samples.sort();
    samples
}

pub(crate) fn document(name: &str, bytes: &[u8]) -> Document {
    let kind = MachineFile::detect(&bytes[..bytes.len().min(4096)]);
    read(kind.unwrap_or_else(|| panic!("{name} is not recognised")), bytes, name).unwrap()
}

pub(crate) fn landed(machine: &Machine) -> Vec<LandedDisk> {
    let disk = |index: usize| LandedDisk {
        format: "vmdk".into(),
        layout: "stream".into(),
        size: 1 << 30,
        file_size: 70_000 + index as u64,
        used: 65_536,
        content_digest: "ab".repeat(32),
        ..LandedDisk::default()
    };
    (0..machine.disks.len()).map(disk).collect()
}

pub(crate) const KINDS: [MachineFile; 5] =
    [MachineFile::DomainXml, MachineFile::Ovf, MachineFile::Vmx, MachineFile::Vbox, MachineFile::LaunchJson];

pub(crate) fn write(kind: MachineFile, machine: &Machine, earlier: Option<Earlier<'_>>) -> String {
    match kind {
        MachineFile::DomainXml => domain::write(machine, earlier).unwrap(),
        MachineFile::Vmx => vmx::write(machine, earlier),
        MachineFile::Vbox => vbox::write(machine, &landed(machine), earlier).unwrap(),
        MachineFile::LaunchJson => launch::write(machine, &landed(machine), "nvme-cloud", earlier),
        _ => ovf::write(machine, &landed(machine), "vmx-14", earlier).unwrap(),
    }
}
