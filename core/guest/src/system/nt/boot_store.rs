//! The boot store (BCD): which systems the loader offers, and where it looks for them. Its elements have no public specification;
//! their numbers are those of the system's own headers (`bcdedit`'s documentation names them).

use reformis_disk::to_usize;
use serde::Serialize;
use uuid::Uuid;

use crate::{
    error::Result,
    formats::hive::{Data, Hive},
    volume::{found::Found, partition::Role, probe::Volume},
};

/// Where it lies: below the EFI system partition, or on the partition that a BIOS starts.
pub(crate) const PLACES: [&str; 2] = ["/EFI/Microsoft/Boot/BCD", "/Boot/BCD"];

/// The boot manager's own object.
const MANAGER: &str = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
/// What both take their settings of a serial port from.
const SERIAL: &str = "{0ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}";
/// Type of an object that starts a system.
const LOADER: u32 = 0x1020_0003;
/// Objects that are looked at.
const MOST: usize = 1024;

/// Elements of objects.
mod element {
    pub(super) const DEVICE: &str = "11000001";
    pub(super) const PATH: &str = "12000002";
    pub(super) const DESCRIPTION: &str = "12000004";
    pub(super) const SYSTEM_DEVICE: &str = "21000001";
    pub(super) const SYSTEM_ROOT: &str = "22000002";
    pub(super) const DEFAULT: &str = "23000003";
    /// Number of the serial port, from 1 on (`emsport`).
    pub(super) const SERIAL_PORT: &str = "15000022";
    /// Its speed in bits a second (`emsbaudrate`).
    pub(super) const SERIAL_SPEED: &str = "15000023";
    /// Whether the loader answers there (`bootems`).
    pub(super) const LOADER_ANSWERS: &str = "16000020";
    /// Whether the system that is started does (`ems`).
    pub(super) const SYSTEM_ANSWERS: &str = "260000b0";
}

/// A partition as the store names it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Place {
    /// By its own identity on a GPT disk.
    Gpt {
        /// The partition's.
        partition: Uuid,
        /// The disk's.
        disk: Uuid,
    },
    /// By where it begins, on a disk with an MBR.
    Mbr {
        /// Its first byte.
        start: u64,
        /// The disk's signature.
        disk: u32,
    },
    /// The partition that the store itself lies on.
    Own,
}

/// A system that the loader offers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Entry {
    /// Its object.
    pub id: String,
    /// What it is called in the menu.
    pub description: String,
    /// The loader, as a path of the system.
    pub loader: String,
    /// The system's folder.
    pub root: String,
    /// Whether it is what starts unless another one is chosen.
    pub is_default: bool,
    /// The volume that the loader and the system lie on, by what the store says; none when no partition is that one.
    pub volume: Option<String>,
    /// What the store says where that is.
    pub place: Option<Place>,
}

/// Reads what the device element `bytes` says: a partition, by its own and its disk's identity. Layout from memory of
/// stores of version 10.0; what does not fit it is not told.
fn place(bytes: &[u8]) -> Option<Place> {
    let long = |at: usize| Some(u32::from_le_bytes(*bytes.get(at..)?.first_chunk()?));
    let guid = |at: usize| Some(Uuid::from_bytes_le(*bytes.get(at..)?.first_chunk()?));
    match long(16)? {
        5 => Some(Place::Own),
        6 => match long(0x34)? {
            0 => Some(Place::Gpt { partition: guid(0x20)?, disk: guid(0x38)? }),
            1 => {
                let start = u64::from_le_bytes(*bytes.get(0x20..)?.first_chunk()?);
                Some(Place::Mbr { start, disk: long(0x38)? })
            }
            _ => None,
        },
        _ => None,
    }
}

/// The volume that a place means.
pub(super) fn volume_at(volumes: &[Found], place: &Place) -> Option<usize> {
    match place {
        Place::Gpt { partition, .. } => {
            let wanted = partition.to_string();
            volumes.iter().position(|volume| volume.part_uuid.as_deref() == Some(&wanted))
        }
        Place::Mbr { start, disk } => volumes.iter().position(|volume| {
            let begins = volume.device.as_ref().map(crate::bench::Device::base);
            let is_disk = volume.part_uuid.as_deref().is_some_and(|id| id.starts_with(&format!("{disk:08x}-")));
            begins.is_some_and(|(_, at)| at == *start) && is_disk
        }),
        Place::Own => None,
    }
}

