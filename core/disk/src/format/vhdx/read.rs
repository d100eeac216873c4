//! Reading fixed, dynamic and differencing disks.

use crate::to_usize;
use std::sync::Arc;

use uuid::Uuid;
use zerocopy::FromBytes;

use super::{
    header::{
        BAT_REGION, FILE_TYPE, HEADER_BYTES, HEADER_SIGNATURE, HEADERS_AT, Header, METADATA_REGION, REGION_SIGNATURE,
        REGION_TABLE_BYTES, REGION_TABLES_AT, RegionEntry, RegionTableHeader, checksum,
    },
    log,
    metadata::Metadata,
    parent,
    table::{self, OFFSET_MASK, STATE_MASK, state},
};
use crate::{
    disk::Disk,
    error::{Error, Result},
    facts::Facts,
    format::{
        cache::{Table, TableCache},
        opener::Opener,
        units::{Place, Span, UnitDisk, UnitMap},
    },
    image::Image,
    shape::{Format, Layout, Shape},
    source::{Storage, hold, read_entries, read_vec, require},
};

/// Section 2.2.3.1: entries of a region table.
const MAX_REGIONS: u32 = 2047;
/// The largest table that we take into memory: 4 TiB in blocks of 1 MiB, 64 TiB in the usual ones of 32 MiB.
const MAX_TABLE_BYTES: u64 = 64 << 20;

/// Whether a file that starts with `head` is an image.
pub fn probe(head: &[u8]) -> bool {
    head.starts_with(&FILE_TYPE)
}

/// Opens an image.
///
/// # Errors
/// [`Error::Damaged`] and [`Error::CutShort`] for structures that break the format's rules, the log's too; those of
/// opening the disk below.
pub fn open(storage: Arc<dyn Storage>, opener: &Opener) -> Result<Image> {
    let mut map = Map::open(storage)?;
    let mut facts = map.facts();
    if let Some(locator) = &map.metadata.parent {
        map.below = Some(parent::open(map.storage.as_ref(), opener, locator, &mut facts)?);
    }
    Ok(Image::new(UnitDisk::new(map).shared(), facts))
}

/// Sector bitmaps that are kept: pieces of 4 KiB.
const BITMAPS: usize = 64;
/// Bytes of a piece of a sector bitmap.
const BITMAP_PIECE: u64 = 4096;

struct Map {
    storage: Arc<dyn Storage>,
    metadata: Metadata,
    creator: String,
    ratio: u64,
    table: Table<u64>,
    /// Changed whenever a guest writes to the disk.
    data_write_id: Uuid,
    /// The log had to be replayed.
    unclean: bool,
    /// The disk that this one is a delta of.
    below: Option<Arc<dyn Disk>>,
    bitmaps: TableCache<u8>,
}

