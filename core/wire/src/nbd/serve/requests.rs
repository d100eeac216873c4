//! Requests and their replies ("Transmission").

use std::{
    io::{Read, Write},
    sync::{
        Mutex, PoisonError,
        mpsc::{Receiver, SyncSender, sync_channel},
    },
};

use reformis_disk::{Error, Extent, ExtentKind, scratch::Writable, to_usize};

use super::{
    socket::Halves,
    talk::{ALLOCATION_NUMBER, Chosen, LONGEST},
};
use crate::{
    fault::Fault,
    http::fault_of_io,
    nbd::proto::{
        ALLOCATION_ZERO, REQUEST, SIMPLE, STRUCTURED, chunk, command, errno, request_flag, take, u16_of, u32_of, u64_of,
    },
};

/// Threads that do what one client asks for.
const WORKERS: usize = 4;
/// Requests that wait for one of them.
const WAITING: usize = 8;
/// Bytes that are read from a disk, or taken from a client, at once.
const PIECE: usize = 256 << 10;
/// The most runs of a map in one reply.
const RUNS: usize = 2048;
/// The flag of a run that takes no room.
const ALLOCATION_HOLE: u32 = 1;

/// What a client asks for.
struct Request {
    flags: u16,
    kind: u16,
    cookie: u64,
    offset: u64,
    len: u32,
    /// Bytes to write, where they are few; more are written as they come.
    bytes: Vec<u8>,
}

/// A client's export, and the way back to the client.
struct Desk<'a> {
    chosen: &'a Chosen,
    writer: Mutex<Box<dyn Write + Send>>,
    trouble: &'a (dyn Fn(String) + Sync),
}

/// Does what a client asks for until it is gone.
pub(super) fn serve(chosen: &Chosen, halves: Halves, trouble: &(dyn Fn(String) + Sync)) -> Result<(), Fault> {
    let Halves { mut reader, writer } = halves;
    let desk = Desk { chosen, writer: Mutex::new(writer), trouble };
    let (hand, waiting) = sync_channel::<Request>(WAITING);
    let waiting = Mutex::new(waiting);
    std::thread::scope(|scope| {
        for _ in 0..WORKERS {
            let worker = std::thread::Builder::new().spawn_scoped(scope, || work(&desk, &waiting));
            worker.map_err(|error| Fault::again(format!("there is no thread for it: {error}")))?;
        }
        // With its end, the workers do what waits, and end.
        read_requests(&desk, &mut reader, hand)
    })
}

fn work(desk: &Desk<'_>, waiting: &Mutex<Receiver<Request>>) {
    let mut buf = Vec::new();
    loop {
        let next = waiting.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(request) = next else { return };
        // A client that takes no replies is gone; its requests are still done.
        if let Err(error) = desk.answer(&request, &mut buf) {
            tracing::debug!(%error, "a reply could not be sent");
        }
    }
}

fn read_requests(desk: &Desk<'_>, reader: &mut (impl Read + ?Sized), hand: SyncSender<Request>) -> Result<(), Fault> {
    let size = desk.chosen.export.disk.size();
    loop {
        let mut magic = [0; 4];
        let (first, rest) = magic.split_at_mut(1);
        // Between requests, a client may go without a word.
        if reader.read(first).map_err(|error| fault_of_io(&error))? == 0 {
            return Ok(());
        }
        reader.read_exact(rest).map_err(|error| fault_of_io(&error))?;
        if u32::from_be_bytes(magic) != REQUEST {
            return Err(Fault::protocol("a request does not begin like one"));
        }
        let (flags, kind) = (u16_of(reader)?, u16_of(reader)?);
        let (cookie, offset, len) = (u64::from_be_bytes(take(reader)?), u64_of(reader)?, u32_of(reader)?);
        let mut request = Request { flags, kind, cookie, offset, len, bytes: Vec::new() };
        match kind {
            command::DISCONNECT => return Ok(()),
            command::WRITE => {
                if len > LONGEST {
                    return Err(Fault::protocol("a write is longer than any may be"));
                }
                let error = desk.refusal(&request, size);
                if error != 0 || len as usize > PIECE {
                    write_as_it_comes(desk, reader, &request, error)?;
                    continue;
                }
                request.bytes.resize(len as usize, 0);
                reader.read_exact(&mut request.bytes).map_err(|error| fault_of_io(&error))?;
            }
            _ => {}
        }
        if hand.send(request).is_err() {
            return Ok(());
        }
    }
}

