//! Where what lies in a scratch file. All numbers are little endian.

use std::{fs::File, os::unix::fs::FileExt};

use super::BLOCK;
use crate::error::{Error, Result};

const MAGIC: [u8; 16] = *b"reformis scratch";
const VERSION: u32 = 1;
/// Bytes of the header, and of a page of the map.
pub(super) const PAGE: u64 = 4096;
/// Blocks that a page of the map tells of, two bits each.
pub(super) const BLOCKS_OF_PAGE: u64 = PAGE * 4;
/// Bytes of the header that say something: magic, version, bytes of a block, bytes of the disk, and their CRC-32C.
const SAID: usize = 36;
/// The largest disk whose blocks can be told apart, in bytes: the file is a little longer, and no offset is negative.
const MOST: u64 = 1 << 62;

/// What a scratch file was made for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Header {
    /// Bytes of the disk.
    pub(super) size: u64,
}

impl Header {
    pub(super) fn new(size: u64) -> Self {
        Self { size }
    }

    pub(super) fn blocks(self) -> u64 {
        self.size.div_ceil(BLOCK)
    }

    /// Where the first block lies.
    pub(super) fn data(self) -> u64 {
        place_of_page(self.blocks().div_ceil(BLOCKS_OF_PAGE))
    }

    pub(super) fn file_len(self) -> u64 {
        self.data() + self.blocks() * BLOCK
    }

    pub(super) fn to_bytes(self) -> Vec<u8> {
        let mut bytes = MAGIC.to_vec();
        // The size first: it is what a person looks for in a dump.
        bytes.extend(self.size.to_le_bytes());
        bytes.extend(VERSION.to_le_bytes());
        bytes.extend(4096u32.to_le_bytes());
        bytes.extend(crc32c::crc32c(&bytes).to_le_bytes());
        bytes
    }

    pub(super) fn read(file: &File, name: &str) -> Result<Self> {
        let mut bytes = [0; SAID];
        let wrong = |what: &str| Error::damaged(name, 0, what);
        match file.read_exact_at(&mut bytes, 0) {
            Err(error) if error.kind() == std::io::ErrorKind::UnexpectedEof => return Err(wrong("it has no header")),
            read => read.map_err(Error::io("reading", name, Some(0)))?,
        }
        let [magic @ .., _, _, _, _, _, _, _, _, _, _, _, _, _, _, _, _, _, _, _, _] = bytes;
        let [.., a, b, c, d, e, f, g, h, v0, v1, v2, v3, b0, b1, b2, b3, c0, c1, c2, c3] = bytes;
        if magic != MAGIC {
            return Err(wrong("it does not begin like a scratch file"));
        }
        let said = bytes.get(..SAID - 4).unwrap_or_default();
        if u32::from_le_bytes([c0, c1, c2, c3]) != crc32c::crc32c(said) {
            return Err(wrong("its header is damaged"));
        }
        if (u32::from_le_bytes([v0, v1, v2, v3]), u32::from_le_bytes([b0, b1, b2, b3])) != (VERSION, 4096) {
            return Err(wrong("it was made by another version"));
        }
        let size = u64::from_le_bytes([a, b, c, d, e, f, g, h]);
        if size > MOST {
            return Err(wrong("the disk that it names is larger than any"));
        }
        Ok(Self { size })
    }
}

/// Where page `number` of the map lies; the first block is behind the last page.
pub(super) fn place_of_page(number: u64) -> u64 {
    PAGE + number * PAGE
}
