//! Checksums of blocks (Btrfs on-disk format, "csum_type").

use blake2::{Blake2b, digest::consts::U32};
use sha2::{Digest, Sha256};

/// The kinds of checksums that a file system may have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Sum {
    Crc32c,
    XxHash64,
    Sha256,
    Blake2b,
}

impl Sum {
    /// The kind of this number.
    pub(super) fn of(number: u16) -> Option<Self> {
        [Self::Crc32c, Self::XxHash64, Self::Sha256, Self::Blake2b].get(usize::from(number)).copied()
    }

    /// Bytes of a checksum.
    pub(super) fn len(self) -> usize {
        match self {
            Self::Crc32c => 4,
            Self::XxHash64 => 8,
            Self::Sha256 | Self::Blake2b => 32,
        }
    }

    /// The checksum of `bytes`.
    pub(super) fn make(self, bytes: &[u8]) -> Vec<u8> {
        match self {
            Self::Crc32c => crc32c::crc32c(bytes).to_le_bytes().into(),
            Self::XxHash64 => twox_hash::XxHash64::oneshot(0, bytes).to_le_bytes().into(),
            Self::Sha256 => Sha256::digest(bytes).to_vec(),
            Self::Blake2b => Blake2b::<U32>::digest(bytes).to_vec(),
        }
    }

    /// Whether `sum`, which may be longer, starts with the checksum of `bytes`.
    pub(super) fn holds(self, bytes: &[u8], sum: &[u8]) -> bool {
        sum.starts_with(&self.make(bytes))
    }
}

/// The number by which a name is looked up in its folder: CRC-32C that begins with −2, and is not inverted.
pub(super) fn name_hash(name: &[u8]) -> u64 {
    u64::from(!crc32c::crc32c_append(1, name))
}
