//! Whether LVM looks at the disks that the guest will have: its settings and its list of devices, and the copies that early boot images have.

use super::{
    super::{Evidence, Link, State, hardware::Hardware},
    default_kernel, disks, started,
};
use crate::{
    refit::edit,
    system::{
        Guest,
        linux::{Linux, images::Images, lvm},
    },
    volume::probe::Volume,
};

/// Names that physical volumes will have, each with its first one on each controller.
fn names(guest: &Guest, hardware: &Hardware) -> Vec<String> {
    let physical = guest.volumes.iter().filter(|volume| volume.kind == Some(Volume::Lvm) && volume.is_on_disk());
    physical.flat_map(|volume| disks::names_there(hardware, volume.disk, volume.partition)).collect()
}

/// What of LVM's settings keeps it from the disks that a guest will have.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Hidden {
    /// A filter.
    pub(crate) by_filter: bool,
    /// The list of devices.
    pub(crate) by_list: bool,
}

/// What keeps LVM from the disks, by these settings and this list.
pub(crate) fn hidden(guest: &Guest, hardware: &Hardware, settings: &str, list: Option<&str>) -> Hidden {
    let names = names(guest, hardware);
    if names.is_empty() || hardware.unchanged {
        return Hidden::default();
    }
    let by_filter = names.iter().any(|name| lvm::sees(settings, name) == Some(false));
    let by_list = list.is_some_and(lvm::is_of_host) && !lvm::ignores_list(settings);
    Hidden { by_filter, by_list }
}

pub(super) fn links(guest: &Guest, system: &Linux, hardware: &Hardware, images: &mut Images) -> Vec<Evidence> {
    let mut chain = Vec::new();
    let mut add = |place: &str, settings: &str, list: Option<&str>, is_sealed: bool, needed: bool| {
        let Hidden { by_filter, by_list } = hidden(guest, hardware, settings, list);
        for (is_hidden, what) in [(by_filter, "its filter"), (by_list, "its list of devices")] {
            if is_hidden {
                let seen = format!("LVM looks at disks of the old host alone, by {what}{place}");
                let link = Evidence::new(Link::Root, format!("LVM, {what}{place}"), State::Broken, seen).needed(needed);
                chain.push(if is_sealed { link } else { link.mended_by(edit::DEVICE_NAMES) });
            }
        }
        let unclear = names(guest, hardware).iter().any(|name| lvm::sees(settings, name).is_none());
        if unclear && !hardware.unchanged {
            let seen = format!("a pattern of LVM's filter{place} is not understood");
            chain.push(
                Evidence::new(Link::Root, format!("LVM, its filter{place}"), State::Unknown, seen).needed(needed),
            );
        }
    };
    let settings = system.tree.text(lvm::SETTINGS).unwrap_or_default();
    add("", &settings, system.tree.text(lvm::DEVICES).as_deref(), false, true);
    let default = default_kernel(system);
    for kernel in started(system) {
        let is_default = default.is_none_or(|image| image == kernel.image);
        for initrd in &kernel.initrds {
            let outcome = images.read(&system.tree, initrd);
            let Ok(image) = outcome.as_ref() else { continue };
            let text = |path: &str| image.text(path.trim_start_matches('/'));
            let settings = text(lvm::SETTINGS).unwrap_or_default();
            add(&format!(" in {initrd}"), &settings, text(lvm::DEVICES).as_deref(), kernel.is_unified, is_default);
        }
    }
    chain
}
