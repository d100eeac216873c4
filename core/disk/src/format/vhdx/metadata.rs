//! The metadata region (section 2.6): what kind of disk it is.

use uuid::{Uuid, uuid};
use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    byteorder::little_endian::{U16, U32},
};

use crate::{
    budget::Held,
    error::{Error, Result},
    source::{Storage, read_vec},
    text::from_utf16,
};

const FILE_PARAMETERS: Uuid = uuid!("caa16737-fa36-4d43-b3b6-33f0aa44e76b");
const VIRTUAL_DISK_SIZE: Uuid = uuid!("2fa54224-cd1b-4876-b211-5dbed83bf4b8");
const VIRTUAL_DISK_ID: Uuid = uuid!("beca12ab-b2e6-4523-93ef-c309e000c746");
const LOGICAL_SECTOR_SIZE: Uuid = uuid!("8141bf1d-a96f-4709-ba47-f233a8faab5f");
const PHYSICAL_SECTOR_SIZE: Uuid = uuid!("cda348c7-445d-4471-9cc9-e9885251c556");
const PARENT_LOCATOR: Uuid = uuid!("a8d35f2d-b30b-454d-abf7-d3d84834ab0c");

const SIGNATURE: [u8; 8] = *b"metadata";
/// Section 2.6.1: at most so many entries.
const MAX_ENTRIES: u16 = 2047;
/// Where items may start, behind the table.
const ITEMS_AT: u32 = 64 << 10;
/// The largest disk in bytes (section 2.6.2.2).
pub const MAX_SIZE: u64 = 64 << 40;

/// Flags of an entry: belongs to the disk and not to the file; must be understood.
const IS_VIRTUAL_DISK: u32 = 2;
const IS_REQUIRED: u32 = 4;
/// Flags of the file parameters.
const LEAVE_ALLOCATED: u32 = 1;
const HAS_PARENT: u32 = 2;

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct TableHeader {
    signature: [u8; 8],
    reserved: U16,
    entry_count: U16,
    reserved2: [u8; 20],
}

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct TableEntry {
    item: [u8; 16],
    /// From the start of the region.
    offset: U32,
    length: U32,
    flags: U32,
    reserved: U32,
}

/// Section 2.6.2.6.1: the parent is another VHDX.
const VHDX_PARENT: Uuid = uuid!("b04aefb7-d19e-4a81-b789-25b8e9445913");
/// The longest parent locator that is read, in bytes.
const MAX_LOCATOR: u32 = 256 << 10;

/// What the region says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Metadata {
    pub(super) block: u64,
    pub(super) full: bool,
    /// How the parent is found, as keys and values (section 2.6.2.6); `None` when there is none.
    pub(super) parent: Option<Vec<(String, String)>>,
    /// Guest-visible size in bytes.
    pub(super) size: u64,
    pub(super) disk_id: Uuid,
    pub(super) logical_sector: u64,
    pub(super) physical_sector: u64,
}

impl Metadata {
    /// Reads the region at `at`.
    #[expect(clippy::cast_possible_truncation, reason = "sizes that the format bounds far below 4 GiB")]
    #[expect(clippy::indexing_slicing, reason = "the item was read with its eight bytes")]
    pub(super) fn read(storage: &dyn Storage, at: u64, len: u64) -> Result<Self> {
        let path = storage.name();
        let damaged = |what: String| Error::damaged(path, at, what);
        let bytes = read_vec(storage, at, size_of::<TableHeader>(), "the metadata table")?;
        let header = TableHeader::read_from_bytes(&bytes).map_err(|_| damaged("no metadata table".into()))?;
        let count = header.entry_count.get();
        if header.signature != SIGNATURE || count > MAX_ENTRIES {
            return Err(damaged("a metadata table was expected there".into()));
        }
        let entries_at = at + size_of::<TableHeader>() as u64;
        let bytes = read_vec(storage, entries_at, usize::from(count) * size_of::<TableEntry>(), "the metadata table")?;
        let entries: Vec<TableEntry> =
            bytes.chunks_exact(size_of::<TableEntry>()).filter_map(|e| TableEntry::read_from_bytes(e).ok()).collect();
        let known = [
            FILE_PARAMETERS,
            VIRTUAL_DISK_SIZE,
            VIRTUAL_DISK_ID,
            LOGICAL_SECTOR_SIZE,
            PHYSICAL_SECTOR_SIZE,
            PARENT_LOCATOR,
        ];
        for entry in &entries {
            let id = Uuid::from_bytes_le(entry.item);
            if entry.flags.get() & IS_REQUIRED != 0 && !known.contains(&id) {
                return Err(Error::Unsupported { path: path.into(), what: format!("it needs the metadata item {id}") });
            }
        }
        let item = |id: Uuid, length: usize, what: &str| -> Result<Held<Vec<u8>>> {
            let entry = entries.iter().find(|entry| Uuid::from_bytes_le(entry.item) == id);
            let entry = entry.ok_or_else(|| damaged(format!("the metadata does not say the {what}")))?;
            let offset = u64::from(entry.offset.get());
            if entry.length.get() as usize != length || offset + length as u64 > len {
                return Err(damaged(format!("the metadata's entry for the {what} leads out of its region")));
            }
            read_vec(storage, at + offset, length, what)
        };
        let number = |bytes: &[u8]| bytes.iter().rev().fold(0u64, |sum, &byte| (sum << 8) | u64::from(byte));
        let parameters = item(FILE_PARAMETERS, 8, "block size")?;
        let (block, flags) = (number(&parameters[..4]), number(&parameters[4..]) as u32);
        let size = number(&item(VIRTUAL_DISK_SIZE, 8, "size of the disk")?);
        let logical_sector = number(&item(LOGICAL_SECTOR_SIZE, 4, "sector size")?);
        let physical_sector = number(&item(PHYSICAL_SECTOR_SIZE, 4, "physical sector size")?);
        let id = item(VIRTUAL_DISK_ID, 16, "identity of the disk")?;
        if !block.is_power_of_two() || !(1 << 20..=256 << 20).contains(&block) {
            return Err(damaged(format!("blocks of {block} bytes, expected a power of two from 1 to 256 MiB")));
        }
        if ![512, 4096].contains(&logical_sector) {
            return Err(damaged(format!("sectors of {logical_sector} bytes, expected 512 or 4096")));
        }
        if size > MAX_SIZE || !size.is_multiple_of(logical_sector) {
            return Err(damaged(format!("a disk of {size} bytes, expected whole sectors, at most 64 TiB")));
        }
        let parent = if flags & HAS_PARENT != 0 {
            let entry = entries.iter().find(|entry| Uuid::from_bytes_le(entry.item) == PARENT_LOCATOR);
            let entry = entry.ok_or_else(|| damaged("the metadata does not say where the parent is".into()))?;
            let (offset, length) = (u64::from(entry.offset.get()), entry.length.get());
            if length > MAX_LOCATOR || offset + u64::from(length) > len {
                return Err(damaged("the metadata's entry for the parent leads out of its region".into()));
            }
            let bytes = read_vec(storage, at + offset, length as usize, "the parent locator")?;
            Some(parent_locator(&bytes).ok_or_else(|| damaged("the parent locator contradicts itself".into()))?)
        } else {
            None
        };
        Ok(Self {
            block,
            full: flags & LEAVE_ALLOCATED != 0,
            parent,
            size,
            disk_id: Uuid::from_slice_le(&id).unwrap_or_default(),
            logical_sector,
            physical_sector,
        })
    }

