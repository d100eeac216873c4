//! Early boot images (Linux, `Documentation/driver-api/early-userspace/buffer-format.rst`): archives behind one another, each
//! plain or compressed. What is appended is seen as if it had always been there.

mod source;

use reformis_disk::to_usize;
use std::{
    io::{self, BufRead, Cursor, Read},
    sync::Arc,
};

use reformis_disk::{budget::Budget, container::packed::Wrapping};
use serde::Serialize;

use super::cpio::{self, Entries, Kind};
pub(crate) use super::cpio::{KEPT, Writer};
use source::Source;

/// The longest mark at the start of a part.
const MARK: usize = 5;

/// Bytes of all archives of an image, unpacked, that are read.
const MAX_UNPACKED: u64 = 4 << 30;
/// Memory for a dictionary of LZMA, in bytes: what `lzma -9`, the hardest setting that tools make images with, needs.
const MAX_DICTIONARY: u64 = 64 << 20;
/// Bytes of a part that say how far its unpacker looks back.
const HEAD: usize = 64;

/// How a part of an image is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Packing {
    /// Not at all.
    None,
    /// gzip.
    Gzip,
    /// bzip2, which is not read.
    Bzip2,
    /// LZMA alone.
    Lzma,
    /// xz.
    Xz,
    /// LZO, which is not read.
    Lzo,
    /// LZ4, in its legacy frame.
    Lz4,
    /// Zstandard.
    Zstd,
}

impl Packing {
    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::None => "plain",
            Self::Gzip => "gzip",
            Self::Bzip2 => "bzip2",
            Self::Lzma => "lzma",
            Self::Xz => "xz",
            Self::Lzo => "lzo",
            Self::Lz4 => "lz4",
            Self::Zstd => "zstd",
        }
    }

    /// Bytes of memory that unpacking a part of this kind takes which begins with `head`.
    fn memory(self, head: &[u8]) -> u64 {
        match self {
            Self::Zstd => Wrapping::Zstd.memory(head),
            Self::Xz => Wrapping::Xz.memory(head),
            // The dictionary's size stands behind the byte of properties (LZMA SDK, `lzma.txt`).
            Self::Lzma => {
                let size = head.get(1..5).and_then(|four| <[u8; 4]>::try_from(four).ok());
                size.map_or(MAX_DICTIONARY, |four| u32::from_le_bytes(four).into()).min(MAX_DICTIONARY) + (1 << 20)
            }
            Self::Lz4 => 16 << 20,
            _ => 1 << 20,
        }
    }

    /// By the first bytes (Linux, `lib/decompress.c`).
    fn of(bytes: &[u8]) -> Option<Self> {
        let marks: [(&[u8], Self); 8] = [
            (b"0707", Self::None),
            (&[0x1f, 0x8b], Self::Gzip),
            (b"BZh", Self::Bzip2),
            (&[0x5d, 0, 0], Self::Lzma),
            (&[0xfd, b'7', b'z', b'X', b'Z'], Self::Xz),
            (&[0x89, b'L', b'Z', b'O'], Self::Lzo),
            (&[0x02, 0x21, 0x4c, 0x18], Self::Lz4),
            (&[0x28, 0xb5, 0x2f, 0xfd], Self::Zstd),
        ];
        marks.iter().find(|(mark, _)| bytes.starts_with(mark)).map(|(_, packing)| *packing)
    }
}

/// What an image holds. Later entries stand for earlier ones of the same name.
#[derive(Debug)]
pub(crate) struct Image {
    entries: Entries,
    /// The packing of each part, in order.
    pub(crate) parts: Vec<Packing>,
}

