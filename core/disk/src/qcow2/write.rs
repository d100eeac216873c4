//! Writing: version 3, clusters of 64 KiB, everything in one pass.
//!
//! Clusters are given out in the guest's order. An L2 table is given its cluster when the first data of its range
//! comes, and written when the next range begins. What counts references follows the data, since only then is it
//! known how much there is to count; the header is written last, so that a file which was not finished is no image.

use std::fs::File;

use zerocopy::{
    IntoBytes,
    byteorder::big_endian::{U32, U64},
};

use super::header::{COPIED, HeaderV2, HeaderV3, MAGIC};
use crate::{
    error::{Error, Result},
    output::Output,
    pipeline::Writer,
    shape::Layout,
};

const CLUSTER_BITS: u32 = 16;
const CLUSTER: u64 = 1 << CLUSTER_BITS;
/// Entries of an L2 table.
const L2_ENTRIES: u64 = CLUSTER / 8;
/// Guest bytes that one L2 table maps.
const L2_COVERS: u64 = L2_ENTRIES * CLUSTER;
/// Refcounts are 16 bits wide.
const REFCOUNT_ORDER: u32 = 4;
/// Clusters that one refcount block counts.
const REFCOUNT_BLOCK_COUNTS: u64 = CLUSTER * 8 / (1 << REFCOUNT_ORDER);
/// The L1 table that every reader accepts holds at most 32 MiB.
const MAX_SIZE: u64 = (32 << 20) / 8 * L2_COVERS;

struct Qcow2Writer {
    output: Output,
    size: u64,
    l1: Vec<U64>,
    /// The L2 table that is being filled: its index in the L1 table, its byte in the file, its entries.
    l2: Option<(u64, u64, Vec<U64>)>,
    /// First byte of the file that is not given out, always at a cluster's start.
    end: u64,
}

/// Makes a writer for a disk of `size` bytes, a multiple of the sector.
///
/// # Errors
/// [`Error::Unsupported`] for a size beyond 2 PiB.
pub fn create(file: File, name: String, _layout: Layout, size: u64) -> Result<Box<dyn Writer>> {
    if size > MAX_SIZE {
        let what = format!(
            "a disk of {} is more than the {} that qcow2 holds in clusters of 64 KiB",
            crate::ByteSize(size),
            crate::ByteSize(MAX_SIZE)
        );
        return Err(Error::Unwritable { path: name, what });
    }
    let l1 = vec![U64::ZERO; size.div_ceil(L2_COVERS).max(1) as usize];
    let end = CLUSTER + (l1.len() as u64 * 8).next_multiple_of(CLUSTER);
    Ok(Box::new(Qcow2Writer { output: Output { file, name }, size, l1, l2: None, end }))
}

impl Qcow2Writer {
    fn flush_l2(&mut self) -> Result<()> {
        match self.l2.take() {
            Some((_, position, entries)) => self.output.write(entries.as_bytes(), position),
            None => Ok(()),
        }
    }

    /// Makes L2 table `index` the current one; indices ascend.
    fn begin_l2(&mut self, index: u64) -> Result<()> {
        if self.l2.as_ref().is_some_and(|(current, ..)| *current == index) {
            return Ok(());
        }
        self.flush_l2()?;
        self.l1[index as usize] = U64::new(self.end | COPIED);
        self.l2 = Some((index, self.end, vec![U64::ZERO; L2_ENTRIES as usize]));
        self.end += CLUSTER;
        Ok(())
    }

    /// Writes refcount blocks and table behind the data: one reference for each cluster of the file, these included.
    /// Returns where the table starts and its clusters.
    fn write_refcounts(&mut self) -> Result<(u64, u64)> {
        let before = self.end / CLUSTER;
        let (mut blocks, mut table) = (0, 0);
        loop {
            let total: u64 = before + blocks + table;
            let (need_blocks, need_table) =
                (total.div_ceil(REFCOUNT_BLOCK_COUNTS), (blocks * 8).div_ceil(CLUSTER).max(1));
            if (need_blocks, need_table) == (blocks, table) {
                break;
            }
            (blocks, table) = (need_blocks.max(blocks), need_table.max(table));
        }
        let total = before + blocks + table;
        let table_at = self.end;
        let blocks_at = table_at + table * CLUSTER;
        let offsets: Vec<U64> = (0..blocks).map(|index| U64::new(blocks_at + index * CLUSTER)).collect();
        self.output.write(offsets.as_bytes(), table_at)?;
        for index in 0..blocks {
            let counted = (total - index * REFCOUNT_BLOCK_COUNTS).min(REFCOUNT_BLOCK_COUNTS);
            let mut block = [0, 1].repeat(counted as usize);
            block.resize(CLUSTER as usize, 0);
            self.output.write(&block, blocks_at + index * CLUSTER)?;
        }
        self.end = blocks_at + blocks * CLUSTER;
        Ok((table_at, table))
    }
}

impl Writer for Qcow2Writer {
    fn output(&self) -> &Output {
        &self.output
    }

    fn unit(&self) -> u64 {
        CLUSTER
    }

    fn place(&mut self, offset: u64, len: u64) -> Result<u64> {
        // A block of the pipeline never crosses the range of an L2 table: that is a multiple of the block.
        self.begin_l2(offset / L2_COVERS)?;
        let position = self.end;
        let first = offset % L2_COVERS / CLUSTER;
        if let Some((.., entries)) = &mut self.l2 {
            for number in 0..len.div_ceil(CLUSTER) {
                entries[(first + number) as usize] = U64::new((position + number * CLUSTER) | COPIED);
            }
        }
        self.end += len.next_multiple_of(CLUSTER);
        Ok(position)
    }

    fn finish(&mut self) -> Result<()> {
        self.flush_l2()?;
        let (refcount_table_offset, refcount_table_clusters) = self.write_refcounts()?;
        // The file ends at a cluster's end, also where its last cluster holds the short end of the disk.
        self.output.set_len(self.end)?;
        self.output.write(self.l1.as_bytes(), CLUSTER)?;
        let header = HeaderV2 {
            magic: MAGIC,
            version: U32::new(3),
            backing_file_offset: U64::ZERO,
            backing_file_size: U32::ZERO,
            cluster_bits: U32::new(CLUSTER_BITS),
            size: U64::new(self.size),
            crypt_method: U32::ZERO,
            l1_size: U32::new(self.l1.len() as u32),
            l1_table_offset: U64::new(CLUSTER),
            refcount_table_offset: U64::new(refcount_table_offset),
            refcount_table_clusters: U32::new(refcount_table_clusters as u32),
            nb_snapshots: U32::ZERO,
            snapshots_offset: U64::ZERO,
        };
        let more = HeaderV3 {
            incompatible_features: U64::ZERO,
            compatible_features: U64::ZERO,
            autoclear_features: U64::ZERO,
            refcount_order: U32::new(REFCOUNT_ORDER),
            header_length: U32::new((size_of::<HeaderV2>() + size_of::<HeaderV3>()) as u32),
        };
        // Eight zero bytes behind the header end its list of extensions; the file is zero there already.
        self.output.write(&[header.as_bytes(), more.as_bytes()].concat(), 0)
    }
}
