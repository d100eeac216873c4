//! Reading fixed, dynamic and differencing disks.

use crate::to_usize;
use std::sync::Arc;

use uuid::Uuid;
use zerocopy::FromBytes;

use super::{
    footer::{
        COOKIE, DYNAMIC_CHECKSUM_AT, DYNAMIC_COOKIE, DynamicHeader, FOOTER_CHECKSUM_AT, Footer, UNUSED, checksum, kind,
    },
    parent,
};
use crate::{
    ByteSize, SECTOR,
    disk::{Disk, Extent},
    error::{Error, Result, check_range},
    facts::Facts,
    format::{
        cache::{Table, TableCache},
        opener::Opener,
        units::{Place, Span, UnitDisk, UnitMap, run_len},
    },
    image::Image,
    shape::{Format, Layout, Shape},
    source::{Storage, hold, read_entries, read_vec, require},
};

/// The largest block table that we take into memory; the format's limit of 2040 GiB in blocks of 2 MiB takes 4 MiB.
const MAX_TABLE_BYTES: u64 = 32 << 20;
/// Creators that mean the size that they write; others mean what the geometry gives, which is a little less.
const TRUE_TO_SIZE: [&[u8; 4]; 6] = [b"win ", b"qem2", b"d2v ", b"tap\0", b"vs  ", b"wa\0\0"];
/// Sectors of the largest geometry: a larger disk cannot be described by it.
const MAX_GEOMETRY: u64 = 65535 * 16 * 255;

/// Opens an image.
///
/// # Errors
/// [`Error::Damaged`] and [`Error::CutShort`] for structures that break the format's rules; those of opening the disk
/// below.
pub fn open(storage: Arc<dyn Storage>, opener: &Opener) -> Result<Image> {
    let (footer, copied) = find_footer(storage.as_ref())?;
    let path = storage.name().to_string();
    let size = size_of_disk(&footer);
    let mut facts = facts(storage.as_ref(), &footer, size, copied);
    let disk: Arc<dyn Disk> = match footer.disk_type.get() {
        kind::FIXED => {
            require(storage.as_ref(), 0, size, "the disk")?;
            Arc::new(FixedDisk { storage, size })
        }
        kind::DYNAMIC | kind::DIFFERENCING => {
            let delta = footer.disk_type.get() == kind::DIFFERENCING;
            let (header, header_at) = read_header(storage.as_ref(), &footer)?;
            let below = if delta { Some(parent::open(storage.as_ref(), opener, &header, &mut facts)?) } else { None };
            let map = Map::open(storage, &header, header_at, size, below)?;
            facts.unit = Some(("block".into(), map.block));
            UnitDisk::new(map).shared()
        }
        other => return Err(Error::damaged(&path, 60, format!("a disk of type {other}, expected 2, 3 or 4"))),
    };
    Ok(Image::new(disk, facts))
}

/// The footer at the end, or where that is damaged the copy at the start; and whether it is the copy.
fn find_footer(storage: &dyn Storage) -> Result<(Footer, bool)> {
    let path = storage.name();
    if storage.len() < SECTOR {
        return Err(Error::damaged(path, 0, "a file of less than a sector holds no footer"));
    }
    let read = |at: u64| -> Result<Option<Footer>> {
        let bytes = read_vec(storage, at, size_of::<Footer>(), "the footer")?;
        let Ok(footer) = Footer::read_from_bytes(&bytes) else { return Ok(None) };
        let sound = footer.cookie == COOKIE && footer.checksum.get() == checksum(&bytes, FOOTER_CHECKSUM_AT);
        Ok(sound.then_some(footer))
    };
    let last = storage.len() - SECTOR;
    if let Some(footer) = read(last)? {
        return Ok((footer, false));
    }
    match read(0)? {
        Some(footer) if footer.disk_type.get() != kind::FIXED => Ok((footer, true)),
        _ => Err(Error::damaged(path, last, "a footer with a right checksum was expected there, or at the start")),
    }
}

