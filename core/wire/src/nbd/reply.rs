//! Replies to requests: simple ones, and structured ones in chunks that may come in any order.

use std::{collections::HashMap, ops::Range};

use reformis_disk::error::WireKind;

use super::proto::{Duplex, SIMPLE, STRUCTURED, bytes_of, chunk, u16_of, u32_of, u64_of};
use crate::{fault::Fault, http::fault_of_io};

/// The most bytes of a chunk that holds no data of the disk.
const MOST: u32 = 8 << 20;

/// A request for bytes that is under way.
pub(super) struct Asked {
    /// Where they go in the buffer.
    place: Range<usize>,
    /// Where they lie in the export.
    offset: u64,
    /// Parts of the buffer that came, in their order.
    came: Vec<Range<usize>>,
}

impl Asked {
    pub(super) fn new(place: Range<usize>, offset: u64) -> Self {
        Self { place, offset, came: Vec::new() }
    }

    /// Notes that `len` bytes at `offset` come; where they go. They lie inside, and nothing comes twice.
    fn note(&mut self, offset: u64, len: u64) -> Result<Range<usize>, Fault> {
        let wrong = || Fault::protocol("a reply holds bytes that were not asked for, or the same twice");
        let start = offset.checked_sub(self.offset).and_then(|start| usize::try_from(start).ok()).ok_or_else(wrong)?;
        let start = self.place.start.checked_add(start).ok_or_else(wrong)?;
        let end = usize::try_from(len).ok().and_then(|len| start.checked_add(len)).ok_or_else(wrong)?;
        let next = self.came.partition_point(|came| came.start < start);
        let before = next.checked_sub(1).and_then(|index| self.came.get(index));
        let overlaps =
            before.is_some_and(|came| came.end > start) || self.came.get(next).is_some_and(|came| came.start < end);
        if len == 0 || end > self.place.end || overlaps {
            return Err(wrong());
        }
        self.came.insert(next, start..end);
        Ok(start..end)
    }

    fn is_whole(&self) -> bool {
        self.came.iter().map(|came| came.end - came.start).sum::<usize>() == self.place.end - self.place.start
    }
}

/// What the error number of a reply means ("Error values").
fn fault_of_error(error: u32, words: &[u8]) -> Fault {
    let words = String::from_utf8_lossy(words);
    let words = if words.is_empty() { String::new() } else { format!(": {words}") };
    match error {
        1 => Fault::Fatal(WireKind::Denied, format!("it does not let us read{words}")),
        5 => Fault::again(format!("it cannot read there{words}")),
        12 | 28 => Fault::again(format!("it is short of memory{words}")),
        108 => Fault::again(format!("it is about to end{words}")),
        error => Fault::Fatal(WireKind::Refused, format!("it refuses to read (error {error}){words}")),
    }
}

/// What began to come.
enum Head {
    Simple { error: u32, cookie: u64 },
    Chunk { flags: u16, kind: u16, cookie: u64, len: u32 },
}

fn head(stream: &mut (impl Duplex + ?Sized), is_structured: bool) -> Result<Head, Fault> {
    match u32_of(stream)? {
        SIMPLE => Ok(Head::Simple { error: u32_of(stream)?, cookie: u64_of(stream)? }),
        STRUCTURED if is_structured => Ok(Head::Chunk {
            flags: u16_of(stream)?,
            kind: u16_of(stream)?,
            cookie: u64_of(stream)?,
            len: u32_of(stream)?,
        }),
        _ => Err(Fault::protocol("a reply does not begin like one")),
    }
}

/// The words of an error chunk: its number and its text.
fn error_chunk(stream: &mut (impl Duplex + ?Sized), len: u32) -> Result<Fault, Fault> {
    let bytes = bytes_of(stream, len, 64 << 10, "an error")?;
    let (error, rest) = bytes.split_first_chunk().ok_or_else(|| Fault::protocol("an error ends early"))?;
    let (words, rest) = rest.split_first_chunk().ok_or_else(|| Fault::protocol("an error ends early"))?;
    let words = rest.get(..usize::from(u16::from_be_bytes(*words))).unwrap_or_default();
    Ok(fault_of_error(u32::from_be_bytes(*error), words))
}

