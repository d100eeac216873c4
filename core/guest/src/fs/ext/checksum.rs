//! The two checksums, both without the final inversion that other uses of them have.

/// CRC-32C (Castagnoli), going on from `seed`.
pub(super) fn crc32c(seed: u32, bytes: &[u8]) -> u32 {
    !crc32c::crc32c_append(!seed, bytes)
}

/// CRC-16 with the reflected polynomial 0xa001, going on from `seed`.
pub(super) fn crc16(seed: u16, bytes: &[u8]) -> u16 {
    bytes.iter().fold(seed, |crc, byte| {
        (0..8).fold(crc ^ u16::from(*byte), |crc, _| if crc & 1 == 1 { crc >> 1 ^ 0xa001 } else { crc >> 1 })
    })
}
