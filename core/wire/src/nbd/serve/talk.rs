//! The beginning of a conversation, from the server's side: which export, and what is told of it ("Newstyle negotiation").

use super::Export;
use crate::{
    fault::Fault,
    nbd::proto::{
        ALLOCATION, Duplex, FIXED_NEWSTYLE, GREETING, NO_ZEROES, OPTION, OPTION_REPLY, answer, bytes_of, export_flag,
        info, option, put, u32_of, u64_of,
    },
};

/// The longest option, in bytes: names have at most 4096.
const MOST: u32 = 64 << 10;
/// The most options of one client.
const MANY: usize = 1000;
/// The number of the map of holes.
pub(super) const ALLOCATION_NUMBER: u32 = 1;
/// The most bytes of one read or write, which all clients keep to that do not ask.
pub(super) const LONGEST: u32 = 32 << 20;

/// What a client chose.
pub(super) struct Chosen {
    pub(super) export: Export,
    /// Whether replies come in chunks.
    pub(super) is_structured: bool,
    /// Whether it may ask for the map of holes.
    pub(super) has_map: bool,
}

/// What comes after an option.
pub(super) enum Next {
    Chosen(Chosen),
    /// The same conversation over TLS.
    StartTls,
    Ended,
}

/// A conversation.
pub(super) struct Talk<'a> {
    exports: &'a [Export],
    /// Whether nothing but TLS is talked of as yet.
    needs_tls: bool,
    /// Whether there is TLS.
    has_tls: bool,
    no_zeroes: bool,
    is_structured: bool,
    /// The export whose map was asked for.
    map_of: Option<String>,
}

/// Takes a name with its length before it off `data`.
fn name_of<'d>(data: &mut &'d [u8]) -> Option<&'d str> {
    let (len, rest) = data.split_first_chunk()?;
    let (name, rest) = rest.split_at_checked(u32::from_be_bytes(*len) as usize)?;
    *data = rest;
    std::str::from_utf8(name).ok()
}

/// Takes a number off `data`.
fn count_of(data: &mut &[u8]) -> Option<u32> {
    let (count, rest) = data.split_first_chunk()?;
    *data = rest;
    Some(u32::from_be_bytes(*count))
}

/// What is told of an export when it is chosen: bytes and flags.
fn facts(export: &Export) -> Vec<u8> {
    let mut flags = export_flag::HAS_FLAGS | export_flag::MULTI_CONN | export_flag::DF;
    flags |= match export.writable {
        Some(_) => export_flag::FLUSH | export_flag::FUA | export_flag::TRIM | export_flag::WRITE_ZEROES,
        None => export_flag::READ_ONLY,
    };
    let mut bytes = export.disk.size().to_be_bytes().to_vec();
    bytes.extend(flags.to_be_bytes());
    bytes
}

impl<'a> Talk<'a> {
    pub(super) fn new(exports: &'a [Export], has_tls: bool) -> Self {
        Self { exports, needs_tls: has_tls, has_tls, no_zeroes: false, is_structured: false, map_of: None }
    }

    /// Greets the client.
    pub(super) fn greet(&mut self, stream: &mut (impl Duplex + ?Sized)) -> Result<(), Fault> {
        let mut bytes = GREETING.to_be_bytes().to_vec();
        bytes.extend(OPTION.to_be_bytes());
        bytes.extend((FIXED_NEWSTYLE | NO_ZEROES).to_be_bytes());
        put(stream, &bytes)?;
        let flags = u32_of(stream)?;
        if flags & u32::from(FIXED_NEWSTYLE) == 0 || flags & !u32::from(FIXED_NEWSTYLE | NO_ZEROES) != 0 {
            return Err(Fault::protocol("it asks for a form of the protocol that is not spoken here"));
        }
        self.no_zeroes = flags & u32::from(NO_ZEROES) != 0;
        Ok(())
    }

    /// Answers options until something else comes.
    pub(super) fn options(&mut self, stream: &mut (impl Duplex + ?Sized)) -> Result<Next, Fault> {
        for _ in 0..MANY {
            if u64_of(stream)? != OPTION {
                return Err(Fault::protocol("an option does not begin like one"));
            }
            let (option, len) = (u32_of(stream)?, u32_of(stream)?);
            let data = bytes_of(stream, len, MOST, "an option")?;
            let refuse = |stream: &mut _, kind: u32, words: &str| reply(stream, option, kind, words.as_bytes());
            match option {
                option::ABORT => {
                    reply(stream, option, answer::ACK, &[]).ok();
                    return Ok(Next::Ended);
                }
                option::STARTTLS if self.needs_tls && data.is_empty() => {
                    reply(stream, option, answer::ACK, &[])?;
                    self.needs_tls = false;
                    return Ok(Next::StartTls);
                }
                option::STARTTLS if self.has_tls => refuse(stream, answer::ERR_INVALID, "TLS is on already")?,
                option::STARTTLS => refuse(stream, answer::ERR_POLICY, "there is no TLS here")?,
                // The one option that cannot be answered.
                option::EXPORT_NAME if self.needs_tls => return Err(Fault::protocol("it does not ask for TLS")),
                _ if self.needs_tls => refuse(stream, answer::ERR_TLS_REQD, "TLS comes first")?,
                option::EXPORT_NAME => return self.by_name(stream, &data).map(Next::Chosen),
                option::LIST if data.is_empty() => self.list(stream)?,
                option::STRUCTURED_REPLY if data.is_empty() => {
                    self.is_structured = true;
                    reply(stream, option, answer::ACK, &[])?;
                }
                option::INFO | option::GO => {
                    if let Some(chosen) = self.go(stream, option, &data)? {
                        return Ok(Next::Chosen(chosen));
                    }
                }
                option::LIST_META_CONTEXT | option::SET_META_CONTEXT => self.maps(stream, option, &data)?,
                option::LIST | option::STRUCTURED_REPLY => {
                    refuse(stream, answer::ERR_INVALID, "it has data that it does not need")?;
                }
                _ => refuse(stream, answer::ERR_UNSUP, "")?,
            }
        }
        Err(Fault::protocol("its options have no end"))
    }

