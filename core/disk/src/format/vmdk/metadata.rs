//! What a sparse extent says of itself: header, footer, descriptor, grain directories, all checked.

use crate::to_usize;
use zerocopy::FromBytes;

use super::{
    descriptor::Descriptor,
    header::{GD_AT_END, GTES, LINE_ENDS, MAGIC, SparseHeader, flag},
};
use crate::{
    ByteSize, SECTOR,
    error::{Error, Result},
    format::cache::Table,
    source::{Storage, hold, read_entries, read_vec, require},
};

/// The largest grain directory that we take into memory: 128 TiB in grains of 64 KiB.
const MAX_GD_BYTES: u64 = 16 << 20;
/// Grains of 4 KiB to 2 MiB; 64 KiB is usual.
const GRAIN_SECTORS: std::ops::RangeInclusive<u64> = 8..=4096;
/// The largest descriptor that we read.
const MAX_DESCRIPTOR: u64 = 1 << 20;
/// How far before the end of the file a footer is looked for: some writers pad.
const FOOTER_SEARCH: u64 = 64 << 10;

/// The header at byte `at`, which `what` names.
pub(super) fn read_header(storage: &dyn Storage, at: u64, what: &str) -> Result<SparseHeader> {
    let bytes = read_vec(storage, at, size_of::<SparseHeader>(), what)?;
    SparseHeader::read_from_bytes(&bytes).map_err(|_| Error::damaged(storage.name(), at, "no header"))
}

/// Fails for a header, which lies at byte `at`, that breaks the format's rules or is of a kind that is not known.
pub(super) fn check_header(header: &SparseHeader, path: &str, at: u64) -> Result<()> {
    let damaged = |offset: u64, what: String| Err(Error::damaged(path, at + offset, what));
    let version = header.version.get();
    if !(1..=3).contains(&version) {
        let what = format!("its sparse extent is of version {version}; versions 1 to 3 are known");
        return Err(Error::Unsupported { path: path.into(), what });
    }
    let flags = header.flags.get();
    if flags & flag::LINE_ENDS != 0 && header.line_ends != LINE_ENDS {
        return damaged(73, "its line-end marks are changed: the file was transferred as text, not as binary".into());
    }
    if flags & flag::COMPRESSED != 0 {
        let algorithm = header.compress_algorithm.get();
        if algorithm != 1 {
            let what = format!("its grains are compressed with method {algorithm}; method 1 (deflate) is known");
            return Err(Error::Unsupported { path: path.into(), what });
        }
        if flags & flag::MARKERS == 0 {
            return damaged(8, "compressed grains without markers".into());
        }
    }
    let grain = header.grain_size.get();
    if !grain.is_power_of_two() || !GRAIN_SECTORS.contains(&grain) {
        return damaged(20, format!("grains of {grain} sectors, expected a power of two from 8 to 4096"));
    }
    let gtes = header.num_gtes_per_gt.get();
    if u64::from(gtes) != GTES {
        return damaged(44, format!("grain tables of {gtes} entries, expected {GTES}"));
    }
    let capacity = header.capacity.get();
    let tables = capacity.div_ceil(grain * GTES);
    if capacity > u64::MAX / SECTOR / 2 || tables > MAX_GD_BYTES / 4 {
        let what = format!(
            "a disk of {capacity} sectors, whose grain directory would take more than {}",
            ByteSize(MAX_GD_BYTES)
        );
        return damaged(12, what);
    }
    Ok(())
}

