//! Reading thin and full images.

use std::sync::Arc;

use uuid::Uuid;
use zerocopy::FromBytes;

use super::header::{Header, SIGNATURE, ZERO, kind};
use crate::{
    ByteSize,
    error::{Error, Result},
    formats::{Facts, Image, Opener},
    shape::{Format, Layout, Shape},
    source::{Storage, read_entries, read_vec, require},
    units::{Place, Span, UnitDisk, UnitMap},
};

/// The largest block table that we take into memory: 16 TiB in blocks of 1 MiB.
const MAX_TABLE_BYTES: u64 = 64 << 20;

/// Whether a file that starts with `head` is an image.
pub fn probe(head: &[u8]) -> bool {
    head.get(64..68) == Some(&SIGNATURE.to_le_bytes())
}

/// Opens an image.
///
/// # Errors
/// [`Error::Damaged`] and [`Error::CutShort`] for tables that break the format's rules; [`Error::Unsupported`] for
/// deltas and other versions.
pub fn open(storage: Arc<dyn Storage>, _: &Opener) -> Result<Image> {
    let map = Map::open(storage)?;
    let facts = map.facts();
    Ok(Image { disk: UnitDisk(map).shared(), facts })
}

struct Map {
    storage: Arc<dyn Storage>,
    header: Header,
    table: Vec<u32>,
}

impl Map {
    fn open(storage: Arc<dyn Storage>) -> Result<Self> {
        let path = storage.name().to_string();
        let damaged = |offset: u64, what: String| Err(Error::damaged(&path, offset, what));
        let bytes = read_vec(storage.as_ref(), 0, size_of::<Header>(), "the header")?;
        let Ok(header) = Header::read_from_bytes(&bytes) else { return damaged(0, "no header".into()) };
        if header.signature.get() != SIGNATURE {
            return damaged(64, "the signature of a VDI image is missing".into());
        }
        if header.version.get() >> 16 != 1 {
            let what = format!("it is of version {}; version 1 is known", header.version.get() >> 16);
            return Err(Error::Unsupported { path, what });
        }
        match header.image_type.get() {
            kind::THIN | kind::FULL => {}
            kind::UNDO | kind::DELTA => {
                return Err(Error::Unsupported { path, what: "it is a delta of another disk".into() });
            }
            other => return damaged(76, format!("an image of type {other}, expected 1 to 4")),
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
        Ok(Self { storage, header, table })
    }

    fn block(&self) -> u64 {
        self.header.block_size.get().into()
    }

    fn facts(&self) -> Facts {
        let full = self.header.image_type.get() == kind::FULL;
        let mut details = vec![("UUID".into(), Uuid::from_bytes_le(self.header.uuid).to_string())];
        let comment: Vec<u8> = self.header.comment.iter().copied().take_while(|&b| b != 0).collect();
        if !comment.is_empty() {
            details.push(("comment".into(), String::from_utf8_lossy(&comment).into_owned()));
        }
        let text: Vec<u8> = self.header.text.iter().copied().take_while(|&b| b != 0 && b != b'\n').collect();
        details.push(("creator".into(), String::from_utf8_lossy(&text).trim_matches(['<', '>', ' ']).to_string()));
        Facts {
            shape: Shape::new(Format::Vdi, if full { Layout::Full } else { Layout::Thin }),
            variant: if full { "fixed" } else { "dynamic" }.into(),
            virtual_size: self.header.disk_size.get(),
            file_size: self.storage.len(),
            allocated: self.storage.allocated(),
            unit: Some(("block".into(), self.block())),
            compression: None,
            chain: Vec::new(),
            content_id: None,
            details,
            unclean: false,
        }
    }
}

/// Fails when two blocks of the disk are said to lie in one block of the file.
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

    fn span_at(&self, number: u64) -> Result<Span> {
        let entry = self.table[number as usize];
        if entry >= ZERO {
            return Ok(Span::one(Place::Zero));
        }
        let extra = u64::from(self.header.block_extra.get());
        let start = u64::from(self.header.data_offset.get()) + u64::from(entry) * (self.block() + extra) + extra;
        // The end of the disk need not be there.
        let len = self.block().min(self.size() - number * self.block());
        require(self.storage.as_ref(), start, len, &format!("block {number}"))?;
        Ok(Span::one(Place::At(start)))
    }
}
