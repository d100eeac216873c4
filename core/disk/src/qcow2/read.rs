//! Reading: plain images of version 2 and 3.

use std::sync::Arc;

use zerocopy::{FromBytes, byteorder::big_endian::U64};

use super::header::{Cluster, HeaderV2, HeaderV3, INCOMPATIBLE_NAMES, MAGIC, OFFSET_MASK, incompatible};
use crate::{
    cache::TableCache,
    error::{Error, Result},
    formats::{Facts, Image},
    shape::{Format, Layout, Shape},
    source::{Storage, read_vec, require},
    units::{Place, Span, UnitDisk, UnitMap},
};

/// The largest L1 table that we take into memory: enough for 128 TiB in clusters of 64 KiB, 4 TiB in those of 4 KiB.
const MAX_L1_BYTES: u64 = 32 << 20;
/// Bytes of L2 tables that are kept.
const L2_CACHE_BYTES: usize = 8 << 20;

/// Whether a file that starts with `head` is a qcow2 image.
pub fn probe(head: &[u8]) -> bool {
    head.starts_with(&MAGIC)
}

/// Opens an image.
///
/// # Errors
/// [`Error::Damaged`] and [`Error::CutShort`] for tables that break the format's rules; [`Error::Unsupported`] for
/// backing files, external data, encryption, and clusters that are compressed or extended.
pub fn open(storage: Arc<dyn Storage>) -> Result<Image> {
    let map = Qcow2Map::open(storage)?;
    let facts = map.facts();
    Ok(Image { disk: UnitDisk(map).shared(), facts })
}

struct Qcow2Map {
    storage: Arc<dyn Storage>,
    size: u64,
    version: u32,
    cluster_bits: u32,
    incompatible: u64,
    snapshots: u32,
    l1: Vec<u64>,
    l2: TableCache<u64>,
}

impl Qcow2Map {
    fn open(storage: Arc<dyn Storage>) -> Result<Self> {
        let path = storage.name().to_string();
        let damaged = |offset: u64, what: String| Err(Error::damaged(&path, offset, what));
        let unsupported = |what: String| Err(Error::Unsupported { path: path.clone(), what });

        let bytes = read_vec(storage.as_ref(), 0, size_of::<HeaderV2>(), "the header")?;
        let Ok((header, _)) = HeaderV2::read_from_prefix(&bytes) else {
            return damaged(0, "no header".into());
        };
        if header.magic != MAGIC {
            return damaged(0, "the first bytes are not those of a qcow2 image".into());
        }
        let version = header.version.get();
        let mut incompatible = 0;
        match version {
            2 => {}
            3 => {
                let at = size_of::<HeaderV2>() as u64;
                let bytes = read_vec(storage.as_ref(), at, size_of::<HeaderV3>(), "the header")?;
                if let Ok((more, _)) = HeaderV3::read_from_prefix(&bytes) {
                    incompatible = more.incompatible_features.get();
                }
            }
            other => return unsupported(format!("it is of version {other}; versions 2 and 3 are known")),
        }
        if incompatible & incompatible::CORRUPT != 0 {
            return damaged(72, "its own flag says that its tables are corrupt".into());
        }
        let unknown = incompatible & !incompatible::READABLE;
        if unknown != 0 {
            let bit = unknown.trailing_zeros() as usize;
            let name = INCOMPATIBLE_NAMES.get(bit).map_or_else(|| format!("bit {bit}"), |n| format!("'{n}'"));
            return unsupported(format!("it uses the feature {name}"));
        }
        let cluster_bits = header.cluster_bits.get();
        if !(9..=21).contains(&cluster_bits) {
            return damaged(20, format!("clusters of 2^{cluster_bits} bytes, expected 2^9 to 2^21"));
        }
        if header.crypt_method.get() != 0 {
            return unsupported("its clusters are encrypted".into());
        }
        if header.backing_file_offset.get() != 0 {
            return unsupported("it is a delta of a backing file".into());
        }

        let size = header.size.get();
        let l2_covers = 1u64 << (cluster_bits + cluster_bits - 3);
        let needed = size.div_ceil(l2_covers);
        let entries = u64::from(header.l1_size.get());
        if entries < needed {
            return damaged(36, format!("an L1 table of {entries} entries, {needed} are needed for {size} bytes"));
        }
        if needed * 8 > MAX_L1_BYTES {
            return unsupported(format!("its L1 table takes {} bytes, at most {MAX_L1_BYTES} are read", needed * 8));
        }
        let l1_at = header.l1_table_offset.get();
        let bytes = read_vec(storage.as_ref(), l1_at, (needed * 8) as usize, "the L1 table")?;
        let l1 = table(&bytes);
        let cluster = 1u64 << cluster_bits;
        for (index, entry) in l1.iter().enumerate() {
            let at = entry & OFFSET_MASK;
            if !at.is_multiple_of(cluster) {
                return damaged(l1_at + index as u64 * 8, format!("an L2 table at byte {at}, inside a cluster"));
            }
            if at != 0 {
                require(storage.as_ref(), at, cluster, "an L2 table")?;
            }
        }
        let l2 = TableCache::new((L2_CACHE_BYTES >> cluster_bits).clamp(4, 64));
        let snapshots = header.nb_snapshots.get();
        Ok(Self { storage, size, version, cluster_bits, incompatible, snapshots, l1, l2 })
    }