impl Map {
    #[expect(
        clippy::indexing_slicing,
        reason = "the table has an entry for every block of the disk, and a bitmap a bit for every sector of a chunk"
    )]
    fn open(storage: Arc<dyn Storage>) -> Result<Self> {
        let path = storage.name().to_string();
        let unsupported = |what: &str| Err(Error::Unsupported { path: path.clone(), what: what.into() });
        let start = read_vec(storage.as_ref(), 0, 520, "the file type identifier")?;
        if !probe(&start) {
            return Err(Error::damaged(&path, 0, "the file type identifier of a VHDX image is missing"));
        }
        let header = current_header(storage.as_ref())?;
        if header.version.get() != 1 {
            return unsupported(&format!("it is of version {}; version 1 is known", header.version.get()));
        }
        if header.log_version.get() != 0 {
            return unsupported(&format!("its log is of version {}; version 0 is known", header.log_version.get()));
        }
        let unclean = header.log_guid != [0; 16];
        let storage = if unclean { log::replay(storage, &header)? } else { storage };
        let regions = regions(storage.as_ref())?;
        let (metadata_at, metadata_len) = region(&regions, METADATA_REGION, &path)?;
        let metadata = Metadata::read(storage.as_ref(), metadata_at, metadata_len)?;
        let ratio = table::ratio(metadata.block, metadata.logical_sector);
        let blocks = metadata.size.div_ceil(metadata.block);
        let entries = match metadata.parent {
            Some(_) => table::entries_of_delta(blocks, ratio),
            None => table::entries(blocks, ratio),
        };
        let (table_at, table_len) = region(&regions, BAT_REGION, &path)?;
        if entries * 8 > table_len.min(MAX_TABLE_BYTES) {
            let what = format!("a table of {table_len} bytes for a disk of {} bytes", metadata.size);
            return Err(Error::damaged(&path, table_at, what));
        }
        let table = read_entries(storage.as_ref(), table_at, entries, "the block table", u64::from_le_bytes)?;
        let units: Vec<u16> = start[8..].chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
        let creator = String::from_utf16_lossy(units.split(|&unit| unit == 0).next().unwrap_or_default());
        let data_write_id = Uuid::from_bytes_le(header.data_write_guid);
        let (below, bitmaps) = (None, TableCache::new(BITMAPS, storage.budget()));
        let map = Self { storage, metadata, creator, ratio, table, data_write_id, unclean, below, bitmaps };
        map.check_once(table_at)?;
        Ok(map)
    }

    /// Fails when two blocks are said to overlap in the file.
    #[expect(
        clippy::indexing_slicing,
        reason = "the table has an entry for every block of the disk, and a bitmap a bit for every sector of a chunk"
    )]
    fn check_once(&self, table_at: u64) -> Result<()> {
        let blocks = self.metadata.size.div_ceil(self.metadata.block);
        let _hold = hold(self.storage.as_ref(), blocks * 8, "the block table")?;
        let entry = |number| self.table[to_usize(table::index(number, self.ratio))];
        let mut stored: Vec<u64> = (0..blocks)
            .map(entry)
            .filter(|e| matches!(e & STATE_MASK, state::FULLY_PRESENT | state::PARTIALLY_PRESENT))
            .map(|e| e & OFFSET_MASK)
            .collect();
        stored.sort_unstable();
        match stored.windows(2).find(|pair| pair[1] - pair[0] < self.metadata.block) {
            Some(pair) => {
                let what = format!("the blocks at bytes {} and {} of the file overlap", pair[0], pair[1]);
                Err(Error::damaged(self.storage.name(), table_at, what))
            }
            None => Ok(()),
        }
    }

    fn facts(&self) -> Facts {
        let Metadata { full, size, disk_id, logical_sector, physical_sector, block, .. } = self.metadata;
        let (layout, variant) = match (&self.metadata.parent, full) {
            (Some(_), _) => (Layout::Thin, "differencing"),
            (None, true) => (Layout::Full, "fixed"),
            (None, false) => (Layout::Thin, "dynamic"),
        };
        let mut facts = Facts::new(Shape::new(Format::Vhdx, layout), variant, size, self.storage.as_ref());
        facts.unit = Some(("block".into(), block));
        facts.sector_size = Some(logical_sector);
        facts.content_id = Some(self.data_write_id.to_string());
        facts.detail("disk ID", disk_id.to_string());
        facts.detail("ID of its state", self.data_write_id.to_string());
        facts.detail("sectors", format!("{logical_sector} bytes, {physical_sector} physically"));
        facts.detail("creator", self.creator.clone());
        facts.detail("log", if self.unclean { "replayed in memory" } else { "" });
        facts.unclean = self.unclean;
        facts
    }

    /// Which of the sectors of block `number` from `first` (counted in the block) on are here: how many alike, and
    /// whether they are.
    #[expect(
        clippy::indexing_slicing,
        reason = "the table has an entry for every block of the disk, and a bitmap a bit for every sector of a chunk"
    )]
    fn sectors_here(&self, number: u64, first: u64) -> Result<(u64, bool)> {
        let per_block = self.metadata.block / self.unit();
        let entry = self.table[to_usize(table::bitmap_index(number, self.ratio))];
        if entry & STATE_MASK != state::FULLY_PRESENT {
            let what = format!("block {number} is partly here, and the bitmap that says which part is not");
            return Err(Error::damaged(self.storage.name(), None, what));
        }
        // One bitmap serves `ratio` blocks, a bit for each sector, the first one in the lowest bit.
        let bit = number % self.ratio * per_block + first;
        let piece = bit / 8 / BITMAP_PIECE;
        let at = (entry & OFFSET_MASK).saturating_add(piece * BITMAP_PIECE);
        let key = number / self.ratio * ((1 << 20) / BITMAP_PIECE) + piece;
        let load = || read_vec(self.storage.as_ref(), at, to_usize(BITMAP_PIECE), "a sector bitmap");
        let bits = self.bitmaps.get(key, load)?;
        let inside = bit % (BITMAP_PIECE * 8);
        let get = |bit: u64| bits[(bit / 8) as usize] & (1 << (bit % 8)) != 0;
        let end = (inside + per_block - first).min(BITMAP_PIECE * 8);
        let alike = (inside..end).take_while(|&bit| get(bit) == get(inside)).count() as u64;
        Ok((alike, get(inside)))
    }
}

