//! What a physical volume says of itself: its label, its UUID, and copies of the group's metadata. All little-endian.

use reformis_disk::to_usize;
use zerocopy::{
    FromBytes, Immutable, KnownLayout, Unaligned,
    byteorder::little_endian::{U32, U64},
};

use crate::{bench::Device, error::Result};

const SECTOR: u64 = 512;
/// The label is in one of the first sectors.
const SCANNED: u64 = 4;
/// What every checksum of LVM2 starts from.
const CHECKSUM_START: u32 = 0xf597_a6cf;
const AREA_MAGIC: &[u8; 16] = b" LVM2 x[5A%r0N*>";
/// The longest text of metadata that is read, in bytes.
const MAX_TEXT: u64 = 16 << 20;
/// Set in an area that is there and not used.
const IGNORED: u32 = 1;

/// `struct label_header`, and the start of `struct pv_header` behind it.
#[derive(FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct LabelHeader {
    id: [u8; 8],
    sector_xl: U64,
    crc_xl: U32,
    /// Byte of what follows, from the label's start.
    offset_xl: U32,
    kind: [u8; 8],
}

/// `struct mda_header` with its first `struct raw_locn`.
#[derive(FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct AreaHeader {
    checksum_xl: U32,
    magic: [u8; 16],
    version: U32,
    start: U64,
    size: U64,
    /// Byte of the text, from the area's start.
    offset: U64,
    len: U64,
    checksum: U32,
    flags: U32,
}

/// A physical volume.
pub(super) struct Label {
    /// Without dashes.
    pub(super) uuid: String,
    /// The group's metadata, once for each area that holds it whole.
    pub(super) metadata: Vec<String>,
}

fn checksum(bytes: &[u8]) -> u32 {
    let mut hasher = crc32fast::Hasher::new_with_initial(!CHECKSUM_START);
    hasher.update(bytes);
    !hasher.finalize()
}

/// Reads the label of `device`; `None` when it has none that is sound.
pub(super) fn read(device: &Device) -> Result<Option<Label>> {
    for sector in 0..SCANNED.min(device.size() / SECTOR) {
        let mut bytes = [0; to_usize(SECTOR)];
        device.read(sector * SECTOR, &mut bytes)?;
        let Ok((header, _)) = LabelHeader::read_from_prefix(&bytes) else { continue };
        let sound = &header.id == b"LABELONE"
            && &header.kind == b"LVM2 001"
            && header.sector_xl.get() == sector
            && header.crc_xl.get() == checksum(&bytes[20..]);
        if sound {
            return body(device, &bytes, header.offset_xl.get() as usize);
        }
    }
    Ok(None)
}

#[expect(clippy::indexing_slicing, reason = "places inside a structure of a known length")]
fn body(device: &Device, sector: &[u8], at: usize) -> Result<Option<Label>> {
    let Some(uuid) = sector.get(at..at.saturating_add(32)) else { return Ok(None) };
    let uuid = String::from_utf8_lossy(uuid).into_owned();
    // Behind the size of the device: places of data, a pair of zeros, places of metadata, a pair of zeros.
    let pairs = sector.get(at + 40..).unwrap_or_default().chunks_exact(16).map(|pair| {
        let word = |at: usize| u64::from_le_bytes(pair[at..at + 8].try_into().unwrap_or_default());
        (word(0), word(8))
    });
    let areas = pairs.skip_while(|pair| *pair != (0, 0)).skip(1).take_while(|pair| *pair != (0, 0));
    let mut metadata = Vec::new();
    for (start, size) in areas {
        metadata.extend(area(device, start, size)?);
    }
    Ok(Some(Label { uuid, metadata }))
}

/// The text of an area of metadata; `None` when it is not used or not sound.
#[expect(clippy::indexing_slicing, reason = "places inside a structure of a known length")]
fn area(device: &Device, start: u64, size: u64) -> Result<Option<String>> {
    if size <= SECTOR || start.checked_add(size).is_none_or(|end| end > device.size()) {
        return Ok(None);
    }
    let mut bytes = [0; to_usize(SECTOR)];
    device.read(start, &mut bytes)?;
    let Ok((header, _)) = AreaHeader::read_from_prefix(&bytes) else { return Ok(None) };
    let (offset, len) = (header.offset.get(), header.len.get());
    let sound = &header.magic == AREA_MAGIC
        && header.checksum_xl.get() == checksum(&bytes[4..])
        && header.flags.get() & IGNORED == 0
        && (SECTOR..size).contains(&offset)
        && (1..=MAX_TEXT.min(size - SECTOR)).contains(&len);
    if !sound {
        return Ok(None);
    }
    let _hold = device.bench().budget().take(2 * len)?;
    let mut text = vec![0; to_usize(len)];
    // The area is a ring behind its header.
    let first = to_usize(len.min(size - offset));
    device.read(start + offset, &mut text[..first])?;
    device.read(start + SECTOR, &mut text[first..])?;
    if checksum(&text) != header.checksum.get() {
        return Ok(None);
    }
    Ok(Some(String::from_utf8_lossy(&text).trim_end_matches('\0').to_string()))
}
