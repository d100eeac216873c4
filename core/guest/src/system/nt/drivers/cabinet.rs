//! A look at a cabinet before its reader sees it (Microsoft's "Cabinet File Format", [MS-CAB]): what its files say of where they lie has
//! to be so, since the reader takes their word for it.

use reformis_disk::Storage;

use crate::error::{Error, Result};

/// Blocks of data that are looked at, in all folders.
const MAX_BLOCKS: u64 = 1 << 17;
/// The longest name of a file, in bytes.
const MAX_NAME: usize = 256;

fn word(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from(u16::from_le_bytes(*bytes.get(at..)?.first_chunk()?)))
}

fn long(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from(u32::from_le_bytes(*bytes.get(at..)?.first_chunk()?)))
}

struct Reader<'a>(&'a dyn Storage);

impl Reader<'_> {
    fn damaged(&self, what: &str) -> Error {
        Error::Damaged { volume: self.0.name().into(), what: what.into() }
    }

    /// `N` bytes at `at`.
    fn bytes<const N: usize>(&self, at: u64) -> Result<[u8; N]> {
        let mut bytes = [0; N];
        if at.saturating_add(N as u64) > self.0.len() {
            return Err(self.damaged("it ends before what it lists does"));
        }
        self.0.read_at(at, &mut bytes)?;
        Ok(bytes)
    }

    /// Bytes that the folder whose entry is `entry` unpacks to; `reserve` bytes stand behind the head of each block.
    fn folder(&self, entry: &[u8], reserve: u64, left: &mut u64) -> Result<u64> {
        let short = || self.damaged("it ends before what it lists does");
        let (start, blocks) = (long(entry, 0).ok_or_else(short)?, word(entry, 4).ok_or_else(short)?);
        let is_stored = word(entry, 6).ok_or_else(short)? & 0x0f == 0;
        *left = left.checked_sub(blocks).ok_or_else(|| self.damaged("it has too many blocks"))?;
        let (mut at, mut whole) = (start, 0);
        for _ in 0..blocks {
            let head = self.bytes::<8>(at)?;
            let (packed, plain) = (word(&head, 4).ok_or_else(short)?, word(&head, 6).ok_or_else(short)?);
            if is_stored && packed != plain {
                return Err(self.damaged("a block that is stored as it is has two lengths"));
            }
            whole += plain;
            at += 8 + reserve + packed;
        }
        Ok(whole)
    }
}

/// Refuses a cabinet whose files lie outside of their folders, and one that goes on in another.
///
/// # Errors
/// [`Error::Damaged`]; [`Error::Unsupported`]; those of reading.
pub(super) fn check(storage: &dyn Storage) -> Result<()> {
    let reader = Reader(storage);
    let head = reader.bytes::<36>(0)?;
    let short = || reader.damaged("its head is cut short");
    let (files_at, folders, files) =
        (long(&head, 16).ok_or_else(short)?, word(&head, 26).ok_or_else(short)?, word(&head, 28).ok_or_else(short)?);
    let flags = word(&head, 30).ok_or_else(short)?;
    if flags & 3 != 0 {
        let what = "it is one of several cabinets that belong together".into();
        return Err(Error::Unsupported { volume: storage.name().into(), action: "read for drivers", what });
    }
    let (mut at, mut of_folder, mut of_block) = (36, 0, 0);
    if flags & 4 != 0 {
        let reserve = reader.bytes::<4>(36)?;
        of_folder = u64::from(reserve[2]);
        of_block = u64::from(reserve[3]);
        at = 40 + word(&reserve, 0).ok_or_else(short)?;
    }
    let mut left = MAX_BLOCKS;
    let mut sizes = Vec::new();
    for _ in 0..folders {
        sizes.push(reader.folder(&reader.bytes::<8>(at)?, of_block, &mut left)?);
        at += 8 + of_folder;
    }
    let mut at = files_at;
    for _ in 0..files {
        let entry = reader.bytes::<16>(at)?;
        let (len, start) = (long(&entry, 0).ok_or_else(short)?, long(&entry, 4).ok_or_else(short)?);
        let folder = word(&entry, 8).ok_or_else(short)?;
        let size = sizes.get(reformis_disk::to_usize(folder)).copied();
        if size.is_none_or(|size| start + len > size) {
            return Err(reader.damaged("a file of it lies outside of its folder"));
        }
        let room = storage.len().saturating_sub(at + 16).min(MAX_NAME as u64);
        let mut name = vec![0; reformis_disk::to_usize(room)];
        storage.read_at(at + 16, &mut name)?;
        let end = name.iter().position(|byte| *byte == 0).ok_or_else(|| reader.damaged("a name in it has no end"))?;
        at += 17 + end as u64;
    }
    Ok(())
}
