//! The machines of a host.

use reformis_machine::MachineFile;
use serde::Serialize;

use crate::{error::Result, observer::Context};

/// A machine of a host, as its list and its machine file tell.
#[derive(Debug, Clone, Serialize)]
pub struct Listed {
    /// Its name there.
    pub name: String,
    /// Whether it runs: `off`, `running`, `suspended`, `not known`.
    pub power: &'static str,
    /// How many disks it has; `None` where its machine file could not be read.
    pub disks: Option<usize>,
    /// Bytes of its disks as their guest sees them, where the host or the machine file says.
    pub size: Option<u64>,
    /// Bytes that are stored for them, where the host says.
    pub stored: Option<u64>,
    /// Its firmware, `bios` or `uefi`, where the machine file says.
    pub firmware: Option<&'static str>,
    /// Why its machine file could not be read.
    pub unread: Option<String>,
}

/// The machines of `host`, sorted by their names. Of each, its machine file is read.
///
/// # Errors
/// The host cannot be asked. A machine that cannot be read is told of in its row.
pub fn machines(host: &str, context: &Context<'_>) -> Result<Vec<Listed>> {
    let mut listed = Vec::new();
    for row in context.wires.machines(host)? {
        context.check()?;
        let mut machine = Listed {
            name: row.name.clone(),
            power: row.power.word(),
            disks: None,
            size: row.size,
            stored: row.stored,
            firmware: None,
            unread: None,
        };
        match read(host, &row.name, context) {
            Ok(found) => {
                machine.disks = Some(found.disks.len());
                machine.firmware = Some(found.firmware.name());
                let stated =
                    found.disks.iter().map(|disk| disk.capacity).try_fold(0u64, |sum, size| sum.checked_add(size?));
                machine.size = row.size.or(stated.filter(|size| *size > 0));
            }
            Err(error) if error.is_interrupted() => return Err(error),
            Err(error) => machine.unread = Some(error.to_string()),
        }
        listed.push(machine);
    }
    listed.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(listed)
}

fn read(host: &str, name: &str, context: &Context<'_>) -> Result<reformis_machine::Machine> {
    let far = context.wires.machine(host, name, context.budget)?;
    let unread = |what: &str| reformis_disk::Error::Unsupported { path: format!("{host}:{name}"), what: what.into() };
    let kind = MachineFile::detect(&far.text).ok_or_else(|| unread("its machine file is of no kind that is read"))?;
    let memory = reformis_machine::memory(kind, &far.text);
    let _hold = context.budget.take(memory).map_err(reformis_disk::Error::memory(&far.file, "what its text says"))?;
    let document = reformis_machine::read(kind, &far.text, &far.file)?;
    Ok(document.machines.into_iter().next().ok_or_else(|| unread("its machine file holds no machine"))?)
}
