//! `$Bitmap`: which clusters are in use.

use super::{
    Ntfs, number,
    record::{Attribute, kind},
    runs::{self, Run},
};
use crate::error::{Error, Result};

/// Bytes of the bitmap that are looked at at a time.
const PIECE: usize = 64 << 10;

/// The zeros among the first `bits` bits of `bytes`, as first and number of each run; the first byte's lowest bit is bit `first`.
fn zeros(bytes: &[u8], first: u64, bits: u64, found: &mut impl FnMut(u64, u64)) {
    let (mut at, mut start) = (0, None);
    for byte in bytes {
        // Most bytes are all of one kind.
        if matches!((byte, start), (0, Some(_)) | (0xff, None)) {
            at += 8;
            continue;
        }
        for bit in 0..8 {
            let is_free = byte >> bit & 1 == 0 && at + bit < bits;
            match start {
                None if is_free => start = Some(at + bit),
                Some(begun) if !is_free => {
                    found(first + begun, (at + bit).min(bits) - begun);
                    start = None;
                }
                _ => {}
            }
        }
        at += 8;
    }
    if let Some(begun) = start.filter(|begun| *begun < bits) {
        found(first + begun, at.min(bits) - begun);
    }
}

impl Ntfs {
    /// Calls `visit` with each run of free clusters between two of them, until that says no. Runs are cut where the bitmap is read in
    /// pieces.
    fn each_free(&self, range: std::ops::Range<u64>, visit: &mut dyn FnMut(u64, u64) -> bool) -> Result<()> {
        let file = self.file(number::BITMAP)?;
        let Some(bitmap) = file.find(kind::DATA, &[]) else { return Ok(()) };
        let mut piece = vec![0; PIECE];
        let mut at = range.start / 8;
        let mut goes_on = true;
        while goes_on && at * 8 < range.end {
            let read = self.read_value(bitmap, at, &mut piece)?;
            if read == 0 {
                break;
            }
            zeros(piece.get(..read).unwrap_or_default(), at * 8, range.end - at * 8, &mut |first, len| {
                let start = first.max(range.start);
                if goes_on && start < first + len {
                    goes_on = visit(start, first + len - start);
                }
            });
            at += read as u64;
        }
        Ok(())
    }

    /// Clusters that are free.
    ///
    /// # Errors
    /// Those of reading.
    pub(super) fn free_clusters(&self) -> Result<u64> {
        let mut free = 0;
        self.each_free(0..self.geometry.clusters, &mut |_, len| {
            free += len;
            true
        })?;
        Ok(free)
    }

    /// Takes `count` clusters for a stream, which go on behind `vcn` of it: in one run where there is one, from `near` on.
    ///
    /// # Errors
    /// [`Error::NoRoom`]; those of reading and writing.
    pub(super) fn take(&mut self, vcn: u64, count: u64, near: u64) -> Result<Vec<Run>> {
        let near = if near < self.geometry.clusters { near } else { 0 };
        let mut whole = None;
        let mut pieces: Vec<(u64, u64)> = Vec::new();
        let (mut sum, mut free) = (0, 0);
        // What continues the run before is one run that was cut.
        let mut last = (0, 0);
        for range in [near..self.geometry.clusters, 0..near] {
            self.each_free(range, &mut |first, len| {
                last = if last.0 + last.1 == first { (last.0, last.1 + len) } else { (first, len) };
                free += len;
                if sum < count {
                    let taken = len.min(count - sum);
                    pieces.push((first, taken));
                    sum += taken;
                }
                if last.1 >= count {
                    whole = Some(last.0);
                }
                whole.is_none()
            })?;
            last = (0, 0);
            if whole.is_some() {
                break;
            }
        }
        if let Some(first) = whole {
            pieces = vec![(first, count)];
        } else if sum < count {
            let unit = format!("clusters of {} bytes", self.geometry.cluster);
            return Err(Error::NoRoom { volume: self.device.name().into(), unit, needed: count, free });
        }
        let mut taken = Vec::new();
        let mut at = vcn;
        for (first, len) in pieces {
            self.mark(first, len, true)?;
            runs::push(&mut taken, Run { vcn: at, len, lcn: Some(first) });
            at += len;
        }
        Ok(taken)
    }