    fn find(&self, name: &str) -> Option<&Export> {
        match self.exports {
            // An export without a name is the only one.
            [only] if name.is_empty() => Some(only),
            all => all.iter().find(|export| export.name == name),
        }
    }

    fn chosen(&self, export: &Export) -> Chosen {
        let has_map = self.is_structured && self.map_of.as_deref() == Some(&export.name);
        Chosen { export: export.clone(), is_structured: self.is_structured, has_map }
    }

    /// The old way to choose: there is no answer but what follows.
    fn by_name(&self, stream: &mut (impl Duplex + ?Sized), data: &[u8]) -> Result<Chosen, Fault> {
        let found = std::str::from_utf8(data).ok().and_then(|name| self.find(name));
        let export = found.ok_or_else(|| Fault::protocol("it asks for an export that is not there"))?;
        let mut bytes = facts(export);
        if !self.no_zeroes {
            bytes.extend([0; 124]);
        }
        put(stream, &bytes)?;
        Ok(self.chosen(export))
    }

    fn list(&self, stream: &mut (impl Duplex + ?Sized)) -> Result<(), Fault> {
        for export in self.exports {
            reply(stream, option::LIST, answer::SERVER, &with_len(&export.name))?;
        }
        reply(stream, option::LIST, answer::ACK, &[])
    }

    fn go(&self, stream: &mut (impl Duplex + ?Sized), option: u32, data: &[u8]) -> Result<Option<Chosen>, Fault> {
        let mut rest = data;
        let Some(name) = name_of(&mut rest) else {
            return reply(stream, option, answer::ERR_INVALID, b"a name ends early").map(|()| None);
        };
        let Some(export) = self.find(name) else {
            return reply(stream, option, answer::ERR_UNKNOWN, b"there is no export of this name").map(|()| None);
        };
        let mut about = info::EXPORT.to_be_bytes().to_vec();
        about.extend(facts(export));
        reply(stream, option, answer::INFO, &about)?;
        // The name, since a client may have come without one; any place may be read and written, blocks of 4 KiB best.
        let mut about = info::NAME.to_be_bytes().to_vec();
        about.extend(export.name.as_bytes());
        reply(stream, option, answer::INFO, &about)?;
        let mut about = info::BLOCK_SIZE.to_be_bytes().to_vec();
        for size in [1, 4096, LONGEST] {
            about.extend(size.to_be_bytes());
        }
        reply(stream, option, answer::INFO, &about)?;
        reply(stream, option, answer::ACK, &[])?;
        Ok((option == option::GO).then(|| self.chosen(export)))
    }

    fn maps(&mut self, stream: &mut (impl Duplex + ?Sized), option: u32, data: &[u8]) -> Result<(), Fault> {
        let mut rest = data;
        let asked = (|| {
            let name = name_of(&mut rest)?;
            let queries: Option<Vec<&str>> = (0..count_of(&mut rest)?).map(|_| name_of(&mut rest)).collect();
            queries.filter(|_| rest.is_empty()).map(|queries| (name, queries))
        })();
        let Some((name, queries)) = asked.filter(|_| self.is_structured) else {
            return reply(stream, option, answer::ERR_INVALID, b"maps come in structured replies");
        };
        let Some(export) = self.find(name) else {
            return reply(stream, option, answer::ERR_UNKNOWN, b"there is no export of this name");
        };
        let is_list = option == option::LIST_META_CONTEXT;
        let wants = |query: &&str| *query == ALLOCATION || is_list && *query == "base:";
        let is_wanted = queries.iter().any(wants) || is_list && queries.is_empty();
        let map_of = is_wanted.then(|| export.name.clone());
        if is_wanted {
            let number = if is_list { 0 } else { ALLOCATION_NUMBER };
            let mut bytes = u32::to_be_bytes(number).to_vec();
            bytes.extend(ALLOCATION.as_bytes());
            reply(stream, option, answer::META_CONTEXT, &bytes)?;
        }
        if !is_list {
            self.map_of = map_of;
        }
        reply(stream, option, answer::ACK, &[])
    }
}

fn with_len(name: &str) -> Vec<u8> {
    let mut bytes = u32::try_from(name.len()).unwrap_or(u32::MAX).to_be_bytes().to_vec();
    bytes.extend(name.as_bytes());
    bytes
}

fn reply(stream: &mut (impl Duplex + ?Sized), option: u32, kind: u32, data: &[u8]) -> Result<(), Fault> {
    let mut bytes = OPTION_REPLY.to_be_bytes().to_vec();
    bytes.extend(option.to_be_bytes());
    bytes.extend(kind.to_be_bytes());
    bytes.extend(u32::try_from(data.len()).unwrap_or(u32::MAX).to_be_bytes());
    bytes.extend(data);
    put(stream, &bytes)
}
