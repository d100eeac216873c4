//! Bytes of a stream: in a record, in clusters, in holes, compressed.

use std::ops::Range;

use reformis_disk::to_usize;

use super::{
    Ntfs,
    record::{Attribute, Mapped, Record, STRIDE, Value, flag},
    runs,
};
use crate::{
    error::{Error, Result},
    formats::lznt1,
};

/// The most bytes that are compressed together.
const MAX_UNIT: u64 = 1 << 20;

impl Ntfs {
    /// The file record of this number.
    ///
    /// # Errors
    /// [`Error::Damaged`]; those of reading.
    pub(super) fn record(&self, number: u64) -> Result<Record> {
        let size = self.geometry.record as u64;
        let wrong = |what: &str| self.device.damaged(format!("file record {number} {what}"));
        let offset = number.checked_mul(size).filter(|offset| offset + size <= self.mft.initialized);
        let offset = offset.ok_or_else(|| wrong("is not there"))?;
        let mut bytes = vec![0; self.geometry.record];
        self.read_runs(&self.mft, offset, &mut bytes)?;
        Record::of(number, bytes).map_err(wrong)
    }

    /// The places of the volume that hold `range` of a stream, and what of the range each is; `None` for holes.
    pub(super) fn places(&self, mapped: &Mapped, range: Range<u64>) -> Vec<(Option<u64>, Range<u64>)> {
        let cluster = self.geometry.cluster;
        let clusters = range.start / cluster..range.end.div_ceil(cluster);
        let bytes = |run: runs::Run| {
            let (start, end) = ((run.vcn * cluster).max(range.start), (run.end() * cluster).min(range.end));
            (run.lcn.map(|lcn| lcn * cluster + (start - run.vcn * cluster)), start..end)
        };
        runs::cut(&mapped.runs, clusters).into_iter().map(bytes).collect()
    }

    /// Fills `buf` from `offset` with what lies in the clusters, whatever the value's length; what no run holds is zero.
    #[expect(clippy::indexing_slicing, reason = "places are cut to the range that was asked for")]
    pub(super) fn read_runs(&self, mapped: &Mapped, offset: u64, buf: &mut [u8]) -> Result<()> {
        let end = offset + buf.len() as u64;
        let mut done = 0;
        for (place, range) in self.places(mapped, offset..end) {
            let (from, to) = (to_usize(range.start - offset), to_usize(range.end - offset));
            buf[done..from].fill(0);
            match place {
                Some(place) => self.device.read(place, &mut buf[from..to])?,
                None => buf[from..to].fill(0),
            }
            done = to;
        }
        buf[done..].fill(0);
        Ok(())
    }

    /// Fills `buf` from `offset` of an attribute's value, as far as it goes; the number of bytes.
    ///
    /// # Errors
    /// [`Error::Unsupported`] for what is encrypted; those of reading.
    #[expect(clippy::indexing_slicing, reason = "lengths are cut to the buffer and to the value")]
    pub(super) fn read_value(&self, attribute: &Attribute, offset: u64, buf: &mut [u8]) -> Result<usize> {
        let len = to_usize(attribute.size().saturating_sub(offset).min(buf.len() as u64));
        let buf = &mut buf[..len];
        match &attribute.value {
            Value::Resident { bytes, .. } => {
                buf.copy_from_slice(&bytes[to_usize(offset).min(bytes.len() - len)..][..len]);
            }
            Value::Mapped(_) if attribute.flags & flag::ENCRYPTED != 0 => {
                return Err(self.device.unreadable("it is a file that the guest keeps encrypted (EFS)"));
            }
            Value::Mapped(mapped) => {
                let there = to_usize(mapped.initialized.saturating_sub(offset).min(len as u64));
                let (written, rest) = buf.split_at_mut(there);
                rest.fill(0);
                if attribute.flags & flag::COMPRESSED != 0 && mapped.unit > 0 {
                    self.read_compressed(mapped, offset, written)?;
                } else {
                    self.read_runs(mapped, offset, written)?;
                }
            }
        }
        Ok(len)
    }

