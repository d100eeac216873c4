//! File records, and the attributes in them.

use std::ops::Range;

use super::{
    fields::{u16, u32, u64, units},
    runs::{self, Run},
};

/// Kinds of attributes.
pub(super) mod kind {
    pub(in super::super) const STANDARD_INFORMATION: u32 = 0x10;
    pub(in super::super) const ATTRIBUTE_LIST: u32 = 0x20;
    pub(in super::super) const FILE_NAME: u32 = 0x30;
    pub(in super::super) const OBJECT_ID: u32 = 0x40;
    pub(in super::super) const SECURITY_DESCRIPTOR: u32 = 0x50;
    pub(in super::super) const VOLUME_NAME: u32 = 0x60;
    pub(in super::super) const VOLUME_INFORMATION: u32 = 0x70;
    pub(in super::super) const DATA: u32 = 0x80;
    pub(in super::super) const INDEX_ROOT: u32 = 0x90;
    pub(in super::super) const INDEX_ALLOCATION: u32 = 0xa0;
    pub(in super::super) const BITMAP: u32 = 0xb0;
    pub(in super::super) const REPARSE_POINT: u32 = 0xc0;
    pub(in super::super) const EXTENDED: u32 = 0xe0;
    /// Those that may lie in clusters as well as in a record.
    pub(in super::super) const MOVABLE: [u32; 5] = [SECURITY_DESCRIPTOR, DATA, BITMAP, REPARSE_POINT, EXTENDED];
    pub(in super::super) const END: u32 = 0xffff_ffff;
}

/// Flags of an attribute.
pub(super) mod flag {
    pub(in super::super) const COMPRESSED: u16 = 0x0001;
    pub(in super::super) const ENCRYPTED: u16 = 0x4000;
    pub(in super::super) const SPARSE: u16 = 0x8000;
}

/// Flag of a record that is in use.
pub(super) const IN_USE: u16 = 1;
/// Flag of the record of a folder.
pub(super) const FOLDER: u16 = 2;

/// Bytes between two words that the update sequence guards, whatever a sector has.
pub(super) const STRIDE: usize = 512;

/// A number of a record without its sequence number.
pub(super) const NUMBER: u64 = (1 << 48) - 1;

/// Takes the update sequence out of a structure that begins with `signature`: what lies on disk becomes what is meant.
///
/// # Errors
/// What breaks the rules.
pub(super) fn unfix(bytes: &mut [u8], signature: &[u8; 4]) -> Result<(), &'static str> {
    if bytes.get(..4) != Some(signature) {
        return Err("has another signature");
    }
    let (at, count) = (u16(bytes, 4).unwrap_or_default(), u16(bytes, 6).unwrap_or_default());
    let (at, count) = (usize::from(at), usize::from(count));
    if count != bytes.len() / STRIDE + 1 || at + 2 * count > STRIDE - 2 || at % 2 != 0 {
        return Err("has an update sequence of another length");
    }
    let Some(number) = u16(bytes, at) else { return Err("has no update sequence") };
    for index in 1..count {
        let guarded = index * STRIDE - 2;
        if u16(bytes, guarded) != Some(number) {
            return Err("was written in part");
        }
        if let Some(word) = bytes.get(at + 2 * index..).and_then(|rest| rest.first_chunk::<2>()).copied()
            && let Some(place) = bytes.get_mut(guarded..guarded + 2)
        {
            place.copy_from_slice(&word);
        }
    }
    Ok(())
}

/// The value of an attribute.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Value {
    /// In the record.
    Resident {
        /// Its bytes.
        bytes: Vec<u8>,
        /// Whether it is in an index: 1 for names.
        indexed: u8,
    },
    /// In clusters.
    Mapped(Mapped),
}

/// A value in clusters.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Mapped {
    /// All of them, from the stream's first on.
    pub(super) runs: Vec<Run>,
    /// Bytes of the clusters, holes too.
    pub(super) allocated: u64,
    /// Bytes of the value.
    pub(super) size: u64,
    /// Bytes of it that were written; the rest is zero.
    pub(super) initialized: u64,
    /// The power of two of clusters that are compressed together; 0 for none.
    pub(super) unit: u8,
}

/// An attribute of a file, or a piece of one that lies in several records.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Attribute {
    /// Its kind.
    pub(super) kind: u32,
    /// Its name.
    pub(super) name: Vec<u16>,
    /// Its flags.
    pub(super) flags: u16,
    /// Its number in its record.
    pub(super) id: u16,
    /// Its value.
    pub(super) value: Value,
}

impl Attribute {
    /// Bytes of the value.
    pub(super) fn size(&self) -> u64 {
        match &self.value {
            Value::Resident { bytes, .. } => bytes.len() as u64,
            Value::Mapped(mapped) => mapped.size,
        }
    }

    /// The value of one that has to lie in the record.
    pub(super) fn resident(&self) -> Option<&[u8]> {
        match &self.value {
            Value::Resident { bytes, .. } => Some(bytes),
            Value::Mapped(_) => None,
        }
    }

    /// Bytes in memory, about.
    pub(super) fn weight(&self) -> u64 {
        let value = match &self.value {
            Value::Resident { bytes, .. } => bytes.len(),
            Value::Mapped(mapped) => mapped.runs.len() * size_of::<Run>(),
        };
        (size_of::<Self>() + 2 * self.name.len() + value) as u64
    }
}