/// Takes the bytes of a write from the client piece by piece, and replies; with an `error` they go nowhere.
fn write_as_it_comes(
    desk: &Desk<'_>,
    reader: &mut (impl Read + ?Sized),
    request: &Request,
    mut error: u32,
) -> Result<(), Fault> {
    let mut buf = vec![0; PIECE];
    let mut at = request.offset;
    let mut left = request.len as usize;
    while left > 0 {
        let Some(piece) = buf.get_mut(..left.min(PIECE)) else { break };
        reader.read_exact(piece).map_err(|error| fault_of_io(&error))?;
        if error == 0 {
            error = desk.done(desk.write(at, piece));
        }
        at = at.saturating_add(piece.len() as u64);
        left -= piece.len();
    }
    if error == 0 {
        error = desk.through(request.flags);
    }
    desk.reply(request.cookie, error).map_err(|error| fault_of_io(&error))
}

/// The number of an error for the client ("Error values").
fn number_of(error: &Error) -> u32 {
    match error {
        Error::Io { source, .. } if source.kind() == std::io::ErrorKind::StorageFull => errno::NO_SPACE,
        Error::OutOfRange { .. } => errno::INVALID,
        _ => errno::IO,
    }
}

impl Desk<'_> {
    /// Why a request is not done at all; 0 where it is.
    fn refusal(&self, request: &Request, size: u64) -> u32 {
        let Request { kind, flags, offset, len, .. } = *request;
        let known = match kind {
            command::READ => request_flag::DF,
            command::WRITE | command::TRIM => request_flag::FUA,
            command::WRITE_ZEROES => request_flag::FUA | request_flag::NO_HOLE,
            command::BLOCK_STATUS => request_flag::REQ_ONE,
            command::FLUSH => 0,
            _ => return errno::INVALID,
        };
        let changes = matches!(kind, command::WRITE | command::TRIM | command::WRITE_ZEROES);
        if changes && self.chosen.export.writable.is_none() {
            return errno::NOT_ALLOWED;
        }
        if kind == command::FLUSH {
            return 0;
        }
        let is_inside = offset.checked_add(u64::from(len)).is_some_and(|end| end <= size);
        // A request for nothing means nothing ("Request message").
        if flags & !(known | request_flag::FUA) != 0 || len == 0 || !is_inside {
            return if is_inside || !changes { errno::INVALID } else { errno::NO_SPACE };
        }
        if kind == command::READ && len > LONGEST {
            return errno::OVERFLOW;
        }
        if kind == command::BLOCK_STATUS && !self.chosen.has_map {
            return errno::INVALID;
        }
        0
    }

    fn answer(&self, request: &Request, buf: &mut Vec<u8>) -> std::io::Result<()> {
        let export = &self.chosen.export;
        let error = self.refusal(request, export.disk.size());
        if error != 0 {
            // What is asked for in chunks is refused in one.
            return match request.kind {
                command::READ | command::BLOCK_STATUS => self.failed(request.cookie, error),
                _ => self.reply(request.cookie, error),
            };
        }
        let (offset, len) = (request.offset, u64::from(request.len));
        match request.kind {
            command::READ if self.chosen.is_structured => self.read_in_chunks(request, buf),
            command::READ => self.read_simply(request, buf),
            command::BLOCK_STATUS => self.map(request),
            command::FLUSH => self.reply(request.cookie, self.done(self.flush())),
            _ => {
                let outcome = match (request.kind, &export.writable) {
                    (command::WRITE, _) => self.write(offset, &request.bytes),
                    (_, Some(disk)) => disk.write_zeroes(offset, len).inspect(|()| export.tally.made_zero(len)),
                    (_, None) => Ok(()),
                };
                let error = match self.done(outcome) {
                    0 => self.through(request.flags),
                    error => error,
                };
                self.reply(request.cookie, error)
            }
        }
    }

    fn write(&self, at: u64, bytes: &[u8]) -> Result<(), Error> {
        let export = &self.chosen.export;
        let Some(disk) = &export.writable else { return Ok(()) };
        disk.write_at(at, bytes).inspect(|()| export.tally.wrote(bytes.len() as u64))
    }

    fn flush(&self) -> Result<(), Error> {
        self.chosen.export.writable.as_ref().map_or(Ok(()), |disk| Writable::flush(disk.as_ref()))
    }

    /// Flushes what was just written, where the client wants to know it safe.
    fn through(&self, flags: u16) -> u32 {
        if flags & request_flag::FUA == 0 { 0 } else { self.done(self.flush()) }
    }

    /// The number of what went wrong, which is told here too.
    fn done(&self, outcome: Result<(), Error>) -> u32 {
        outcome.map_or_else(
            |error| {
                (self.trouble)(reformis_disk::text::printable(&error.to_string()));
                number_of(&error)
            },
            |()| 0,
        )
    }

    fn send(&self, bytes: &[u8]) -> std::io::Result<()> {
        let mut writer = self.writer.lock().unwrap_or_else(PoisonError::into_inner);
        writer.write_all(bytes)
    }

    /// A reply without data, of what is no question.
    fn reply(&self, cookie: u64, error: u32) -> std::io::Result<()> {
        let mut bytes = SIMPLE.to_be_bytes().to_vec();
        bytes.extend(error.to_be_bytes());
        bytes.extend(cookie.to_be_bytes());
        self.send(&bytes)
    }

    /// A reply to a read, or to a question for a map, that failed.
    fn failed(&self, cookie: u64, error: u32) -> std::io::Result<()> {
        if !self.chosen.is_structured {
            return self.reply(cookie, error);
        }
        let mut bytes = head(chunk::DONE, chunk::ERROR | 1, cookie, 6).to_vec();
        bytes.extend(error.to_be_bytes());
        bytes.extend(0u16.to_be_bytes());
        self.send(&bytes)
    }

    /// All bytes in one reply; when they cannot be read to their end, the connection ends.
    fn read_simply(&self, request: &Request, buf: &mut Vec<u8>) -> std::io::Result<()> {
        let export = &self.chosen.export;
        let mut writer = None;
        let (mut at, mut left) = (request.offset, request.len as usize);
        while left > 0 {
            buf.resize(left.min(PIECE), 0);
            let error = self.done(export.disk.read_at(at, buf));
            match (error, writer.is_some()) {
                (0, _) => {}
                (error, false) => return self.reply(request.cookie, error),
                (_, true) => {
                    return Err(std::io::Error::other("the disk cannot be read to the end of a reply that has begun"));
                }
            }
            // Held to the end of the reply.
            let writer = writer.get_or_insert_with(|| self.writer.lock().unwrap_or_else(PoisonError::into_inner));
            if at == request.offset {
                let mut bytes = SIMPLE.to_be_bytes().to_vec();
                bytes.extend(0u32.to_be_bytes());
                bytes.extend(request.cookie.to_be_bytes());
                writer.write_all(&bytes)?;
            }
            writer.write_all(buf)?;
            export.tally.read_more(buf.len() as u64);
            at += buf.len() as u64;
            left -= buf.len();
        }
        Ok(())
    }

    /// Bytes and holes in chunks. A client that wants one chunk for all gets it, if it is not too long.
    fn read_in_chunks(&self, request: &Request, buf: &mut Vec<u8>) -> std::io::Result<()> {
        let export = &self.chosen.export;
        let is_whole = request.flags & request_flag::DF != 0;
        if is_whole && request.len as usize > PIECE {
            return self.failed(request.cookie, errno::OVERFLOW);
        }
        let end = request.offset + u64::from(request.len);
        let mut at = request.offset;
        while at < end {
            let extent = match export.disk.extent_at(at) {
                Ok(extent) if extent.len > 0 && !is_whole => extent.clipped(end),
                Ok(_) => Extent::data(at, end - at),
                Err(error) => return self.failed(request.cookie, self.done(Err(error))),
            };
            if extent.kind == ExtentKind::Zero {
                let len = u32::try_from(extent.len).unwrap_or(request.len);
                at += u64::from(len);
                let mut bytes = head(done(at == end), chunk::HOLE, request.cookie, 12).to_vec();
                bytes.extend(extent.start.to_be_bytes());
                bytes.extend(len.to_be_bytes());
                self.send(&bytes)?;
                continue;
            }
            let len = to_usize(extent.len.min(PIECE as u64));
            // The head and the bytes in one piece: the lock is held for one write.
            buf.resize(28 + len, 0);
            let Some((front, bytes)) = buf.split_first_chunk_mut::<28>() else { return Ok(()) };
            if let Err(error) = export.disk.read_at(at, bytes) {
                return self.failed(request.cookie, self.done(Err(error)));
            }
            let is_last = at + len as u64 == end;
            let (first, place) = front.split_at_mut(20);
            let data = u32::try_from(len + 8).unwrap_or(u32::MAX);
            first.copy_from_slice(&head(done(is_last), chunk::DATA, request.cookie, data));
            place.copy_from_slice(&at.to_be_bytes());
            self.send(buf)?;
            export.tally.read_more(len as u64);
            at += len as u64;
        }
        Ok(())
    }

    fn map(&self, request: &Request) -> std::io::Result<()> {
        let disk = &self.chosen.export.disk;
        let most = if request.flags & request_flag::REQ_ONE != 0 { 1 } else { RUNS };
        let end = request.offset + u64::from(request.len);
        let mut runs: Vec<Extent> = Vec::new();
        let mut at = request.offset;
        while at < end {
            let extent = match disk.extent_at(at) {
                Ok(extent) if extent.len > 0 => extent.clipped(end),
                Ok(_) => Extent::data(at, end - at),
                Err(error) => return self.failed(request.cookie, self.done(Err(error))),
            };
            at = extent.end();
            let is_full = runs.len() == most;
            match runs.last_mut() {
                Some(last) if last.kind == extent.kind => last.len += extent.len,
                _ if is_full => break,
                _ => runs.push(extent),
            }
        }
        let len = u32::try_from(4 + runs.len() * 8).unwrap_or(u32::MAX);
        let mut bytes = head(chunk::DONE, chunk::BLOCK_STATUS, request.cookie, len).to_vec();
        bytes.extend(ALLOCATION_NUMBER.to_be_bytes());
        for run in runs {
            // Inside a request, whose length is 32 bits.
            bytes.extend(u32::try_from(run.len).unwrap_or(u32::MAX).to_be_bytes());
            let flags = if run.kind == ExtentKind::Zero { ALLOCATION_HOLE | ALLOCATION_ZERO } else { 0 };
            bytes.extend(flags.to_be_bytes());
        }
        self.send(&bytes)
    }
}

fn done(is_last: bool) -> u16 {
    if is_last { chunk::DONE } else { 0 }
}

/// The head of a chunk whose data have `len` bytes.
fn head(flags: u16, kind: u16, cookie: u64, len: u32) -> [u8; 20] {
    let mut bytes = [0; 20];
    let parts: [&[u8]; 5] = [
        &STRUCTURED.to_be_bytes(),
        &flags.to_be_bytes(),
        &kind.to_be_bytes(),
        &cookie.to_be_bytes(),
        &len.to_be_bytes(),
    ];
    let all = parts.concat();
    for (byte, value) in bytes.iter_mut().zip(all) {
        *byte = value;
    }
    bytes
}