/// Reads an image on and on; what it holds is counted against `budget`.
///
/// # Errors
/// A sentence, for what is not an image, is packed in a way that is not read, takes too much memory, or is damaged.
pub(crate) fn read(bytes: impl Read, budget: &Arc<Budget>) -> Result<Image, String> {
    let mut image = Image { entries: Entries::new(budget), parts: Vec::new() };
    let mut left = MAX_UNPACKED;
    let mut source = Source::new(bytes);
    let mut window = budget.hold();
    let failed = |error: io::Error| error.to_string();
    loop {
        let ahead = source.peek(1).map_err(failed)?;
        if ahead.is_empty() {
            return Ok(image);
        }
        let zeros = ahead.iter().take_while(|byte| **byte == 0).count();
        if zeros > 0 {
            source.consume(zeros);
            continue;
        }
        let at = source.at;
        let packing = Packing::of(source.peek(MARK).map_err(failed)?)
            .ok_or_else(|| format!("nothing that I recognise begins at byte {at}"))?;
        let damaged = |error: io::Error| format!("the part at byte {at}, packed with {}: {error}", packing.name());
        image.parts.push(packing);
        // What an unpacker looks back at, while it works.
        let memory = packing.memory(source.peek(HEAD).map_err(failed)?);
        window.grow(memory).map_err(|error| damaged(io::Error::other(error)))?;
        match packing {
            Packing::None => cpio::read(&mut source, &mut image.entries, &mut left).map_err(damaged)?,
            Packing::Gzip => {
                image.unpack(&mut flate2::bufread::GzDecoder::new(&mut source), &mut left).map_err(damaged)?;
            }
            Packing::Zstd => {
                let decoder = zstd::stream::read::Decoder::with_buffer(&mut source).map_err(damaged)?;
                let mut decoder = decoder.single_frame();
                decoder.window_log_max(memory.ilog2()).map_err(damaged)?;
                image.unpack(&mut decoder, &mut left).map_err(damaged)?;
            }
            Packing::Xz | Packing::Lzma => {
                let stream = if packing == Packing::Xz {
                    liblzma::stream::Stream::new_stream_decoder(memory, 0)
                } else {
                    liblzma::stream::Stream::new_lzma_decoder(memory)
                };
                let stream = stream.map_err(|error| damaged(error.into()))?;
                let mut decoder = liblzma::bufread::XzDecoder::new_stream(&mut source, stream);
                image.unpack(&mut decoder, &mut left).map_err(damaged)?;
            }
            Packing::Lz4 => {
                let mut decoder = Lz4 { rest: &mut source, block: Cursor::new(Vec::new()) };
                image.unpack(&mut decoder, &mut left).map_err(damaged)?;
            }
            Packing::Bzip2 | Packing::Lzo => {
                return Err(format!("it is packed with {}, which cannot be read yet", packing.name()));
            }
        }
        window = budget.hold();
        if source.at == at {
            return Err(format!("nothing that I recognise begins at byte {at}"));
        }
    }
}

/// The legacy frame of LZ4, as the kernel reads it: blocks of at most 8 MiB, each behind its length, until there are no more
/// bytes or the length is zero.
struct Lz4<'s, R> {
    rest: &'s mut Source<R>,
    block: Cursor<Vec<u8>>,
}

impl<R: Read> Read for Lz4<'_, R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        const MAGIC: u32 = 0x184c_2102;
        const MAX_BLOCK: usize = 8 << 20;
        loop {
            let len = self.block.read(buf)?;
            if len > 0 || buf.is_empty() {
                return Ok(len);
            }
            let Some(word) = self.rest.peek(4)?.first_chunk::<4>().copied() else {
                let left = self.rest.peek(4)?.len();
                self.rest.consume(left);
                return Ok(0);
            };
            self.rest.consume(4);
            match u32::from_le_bytes(word) {
                MAGIC => {}
                0 => return Ok(0),
                len => {
                    let len = len as usize;
                    if len > lz4_flex::block::get_maximum_output_size(MAX_BLOCK) {
                        return Err(io::Error::new(io::ErrorKind::InvalidData, "a block is longer than 8 MiB"));
                    }
                    let mut block = vec![0; len];
                    self.rest.read_exact(&mut block)?;
                    let bytes = lz4_flex::block::decompress(&block, MAX_BLOCK)
                        .map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))?;
                    self.block = Cursor::new(bytes);
                }
            }
        }
    }
}

impl Image {
    fn unpack(&mut self, decoder: &mut dyn Read, left: &mut u64) -> io::Result<()> {
        let mut reader = io::BufReader::with_capacity(256 << 10, decoder);
        loop {
            // Archives inside one part follow one another, padded with zeros.
            let buffered = reader.fill_buf()?;
            if buffered.is_empty() {
                return Ok(());
            }
            let zeros = buffered.iter().take_while(|byte| **byte == 0).count();
            if zeros > 0 {
                reader.consume(zeros);
                continue;
            }
            cpio::read(&mut reader, &mut self.entries, left)?;
        }
    }

    /// Whether a file or a link is at `path`, links on the way followed.
    pub(crate) fn has(&self, path: &str) -> bool {
        self.real(path).is_some_and(|path| self.entries.get(&path).is_some())
    }

    /// `path` with the links of its folders followed; `None` when they lead in a circle.
    pub(crate) fn real(&self, path: &str) -> Option<String> {
        let mut todo: Vec<String> = path.split('/').rev().filter(|name| !name.is_empty()).map(Into::into).collect();
        let mut done: Vec<String> = Vec::new();
        let mut links = 0;
        while let Some(name) = todo.pop() {
            match name.as_str() {
                "." => continue,
                ".." => {
                    done.pop();
                    continue;
                }
                _ => done.push(name),
            }
            if let Some(Kind::Link(target)) = self.entries.get(&done.join("/")) {
                links += 1;
                if links > 40 {
                    return None;
                }
                done.pop();
                if target.starts_with('/') {
                    done.clear();
                }
                todo.extend(target.split('/').rev().filter(|name| !name.is_empty()).map(Into::into));
            }
        }
        Some(done.join("/"))
    }

    /// The text of one of the few files whose bytes are of interest, links followed; `None` where it is not there.
    pub(crate) fn text(&self, path: &str) -> Option<String> {
        let bytes = self.entries.kept(&self.real(path)?)?;
        String::from_utf8(bytes.to_vec()).ok()
    }

    /// All paths, in order.
    pub(crate) fn paths(&self) -> impl Iterator<Item = &str> {
        self.entries.paths()
    }

