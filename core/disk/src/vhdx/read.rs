//! Reading fixed and dynamic disks.

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
    table::{self, OFFSET_MASK, STATE_MASK, state},
};
use crate::{
    error::{Error, Result},
    formats::{Facts, Image, Opener},
    shape::{Format, Layout, Shape},
    source::{Storage, read_entries, read_vec, require},
    units::{Place, Span, UnitDisk, UnitMap},
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
/// [`Error::Damaged`] and [`Error::CutShort`] for structures that break the format's rules, the log's too;
/// [`Error::Unsupported`] for deltas.
pub fn open(storage: Arc<dyn Storage>, _: &Opener) -> Result<Image> {
    let map = Map::open(storage)?;
    let facts = map.facts();
    Ok(Image { disk: UnitDisk(map).shared(), facts })
}

struct Map {
    storage: Arc<dyn Storage>,
    metadata: Metadata,
    creator: String,
    ratio: u64,
    table: Vec<u64>,
    /// The log had to be replayed.
    unclean: bool,
}

impl Map {
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
        if metadata.has_parent {
            return unsupported("it is a delta of another disk");
        }
        let ratio = table::ratio(metadata.block, metadata.logical_sector);
        let entries = table::entries(metadata.size.div_ceil(metadata.block), ratio);
        let (table_at, table_len) = region(&regions, BAT_REGION, &path)?;
        if entries * 8 > table_len.min(MAX_TABLE_BYTES) {
            let what = format!("a table of {table_len} bytes for a disk of {} bytes", metadata.size);
            return Err(Error::damaged(&path, table_at, what));
        }
        let table = read_entries(storage.as_ref(), table_at, entries, "the block table", u64::from_le_bytes)?;
        let units: Vec<u16> = start[8..].chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
        let creator = String::from_utf16_lossy(units.split(|&unit| unit == 0).next().unwrap_or_default());
        let map = Self { storage, metadata, creator, ratio, table, unclean };
        map.check_once(table_at)?;
        Ok(map)
    }

    /// Fails when two blocks are said to overlap in the file.
    fn check_once(&self, table_at: u64) -> Result<()> {
        let blocks = self.metadata.size.div_ceil(self.metadata.block);
        let entry = |number| self.table[table::index(number, self.ratio) as usize];
        let mut stored: Vec<u64> = (0..blocks)
            .map(entry)
            .filter(|e| e & STATE_MASK == state::FULLY_PRESENT)
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
        let mut details = vec![
            ("disk ID".into(), disk_id.to_string()),
            ("sectors".into(), format!("{logical_sector} bytes, {physical_sector} physically")),
        ];
        if !self.creator.is_empty() {
            details.push(("creator".into(), self.creator.clone()));
        }
        Facts {
            shape: Shape::new(Format::Vhdx, if full { Layout::Full } else { Layout::Thin }),
            variant: if full { "fixed" } else { "dynamic" }.into(),
            virtual_size: size,
            file_size: self.storage.len(),
            allocated: self.storage.allocated(),
            unit: Some(("block".into(), block)),
            compression: None,
            chain: Vec::new(),
            content_id: None,
            details,
            unclean: self.unclean,
        }
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
        self.metadata.block
    }

    fn span_at(&self, number: u64) -> Result<Span> {
        let entry = self.table[table::index(number, self.ratio) as usize];
        match entry & STATE_MASK {
            state::NOT_PRESENT | state::UNDEFINED | state::ZERO | state::UNMAPPED => Ok(Span::one(Place::Zero)),
            state::FULLY_PRESENT => {
                let start = entry & OFFSET_MASK;
                let len = self.unit().min(self.size() - number * self.unit());
                require(self.storage.as_ref(), start, len, &format!("block {number}"))?;
                Ok(Span::one(Place::At(start)))
            }
            other => {
                let what = format!("block {number} is in state {other}, which a disk without a parent does not have");
                Err(Error::damaged(self.storage.name(), None, what))
            }
        }
    }
}
