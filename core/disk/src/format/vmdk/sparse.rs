//! Reading sparse extents, plain and compressed.

use crate::to_usize;
use std::{
    cell::RefCell,
    sync::{Arc, Mutex, OnceLock, PoisonError},
};

use libdeflater::{DecompressionError, Decompressor};
use zerocopy::FromBytes;

use super::{
    descriptor::Descriptor,
    header::{GD_AT_END, GTE_UNALLOCATED, GTE_ZEROED, GTES, GrainMarker, MAGIC, SparseHeader, flag},
    metadata::{check_header, find_footer, read_descriptor, read_directories, read_header},
    parent,
    starts::GrainStarts,
};
use crate::{
    SECTOR,
    budget::Hold,
    disk::{Disk, ExtentKind},
    error::{Error, Result},
    facts::Facts,
    format::{
        cache::{Table, TableCache},
        opener::Opener,
        units::{Place, Span, UnitDisk, UnitMap, run_len},
    },
    image::Image,
    shape::{Format, Layout, Shape},
    source::{Storage, hold, read_entries, read_vec, require},
    zeros::is_zero,
};

/// Grain tables that are kept.
const TABLES: usize = 64;
/// Zeros of a grain compress to about a thousandth.
const MAX_PACKED_ZEROS: usize = 4096;

/// Opens a sparse extent with its descriptor embedded.
///
/// # Errors
/// [`Error::Damaged`] and [`Error::CutShort`] for headers and tables that break the format's rules; [`Error::Unsupported`] for
/// one of several files; those of opening the disk below.
pub(super) fn open(storage: Arc<dyn Storage>, opener: &Opener) -> Result<Image> {
    let mut map = SparseMap::open(storage)?;
    if map.descriptor.extents.len() > 1 {
        let what = format!("its disk is spread over {} files", map.descriptor.extents.len());
        return Err(Error::Unsupported { path: map.storage.name().into(), what });
    }
    let mut facts = map.facts();
    let parent = parent::open(map.storage.as_ref(), opener, &map.descriptor, &mut facts)?;
    map.below = parent.map(|parent| parent.disk);
    // A piece carries no descriptor; what is missing then is the rest of the disk.
    facts.piece = map.descriptor.is_empty();
    Ok(Image::new(UnitDisk::new(map).shared(), facts))
}

/// Opens a sparse extent to which a descriptor in another file refers: what its own says does not count.
pub(super) fn open_extent(storage: Arc<dyn Storage>, below: Option<Arc<dyn Disk>>) -> Result<(Arc<dyn Disk>, Facts)> {
    let mut map = SparseMap::open(storage)?;
    map.below = below;
    let facts = map.facts();
    Ok((UnitDisk::new(map).shared(), facts))
}

struct SparseMap {
    storage: Arc<dyn Storage>,
    /// The header that counts: the footer where there is one.
    header: SparseHeader,
    descriptor: Descriptor,
    /// First sector of each grain table, 0 for none.
    directory: Table<u32>,
    tables: TableCache<u32>,
    /// For plain grains: which grain tables were checked for overlaps, and the grains seen.
    seen: Option<Mutex<(Vec<bool>, GrainStarts)>>,
    /// For the list of tables that were seen.
    _memory: Hold,
    /// What a grain of zeros looks like, compressed by this disk's writer: some writers store them all.
    packed_zeros: OnceLock<Vec<u8>>,
    /// The first directory could not be used.
    redundant: bool,
    /// The disk that this one is a delta of.
    below: Option<Arc<dyn Disk>>,
}

/// How one grain is stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Grain {
    /// Not here: the disk below has it.
    Below,
    Zero,
    /// First sector in the file.
    At(u64),
}

