//! Writing: version 3, everything in one pass.
//!
//! Clusters are given out in the guest's order, and compressed ones lie close together. An L2 table is given its cluster
//! when the first data of its range comes, and written when the next range begins. A full image has its data in one run,
//! taken from the file system at once, and its tables behind that. What counts references follows the data, since only
//! then is it known how much there is to count; the header is written last, so that a file which was not finished is no
//! image.

use crate::to_usize;
use std::sync::Arc;

use zerocopy::{
    FromZeros, IntoBytes,
    byteorder::big_endian::{U32, U64},
};

use super::{
    compressed,
    header::{COPIED, HeaderMore, HeaderV2, HeaderV3, MAGIC, incompatible},
    refcounts::{self, Refcounts},
};
use crate::{
    ByteSize,
    copy::{
        output::Output,
        writer::{Encoder, Spot, Writer},
    },
    digest::BLOCK,
    error::{Error, Result},
    format::new::{NewImage, Squeeze},
    shape::Layout,
};

/// Clusters that are written: in smaller ones the tables would take more room than they save, and a block of the pipeline
/// would need several of them at a time.
const CLUSTERS: std::ops::RangeInclusive<u64> = 4096..=2 << 20;
const USUAL_CLUSTER: u64 = 64 << 10;
/// The L1 table that every reader accepts holds at most so many entries (32 MiB).
const MAX_L1: u64 = (32 << 20) / 8;
/// The largest disk in bytes, in the usual clusters.
pub const MAX_SIZE: u64 = MAX_L1 * USUAL_CLUSTER * USUAL_CLUSTER / 8;

struct Qcow2Writer {
    output: Arc<Output>,
    cluster: u64,
    squeeze: Option<Squeeze>,
    /// Where the data of a full image starts.
    full: Option<u64>,
    l1: Vec<U64>,
    /// The L2 table that is being filled: its index in the L1 table, its byte in the file, its entries.
    l2: Option<(u64, u64, Vec<U64>)>,
    refcounts: Refcounts,
    /// First byte of the file that is not given out, always at a cluster's start.
    end: u64,
    /// Room for compressed clusters in what is given out, from its first free byte to its end.
    room: (u64, u64),
}

/// Makes a writer.
///
/// # Errors
/// [`Error::Unwritable`] for clusters that are not written, a disk that is too large for its clusters, and a full image
/// that is compressed; no room for a full image.
pub fn create(output: Output, image: &NewImage) -> Result<Box<dyn Writer>> {
    let refuse = |what: String| Err(Error::Unwritable { path: output.name().into(), what });
    let cluster = image.cluster.unwrap_or(USUAL_CLUSTER);
    if !cluster.is_power_of_two() || !CLUSTERS.contains(&cluster) {
        let what = format!("clusters of {cluster} bytes, expected a power of two from 4 KiB to 2 MiB");
        return refuse(what);
    }
    let full = image.shape.layout == Layout::Full;
    if image.squeeze.is_some() && full {
        return refuse("what takes all its space is not compressed: choose qcow2/thin, or no compression".into());
    }
    if image.squeeze.is_some() && cluster > BLOCK {
        return refuse("clusters of more than 1 MiB are not compressed".into());
    }
    let mut writer = Qcow2Writer {
        output: Arc::new(output),
        cluster,
        squeeze: image.squeeze,
        full: None,
        l1: Vec::new(),
        l2: None,
        refcounts: Refcounts::new(cluster, image.squeeze.is_some()),
        end: 0,
        room: (0, 0),
    };
    writer.check_size(image.size.unwrap_or(0))?;
    writer.give(1)?;
    if let (true, Some(size)) = (full, image.size) {
        let data = size.next_multiple_of(cluster);
        writer.full = Some(writer.give(data / cluster)?);
        for index in 0..size.div_ceil(writer.covers()) {
            let at = writer.give(1)?;
            writer.set_l1(index, at)?;
        }
        writer.output.allocate(writer.end)?;
    }
    Ok(Box::new(writer))
}

impl Qcow2Writer {
    /// Entries of an L2 table.
    fn l2_entries(&self) -> u64 {
        self.cluster / 8
    }

    /// Guest bytes that one L2 table maps.
    fn covers(&self) -> u64 {
        self.l2_entries() * self.cluster
    }

    fn check_size(&self, size: u64) -> Result<()> {
        let most = MAX_L1.saturating_mul(self.covers());
        if size <= most {
            return Ok(());
        }
        let what = format!(
            "a disk of {} is more than the {} that qcow2 holds in clusters of {}",
            ByteSize(size),
            ByteSize(most),
            ByteSize(self.cluster)
        );
        Err(Error::Unwritable { path: self.output.name().into(), what })
    }

