//! What is known of whether a Windows system boots: what starts it, and where that looks. Which drivers its first steps need is not
//! told yet.

use super::{Evidence, Link, State, firmware::firmware, hardware::Hardware};
use crate::system::{Guest, nt::Nt};

/// The chain of a Windows system on `hardware`, as far as it is known.
pub(crate) fn walk(guest: &Guest, system: &Nt, hardware: &Hardware) -> Vec<Evidence> {
    let root = guest.volumes.get(system.root).map_or(String::new(), |volume| volume.name.clone());
    let mut chain = vec![firmware(guest, hardware)];
    chain.push(Evidence::new(Link::Partition, &system.name, State::Holds, format!("its files are on {root}")));
    chain.push(loader(system, &root));
    let drivers: Vec<&str> = system
        .facts
        .settings
        .drivers
        .iter()
        .filter(|driver| driver.starts_at_boot)
        .map(|driver| &*driver.service)
        .collect();
    let seen = match drivers.as_slice() {
        [] => "no driver of disks is loaded at boot by what the registry says".into(),
        some => format!("loaded at boot: {}; which device each is for is not looked at", some.join(", ")),
    };
    chain.push(Evidence::new(Link::Driver, "the disk's controller", State::Unknown, seen));
    chain
}

/// Whether the boot store leads to the system.
fn loader(system: &Nt, root: &str) -> Evidence {
    let link = |state, seen: String| Evidence::new(Link::Loader, "the boot store", state, seen);
    let Some(store) = &system.facts.boot_store else {
        return link(State::Unknown, "no boot store was found that can be read".into());
    };
    match system.facts.boot_entries.first() {
        None => link(State::Broken, format!("{store} offers no system")),
        Some(entry) => match (&entry.volume, &entry.place) {
            (Some(volume), _) if volume == root => link(State::Holds, format!("{store}: {} on {volume}", entry.loader)),
            (Some(volume), _) => {
                link(State::Unknown, format!("{store}: {} on {volume}, which is another volume", entry.loader))
            }
            (None, Some(_)) => {
                link(State::Broken, format!("{store}: {} on a partition that is not there", entry.loader))
            }
            (None, None) => link(State::Unknown, format!("{store}: {}, and not on which partition", entry.loader)),
        },
    }
}
