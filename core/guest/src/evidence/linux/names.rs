//! Whether volumes are found by the names that the system has for them.

use std::borrow::Cow;

use super::{
    super::{Evidence, Link, State, hardware::Hardware},
    disks::{keeps_name, keeps_name_everywhere},
};
use crate::{
    refit::edit,
    system::{
        Guest,
        linux::{Linux, devices},
    },
    volume::found::Found,
};

/// A name of a volume.
struct Named<'t> {
    about: String,
    /// The file that has it.
    file: &'t str,
    spec: Cow<'t, str>,
    /// Where it is mounted, by fstab.
    place: Option<&'t str>,
    /// Whether the default start needs it.
    needed: bool,
    /// Whether it is told where it names nothing that is known.
    is_told: bool,
    is_sealed: bool,
}

/// Options by which a start does not wait for what is mounted, or mounts it itself (`man 5 systemd.mount`).
const OPTIONAL: [&str; 4] = ["noauto", "nofail", "_netdev", "x-systemd.automount"];

/// Whether fstab names a volume: not a place on the network, nor what the kernel makes up.
pub(crate) fn is_volume(spec: &str) -> bool {
    let tags = ["UUID=", "LABEL=", "PARTUUID=", "PARTLABEL=", "ID="];
    let is_medium = ["/dev/sr", "/dev/fd", "/dev/cdrom", "/dev/dvd"].iter().any(|start| spec.starts_with(start));
    (spec.starts_with("/dev/") || tags.iter().any(|tag| spec.starts_with(tag))) && !is_medium
}

/// Names of volumes: `root=` and `resume=` of each entry, and what fstab mounts.
pub(super) fn names(guest: &Guest, system: &Linux, hardware: &Hardware) -> Vec<Evidence> {
    let mut chain: Vec<Evidence> = Vec::new();
    let mut add = |named: Named<'_>| {
        if chain.iter().any(|known| known.about == named.about && known.link == Link::Root) {
            return;
        }
        chain.extend(link(guest, system, hardware, named));
    };
    for (number, entry) in system.entries.iter().enumerate() {
        let is_default = number == 0 && system.unknown_start.is_none();
        let named = |about: String, spec, needed| Named {
            about,
            file: &entry.file,
            spec,
            place: None,
            needed: needed && is_default,
            is_told: needed,
            is_sealed: entry.is_unified,
        };
        for key in ["root", "resume"] {
            if let Some(spec) = entry.parameter(key) {
                add(named(format!("{key}=, {}", entry.kernel), spec.into(), key == "root"));
            }
        }
        // What the early boot image waits for by name: a group and a volume, or the UUID of what is encrypted.
        let words = entry.parameters.split_whitespace();
        for (key, wanted) in words.filter_map(|word| word.split_once('=')).filter(|(_, wanted)| !wanted.is_empty()) {
            let about = format!("{key}={wanted}, {}", entry.kernel);
            let spec = match key {
                "rd.lvm.lv" => format!("/dev/{wanted}").into(),
                "cryptdevice" => wanted.split(':').next().unwrap_or_default().into(),
                "rd.luks.uuid" => format!("UUID={}", wanted.strip_prefix("luks-").unwrap_or(wanted)).into(),
                _ => continue,
            };
            add(named(about, spec, true));
        }
    }
    for line in system.fstab.iter().filter(|line| is_volume(&line.spec)) {
        let is_optional = line.options.split(',').any(|option| OPTIONAL.contains(&option));
        let is_swap = line.kind == "swap";
        add(Named {
            about: format!("{} in fstab", if is_swap { "swap" } else { &line.place }),
            file: "/etc/fstab",
            spec: line.spec.as_str().into(),
            place: (!is_swap).then_some(line.place.as_str()),
            // A system comes up without swap space, after a while.
            needed: !is_optional && !is_swap && line.place.starts_with('/'),
            is_told: !is_optional,
            is_sealed: false,
        });
    }
    chain
}

/// Whether a name means its volume there.
fn link(guest: &Guest, system: &Linux, hardware: &Hardware, named: Named<'_>) -> Option<Evidence> {
    let Named { about, file, spec, place, needed, is_told, is_sealed } = named;
    let spec = &*spec;
    let link = |state, seen: String| Some(Evidence::new(Link::Root, about.clone(), state, seen).needed(needed));
    let mended = |broken: Option<Evidence>| match is_sealed {
        true => broken,
        false => broken.map(|broken| broken.mended_by(edit::DEVICE_NAMES)),
    };
    let Some((index, volume)) = system.volume(&guest.volumes, spec, place) else {
        let seen = format!("{file} says {spec}, which is not one of the volumes that could be read");
        return if is_told { link(State::Unknown, seen) } else { None };
    };
    if !hardware.unchanged && is_left(hardware, volume) {
        return link(State::Broken, format!("{file} says {spec}: {}, on a disk that stays behind", volume.name));
    }
    if is_plain(spec) && !keeps(hardware, spec, volume) {
        return mended(link(State::Broken, format!("{file} says {spec}, which has another name there")));
    }
    // Its own root the system has whatever this says; but it looks for it.
    let is_other = place == Some("/") && devices::resolve(&guest.volumes, spec).is_none_or(|(other, _)| other != index);
    if is_other && spec != "/dev/root" && !(hardware.unchanged && is_plain(spec)) {
        let seen = format!("{file} says {spec}, which is not {}", volume.name);
        return mended(link(State::Broken, seen).map(|broken| broken.needed(false)));
    }
    match devices::labelled(&guest.volumes, spec) {
        count if count > 1 => link(State::Unknown, format!("{file} says {spec}, as {count} volumes are called")),
        _ => link(State::Holds, format!("{file} says {spec}: {}", volume.name)),
    }
}

/// Whether a volume lies on a disk that does not come along.
fn is_left(hardware: &Hardware, volume: &Found) -> bool {
    volume.device.as_ref().is_some_and(|device| device.disks().iter().any(|disk| hardware.place(*disk).is_none()))
}

/// Whether a name is one that tells a disk by its place in the machine.
pub(crate) fn is_plain(spec: &str) -> bool {
    devices::plain_name(spec).is_some() || devices::by_place(spec).is_some()
}

/// Whether such a name will mean the same at the destination.
pub(crate) fn keeps(hardware: &Hardware, spec: &str, volume: &Found) -> bool {
    hardware.unchanged || devices::by_place(spec).is_none() && keeps_name(hardware, spec, volume.disk, volume.partition)
}

/// Whether such a name will mean the same on every controller that the disk may be put on there.
pub(crate) fn keeps_everywhere(hardware: &Hardware, spec: &str, volume: &Found) -> bool {
    hardware.unchanged
        || devices::by_place(spec).is_none() && keeps_name_everywhere(hardware, spec, volume.disk, volume.partition)
}
