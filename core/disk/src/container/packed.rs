//! Images inside a compressed stream, which can only be read forwards.

use crate::to_usize;
use std::{
    fs::File,
    io::{self, Read},
    os::unix::fs::FileExt,
    sync::Arc,
};

use super::window;
use crate::{
    budget::{Budget, Hold},
    copy::watch::Watch,
    error::{Error, Result},
    source::Storage,
    zeros::is_zero,
};

/// The kind of stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wrapping {
    /// RFC 1952, also several members in a row.
    Gzip,
    /// RFC 8878.
    Zstd,
    /// The .xz file format.
    Xz,
    /// bzip2.
    Bzip2,
}

impl Wrapping {
    /// The stream whose first bytes are `head`.
    pub fn detect(head: &[u8]) -> Option<Self> {
        let kinds: [(&[u8], Self); 4] = [
            (b"\x1f\x8b", Self::Gzip),
            (b"\x28\xb5\x2f\xfd", Self::Zstd),
            (b"\xfd7zXZ\0", Self::Xz),
            (b"BZh", Self::Bzip2),
        ];
        kinds.into_iter().find(|(magic, _)| head.starts_with(magic)).map(|(_, kind)| kind)
    }

    /// The stream that a file name's ending stands for.
    pub fn from_extension(extension: &str) -> Option<Self> {
        Some(match extension.to_ascii_lowercase().as_str() {
            "gz" => Self::Gzip,
            "zst" => Self::Zstd,
            "xz" => Self::Xz,
            "bz2" => Self::Bzip2,
            _ => return None,
        })
    }

    /// By the word for it in briefs, of those that are written.
    pub fn by_name(word: &str) -> Option<Self> {
        [Self::Gzip, Self::Zstd].into_iter().find(|kind| kind.name() == word)
    }

    /// The ending of a file's name.
    pub fn extension(self) -> &'static str {
        match self {
            Self::Gzip => "gz",
            Self::Zstd => "zst",
            Self::Xz => "xz",
            Self::Bzip2 => "bz2",
        }
    }

    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Gzip => "gzip",
            Self::Zstd => "zstd",
            Self::Xz => "xz",
            Self::Bzip2 => "bzip2",
        }
    }

    /// Bytes that unpacking a stream takes which begins with `head`, at least 32 bytes of it. Where the head does not say, it is
    /// the most that is allowed.
    pub fn memory(self, head: &[u8]) -> u64 {
        match self {
            Self::Gzip => window::BESIDE,
            // Blocks of 900 KB, and four bytes more for each of theirs (bzip2's manual, section 2).
            Self::Bzip2 => 5 << 20,
            Self::Zstd => window::zstd(head),
            Self::Xz => window::xz(head),
        }
    }

    /// What `packed` holds, unpacked; `name` stands for it in messages, and what the unpacker looks back at is counted against
    /// `budget`.
    ///
    /// # Errors
    /// [`Error::Memory`]; [`Error::Damaged`] for a start that cannot be read.
    pub fn unpack<'a>(
        self,
        packed: impl Read + Send + 'a,
        name: &str,
        budget: &Arc<Budget>,
    ) -> Result<Box<dyn Read + Send + 'a>> {
        let (head, packed) = peek(packed, HEAD, name)?;
        let memory = self.memory(&head);
        let hold = budget.take(memory).map_err(Error::memory(name, "what its unpacker looks back at"))?;
        let failed = |error: io::Error| Error::io("unpacking", name, None)(error);
        let stream: Box<dyn Read + Send + 'a> = match self {
            Self::Gzip => Box::new(flate2::read::MultiGzDecoder::new(packed)),
            Self::Zstd => {
                let mut decoder = zstd::stream::read::Decoder::new(packed).map_err(failed)?;
                // The next power of two holds the window of the first frame, and of those behind it that are no larger.
                decoder.window_log_max(memory.ilog2()).map_err(failed)?;
                Box::new(decoder)
            }
            Self::Xz => {
                let concatenated = liblzma::stream::CONCATENATED;
                let decoder = liblzma::stream::Stream::new_stream_decoder(memory, concatenated);
                let decoder = decoder.map_err(|error| failed(error.into()))?;
                Box::new(liblzma::read::XzDecoder::new_stream(packed, decoder))
            }
            Self::Bzip2 => Box::new(bzip2::read::MultiBzDecoder::new(packed)),
        };
        Ok(Box::new(Unpacker { stream, _hold: hold }))
    }
}

