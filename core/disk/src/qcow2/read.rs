//! Reading: images of version 2 and 3, with compressed clusters and over backing files.

use std::sync::Arc;

use zerocopy::FromBytes;

use super::{
    compressed::{self, Compression},
    header::{Cluster, HeaderV2, HeaderV3, INCOMPATIBLE_NAMES, MAGIC, OFFSET_MASK, incompatible},
};
use crate::{
    cache::TableCache,
    disk::Disk,
    error::{Error, Result},
    formats::{Facts, Image, Opener, chain_over},
    shape::{Format, Layout, Shape},
    source::{Storage, read_entries, read_vec, require},
    units::{Place, Span, UnitDisk, UnitMap},
};

/// The largest L1 table that we take into memory: enough for 128 TiB in clusters of 64 KiB, 4 TiB in those of 4 KiB.
const MAX_L1_BYTES: u64 = 32 << 20;
/// Section "Header": the longest name of a backing file.
const MAX_BACKING_NAME: u32 = 1023;
/// The type of the header extension that declares the backing file's format.
const BACKING_FORMAT: u32 = 0xe279_2aca;
/// Where a header of version 3 that is long enough keeps the compression type.
const COMPRESSION_TYPE_AT: u64 = 104;
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
/// external data, encryption, and extended L2 entries; those of opening the backing file.
pub fn open(storage: Arc<dyn Storage>, opener: &Opener) -> Result<Image> {
    let map = Qcow2Map::open(storage, opener)?;
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
    compression: Compression,
    parent: Option<(String, Image)>,
    l1: Vec<u64>,
    l2: TableCache<u64>,
}

impl Qcow2Map {
    fn open(storage: Arc<dyn Storage>, opener: &Opener) -> Result<Self> {
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
        let mut header_len = size_of::<HeaderV2>() as u64;
        match version {
            2 => {}
            3 => {
                let at = size_of::<HeaderV2>() as u64;
                let bytes = read_vec(storage.as_ref(), at, size_of::<HeaderV3>(), "the header")?;
                if let Ok((more, _)) = HeaderV3::read_from_prefix(&bytes) {
                    incompatible = more.incompatible_features.get();
                    header_len = more.header_length.get().into();
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
        let compression = match incompatible & incompatible::COMPRESSION_TYPE {
            0 => Compression::Deflate,
            _ => match read_vec(storage.as_ref(), COMPRESSION_TYPE_AT, 1, "the compression type")?[0] {
                0 => Compression::Deflate,
                1 => Compression::Zstd,
                other => return unsupported(format!("its clusters are compressed with method {other}")),
            },
        };

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
        let l1 = read_entries(storage.as_ref(), l1_at, needed, "the L1 table", u64::from_be_bytes)?;
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
        let parent = match header.backing_file_offset.get() {
            0 => None,
            at => Some(open_backing(storage.as_ref(), opener, at, header.backing_file_size.get(), header_len)?),
        };
        let l2 = TableCache::new((L2_CACHE_BYTES >> cluster_bits).clamp(4, 64));
        let snapshots = header.nb_snapshots.get();
        Ok(Self { storage, size, version, cluster_bits, incompatible, snapshots, compression, parent, l1, l2 })
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
        let load = || read_entries(self.storage.as_ref(), at, self.l2_entries(), "an L2 table", u64::from_be_bytes);
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
            Cluster::Compressed(_) | Cluster::Unallocated | Cluster::Zero => Ok(cluster),
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
            chain: self.parent.as_ref().map(|(name, parent)| chain_over(name, &parent.facts)).unwrap_or_default(),
            content_id: None,
            details,
            unclean: self.incompatible & incompatible::DIRTY != 0,
        }
    }
}

/// Opens the backing file whose name lies at `at`; its format is the one that the header's extension declares.
fn open_backing(storage: &dyn Storage, opener: &Opener, at: u64, len: u32, header_len: u64) -> Result<(String, Image)> {
    let path = storage.name();
    if len > MAX_BACKING_NAME {
        return Err(Error::damaged(
            path,
            16,
            format!("the backing file's name has {len} bytes, expected at most 1023"),
        ));
    }
    let bytes = read_vec(storage, at, len as usize, "the backing file's name")?;
    let name = String::from_utf8_lossy(&bytes).into_owned();
    if name.starts_with("json:") || name.contains("://") {
        let what = format!("it is a delta of '{name}', which is no file");
        return Err(Error::Unsupported { path: path.into(), what });
    }
    let declared = match backing_format(storage, header_len)? {
        None => None,
        Some(format) => Some(format.parse::<Format>().map_err(|_| Error::Unsupported {
            path: path.into(),
            what: format!("its backing file is declared to be of format '{format}'"),
        })?),
    };
    let parent = opener.open_parent(storage, &name, declared)?;
    Ok((name, parent))
}

/// The extension that declares the backing file's format (section "Header extensions").
fn backing_format(storage: &dyn Storage, mut at: u64) -> Result<Option<String>> {
    // There are a handful of extensions; each takes 8 bytes at least.
    for _ in 0..64 {
        let head = read_vec(storage, at, 8, "a header extension")?;
        let number = |bytes: &[u8]| bytes.iter().fold(0u32, |sum, &byte| (sum << 8) | u32::from(byte));
        let (kind, len) = (number(&head[..4]), number(&head[4..]));
        match kind {
            0 => return Ok(None),
            BACKING_FORMAT if len < 64 => {
                let bytes = read_vec(storage, at + 8, len as usize, "the backing file's format")?;
                return Ok(Some(String::from_utf8_lossy(&bytes).into_owned()));
            }
            _ => at += 8 + u64::from(len).next_multiple_of(8),
        }
    }
    Ok(None)
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
            return Ok(Span { place: Place::Below, units: entries - number % entries });
        };
        Ok(Span::one(match self.lookup(&table, number)? {
            Cluster::At(at) => Place::At(at),
            Cluster::Unallocated => Place::Below,
            Cluster::Zero => Place::Zero,
            Cluster::Compressed(_) => Place::Packed,
        }))
    }

    fn below(&self) -> Option<&Arc<dyn Disk>> {
        self.parent.as_ref().map(|(_, parent)| &parent.disk)
    }

    fn unpack(&self, number: u64, out: &mut [u8]) -> Result<()> {
        let table = self.l2_table(number / self.l2_entries())?;
        let cluster = table.map(|table| self.lookup(&table, number)).transpose()?;
        let Some(Cluster::Compressed(entry)) = cluster else {
            out.fill(0);
            return Ok(());
        };
        compressed::unpack(self.storage.as_ref(), entry, self.cluster_bits, self.compression, out)
    }
}
