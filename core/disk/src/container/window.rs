//! How much memory the unpacker of a stream needs: what it looks back at, as the stream's first bytes say.

/// The largest window of zstd that is unpacked, and the least that is allowed for: a stream may be many frames, of which the
/// first need not be the largest.
const ZSTD: (u64, u64) = (8 << 20, 64 << 20);
/// The same for xz: up to what `xz -9` makes.
const XZ: (u64, u64) = (8 << 20, 64 << 20);
/// Tables and buffers of an unpacker beside its window.
pub(super) const BESIDE: u64 = 1 << 20;

/// Bytes that unpacking what begins with `head` as zstd takes; the most that is allowed where the head does not say.
pub(super) fn zstd(head: &[u8]) -> u64 {
    // Its decoder takes the most as a power of two, and a single segment may be of any length below.
    of_zstd(head).unwrap_or(ZSTD.1).clamp(ZSTD.0, ZSTD.1).next_power_of_two() + BESIDE
}

/// The same for xz.
pub(super) fn xz(head: &[u8]) -> u64 {
    of_xz(head).unwrap_or(XZ.1).clamp(XZ.0, XZ.1) + BESIDE
}

/// The window of the first frame (RFC 8878, section 3.1.1.1).
fn of_zstd(head: &[u8]) -> Option<u64> {
    let descriptor = *head.get(4)?;
    if descriptor & 0x20 == 0 {
        let byte = *head.get(5)?;
        let base = 1u64.checked_shl(10 + u32::from(byte >> 3))?;
        return Some(base + base / 8 * u64::from(byte & 7));
    }
    // A single segment is its own window; its length comes behind the number of the dictionary.
    let at = 5 + [0, 1, 2, 4].get(usize::from(descriptor & 3))?;
    let len = [1, 2, 4, 8].get(usize::from(descriptor >> 6))?;
    let bytes = head.get(at..at + len)?;
    let number = bytes.iter().rev().try_fold(0u64, |sum, &byte| Some(sum.checked_mul(256)? + u64::from(byte)))?;
    Some(if *len == 2 { number + 256 } else { number })
}

/// The dictionary of the first block (The .xz File Format 1.2.1, sections 3.1 and 5.3.1).
fn of_xz(head: &[u8]) -> Option<u64> {
    const LZMA2: u64 = 0x21;
    // The stream's own header has 12 bytes.
    let flags = *head.get(13)?;
    let mut at = 14;
    let sizes = u32::from(flags & 0x40 != 0) + u32::from(flags & 0x80 != 0);
    for _ in 0..sizes {
        number(head, &mut at)?;
    }
    for _ in 0..=flags & 3 {
        let (filter, len) = (number(head, &mut at)?, number(head, &mut at)?);
        let properties = head.get(at..at.checked_add(usize::try_from(len).ok()?)?)?;
        at += properties.len();
        if filter == LZMA2 {
            let bits = u32::from(*properties.first()? & 0x3f);
            return match bits {
                40 => Some(u64::from(u32::MAX)),
                0..40 => Some(u64::from(2 | bits & 1) << (bits / 2 + 11)),
                _ => None,
            };
        }
    }
    None
}

