//! Writing bare bytes compressed as a whole, on all cores: each block becomes a member of its own (RFC 1952, section 2.2)
//! or a frame of its own (RFC 8878, section 3), and those that follow one another unpack to the bytes that follow one
//! another.

use crate::to_usize;
use std::{cell::RefCell, sync::Arc};

use libdeflater::{CompressionLvl, Compressor};

use crate::{
    container::packed::Wrapping,
    copy::{
        output::Output,
        writer::{Encoder, Spot, Writer},
    },
    digest::BLOCK,
    error::{Error, Result},
};

/// Packed zeros that are written in one go.
const MANY: u64 = 256;

struct PackedWriter {
    output: Arc<Output>,
    encode: fn(&[u8]) -> Vec<u8>,
    /// A block of zeros, packed.
    zeros: Vec<u8>,
    /// How far the disk is written.
    next: u64,
    /// First byte of the file that is not given out.
    end: u64,
}

/// Makes a writer of raw bytes inside `kind`.
///
/// # Errors
/// [`Error::Unwritable`] for kinds that are only read.
pub(super) fn create(output: Output, kind: Wrapping) -> Result<Box<dyn Writer>> {
    let encode = match kind {
        Wrapping::Gzip => gzip,
        Wrapping::Zstd => zstd,
        Wrapping::Xz | Wrapping::Bzip2 => {
            let what = format!("{} is only read; gzip and zstd are written", kind.name());
            return Err(Error::Unwritable { path: output.name().into(), what });
        }
    };
    let zeros = encode(&vec![0; to_usize(BLOCK)]);
    Ok(Box::new(PackedWriter { output: Arc::new(output), encode, zeros, next: 0, end: 0 }))
}

/// A compressor at its lowest level that compresses: a link is rarely faster than it, and better ones cost more time than
/// they save.
pub(crate) fn fast_compressor() -> Compressor {
    Compressor::new(CompressionLvl::new(1).unwrap_or_default())
}

/// Bytes of a sample of [`is_packed`].
const SAMPLE: usize = 2048;

/// Whether two samples of `unit` hardly get smaller: what is compressed or encrypted already takes longest to find that out
/// of, and is half of many disks.
pub(crate) fn is_packed(compressor: &mut Compressor, unit: &[u8]) -> bool {
    let mut room = [0; SAMPLE - SAMPLE / 16];
    let mut stays = |from: usize| match unit.get(from..from + SAMPLE) {
        Some(sample) => compressor.deflate_compress(sample, &mut room).is_err(),
        None => false,
    };
    stays(0) && stays(unit.len() / 2)
}

/// A compressor that stores what it is given.
pub(crate) fn storing_compressor() -> Compressor {
    Compressor::new(CompressionLvl::new(0).unwrap_or_default())
}

thread_local! {
    static GZIP: RefCell<Compressor> = RefCell::new(fast_compressor());
    static ZSTD: RefCell<Option<zstd::bulk::Compressor<'static>>> = const { RefCell::new(None) };
}

fn gzip(block: &[u8]) -> Vec<u8> {
    GZIP.with_borrow_mut(|compressor| {
        let mut packed = vec![0; compressor.gzip_compress_bound(block.len())];
        // The room is what the compressor asked for, so there is no error to report.
        let len = compressor.gzip_compress(block, &mut packed).unwrap_or(0);
        packed.truncate(len);
        packed
    })
}

/// `bytes` as one frame of zstd, at its fastest usual level.
pub(crate) fn zstd(bytes: &[u8]) -> Vec<u8> {
    ZSTD.with_borrow_mut(|compressor| {
        if compressor.is_none() {
            *compressor = zstd::bulk::Compressor::new(1).ok();
        }
        // A level that exists and room that is taken as needed: there is no error to report.
        compressor.as_mut().and_then(|compressor| compressor.compress(bytes).ok()).unwrap_or_default()
    })
}

impl PackedWriter {
    /// Writes zeros up to guest offset `offset`.
    fn fill(&mut self, offset: u64) -> Result<()> {
        while self.next < offset {
            let blocks = ((offset - self.next) / BLOCK).min(MANY);
            let (len, packed) = match blocks {
                0 => (offset - self.next, (self.encode)(&vec![0; to_usize(offset - self.next)])),
                _ => (blocks * BLOCK, self.zeros.repeat(blocks as usize)),
            };
            self.output.write(&packed, self.end)?;
            self.next += len;
            self.end += packed.len() as u64;
        }
        Ok(())
    }
}

impl Writer for PackedWriter {
    fn unit(&self) -> u64 {
        BLOCK
    }

    fn encoder(&self) -> Option<Encoder> {
        let encode = self.encode;
        Some(Arc::new(move |_, block| Some(encode(block))))
    }

    fn place(&mut self, offset: u64, len: u64) -> Result<Spot> {
        self.place_encoded(offset, len, len)
    }

    fn place_encoded(&mut self, offset: u64, plain: u64, len: u64) -> Result<Spot> {
        self.fill(offset)?;
        let spot = Spot::new(&self.output, self.end);
        self.next = offset + plain;
        self.end += len;
        Ok(spot)
    }

    fn finish(&mut self, size: u64) -> Result<()> {
        self.fill(size)?;
        self.output.set_len(self.end)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_packed_is_told_by_samples() {
        let mut compressor = fast_compressor();
        let text: Vec<u8> = b"tide gauge 17 reports 2.31 m\n".iter().copied().cycle().take(65536).collect();
        let noise: Vec<u8> = (0u32..2048).flat_map(|at| *blake3::hash(&at.to_le_bytes()).as_bytes()).collect();
        assert!(!is_packed(&mut compressor, &text) && !is_packed(&mut compressor, &noise[..SAMPLE]));
        assert!(is_packed(&mut compressor, &noise));
        let mixed = [&noise[..32768], &text[..32768]].concat();
        assert!(!is_packed(&mut compressor, &mixed));
    }
}
