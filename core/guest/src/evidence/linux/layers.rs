//! What lies between a root file system and its disks: the subvolume that the kernel is told of, and the files that call members of arrays and
//! encrypted volumes by the names of devices.

use super::{
    super::{
        Evidence, Link, State,
        hardware::{DiskPlace, Hardware},
    },
    default_kernel, names, started,
};
use crate::{
    formats::early,
    refit::edit,
    system::{
        Guest,
        linux::{Linux, devices, fstab, images::Images, mdadm},
    },
    volume::md::colons,
};

/// Whether each entry starts a subvolume that is there.
pub(super) fn subvolumes(system: &Linux) -> Vec<Evidence> {
    let mut chain: Vec<Evidence> = Vec::new();
    for entry in &system.entries {
        let flags = entry.parameter("rootflags").unwrap_or_default();
        let wanted = fstab::subvolume(flags);
        let about = format!("subvolume, {}", entry.kernel);
        let known = system.tree.noted(&entry.file, system.tree.begins_at(wanted.as_ref())).flatten();
        let Some((is_there, is_here)) = known.filter(|_| !chain.iter().any(|known| known.about == about)) else {
            continue;
        };
        let file = &entry.file;
        let (state, seen) = match (&wanted, is_there, is_here) {
            (Some(_), true, _) => (State::Holds, format!("{file} says rootflags={flags}, which is there")),
            (Some(_), false, _) => (State::Broken, format!("{file} says rootflags={flags}, which is not there")),
            (None, _, true) => (State::Holds, format!("{file} names no subvolume: the default is the system's")),
            (None, _, false) => {
                (State::Unknown, format!("{file} names no subvolume, and the default is not the system's"))
            }
        };
        // What comes first is started by itself.
        let is_default = chain.is_empty() && system.unknown_start.is_none();
        chain.push(Evidence::new(Link::Root, about, state, seen).needed(is_default));
    }
    chain
}

/// Whether what calls members of arrays, and encrypted volumes, by the names of devices calls them right.
pub(super) fn members(guest: &Guest, system: &Linux, hardware: &Hardware, images: &mut Images) -> Vec<Evidence> {
    let mut chain = Vec::new();
    let mut add = |place: String, text: &str, path: &str, is_sealed: bool, needed: bool| {
        let stays = |spec: &str| stays(guest, hardware, spec, false);
        if renamed(guest, path, text, &stays, &|spec| (!stays(spec)).then(String::new)).is_none() {
            return;
        }
        let seen = format!("{place} calls devices by names that they do not have there");
        let broken = Evidence::new(Link::Root, format!("devices, {place}"), State::Broken, seen).needed(needed);
        chain.push(if is_sealed { broken } else { broken.mended_by(edit::DEVICE_NAMES) });
    };
    for path in mdadm::PLACES.into_iter().chain(["/etc/crypttab"]) {
        if let Some(text) = system.tree.text(path) {
            add(path.into(), &text, path, false, true);
        }
    }
    let default = default_kernel(system);
    for kernel in started(system) {
        let is_default = default.is_none_or(|image| image == kernel.image);
        for initrd in &kernel.initrds {
            let outcome = images.read(&system.tree, initrd);
            let Ok(image) = outcome.as_ref() else { continue };
            for path in early::KEPT.into_iter().filter(|path| !path.starts_with("etc/lvm/")) {
                if let Some(text) = image.text(path) {
                    add(format!("{path} in {initrd}"), &text, path, kernel.is_unified, is_default);
                }
            }
        }
    }
    chain
}

/// Whether a name of a device will mean what it means now; `everywhere` asks for every controller that its disk may be put on there.
fn stays(guest: &Guest, hardware: &Hardware, spec: &str, everywhere: bool) -> bool {
    if hardware.unchanged || !spec.starts_with("/dev/") {
        return true;
    }
    if let Some((literal, _)) = spec.split_once(['*', '?', '[']) {
        // A pattern: it has to begin as all disks are called.
        let others = |place: &'_ DiskPlace| {
            place.others.iter().filter(|_| everywhere).all(|other| begins(&other.prefix, literal))
        };
        return hardware.disks.iter().flatten().all(|place| begins(&place.prefix, literal) && others(place));
    }
    let keeps = if everywhere { names::keeps_everywhere } else { names::keeps };
    // What is none of the volumes here is nobody's to rename.
    !names::is_plain(spec)
        || devices::resolve(&guest.volumes, spec).is_none_or(|(_, volume)| keeps(hardware, spec, volume))
}

/// Whether all disks whose names begin with `prefix` fit a pattern that begins with `literal`.
fn begins(prefix: &str, literal: &str) -> bool {
    format!("/dev/{prefix}").starts_with(literal)
}

/// A file that names devices, as it is to be on other hardware, whichever controllers its disks are put on; `None` where it stays right.
/// `new_name` says what a device in a table of encrypted volumes is to be called, where that is another name.
pub(crate) fn lasting(
    guest: &Guest,
    hardware: &Hardware,
    path: &str,
    text: &str,
    new_name: &dyn Fn(&str) -> Option<String>,
) -> Option<String> {
    renamed(guest, path, text, &|spec| stays(guest, hardware, spec, true), new_name)
}

fn renamed(
    guest: &Guest,
    path: &str,
    text: &str,
    stays: &dyn Fn(&str) -> bool,
    new_name: &dyn Fn(&str) -> Option<String>,
) -> Option<String> {
    if path.ends_with("crypttab") {
        let new = fstab::with_field(text, 1, new_name);
        return (new != text).then_some(new);
    }
    let uuid_of = |name: &str| {
        let name = name.strip_prefix("/dev/")?;
        let volume = guest.volumes.iter().find(|volume| volume.aliases.iter().any(|alias| alias == name));
        volume.and_then(|volume| volume.array.as_ref()).map(|array| colons(&array.uuid))
    };
    mdadm::renamed(text, stays, uuid_of)
}
