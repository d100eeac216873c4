//! Numbers in a structure, in the byte order of XFS. Every structure is checked for its length when it is read; behind its end
//! there is nothing: a number there is zero, and nothing is put there.

fn get<const N: usize>(from: &[u8], at: usize) -> [u8; N] {
    from.get(at..).and_then(|rest| rest.first_chunk()).copied().unwrap_or([0; N])
}

pub(super) fn be16(from: &[u8], at: usize) -> u16 {
    u16::from_be_bytes(get(from, at))
}

pub(super) fn be32(from: &[u8], at: usize) -> u32 {
    u32::from_be_bytes(get(from, at))
}

pub(super) fn be64(from: &[u8], at: usize) -> u64 {
    u64::from_be_bytes(get(from, at))
}

pub(super) fn byte(from: &[u8], at: usize) -> u8 {
    from.get(at).copied().unwrap_or(0)
}

/// Bytes at `at`; fewer than `len` where the structure ends.
pub(super) fn slice(from: &[u8], at: usize, len: usize) -> &[u8] {
    let rest = from.get(at..).unwrap_or_default();
    rest.get(..len).unwrap_or(rest)
}

/// Puts bytes at `at`.
pub(super) fn put(to: &mut [u8], at: usize, bytes: &[u8]) {
    debug_assert!(at + bytes.len() <= to.len(), "behind the end of a structure");
    if let Some(target) = to.get_mut(at..).and_then(|rest| rest.get_mut(..bytes.len())) {
        target.copy_from_slice(bytes);
    }
}

pub(super) fn put16(to: &mut [u8], at: usize, number: u16) {
    put(to, at, &number.to_be_bytes());
}

pub(super) fn put32(to: &mut [u8], at: usize, number: u32) {
    put(to, at, &number.to_be_bytes());
}

pub(super) fn put64(to: &mut [u8], at: usize, number: u64) {
    put(to, at, &number.to_be_bytes());
}

/// The low 32 bits of a number that was checked to have no more.
#[expect(clippy::cast_possible_truncation, reason = "that is what is asked for")]
pub(super) fn low32(number: u64) -> u32 {
    number as u32
}

/// The low 16 bits of a number that was checked to have no more.
#[expect(clippy::cast_possible_truncation, reason = "that is what is asked for")]
pub(super) fn low16(number: usize) -> u16 {
    number as u16
}

/// The low 8 bits of a number that was checked to have no more.
#[expect(clippy::cast_possible_truncation, reason = "that is what is asked for")]
pub(super) fn low8(number: usize) -> u8 {
    number as u8
}
