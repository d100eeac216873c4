//! What no machine has: beyond these a number is a wrong unit or a lie.

/// Memory that a host can give at the most.
const MAX_MEMORY: u64 = 1 << 46;
pub(crate) const MAX_PROCESSORS: u32 = 4096;

/// Whether `bytes` of memory are a sensible size.
pub(crate) fn is_memory(bytes: &u64) -> bool {
    (1 << 20..=MAX_MEMORY).contains(bytes)
}
