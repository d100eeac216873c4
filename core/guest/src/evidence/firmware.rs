//! Whether the firmware finds something to start.

use super::{Evidence, Link, State, hardware::Hardware, look::BOOT_CODE};
use crate::{refit::edit, system::Guest, volume::partition::Role};

/// Bytes of a sector, and what ends one that a BIOS starts.
const SECTOR: usize = 512;
const MARK: [u8; 2] = [0x55, 0xaa];

/// The link of the firmware.
pub(super) fn firmware(guest: &Guest, hardware: &Hardware) -> Evidence {
    let link =
        |state, seen: String| Evidence::new(Link::Firmware, if hardware.uefi { "UEFI" } else { "BIOS" }, state, seen);
    if !hardware.uefi {
        return bios(guest, hardware, &link);
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

/// A BIOS starts the first disk whose first sector ends with its mark, whatever code is there; those behind it only as it is told.
fn bios(guest: &Guest, hardware: &Hardware, link: &dyn Fn(State, String) -> Evidence) -> Evidence {
    let sector = |disk: usize| {
        let mut bytes = [0; SECTOR];
        let device = crate::bench::Device::part(&guest.bench, disk, 0, SECTOR as u64, "");
        device.read(0, &mut bytes).ok().map(|()| bytes)
    };
    let has_code = |bytes: &[u8; SECTOR]| bytes.iter().take(BOOT_CODE).any(|byte| *byte != 0);
    let order = hardware.started();
    let started =
        order.iter().filter_map(|disk| Some((*disk, sector(*disk)?))).find(|(_, bytes)| bytes.ends_with(&MARK));
    match started {
        Some((disk, bytes)) if has_code(&bytes) => {
            link(State::Holds, format!("code in the first sector of disk {}", disk + 1))
        }
        Some((disk, _)) => {
            let other = (0..guest.bench.disks()).filter(|other| *other != disk);
            let other = other
                .filter_map(|other| Some((other, sector(other)?)))
                .find(|(_, bytes)| has_code(bytes) && bytes.ends_with(&MARK));
            let also =
                other.map_or(String::new(), |(other, _)| format!("; disk {} has some, and comes behind it", other + 1));
            // Where the order is not told, each host has its own.
            let is_told = hardware.disks.iter().flatten().any(|place| place.boot.is_some());
            let state = if is_told || also.is_empty() { State::Broken } else { State::Unknown };
            link(state, format!("disk {} is started first, and has no code in its first sector{also}", disk + 1))
        }
        None => link(State::Broken, "no disk that is started has code in its first sector".into()),
    }
}
