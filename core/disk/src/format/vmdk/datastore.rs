//! Reading the sparse extents in which datastores keep deltas: COWD, and the space-efficient kind. They do not know of which
//! disk they are a delta; the descriptor beside them does.

use crate::to_usize;
use std::sync::Arc;

use zerocopy::FromBytes;

use super::header::{COWD_MAGIC, CowdHeader, DATASTORE_GTES, SE_MAGIC, SE_VOLATILE_MAGIC, SeHeader, SeVolatileHeader};
use crate::{
    SECTOR,
    disk::Disk,
    error::{Error, Result},
    format::{
        cache::{Table, TableCache},
        units::{Place, Span, UnitDisk, UnitMap},
    },
    source::{Storage, hold, read_entries, read_vec, require},
};

/// The largest grain directory that we take into memory: 256 TiB in grains of 4 KiB take 128 MiB, 62 TiB in those of the
/// space-efficient kind 32 MiB.
const MAX_GD_BYTES: u64 = 32 << 20;
/// Grain tables that are kept.
const TABLES: usize = 64;

/// Opens the extent in `storage`, over the part of the parent's disk that it is a delta of.
///
/// # Errors
/// [`Error::Damaged`] and [`Error::CutShort`] for headers and tables that break the format's rules;
/// [`Error::Unsupported`] for other versions, and a journal that has to be replayed.
pub(super) fn open(storage: Arc<dyn Storage>, below: Option<Arc<dyn Disk>>) -> Result<Arc<dyn Disk>> {
    let magic = read_vec(storage.as_ref(), 0, 8, "the header")?;
    let map = if magic.starts_with(&COWD_MAGIC) {
        Map::open_cowd(storage, below)?
    } else if magic.starts_with(&SE_MAGIC.to_le_bytes()) {
        Map::open_se(storage, below)?
    } else {
        return Err(Error::damaged(storage.name(), 0, "a datastore's sparse extent was expected"));
    };
    Ok(UnitDisk::new(map).shared())
}

/// Whether a file that starts with `head` is such an extent.
pub(super) fn probe(head: &[u8]) -> bool {
    head.starts_with(&COWD_MAGIC) || head.starts_with(&SE_MAGIC.to_le_bytes())
}

struct Map {
    storage: Arc<dyn Storage>,
    below: Option<Arc<dyn Disk>>,
    size: u64,
    /// Bytes of a grain.
    grain: u64,
    /// Byte at which each grain table starts, 0 for none.
    directory: Table<u64>,
    tables: TableCache<u64>,
    kind: Kind,
}

#[derive(Clone, Copy)]
enum Kind {
    Cowd,
    /// Byte at which the grains start.
    SpaceEfficient(u64),
}

impl Map {
    fn open_cowd(storage: Arc<dyn Storage>, below: Option<Arc<dyn Disk>>) -> Result<Self> {
        let path = storage.name().to_string();
        let bytes = read_vec(storage.as_ref(), 0, size_of::<CowdHeader>(), "the header")?;
        let Ok(header) = CowdHeader::read_from_bytes(&bytes) else { return Err(Error::damaged(&path, 0, "no header")) };
        if header.version.get() != 1 {
            let what = format!("its sparse extent is of version {}; version 1 is known", header.version);
            return Err(Error::Unsupported { path, what });
        }
        let grain = u64::from(header.grain_size.get());
        if !grain.is_power_of_two() || grain > 4096 {
            let what = format!("grains of {grain} sectors, expected a power of two up to 4096");
            return Err(Error::damaged(&path, 16, what));
        }
        let sectors = u64::from(header.sectors.get());
        let tables = sectors.div_ceil(grain * DATASTORE_GTES);
        if u64::from(header.gd_entries.get()) < tables {
            let what = format!("a grain directory of {} entries, {tables} are needed", header.gd_entries);
            return Err(Error::damaged(&path, 24, what));
        }
        let at = u64::from(header.gd_offset.get()) * SECTOR;
        let sectors_of = |bytes: [u8; 4]| u64::from(u32::from_le_bytes(bytes)) * SECTOR;
        let directory = read_entries(storage.as_ref(), at, tables, "the grain directory", sectors_of)?;
        let cache = TableCache::new(TABLES, storage.budget());
        Ok(Self {
            storage,
            below,
            size: sectors * SECTOR,
            grain: grain * SECTOR,
            directory,
            tables: cache,
            kind: Kind::Cowd,
        })
    }

