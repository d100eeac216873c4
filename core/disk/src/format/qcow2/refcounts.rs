//! Counting references (section "Host cluster management"): 16 bits for each cluster of the file.

use super::header::OFFSET_MASK;
use crate::to_usize;

/// Width of a count, as the header says it: `1 << 4` bits.
pub(super) const ORDER: u32 = 4;

/// A finished block of counts, and the cluster where it is to lie.
pub(super) struct Block {
    pub(super) cluster: u64,
    pub(super) bytes: Vec<u8>,
}

/// The counts of a file whose clusters are given out in ascending order.
pub(super) struct Refcounts {
    /// Clusters that one block counts.
    per_block: u64,
    /// Counts of the clusters from `first` on; `None` while every cluster has one reference.
    counts: Option<Vec<u16>>,
    first: u64,
    /// Clusters of the blocks that are written.
    blocks: Vec<u64>,
}

impl Refcounts {
    /// For clusters of `cluster` bytes; with `shared`, one of them may hold several compressed ones.
    pub(super) fn new(cluster: u64, shared: bool) -> Self {
        let per_block = cluster * 8 / (1 << ORDER);
        Self { per_block, counts: shared.then(Vec::new), first: 0, blocks: Vec::new() }
    }

    /// Adds a reference to `cluster`.
    #[expect(clippy::indexing_slicing, reason = "the table was grown to hold the place just above")]
    pub(super) fn add(&mut self, cluster: u64) {
        let Some(counts) = &mut self.counts else { return };
        let index = to_usize(cluster - self.first);
        if index >= counts.len() {
            counts.resize(index + 1, 0);
        }
        counts[index] = counts[index].saturating_add(1);
    }

    /// The first cluster that may still get references: everything before is written once this many are known.
    pub(super) fn open_from(&self) -> u64 {
        self.first
    }

    /// A block that no cluster will be added to any more, since `clusters` are given out; it is given the next one.
    pub(super) fn full_block(&mut self, clusters: u64) -> Option<Block> {
        let counts = self.counts.as_mut()?;
        if clusters < self.first + 2 * self.per_block {
            return None;
        }
        let rest = counts.split_off(to_usize(self.per_block));
        let full = std::mem::replace(counts, rest);
        self.first += self.per_block;
        self.blocks.push(clusters);
        self.add(clusters);
        Some(Block { cluster: clusters, bytes: full.iter().flat_map(|count| count.to_be_bytes()).collect() })
    }

    /// What closes a file of `clusters` clusters of `cluster` bytes: the table (its first cluster, its number of clusters,
    /// its bytes) and the blocks that are not written yet. All of them lie behind the rest.
    pub(super) fn finish(mut self, clusters: u64, cluster: u64) -> (u64, u64, Vec<u8>, impl Iterator<Item = Block>) {
        let written = self.blocks.len() as u64;
        let (mut blocks, mut table) = (0, 0);
        loop {
            let total = clusters + blocks + table;
            let all = total.div_ceil(self.per_block);
            let need = (all - written, (all * 8).div_ceil(cluster).max(1));
            if need == (blocks, table) {
                break;
            }
            (blocks, table) = (need.0.max(blocks), need.1.max(table));
        }
        let total = clusters + table + blocks;
        for own in clusters..total {
            self.add(own);
        }
        let first_block = clusters + table;
        self.blocks.extend((0..blocks).map(|index| first_block + index));
        let mut bytes: Vec<u8> =
            self.blocks.iter().flat_map(|block| ((block * cluster) & OFFSET_MASK).to_be_bytes()).collect();
        bytes.resize(to_usize(table * cluster), 0);
        let (per_block, first, counts) = (self.per_block, self.first, self.counts);
        let blocks = (0..blocks).map(move |index| {
            let from = first + index * per_block;
            let len = to_usize(per_block.min(total.saturating_sub(from)));
            let mut bytes = match &counts {
                None => 1u16.to_be_bytes().repeat(len),
                Some(counts) => {
                    let counts = counts.iter().skip(to_usize(from - first)).take(len);
                    counts.flat_map(|count| count.to_be_bytes()).collect()
                }
            };
            bytes.resize(to_usize(cluster), 0);
            Block { cluster: first_block + index, bytes }
        });
        (clusters, table, bytes, blocks)
    }
}