/// Bytes of a stream that say how far its unpacker looks back.
const HEAD: usize = 64;

/// An unpacker, and the memory for it.
struct Unpacker<'a> {
    stream: Box<dyn Read + Send + 'a>,
    _hold: Hold,
}

impl Read for Unpacker<'_> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        self.stream.read(buf)
    }
}

/// The first `most` bytes of `stream`, or all, and a stream that begins with them again.
pub(super) fn peek<'a>(
    mut stream: impl Read + Send + 'a,
    most: usize,
    name: &str,
) -> Result<(Vec<u8>, impl Read + Send + 'a)> {
    let mut head = vec![0; most];
    let len = fill(&mut stream, &mut head, name, 0)?;
    head.truncate(len);
    Ok((head.clone(), io::Cursor::new(head).chain(stream)))
}

/// The name of what is inside a stream called `name`: without the ending that says how it is packed.
pub fn inner_name(name: &str) -> String {
    let path = std::path::Path::new(name);
    let packed = path.extension().and_then(|ending| ending.to_str()).and_then(Wrapping::from_extension).is_some();
    if packed { path.with_extension("").to_string_lossy().into_owned() } else { name.into() }
}

/// Reads a storage from its start on, and tells how much.
pub(super) struct Forward<'a> {
    storage: Arc<dyn Storage>,
    at: u64,
    end: u64,
    counted: &'a (dyn Fn(u64) + Sync),
}

impl<'a> Forward<'a> {
    /// The bytes of `storage`.
    pub(super) fn new(storage: Arc<dyn Storage>, counted: &'a (dyn Fn(u64) + Sync)) -> Self {
        Self { at: 0, end: storage.len(), storage, counted }
    }

    /// The `len` bytes from `start` on alone; they lie inside.
    pub(super) fn part(self, start: u64, len: u64) -> Self {
        Self { at: start, end: start + len, ..self }
    }
}

impl Read for Forward<'_> {
    #[expect(clippy::indexing_slicing, reason = "never more was read than the buffer holds")]
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = to_usize((buf.len() as u64).min(self.end - self.at));
        self.storage.read_at(self.at, &mut buf[..len]).map_err(|error| io::Error::other(error.to_string()))?;
        self.at += len as u64;
        (self.counted)(len as u64);
        Ok(len)
    }
}

/// Bytes that are written in one go; runs of zeros of this length become holes.
const PIECE: usize = 64 << 10;

/// Reads until `buf` is full or the stream ends; returns how much. `at` bytes came before, and `name` stands for the stream
/// in messages.
///
/// # Errors
/// [`Error::Damaged`] when the stream ends early or is broken.
#[expect(clippy::indexing_slicing, reason = "never more was read than the buffer holds")]
pub fn fill(stream: &mut dyn Read, buf: &mut [u8], name: &str, at: u64) -> Result<usize> {
    let mut filled = 0;
    while filled < buf.len() {
        match stream.read(&mut buf[filled..]) {
            Ok(0) => break,
            Ok(len) => filled += len,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => {
                let what = format!("after {} unpacked bytes: {error}", at + filled as u64);
                return Err(Error::damaged(name, None, what));
            }
        }
    }
    Ok(filled)
}

/// Writes what `stream` gives into `file` from its start on, leaving holes for zeros; `name` stands for the stream in
/// messages. Returns the length.
///
/// # Errors
/// [`Error::Damaged`] when the stream ends early or is broken; those of writing; [`Error::Interrupted`].
#[expect(clippy::indexing_slicing, reason = "never more was read than the buffer holds")]
pub fn spool(mut stream: impl Read, file: &File, name: &str, watch: &Watch<'_>) -> Result<u64> {
    let mut piece = vec![0; PIECE];
    let mut at = 0;
    loop {
        watch.check()?;
        let filled = fill(&mut stream, &mut piece, name, at)?;
        if filled > 0 && !is_zero(&piece[..filled]) {
            file.write_all_at(&piece[..filled], at).map_err(Error::io("spooling", name, Some(at)))?;
        }
        at += filled as u64;
        if filled < PIECE {
            file.set_len(at).map_err(Error::io("spooling", name, Some(at)))?;
            return Ok(at);
        }
    }
}