impl SparseMap {
    fn open(storage: Arc<dyn Storage>) -> Result<Self> {
        let path = storage.name().to_string();
        let first = read_header(storage.as_ref(), 0, "the header")?;
        if first.magic != MAGIC {
            return Err(Error::damaged(&path, 0, "the first bytes are not those of a sparse extent"));
        }
        check_header(&first, &path, 0)?;
        let (header, at) =
            if first.gd_offset.get() == GD_AT_END { find_footer(storage.as_ref(), &first)? } else { (first, 0) };
        let descriptor = read_descriptor(storage.as_ref(), &first)?;
        let (directory, redundant) = read_directories(storage.as_ref(), &header, at)?;
        let compressed = header.flags.get() & flag::COMPRESSED != 0;
        let starts = GrainStarts::new(header.grain_size.get(), storage.budget());
        let memory = hold(storage.as_ref(), directory.len() as u64, "the grain directory")?;
        let seen = (!compressed).then(|| Mutex::new((vec![false; directory.len()], starts)));
        let tables = TableCache::new(TABLES, storage.budget());
        Ok(Self {
            storage,
            header,
            descriptor,
            directory,
            tables,
            seen,
            _memory: memory,
            packed_zeros: OnceLock::new(),
            redundant,
            below: None,
        })
    }

    /// Bytes of a grain.
    fn grain(&self) -> u64 {
        self.header.grain_size.get() * SECTOR
    }

    fn is_compressed(&self) -> bool {
        self.header.flags.get() & flag::COMPRESSED != 0
    }

    /// Grain table `index`, checked when it is read for the first time; `None` when nothing in its range is stored.
    fn table(&self, index: u64) -> Result<Option<Arc<Table<u32>>>> {
        let sector = self.directory.get(to_usize(index)).copied().unwrap_or(0);
        if sector == 0 {
            return Ok(None);
        }
        let at = u64::from(sector) * SECTOR;
        let load = || {
            let table = read_entries(self.storage.as_ref(), at, GTES, "a grain table", u32::from_le_bytes)?;
            self.check_overlaps(index, &table, at)?;
            Ok(table)
        };
        self.tables.get(index, load).map(Some)
    }