/// The size question: see [`TRUE_TO_SIZE`].
fn size_of_disk(footer: &Footer) -> u64 {
    let (stated, by_geometry) = (footer.current_size.get() / SECTOR, footer.geometry.total());
    let true_to_size = TRUE_TO_SIZE.contains(&&footer.creator_application);
    let sectors = if true_to_size || by_geometry == 0 || by_geometry >= MAX_GEOMETRY { stated } else { by_geometry };
    sectors * SECTOR
}

fn facts(storage: &dyn Storage, footer: &Footer, size: u64, copied: bool) -> Facts {
    let (layout, variant) = match footer.disk_type.get() {
        kind::FIXED => (Layout::Full, "fixed"),
        kind::DIFFERENCING => (Layout::Thin, "differencing"),
        _ => (Layout::Thin, "dynamic"),
    };
    let mut facts = Facts::new(Shape::new(Format::Vhd, layout), variant, size, storage);
    let uuid = Uuid::from_bytes(footer.uuid).to_string();
    facts.detail("UUID", uuid.clone());
    facts.content_id = Some(uuid);
    facts.detail("creator", String::from_utf8_lossy(&footer.creator_application).trim_matches(['\0', ' ']));
    let (chs, stated) = (footer.geometry, footer.current_size.get());
    facts.detail("geometry", format!("{} cylinders, {} heads, {} sectors", chs.cylinders, chs.heads, chs.sectors));
    if size != stated {
        facts.detail("size", format!("by geometry, as its creator means it; {stated} bytes are stated"));
    }
    if copied {
        facts.detail("footer", "the copy at the start, since the one at the end is damaged");
    }
    facts.unclean = copied || footer.saved_state != 0;
    facts
}

/// The dynamic disk header, and where it lies.
fn read_header(storage: &dyn Storage, footer: &Footer) -> Result<(DynamicHeader, u64)> {
    let at = footer.data_offset.get();
    let bytes = read_vec(storage, at, size_of::<DynamicHeader>(), "the dynamic disk header")?;
    match DynamicHeader::read_from_bytes(&bytes) {
        Ok(header)
            if header.cookie == DYNAMIC_COOKIE && header.checksum.get() == checksum(&bytes, DYNAMIC_CHECKSUM_AT) =>
        {
            Ok((header, at))
        }
        _ => {
            let what = "a dynamic disk header with a right checksum was expected there";
            Err(Error::damaged(storage.name(), at, what))
        }
    }
}

/// A fixed disk: its bytes, then the footer.
struct FixedDisk {
    storage: Arc<dyn Storage>,
    size: u64,
}

impl Disk for FixedDisk {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(offset, buf.len(), self.size)?;
        self.storage.read_at(offset, buf)
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        Ok(self.storage.extent_at(offset)?.clipped(self.size))
    }

    fn check_unchanged(&self) -> Result<()> {
        self.storage.check_unchanged()
    }
}

/// Bitmaps of a delta's blocks that are kept: 512 bytes each in the usual size.
const BITMAPS: usize = 64;

struct Map {
    storage: Arc<dyn Storage>,
    size: u64,
    block: u64,
    /// Bytes before the data of each block: a bit for each sector.
    bitmap: u64,
    table: Table<u32>,
    /// The disk that this one is a delta of: its bitmaps say which sectors are here.
    below: Option<Arc<dyn Disk>>,
    bitmaps: TableCache<u8>,
}

