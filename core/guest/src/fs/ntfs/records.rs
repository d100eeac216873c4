//! File records that are free, taken, and given back.

use reformis_disk::to_usize;

use super::{
    Ntfs,
    bitmap::set_bits,
    fields::u16,
    file::File,
    number,
    record::{Attribute, IN_USE, STRIDE, Value, kind},
    runs,
};
use crate::error::Result;

/// Records that are added together.
const ADDED: u64 = 16;
/// Bytes of clusters that are added together.
const GROWN: u64 = 256 << 10;

impl Ntfs {
    /// A file with all that its records hold, to be changed.
    pub(super) fn owned(&self, number: u64) -> Result<File> {
        self.read_file(self.record(number)?)
    }

    /// Number of records, used or not.
    fn records(&self) -> u64 {
        self.mft.size.min(self.mft.initialized) / self.geometry.record as u64
    }

    /// An empty record.
    pub(super) fn new_record(&self, number: u64, sequence: u16, flags: u16) -> Vec<u8> {
        let mut bytes = vec![0; self.geometry.record];
        let words = self.geometry.record / STRIDE + 1;
        let mut put = |at: usize, value: &[u8]| {
            if let Some(place) = bytes.get_mut(at..at + value.len()) {
                place.copy_from_slice(value);
            }
        };
        let at = self.attributes_at();
        put(0, b"FILE");
        put(4, &48_u16.to_le_bytes());
        put(6, &u16::try_from(words).unwrap_or_default().to_le_bytes());
        put(16, &sequence.to_le_bytes());
        put(20, &u16::try_from(at).unwrap_or_default().to_le_bytes());
        put(22, &flags.to_le_bytes());
        put(24, &u32::try_from(at + 8).unwrap_or_default().to_le_bytes());
        put(28, &u32::try_from(self.geometry.record).unwrap_or_default().to_le_bytes());
        put(44, &u32::try_from(number).unwrap_or_default().to_le_bytes());
        put(at, &kind::END.to_le_bytes());
        bytes
    }

    /// Sets or clears the bit of a record in the bitmap of `$MFT`.
    fn mark_record(&mut self, file: &mut File, number: u64, is_used: bool) -> Result<()> {
        let bits = file.attributes.iter_mut().find(|one| one.kind == kind::BITMAP && one.name.is_empty());
        let Some(bits) = bits else { return Err(self.device.damaged("its file records have no bitmap")) };
        let mut byte = [0];
        self.read_value(bits, number / 8, &mut byte)?;
        set_bits(&mut byte, number % 8..number % 8 + 1, is_used);
        self.put(bits, number / 8, &byte)
    }

    /// The first record that is free, from `from` on; the number behind the last one when none is.
    fn free_record_from(&self, file: &File, from: u64) -> Result<u64> {
        let records = self.records();
        let Some(bits) = file.find(kind::BITMAP, &[]) else { return Ok(records) };
        let mut piece = vec![0; 4096];
        let mut at = from / 8;
        while at * 8 < records {
            let read = self.read_value(bits, at, &mut piece)?;
            // What the bitmap does not reach is free.
            piece.get_mut(read..).unwrap_or_default().fill(0);
            for (index, byte) in piece.iter().enumerate().filter(|(_, byte)| **byte != 0xff) {
                let first = (at + index as u64) * 8;
                let free = (0..8).find(|bit| byte >> bit & 1 == 0 && first + bit >= from);
                if let Some(bit) = free {
                    return Ok((first + bit).min(records));
                }
            }
            at += piece.len() as u64;
        }
        Ok(records)
    }

    /// Takes a free record: its number, and the sequence number that its next file has.
    ///
    /// # Errors
    /// [`crate::Error::NoRoom`]; those of reading and writing.
    pub(super) fn take_record(&mut self) -> Result<(u64, u16)> {
        let mut mft = self.owned(number::MFT)?;
        let before = mft.attributes.clone();
        let found = self.free_record_from(&mft, self.next_record.max(number::FIRST_FREE))?;
        if found >= self.records() {
            self.add_records(&mut mft)?;
        }
        self.mark_record(&mut mft, found, true)?;
        // A bitmap in clusters was changed there.
        if mft.attributes != before {
            self.store(mft)?;
        }
        self.next_record = found + 1;
        let offset = found * self.geometry.record as u64;
        let mut old = vec![0; self.geometry.record];
        self.read_runs(&self.mft, offset, &mut old)?;
        let sequence = u16(&old, 16).filter(|_| old.starts_with(b"FILE")).unwrap_or_default();
        let sequence = if sequence == u16::MAX { 1 } else { sequence + 1 };
        let fresh = self.new_record(found, sequence, IN_USE);
        self.write_record(found, fresh)?;
        Ok((found, sequence))
    }

    /// Gives a record back.
    pub(super) fn free_record(&mut self, number: u64) -> Result<()> {
        let record = self.record(number)?;
        let mut bytes = record.bytes;
        if let Some(flags) = bytes.get_mut(22) {
            *flags &= !IN_USE.to_le_bytes()[0];
        }
        self.write_record(number, bytes)?;
        let mut mft = self.owned(number::MFT)?;
        let before = mft.attributes.clone();
        self.mark_record(&mut mft, number, false)?;
        if mft.attributes != before {
            self.store(mft)?;
        }
        self.next_record = self.next_record.min(number);
        Ok(())
    }

    /// Adds empty records behind the last one. The caller stores `mft`.
    fn add_records(&mut self, mft: &mut File) -> Result<()> {
        let size = self.geometry.record as u64;
        let first = self.records();
        let wanted = (first + ADDED) * size;
        let damaged = || self.device.damaged("file record 0 does not say where the others are");
        let data = mft.attributes.iter_mut().find(|one| one.kind == kind::DATA && one.name.is_empty());
        let Some(Attribute { value: Value::Mapped(mapped), .. }) = data else { return Err(damaged()) };
        let mut grown = mapped.clone();
        if wanted > grown.allocated {
            let clusters = (wanted - grown.allocated).max(GROWN).div_ceil(self.geometry.cluster);
            let end = grown.runs.last().map_or(0, |run| run.end());
            let near = grown.runs.last().and_then(|run| Some(run.lcn? + run.len)).unwrap_or_default();
            // Little room is better than none.
            let least = (wanted - grown.allocated).div_ceil(self.geometry.cluster);
            let taken = match self.take(end, clusters, near) {
                Err(crate::Error::NoRoom { .. }) => self.take(end, least, near)?,
                taken => taken?,
            };
            taken.into_iter().for_each(|run| runs::push(&mut grown.runs, run));
            grown.allocated = grown.runs.last().map_or(0, |run| run.end()) * self.geometry.cluster;
        }
        grown.size = wanted;
        grown.initialized = wanted;
        *mapped = grown.clone();
        let bits = mft.attributes.iter_mut().find(|one| one.kind == kind::BITMAP && one.name.is_empty());
        let Some(bits) = bits else { return Err(self.device.damaged("its file records have no bitmap")) };
        let bytes = (wanted / size).div_ceil(64) * 8;
        if bits.size() < bytes {
            self.resize(bits, bytes)?;
        }
        self.mft = grown;
        for number in first..first + ADDED {
            let blank = self.new_record(number, 0, 0);
            self.write_record(number, blank)?;
        }
        Ok(())
    }

    /// The number of bytes of a value that lies in memory, checked against what it may be.
    pub(super) fn small(&self, size: u64) -> Result<usize> {
        if size > 64 << 10 {
            return Err(self.device.damaged("a value in a record is too long"));
        }
        Ok(to_usize(size))
    }
}
