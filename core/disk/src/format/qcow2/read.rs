//! Reading: images of version 2 and 3, with compressed clusters, subclusters and external data, over backing files, now
//! or at a snapshot.

use crate::to_usize;
use std::sync::Arc;

use super::{
    checked::Header,
    compressed,
    extensions::Extensions,
    header::{COMPRESSED, COPIED, MAGIC, OFFSET_MASK, RAW_EXTERNAL, SUBCLUSTERS, ZERO, incompatible},
    snapshots,
};
use crate::{
    SECTOR,
    budget::Hold,
    disk::{Disk, EmptyDisk},
    error::{Error, Result},
    facts::Facts,
    format::{
        cache::{Table, TableCache},
        new::Squeeze,
        opener::Opener,
        units::{Place, Span, UnitDisk, UnitMap, run_len},
    },
    image::Image,
    shape::{Format, Layout},
    source::{Storage, read_entries, read_vec, require},
};

/// The largest L1 table that we take into memory: enough for 128 TiB in clusters of 64 KiB, 4 TiB in those of 4 KiB.
const MAX_L1_BYTES: u64 = 32 << 20;
/// Section "Header": the longest name of a backing file.
const MAX_BACKING_NAME: u32 = 1023;
/// Bytes of L2 tables that are kept.
const L2_CACHE_BYTES: usize = 8 << 20;

/// Whether a file that starts with `head` is a qcow2 image.
pub fn probe(head: &[u8]) -> bool {
    head.starts_with(&MAGIC)
}

/// Opens an image, at the snapshot that the opener asks for. One that is encrypted or corrupt opens with trouble.
///
/// # Errors
/// [`Error::Damaged`] and [`Error::CutShort`] for tables that break the format's rules; [`Error::Unsupported`] for
/// features that are not known, and a snapshot that is not there; those of opening the backing and the data file.
pub fn open(storage: Arc<dyn Storage>, opener: &Opener) -> Result<Image> {
    let header = Header::read(storage.as_ref())?;
    let mut facts = header.facts(storage.as_ref());
    if !facts.troubles.is_empty() {
        // What its tables say may be wrong, or means nothing without the key.
        return Ok(Image::new(Arc::new(EmptyDisk::new(header.size)), facts));
    }
    let extensions = Extensions::read(storage.as_ref(), header.len, header.cluster())?;
    let map = Qcow2Map::open(storage, opener, &header, &extensions, &mut facts)?;
    facts.virtual_size = map.size;
    // The header does not tell: an image has all its space when its file does.
    if map.parent.is_none() && map.size > 0 && facts.allocated >= map.size {
        facts.shape.layout = Layout::Full;
    }
    Ok(Image::new(UnitDisk::new(map).shared(), facts))
}

struct Qcow2Map {
    storage: Arc<dyn Storage>,
    /// The file that holds the data clusters, where it is another one.
    data: Option<Arc<dyn Storage>>,
    size: u64,
    version: u32,
    cluster_bits: u32,
    /// Subclusters of a cluster: the units. One, where L2 entries are not extended.
    subclusters: u64,
    compression: Squeeze,
    parent: Option<Image>,
    l1: Table<u64>,
    /// 64-bit words: one for an entry, or two.
    l2: TableCache<u64>,
    /// Memory for the snapshots that were told.
    _snapshots: Hold,
}

/// An L2 entry, decoded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Cluster {
    Unallocated,
    Zero,
    /// Stored plainly at this byte of the file.
    At(u64),
    /// Stored compressed; the entry says where.
    Compressed(u64),
    /// Where it is stored, if it is, and the two bitmaps of its subclusters: bits 0 to 31 stored, 32 to 63 zero.
    Divided(Option<u64>, u64),
}