/// The sound header with the larger sequence number.
fn current_header(storage: &dyn Storage) -> Result<Header> {
    let mut best: Option<Header> = None;
    for at in HEADERS_AT {
        let bytes = read_vec(storage, at, HEADER_BYTES, "a header")?;
        let Ok((header, _)) = Header::read_from_prefix(&bytes) else { continue };
        let sound = header.signature == HEADER_SIGNATURE && header.checksum.get() == checksum(&bytes);
        if sound && best.is_none_or(|b| b.sequence_number.get() < header.sequence_number.get()) {
            best = Some(header);
        }
    }
    best.ok_or_else(|| Error::damaged(storage.name(), HEADERS_AT[0], "neither of the two headers has a right checksum"))
}

/// The entries of the first sound region table.
fn regions(storage: &dyn Storage) -> Result<Vec<RegionEntry>> {
    for at in REGION_TABLES_AT {
        let bytes = read_vec(storage, at, REGION_TABLE_BYTES, "a region table")?;
        let Ok((header, rest)) = RegionTableHeader::read_from_prefix(&bytes) else { continue };
        let count = header.entry_count.get();
        if header.signature == REGION_SIGNATURE && header.checksum.get() == checksum(&bytes) && count <= MAX_REGIONS {
            let entries = rest.chunks_exact(size_of::<RegionEntry>()).take(count as usize);
            let entries: Vec<_> = entries.filter_map(|entry| RegionEntry::read_from_bytes(entry).ok()).collect();
            let known = [BAT_REGION, METADATA_REGION];
            let unknown =
                entries.iter().find(|e| e.required.get() & 1 != 0 && !known.contains(&Uuid::from_bytes_le(e.guid)));
            return match unknown {
                Some(entry) => {
                    let what = format!("it needs the region {}", Uuid::from_bytes_le(entry.guid));
                    Err(Error::Unsupported { path: storage.name().into(), what })
                }
                None => Ok(entries),
            };
        }
    }
    Err(Error::damaged(storage.name(), REGION_TABLES_AT[0], "neither of the two region tables has a right checksum"))
}

/// Byte and length of a region.
fn region(regions: &[RegionEntry], guid: Uuid, path: &str) -> Result<(u64, u64)> {
    let entry = regions.iter().find(|entry| Uuid::from_bytes_le(entry.guid) == guid);
    let entry = entry.ok_or_else(|| Error::damaged(path, REGION_TABLES_AT[0], format!("there is no region {guid}")))?;
    Ok((entry.file_offset.get(), entry.length.get().into()))
}

impl UnitMap for Map {
    fn storage(&self) -> &dyn Storage {
        self.storage.as_ref()
    }

    fn size(&self) -> u64 {
        self.metadata.size
    }

    fn unit(&self) -> u64 {
        if self.metadata.parent.is_some() { self.metadata.logical_sector } else { self.metadata.block }
    }

    fn below(&self) -> Option<&Arc<dyn Disk>> {
        self.below.as_ref()
    }

    #[expect(
        clippy::indexing_slicing,
        reason = "the table has an entry for every block of the disk, and a bitmap a bit for every sector of a chunk"
    )]
    fn span_at(&self, number: u64) -> Result<Span> {
        let per_block = self.metadata.block / self.unit();
        let (block, first) = (number / per_block, number % per_block);
        let rest = per_block - first;
        let entry = self.table[to_usize(table::index(block, self.ratio))];
        let units = match entry & STATE_MASK {
            state::NOT_PRESENT => return Ok(Span { place: Place::Below, units: rest }),
            state::UNDEFINED | state::ZERO | state::UNMAPPED => return Ok(Span { place: Place::Zero, units: rest }),
            state::FULLY_PRESENT => rest,
            state::PARTIALLY_PRESENT if self.metadata.parent.is_some() => match self.sectors_here(block, first)? {
                (units, true) => units,
                (units, false) => return Ok(Span { place: Place::Below, units }),
            },
            other => {
                let what = format!("block {block} is in state {other}, which a disk without a parent does not have");
                return Err(Error::damaged(self.storage.name(), None, what));
            }
        };
        let start = (entry & OFFSET_MASK).saturating_add(first * self.unit());
        let len = (units * self.unit()).min(self.size() - number * self.unit());
        require(self.storage.as_ref(), start, len, &format!("block {block}"))?;
        Ok(Span { place: Place::At(start), units })
    }
}
