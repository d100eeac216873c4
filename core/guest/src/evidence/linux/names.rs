//! Whether volumes are found by the names that the system has for them.

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

/// Names of volumes: `root=` and `resume=` of each entry, and what fstab mounts.
pub(super) fn names(guest: &Guest, system: &Linux, hardware: &Hardware) -> Vec<Evidence> {
    let mut chain: Vec<Evidence> = Vec::new();
    let mut add = |about: String, place: String, spec: &str, needed: bool, is_sealed: bool| {
        if chain.iter().any(|known| known.about == about && known.link == Link::Root) {
            return;
        }
        let link = |state, seen: String| Evidence::new(Link::Root, about.clone(), state, seen);
        let evidence = match devices::resolve(&guest.volumes, spec) {
            Some((_, volume)) if is_plain(spec) && !keeps(hardware, spec, volume) => {
                let broken = link(State::Broken, format!("{place} says {spec}, which has another name there"));
                if is_sealed { broken } else { broken.mended_by(edit::DEVICE_NAMES) }
            }
            Some((_, volume)) => link(State::Holds, format!("{place} says {spec}: {}", volume.name)),
            None if needed => {
                link(State::Unknown, format!("{place} says {spec}, which is not one of the volumes that could be read"))
            }
            None => return,
        };
        chain.push(evidence);
    };
    for entry in &system.entries {
        for key in ["root", "resume"] {
            if let Some(spec) = entry.parameter(key) {
                let about = format!("{key}=, {}", entry.kernel);
                add(about, entry.file.clone(), spec, key == "root", entry.is_unified);
            }
        }
        // What the early boot image waits for by name: a group and a volume, or the UUID of what is encrypted.
        let words = entry.parameters.split_whitespace();
        for (key, wanted) in words.filter_map(|word| word.split_once('=')).filter(|(_, wanted)| !wanted.is_empty()) {
            let about = format!("{key}={wanted}, {}", entry.kernel);
            let spec = match key {
                "rd.lvm.lv" => format!("/dev/{wanted}"),
                "cryptdevice" => wanted.split(':').next().unwrap_or_default().to_string(),
                "rd.luks.uuid" => format!("UUID={}", wanted.strip_prefix("luks-").unwrap_or(wanted)),
                _ => continue,
            };
            add(about, entry.file.clone(), &spec, true, entry.is_unified);
        }
    }
    for line in &system.fstab {
        let optional = line.options.split(',').any(|option| matches!(option, "noauto" | "nofail"));
        let is_volume = line.spec.starts_with("/dev/") || line.spec.contains('=');
        if is_volume && !line.spec.starts_with("/dev/sr") && !line.spec.starts_with("/dev/fd") {
            let about = format!("{} in fstab", if line.kind == "swap" { "swap" } else { &line.place });
            add(about, "/etc/fstab".into(), &line.spec, !optional, false);
        }
    }
    chain
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
