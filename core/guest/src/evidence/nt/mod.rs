//! The chain of a Windows system: what starts it, where that looks, what its first steps drive, and what its adapters will have.

mod adapters;
mod drivers;

use super::{Evidence, Link, State, firmware::firmware, hardware::Hardware};
use crate::system::{Guest, nt::Nt};

/// The chain of a Windows system on `hardware`.
pub(crate) fn walk(guest: &Guest, system: &Nt, hardware: &Hardware) -> Vec<Evidence> {
    let root = guest.volumes.get(system.root).map_or(String::new(), |volume| volume.name.clone());
    let mut chain = vec![firmware(guest, hardware)];
    chain.push(Evidence::new(Link::Partition, &system.name, State::Holds, format!("its files are on {root}")));
    chain.push(loader(system, &root, hardware));
    // There is one of each, and the default entry of the boot store starts them.
    chain.push(kernel(system).needed(true));
    chain.extend(drivers::links(guest, system, hardware).into_iter().map(|link| link.needed(true)));
    chain.extend(letter(system, &root).map(|link| link.needed(true)));
    chain.extend(adapters::links(system, hardware));
    chain
}

/// Whether the boot store leads to the system.
fn loader(system: &Nt, root: &str, hardware: &Hardware) -> Evidence {
    let link = |state, seen: String| Evidence::new(Link::Loader, "the boot store", state, seen);
    let Some(store) = &system.facts.boot_store else {
        return link(State::Unknown, "no boot store was found that can be read".into());
    };
    let Some(entry) = system.facts.boot_entries.first() else {
        return link(State::Broken, format!("{store} offers no system"));
    };
    let seen = format!("{store}: {}", entry.loader);
    let is_uefi = entry.loader.to_ascii_lowercase().ends_with(".efi");
    if !entry.loader.is_empty() && is_uefi != hardware.uefi {
        let (own, new) = if is_uefi { ("UEFI", "BIOS") } else { ("BIOS", "UEFI") };
        return link(State::Broken, format!("{seen} is for {own}, and {new} will start the machine"));
    }
    match (&entry.volume, &entry.place) {
        (Some(volume), _) if volume == root => {
            let path = format!("/{}", entry.loader.replace('\\', "/").trim_start_matches('/'));
            match entry.loader.is_empty() || system.tree.exists(&path) {
                true => link(State::Holds, format!("{seen} on {volume}")),
                false => link(State::Broken, format!("{seen}, which is not on {volume}")),
            }
        }
        (Some(volume), _) => link(State::Unknown, format!("{seen} on {volume}, which is another volume")),
        (None, Some(_)) => link(State::Broken, format!("{seen} on a partition that is not there")),
        (None, None) => link(State::Unknown, format!("{seen}, and not on which partition")),
    }
}

/// Whether the kernel is there.
fn kernel(system: &Nt) -> Evidence {
    let path = "/Windows/System32/ntoskrnl.exe";
    let link = |state, seen: String| Evidence::new(Link::Kernel, "ntoskrnl.exe", state, seen);
    match (system.tree.exists(path), system.target()) {
        (false, _) => link(State::Broken, format!("{path} is not there")),
        (true, Some(target)) => {
            let (major, minor) = target.version;
            link(State::Holds, format!("{path}, version {major}.{minor} for {}", target.machine))
        }
        (true, None) => link(State::Unknown, format!("{path}; its version or its processor is not known")),
    }
}

/// Whether the letter that the system knows itself by still means its own volume.
fn letter(system: &Nt, root: &str) -> Option<Evidence> {
    let link = |letter: &str, state, seen: String| {
        Evidence::new(Link::Root, format!("drive {}", letter.trim_end_matches(':')), state, seen)
    };
    let letters = &system.facts.letters;
    let own = letters.iter().find(|(_, volume)| volume == root);
    Some(match own {
        Some((letter, volume)) => link(letter, State::Holds, format!("SYSTEM\\MountedDevices: {letter} is {volume}")),
        None => match letters.iter().find(|(letter, _)| letter.eq_ignore_ascii_case("C:")) {
            Some((letter, volume)) => link(
                letter,
                State::Broken,
                format!("SYSTEM\\MountedDevices: {letter} is {volume}, and the system is on {root}"),
            ),
            // A system without a letter for its own volume gives it one when it starts.
            None => return None,
        },
    })
}