    fn open_se(storage: Arc<dyn Storage>, below: Option<Arc<dyn Disk>>) -> Result<Self> {
        let path = storage.name().to_string();
        let damaged = |offset: u64, what: String| Error::damaged(&path, offset, what);
        let bytes = read_vec(storage.as_ref(), 0, size_of::<SeHeader>(), "the header")?;
        let header = SeHeader::read_from_bytes(&bytes).map_err(|_| damaged(0, "no header".into()))?;
        let version = header.version.get() >> 32;
        if version != 2 {
            let what = format!("its space-efficient extent is of version {version}; version 2 is known");
            return Err(Error::Unsupported { path, what });
        }
        let grain = header.grain_size.get();
        if !grain.is_power_of_two() || !(8..=4096).contains(&grain) {
            return Err(damaged(24, format!("grains of {grain} sectors, expected a power of two from 8 to 4096")));
        }
        let table = DATASTORE_GTES * 8 / SECTOR;
        if header.grain_table_size.get() != table {
            return Err(damaged(32, format!("grain tables of {} sectors, expected {table}", header.grain_table_size)));
        }
        let tables = header.capacity.get().div_ceil(grain * DATASTORE_GTES);
        if tables * 8 > MAX_GD_BYTES || header.capacity.get() > u64::MAX / SECTOR / 2 {
            let what = format!("a disk of {} sectors, whose grain directory is too large", header.capacity);
            return Err(damaged(16, what));
        }
        let byte = |sector: u64, field: u64, what: &str| {
            let at = sector.checked_mul(SECTOR).filter(|&at| at < 1 << 60);
            at.ok_or_else(|| damaged(field, format!("the {what} is said to lie beyond any file")))
        };
        let volatile_at = byte(header.volatile_header_offset.get(), 80, "volatile header")?;
        let bytes = read_vec(storage.as_ref(), volatile_at, size_of::<SeVolatileHeader>(), "the volatile header")?;
        match SeVolatileHeader::read_from_bytes(&bytes) {
            Ok(volatile) if volatile.magic.get() == SE_VOLATILE_MAGIC => {
                if volatile.replay_journal.get() != 0 {
                    let what =
                        "its journal holds writes that only its host can put in their place: consolidate it there";
                    return Err(Error::Unsupported { path, what: what.into() });
                }
            }
            _ => return Err(damaged(volatile_at, "a volatile header was expected there".into())),
        }
        let directory_at = byte(header.grain_dir_offset.get(), 128, "grain directory")?;
        let tables_at = byte(header.grain_tables_offset.get(), 144, "first grain table")?;
        let grains_at = byte(header.grains_offset.get(), 192, "first grain")?;
        let entries = read_entries(storage.as_ref(), directory_at, tables, "the grain directory", u64::from_le_bytes)?;
        let memory = hold(storage.as_ref(), entries.len() as u64 * 8, "the grain directory")?;
        let directory = entries
            .iter()
            .enumerate()
            .map(|(index, entry)| match entry >> 32 {
                0 if *entry == 0 => Ok(0),
                0x1000_0000 => Ok(tables_at + (entry & 0xffff_ffff) * DATASTORE_GTES * 8),
                _ => {
                    let what = format!("entry {index} of the grain directory is {entry:#x}");
                    Err(damaged(directory_at + index as u64 * 8, what))
                }
            })
            .collect::<Result<Vec<u64>>>()?;
        let directory = memory.of(directory);
        let cache = TableCache::new(TABLES, storage.budget());
        Ok(Self {
            storage,
            below,
            size: header.capacity.get() * SECTOR,
            grain: grain * SECTOR,
            directory,
            tables: cache,
            kind: Kind::SpaceEfficient(grains_at),
        })
    }

    fn table(&self, index: u64) -> Result<Option<Arc<Table<u64>>>> {
        let at = self.directory.get(to_usize(index)).copied().unwrap_or(0);
        if at == 0 {
            return Ok(None);
        }
        let storage = self.storage.as_ref();
        let load = || match self.kind {
            Kind::Cowd => {
                let wide = |bytes: [u8; 4]| u32::from_le_bytes(bytes).into();
                read_entries(storage, at, DATASTORE_GTES, "a grain table", wide)
            }
            Kind::SpaceEfficient(_) => read_entries(storage, at, DATASTORE_GTES, "a grain table", u64::from_le_bytes),
        };
        self.tables.get(index, load).map(Some)
    }

    fn decode(&self, number: u64, entry: u64) -> Result<Place> {
        let start = match (self.kind, entry >> 60) {
            (_, 0) if entry == 0 => return Ok(Place::Below),
            (Kind::Cowd, _) => entry * SECTOR,
            // Given back by the guest, or zeros.
            (Kind::SpaceEfficient(_), 1 | 2) => return Ok(Place::Zero),
            (Kind::SpaceEfficient(grains_at), 3) => {
                // The number of the grain in the file, its upper bits last.
                let grain = (entry & 0x0fff_0000_0000_0000) >> 48 | (entry & 0x0000_ffff_ffff_ffff) << 12;
                grains_at.saturating_add(grain.saturating_mul(self.grain))
            }
            _ => {
                let what = format!("the entry of grain {number} is {entry:#x}");
                return Err(Error::damaged(self.storage.name(), None, what));
            }
        };
        // The end of the disk need not be there.
        let len = self.grain.min(self.size - number * self.grain);
        require(self.storage.as_ref(), start, len, &format!("grain {number}"))?;
        Ok(Place::At(start))
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
        self.grain
    }

    fn below(&self) -> Option<&Arc<dyn Disk>> {
        self.below.as_ref()
    }

    #[expect(clippy::indexing_slicing, reason = "the place is taken modulo the length of the table")]
    fn span_at(&self, number: u64) -> Result<Span> {
        let index = number / DATASTORE_GTES;
        let Some(table) = self.table(index)? else {
            return Ok(Span { place: Place::Below, units: DATASTORE_GTES - number % DATASTORE_GTES });
        };
        self.decode(number, table[(number % DATASTORE_GTES) as usize]).map(Span::one)
    }
}
