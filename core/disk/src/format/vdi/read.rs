//! Reading thin and full images, and deltas.

use crate::to_usize;
use std::sync::Arc;

use uuid::Uuid;

use super::{
    header::{FREE, Header, ZERO, kind, read_header},
    parent,
};
use crate::{
    ByteSize,
    disk::Disk,
    error::{Error, Result},
    facts::Facts,
    format::{
        cache::Table,
        opener::Opener,
        units::{Place, Span, UnitDisk, UnitMap, run_len},
    },
    image::Image,
    shape::{Format, Layout, Shape},
    source::{Storage, read_entries, require},
};

/// The largest block table that we take into memory: 16 TiB in blocks of 1 MiB.
const MAX_TABLE_BYTES: u64 = 64 << 20;

/// Opens an image.
///
/// # Errors
/// [`Error::Damaged`] and [`Error::CutShort`] for tables that break the format's rules; [`Error::Unsupported`] for
/// versions that are not known; those of finding and opening the disk below.
pub fn open(storage: Arc<dyn Storage>, opener: &Opener) -> Result<Image> {
    let header = read_header(storage.as_ref())?;
    let mut facts = facts(storage.as_ref(), &header);
    let below = match header.image_type.get() {
        kind::UNDO | kind::DELTA => Some(parent::open(storage.as_ref(), opener, &header, &mut facts)?),
        _ => None,
    };
    let map = Map::open(storage, header, below)?;
    Ok(Image::new(UnitDisk::new(map).shared(), facts))
}

fn facts(storage: &dyn Storage, header: &Header) -> Facts {
    let (layout, variant) = match header.image_type.get() {
        kind::FULL => (Layout::Full, "fixed"),
        kind::UNDO => (Layout::Thin, "undo"),
        kind::DELTA => (Layout::Thin, "differencing"),
        _ => (Layout::Thin, "dynamic"),
    };
    let shape = Shape::new(Format::Vdi, layout);
    let mut facts = Facts::new(shape, variant, header.disk_size.get(), storage);
    facts.unit = Some(("block".into(), header.block_size.get().into()));
    let modified = Uuid::from_bytes_le(header.modification_uuid).to_string();
    facts.detail("UUID", Uuid::from_bytes_le(header.uuid).to_string());
    facts.detail("UUID of its state", modified.clone());
    facts.content_id = Some(modified);
    let text = |bytes: &[u8]| {
        let bytes: Vec<u8> = bytes.iter().copied().take_while(|&b| b != 0 && b != b'\n').collect();
        String::from_utf8_lossy(&bytes).into_owned()
    };
    facts.detail("comment", text(&header.comment));
    facts.detail("creator", text(&header.text).trim_matches(['<', '>', ' ']));
    let version = header.version.get();
    facts.detail("version", format!("{}.{}", version >> 16, version & 0xffff));
    facts
}

struct Map {
    storage: Arc<dyn Storage>,
    header: Header,
    table: Table<u32>,
    /// The disk that this one is a delta of.
    below: Option<Arc<dyn Disk>>,
}

impl Map {
    fn open(storage: Arc<dyn Storage>, header: Header, below: Option<Arc<dyn Disk>>) -> Result<Self> {
        let path = storage.name().to_string();
        let damaged = |offset: u64, what: String| Err(Error::damaged(&path, offset, what));
        if !(kind::THIN..=kind::DELTA).contains(&header.image_type.get()) {
            return damaged(76, format!("an image of type {}, expected 1 to 4", header.image_type));
        }
        let block = header.block_size.get();
        if !block.is_power_of_two() || !(4096..=256 << 20).contains(&block) {
            return damaged(376, format!("blocks of {block} bytes, expected a power of two from 4 KiB to 256 MiB"));
        }
        let (size, blocks) = (header.disk_size.get(), u64::from(header.blocks.get()));
        if size.div_ceil(u64::from(block)) > blocks {
            return damaged(384, format!("{blocks} blocks for a disk of {size} bytes"));
        }
        let needed = size.div_ceil(u64::from(block));
        if needed * 4 > MAX_TABLE_BYTES {
            let what =
                format!("a disk of {size} bytes, whose table would take more than {}", ByteSize(MAX_TABLE_BYTES));
            return damaged(368, what);
        }
        let at = u64::from(header.blocks_offset.get());
        let table = read_entries(storage.as_ref(), at, needed, "the block table", u32::from_le_bytes)?;
        check_once(&table, &path, at)?;
        Ok(Self { storage, header, table, below })
    }

    fn block(&self) -> u64 {
        self.header.block_size.get().into()
    }
}

/// Fails when two blocks of the disk are said to lie in one block of the file.
#[expect(
    clippy::indexing_slicing,
    reason = "the table has an entry for every block of the disk, or the disk was refused"
)]
fn check_once(table: &[u32], path: &str, table_at: u64) -> Result<()> {
    let mut stored: Vec<u32> = table.iter().copied().filter(|&entry| entry < ZERO).collect();
    stored.sort_unstable();
    match stored.windows(2).find(|pair| pair[0] == pair[1]) {
        Some(pair) => {
            Err(Error::damaged(path, table_at, format!("the table gives block {} of the file to two blocks", pair[0])))
        }
        None => Ok(()),
    }
}

impl UnitMap for Map {
    fn storage(&self) -> &dyn Storage {
        self.storage.as_ref()
    }

    fn size(&self) -> u64 {
        self.header.disk_size.get()
    }

    fn unit(&self) -> u64 {
        self.block()
    }

    fn below(&self) -> Option<&Arc<dyn Disk>> {
        self.below.as_ref()
    }

    #[expect(
        clippy::indexing_slicing,
        reason = "the table has an entry for every block of the disk, or the disk was refused"
    )]
    fn span_at(&self, number: u64) -> Result<Span> {
        let entry = self.table[to_usize(number)];
        match entry {
            FREE | ZERO => {
                let units = run_len(self.table[to_usize(number)..].iter().map(|&entry| entry.into()), 0);
                return Ok(Span { place: if entry == FREE { Place::Below } else { Place::Zero }, units });
            }
            _ => {}
        }
        let extra = u64::from(self.header.block_extra.get());
        // Each number has 32 bits; what comes out has more than 64 for none that a file holds.
        let start = (self.block() + extra)
            .saturating_mul(entry.into())
            .saturating_add(u64::from(self.header.data_offset.get()) + extra);
        // The end of the disk need not be there.
        let len = self.block().min(self.size() - number * self.block());
        require(self.storage.as_ref(), start, len, &format!("block {number}"))?;
        Ok(Span::one(Place::At(start)))
    }
}
