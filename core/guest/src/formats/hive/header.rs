//! The base block, which a hive and each of its logs begins with.

/// Bytes of a sector, which the base block's checksum covers but for its last four.
pub(super) const SECTOR: usize = 512;

/// The checksum of a base block.
pub(super) fn checksum(base: &[u8]) -> u32 {
    let words = base.get(..SECTOR - 4).unwrap_or_default().as_chunks().0;
    match words.iter().fold(0, |sum, word| sum ^ u32::from_le_bytes(*word)) {
        // The two that mean something else are none.
        0 => 1,
        u32::MAX => u32::MAX - 1,
        sum => sum,
    }
}

/// Whether `base` begins with a base block whose checksum is right.
pub(super) fn is_sound(base: &[u8]) -> bool {
    let kept = base.get(SECTOR - 4..SECTOR).and_then(|four| four.first_chunk()).map(|four| u32::from_le_bytes(*four));
    base.starts_with(b"regf") && kept == Some(checksum(base))
}