/// A file record whose update sequence was taken out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Record {
    /// Its number.
    pub(super) number: u64,
    /// Its bytes.
    pub(super) bytes: Vec<u8>,
}

impl Record {
    /// The record `number` as it lies on disk.
    ///
    /// # Errors
    /// What breaks the rules.
    pub(super) fn of(number: u64, mut bytes: Vec<u8>) -> Result<Self, &'static str> {
        unfix(&mut bytes, b"FILE")?;
        Ok(Self { number, bytes })
    }

    fn word(&self, at: usize) -> u16 {
        u16(&self.bytes, at).unwrap_or_default()
    }

    /// How often its number was given to a file.
    pub(super) fn sequence(&self) -> u16 {
        self.word(16)
    }

    /// Names of the file.
    pub(super) fn links(&self) -> u16 {
        self.word(18)
    }

    /// Its flags.
    pub(super) fn flags(&self) -> u16 {
        self.word(22)
    }

    /// Whether it belongs to a file.
    pub(super) fn is_used(&self) -> bool {
        self.flags() & IN_USE != 0
    }

    /// The first record of its file, with its sequence; 0 when that is this one.
    pub(super) fn base(&self) -> u64 {
        u64(&self.bytes, 32).unwrap_or_default()
    }

    /// Where its attributes lie.
    pub(super) fn attributes_at(&self) -> Range<usize> {
        let used = u32(&self.bytes, 24).unwrap_or_default() as usize;
        usize::from(self.word(20))..used.min(self.bytes.len())
    }

    /// Its attributes, each with the first cluster of a piece; `clusters` are the volume's.
    ///
    /// # Errors
    /// What breaks the rules.
    pub(super) fn attributes(&self, clusters: u64) -> Result<Vec<(u64, Attribute)>, &'static str> {
        let mut found = Vec::new();
        let Range { start: mut at, end } = self.attributes_at();
        if at < 40 || at % 8 != 0 {
            return Err("has attributes in its head");
        }
        loop {
            let Some(kind) = u32(&self.bytes, at).filter(|_| at + 4 <= end) else {
                return Err("has attributes without an end");
            };
            if kind == kind::END {
                return Ok(found);
            }
            let len = u32(&self.bytes, at + 4).unwrap_or_default() as usize;
            let bytes = self.bytes.get(at..at.saturating_add(len)).filter(|_| at + len <= end);
            let Some(bytes) = bytes.filter(|_| len >= 24 && len.is_multiple_of(8)) else {
                return Err("has an attribute that goes on behind its end");
            };
            found.push(attribute(kind, bytes, clusters)?);
            at += len;
        }
    }
}

/// The attribute in `bytes`, with the first cluster of a piece.
fn attribute(kind: u32, bytes: &[u8], clusters: u64) -> Result<(u64, Attribute), &'static str> {
    const SHORT: &str = "has an attribute that is too short";
    let word = |at: usize| u16(bytes, at).ok_or(SHORT);
    let wide = |at: usize| u64(bytes, at).ok_or(SHORT);
    let byte = |at: usize| bytes.get(at).copied().ok_or(SHORT);
    let (name_len, name_at) = (usize::from(byte(9)?), usize::from(word(10)?));
    let name = match name_len {
        0 => Vec::new(),
        _ => units(bytes.get(name_at..name_at + 2 * name_len).ok_or("has a name behind its attribute's end")?),
    };
    let (flags, id) = (word(12)?, word(14)?);
    let made = |value| Attribute { kind, name, flags, id, value };
    if byte(8)? == 0 {
        let (len, at) = (u32(bytes, 16).ok_or(SHORT)? as usize, usize::from(word(20)?));
        let value = bytes.get(at..at.saturating_add(len)).ok_or("has a value behind its attribute's end")?;
        return Ok((0, made(Value::Resident { bytes: value.into(), indexed: byte(22)? })));
    }
    let (first, last) = (wide(16)?, wide(24)?);
    let pairs = bytes.get(usize::from(word(32)?)..).ok_or("has a run list behind its attribute's end")?;
    let runs = runs::decode(pairs, first, clusters)?;
    // An empty one ends before it begins.
    if runs.last().map_or(first, |run| run.end()) != last.wrapping_add(1) {
        return Err("has a run list of another length than its attribute says");
    }
    let unit = byte(34)?;
    if unit > 16 {
        return Err("has a compression unit of unknown size");
    }
    let (allocated, size, initialized) = match first {
        0 => (wide(40)?, wide(48)?, wide(56)?),
        _ => (0, 0, 0),
    };
    Ok((first, made(Value::Mapped(Mapped { runs, allocated, size, initialized, unit }))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_that_an_update_sequence_guards_are_put_back() {
        let mut bytes = vec![0; 1024];
        bytes[..8].copy_from_slice(b"FILE\x30\0\x03\0");
        bytes[48..54].copy_from_slice(&[7, 0, 1, 2, 3, 4]);
        bytes[510..512].copy_from_slice(&[7, 0]);
        bytes[1022..].copy_from_slice(&[7, 0]);
        let record = Record::of(5, bytes.clone()).unwrap();
        assert_eq!((&record.bytes[510..512], &record.bytes[1022..]), (&[1, 2][..], &[3, 4][..]));
        bytes[1022] = 8;
        assert_eq!(Record::of(5, bytes.clone()), Err("was written in part"));
        bytes[6] = 2;
        assert_eq!(Record::of(5, bytes), Err("has an update sequence of another length"));
    }
}