/// The systems that the store `hive` offers, the one that starts by itself first; `volumes` are the guest's.
///
/// # Errors
/// Those of reading.
pub(crate) fn read(hive: &Hive, volumes: &[Found]) -> Result<Vec<Entry>> {
    let element = |object: &str, number: &str| hive.data(&format!("Objects\\{object}\\Elements\\{number}"), "Element");
    let text = |object: &str, number: &str| {
        Ok::<_, crate::Error>(element(object, number)?.and_then(Data::into_text).unwrap_or_default())
    };
    let default = text(MANAGER, element::DEFAULT)?;
    let Some(objects) = hive.find("Objects")? else { return Ok(Vec::new()) };
    let mut found = Vec::new();
    for (id, _) in hive.keys(objects)?.into_iter().take(MOST) {
        if hive.number(&format!("Objects\\{id}\\Description"), "Type")? != Some(LOADER) {
            continue;
        }
        let devices = [element::SYSTEM_DEVICE, element::DEVICE];
        let mut of_system = None;
        for number in devices {
            if let Some(Data::Bytes(bytes)) = element(&id, number)? {
                of_system = of_system.or(place(&bytes));
            }
        }
        found.push(Entry {
            description: text(&id, element::DESCRIPTION)?,
            loader: text(&id, element::PATH)?,
            root: text(&id, element::SYSTEM_ROOT)?,
            is_default: id.eq_ignore_ascii_case(&default),
            volume: of_system.as_ref().and_then(|place| Some(volumes.get(volume_at(volumes, place)?)?.name.clone())),
            place: of_system,
            id,
        });
    }
    found.sort_by_key(|entry| !entry.is_default);
    Ok(found)
}

/// Lets the loader and the system that starts by itself answer on the serial port `number`, at `speed` bits a second; whether the store
/// names such a system.
///
/// # Errors
/// Those of the hive.
pub(crate) fn answer_on(hive: &mut Hive, number: u64, speed: u64) -> Result<bool> {
    let at = |object: &str, element: &str| format!("Objects\\{object}\\Elements\\{element}");
    let default = hive.data(&at(MANAGER, element::DEFAULT), "Element")?.and_then(Data::into_text);
    let Some(loader) = default.filter(|loader| !loader.is_empty() && !loader.contains('\\')) else { return Ok(false) };
    if hive.number(&format!("Objects\\{loader}\\Description"), "Type")? != Some(LOADER) {
        return Ok(false);
    }
    // Where a store has no object for that, each of both has the settings itself.
    let own = [MANAGER, loader.as_str()];
    let holders = if hive.find(&format!("Objects\\{SERIAL}"))?.is_some() { &[SERIAL][..] } else { &own[..] };
    for holder in holders {
        for (element, value) in [(element::SERIAL_PORT, number), (element::SERIAL_SPEED, speed)] {
            hive.set(&at(holder, element), "Element", &Data::Bytes(value.to_le_bytes().into()))?;
        }
    }
    for (object, element) in [(MANAGER, element::LOADER_ANSWERS), (&loader, element::SYSTEM_ANSWERS)] {
        hive.set(&at(object, element), "Element", &Data::Bytes(vec![1]))?;
    }
    Ok(true)
}

/// The volumes on which a store may lie, the likeliest first, by their places.
pub(crate) fn candidates(volumes: &[Found]) -> Vec<usize> {
    let mut places: Vec<usize> = (0..volumes.len())
        .filter(|index| volumes.get(*index).is_some_and(|one| matches!(one.kind, Some(Volume::Fat | Volume::Ntfs))))
        .collect();
    places.sort_by_key(|index| volumes.get(*index).is_none_or(|volume| volume.role != Role::Esp));
    places
}

/// The disk's signature and the place of a partition, or the partition's own identity, as `MountedDevices` keeps them.
pub(super) fn mounted(value: &[u8]) -> Option<Place> {
    if let Some(guid) = value.strip_prefix(b"DMIO:ID:") {
        let partition = Uuid::from_bytes_le(*guid.first_chunk()?);
        return Some(Place::Gpt { partition, disk: Uuid::nil() });
    }
    let (disk, start) = value.split_first_chunk::<4>()?;
    let start = u64::from_le_bytes(*start.first_chunk().filter(|_| to_usize(value.len() as u64) == 12)?);
    Some(Place::Mbr { start, disk: u32::from_le_bytes(*disk) })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn devices_name_partitions() {
        let mut bytes = vec![0; 0x58];
        bytes[16] = 6;
        bytes[0x20..0x30].copy_from_slice(&[7; 16]);
        bytes[0x38..0x48].copy_from_slice(&[9; 16]);
        let (partition, disk) = (Uuid::from_bytes_le([7; 16]), Uuid::from_bytes_le([9; 16]));
        assert_eq!(place(&bytes), Some(Place::Gpt { partition, disk }));
        bytes[0x34] = 1;
        bytes[0x20..0x28].copy_from_slice(&(1_u64 << 20).to_le_bytes());
        bytes[0x38..0x3c].copy_from_slice(&0xcafe_u32.to_le_bytes());
        assert_eq!(place(&bytes), Some(Place::Mbr { start: 1 << 20, disk: 0xcafe }));
        bytes[0x34] = 2;
        assert_eq!(place(&bytes), None);
        assert!((0..0x3c).all(|len| place(&bytes[..len]).is_none()));
        assert_eq!(
            mounted(b"DMIO:ID:\x07\x07\x07\x07\x07\x07\x07\x07\x07\x07\x07\x07\x07\x07\x07\x07"),
            Some(Place::Gpt { partition, disk: Uuid::nil() })
        );
        assert_eq!(mounted(&[1, 0, 0, 0, 0, 0, 16, 0, 0, 0, 0, 0]), Some(Place::Mbr { start: 1 << 20, disk: 1 }));
        assert_eq!(mounted(&[1, 0, 0, 0, 0, 0, 16, 0]), None);
    }
}
