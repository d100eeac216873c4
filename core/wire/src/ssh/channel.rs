//! One conversation in SFTP: requests go out, many at a time, and replies come back in any order.

use std::{
    collections::HashMap,
    io::{BufReader, Read, Write},
    process::{Child, ChildStdin, ChildStdout},
    time::{Duration, Instant},
};

use reformis_disk::error::WireKind;

use super::{
    packet::{Attributes, MOST, Reader, Reply, Request, kind, status},
    session::Session,
};
use crate::{
    fault::Fault,
    http::{Listing, fault_of_io},
};

/// Bytes that are read by one request where the server does not say how many it gives: all servers give these.
const USUAL_READ: u32 = 32 << 10;
/// The most that are asked for by one request.
const MOST_READ: u32 = 256 << 10;
/// Requests that are under way at the same time.
const AT_ONCE: usize = 24;

/// A conversation with a server.
pub(super) struct Channel {
    input: BufReader<Box<dyn Read + Send>>,
    output: Box<dyn Write + Send>,
    child: Option<Child>,
    number: u32,
    /// Bytes that one read gives.
    read: u32,
    /// How long the last question took that is quickly answered.
    round_trip: Duration,
    /// Open files by their paths.
    handles: HashMap<String, Vec<u8>>,
}

impl Channel {
    /// Begins one over `session`.
    ///
    /// # Errors
    /// What `ssh` says; [`WireKind::Refused`] where the machine has no SFTP.
    pub(super) fn begin(session: &Session) -> Result<Self, Fault> {
        let mut child = session.start(&["-s"], &["sftp"])?;
        let (input, output): (Option<ChildStdout>, Option<ChildStdin>) = (child.stdout.take(), child.stdin.take());
        let (Some(input), Some(output)) = (input, output) else { return Err(Fault::again("ssh could not be started")) };
        match Self::over(input, output) {
            Ok(mut channel) => {
                channel.child = Some(child);
                session.sftp_began();
                Ok(channel)
            }
            Err(fault) => Err(match session.end_of(child, fault) {
                // The word that there is none goes to the process that holds the connection.
                Fault::Again { .. } if session.lacks_sftp() => Fault::Fatal(WireKind::Refused, "it has no SFTP".into()),
                fault => fault,
            }),
        }
    }

    /// Begins one over these two.
    pub(super) fn over(input: impl Read + Send + 'static, output: impl Write + Send + 'static) -> Result<Self, Fault> {
        let mut channel = Self {
            input: BufReader::with_capacity(32 << 10, Box::new(input)),
            output: Box::new(output),
            child: None,
            number: 0,
            read: USUAL_READ,
            round_trip: Duration::ZERO,
            handles: HashMap::new(),
        };
        // The version stands where others have their number.
        channel.send(Request::new(kind::INIT, 3))?;
        let (_, reply) = channel.receive()?;
        let Reply::Version(version, extensions) = reply else {
            return Err(Fault::protocol("the SFTP server does not begin with its version"));
        };
        if version < 3 {
            return Err(Fault::Fatal(WireKind::Refused, format!("it speaks SFTP version {version}, and 3 is needed")));
        }
        if extensions.iter().any(|(name, _)| name == "limits@openssh.com") {
            channel.ask_limits()?;
        }
        Ok(channel)
    }

    fn send(&mut self, request: Request) -> Result<(), Fault> {
        self.output.write_all(&request.finish()).and_then(|()| self.output.flush()).map_err(|error| fault_of_io(&error))
    }

    fn receive(&mut self) -> Result<(u32, Reply), Fault> {
        let len = self.length()?;
        Reader(&self.rest(Vec::new(), len)?).reply()
    }

    /// The length of the next packet.
    fn length(&mut self) -> Result<usize, Fault> {
        let mut len = [0; 4];
        self.input.read_exact(&mut len).map_err(|error| fault_of_io(&error))?;
        match u32::from_be_bytes(len) {
            len if len <= MOST => Ok(len as usize),
            len => Err(Fault::protocol(format!("an SFTP reply of {len} bytes is longer than any"))),
        }
    }

    /// The packet of `len` bytes that begins with `bytes`.
    fn rest(&mut self, mut bytes: Vec<u8>, len: usize) -> Result<Vec<u8>, Fault> {
        let start = bytes.len();
        bytes.resize(len, 0);
        self.input.read_exact(bytes.get_mut(start..).unwrap_or_default()).map_err(|error| fault_of_io(&error))?;
        Ok(bytes)
    }