/// A number of 7 bits a byte (section 1.2), at `at`, which moves behind it.
fn number(head: &[u8], at: &mut usize) -> Option<u64> {
    let mut sum = 0;
    for shift in (0..63).step_by(7) {
        let byte = *head.get(*at)?;
        *at += 1;
        sum |= u64::from(byte & 0x7f) << shift;
        if byte & 0x80 == 0 {
            return Some(sum);
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use std::io::{Read, Write};

    use super::*;
    use crate::{budget::Budget, container::packed::Wrapping, error::Error};

    fn xz_of(dictionary: u32) -> Vec<u8> {
        use liblzma::stream::{Check, Filters, LzmaOptions, Stream};
        let mut options = LzmaOptions::new_preset(0).unwrap();
        options.dict_size(dictionary);
        let mut filters = Filters::new();
        filters.x86();
        filters.lzma2(&options);
        let stream = Stream::new_stream_encoder(&filters, Check::Crc64).unwrap();
        let mut encoder = liblzma::write::XzEncoder::new_stream(Vec::new(), stream);
        encoder.write_all(&[7; 40_000]).unwrap();
        encoder.finish().unwrap()
    }

    fn zstd_of(log: u32, pledged: Option<u64>) -> Vec<u8> {
        let mut encoder = zstd::stream::write::Encoder::new(Vec::new(), 3).unwrap();
        encoder.window_log(log).unwrap();
        encoder.set_pledged_src_size(pledged).unwrap();
        encoder.include_contentsize(pledged.is_some()).unwrap();
        encoder.write_all(&[7; 40_000]).unwrap();
        encoder.finish().unwrap()
    }

    #[test]
    fn the_head_says_how_much_its_writer_wanted() {
        for bits in [16, 20, 23, 26] {
            assert_eq!(of_xz(&xz_of(1 << bits)), Some(1 << bits));
            assert_eq!(of_xz(&xz_of(3 << (bits - 1))), Some(3 << (bits - 1)));
            assert_eq!(of_zstd(&zstd_of(bits, None)), Some(1 << bits));
        }
        assert_eq!(of_zstd(&zstd_of(23, Some(40_000))), Some(40_000), "a single segment");
        // Several threads write the sizes into the head of each block: of 40,000 bytes of 7, by
        // `xz -T2 --block-size=10000 --x86 --lzma2=preset=0,dict=1536KiB`.
        let sized = b"\xfd\x37\x7a\x58\x5a\x00\x00\x04\xe6\xd6\xb4\x46\x03\xc1\x33\x90\x4e\x04\x00\x21\x01\x11\x00\x00\x70\xc0\x9c\xb4\xe0\x27\x0f\x00\x2b";
        assert_eq!(of_xz(sized), Some(1536 << 10));
    }

    #[test]
    fn what_fits_is_unpacked_and_counted_and_what_does_not_is_refused() {
        let streams = [
            (Wrapping::Xz, xz_of(32 << 20)),
            (Wrapping::Zstd, zstd_of(25, None)),
            // The second stream needs more than the first one says.
            (Wrapping::Xz, [xz_of(1 << 20), xz_of(8 << 20)].concat()),
            (Wrapping::Zstd, [zstd_of(20, None), zstd_of(23, None)].concat()),
        ];
        for (kind, bytes) in streams {
            let budget = Budget::whole();
            let mut unpacked = Vec::new();
            let mut stream = kind.unpack(&bytes[..], "x", &budget).unwrap();
            assert_eq!(budget.used(), kind.memory(&bytes));
            stream.read_to_end(&mut unpacked).unwrap();
            assert!(unpacked.len().is_multiple_of(40_000) && unpacked.iter().all(|byte| *byte == 7));
            drop(stream);
            assert_eq!(budget.used(), 0);
            let refused = kind.unpack(&bytes[..], "x", &Budget::new(8 << 20)).map(drop);
            assert!(matches!(refused, Err(Error::Memory { .. })));
        }
        // A single segment between two powers of two.
        let mut encoder = zstd::stream::write::Encoder::new(Vec::new(), 3).unwrap();
        encoder.window_log(24).unwrap();
        encoder.set_pledged_src_size(Some(12 << 20)).unwrap();
        encoder.write_all(&vec![7; 12 << 20]).unwrap();
        let single = encoder.finish().unwrap();
        assert_eq!(of_zstd(&single), Some(12 << 20));
        let mut stream = Wrapping::Zstd.unpack(&single[..], "x", &Budget::whole()).unwrap();
        assert_eq!(std::io::copy(&mut stream, &mut std::io::sink()).unwrap(), 12 << 20);
        let liar = [xz_of(1 << 20), xz_of(48 << 20)].concat();
        let mut stream = Wrapping::Xz.unpack(&liar[..], "x", &Budget::whole()).unwrap();
        assert!(stream.read_to_end(&mut Vec::new()).is_err());
        let liar = [zstd_of(20, None), zstd_of(26, None)].concat();
        let mut stream = Wrapping::Zstd.unpack(&liar[..], "x", &Budget::whole()).unwrap();
        assert!(stream.read_to_end(&mut Vec::new()).is_err());
    }
}
