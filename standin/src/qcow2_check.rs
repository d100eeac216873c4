//! A checker of qcow2 images, written from the format's document: every cluster of the file is counted once by what
//! refers to it and once by the refcounts, and the two must agree.

use std::{fs::File, os::unix::fs::FileExt, path::Path};

use anyhow::{Result, bail, ensure};

const OFFSET: u64 = 0x00ff_ffff_ffff_fe00;
const COPIED: u64 = 1 << 63;
const COMPRESSED: u64 = 1 << 62;

/// What the checker counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Counts {
    /// Version of the format.
    pub version: u32,
    /// Clusters that hold guest data.
    pub data_clusters: u64,
    /// Clusters of the file.
    pub file_clusters: u64,
    /// Those among them that nothing is in: what a guest's writes leave.
    pub free_clusters: u64,
}

/// Checks the image at `path`: no cluster used twice, none counted wrongly, none leaked, every "copied" flag right.
///
/// # Errors
/// What is wrong.
pub fn check(path: &Path) -> Result<Counts> {
    let file = File::open(path)?;
    let len = file.metadata()?.len();
    let read = |offset: u64, len: u64| -> Result<Vec<u8>> {
        let mut bytes = vec![0; len as usize];
        file.read_exact_at(&mut bytes, offset)?;
        Ok(bytes)
    };
    let header = read(0, 112)?;
    let u32_at = |at: usize| u32::from_be_bytes([header[at], header[at + 1], header[at + 2], header[at + 3]]);
    let u64_at = |at: usize| (u64::from(u32_at(at)) << 32) | u64::from(u32_at(at + 4));
    ensure!(&header[..4] == b"QFI\xfb", "no magic");
    let version = u32_at(4);
    let cluster = 1u64 << u32_at(20);
    ensure!(
        version == 3 && u32_at(96) == 4 && u32_at(100) == 112,
        "unexpected version, refcount width or header length"
    );
    // Bit 3 says that the compression type counts, and must be set for all but deflate.
    ensure!(u64_at(72) == if header[104] == 0 { 0 } else { 8 }, "unexpected incompatible features");
    ensure!(len.is_multiple_of(cluster), "the file does not end at a cluster's end");
    let entries = |bytes: &[u8]| -> Vec<u64> {
        bytes.chunks_exact(8).map(|e| e.iter().fold(0, |sum, &byte| (sum << 8) | u64::from(byte))).collect()
    };

    let mut used = vec![0u32; (len / cluster) as usize];
    let mut count = |offset: u64, clusters: u64, what: &str| -> Result<()> {
        ensure!(offset.is_multiple_of(cluster), "{what} at {offset} is not at a cluster's start");
        for index in 0..clusters {
            let Some(slot) = used.get_mut((offset / cluster + index) as usize) else {
                bail!("{what} at {offset} lies outside the file");
            };
            *slot += 1;
        }
        Ok(())
    };
    count(0, 1, "the header")?;
    let (l1_at, l1_entries) = (u64_at(40), u64::from(u32_at(36)));
    count(l1_at, (l1_entries * 8).div_ceil(cluster), "the L1 table")?;
    let (refs_at, refs_clusters) = (u64_at(48), u64::from(u32_at(56)));
    count(refs_at, refs_clusters, "the refcount table")?;
    let mut data_clusters = 0;
    // Clusters of the file that hold compressed ones.
    let mut shared = std::collections::HashSet::new();
    for l1 in entries(&read(l1_at, l1_entries * 8)?) {
        if l1 == 0 {
            continue;
        }
        ensure!(l1 & COPIED != 0, "an L2 table without the copied flag");
        count(l1 & OFFSET, 1, "an L2 table")?;
        for l2 in entries(&read(l1 & OFFSET, cluster)?) {
            if l2 == 0 {
                continue;
            }
            if l2 & COMPRESSED != 0 {
                ensure!(l2 & COPIED == 0, "a compressed cluster with the copied flag");
                let bits = 62 - (cluster.trailing_zeros() - 8);
                let (at, sectors) = (l2 & ((1 << bits) - 1), (l2 & !COMPRESSED) >> bits);
                let last = at / 512 * 512 + sectors * 512 + 511;
                let (first, last) = (at / cluster, last / cluster);
                count(first * cluster, last - first + 1, "a compressed cluster")?;
                shared.extend(first..=last);
                data_clusters += 1;
                continue;
            }
            ensure!(l2 & !(COPIED | OFFSET) == 0 && l2 & COPIED != 0, "an L2 entry {l2:x} with unexpected flags");
            count(l2 & OFFSET, 1, "a data cluster")?;
            data_clusters += 1;
        }
    }
    let blocks: Vec<u64> = entries(&read(refs_at, refs_clusters * cluster)?);
    for &block in blocks.iter().filter(|block| **block != 0) {
        count(block, 1, "a refcount block")?;
    }
    let mut free_clusters = 0;
    for (index, &references) in used.iter().enumerate() {
        let (block, inside) = (index as u64 / (cluster / 2), index as u64 % (cluster / 2));
        let counted = match blocks.get(block as usize) {
            Some(&at) if at != 0 => {
                let bytes = read(at + inside * 2, 2)?;
                u32::from(u16::from_be_bytes([bytes[0], bytes[1]]))
            }
            _ => 0,
        };
        if references == 0 && counted == 0 {
            free_clusters += 1;
            continue;
        }
        let once = references == 1 || shared.contains(&(index as u64));
        ensure!(once, "cluster {index} is referred to {references} times");
        ensure!(counted == references, "cluster {index}: refcount {counted}, {references} references");
    }
    Ok(Counts { version, data_clusters, file_clusters: len / cluster, free_clusters })
}