    /// The next packet; of one with data, the data is still to be read.
    fn head(&mut self) -> Result<Head, Fault> {
        const DATA_HEAD: usize = 9;
        let len = self.length()?;
        let start = self.rest(Vec::new(), len.min(DATA_HEAD))?;
        match start[..] {
            [kind::DATA, a, b, c, d, e, f, g, h] => {
                let (number, given) = (u32::from_be_bytes([a, b, c, d]), u32::from_be_bytes([e, f, g, h]));
                match given as usize == len - DATA_HEAD {
                    true => Ok(Head::Data { number, len: given }),
                    false => Err(Fault::protocol("an SFTP reply with data has another length than its data")),
                }
            }
            _ => Ok(Head::Other(self.rest(start, len)?)),
        }
    }

    fn next(&mut self) -> u32 {
        self.number = self.number.wrapping_add(1);
        self.number
    }

    /// One request and its reply; a status other than success is a fault.
    fn ask(&mut self, kind: u8, fields: impl FnOnce(Request) -> Request) -> Result<Reply, Fault> {
        let number = self.next();
        self.send(fields(Request::new(kind, number)))?;
        match self.receive()? {
            (answered, _) if answered != number => Err(Fault::protocol("an SFTP reply answers no request")),
            (_, Reply::Status(code, words)) if code != status::OK => Err(fault_of_status(code, &words)),
            (_, reply) => Ok(reply),
        }
    }

    /// How much the server gives at once (OpenSSH's PROTOCOL, section 4.8).
    fn ask_limits(&mut self) -> Result<(), Fault> {
        let reply = self.ask(kind::EXTENDED, |request| request.bytes(b"limits@openssh.com"));
        if let Ok(Reply::Extended(bytes)) = reply {
            let mut reader = Reader(&bytes);
            let (_, read) = (reader.u64()?, reader.u64()?);
            // Nothing is no limit.
            self.read = match u32::try_from(read) {
                Ok(0) | Err(_) => MOST_READ,
                Ok(read) => read.clamp(512, MOST_READ),
            };
        }
        Ok(())
    }

    /// How long the last question for a file took.
    pub(super) fn round_trip(&self) -> Duration {
        self.round_trip
    }

    /// What is known of `path`, links followed.
    pub(super) fn stat(&mut self, path: &str) -> Result<Attributes, Fault> {
        let start = Instant::now();
        let reply = self.ask(kind::STAT, |request| request.bytes(path.as_bytes()));
        self.round_trip = start.elapsed();
        match reply? {
            Reply::Attributes(attributes) => Ok(attributes),
            _ => Err(unexpected()),
        }
    }

    /// Where `path` really lies.
    pub(super) fn real_path(&mut self, path: &str) -> Result<String, Fault> {
        match self.ask(kind::REALPATH, |request| request.bytes(path.as_bytes()))? {
            Reply::Names(names) => names.into_iter().next().map(|(name, _)| name).ok_or_else(unexpected),
            _ => Err(unexpected()),
        }
    }

    /// Opens `path` for reading; the same handle again while the conversation lasts.
    pub(super) fn open(&mut self, path: &str) -> Result<Vec<u8>, Fault> {
        const READ: u32 = 1;
        if let Some(handle) = self.handles.get(path) {
            return Ok(handle.clone());
        }
        match self.ask(kind::OPEN, |request| request.bytes(path.as_bytes()).u32(READ).u32(0))? {
            Reply::Handle(handle) => {
                self.handles.insert(path.into(), handle.clone());
                Ok(handle)
            }
            _ => Err(unexpected()),
        }
    }

    /// Forgets the open file at `path`, so that it is opened anew.
    pub(super) fn close(&mut self, path: &str) {
        if let Some(handle) = self.handles.remove(path) {
            self.ask(kind::CLOSE, |request| request.bytes(&handle)).ok();
        }
    }