impl Qcow2Map {
    fn open(
        storage: Arc<dyn Storage>,
        opener: &Opener,
        header: &Header,
        extensions: &Extensions,
        facts: &mut Facts,
    ) -> Result<Self> {
        let path = storage.name().to_string();
        let damaged = |offset: u64, what: String| Err(Error::damaged(&path, offset, what));
        let fixed = &header.fixed;
        let snapshots = match fixed.nb_snapshots.get() {
            0 => storage.budget().hold().of(Vec::new()),
            count => snapshots::read(storage.as_ref(), fixed.snapshots_offset.get(), count, header.size)?,
        };
        let (l1_at, entries, size) = match opener.snapshot() {
            None => (fixed.l1_table_offset.get(), u64::from(fixed.l1_size.get()), header.size),
            Some(wanted) => {
                let entry = snapshots::find(&snapshots, wanted, &path)?;
                facts.detail("snapshot", entry.facts.name.clone());
                (entry.l1_at, entry.l1_len, entry.facts.virtual_size)
            }
        };
        let (snapshots, kept) = snapshots.split();
        facts.snapshots = snapshots.into_iter().map(|entry| entry.facts).collect();
        facts.detail("bitmaps", if extensions.has_bitmaps { "kept" } else { "" });

        let cluster_bits = header.cluster_bits;
        let subclusters = if header.has(incompatible::EXTENDED_L2) { SUBCLUSTERS } else { 1 };
        let entry_bits = if subclusters > 1 { 4 } else { 3 };
        let needed = size.div_ceil(1 << (2 * cluster_bits - entry_bits));
        if entries < needed {
            return damaged(36, format!("an L1 table of {entries} entries, {needed} are needed for {size} bytes"));
        }
        if needed * 8 > MAX_L1_BYTES {
            let what = format!("its L1 table takes {} bytes, at most {MAX_L1_BYTES} are read", needed * 8);
            return Err(Error::Unsupported { path, what });
        }
        let l1 = read_entries(storage.as_ref(), l1_at, needed, "the L1 table", u64::from_be_bytes)?;
        let cluster = header.cluster();
        for (index, entry) in l1.iter().enumerate() {
            let at = entry & OFFSET_MASK;
            if !at.is_multiple_of(cluster) {
                return damaged(l1_at + index as u64 * 8, format!("an L2 table at byte {at}, inside a cluster"));
            }
            if at != 0 {
                require(storage.as_ref(), at, cluster, "an L2 table")?;
            }
        }
        let data = match (header.has(incompatible::EXTERNAL_DATA), &extensions.external_data) {
            (false, _) => None,
            (true, Some(name)) => {
                let data = opener.sibling(storage.as_ref(), name)?;
                let raw = if header.autoclear & RAW_EXTERNAL != 0 { " (a raw disk)" } else { "" };
                facts.detail("external data", format!("{name}{raw}"));
                facts.file_size += data.len();
                facts.allocated += data.allocated();
                Some(data)
            }
            (true, None) => {
                return damaged(header.len, "its data lies in another file, and it does not say which".into());
            }
        };
        let parent = match fixed.backing_file_offset.get() {
            0 => None,
            at => {
                let (name, parent) =
                    open_backing(storage.as_ref(), opener, at, fixed.backing_file_size.get(), extensions)?;
                facts.over(&name, &parent.facts);
                Some(parent)
            }
        };
        let l2 = TableCache::new((L2_CACHE_BYTES >> cluster_bits).clamp(4, 64), storage.budget());
        Ok(Self {
            storage,
            data,
            size,
            version: header.version,
            cluster_bits,
            subclusters,
            compression: header.compression,
            parent,
            l1,
            l2,
            _snapshots: kept,
        })
    }

    fn cluster(&self) -> u64 {
        1 << self.cluster_bits
    }

    /// Words of an L2 entry.
    fn words(&self) -> u64 {
        if self.subclusters > 1 { 2 } else { 1 }
    }

    /// Number of entries in an L2 table.
    fn l2_entries(&self) -> u64 {
        self.cluster() / 8 / self.words()
    }

    /// Table `index` of the L2 tables, or `None` when nothing in its range is stored.
    fn l2_table(&self, index: u64) -> Result<Option<Arc<Table<u64>>>> {
        let at = self.l1.get(to_usize(index)).map_or(0, |entry| entry & OFFSET_MASK);
        if at == 0 {
            return Ok(None);
        }
        let words = self.cluster() / 8;
        let load = || read_entries(self.storage.as_ref(), at, words, "an L2 table", u64::from_be_bytes);
        self.l2.get(index, load).map(Some)
    }