    /// Whether a folder is at `path`.
    pub(crate) fn is_folder(&self, path: &str) -> bool {
        self.real(path).and_then(|path| self.entries.get(&path)).is_some_and(|kind| *kind == Kind::Folder)
    }

    /// What stands between an image of `len` bytes and an archive that is appended to it.
    pub(crate) fn gap(&self, len: u64) -> usize {
        let pad = to_usize(len.next_multiple_of(4) - len);
        // LZ4 has no end of its own: four zeros make one.
        if self.parts.last() == Some(&Packing::Lz4) { pad + 4 } else { pad }
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::{Image, *};

    fn read(bytes: &[u8]) -> Result<Image, String> {
        super::read(bytes, &Budget::new(Budget::MOST))
    }

    fn archive(names: &[&str]) -> Vec<u8> {
        let mut writer = Writer::new(7);
        for name in names {
            match name.split_once("->") {
                Some((name, target)) => writer.link(name, target),
                None if name.ends_with('/') => writer.folder(name.trim_end_matches('/')),
                None => writer.file(name, name.as_bytes(), 0o644),
            }
        }
        writer.finish()
    }

    fn packed(packing: Packing, bytes: &[u8]) -> Vec<u8> {
        match packing {
            Packing::Gzip => {
                let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
                encoder.write_all(bytes).unwrap();
                encoder.finish().unwrap()
            }
            Packing::Zstd => zstd::encode_all(bytes, 3).unwrap(),
            Packing::Xz => {
                let mut encoder = liblzma::write::XzEncoder::new(Vec::new(), 3);
                encoder.write_all(bytes).unwrap();
                encoder.finish().unwrap()
            }
            Packing::Lzma => {
                let options = liblzma::stream::LzmaOptions::new_preset(3).unwrap();
                let stream = liblzma::stream::Stream::new_lzma_encoder(&options).unwrap();
                let mut encoder = liblzma::write::XzEncoder::new_stream(Vec::new(), stream);
                encoder.write_all(bytes).unwrap();
                encoder.finish().unwrap()
            }
            Packing::Lz4 => {
                let mut frame = 0x184c_2102_u32.to_le_bytes().to_vec();
                for block in bytes.chunks(300).map(lz4_flex::block::compress) {
                    frame.extend((block.len() as u32).to_le_bytes());
                    frame.extend(block);
                }
                frame
            }
            _ => bytes.to_vec(),
        }
    }

    #[test]
    fn every_packing_behind_microcode_and_before_what_is_appended() {
        let packings = [Packing::None, Packing::Gzip, Packing::Zstd, Packing::Xz, Packing::Lzma, Packing::Lz4];
        for packing in packings {
            let mut bytes = archive(&["kernel/", "kernel/x86/"]);
            bytes.resize(bytes.len().next_multiple_of(512), 0);
            bytes.extend(packed(packing, &archive(&["lib->usr/lib", "usr/", "usr/lib/", "usr/lib/tide", "init"])));
            let image = read(&bytes).unwrap();
            assert_eq!(image.parts, [Packing::None, packing]);
            assert!(image.has("lib/tide") && image.has("/usr/lib/tide") && !image.has("lib/buoy"), "{packing:?}");
            bytes.resize(bytes.len() + image.gap(bytes.len() as u64), 0);
            bytes.extend(archive(&["usr/lib/buoy"]));
            let image = read(&bytes).unwrap_or_else(|error| panic!("{packing:?}: {error}"));
            assert_eq!(image.parts, [Packing::None, packing, Packing::None]);
            assert!(image.has("lib/buoy") && image.has("lib/tide"), "{packing:?}");
            // Cut short anywhere: an error or less, never a panic.
            for end in (0..bytes.len()).step_by(7) {
                drop(read(&bytes[..end]));
            }
        }
    }

    #[test]
    fn links_in_a_circle_and_what_is_no_image() {
        let image = read(&archive(&["a->b", "b->a", "up->../../etc"])).unwrap();
        assert!(!image.has("a/x"));
        assert_eq!(image.real("up/x").as_deref(), Some("etc/x"));
        assert!(read(b"no image at all").is_err());
        assert!(read(b"BZh91AY").unwrap_err().contains("bzip2"));
    }

    /// 400,000 entries with long names in a few bytes: an error that says so, within the budget.
    #[test]
    fn many_long_names_are_too_much_before_they_are_taken() {
        let budget = Budget::new(Budget::MOST);
        let mut encoder = zstd::stream::write::Encoder::new(Vec::new(), 1).unwrap();
        for start in 0..400 {
            let mut writer = Writer::new(7);
            for number in 0..100 {
                writer.file(&format!("{}/{start}-{number}", "n".repeat(4000)), b"", 0o644);
            }
            encoder.write_all(&writer.finish()).unwrap();
        }
        let bytes = encoder.finish().unwrap();
        assert!(bytes.len() < 1 << 20);
        let error = super::read(&bytes[..], &budget).unwrap_err();
        assert!(error.contains("more than 128 MiB of memory"), "{error}");
        assert_eq!(budget.used(), 0, "all of it is given back");
    }
}