    fn cluster(&self) -> u64 {
        1 << self.cluster_bits
    }

    /// Number of L2 entries in a table.
    fn l2_entries(&self) -> u64 {
        self.cluster() / 8
    }

    /// Table `index` of the L2 tables, or `None` when nothing in its range is stored.
    fn l2_table(&self, index: u64) -> Result<Option<Arc<[u64]>>> {
        let at = self.l1.get(index as usize).map_or(0, |entry| entry & OFFSET_MASK);
        if at == 0 {
            return Ok(None);
        }
        let load = || -> Result<Vec<u64>> {
            let bytes = read_vec(self.storage.as_ref(), at, self.cluster() as usize, "an L2 table")?;
            Ok(table(&bytes))
        };
        self.l2.get(index, load).map(Some)
    }

    /// How the cluster that holds `offset` is stored, checked against the file.
    fn lookup(&self, table: &[u64], number: u64) -> Result<Cluster> {
        let entry = table[(number % self.l2_entries()) as usize];
        let cluster = Cluster::from_entry(entry, self.version);
        let path = self.storage.name();
        match cluster {
            Cluster::At(at) if at % self.cluster() != 0 => {
                let what = format!("the guest's cluster {number} is said to lie there, inside a cluster of the file");
                Err(Error::damaged(path, at, what))
            }
            Cluster::At(at) => {
                // The last cluster of a file may be cut at the end of the guest's disk.
                let len = self.cluster().min(self.size - number * self.cluster());
                require(self.storage.as_ref(), at, len, "a cluster")?;
                Ok(cluster)
            }
            Cluster::Compressed => {
                Err(Error::Unsupported { path: path.into(), what: "it has compressed clusters".into() })
            }
            Cluster::Unallocated | Cluster::Zero => Ok(cluster),
        }
    }

    fn facts(&self) -> Facts {
        let mut details = Vec::new();
        if self.snapshots > 0 {
            details.push(("internal snapshots".into(), self.snapshots.to_string()));
        }
        Facts {
            shape: Shape::new(Format::Qcow2, Layout::Thin),
            variant: format!("version {}", self.version),
            virtual_size: self.size,
            file_size: self.storage.len(),
            allocated: self.storage.allocated(),
            unit: Some(("cluster".into(), self.cluster())),
            compression: None,
            details,
            unclean: self.incompatible & incompatible::DIRTY != 0,
        }
    }
}

fn table(bytes: &[u8]) -> Vec<u64> {
    bytes.chunks_exact(8).map(|entry| U64::read_from_bytes(entry).map_or(0, U64::get)).collect()
}

impl UnitMap for Qcow2Map {
    fn storage(&self) -> &dyn Storage {
        self.storage.as_ref()
    }

    fn size(&self) -> u64 {
        self.size
    }

    fn unit(&self) -> u64 {
        self.cluster()
    }

    fn span_at(&self, number: u64) -> Result<Span> {
        let entries = self.l2_entries();
        let Some(table) = self.l2_table(number / entries)? else {
            return Ok(Span { place: Place::Zero, units: entries - number % entries });
        };
        Ok(Span::one(match self.lookup(&table, number)? {
            Cluster::At(at) => Place::At(at),
            Cluster::Unallocated | Cluster::Zero | Cluster::Compressed => Place::Zero,
        }))
    }
}
