//! Transaction logs: what was to be written into a hive when the system stopped. The newer form (entries `HvLE`, from 6.3 on) and the
//! older one (dirty pages `DIRT`).

use super::{
    Hive,
    cells::BASE,
    header::{self, SECTOR},
    pages::PAGE,
};
use crate::error::Result;

/// The longest log that is read, in bytes.
pub(crate) const MOST: u64 = 64 << 20;

/// An entry of a log: pages that were written together.
struct Entry<'a> {
    sequence: u32,
    bins: u32,
    /// Where each run of bytes goes, from the first bin on.
    pages: Vec<(u32, &'a [u8])>,
}

/// The hash that guards an entry (Marvin32 with this seed).
fn guard(bytes: &[u8]) -> u64 {
    let (mut low, mut high) = (0x7a4e_55c5_u32, 0x82ef_4d88_u32);
    let mix = |low: &mut u32, high: &mut u32| {
        *high ^= *low;
        *low = low.rotate_left(20).wrapping_add(*high);
        *high = high.rotate_left(9) ^ *low;
        *low = low.rotate_left(27).wrapping_add(*high);
        *high = high.rotate_left(19);
    };
    let (words, rest) = bytes.as_chunks();
    for word in words {
        low = low.wrapping_add(u32::from_le_bytes(*word));
        mix(&mut low, &mut high);
    }
    let last = rest.iter().chain([&0x80]).rev().fold(0, |sum: u32, byte| sum << 8 | u32::from(*byte));
    low = low.wrapping_add(last);
    mix(&mut low, &mut high);
    mix(&mut low, &mut high);
    u64::from(high) << 32 | u64::from(low)
}

/// The entries of a log of the newer form, up to the first that is not whole.
fn entries(log: &[u8]) -> Vec<Entry<'_>> {
    let mut found: Vec<Entry<'_>> = Vec::new();
    let mut rest = log.get(SECTOR..).unwrap_or_default();
    while let Some(entry) = whole(rest) {
        if found.last().is_some_and(|last| last.sequence.wrapping_add(1) != entry.0.sequence) {
            break;
        }
        found.push(entry.0);
        rest = rest.get(entry.1..).unwrap_or_default();
    }
    found
}

/// The entry that `log` starts with, and its length; `None` when it is not whole.
fn whole(log: &[u8]) -> Option<(Entry<'_>, usize)> {
    let long = |at: usize| Some(u32::from_le_bytes(*log.get(at..)?.first_chunk()?));
    let wide = |at: usize| Some(u64::from_le_bytes(*log.get(at..)?.first_chunk()?));
    let size = long(4)? as usize;
    if !log.starts_with(b"HvLE") || size < 40 || !size.is_multiple_of(SECTOR) {
        return None;
    }
    let body = log.get(40..size)?;
    if guard(body) != wide(24)? || guard(log.get(..32)?) != wide(32)? {
        return None;
    }
    let count = long(20)? as usize;
    let (list, mut rest) = body.split_at_checked(count.checked_mul(8)?)?;
    let mut pages = Vec::new();
    for place in list.as_chunks::<8>().0 {
        let [a, b, c, d, e, f, g, h] = *place;
        let (at, len) = (u32::from_le_bytes([a, b, c, d]), u32::from_le_bytes([e, f, g, h]));
        let (bytes, after) = rest.split_at_checked(len as usize)?;
        pages.push((at, bytes));
        rest = after;
    }
    Some((Entry { sequence: long(12)?, bins: long(16)?, pages }, size))
}

/// The pages of a log of the older form; `None` when it is not whole.
fn dirty(log: &[u8]) -> Option<Entry<'_>> {
    let long = |at: usize| Some(u32::from_le_bytes(*log.get(at..)?.first_chunk()?));
    let bins = long(40)?;
    let bits = log.get(SECTOR..)?.strip_prefix(b"DIRT")?;
    let bits = bits.get(..(bins as usize / SECTOR).div_ceil(8))?;
    let mut rest = log.get((SECTOR + 4 + bits.len()).next_multiple_of(SECTOR)..)?;
    let mut pages = Vec::new();
    for sector in 0..bins / 512 {
        if bits.get(sector as usize / 8)? >> (sector % 8) & 1 == 1 {
            let (bytes, after) = rest.split_at_checked(SECTOR)?;
            pages.push((sector * 512, bytes));
            rest = after;
        }
    }
    Some(Entry { sequence: long(4)?, bins, pages })
}

impl Hive {
    /// Does what `logs` say, in memory; whether they said anything.
    ///
    /// # Errors
    /// [`crate::Error::Memory`].
    pub(super) fn replay(&mut self, logs: &[Vec<u8>]) -> Result<bool> {
        let sound: Vec<&Vec<u8>> = logs.iter().filter(|log| header::is_sound(log)).collect();
        let newer = |log: &&&Vec<u8>| log.get(SECTOR..).is_some_and(|rest| rest.starts_with(b"HvLE"));
        let mut runs: Vec<Vec<Entry<'_>>> = sound.iter().filter(newer).map(|log| entries(log)).collect();
        runs.retain(|run| !run.is_empty());
        runs.sort_by_key(|run| run.first().map(|entry| entry.sequence));
        let mut last = None;
        for entry in runs.into_iter().flatten() {
            // What is older is in the hive; what does not go on from the entry before belongs to another time.
            let follows = last.is_none_or(|last: u32| last.wrapping_add(1) == entry.sequence);
            if entry.sequence < self.sequences.1 || !follows {
                continue;
            }
            self.apply(&entry)?;
            last = Some(entry.sequence);
        }
        if let Some(last) = last {
            self.sequences = (last.wrapping_add(1), last.wrapping_add(1));
            return Ok(true);
        }
        // Of the older form there is one that counts: the one of the write that was cut short.
        let older = sound.iter().filter_map(|log| dirty(log)).filter(|entry| entry.sequence >= self.sequences.1);
        let Some(entry) = older.max_by_key(|entry| entry.sequence) else { return Ok(false) };
        self.apply(&entry)?;
        self.sequences = (entry.sequence, entry.sequence);
        Ok(true)
    }

    fn apply(&mut self, entry: &Entry<'_>) -> Result<()> {
        let is_whole = |bins: u32| (bins as usize).is_multiple_of(PAGE) && bins < 1 << 31;
        if !is_whole(entry.bins) {
            return Err(self.damaged("its log says that it has another length"));
        }
        let end = |(at, bytes): &(u32, &[u8])| u64::from(*at) + bytes.len() as u64;
        // More than the log itself brings is nothing that it could add.
        let most = entry.pages.iter().map(end).max().unwrap_or_default();
        let bins = u64::from(entry.bins);
        if bins > (self.pages.len - BASE).max(most) || most > bins {
            return Err(self.damaged("its log leads behind its end"));
        }
        self.pages.len = BASE + bins;
        for (at, bytes) in &entry.pages {
            self.pages.write_at(BASE + u64::from(*at), bytes)?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_guard_is_the_known_hash() {
        // Marvin32 of these bytes under this seed, as an independent implementation has it.
        assert_eq!(guard(b""), 0xb39e_fca4_0396_6e08);
        assert_eq!(guard(b"tide"), 0xe9ef_e0d8_a73b_5d38);
        assert_eq!(guard(&[0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10]), 0xfce5_d095_7193_41ca);
    }
}
