//! Reparse points: links, junctions, and files that are kept in another form (\[MS-FSCC\] 2.1.2).

use super::{
    fields::{u16, u32, units},
    names::bytes_of,
};

/// Tags.
pub(super) mod tag {
    pub(in super::super) const JUNCTION: u32 = 0xa000_0003;
    pub(in super::super) const SYMLINK: u32 = 0xa000_000c;
    /// A link that the subsystem for Linux made.
    pub(in super::super) const LINUX_LINK: u32 = 0xa000_001d;
    /// A file whose bytes are compressed in another stream.
    pub(in super::super) const WOF: u32 = 0x8000_0017;
    /// A file whose bytes are kept once for many.
    pub(in super::super) const DEDUPLICATED: u32 = 0x8000_0013;
}

/// What a reparse point says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Reparse {
    /// It leads to this path, with `/` between names, from its folder or from the root; `C:` and `Volume{...}` are names in it.
    Link(Vec<u8>),
    /// The stream `WofCompressedData` holds its bytes, packed in this way.
    Packed(u32),
    /// What is known of it is this tag.
    Other(u32),
}

/// Reads the value of a reparse point; `None` when it is cut short.
pub(super) fn read(value: &[u8]) -> Option<Reparse> {
    let tag = u32(value, 0)?;
    let len = usize::from(u16(value, 4)?);
    let data = value.get(8..8 + len)?;
    Some(match tag {
        tag::JUNCTION | tag::SYMLINK => {
            let (at, len) = (usize::from(u16(data, 0)?), usize::from(u16(data, 2)?));
            let head = if tag == tag::SYMLINK { 12 } else { 8 };
            let is_relative = tag == tag::SYMLINK && u32(data, 8)? & 1 != 0;
            let target = units(data.get(head + at..head + at + len)?);
            Reparse::Link(path(&bytes_of(&target), is_relative))
        }
        tag::LINUX_LINK => Reparse::Link(data.get(4..)?.to_vec()),
        // Version 1 of the filter, its provider of files, version 1 of that.
        tag::WOF if u32(data, 0)? == 1 && u32(data, 4)? == 2 && u32(data, 8)? == 1 => Reparse::Packed(u32(data, 12)?),
        other => Reparse::Other(other),
    })
}

/// A target as a path here.
fn path(target: &[u8], is_relative: bool) -> Vec<u8> {
    let absolute = [&b"\\??\\"[..], b"\\\\?\\"].into_iter().find_map(|start| target.strip_prefix(start));
    let path: Vec<u8> =
        absolute.unwrap_or(target).iter().map(|byte| if *byte == b'\\' { b'/' } else { *byte }).collect();
    if is_relative { path } else { [&b"/"[..], path.strip_prefix(b"/").unwrap_or(&path)].concat() }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn link(tag: u32, target: &str, flags: Option<u32>) -> Vec<u8> {
        let target: Vec<u8> = target.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let len = target.len() as u16;
        let mut data: Vec<u8> = [0, len, len, 0].iter().flat_map(|word: &u16| word.to_le_bytes()).collect();
        data.extend(flags.into_iter().flat_map(u32::to_le_bytes));
        data.extend(target);
        [&tag.to_le_bytes()[..], &(data.len() as u16).to_le_bytes(), &[0, 0], &data].concat()
    }

    #[test]
    fn targets_become_paths() {
        let to = |tag, target, flags| match read(&link(tag, target, flags)) {
            Some(Reparse::Link(path)) => String::from_utf8(path).unwrap(),
            other => panic!("{other:?}"),
        };
        assert_eq!(to(tag::JUNCTION, r"\??\C:\Users\Harbour", None), "/C:/Users/Harbour");
        assert_eq!(to(tag::SYMLINK, r"..\Logs\tide.txt", Some(1)), "../Logs/tide.txt");
        assert_eq!(to(tag::SYMLINK, r"\Logs", Some(1)), "/Logs");
        assert_eq!(to(tag::SYMLINK, r"\??\D:\Data", Some(0)), "/D:/Data");
        assert_eq!(to(tag::JUNCTION, r"\??\Volume{1a2b}\", None), "/Volume{1a2b}/");
    }

    #[test]
    fn what_is_cut_short_is_nothing() {
        let whole = link(tag::JUNCTION, r"\??\C:\Users", None);
        assert!((0..whole.len()).all(|len| read(&whole[..len]).is_none()));
        assert_eq!(read(&[0x13, 0, 0, 0x80, 0, 0, 0, 0]), Some(Reparse::Other(tag::DEDUPLICATED)));
    }
}
