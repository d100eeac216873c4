//! The machine file of a landing, and what belongs to it.

use std::{io, path::Path};

use reformis_disk::{ByteSize, budget::Held, source::Access};
use reformis_machine::{
    Destination, Earlier, LandedDisk, Lost, Machine, MachineFile, RemovableKind, domain, launch, ovf, script, vbox, vmx,
};

use crate::{
    error::{Error, Result},
    plan::Plan,
    staging::{Place, write_into},
    target,
};

/// The most bytes that a host keeps of a firmware's variables.
const MAX_NVRAM: u64 = 64 << 20;
/// A machine file in the making, and others that belong to it.
#[derive(Debug)]
pub(crate) struct MachineFiles {
    /// Name and content; the first is the machine file itself.
    pub(crate) files: Vec<(String, Vec<u8>)>,
}

/// The machine file or files of `plan`, whose machine names its disks' files already.
pub(crate) fn machine_files(
    machine: &Machine,
    kind: MachineFile,
    landed: &[LandedDisk],
    destination: &Destination,
    earlier: Option<Earlier<'_>>,
) -> Result<MachineFiles> {
    let name = &machine.name;
    let failed = |error: io::Error| Error::io("writing", Path::new(name.as_str()))(error);
    let descriptor = |earlier| ovf::write(machine, landed, family(destination), earlier).map_err(failed);
    let file = |ending: &str, text: String| (format!("{name}.{ending}"), text.into_bytes());
    let files = match kind {
        MachineFile::DomainXml => vec![file("xml", domain::write(machine, earlier).map_err(failed)?)],
        MachineFile::Ovf | MachineFile::Ova => vec![file("ovf", descriptor(earlier)?)],
        MachineFile::Vmx => vec![file("vmx", vmx::write(machine, earlier))],
        MachineFile::Vbox => vec![file("vbox", vbox::write(machine, landed, earlier).map_err(failed)?)],
        MachineFile::StartScript => vec![file("ps1", script::write(machine)), file("ovf", descriptor(None)?)],
        MachineFile::LaunchJson => {
            vec![file("launch.json", launch::write(machine, landed, &destination.name, earlier))]
        }
    };
    Ok(MachineFiles { files })
}

/// The hardware family of a descriptor for `destination`.
fn family(destination: &Destination) -> &str {
    destination.hardware_family.as_deref().unwrap_or("vmx-14")
}

/// What of `machine` its machine file has no word for: found by reading the file back.
pub(crate) fn lost(
    machine: &Machine,
    kind: MachineFile,
    destination: &Destination,
    files: &MachineFiles,
) -> Result<Vec<Lost>> {
    if kind == MachineFile::StartScript {
        return Ok(script::unsaid(machine));
    }
    let Some((name, bytes)) = files.files.first() else { return Ok(Vec::new()) };
    let read = reformis_machine::read(kind, bytes, name)?;
    let mut lost = read.machines.first().map(|read| reformis_machine::lost(machine, read)).unwrap_or_default();
    if matches!(kind, MachineFile::Ovf | MachineFile::Ova) {
        lost.extend(ovf::ignored(machine, family(destination)));
    }
    Ok(lost)
}

/// The machine as its file names it, with a file for each disk: beside it, or by its whole path.
pub(crate) fn with_files(plan: &Plan) -> Machine {
    let mut machine = plan.machine.clone();
    for (device, planned) in machine.disks.iter_mut().zip(&plan.disks) {
        // In a store there are no paths of this machine.
        let whole = plan.machine_file == MachineFile::DomainXml && plan.store.is_none();
        let file = if whole { plan.folder.join(&planned.file).to_string_lossy().into() } else { planned.file.clone() };
        device.files = vec![file];
        device.format = Some(planned.shape.format.to_string());
        device.capacity = Some(planned.size);
        device.compression = planned.wrapping.map(|kind| kind.name().to_string());
    }
    let drive = machine.removable.iter_mut().find(|drive| drive.kind == RemovableKind::Cdrom && drive.media.is_none());
    if let (Some(seed), Some(drive)) = (&plan.seed, drive) {
        let whole = plan.machine_file == MachineFile::DomainXml && plan.store.is_none();
        let path = || plan.folder.join(&seed.file).to_string_lossy().into_owned();
        drive.media = Some(if whole { path() } else { seed.file.clone() });
    }
    if let Some((file, _)) = &plan.nvram {
        let whole = plan.machine_file == MachineFile::DomainXml;
        machine.nvram = Some(if whole { plan.folder.join(file).to_string_lossy().into() } else { file.clone() });
    }
    machine
}

/// A manifest: a line for each file (DSP0243, "Manifest").
pub(crate) fn manifest(lines: &[(String, String)]) -> String {
    lines.iter().map(|(file, digest)| format!("SHA256({file})= {digest}\n")).collect()
}

/// Writes a copy of the firmware's variables into the landing.
pub(crate) fn write_nvram(folder: &Place, file: &str, storage: &dyn reformis_disk::Storage) -> Result<Held<Vec<u8>>> {
    if storage.len() > MAX_NVRAM {
        let (path, len) = (storage.name().into(), ByteSize(storage.len()));
        let what = format!("the firmware's variables take {len}, and no host keeps more than {}", ByteSize(MAX_NVRAM));
        return Err(reformis_disk::Error::Unsupported { path, what }.into());
    }
    let bytes = target::read_text(storage, MAX_NVRAM)?;
    let access = storage.identity().and_then(|identity| identity.access).unwrap_or(Access::ANYBODY);
    write_into(folder, file, &bytes, access)?;
    Ok(bytes)
}