    /// Gives clusters back.
    ///
    /// # Errors
    /// Those of reading and writing.
    pub(super) fn give_back(&mut self, runs: &[Run]) -> Result<()> {
        runs.iter().try_for_each(|run| run.lcn.map_or(Ok(()), |first| self.mark(first, run.len, false)))
    }

    /// Marks `len` clusters from `first` on as used or free.
    fn mark(&mut self, first: u64, len: u64, is_used: bool) -> Result<()> {
        let file = self.file(number::BITMAP)?;
        let bitmap = file.find(kind::DATA, &[]).ok_or_else(|| self.device.damaged("it has no bitmap"))?;
        let (mut at, end) = (first, first + len);
        while at < end {
            let byte = at / 8;
            let last = end.div_ceil(8).min(byte + PIECE as u64);
            let mut piece = vec![0; reformis_disk::to_usize(last - byte)];
            if self.read_value(bitmap, byte, &mut piece)? != piece.len() {
                return Err(self.device.damaged("its bitmap is shorter than the volume"));
            }
            let stop = end.min(last * 8);
            set_bits(&mut piece, at - byte * 8..stop - byte * 8, is_used);
            self.overwrite(bitmap, byte, &piece)?;
            at = stop;
        }
        Ok(())
    }

    /// Writes `bytes` over those that a value has there; it keeps its clusters.
    ///
    /// # Errors
    /// [`Error::Damaged`] where it has none; those of writing.
    pub(super) fn overwrite(&self, attribute: &Attribute, offset: u64, bytes: &[u8]) -> Result<()> {
        let super::record::Value::Mapped(mapped) = &attribute.value else {
            return Err(self.device.damaged("what lies in a record is not in clusters"));
        };
        let end = offset + bytes.len() as u64;
        let places = self.places(mapped, offset..end);
        if places.iter().map(|(_, range)| range.end - range.start).sum::<u64>() != bytes.len() as u64 {
            return Err(self.device.damaged("a value is longer than its clusters"));
        }
        for (place, range) in places {
            let (from, to) = ((range.start - offset), (range.end - offset));
            let place = place.ok_or_else(|| self.device.damaged("a value of the file system has a hole"))?;
            let part = bytes.get(reformis_disk::to_usize(from)..reformis_disk::to_usize(to)).unwrap_or_default();
            self.device.write(place, part)?;
        }
        Ok(())
    }
}

/// Sets or clears bits.
pub(super) fn set_bits(bytes: &mut [u8], bits: std::ops::Range<u64>, value: bool) {
    for bit in bits {
        if let Some(byte) = bytes.get_mut(reformis_disk::to_usize(bit / 8)) {
            let mask = 1 << (bit % 8);
            if value { *byte |= mask } else { *byte &= !mask }
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn runs_of_zeros_are_those_that_looking_at_each_bit_finds(
            bytes in prop::collection::vec(prop_oneof![Just(0), Just(0xff), any::<u8>()], 1..40),
            cut in 0..12_u64,
        ) {
            let bits = (bytes.len() as u64 * 8).saturating_sub(cut);
            let mut found = vec![false; bits as usize];
            zeros(&bytes, 100, bits, &mut |first, len| {
                assert!(len > 0);
                (first - 100..first - 100 + len).for_each(|bit| assert!(!std::mem::replace(&mut found[bit as usize], true)));
            });
            for bit in 0..bits as usize {
                prop_assert_eq!(found[bit], bytes[bit / 8] >> (bit % 8) & 1 == 0);
            }
        }
    }
}
