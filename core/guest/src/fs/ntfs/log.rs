//! The state of `$LogFile`: whether what it holds was all done, so that a change from outside contradicts nothing.

use super::{
    fields::{u16, u32, u64},
    record::unfix,
};

/// What a log says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum State {
    /// Nothing: it was emptied, or never used.
    Empty,
    /// All was done.
    Clean,
    /// Something may be left to be done.
    Open,
    /// Of version 2, and not closed: the system was put to sleep, or pulled out.
    Asleep,
    /// It cannot be told.
    Damaged,
}

/// Bytes of the log that are looked at: both restart pages, of up to 64 KiB each.
pub(super) const START: usize = 128 << 10;

/// What the log that starts with `bytes` says.
pub(super) fn state(bytes: &[u8]) -> State {
    if bytes.iter().take(4096).all(|byte| *byte == 0xff) {
        return State::Empty;
    }
    let page_size = u32(bytes, 16).map_or(4096, |size| size as usize);
    if bytes.get(..4) != Some(b"RSTR") || !page_size.is_power_of_two() || !(512..=64 << 10).contains(&page_size) {
        return State::Damaged;
    }
    let pages = [0, page_size].into_iter().filter_map(|at| {
        let mut page = bytes.get(at..at + page_size)?.to_vec();
        unfix(&mut page, b"RSTR").ok()?;
        let area = usize::from(u16(&page, 24)?);
        let (lsn, in_use, flags) = (u64(&page, area)?, u16(&page, area + 12)?, u16(&page, area + 14)?);
        Some((lsn, in_use == 0xffff || flags & 2 != 0, u16(&page, 28)?))
    });
    match pages.max_by_key(|(lsn, ..)| *lsn) {
        Some((_, true, _)) => State::Clean,
        Some((_, false, 2..)) => State::Asleep,
        Some((_, false, _)) => State::Open,
        None => State::Damaged,
    }
}