    /// Fills `buf` from `at` of the open file.
    pub(super) fn read(&mut self, handle: &[u8], at: u64, buf: &mut [u8]) -> Result<(), Fault> {
        let end = at + buf.len() as u64;
        // What was asked for, by the number of the request, and what has to be asked for still.
        let mut asked: HashMap<u32, (u64, u32)> = HashMap::new();
        let mut short: Vec<(u64, u32)> = Vec::new();
        let mut next = at;
        loop {
            while asked.len() < AT_ONCE {
                let (from, len) = match short.pop() {
                    Some(rest) => rest,
                    None if next < end => {
                        let len = u32::try_from(end - next).unwrap_or(u32::MAX).min(self.read);
                        next += u64::from(len);
                        (next - u64::from(len), len)
                    }
                    None => break,
                };
                let number = self.next();
                self.send(Request::new(kind::READ, number).bytes(handle).u64(from).u32(len))?;
                asked.insert(number, (from, len));
            }
            if asked.is_empty() {
                return Ok(());
            }
            let (from, given, len) = match self.head()? {
                Head::Data { number, len: given } => {
                    let (from, len) = asked.remove(&number).ok_or_else(no_request)?;
                    (from, given, len)
                }
                Head::Other(bytes) => {
                    let (number, reply) = Reader(&bytes).reply()?;
                    asked.remove(&number).ok_or_else(no_request)?;
                    return Err(match reply {
                        Reply::Status(status::EOF, _) => Fault::Changed("it ends before its length".into()),
                        Reply::Status(code, words) => fault_of_status(code, &words),
                        _ => unexpected(),
                    });
                }
            };
            let start = usize::try_from(from - at).unwrap_or(usize::MAX);
            let place = buf.get_mut(start..).and_then(|rest| rest.get_mut(..given as usize));
            match place {
                // Straight to where it is wanted: nearly all that ever comes are these bytes.
                Some(place) if given <= len && given > 0 => {
                    self.input.read_exact(place).map_err(|error| fault_of_io(&error))?;
                }
                _ => return Err(Fault::protocol("an SFTP reply holds more than was asked for, or nothing")),
            }
            // A reply that is short is not the end.
            if given < len {
                short.push((from + u64::from(given), len - given));
            }
        }
    }

    /// Whether a byte is at `at` of the open file.
    pub(super) fn has(&mut self, handle: &[u8], at: u64) -> Result<bool, Fault> {
        match self.ask(kind::READ, |request| request.bytes(handle).u64(at).u32(1)) {
            Ok(Reply::Data(data)) => Ok(!data.is_empty()),
            Ok(_) => Err(unexpected()),
            Err(Fault::Fatal(WireKind::Absent, _)) => Ok(false),
            // Some servers fail behind the end.
            Err(Fault::Fatal(WireKind::Refused, _)) if at > 0 => Ok(false),
            Err(fault) => Err(fault),
        }
    }

    /// What is in the folder at `path`, sorted: at most `many` names.
    pub(super) fn list(&mut self, path: &str, many: usize) -> Result<Listing, Fault> {
        let Reply::Handle(handle) = self.ask(kind::OPENDIR, |request| request.bytes(path.as_bytes()))? else {
            return Err(unexpected());
        };
        let mut found = Listing::default();
        // A folder without an end is listed as far as that.
        for _ in 0..many {
            let names = match self.ask(kind::READDIR, |request| request.bytes(&handle)) {
                Ok(Reply::Names(names)) => names,
                Ok(_) => return Err(unexpected()),
                Err(Fault::Fatal(WireKind::Absent, _)) => break,
                Err(fault) => return Err(fault),
            };
            let plain = |name: &str| !matches!(name, "" | "." | "..") && !name.contains(['/', '\0']);
            for (name, attributes) in names.into_iter().filter(|(name, _)| plain(name)) {
                if attributes.is_file() {
                    found.files.push(name);
                } else if attributes.is_folder() {
                    found.folders.push(name);
                }
            }
            if found.files.len() + found.folders.len() >= many {
                break;
            }
        }
        self.ask(kind::CLOSE, |request| request.bytes(&handle)).ok();
        found.files.sort();
        found.folders.sort();
        Ok(found)
    }
}

/// The beginning of a packet.
enum Head {
    /// So many bytes of data follow.
    Data { number: u32, len: u32 },
    /// The whole packet.
    Other(Vec<u8>),
}

fn no_request() -> Fault {
    Fault::protocol("an SFTP reply answers no request")
}

fn unexpected() -> Fault {
    Fault::protocol("an SFTP reply is of another kind than the request asks for")
}

/// What a status means; the end of a file is like nothing there.
fn fault_of_status(code: u32, words: &str) -> Fault {
    let words = if words.is_empty() { format!("status {code}") } else { words.to_string() };
    match code {
        status::EOF | status::NO_SUCH_FILE => Fault::Fatal(WireKind::Absent, "there is nothing of this name".into()),
        status::PERMISSION_DENIED => Fault::Fatal(WireKind::Denied, "its permissions do not let us read it".into()),
        _ => Fault::Fatal(WireKind::Refused, format!("the machine refuses: {words}")),
    }
}

impl Drop for Channel {
    fn drop(&mut self) {
        if let Some(mut child) = self.child.take() {
            child.kill().ok();
            child.wait().ok();
        }
    }
}
