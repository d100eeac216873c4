//! The packets of SFTP version 3 (draft-ietf-secsh-filexfer-02, sections 3 to 7).

use crate::fault::Fault;

/// Kinds of requests (section 3).
pub(super) mod kind {
    pub(in super::super) const INIT: u8 = 1;
    pub(in super::super) const OPEN: u8 = 3;
    pub(in super::super) const CLOSE: u8 = 4;
    pub(in super::super) const READ: u8 = 5;
    pub(in super::super) const OPENDIR: u8 = 11;
    pub(in super::super) const READDIR: u8 = 12;
    pub(in super::super) const REALPATH: u8 = 16;
    pub(in super::super) const STAT: u8 = 17;
    pub(in super::super) const EXTENDED: u8 = 200;
    pub(super) const VERSION: u8 = 2;
    pub(super) const STATUS: u8 = 101;
    pub(super) const HANDLE: u8 = 102;
    pub(in super::super) const DATA: u8 = 103;
    pub(super) const NAME: u8 = 104;
    pub(super) const ATTRS: u8 = 105;
    pub(super) const EXTENDED_REPLY: u8 = 201;
}

/// Codes of a status (section 7).
pub(super) mod status {
    pub(in super::super) const OK: u32 = 0;
    pub(in super::super) const EOF: u32 = 1;
    pub(in super::super) const NO_SUCH_FILE: u32 = 2;
    pub(in super::super) const PERMISSION_DENIED: u32 = 3;
}

/// The longest packet that is read: more than any reply to what is asked.
pub(super) const MOST: u32 = 512 << 10;
/// The most names of one reply that are looked at.
const MANY_NAMES: u32 = 8192;

/// What is known of a file (section 5).
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Attributes {
    /// Bytes.
    pub size: Option<u64>,
    /// Kind and permissions, as in `st_mode`.
    pub mode: Option<u32>,
    /// Seconds since 1970 of its last change.
    pub modified: Option<u32>,
}

impl Attributes {
    const KIND: u32 = 0o170_000;

    fn is_kind(self, kind: u32) -> bool {
        self.mode.is_some_and(|mode| mode & Self::KIND == kind)
    }

    /// Whether it is a folder.
    pub fn is_folder(self) -> bool {
        self.is_kind(0o040_000)
    }

    /// Whether it is a plain file; where nothing is said of its kind, what has a size is one.
    pub fn is_file(self) -> bool {
        self.is_kind(0o100_000) || self.mode.is_none_or(|mode| mode & Self::KIND == 0) && self.size.is_some()
    }

    /// Whether it is a block device.
    pub fn is_block_device(self) -> bool {
        self.is_kind(0o060_000)
    }
}

/// What a server answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reply {
    /// Its version, and the names and values of what it offers beyond it.
    Version(u32, Vec<(String, String)>),
    /// How a request ended: code and words.
    Status(u32, String),
    /// What an open file is called.
    Handle(Vec<u8>),
    /// Bytes of a file.
    Data(Vec<u8>),
    /// Names of files, with what is known of them.
    Names(Vec<(String, Attributes)>),
    /// What is known of a file.
    Attributes(Attributes),
    /// What an extension answers.
    Extended(Vec<u8>),
}

/// Reads the fields of a packet, one after the other.
pub struct Reader<'a>(pub &'a [u8]);

