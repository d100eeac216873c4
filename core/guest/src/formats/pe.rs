//! Programs and drivers (PE files): for which processor they are, whether they carry a certificate, and whether their checksum is
//! right. Layout by the "PE Format" specification, sections 2.1 to 2.4 and 3.4.

/// Processors by their numbers (section 3.3.1), and as driver files call them.
const MACHINES: [(u16, &str); 4] = [(0x014c, "x86"), (0x8664, "amd64"), (0xaa64, "arm64"), (0x01c4, "arm")];

/// What is told of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Image {
    /// The processor that it is for, as drivers call it; none for one that is not known.
    pub(crate) machine: Option<&'static str>,
    /// Whether a table of certificates lies in it. Who signed it is not looked at.
    pub(crate) has_certificate: bool,
    /// Whether the checksum in its head is that of its bytes, which the loader of a system asks of its drivers.
    pub(crate) checksum_holds: bool,
}

fn word(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(*bytes.get(at..)?.first_chunk()?))
}

fn long(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(*bytes.get(at..)?.first_chunk()?))
}

/// The checksum of a file whose own is at `skip`: words added up with their carry, and the length.
fn checksum(bytes: &[u8], skip: usize) -> u32 {
    let words = bytes.chunks(2).enumerate().map(|(index, pair)| match 2 * index {
        at if at == skip || at == skip + 2 => 0,
        _ => u32::from(u16::from_le_bytes([pair.first().copied().unwrap_or(0), pair.get(1).copied().unwrap_or(0)])),
    });
    let sum = words.fold(0_u32, |sum, word| {
        let sum = sum + word;
        (sum & 0xffff) + (sum >> 16)
    });
    let len = u32::try_from(bytes.len()).unwrap_or(u32::MAX);
    ((sum & 0xffff) + (sum >> 16)).wrapping_add(len)
}

/// What the file in `bytes` is; `None` when it is no such file.
pub(crate) fn read(bytes: &[u8]) -> Option<Image> {
    if !bytes.starts_with(b"MZ") {
        return None;
    }
    let head = long(bytes, 0x3c)? as usize;
    if bytes.get(head..)?.get(..4)? != b"PE\0\0" {
        return None;
    }
    let (machine, optional) = (word(bytes, head + 4)?, head + 24);
    // Directories of data lie behind fields whose number depends on the kind.
    let directories = match word(bytes, optional)? {
        0x10b => optional + 96,
        0x20b => optional + 112,
        _ => return None,
    };
    let count = long(bytes, directories - 4)?;
    // The fifth: the one place in which a file's own offset stands, and not one in memory.
    let (at, len) = if count > 4 { (long(bytes, directories + 32)?, long(bytes, directories + 36)?) } else { (0, 0) };
    let end = u64::from(at) + u64::from(len);
    Some(Image {
        machine: MACHINES.iter().find(|(number, _)| *number == machine).map(|(_, name)| *name),
        has_certificate: at > 0 && len >= 8 && end <= bytes.len() as u64,
        checksum_holds: long(bytes, optional + 64)? == checksum(bytes, optional + 64),
    })
}

/// A part of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Section {
    /// Its name, such as `.text`.
    pub(crate) name: String,
    /// Its first byte in the file.
    pub(crate) at: u64,
    /// Bytes.
    pub(crate) len: u64,
}

/// The parts of the file that begins with `head` (section 4, "Section Table"); none when it is no such file.
pub(crate) fn sections(head: &[u8]) -> Vec<Section> {
    let read = || {
        let at = long(head, 0x3c).filter(|_| head.starts_with(b"MZ"))? as usize;
        if head.get(at..)?.get(..4)? != b"PE\0\0" {
            return None;
        }
        let (count, optional) = (word(head, at + 6)?, word(head, at + 20)?);
        let table = head.get(at + 24 + usize::from(optional)..)?;
        let entries = table.as_chunks::<40>().0.iter().take(count.into());
        let section = |entry: &[u8; 40]| {
            let name = entry.get(..8)?.split(|byte| *byte == 0).next()?;
            let (used, stored) = (long(entry, 8)?, long(entry, 16)?);
            let name = String::from_utf8_lossy(name).into_owned();
            Some(Section { name, at: long(entry, 20)?.into(), len: used.min(stored).into() })
        };
        Some(entries.filter_map(section).collect())
    };
    read().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn processor_certificate_and_checksum_are_told() {
        let bytes = reformis_standin::driver::program(0x8664, true);
        let image = Image { machine: Some("amd64"), has_certificate: true, checksum_holds: true };
        assert_eq!(read(&bytes), Some(image));
        let unsigned = read(&reformis_standin::driver::program(0x014c, false)).unwrap();
        assert_eq!((unsigned.machine, unsigned.has_certificate, unsigned.checksum_holds), (Some("x86"), false, true));
        let mut broken = bytes.clone();
        broken[0x200] ^= 1;
        assert_eq!(read(&broken), Some(Image { checksum_holds: false, ..image }));
        assert_eq!(read(b"#!/bin/sh"), None);
        // Cut short anywhere it is no such file, or one whose certificate is gone.
        for len in 0..bytes.len() {
            let cut = read(&bytes[..len]);
            assert!(cut.is_none_or(|image| !image.has_certificate && !image.checksum_holds), "{len}");
        }
    }
}