    /// The region's bytes, up to the end of its items.
    #[expect(clippy::cast_possible_truncation, reason = "sizes that the format bounds far below 4 GiB")]
    pub(super) fn to_bytes(&self) -> Vec<u8> {
        let flags = if self.full { LEAVE_ALLOCATED } else { 0 };
        let parameters = [(self.block as u32).to_le_bytes(), flags.to_le_bytes()].concat();
        let items: [(Uuid, Vec<u8>, u32); 5] = [
            (FILE_PARAMETERS, parameters, IS_REQUIRED),
            (VIRTUAL_DISK_SIZE, self.size.to_le_bytes().into(), IS_VIRTUAL_DISK | IS_REQUIRED),
            (VIRTUAL_DISK_ID, self.disk_id.to_bytes_le().into(), IS_VIRTUAL_DISK | IS_REQUIRED),
            (LOGICAL_SECTOR_SIZE, (self.logical_sector as u32).to_le_bytes().into(), IS_VIRTUAL_DISK | IS_REQUIRED),
            (PHYSICAL_SECTOR_SIZE, (self.physical_sector as u32).to_le_bytes().into(), IS_VIRTUAL_DISK | IS_REQUIRED),
        ];
        let header = TableHeader {
            signature: SIGNATURE,
            reserved: U16::ZERO,
            entry_count: U16::new(items.len() as u16),
            reserved2: [0; 20],
        };
        let (mut table, mut data) = (header.as_bytes().to_vec(), Vec::<u8>::new());
        for (id, value, flags) in &items {
            let entry = TableEntry {
                item: id.to_bytes_le(),
                offset: U32::new(ITEMS_AT + data.len() as u32),
                length: U32::new(value.len() as u32),
                flags: U32::new(*flags),
                reserved: U32::ZERO,
            };
            table.extend(entry.as_bytes());
            data.extend(value);
        }
        table.resize(ITEMS_AT as usize, 0);
        table.extend(data);
        table
    }
}

/// Keys and values of a parent locator (sections 2.6.2.6.2 and 2.6.2.6.3); `None` when they do not lie in it, or it is of
/// another type.
fn parent_locator(bytes: &[u8]) -> Option<Vec<(String, String)>> {
    let number = |at: usize, len: usize| {
        Some(bytes.get(at..at + len)?.iter().rev().fold(0usize, |sum, &byte| (sum << 8) | usize::from(byte)))
    };
    if Uuid::from_slice_le(bytes.get(..16)?).ok()? != VHDX_PARENT {
        return None;
    }
    let text = |at: usize, len: usize| {
        let (pairs, _) = bytes.get(at..at.checked_add(len)?)?.as_chunks::<2>();
        Some(from_utf16(pairs.iter().map(|pair| u16::from_le_bytes(*pair))))
    };
    (0..number(18, 2)?)
        .map(|index| {
            let at = 20 + index * 12;
            let key = text(number(at, 4)?, number(at + 8, 2)?)?;
            Some((key, text(number(at + 4, 4)?, number(at + 10, 2)?)?))
        })
        .collect()
}

const _: () = assert!(size_of::<TableHeader>() == 32 && size_of::<TableEntry>() == 32);