    /// How cluster `number` is stored, checked against the file.
    #[expect(clippy::cast_possible_truncation, reason = "the lower half is meant")]
    #[expect(
        clippy::indexing_slicing,
        reason = "a table holds an entry for each of its clusters, and the place is taken modulo their number"
    )]
    fn lookup(&self, table: &[u64], number: u64) -> Result<Cluster> {
        let index = to_usize(number % self.l2_entries() * self.words());
        let entry = table[index];
        if entry & COMPRESSED != 0 {
            if self.data.is_some() {
                let what = format!("the guest's cluster {number} is compressed, which external data never is");
                return Err(Error::damaged(self.storage.name(), None, what));
            }
            return Ok(Cluster::Compressed(entry));
        }
        let at = match entry & OFFSET_MASK {
            // In a file of its own the first cluster may lie at its start.
            0 if self.data.is_some() && entry & COPIED != 0 => Some(0),
            0 => None,
            at => Some(at),
        };
        if self.subclusters == 1 && self.version >= 3 && entry & ZERO != 0 {
            return Ok(Cluster::Zero);
        }
        if let Some(at) = at {
            if at % self.cluster() != 0 {
                let what = format!("the guest's cluster {number} is said to lie there, inside a cluster of the file");
                return Err(Error::damaged(self.data().name(), at, what));
            }
            self.require_cluster(number, at)?;
        }
        if self.subclusters == 1 {
            return Ok(at.map_or(Cluster::Unallocated, Cluster::At));
        }
        let bits = table[index + 1];
        if bits & (bits >> SUBCLUSTERS) & u64::from(u32::MAX) != 0 || (at.is_none() && bits as u32 != 0) {
            let what = format!("the subclusters of the guest's cluster {number} are said to be two things at once");
            return Err(Error::damaged(self.storage.name(), None, what));
        }
        Ok(Cluster::Divided(at, bits))
    }
}

impl Qcow2Map {
    /// Fails when the guest's cluster `number`, which is said to lie at `at`, is not there. The last cluster of a file may
    /// end with the guest's disk, or with the last sector that was written: hosts leave out zeros at the end of the file.
    fn require_cluster(&self, number: u64, at: u64) -> Result<()> {
        let len = self.cluster().min(self.size - number * self.cluster());
        let there = self.data().len();
        if at < there && there.is_multiple_of(SECTOR) { Ok(()) } else { require(self.data(), at, len, "a cluster") }
    }
}

/// The run of subclusters from `first` on that are alike, of a cluster at `at` with these bitmaps.
fn subclusters_at(at: Option<u64>, bits: u64, first: u64, subcluster: u64) -> Span {
    let state = |index: u64| (bits >> index & 1, bits >> (SUBCLUSTERS + index) & 1);
    let units = (first..SUBCLUSTERS).take_while(|&index| state(index) == state(first)).count() as u64;
    let place = match (state(first), at) {
        ((_, 1), _) => Place::Zero,
        ((1, _), Some(at)) => Place::At(at + first * subcluster),
        _ => Place::Below,
    };
    Span { place, units }
}

/// Opens the backing file whose name lies at `at`; its format is the one that the header's extension declares.
fn open_backing(
    storage: &dyn Storage,
    opener: &Opener,
    at: u64,
    len: u32,
    extensions: &Extensions,
) -> Result<(String, Image)> {
    let path = storage.name();
    if len > MAX_BACKING_NAME {
        let what = format!("the backing file's name has {len} bytes, expected at most {MAX_BACKING_NAME}");
        return Err(Error::damaged(path, 16, what));
    }
    let bytes = read_vec(storage, at, len as usize, "the backing file's name")?;
    let name = String::from_utf8_lossy(&bytes).into_owned();
    if name.starts_with("json:") || name.contains("://") {
        let what = format!("it is a delta of '{name}', which is not a file");
        return Err(Error::Unsupported { path: path.into(), what });
    }
    let declared = match &extensions.backing_format {
        None => None,
        Some(format) => Some(declared_format(format).ok_or_else(|| Error::Unsupported {
            path: path.into(),
            what: format!("its backing file is declared to be of format '{format}'"),
        })?),
    };
    let parent = opener.open_parent(storage, &name, declared)?;
    Ok((name, parent))
}