    /// The ranges of an attribute's value that lie in clusters, in order; `None` for one that lies in its record.
    pub(super) fn stored_of(&self, attribute: &Attribute) -> Option<Vec<Range<u64>>> {
        let Value::Mapped(mapped) = &attribute.value else { return None };
        let end = mapped.initialized.min(attribute.size());
        // Packed clusters stand for their whole unit.
        let unit = if attribute.flags & flag::COMPRESSED == 0 { 0 } else { mapped.unit };
        let unit = self.geometry.cluster.saturating_mul(1_u64.checked_shl(unit.into()).unwrap_or(u64::MAX));
        let mut ranges: Vec<Range<u64>> = Vec::new();
        for (_, range) in self.places(mapped, 0..end).into_iter().filter(|(place, _)| place.is_some()) {
            let range = range.start / unit * unit..range.end.div_ceil(unit).saturating_mul(unit).min(end);
            match ranges.last_mut() {
                Some(last) if last.end >= range.start => last.end = last.end.max(range.end),
                _ => ranges.push(range),
            }
        }
        Some(ranges)
    }

    /// The same of a stream whose units of clusters are each as they are, packed, or a hole.
    #[expect(clippy::indexing_slicing, reason = "ranges are cut to the unit and to the buffer")]
    fn read_compressed(&self, mapped: &Mapped, offset: u64, buf: &mut [u8]) -> Result<()> {
        let clusters = 1_u64.checked_shl(mapped.unit.into()).unwrap_or(u64::MAX);
        let size = clusters.saturating_mul(self.geometry.cluster);
        if size > MAX_UNIT {
            return Err(self.device.unreadable("it compresses more clusters together than is known"));
        }
        let mut unit = vec![0; to_usize(size)];
        let end = offset + buf.len() as u64;
        let mut at = offset;
        while at < end {
            let number = at / size;
            let first = number * clusters;
            let held = runs::cut(&mapped.runs, first..first + clusters);
            let full: u64 = held.iter().filter(|run| run.lcn.is_some()).map(|run| run.len).sum();
            let inside = to_usize(at - number * size);
            let len = (to_usize(size) - inside).min(to_usize(end - at));
            let wanted = &mut buf[to_usize(at - offset)..][..len];
            if full == 0 {
                wanted.fill(0);
            } else if full == clusters {
                self.read_runs(mapped, at, wanted)?;
            } else {
                let mut packed = vec![0; to_usize(full * self.geometry.cluster)];
                self.read_runs(mapped, number * size, &mut packed)?;
                let filled = lznt1::unpack(&packed, &mut unit)
                    .map_err(|what| self.device.damaged(format!("a compressed file: {what}")))?;
                unit[filled..].fill(0);
                wanted.copy_from_slice(&unit[inside..][..len]);
            }
            at += len as u64;
        }
        Ok(())
    }

    /// All bytes of an attribute's value, which is small.
    pub(super) fn all_of(&self, attribute: &Attribute) -> Result<Vec<u8>> {
        const MOST: u64 = 16 << 20;
        let size = attribute.size();
        if size > MOST {
            return Err(Error::TooLarge { path: self.device.name().into(), size, most: MOST });
        }
        let _room = self.device.bench().budget().take(size)?;
        let mut bytes = vec![0; to_usize(size)];
        self.read_value(attribute, 0, &mut bytes)?;
        Ok(bytes)
    }
}

/// Puts the update sequence into a structure that is to be written, with the number after the one that it has.
pub(super) fn fix(bytes: &mut [u8]) -> Vec<u8> {
    let mut fixed = bytes.to_vec();
    let word = |bytes: &[u8], at: usize| super::fields::u16(bytes, at).unwrap_or_default();
    let (at, count) = (usize::from(word(bytes, 4)), usize::from(word(bytes, 6)));
    // 0 and the highest mean nothing special, but are passed over by what writes them.
    let number = match word(bytes, at).wrapping_add(1) {
        0 | u16::MAX => 1,
        number => number,
    };
    let mut set = |at: usize, value: [u8; 2]| {
        if let Some(place) = fixed.get_mut(at..at + 2) {
            place.copy_from_slice(&value);
        }
    };
    set(at, number.to_le_bytes());
    for index in 1..count {
        let guarded = index * STRIDE - 2;
        set(at + 2 * index, word(bytes, guarded).to_le_bytes());
        set(guarded, number.to_le_bytes());
    }
    if let Some(place) = bytes.get_mut(at..at + 2) {
        place.copy_from_slice(&number.to_le_bytes());
    }
    fixed
}