/// The footer of a stream, and where it lies: a second header, then an end-of-stream marker of one sector.
pub(super) fn find_footer(storage: &dyn Storage, first: &SparseHeader) -> Result<(SparseHeader, u64)> {
    let path = storage.name();
    let last = (storage.len() / SECTOR).saturating_sub(1);
    let earliest = last.saturating_sub(FOOTER_SEARCH / SECTOR).max(1);
    for sector in (earliest..last).rev() {
        let at = sector * SECTOR;
        let mut magic = [0; 4];
        storage.read_at(at, &mut magic)?;
        if magic != MAGIC {
            continue;
        }
        let footer = read_header(storage, at, "the footer")?;
        check_header(&footer, path, at)?;
        let same = |field: fn(&SparseHeader) -> u64| field(&footer) == field(first);
        if !same(|h| h.capacity.get()) || !same(|h| h.grain_size.get()) || !same(|h| u64::from(h.flags.get())) {
            return Err(Error::damaged(path, at, "the footer and the header describe different disks"));
        }
        if footer.gd_offset.get() == GD_AT_END {
            return Err(Error::damaged(path, at + 56, "the footer does not say where the grain directory is"));
        }
        return Ok((footer, at));
    }
    Err(Error::CutShort {
        path: path.into(),
        what: "the footer of the stream, which every finished one ends with,".into(),
        start: storage.len(),
        end: storage.len() + 3 * SECTOR,
        len: storage.len(),
    })
}

/// The descriptor inside the extent; an empty one where there is none.
pub(super) fn read_descriptor(storage: &dyn Storage, header: &SparseHeader) -> Result<Descriptor> {
    let (sector, sectors) = (header.descriptor_offset.get(), header.descriptor_size.get());
    if sector == 0 || sectors == 0 {
        return Ok(Descriptor::default());
    }
    let (at, len) = (sector.saturating_mul(SECTOR), sectors.saturating_mul(SECTOR));
    if len > MAX_DESCRIPTOR {
        return Err(Error::damaged(
            storage.name(),
            36,
            format!("a descriptor of {len} bytes, at most {MAX_DESCRIPTOR} are read"),
        ));
    }
    let bytes = read_vec(storage, at, to_usize(len), "the descriptor")?;
    if bytes.iter().all(|&byte| byte == 0) {
        return Ok(Descriptor::default());
    }
    Descriptor::parse(&bytes, storage.name(), at, storage.budget())
}

/// The grain directory that the header at `header_at` names, or the redundant one where the first is damaged; and whether
/// it is that one.
pub(super) fn read_directories(
    storage: &dyn Storage,
    header: &SparseHeader,
    header_at: u64,
) -> Result<(Table<u32>, bool)> {
    let first = match read_directory(storage, header, header.gd_offset.get(), header_at + 56) {
        Ok(directory) => return Ok((directory, false)),
        Err(error) => error,
    };
    if header.flags.get() & flag::REDUNDANT != 0
        && let Ok(directory) = read_directory(storage, header, header.rgd_offset.get(), header_at + 48)
    {
        return Ok((directory, true));
    }
    Err(first)
}

/// The grain directory at `sector`, as the field at `field_at` says: checked to lie in the file, each table once.
#[expect(clippy::cast_possible_truncation, reason = "a directory of at most 16 MiB")]
#[expect(clippy::indexing_slicing, reason = "a window of two has two")]
fn read_directory(storage: &dyn Storage, header: &SparseHeader, sector: u64, field_at: u64) -> Result<Table<u32>> {
    let tables = header.capacity.get().div_ceil(header.grain_size.get() * GTES);
    let at = sector.checked_mul(SECTOR).ok_or_else(|| {
        Error::damaged(storage.name(), field_at, "the grain directory is said to lie beyond any file")
    })?;
    let directory = read_entries(storage, at, tables, "the grain directory", u32::from_le_bytes)?;
    let _hold = hold(storage, tables * 16, "the grain directory")?;
    let mut stored: Vec<(u32, u32)> = Vec::new();
    for (index, &sector) in directory.iter().enumerate().filter(|(_, sector)| **sector != 0) {
        let start = u64::from(sector) * SECTOR;
        require(storage, start, GTES * 4, &format!("grain table {index}"))?;
        stored.push((sector, index as u32));
    }
    stored.sort_unstable();
    if let Some(pair) = stored.windows(2).find(|pair| pair[1].0 - pair[0].0 < (GTES * 4 / SECTOR) as u32) {
        let what = format!("grain tables {} and {} overlap in the file", pair[0].1, pair[1].1);
        return Err(Error::damaged(storage.name(), u64::from(pair[1].0) * SECTOR, what));
    }
    Ok(directory)
}
