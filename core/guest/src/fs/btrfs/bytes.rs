//! Numbers in structures, little endian; what is not there is 0, and lengths are checked by who reads them.

fn number<const N: usize>(bytes: &[u8], at: usize) -> [u8; N] {
    at.checked_add(N).and_then(|end| bytes.get(at..end)).and_then(|bytes| bytes.try_into().ok()).unwrap_or([0; N])
}

pub(super) fn u8_at(bytes: &[u8], at: usize) -> u8 {
    number::<1>(bytes, at)[0]
}

pub(super) fn u16_at(bytes: &[u8], at: usize) -> u16 {
    u16::from_le_bytes(number(bytes, at))
}

pub(super) fn u32_at(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(number(bytes, at))
}

pub(super) fn u64_at(bytes: &[u8], at: usize) -> u64 {
    u64::from_le_bytes(number(bytes, at))
}

pub(super) fn uuid_at(bytes: &[u8], at: usize) -> [u8; 16] {
    number(bytes, at)
}