/// The formats that backing files are declared to have; one of them under a name of its own.
fn declared_format(name: &str) -> Option<Format> {
    if name == "vpc" { Some(Format::Vhd) } else { name.parse().ok() }
}

impl UnitMap for Qcow2Map {
    fn storage(&self) -> &dyn Storage {
        self.storage.as_ref()
    }

    fn data(&self) -> &dyn Storage {
        self.data.as_ref().unwrap_or(&self.storage).as_ref()
    }

    fn read_stored(&self, at: u64, buf: &mut [u8]) -> Result<()> {
        let inside = to_usize(self.data().len().saturating_sub(at).min(buf.len() as u64));
        let (head, tail) = buf.split_at_mut(inside);
        tail.fill(0);
        self.data().read_at(at, head)
    }

    fn size(&self) -> u64 {
        self.size
    }

    fn unit(&self) -> u64 {
        self.cluster() / self.subclusters
    }

    fn packed_units(&self) -> u64 {
        self.subclusters
    }

    #[expect(
        clippy::indexing_slicing,
        reason = "a table holds an entry for each of its clusters, and the place is taken modulo their number"
    )]
    fn span_at(&self, number: u64) -> Result<Span> {
        let (cluster, first) = (number / self.subclusters, number % self.subclusters);
        let entries = self.l2_entries();
        let Some(table) = self.l2_table(cluster / entries)? else {
            let units = (entries - cluster % entries) * self.subclusters - first;
            return Ok(Span { place: Place::Below, units });
        };
        let run = |step| run_len(table[to_usize(cluster % entries)..].iter().copied(), step);
        let (place, units) = match self.lookup(&table, cluster)? {
            Cluster::Divided(at, bits) => return Ok(subclusters_at(at, bits, first, self.unit())),
            Cluster::At(at) => {
                // A table may say more than the disk has.
                let units = run(self.cluster()).min(self.size.div_ceil(self.cluster()) - cluster);
                self.require_cluster(cluster + units - 1, at + (units - 1) * self.cluster())?;
                (Place::At(at), units)
            }
            // Extended entries were dealt with, or are compressed: an entry is a unit here.
            Cluster::Unallocated => (Place::Below, run(0)),
            Cluster::Zero => (Place::Zero, run(0)),
            Cluster::Compressed(_) => (Place::Packed, self.subclusters - first),
        };
        Ok(Span { place, units })
    }

    fn below(&self) -> Option<&Arc<dyn Disk>> {
        self.parent.as_ref().map(|parent| &parent.disk)
    }

    fn unpack(&self, number: u64, out: &mut [u8]) -> Result<()> {
        let cluster = number / self.subclusters;
        let table = self.l2_table(cluster / self.l2_entries())?;
        let found = table.map(|table| self.lookup(&table, cluster)).transpose()?;
        let Some(Cluster::Compressed(entry)) = found else {
            out.fill(0);
            return Ok(());
        };
        compressed::unpack(self.storage.as_ref(), entry, self.cluster_bits, self.compression, out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn subclusters_that_are_alike_are_told_together() {
        // Stored: 0 to 3; zero: 4 and 5; the rest is below.
        let bits = 0b1111 | (0b11_0000 << 32);
        let span = |first| subclusters_at(Some(1 << 20), bits, first, 2048);
        assert_eq!(span(1), Span { place: Place::At((1 << 20) + 2048), units: 3 });
        assert_eq!(span(4), Span { place: Place::Zero, units: 2 });
        assert_eq!(span(6), Span { place: Place::Below, units: 26 });
    }
}