    /// Gives out `count` clusters in a row; returns their first byte.
    fn give(&mut self, count: u64) -> Result<u64> {
        while let Some(block) = self.refcounts.full_block(self.end / self.cluster) {
            self.output.write(&block.bytes, block.cluster * self.cluster)?;
            self.end += self.cluster;
            if self.room.0 / self.cluster < self.refcounts.open_from() {
                self.room = (0, 0);
            }
        }
        let at = self.end;
        for cluster in at / self.cluster..at / self.cluster + count {
            self.refcounts.add(cluster);
        }
        self.end += count * self.cluster;
        Ok(at)
    }

    /// Gives out room for `len` compressed bytes, less than a cluster; returns its first byte.
    fn give_room(&mut self, len: u64) -> Result<u64> {
        if self.room.0 + len > self.room.1 {
            // What is given out next lies right behind, or the rest is left.
            let next = self.give_uncounted()?;
            if next != self.room.1 {
                self.room.0 = next;
            }
            self.room.1 = next + self.cluster;
        }
        let at = self.room.0;
        self.room.0 += len;
        for cluster in at / self.cluster..=(at + len - 1) / self.cluster {
            self.refcounts.add(cluster);
        }
        Ok(at)
    }

    /// Gives out a cluster that gets its references later.
    fn give_uncounted(&mut self) -> Result<u64> {
        self.give(0)?;
        let at = self.end;
        self.end += self.cluster;
        Ok(at)
    }

    #[expect(clippy::indexing_slicing, reason = "the table was grown to hold the place")]
    fn set_l1(&mut self, index: u64, at: u64) -> Result<()> {
        if index >= MAX_L1 {
            self.check_size((index + 1) * self.covers())?;
        }
        if to_usize(index) >= self.l1.len() {
            self.l1.resize(to_usize(index) + 1, U64::ZERO);
        }
        self.l1[to_usize(index)] = U64::new(at | COPIED);
        Ok(())
    }

    fn flush_l2(&mut self) -> Result<()> {
        match self.l2.take() {
            Some((_, position, entries)) => self.output.write(entries.as_bytes(), position),
            None => Ok(()),
        }
    }

    /// Makes L2 table `index` the current one. One that was before is read again: what changed since a first pass comes in any order.
    fn begin_l2(&mut self, index: u64) -> Result<()> {
        if self.l2.as_ref().is_some_and(|(current, ..)| *current == index) {
            return Ok(());
        }
        self.flush_l2()?;
        if let Some(at) = self.l1.get(to_usize(index)).map(|entry| entry.get() & !COPIED).filter(|at| *at > 0) {
            let mut entries = vec![U64::ZERO; to_usize(self.l2_entries())];
            if !self.output.read(entries.as_mut_bytes(), at)? {
                let what = "a table that was written is no longer there".to_string();
                return Err(Error::Unwritable { path: self.output.name().into(), what });
            }
            self.l2 = Some((index, at, entries));
            return Ok(());
        }
        let at = self.give(1)?;
        self.set_l1(index, at)?;
        self.l2 = Some((index, at, vec![U64::ZERO; to_usize(self.l2_entries())]));
        Ok(())
    }

    /// Writes the tables of a full image: everything is where it is expected.
    fn write_full_tables(&self, data_at: u64, size: u64) -> Result<()> {
        let clusters = size.div_ceil(self.cluster);
        for (index, l1) in self.l1.iter().enumerate() {
            let first = index as u64 * self.l2_entries();
            let entries: Vec<U64> = (first..clusters.min(first + self.l2_entries()))
                .map(|number| U64::new((data_at + number * self.cluster) | COPIED))
                .collect();
            self.output.write(entries.as_bytes(), l1.get() & !COPIED)?;
        }
        Ok(())
    }

    /// Writes refcount blocks and table behind everything. Returns where the table starts and its clusters.
    fn write_refcounts(&mut self) -> Result<(u64, u64)> {
        let cluster = self.cluster;
        let refcounts = std::mem::replace(&mut self.refcounts, Refcounts::new(cluster, false));
        let (table_at, table, bytes, blocks) = refcounts.finish(self.end / cluster, cluster);
        self.output.write(&bytes, table_at * cluster)?;
        self.end = (table_at + table) * cluster;
        for block in blocks {
            self.output.write(&block.bytes, block.cluster * cluster)?;
            self.end = (block.cluster + 1) * cluster;
        }
        Ok((table_at * cluster, table))
    }
}

