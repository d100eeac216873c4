//! Compressed clusters (section "Cluster mapping", "Compressed Clusters Descriptor").

use crate::to_usize;
use std::cell::RefCell;

use libdeflater::{Compressor, Decompressor};

use super::header::{COMPRESSED, compressed_offset_bits};
use crate::{
    SECTOR,
    error::{Error, Result},
    format::{new::Squeeze, raw::packed},
    source::{Storage, require},
};

struct Scratch {
    inflater: Decompressor,
    deflater: Compressor,
    packed: Vec<u8>,
}

thread_local! {
    static SCRATCH: RefCell<Scratch> = RefCell::new(Scratch {
        inflater: Decompressor::new(),
        deflater: packed::fast_compressor(),
        packed: Vec::new(),
    });
}

/// First byte and the most bytes that the compressed data takes: the entry counts sectors, and the data may end inside
/// the last.
fn place(entry: u64, cluster_bits: u32) -> (u64, u64) {
    let offset_bits = compressed_offset_bits(cluster_bits);
    let at = entry & ((1 << offset_bits) - 1);
    let sectors = (entry & ((1 << 62) - 1)) >> offset_bits;
    (at, (sectors + 1) * SECTOR - at % SECTOR)
}

/// The entry of a cluster whose `len` compressed bytes lie at `at`.
pub(super) fn entry(at: u64, len: u64, cluster_bits: u32) -> u64 {
    let sectors = (at + len - 1) / SECTOR - at / SECTOR;
    COMPRESSED | (sectors << compressed_offset_bits(cluster_bits)) | at
}

/// Fills `out`, a cluster long, with the cluster that `entry` describes.
pub(super) fn unpack(
    storage: &dyn Storage,
    entry: u64,
    cluster_bits: u32,
    method: Squeeze,
    out: &mut [u8],
) -> Result<()> {
    let (at, most) = place(entry, cluster_bits);
    require(storage, at, 1, "a compressed cluster")?;
    let len = to_usize(most.min(storage.len() - at));
    SCRATCH.with_borrow_mut(|Scratch { inflater, packed, .. }| {
        packed.resize(len, 0);
        storage.read_at(at, packed)?;
        let unpacked = match method {
            Squeeze::Deflate => inflater.deflate_decompress(packed, out).ok(),
            Squeeze::Zstd => unpack_zstd(packed, out),
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

/// `unit` filled up to a cluster and compressed; `None` when that saves nothing.
#[expect(clippy::indexing_slicing, reason = "the packer says how much of its room it filled")]
pub(super) fn pack(method: Squeeze, unit: &[u8], cluster: usize) -> Option<Vec<u8>> {
    if unit.len() < cluster {
        let mut whole = unit.to_vec();
        whole.resize(cluster, 0);
        return pack(method, &whole, cluster);
    }
    match method {
        Squeeze::Zstd => Some(packed::zstd(unit)).filter(|packed| !packed.is_empty() && packed.len() < cluster),
        Squeeze::Deflate => SCRATCH.with_borrow_mut(|Scratch { deflater, packed: room, .. }| {
            if packed::is_packed(deflater, unit) {
                return None;
            }
            // No more room than is worth it: what does not fit is stored as it is.
            room.resize(cluster - 1, 0);
            let len = deflater.deflate_compress(unit, room).ok()?;
            Some(room[..len].to_vec())
        }),
    }
}

#[cfg(test)]
mod tests {
    use super::{entry, place};

    #[test]
    fn the_entry_splits_by_the_cluster_size() {
        // Clusters of 64 KiB: the offset takes 54 bits.
        let packed = (1 << 62) | (3 << 54) | 0x1_2345;
        assert_eq!(place(packed, 16), (0x1_2345, 4 * 512 - 0x145));
        // Of 2 MiB: 49 bits.
        assert_eq!(place((1 << 62) | (7 << 49) | 0x200, 21), (0x200, 8 * 512));
        assert_eq!(entry(0x1_2345, 4 * 512 - 0x145, 16), packed);
        assert_eq!(entry(0x1_2345, 3 * 512 - 0x144, 16), packed);
        assert_eq!(entry(0x1_2345, 1, 16), (1 << 62) | 0x1_2345);
    }
}