    /// Grain tables from `index` on in which nothing is stored, as far as that is known without reading them: none is there,
    /// or they lie in a hole of the file.
    #[expect(
        clippy::indexing_slicing,
        reason = "the directory has an entry for every table of the disk, and a table has all its grains"
    )]
    fn empty_tables(&self, index: u64) -> u64 {
        let mut hole = 0..0;
        let mut is_empty = |&&sector: &&u32| {
            let (start, end) = (u64::from(sector) * SECTOR, u64::from(sector) * SECTOR + GTES * 4);
            if sector != 0 && !(hole.start <= start && end <= hole.end) {
                hole = match self.storage.extent_at(start) {
                    Ok(extent) if extent.kind == ExtentKind::Zero => start..extent.end(),
                    // What is there, or cannot be told, is read.
                    _ => return false,
                };
            }
            sector == 0 || end <= hole.end
        };
        self.directory[to_usize(index)..].iter().take_while(|sector| is_empty(sector)).count() as u64
    }

    /// Fails when a plain grain of this table lies on one seen before. A compressed grain carries its own place, so
    /// there a wrong pointer shows when it is read.
    #[expect(
        clippy::indexing_slicing,
        reason = "the directory has an entry for every table of the disk, and a table has all its grains"
    )]
    fn check_overlaps(&self, index: u64, table: &[u32], at: u64) -> Result<()> {
        let Some(seen) = &self.seen else { return Ok(()) };
        let mut seen = seen.lock().unwrap_or_else(PoisonError::into_inner);
        let (checked, starts) = &mut *seen;
        if std::mem::replace(&mut checked[to_usize(index)], true) {
            return Ok(());
        }
        for (number, &entry) in table.iter().enumerate() {
            if let Grain::At(sector) = self.decode(index * GTES + number as u64, entry)?
                && !starts.add(sector)
            {
                let what = format!("a grain table gives sector {sector} of the file to two grains");
                return Err(Error::damaged(self.storage.name(), at + number as u64 * 4, what));
            }
        }
        Ok(())
    }

    /// What a grain table entry means, checked against the file.
    fn decode(&self, number: u64, entry: u32) -> Result<Grain> {
        let zeroed = self.header.flags.get() & flag::ZEROED_GRAIN != 0;
        if entry == GTE_UNALLOCATED {
            return Ok(Grain::Below);
        }
        if zeroed && entry == GTE_ZEROED {
            return Ok(Grain::Zero);
        }
        let sector = u64::from(entry);
        let len = if self.is_compressed() {
            size_of::<GrainMarker>() as u64
        } else {
            // The end of the disk need not be there.
            self.grain().min(self.size().saturating_sub(number * self.grain()))
        };
        require(self.storage.as_ref(), sector * SECTOR, len, &format!("grain {number}"))?;
        if !self.is_compressed() && sector < self.header.over_head.get() {
            let what = format!("grain {number} is said to lie there, among the tables");
            return Err(Error::damaged(self.storage.name(), sector * SECTOR, what));
        }
        Ok(Grain::At(sector))
    }

    #[expect(
        clippy::indexing_slicing,
        reason = "the directory has an entry for every table of the disk, and a table has all its grains"
    )]
    fn lookup(&self, number: u64) -> Result<Grain> {
        match self.table(number / GTES)? {
            Some(table) => self.decode(number, table[(number % GTES) as usize]),
            None => Ok(Grain::Below),
        }
    }

    /// Inflates the compressed grain at `sector` into `out`, which is as long as a grain.
    fn inflate(&self, number: u64, sector: u64, out: &mut [u8]) -> Result<()> {
        SCRATCH.with_borrow_mut(|scratch| self.inflate_with(scratch, number, sector, out))
    }

    #[expect(clippy::indexing_slicing, reason = "the unpacker says how much of the room it filled")]
    fn inflate_with(&self, scratch: &mut Scratch, number: u64, sector: u64, out: &mut [u8]) -> Result<()> {
        let path = self.storage.name();
        let at = sector * SECTOR;
        let bytes = read_vec(self.storage.as_ref(), at, size_of::<GrainMarker>(), "a grain's marker")?;
        let Ok((marker, _)) = GrainMarker::read_from_prefix(&bytes) else {
            return Err(Error::damaged(path, at, "a grain without a marker"));
        };
        let lba = number * self.header.grain_size.get();
        if marker.lba.get() != lba {
            let what = format!("a grain marked for sector {} of the guest's disk, expected sector {lba}", marker.lba);
            return Err(Error::damaged(path, at, what));
        }
        // Deflate makes what it cannot compress longer by five bytes for 16 KiB, and zlib adds six.
        let len = u64::from(marker.size.get());
        if len == 0 || len > self.grain() + self.grain() / 64 + 64 {
            let what = format!("a compressed grain of {len} bytes, for {} bytes of data", self.grain());
            return Err(Error::damaged(path, at, what));
        }
        let data_at = at + size_of::<GrainMarker>() as u64;
        require(self.storage.as_ref(), data_at, len, "a compressed grain")?;
        scratch.packed.resize(to_usize(len), 0);
        self.storage.read_at(data_at, &mut scratch.packed)?;
        if self.packed_zeros.get().is_some_and(|zeros| *zeros == scratch.packed) {
            out.fill(0);
            return Ok(());
        }
        let inflated = scratch.inflater.zlib_decompress(&scratch.packed, out).map_err(|error| {
            let what = match error {
                DecompressionError::InsufficientSpace => {
                    format!("a compressed grain expands to more than its {} bytes", out.len())
                }
                DecompressionError::BadData => "a compressed grain is not a valid zlib stream".to_string(),
            };
            Error::damaged(path, data_at, what)
        })?;
        // The last grain may end with the disk.
        let wanted = (self.size() - number * self.grain()).min(out.len() as u64);
        if (inflated as u64) < wanted {
            let what = format!("a compressed grain expands to {inflated} bytes, expected {wanted}");
            return Err(Error::damaged(path, data_at, what));
        }
        out[inflated..].fill(0);
        if scratch.packed.len() < MAX_PACKED_ZEROS && inflated == out.len() && is_zero(out) {
            self.packed_zeros.get_or_init(|| scratch.packed.clone());
        }
        Ok(())
    }

    fn facts(&self) -> Facts {
        let layout = if self.is_compressed() { Layout::Stream } else { Layout::Thin };
        let named = !self.descriptor.create_type.is_empty();
        let unnamed = if self.is_compressed() { "streamOptimized" } else { "monolithicSparse" };
        let variant = if named { &self.descriptor.create_type } else { unnamed };
        let shape = Shape::new(Format::Vmdk, layout);
        let mut facts = Facts::new(shape, variant, self.size(), self.storage.as_ref());
        facts.unit = Some(("grain".into(), self.grain()));
        facts.compression = self.is_compressed().then(|| "deflate".into());
        facts.content_id = self.descriptor.cid.map(|cid| format!("{cid:08x}"));
        tell_database(&self.descriptor, &mut facts);
        if self.redundant {
            facts.detail("grain directory", "the redundant one, since the first is damaged");
        }
        facts.unclean = self.header.unclean_shutdown != 0 || self.redundant;
        facts
    }
}

