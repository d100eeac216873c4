//! Numbers in structures, little endian; what is not there is 0 and is not written, and lengths are checked by who has the structure.

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

/// Puts `part` at byte `at`, where there is room for it.
pub(super) fn put(bytes: &mut [u8], at: usize, part: &[u8]) {
    if let Some(place) = at.checked_add(part.len()).and_then(|end| bytes.get_mut(at..end)) {
        place.copy_from_slice(part);
    }
}

pub(super) fn put_u32(bytes: &mut [u8], at: usize, value: usize) {
    put(bytes, at, &u32::try_from(value).unwrap_or(u32::MAX).to_le_bytes());
}

pub(super) fn put_u64(bytes: &mut [u8], at: usize, value: u64) {
    put(bytes, at, &value.to_le_bytes());
}