/// Receives what comes next, into its place in `buf`; a request that has ended is taken out of `asked`.
pub(super) fn receive(
    stream: &mut (impl Duplex + ?Sized),
    is_structured: bool,
    asked: &mut HashMap<u64, Asked>,
    buf: &mut [u8],
) -> Result<(), Fault> {
    let never = || Fault::protocol("a reply answers a request that was never made");
    let outside = || Fault::protocol("a reply holds bytes that were not asked for, or the same twice");
    match head(stream, is_structured)? {
        Head::Simple { error: 0, cookie } => {
            // Structured replies are the only ones to reads once they were agreed on ("Structured reply message").
            let mut request = asked.remove(&cookie).filter(|_| !is_structured).ok_or_else(never)?;
            let place = request.note(request.offset, (request.place.end - request.place.start) as u64)?;
            stream.read_exact(buf.get_mut(place).ok_or_else(outside)?).map_err(|error| fault_of_io(&error))
        }
        Head::Simple { error, cookie } => match asked.remove(&cookie) {
            Some(_) => Err(fault_of_error(error, &[])),
            None => Err(never()),
        },
        Head::Chunk { flags, kind, cookie, len } => {
            let request = asked.get_mut(&cookie).ok_or_else(never)?;
            match kind {
                chunk::NONE if len == 0 => {}
                chunk::DATA if len > 8 => {
                    let offset = u64_of(stream)?;
                    let place = request.note(offset, u64::from(len - 8))?;
                    stream.read_exact(buf.get_mut(place).ok_or_else(outside)?).map_err(|error| fault_of_io(&error))?;
                }
                chunk::HOLE if len == 12 => {
                    let (offset, hole) = (u64_of(stream)?, u32_of(stream)?);
                    let place = request.note(offset, u64::from(hole))?;
                    buf.get_mut(place).ok_or_else(outside)?.fill(0);
                }
                kind if kind & chunk::ERROR != 0 => return Err(error_chunk(stream, len)?),
                _ => return Err(Fault::protocol("a reply to a read is of another kind")),
            }
            if flags & chunk::DONE != 0 {
                match asked.remove(&cookie) {
                    Some(request) if request.is_whole() => {}
                    _ => return Err(Fault::protocol("a reply has ended, and bytes are missing")),
                }
            }
            Ok(())
        }
    }
}

/// Receives the runs of map `number` that answer request `cookie`: lengths and flags.
pub(super) fn receive_map(
    stream: &mut (impl Duplex + ?Sized),
    cookie: u64,
    number: u32,
) -> Result<Vec<(u32, u32)>, Fault> {
    let mut runs = Vec::new();
    loop {
        let Head::Chunk { flags, kind, cookie: answered, len } = head(stream, true)? else {
            return Err(Fault::protocol("a map comes in a simple reply"));
        };
        if answered != cookie {
            return Err(Fault::protocol("a reply answers a request that was never made"));
        }
        match kind {
            chunk::NONE if len == 0 => {}
            chunk::BLOCK_STATUS if len >= 12 && len % 8 == 4 => {
                let bytes = bytes_of(stream, len, MOST, "a map")?;
                let (found, rest) = bytes.split_first_chunk().unwrap_or((&[0; 4], &[]));
                if u32::from_be_bytes(*found) == number && runs.is_empty() {
                    let (pairs, _) = rest.as_chunks::<8>();
                    runs.extend(pairs.iter().map(|[a, b, c, d, e, f, g, h]| {
                        (u32::from_be_bytes([*a, *b, *c, *d]), u32::from_be_bytes([*e, *f, *g, *h]))
                    }));
                }
            }
            kind if kind & chunk::ERROR != 0 => return Err(error_chunk(stream, len)?),
            _ => return Err(Fault::protocol("a reply to a question for a map is of another kind")),
        }
        if flags & chunk::DONE != 0 {
            return Ok(runs);
        }
    }
}
