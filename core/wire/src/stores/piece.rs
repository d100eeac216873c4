//! Bytes on their way to a store: a part, kept until it is there, since it may have to be sent again.

use std::{
    borrow::Cow,
    fs::File,
    io::{self, Read, Write},
    os::unix::fs::FileExt,
};

use base64::{Engine as _, engine::general_purpose::STANDARD};
use ring::digest::{Context, SHA256};

use super::sign::hex;
use crate::{fault::Stop, steady::Pace};

/// Where the bytes are.
enum Bytes {
    Memory(Vec<u8>),
    /// A file without a name, or a part of one.
    File(File, u64),
}

/// By what a store knows that what arrived is what was sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Sum {
    /// SHA-256: nobody on the way can change a byte, whatever the way is.
    Sha256,
    /// CRC-32C, where nobody on the way can change a byte as it is; what is the same is known again by BLAKE3.
    Crc32c,
}

/// A sum that is being made.
enum Summing {
    Sha256(Box<Context>),
    Crc32c(u32, Box<blake3::Hasher>),
}

impl Summing {
    fn new(sum: Sum) -> Self {
        match sum {
            Sum::Sha256 => Self::Sha256(Box::new(Context::new(&SHA256))),
            Sum::Crc32c => Self::Crc32c(0, Box::default()),
        }
    }

    fn update(&mut self, bytes: &[u8]) {
        match self {
            Self::Sha256(context) => context.update(bytes),
            Self::Crc32c(crc, hasher) => {
                *crc = crc32c::crc32c_append(*crc, bytes);
                hasher.update(bytes);
            }
        }
    }

    /// The digest by which the same bytes are known again, and the sum as a store reads it where it is another.
    fn finish(self) -> (String, Option<String>) {
        match self {
            Self::Sha256(context) => (hex(context.finish().as_ref()), None),
            Self::Crc32c(crc, hasher) => (hasher.finalize().to_string(), Some(STANDARD.encode(crc.to_be_bytes()))),
        }
    }
}

/// A part, whole.
pub(super) struct Piece {
    bytes: Bytes,
    pub(super) len: u64,
    /// By which the same bytes are known again, in hexadecimal digits: SHA-256 where there is no `crc`, else BLAKE3.
    pub(super) digest: String,
    /// CRC-32C in base64, its first byte the highest, where the store takes that.
    pub(super) crc: Option<String>,
}

/// A part that is being filled.
pub(super) struct Filling {
    bytes: Bytes,
    pub(super) len: u64,
    sum: Summing,
}

impl Filling {
    /// In memory.
    pub(super) fn memory(room: usize, sum: Sum) -> Self {
        Self { bytes: Bytes::Memory(Vec::with_capacity(room)), len: 0, sum: Summing::new(sum) }
    }

    /// In `file`, which is empty.
    pub(super) fn file(file: File, sum: Sum) -> Self {
        Self { bytes: Bytes::File(file, 0), len: 0, sum: Summing::new(sum) }
    }

    pub(super) fn push(&mut self, bytes: &[u8]) -> io::Result<()> {
        match &mut self.bytes {
            Bytes::Memory(kept) => kept.extend_from_slice(bytes),
            Bytes::File(file, _) => file.write_all(bytes)?,
        }
        self.sum.update(bytes);
        self.len += bytes.len() as u64;
        Ok(())
    }

    pub(super) fn finish(self) -> Piece {
        let (digest, crc) = self.sum.finish();
        Piece { bytes: self.bytes, len: self.len, digest, crc }
    }
}

impl Piece {
    /// The `len` bytes at `start` of `file`, whose digest nobody asks for.
    pub(super) fn of_file(file: File, start: u64, len: u64) -> Self {
        Self { bytes: Bytes::File(file, start), len, digest: String::new(), crc: None }
    }

    /// All of its bytes at once.
    pub(super) fn bytes(&self) -> io::Result<Cow<'_, [u8]>> {
        match &self.bytes {
            Bytes::Memory(bytes) => Ok(Cow::Borrowed(bytes)),
            Bytes::File(file, start) => {
                let mut bytes = vec![0; reformis_disk::to_usize(self.len)];
                file.read_exact_at(&mut bytes, *start)?;
                Ok(Cow::Owned(bytes))
            }
        }
    }

    /// Its bytes from the first on, no faster than `pace` allows, until `stop`.
    pub(super) fn reader<'a>(&'a self, pace: &'a Pace, stop: &'a Stop) -> impl Read + 'a {
        PieceReader { piece: self, at: 0, pace, stop }
    }
}

/// Bytes in memory on their way, no faster than they may be.
pub(super) struct Paced<'a> {
    bytes: &'a [u8],
    pace: &'a Pace,
    stop: &'a Stop,
}

impl<'a> Paced<'a> {
    /// `bytes` from the first on, no faster than `pace` allows, until `stop`.
    pub(super) fn new(bytes: &'a [u8], pace: &'a Pace, stop: &'a Stop) -> Self {
        Self { bytes, pace, stop }
    }
}

impl Read for Paced<'_> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let most = self.bytes.len().min(buf.len());
        if most > 0 && (!self.pace.take(most as u64, self.stop) || self.stop.is_set()) {
            return Err(io::Error::other("we were asked to stop"));
        }
        self.bytes.read(buf)
    }
}

struct PieceReader<'a> {
    piece: &'a Piece,
    at: u64,
    pace: &'a Pace,
    stop: &'a Stop,
}

impl Read for PieceReader<'_> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let most = usize::try_from(self.piece.len - self.at).unwrap_or(usize::MAX).min(buf.len());
        let Some(buf) = buf.get_mut(..most).filter(|buf| !buf.is_empty()) else { return Ok(0) };
        if !self.pace.take(most as u64, self.stop) || self.stop.is_set() {
            return Err(io::Error::other("we were asked to stop"));
        }
        let given = match &self.piece.bytes {
            Bytes::Memory(bytes) => {
                let from = bytes.get(reformis_disk::to_usize(self.at)..).unwrap_or_default();
                let len = from.len().min(buf.len());
                if let (Some(to), Some(from)) = (buf.get_mut(..len), from.get(..len)) {
                    to.copy_from_slice(from);
                }
                len
            }
            Bytes::File(file, start) => file.read_at(buf, start + self.at)?,
        };
        self.at += given as u64;
        Ok(given)
    }
}
