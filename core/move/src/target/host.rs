//! A machine of a host.

use std::path::Path;

use reformis_disk::{Storage, source::MemoryStorage};
use reformis_machine::MachineFile;
use reformis_wire::hosts::{FarMachine, Power};

use super::{Opening, Target, package};
use crate::{
    error::{Error, Result},
    finding::Finding,
};

/// Opens `machine` of `host`, which the person named as `path`.
pub(super) fn open(host: &str, machine: &str, path: &Path, opening: &Opening<'_>) -> Result<Target> {
    let far = opening.wires.machine(host, machine, &opening.budget)?;
    let name = format!("{host}:{machine}/{}", far.file);
    let hold = opening.budget.take(far.text.len() as u64).map_err(reformis_disk::Error::memory(&name, "its text"))?;
    let file = MemoryStorage::counted(&name, far.text.clone(), hold);
    let Some(kind) = MachineFile::detect(&far.text) else {
        let what = "the host does not give a machine file that is read".into();
        return Err(Error::Disk(reformis_disk::Error::Unsupported { path: name, what }));
    };
    let power = far.power;
    let mut target = package::open_at_host(std::sync::Arc::new(file), kind, far.clone(), path, opening)?;
    // It was never a file here.
    target
        .files
        .iter_mut()
        .filter(|file| file.path == super::absolute(&name))
        .for_each(|file| file.path.clone_from(&name));
    target.findings.extend(of_power(power, &far));
    Ok(target)
}

/// What its power means for a move.
fn of_power(power: Power, far: &FarMachine) -> Option<Finding> {
    let machine = far.name.clone();
    match (power, far.files.consistency()) {
        (Power::Running, Some(how)) => Some(Finding::ReadWhileRunning { machine, how }),
        (Power::Running, None) => Some(Finding::Running { machine }),
        (Power::Suspended, _) => Some(Finding::Suspended { file: String::new() }),
        (Power::Off | Power::Unknown, _) => None,
    }
}

/// What a storage is called in records: far ones by their own names, others from the root.
pub(crate) fn place_of(storage: &dyn Storage) -> String {
    match storage.is_far() {
        true => storage.name().into(),
        false => super::absolute(storage.name()),
    }
}
