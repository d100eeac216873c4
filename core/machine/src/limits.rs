//! What no machine has: beyond these a number is a wrong unit or a lie.

use crate::model::Machine;

/// Memory that a host can give at the most.
const MAX_MEMORY: u64 = 1 << 46;
pub(crate) const MAX_PROCESSORS: u32 = 4096;
/// Disks, drives or adapters of one machine; the kind of controller with the most places has 256.
pub(crate) const MAX_DEVICES: usize = 1024;
/// The highest number of a controller or of a place on one.
pub(crate) const MAX_PLACE: u32 = 65_535;

/// Whether `bytes` of memory are a sensible size.
pub(crate) fn is_memory(bytes: &u64) -> bool {
    (1 << 20..=MAX_MEMORY).contains(bytes)
}

/// What `machine` has more of than any machine, or a place of a disk that is nowhere; as the end of a sentence.
pub(crate) fn excess(machine: &Machine) -> Option<String> {
    let counts =
        [("disks", machine.disks.len()), ("drives", machine.removable.len()), ("adapters", machine.adapters.len())];
    if let Some((what, count)) = counts.into_iter().find(|(_, count)| *count > MAX_DEVICES) {
        return Some(format!("it has {count} {what}, and no machine has more than {MAX_DEVICES}"));
    }
    let far = machine.disks.iter().find(|disk| disk.bus > MAX_PLACE || disk.slot > MAX_PLACE)?;
    Some(format!("disk '{}' is at {}:{}, where no controller has a place", far.id, far.bus, far.slot))
}
