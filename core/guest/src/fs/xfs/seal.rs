//! What version 5 puts into every structure: a checksum, whose it is, where it lies, and when it was written (section
//! "Metadata Integrity").

use super::{Xfs, fields};
use crate::error::Result;

/// CRC-32C of a structure whose own checksum, at `at`, counts as zero.
fn checksum(bytes: &[u8], at: usize) -> u32 {
    let sum = crc32c::crc32c(fields::slice(bytes, 0, at));
    let sum = crc32c::crc32c_append(sum, &[0; 4]);
    crc32c::crc32c_append(sum, bytes.get(at + 4..).unwrap_or_default())
}

/// Whether a structure has the checksum that its bytes have. A fuzzer gets behind it: what a stranger makes has the right one.
pub(super) fn is_sound(bytes: &[u8], at: usize) -> bool {
    cfg!(fuzzing) || fields::slice(bytes, at, 4) == checksum(bytes, at).to_le_bytes()
}

pub(super) fn seal(bytes: &mut [u8], at: usize) {
    let sum = checksum(bytes, at);
    fields::put(bytes, at, &sum.to_le_bytes());
}

/// Where a kind of structure has these fields in version 5.
#[derive(Debug, Clone, Copy)]
pub(super) struct Seal {
    pub(super) checksum: usize,
    pub(super) lsn: usize,
    pub(super) uuid: usize,
    /// Where it lies, in sectors of 512 bytes.
    pub(super) place: Option<usize>,
    /// Whose it is, and how many bytes that has.
    pub(super) owner: Option<(usize, usize)>,
    /// Whether its changes are logged; what is not says so instead of when it was written.
    pub(super) is_logged: bool,
}

pub(super) const AGF: Seal = Seal { checksum: 216, lsn: 208, uuid: 64, place: None, owner: None, is_logged: true };
pub(super) const AGI: Seal = Seal { checksum: 312, lsn: 320, uuid: 296, place: None, owner: None, is_logged: true };
pub(super) const AGFL: Seal = Seal { checksum: 32, lsn: 24, uuid: 8, place: None, owner: None, is_logged: true };
pub(super) const INODE: Seal = Seal { checksum: 100, lsn: 112, uuid: 160, place: None, owner: None, is_logged: true };
pub(super) const GROUP_TREE: Seal =
    Seal { checksum: 52, lsn: 24, uuid: 32, place: Some(16), owner: Some((48, 4)), is_logged: true };
pub(super) const FILE_TREE: Seal =
    Seal { checksum: 64, lsn: 32, uuid: 40, place: Some(24), owner: Some((56, 8)), is_logged: true };
/// Nodes and leaves of folders and attributes.
pub(super) const HASHES: Seal =
    Seal { checksum: 12, lsn: 24, uuid: 32, place: Some(16), owner: Some((48, 8)), is_logged: true };
/// Blocks of entries of folders, and of free places in them.
pub(super) const ENTRIES: Seal =
    Seal { checksum: 4, lsn: 16, uuid: 24, place: Some(8), owner: Some((40, 8)), is_logged: true };
/// Targets of links in blocks of their own.
pub(super) const TARGET: Seal =
    Seal { checksum: 12, lsn: 48, uuid: 16, place: Some(40), owner: Some((32, 8)), is_logged: true };
/// Values of attributes in blocks of their own.
pub(super) const VALUE: Seal = Seal { is_logged: false, ..TARGET };

impl Xfs {
    /// Checks what version 5 put into a structure that was read from byte `at`, and belongs to `owner`.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`].
    pub(super) fn check_seal(&self, bytes: &[u8], kind: Seal, at: u64, owner: u64, what: &str) -> Result<()> {
        if !self.sb.is_v5() {
            return Ok(());
        }
        let wrong = |part: &str| self.device.damaged(format!("{what} at byte {at} has a wrong {part}"));
        if !is_sound(bytes, kind.checksum) {
            return Err(wrong("checksum"));
        }
        if fields::slice(bytes, kind.uuid, 16) != self.sb.own_uuid() {
            return Err(wrong("UUID"));
        }
        if kind.place.is_some_and(|place| fields::be64(bytes, place) != at / 512) {
            return Err(wrong("place"));
        }
        let stated = kind.owner.map(|(place, len)| match len {
            4 => u64::from(fields::be32(bytes, place)),
            _ => fields::be64(bytes, place),
        });
        if stated.is_some_and(|stated| stated != owner) {
            return Err(wrong("owner"));
        }
        Ok(())
    }

    /// Puts into a structure what version 5 wants in it, for byte `at` and `owner`.
    pub(super) fn put_seal(&self, bytes: &mut [u8], kind: Seal, at: u64, owner: u64) {
        if !self.sb.is_v5() {
            return;
        }
        fields::put64(bytes, kind.lsn, if kind.is_logged { self.lsn } else { u64::MAX });
        fields::put(bytes, kind.uuid, &self.sb.own_uuid());
        if let Some(place) = kind.place {
            fields::put64(bytes, place, at / 512);
        }
        match kind.owner {
            Some((place, 4)) => fields::put32(bytes, place, fields::low32(owner)),
            Some((place, _)) => fields::put64(bytes, place, owner),
            None => {}
        }
        seal(bytes, kind.checksum);
    }

    /// Seals a structure and writes it to byte `at`.
    ///
    /// # Errors
    /// Those of the disk.
    pub(super) fn write_sealed(&self, bytes: &mut [u8], kind: Seal, at: u64, owner: u64) -> Result<()> {
        self.put_seal(bytes, kind, at, owner);
        self.device.write(at, bytes)
    }
}
