//! The numbers of the protocol, and reading and writing them.

use std::io::{Read, Write};

use crate::{fault::Fault, http::fault_of_io};

/// Begins the greeting of a server, and its options ("Newstyle negotiation").
pub(crate) const GREETING: u64 = 0x4e42_444d_4147_4943;
pub(crate) const OPTION: u64 = 0x4948_4156_454f_5054;
/// Begins the reply to an option ("Fixed newstyle negotiation").
pub(crate) const OPTION_REPLY: u64 = 0x0003_e889_0455_65a9;
/// Begins a request, a simple reply, and a chunk of a structured one ("Transmission").
pub(crate) const REQUEST: u32 = 0x2560_9513;
pub(crate) const SIMPLE: u32 = 0x6744_6698;
pub(crate) const STRUCTURED: u32 = 0x668e_33ef;

/// Flags of the greeting, the same for both sides.
pub(crate) const FIXED_NEWSTYLE: u16 = 1;
pub(crate) const NO_ZEROES: u16 = 2;

/// Options.
pub(crate) mod option {
    pub(crate) const EXPORT_NAME: u32 = 1;
    pub(crate) const ABORT: u32 = 2;
    pub(crate) const LIST: u32 = 3;
    pub(crate) const STARTTLS: u32 = 5;
    pub(crate) const INFO: u32 = 6;
    pub(crate) const GO: u32 = 7;
    pub(crate) const STRUCTURED_REPLY: u32 = 8;
    pub(crate) const LIST_META_CONTEXT: u32 = 9;
    pub(crate) const SET_META_CONTEXT: u32 = 10;
}

/// Replies to options.
pub(crate) mod answer {
    pub(crate) const ACK: u32 = 1;
    pub(crate) const SERVER: u32 = 2;
    pub(crate) const INFO: u32 = 3;
    pub(crate) const META_CONTEXT: u32 = 4;
    /// Set in all errors.
    pub(crate) const ERROR: u32 = 1 << 31;
    pub(crate) const ERR_UNSUP: u32 = ERROR | 1;
    pub(crate) const ERR_POLICY: u32 = ERROR | 2;
    pub(crate) const ERR_INVALID: u32 = ERROR | 3;
    pub(crate) const ERR_TLS_REQD: u32 = ERROR | 5;
    pub(crate) const ERR_UNKNOWN: u32 = ERROR | 6;
}

/// What is told of an export.
pub(crate) mod info {
    pub(crate) const EXPORT: u16 = 0;
    pub(crate) const NAME: u16 = 1;
    pub(crate) const BLOCK_SIZE: u16 = 3;
}

/// What an export can do ("Transmission flags").
pub(crate) mod export_flag {
    pub(crate) const HAS_FLAGS: u16 = 1;
    pub(crate) const READ_ONLY: u16 = 1 << 1;
    pub(crate) const FLUSH: u16 = 1 << 2;
    pub(crate) const FUA: u16 = 1 << 3;
    pub(crate) const TRIM: u16 = 1 << 5;
    pub(crate) const WRITE_ZEROES: u16 = 1 << 6;
    pub(crate) const DF: u16 = 1 << 7;
    pub(crate) const MULTI_CONN: u16 = 1 << 8;
}

/// How a request is to be done ("Command flags").
pub(crate) mod request_flag {
    pub(crate) const FUA: u16 = 1;
    pub(crate) const NO_HOLE: u16 = 1 << 1;
    pub(crate) const DF: u16 = 1 << 2;
    pub(crate) const REQ_ONE: u16 = 1 << 3;
}

/// Error values.
pub(crate) mod errno {
    pub(crate) const NOT_ALLOWED: u32 = 1;
    pub(crate) const IO: u32 = 5;
    pub(crate) const INVALID: u32 = 22;
    pub(crate) const NO_SPACE: u32 = 28;
    pub(crate) const OVERFLOW: u32 = 75;
}

/// Commands.
pub(crate) mod command {
    pub(crate) const READ: u16 = 0;
    pub(crate) const WRITE: u16 = 1;
    pub(crate) const DISCONNECT: u16 = 2;
    pub(crate) const FLUSH: u16 = 3;
    pub(crate) const TRIM: u16 = 4;
    pub(crate) const WRITE_ZEROES: u16 = 6;
    pub(crate) const BLOCK_STATUS: u16 = 7;
}

/// Kinds of chunks.
pub(crate) mod chunk {
    pub(crate) const DONE: u16 = 1;
    pub(crate) const NONE: u16 = 0;
    pub(crate) const DATA: u16 = 1;
    pub(crate) const HOLE: u16 = 2;
    pub(crate) const BLOCK_STATUS: u16 = 5;
    pub(crate) const ERROR: u16 = 1 << 15;
}

/// The map that all servers with holes know, and the flag of a run that reads as zero.
pub(crate) const ALLOCATION: &str = "base:allocation";
pub(crate) const ALLOCATION_ZERO: u32 = 2;
/// The beginning of the name of a map of what was written, and the flag of such a run.
pub(crate) const BITMAP: &str = "qemu:dirty-bitmap:";
pub(crate) const BITMAP_DIRTY: u32 = 1;

/// Both directions of a connection.
pub(crate) trait Duplex: Read + Write + Send {}

impl<T: Read + Write + Send> Duplex for T {}

/// Reads `N` bytes.
pub(crate) fn take<const N: usize>(stream: &mut (impl Read + ?Sized)) -> Result<[u8; N], Fault> {
    let mut bytes = [0; N];
    stream.read_exact(&mut bytes).map_err(|error| fault_of_io(&error))?;
    Ok(bytes)
}

/// Reads a number.
pub(crate) fn u16_of(stream: &mut (impl Read + ?Sized)) -> Result<u16, Fault> {
    take(stream).map(u16::from_be_bytes)
}

/// Reads a number.
pub(crate) fn u32_of(stream: &mut (impl Read + ?Sized)) -> Result<u32, Fault> {
    take(stream).map(u32::from_be_bytes)
}

/// Reads a number.
pub(crate) fn u64_of(stream: &mut (impl Read + ?Sized)) -> Result<u64, Fault> {
    take(stream).map(u64::from_be_bytes)
}

/// Reads `len` bytes, of which there may be at most `most`.
pub(crate) fn bytes_of(stream: &mut (impl Read + ?Sized), len: u32, most: u32, what: &str) -> Result<Vec<u8>, Fault> {
    if len > most {
        return Err(Fault::protocol(format!("{what} of {len} bytes is longer than any")));
    }
    let mut bytes = vec![0; len as usize];
    stream.read_exact(&mut bytes).map_err(|error| fault_of_io(&error))?;
    Ok(bytes)
}

/// Writes `bytes`.
pub(crate) fn put(stream: &mut (impl Write + ?Sized), bytes: &[u8]) -> Result<(), Fault> {
    stream.write_all(bytes).and_then(|()| stream.flush()).map_err(|error| fault_of_io(&error))
}
