//! Times: 100 ns since 1601.

/// Seconds from 1601 to 1970.
const EPOCH: i64 = 11_644_473_600;
/// Ticks of its clock in a second.
const TICKS: u64 = 10_000_000;

/// A time in seconds since 1970.
pub(crate) fn seconds(time: u64) -> i64 {
    (time / TICKS).cast_signed() - EPOCH
}

/// Nanoseconds of a time beside its seconds.
pub(crate) fn nanoseconds(time: u64) -> u32 {
    u32::try_from(time % TICKS * 100).unwrap_or_default()
}

/// A time of NTFS: 100 ns since 1601.
pub(crate) fn ticks(seconds: i64) -> u64 {
    u64::try_from(seconds.saturating_add(EPOCH)).unwrap_or_default().saturating_mul(TICKS)
}
