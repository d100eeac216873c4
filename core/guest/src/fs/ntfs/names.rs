//! Names: 16-bit units on disk, bytes outside, and the order that folders keep them in.

use std::cmp::Ordering;

use super::fields::{u16, u32, u64, units};

/// The name as bytes: UTF-8, and half of a surrogate pair alone as what UTF-8 would make of its number, so that each name
/// has bytes of its own.
pub(super) fn bytes_of(name: &[u16]) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(name.len());
    for unit in char::decode_utf16(name.iter().copied()) {
        match unit {
            Ok(char) => bytes.extend(char.encode_utf8(&mut [0; 4]).as_bytes()),
            Err(half) => {
                let [high, low] = half.unpaired_surrogate().to_be_bytes();
                bytes.extend([0xe0 | high >> 4, 0x80 | (high & 15) << 2 | low >> 6, 0x80 | low & 0x3f]);
            }
        }
    }
    bytes
}

/// The units of a name that [`bytes_of`] could have made; `None` for other bytes.
pub(super) fn units_of(name: &[u8]) -> Option<Vec<u16>> {
    match std::str::from_utf8(name) {
        Ok(text) => Some(text.encode_utf16().collect()),
        Err(_) => surrogates(name),
    }
}

/// The same, step by step, for a name that is no UTF-8.
fn surrogates(name: &[u8]) -> Option<Vec<u16>> {
    let mut found = Vec::new();
    let mut rest = name;
    while let Some((&first, _)) = rest.split_first() {
        if let [0xed, high @ 0xa0..=0xbf, low @ 0x80..=0xbf, after @ ..] = rest {
            found.push(0xd000 | u16::from(high & 0x3f) << 6 | u16::from(low & 0x3f));
            rest = after;
            continue;
        }
        let len = match first {
            0..=0x7f => 1,
            0xc0..=0xdf => 2,
            0xe0..=0xef => 3,
            _ => 4,
        };
        let (char, after) = rest.split_at_checked(len)?;
        found.extend(std::str::from_utf8(char).ok()?.encode_utf16());
        rest = after;
    }
    Some(found)
}

/// A name in two: a file's, and that of a stream of it.
pub(super) fn split(name: &[u8]) -> Option<(&[u8], &[u8])> {
    let at = name.iter().position(|byte| *byte == b':').filter(|at| *at > 0)?;
    Some((name.get(..at)?, name.get(at + 1..)?)).filter(|(_, stream)| !stream.is_empty())
}

/// What `$UpCase` says: the capital of each unit.
pub(super) struct Upcase(Vec<u16>);

impl Upcase {
    /// Units in the table.
    pub(super) const LEN: usize = 1 << 16;

    /// The table in the bytes of `$UpCase`; `None` when it has another length.
    pub(super) fn of(bytes: &[u8]) -> Option<Self> {
        let table = units(bytes);
        (table.len() == Self::LEN).then_some(Self(table))
    }

    /// No table: every unit is its own capital.
    pub(super) fn none() -> Self {
        Self(Vec::new())
    }

    fn of_unit(&self, unit: u16) -> u16 {
        self.0.get(usize::from(unit)).copied().unwrap_or(unit)
    }

    /// The order of names, case aside.
    pub(super) fn compare(&self, one: &[u16], other: &[u16]) -> Ordering {
        let upper = |name: &[u16]| name.iter().map(|unit| self.of_unit(*unit)).collect::<Vec<_>>();
        if one == other { Ordering::Equal } else { upper(one).cmp(&upper(other)) }
    }

    /// The order of names in a folder: capitals first tell them apart, then the units themselves.
    pub(super) fn order(&self, one: &[u16], other: &[u16]) -> Ordering {
        self.compare(one, other).then_with(|| one.cmp(other))
    }
}

/// Which rules a name follows.
pub(super) mod space {
    /// Any unit but `/` and 0; case tells names apart.
    pub(in super::super) const POSIX: u8 = 0;
    /// A long name.
    pub(in super::super) const WIN32: u8 = 1;
    /// A short one, of 8 and 3 units, beside a long one.
    pub(in super::super) const DOS: u8 = 2;
    /// A long one that is short enough.
    pub(in super::super) const BOTH: u8 = 3;
}

/// The value of a `$FILE_NAME`, which is also the key in the index of a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct FileName {
    /// The folder, with its sequence number.
    pub(super) parent: u64,
    /// Made, changed, record changed, read: in 100 ns since 1601.
    pub(super) times: [u64; 4],
    /// Bytes of the clusters of its unnamed stream.
    pub(super) allocated: u64,
    /// Bytes of its unnamed stream.
    pub(super) size: u64,
    /// Flags of files; the folder's is [`FileName::FOLDER`].
    pub(super) flags: u32,
    /// The tag of its reparse point, or the size of its extended attributes.
    pub(super) tag: u32,
    /// Which rules it follows.
    pub(super) space: u8,
    /// The name.
    pub(super) name: Vec<u16>,
}

impl FileName {
    /// Flag of a folder.
    pub(super) const FOLDER: u32 = 0x1000_0000;
    /// Bytes before the name.
    pub(super) const HEAD: usize = 66;

    /// Reads one; `None` when it is cut short.
    pub(super) fn of(bytes: &[u8]) -> Option<Self> {
        let wide = |at: usize| u64(bytes, at);
        let len = usize::from(*bytes.get(64)?);
        Some(Self {
            parent: wide(0)?,
            times: [wide(8)?, wide(16)?, wide(24)?, wide(32)?],
            allocated: wide(40)?,
            size: wide(48)?,
            flags: u32(bytes, 56)?,
            tag: u32(bytes, 60)?,
            space: *bytes.get(65)?,
            name: units(bytes.get(Self::HEAD..Self::HEAD + 2 * len)?),
        })
    }

    /// The name in a key, without the rest.
    pub(super) fn name_in(key: &[u8]) -> Option<Vec<u16>> {
        let len = usize::from(*key.get(64)?);
        u16(key, Self::HEAD - 2)?;
        Some(units(key.get(Self::HEAD..Self::HEAD + 2 * len)?))
    }

    /// As it lies on disk.
    pub(super) fn to_bytes(&self) -> Vec<u8> {
        let mut bytes = self.parent.to_le_bytes().to_vec();
        self.times.iter().for_each(|time| bytes.extend(time.to_le_bytes()));
        bytes.extend(self.allocated.to_le_bytes());
        bytes.extend(self.size.to_le_bytes());
        bytes.extend(self.flags.to_le_bytes());
        bytes.extend(self.tag.to_le_bytes());
        bytes.extend([u8::try_from(self.name.len()).unwrap_or(u8::MAX), self.space]);
        self.name.iter().for_each(|unit| bytes.extend(unit.to_le_bytes()));
        bytes
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_name_has_bytes_of_its_own(
            one in prop::collection::vec(prop_oneof![1..0x80_u16, 0xd700..0xe100_u16, any::<u16>()], 0..20),
            noise in prop::collection::vec(any::<u8>(), 0..12),
        ) {
            let bytes = bytes_of(&one);
            prop_assert_eq!(units_of(&bytes), Some(one.clone()));
            if let Ok(text) = String::from_utf16(&one) {
                prop_assert_eq!(&bytes, text.as_bytes());
            }
            units_of(&noise);
        }
    }
}
