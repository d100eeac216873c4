//! The block allocation table (section 2.5): a 64-bit entry for each block, and behind every `ratio` of them one for the
//! sector bitmap of those blocks.

/// States of a block (section 2.5.1.1).
pub(super) mod state {
    pub(crate) const NOT_PRESENT: u64 = 0;
    pub(crate) const UNDEFINED: u64 = 1;
    pub(crate) const ZERO: u64 = 2;
    pub(crate) const UNMAPPED: u64 = 3;
    pub(crate) const FULLY_PRESENT: u64 = 6;
    /// The sector bitmap says which sectors are here; the others are the parent's.
    pub(crate) const PARTIALLY_PRESENT: u64 = 7;
}

/// Bits of an entry that hold the state; the offset in the file counts MiB from bit 20 on.
pub(super) const STATE_MASK: u64 = 7;
pub(super) const OFFSET_MASK: u64 = !0xf_ffff;

/// Blocks that one sector bitmap covers: a bitmap block of 1 MiB has a bit for each sector.
pub(super) fn ratio(block: u64, logical_sector: u64) -> u64 {
    (1 << 23) * logical_sector / block
}

/// Place in the table of block `number`.
pub(super) fn index(number: u64, ratio: u64) -> u64 {
    number + number / ratio
}

/// Place in the table of the sector bitmap for block `number`.
pub(super) fn bitmap_index(number: u64, ratio: u64) -> u64 {
    (number / ratio + 1) * (ratio + 1) - 1
}

/// Entries of the table of a delta of so many blocks: a bitmap stands behind the last ones too.
pub(super) fn entries_of_delta(blocks: u64, ratio: u64) -> u64 {
    blocks.div_ceil(ratio) * (ratio + 1)
}

/// Entries of the table of a disk of so many blocks, without a parent: the last needs no bitmap behind it.
pub(super) fn entries(blocks: u64, ratio: u64) -> u64 {
    if blocks == 0 { 0 } else { index(blocks - 1, ratio) + 1 }
}