impl Map {
    #[expect(
        clippy::indexing_slicing,
        reason = "the table has an entry for every block of the disk, and a bitmap a bit for every sector of a block"
    )]
    fn open(
        storage: Arc<dyn Storage>,
        header: &DynamicHeader,
        at: u64,
        size: u64,
        below: Option<Arc<dyn Disk>>,
    ) -> Result<Self> {
        let path = storage.name().to_string();
        let damaged = |offset: u64, what: String| Err(Error::damaged(&path, offset, what));
        let block = u64::from(header.block_size.get());
        if !block.is_power_of_two() || !(SECTOR..=256 << 20).contains(&block) {
            return damaged(at + 32, format!("blocks of {block} bytes, expected a power of two up to 256 MiB"));
        }
        let (needed, entries) = (size.div_ceil(block), u64::from(header.table_entries.get()));
        if entries < needed {
            return damaged(at + 28, format!("a table of {entries} entries, {needed} are needed for {size} bytes"));
        }
        if needed * 4 > MAX_TABLE_BYTES {
            let what =
                format!("a disk of {size} bytes, whose table would take more than {}", ByteSize(MAX_TABLE_BYTES));
            return damaged(at + 28, what);
        }
        let table_at = header.table_offset.get();
        let table = read_entries(storage.as_ref(), table_at, needed, "the block table", u32::from_be_bytes)?;
        let bitmap = (block / SECTOR).div_ceil(8).next_multiple_of(SECTOR);
        let _hold = hold(storage.as_ref(), needed * 4, "the block table")?;
        let mut stored: Vec<u32> = table.iter().copied().filter(|&entry| entry != UNUSED).collect();
        stored.sort_unstable();
        if let Some(pair) = stored.windows(2).find(|p| u64::from(p[1] - p[0]) * SECTOR < bitmap + block) {
            return damaged(table_at, format!("the blocks at sectors {} and {} of the file overlap", pair[0], pair[1]));
        }
        let bitmaps = TableCache::new(BITMAPS, storage.budget());
        Ok(Self { storage, size, block, bitmap, table, below, bitmaps })
    }

    /// Which sectors of block `number`, which starts at `at`, are here: the first one in the highest bit.
    fn bitmap(&self, number: u64, at: u64) -> Result<Arc<Table<u8>>> {
        let load = || read_vec(self.storage.as_ref(), at, to_usize(self.bitmap), "a block's bitmap");
        self.bitmaps.get(number, load)
    }
}

impl UnitMap for Map {
    fn storage(&self) -> &dyn Storage {
        self.storage.as_ref()
    }

    fn size(&self) -> u64 {
        self.size
    }

    fn unit(&self) -> u64 {
        if self.below.is_some() { SECTOR } else { self.block }
    }

    fn below(&self) -> Option<&Arc<dyn Disk>> {
        self.below.as_ref()
    }

    #[expect(
        clippy::indexing_slicing,
        reason = "the table has an entry for every block of the disk, and a bitmap a bit for every sector of a block"
    )]
    fn span_at(&self, number: u64) -> Result<Span> {
        let per_block = self.block / self.unit();
        let (block, first) = (number / per_block, number % per_block);
        let rest = per_block - first;
        let entry = self.table[to_usize(block)];
        if entry == UNUSED {
            let place = if self.below.is_some() { Place::Below } else { Place::Zero };
            let blocks = run_len(self.table[to_usize(block)..].iter().map(|&entry| entry.into()), 0);
            return Ok(Span { place, units: rest + (blocks - 1) * per_block });
        }
        let at = u64::from(entry) * SECTOR;
        let (units, here) = match &self.below {
            // The bitmap of a disk without a parent says nothing that its data does not say: unwritten sectors are zero.
            None => (1, true),
            Some(_) => {
                let bitmap = self.bitmap(block, at)?;
                let bit = |sector: u64| bitmap[(sector / 8) as usize] & (0x80 >> (sector % 8)) != 0;
                let alike = (first..per_block).take_while(|&sector| bit(sector) == bit(first)).count() as u64;
                (alike, bit(first))
            }
        };
        if !here {
            return Ok(Span { place: Place::Below, units });
        }
        let start = at + self.bitmap + first * self.unit();
        let len = (units * self.unit()).min(self.size - number * self.unit());
        require(self.storage.as_ref(), start, len, &format!("block {block}"))?;
        Ok(Span { place: Place::At(start), units })
    }
}
