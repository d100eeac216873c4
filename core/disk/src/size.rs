//! Sizes and places of bytes in memory, from the 64 bits in which formats count.

// Every `usize` of ours holds 64 bits: a size is never cut on its way into memory.
#[cfg(not(target_pointer_width = "64"))]
compile_error!("Reformis counts the bytes of disks in 64 bits, and needs a system that does so too");

/// `bytes` as a size or an index in memory. It loses nothing: only 64-bit systems are supported.
#[inline]
pub const fn to_usize(bytes: u64) -> usize {
    #[expect(clippy::cast_possible_truncation, reason = "usize has 64 bits here, or the crate does not build")]
    let size = bytes as usize;
    size
}