impl<'a> Reader<'a> {
    fn take(&mut self, len: usize) -> Result<&'a [u8], Fault> {
        let (head, rest) = self.0.split_at_checked(len).ok_or_else(|| Fault::protocol("an SFTP reply ends early"))?;
        self.0 = rest;
        Ok(head)
    }

    fn byte(&mut self) -> Result<u8, Fault> {
        Ok(self.take(1)?.first().copied().unwrap_or(0))
    }

    pub(super) fn u32(&mut self) -> Result<u32, Fault> {
        Ok(self.take(4)?.iter().fold(0, |sum, byte| sum << 8 | u32::from(*byte)))
    }

    pub(super) fn u64(&mut self) -> Result<u64, Fault> {
        Ok(self.take(8)?.iter().fold(0, |sum, byte| sum << 8 | u64::from(*byte)))
    }

    fn bytes(&mut self) -> Result<&'a [u8], Fault> {
        let len = self.u32()?;
        self.take(len as usize)
    }

    fn text(&mut self) -> Result<String, Fault> {
        Ok(String::from_utf8_lossy(self.bytes()?).into_owned())
    }

    fn attributes(&mut self) -> Result<Attributes, Fault> {
        const SIZE: u32 = 1;
        const OWNER: u32 = 2;
        const PERMISSIONS: u32 = 4;
        const TIMES: u32 = 8;
        const EXTENDED: u32 = 0x8000_0000;
        let flags = self.u32()?;
        let mut attributes = Attributes::default();
        if flags & SIZE != 0 {
            attributes.size = Some(self.u64()?);
        }
        if flags & OWNER != 0 {
            self.u64()?;
        }
        if flags & PERMISSIONS != 0 {
            attributes.mode = Some(self.u32()?);
        }
        if flags & TIMES != 0 {
            self.u32()?;
            attributes.modified = Some(self.u32()?);
        }
        if flags & EXTENDED != 0 {
            let count = self.u32()?;
            for _ in 0..count {
                self.bytes()?;
                self.bytes()?;
            }
        }
        Ok(attributes)
    }

    /// The reply in a packet, and the number of the request that it answers; a version answers none.
    ///
    /// # Errors
    /// [`Fault::Fatal`] for a packet that ends early or is of no known kind.
    pub fn reply(mut self) -> Result<(u32, Reply), Fault> {
        let kind = self.byte()?;
        let number = self.u32()?;
        let reply = match kind {
            kind::VERSION => {
                let mut extensions = Vec::new();
                while !self.0.is_empty() {
                    extensions.push((self.text()?, self.text()?));
                }
                return Ok((0, Reply::Version(number, extensions)));
            }
            kind::STATUS => {
                let code = self.u32()?;
                // Servers before version 3 say no more.
                let words = if self.0.is_empty() { String::new() } else { self.text()? };
                Reply::Status(code, words)
            }
            kind::HANDLE => Reply::Handle(self.bytes()?.to_vec()),
            kind::DATA => Reply::Data(self.bytes()?.to_vec()),
            kind::NAME => {
                let count = self.u32()?;
                if count > MANY_NAMES {
                    return Err(Fault::protocol(
                        "an SFTP reply holds more names than any folder is listed with at once",
                    ));
                }
                let mut names = Vec::new();
                for _ in 0..count {
                    let name = self.text()?;
                    // For people.
                    self.bytes()?;
                    names.push((name, self.attributes()?));
                }
                Reply::Names(names)
            }
            kind::ATTRS => Reply::Attributes(self.attributes()?),
            kind::EXTENDED_REPLY => Reply::Extended(self.0.to_vec()),
            other => return Err(Fault::protocol(format!("an SFTP reply is of the kind {other}, which there is not"))),
        };
        Ok((number, reply))
    }
}

/// A request: its kind, its number, and its fields.
pub(super) struct Request(Vec<u8>);

impl Request {
    /// The beginning of a request.
    pub(super) fn new(kind: u8, number: u32) -> Self {
        let mut bytes = vec![0, 0, 0, 0, kind];
        bytes.extend(number.to_be_bytes());
        Self(bytes)
    }

    pub(super) fn u32(mut self, value: u32) -> Self {
        self.0.extend(value.to_be_bytes());
        self
    }

    pub(super) fn u64(mut self, value: u64) -> Self {
        self.0.extend(value.to_be_bytes());
        self
    }

    pub(super) fn bytes(self, bytes: &[u8]) -> Self {
        // Paths and handles are short: their packets were bounded.
        let len = u32::try_from(bytes.len()).unwrap_or(u32::MAX);
        let mut request = self.u32(len);
        request.0.extend(bytes);
        request
    }

    /// The whole packet, with its length in front.
    pub(super) fn finish(mut self) -> Vec<u8> {
        let len = u32::try_from(self.0.len() - 4).unwrap_or(u32::MAX);
        if let Some(place) = self.0.get_mut(..4) {
            place.copy_from_slice(&len.to_be_bytes());
        }
        self.0
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn replies_are_read_and_what_ends_early_is_refused() {
        let packet = |kind: u8, fields: &[u8]| {
            let mut bytes = vec![kind, 0, 0, 0, 7];
            bytes.extend(fields);
            bytes
        };
        let names = packet(
            104,
            b"\0\0\0\x01\0\0\0\x01a\0\0\0\x02ll\0\0\0\x0d\0\0\0\0\0\0\0\x05\0\0\x81\xa4\0\0\0\x01\0\0\0\x02",
        );
        let attributes = Attributes { size: Some(5), mode: Some(0o100_644), modified: Some(2) };
        assert_eq!(Reader(&names).reply().unwrap(), (7, Reply::Names(vec![("a".into(), attributes)])));
        assert!(attributes.is_file() && !attributes.is_folder() && !attributes.is_block_device());
        (0..names.len()).for_each(|cut| assert!(Reader(&names[..cut]).reply().is_err(), "{cut}"));
        assert_eq!(Reader(&packet(101, b"\0\0\0\x01")).reply().unwrap().1, Reply::Status(1, String::new()));
        assert!(Reader(&packet(104, b"\xff\xff\xff\xff")).reply().is_err());
        assert!(Reader(&packet(105, b"\x80\0\0\0\xff\xff\xff\xff")).reply().is_err());
        assert!(Reader(&packet(99, b"")).reply().is_err());
        let extended = Reader(&[2, 0, 0, 0, 3, 0, 0, 0, 1, b'a', 0, 0, 0, 1, b'1']).reply().unwrap();
        assert_eq!(extended, (0, Reply::Version(3, vec![("a".into(), "1".into())])));
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = Reader(&bytes).reply();
            let _ = super::super::converse(&bytes);
        }
    }
}