/// What a descriptor says of its disk.
pub(super) fn tell_database(descriptor: &Descriptor, facts: &mut Facts) {
    facts.detail("CID", descriptor.cid.map(|cid| format!("{cid:08x}")).unwrap_or_default());
    for (key, name) in [
        ("ddb.uuid.image", "UUID"),
        ("ddb.uuid", "UUID"),
        ("ddb.longContentID", "long content ID"),
        ("ddb.adapterType", "adapter"),
        ("ddb.thinProvisioned", "thin"),
        ("ddb.virtualHWVersion", "hardware version"),
        ("ddb.toolsVersion", "guest tools version"),
    ] {
        facts.detail(name, descriptor.database(key).unwrap_or_default());
    }
}

impl UnitMap for SparseMap {
    fn storage(&self) -> &dyn Storage {
        self.storage.as_ref()
    }

    fn size(&self) -> u64 {
        // Checked against overflow when the header was read.
        self.header.capacity.get() * SECTOR
    }

    fn unit(&self) -> u64 {
        self.grain()
    }

    #[expect(
        clippy::indexing_slicing,
        reason = "the directory has an entry for every table of the disk, and a table has all its grains"
    )]
    fn span_at(&self, number: u64) -> Result<Span> {
        let (index, first) = (number / GTES, number % GTES);
        if self.tables.find(index).is_none() {
            let empty = self.empty_tables(index);
            if empty > 0 {
                return Ok(Span { place: Place::Below, units: empty * GTES - first });
            }
        }
        let Some(table) = self.table(index)? else {
            return Ok(Span { place: Place::Below, units: GTES - first });
        };
        let entries = &table[to_usize(first)..];
        let run = |step| run_len(entries.iter().map(|&entry| entry.into()), step);
        Ok(match self.decode(number, entries[0])? {
            Grain::Below => Span { place: Place::Below, units: run(0) },
            Grain::Zero => Span { place: Place::Zero, units: run(0) },
            Grain::At(_) if self.is_compressed() => Span::one(Place::Packed),
            Grain::At(sector) => {
                // A table may say more than the disk has.
                let units = run(self.header.grain_size.get()).min(self.size().div_ceil(self.grain()) - number);
                self.decode(number + units - 1, entries[to_usize(units) - 1])?;
                Span { place: Place::At(sector * SECTOR), units }
            }
        })
    }

    fn unpack(&self, number: u64, out: &mut [u8]) -> Result<()> {
        match self.lookup(number)? {
            Grain::At(sector) => self.inflate(number, sector, out),
            Grain::Zero | Grain::Below => {
                out.fill(0);
                Ok(())
            }
        }
    }

    fn below(&self) -> Option<&Arc<dyn Disk>> {
        self.below.as_ref()
    }
}

thread_local! {
    /// A thread's own, since setting one up takes longer than inflating a grain of zeros.
    static SCRATCH: RefCell<Scratch> = RefCell::new(Scratch { inflater: Decompressor::new(), packed: Vec::new() });
}

/// What inflating needs again and again.
struct Scratch {
    inflater: Decompressor,
    packed: Vec<u8>,
}
