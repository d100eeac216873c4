//! Compressed clusters (section "Cluster mapping", "Compressed Clusters Descriptor").

use std::cell::RefCell;

use libdeflater::Decompressor;

use crate::{
    SECTOR,
    error::{Error, Result},
    source::{Storage, require},
};

/// How an image's clusters are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Compression {
    /// Raw deflate.
    Deflate,
    /// A zstd frame.
    Zstd,
}

struct Scratch {
    inflater: Decompressor,
    packed: Vec<u8>,
}

thread_local! {
    static SCRATCH: RefCell<Scratch> = RefCell::new(Scratch { inflater: Decompressor::new(), packed: Vec::new() });
}

/// First byte and the most bytes that the compressed data takes: the entry counts sectors, and the data may end inside
/// the last.
fn place(entry: u64, cluster_bits: u32) -> (u64, u64) {
    let offset_bits = 62 - (cluster_bits - 8);
    let at = entry & ((1 << offset_bits) - 1);
    let sectors = (entry & ((1 << 62) - 1)) >> offset_bits;
    (at, (sectors + 1) * SECTOR - at % SECTOR)
}

/// Fills `out`, a cluster long, with the cluster that `entry` describes.
pub(super) fn unpack(
    storage: &dyn Storage,
    entry: u64,
    cluster_bits: u32,
    compression: Compression,
    out: &mut [u8],
) -> Result<()> {
    let (at, most) = place(entry, cluster_bits);
    require(storage, at, 1, "a compressed cluster")?;
    let len = most.min(storage.len() - at) as usize;
    SCRATCH.with_borrow_mut(|Scratch { inflater, packed }| {
        packed.resize(len, 0);
        storage.read_at(at, packed)?;
        let unpacked = match compression {
            Compression::Deflate => inflater.deflate_decompress(packed, out).ok(),
            Compression::Zstd => unpack_zstd(packed, out),
        };
        if unpacked == Some(out.len()) {
            return Ok(());
        }
        let what = format!("a compressed cluster does not expand to its {} bytes", out.len());
        Err(Error::damaged(storage.name(), at, what))
    })
}

/// The frame at the start of `packed`, which other data may follow.
fn unpack_zstd(packed: &[u8], out: &mut [u8]) -> Option<usize> {
    let len = zstd::zstd_safe::find_frame_compressed_size(packed).ok()?;
    zstd::bulk::decompress_to_buffer(packed.get(..len)?, out).ok()
}

#[cfg(test)]
mod tests {
    use super::place;

    #[test]
    fn the_entry_splits_by_the_cluster_size() {
        // Clusters of 64 KiB: the offset takes 54 bits.
        let entry = (1 << 62) | (3 << 54) | 0x1_2345;
        assert_eq!(place(entry, 16), (0x1_2345, 4 * 512 - 0x145));
        // Of 2 MiB: 49 bits.
        assert_eq!(place((1 << 62) | (7 << 49) | 0x200, 21), (0x200, 8 * 512));
    }
}
