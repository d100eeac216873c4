//! Numbers in a structure, in the byte order of NTFS; `None` behind the structure's end.

/// `N` bytes at `at`.
pub(super) fn bytes<const N: usize>(from: &[u8], at: usize) -> Option<[u8; N]> {
    from.get(at..)?.first_chunk().copied()
}

pub(super) fn u16(from: &[u8], at: usize) -> Option<u16> {
    bytes(from, at).map(u16::from_le_bytes)
}

pub(super) fn u32(from: &[u8], at: usize) -> Option<u32> {
    bytes(from, at).map(u32::from_le_bytes)
}

pub(super) fn u64(from: &[u8], at: usize) -> Option<u64> {
    bytes(from, at).map(u64::from_le_bytes)
}

/// Text of 16-bit units.
pub(super) fn units(from: &[u8]) -> Vec<u16> {
    from.as_chunks().0.iter().copied().map(u16::from_le_bytes).collect()
}
