//! Tables that the kernel keeps in metadata volumes: B-trees and arrays over blocks of 4 KiB (Linux, `drivers/md/persistent-data`,
//! `dm-btree-internal.h` and `dm-array.c`).

use super::segments::broken;
use crate::bench::Device;

pub(super) const BLOCK: usize = 4096;
/// What checksums of the kinds of blocks are mixed with.
const NODE_MIX: u32 = 121_107;
const ARRAY_MIX: u32 = 595_846_735;
/// Bytes of the heads.
const NODE_HEAD: usize = 32;
const ARRAY_HEAD: usize = 24;
/// Bytes of a value.
const VALUE: usize = 8;
/// Deeper than any tree of 2^64 keys.
const MAX_DEPTH: usize = 16;

pub(super) fn long(bytes: &[u8], at: usize) -> u64 {
    bytes.get(at..).and_then(|rest| rest.first_chunk()).copied().map_or(0, u64::from_le_bytes)
}

pub(super) fn word(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..).and_then(|rest| rest.first_chunk()).copied().map_or(0, u32::from_le_bytes)
}

/// A block of metadata, whose checksum is mixed with `mix`.
pub(super) fn block(device: &Device, number: u64, mix: u32) -> Result<Vec<u8>, String> {
    let mut bytes = vec![0; BLOCK];
    let at = number.checked_mul(BLOCK as u64).ok_or_else(broken)?;
    device.read(at, &mut bytes).map_err(|error| error.to_string())?;
    let sum = !crc32c::crc32c(bytes.get(4..).unwrap_or_default()) ^ mix;
    if sum != word(&bytes, 0) && !cfg!(fuzzing) {
        return Err(format!("block {number} of its metadata has a wrong checksum"));
    }
    Ok(bytes)
}

/// Calls `visit` with each key and its value in the tree below `root`, in order.
pub(super) fn each(
    device: &Device,
    root: u64,
    visit: &mut dyn FnMut(u64, u64) -> Result<(), String>,
) -> Result<(), String> {
    // No block is met twice: there are no more than the volume has.
    let mut left = device.size() / BLOCK as u64;
    let mut last = None;
    walk(device, root, 0, &mut left, &mut |key, value| {
        // Keys go up, so that nothing that is met twice goes on.
        if last.is_some_and(|last| last >= key) {
            return Err(broken());
        }
        last = Some(key);
        visit(key, value)
    })
}

fn walk(
    device: &Device,
    root: u64,
    depth: usize,
    left: &mut u64,
    visit: &mut dyn FnMut(u64, u64) -> Result<(), String>,
) -> Result<(), String> {
    *left = left.checked_sub(1).ok_or_else(broken)?;
    let bytes = block(device, root, NODE_MIX)?;
    let (flags, count, most, stored) =
        (word(&bytes, 4), word(&bytes, 16) as usize, word(&bytes, 20) as usize, word(&bytes, 24) as usize);
    let is_leaf = flags & 2 != 0;
    let fits = most.checked_mul(8 + VALUE).is_some_and(|all| NODE_HEAD + all <= BLOCK);
    if depth > MAX_DEPTH || count > most || count == 0 && depth > 0 || !fits || stored != VALUE || flags & 3 == 3 {
        return Err(broken());
    }
    for index in 0..count {
        let (key, at) = (long(&bytes, NODE_HEAD + index * 8), NODE_HEAD + most * 8 + index * VALUE);
        if is_leaf {
            visit(key, long(&bytes, at))?;
        } else {
            walk(device, long(&bytes, at), depth + 1, left, visit)?;
        }
    }
    Ok(())
}

/// The numbers of 64 bits of the array below `root`, in order.
pub(super) fn array(
    device: &Device,
    root: u64,
    mut visit: impl FnMut(u64, u64) -> Result<(), String>,
) -> Result<(), String> {
    let mut next = 0;
    each(device, root, &mut |_, value| {
        let bytes = block(device, value, ARRAY_MIX)?;
        let (most, count, size) = (word(&bytes, 4), word(&bytes, 8), word(&bytes, 12));
        if count > most || size != 8 || ARRAY_HEAD + count as usize * 8 > BLOCK {
            return Err(broken());
        }
        for index in 0..count as usize {
            visit(next, long(&bytes, ARRAY_HEAD + index * 8))?;
            next += 1;
        }
        Ok(())
    })
}
