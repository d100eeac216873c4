//! Whether the firmware finds something to start.

use super::{Evidence, Link, State, hardware::Hardware, look::BOOT_CODE};
use crate::{refit::edit, system::Guest, volume::partition::Role};

/// The link of the firmware.
pub(super) fn firmware(guest: &Guest, hardware: &Hardware) -> Evidence {
    let link =
        |state, seen: String| Evidence::new(Link::Firmware, if hardware.uefi { "UEFI" } else { "BIOS" }, state, seen);
    if !hardware.uefi {
        let code = (0..guest.bench.disks()).find(|disk| {
            let mut bytes = [0; BOOT_CODE];
            let device = crate::bench::Device::part(&guest.bench, *disk, 0, BOOT_CODE as u64, "");
            device.read(0, &mut bytes).is_ok() && bytes.iter().any(|byte| *byte != 0)
        });
        return match code {
            Some(disk) => link(State::Holds, format!("code in the first sector of disk {}", disk + 1)),
            None => link(State::Broken, "no disk has code in its first sector".into()),
        };
    }
    let mut loaders = Vec::new();
    for volume in guest.volumes.iter().filter(|volume| volume.role == Role::Esp) {
        let found = volume.loaders().into_iter();
        loaders.extend(found.map(|path| (path, volume.name.clone())));
    }
    let fallback = loaders.iter().find(|(path, _)| path.eq_ignore_ascii_case(edit::FALLBACK));
    match (fallback, loaders.first()) {
        (Some((path, volume)), _) => link(State::Holds, format!("{path} on {volume}")),
        (None, Some((path, volume))) if hardware.keeps_entries => {
            link(State::Holds, format!("{path} on {volume}, by the boot entries that come along"))
        }
        (None, Some((path, volume))) => {
            let seen = format!("only {path} on {volume}, which no boot entry of the new host names");
            link(State::Broken, seen).mended_by(edit::FALLBACK_LOADER)
        }
        (None, None) => link(State::Broken, "no EFI system partition holds a loader".into()),
    }
}