impl Writer for Qcow2Writer {
    fn takes_any_order(&self) -> bool {
        self.full.is_none() && self.squeeze.is_none() && self.cluster <= BLOCK
    }

    fn unit(&self) -> u64 {
        self.cluster
    }

    fn encoder(&self) -> Option<Encoder> {
        let (squeeze, cluster) = (self.squeeze?, to_usize(self.cluster));
        Some(Arc::new(move |_, unit| compressed::pack(squeeze, unit, cluster)))
    }

    #[expect(clippy::indexing_slicing, reason = "the table was grown to hold the place")]
    fn place(&mut self, offset: u64, len: u64) -> Result<Spot> {
        if let Some(data_at) = self.full {
            return Ok(Spot::new(&self.output, data_at + offset));
        }
        // A block of the pipeline never crosses the range of an L2 table: that is a multiple of the block.
        self.begin_l2(offset / self.covers())?;
        let (first, inside) = (offset % self.covers() / self.cluster, offset % self.cluster);
        let taken = self.l2.as_ref().map_or(0, |(.., entries)| entries[to_usize(first)].get());
        let position = if taken == 0 {
            let count = (inside + len).div_ceil(self.cluster);
            let position = self.give(count)?;
            if let Some((.., entries)) = &mut self.l2 {
                for number in 0..count {
                    entries[to_usize(first + number)] = U64::new((position + number * self.cluster) | COPIED);
                }
            }
            position
        } else {
            // The second block of a cluster that is larger than a block.
            taken & !COPIED
        };
        Ok(Spot::new(&self.output, position + inside))
    }

    #[expect(clippy::indexing_slicing, reason = "the table was grown to hold the place")]
    fn place_encoded(&mut self, offset: u64, _plain: u64, len: u64) -> Result<Spot> {
        self.begin_l2(offset / self.covers())?;
        let at = self.give_room(len)?;
        let bits = self.cluster.trailing_zeros();
        let first = offset % self.covers() / self.cluster;
        if let Some((.., entries)) = &mut self.l2 {
            entries[to_usize(first)] = U64::new(compressed::entry(at, len, bits));
        }
        Ok(Spot::new(&self.output, at))
    }

    #[expect(
        clippy::cast_possible_truncation,
        reason = "sizes that the format was checked to hold when the writer was made"
    )]
    fn finish(&mut self, size: u64) -> Result<()> {
        self.check_size(size)?;
        self.flush_l2()?;
        if let Some(data_at) = self.full {
            self.write_full_tables(data_at, size)?;
        }
        self.l1.resize(to_usize(size.div_ceil(self.covers()).max(1)), U64::ZERO);
        let l1_at = self.give((self.l1.len() as u64 * 8).div_ceil(self.cluster))?;
        let (refcount_table_offset, refcount_table_clusters) = self.write_refcounts()?;
        // The file ends at a cluster's end, also where its last cluster holds the short end of the disk.
        self.output.set_len(self.end)?;
        self.output.write(self.l1.as_bytes(), l1_at)?;
        let header = HeaderV2 {
            magic: MAGIC,
            version: U32::new(3),
            backing_file_offset: U64::ZERO,
            backing_file_size: U32::ZERO,
            cluster_bits: U32::new(self.cluster.trailing_zeros()),
            size: U64::new(size),
            crypt_method: U32::ZERO,
            l1_size: U32::new(self.l1.len() as u32),
            l1_table_offset: U64::new(l1_at),
            refcount_table_offset: U64::new(refcount_table_offset),
            refcount_table_clusters: U32::new(refcount_table_clusters as u32),
            nb_snapshots: U32::ZERO,
            snapshots_offset: U64::ZERO,
        };
        let zstd = self.squeeze == Some(Squeeze::Zstd);
        let len = size_of::<HeaderV2>() + size_of::<HeaderV3>() + size_of::<HeaderMore>();
        let version3 = HeaderV3 {
            incompatible_features: U64::new(if zstd { incompatible::COMPRESSION_TYPE } else { 0 }),
            compatible_features: U64::ZERO,
            autoclear_features: U64::ZERO,
            refcount_order: U32::new(refcounts::ORDER),
            header_length: U32::new(len as u32),
        };
        let more = HeaderMore { compression_type: zstd.into(), ..HeaderMore::new_zeroed() };
        // Eight zero bytes behind the header end its list of extensions; the file is zero there already.
        self.output.write(&[header.as_bytes(), version3.as_bytes(), more.as_bytes()].concat(), 0)
    }
}
