//! A connection to an export: many reads under way at the same time, replies in any order.

use std::{
    collections::HashMap,
    io::{self, BufReader, Read, Write},
    net::{TcpStream, ToSocketAddrs},
    os::unix::net::UnixStream,
    sync::Arc,
    time::Duration,
};

use reformis_disk::{disk::Extent, error::WireKind};
use rustls::{ClientConfig, ClientConnection, StreamOwned, pki_types::ServerName};

use super::{
    handshake::{self, Facts},
    proto::{ALLOCATION_ZERO, BITMAP_DIRTY, Duplex, REQUEST, command, put},
    reply::{Asked, receive, receive_map},
};
use crate::{
    fault::Fault,
    http::fault_of_io,
    link::{Link, Scheme},
};

/// How long connecting may take, and the next bytes.
const CONNECT: Duration = Duration::from_secs(15);
const PATIENCE: Duration = Duration::from_secs(60);
/// Bytes of one request.
const PIECE: u32 = 1 << 20;
/// Bytes that are read from a socket at once.
const BUFFER: usize = 128 << 10;
/// Requests that are under way at the same time.
const AT_ONCE: usize = 16;
/// Bytes whose map is asked for at once: what fits into a request.
const MAPPED: u64 = 1 << 30;

/// How an export is reached.
#[derive(Clone)]
pub(crate) struct Dial {
    pub(crate) link: Link,
    /// `HOST:PORT` that is connected to in place of the link's.
    pub(crate) connect_to: Option<String>,
    /// For TLS.
    pub(crate) tls: Option<Arc<ClientConfig>>,
}

impl Dial {
    /// A connection after its greeting, over TLS where the link says so.
    fn connect(&self) -> Result<(Box<dyn Duplex>, u16), Fault> {
        if self.link.scheme == Scheme::NbdUnix {
            let path = self.link.socket.as_deref().unwrap_or_default();
            let mut stream = UnixStream::connect(path).map_err(|error| fault_of_io(&error))?;
            stream.set_read_timeout(Some(PATIENCE)).and_then(|()| stream.set_write_timeout(Some(PATIENCE))).ok();
            let flags = handshake::greet(&mut stream)?;
            return Ok((Box::new(stream), flags));
        }
        let place = match &self.connect_to {
            Some(place) => place.clone(),
            None if self.link.host.contains(':') => format!("[{}]:{}", self.link.host, self.link.port()),
            None => format!("{}:{}", self.link.host, self.link.port()),
        };
        let mut stream = Buffered(BufReader::with_capacity(BUFFER, Prompt(connect(&place)?)));
        let flags = handshake::greet(&mut stream)?;
        let Some(config) = &self.tls else { return Ok((Box::new(stream), flags)) };
        handshake::start_tls(&mut stream)?;
        let name = ServerName::try_from(self.link.host.clone());
        let name =
            name.map_err(|_| Fault::Fatal(WireKind::Settings, "its name is none that a certificate has".into()))?;
        let tls = ClientConnection::new(config.clone(), name).map_err(|error| crate::http::fault_of_tls(&error))?;
        Ok((Box::new(Tls(StreamOwned::new(tls, stream))), flags))
    }

    /// A connection to the link's export.
    pub(super) fn open(&self, bitmap: Option<&str>) -> Result<Connection, Fault> {
        let (mut stream, flags) = self.connect()?;
        let facts = handshake::choose(stream.as_mut(), flags, self.link.path.trim_start_matches('/'), bitmap)?;
        Ok(Connection::over(stream, facts))
    }

    /// The names of the exports there.
    pub(super) fn exports(&self) -> Result<Vec<String>, Fault> {
        let (mut stream, _) = self.connect()?;
        handshake::exports(stream.as_mut())
    }
}

fn connect(place: &str) -> Result<TcpStream, Fault> {
    let unknown = |_| Fault::again("no address is known for the host");
    let mut last = Fault::again("no address is known for the host");
    for address in place.to_socket_addrs().map_err(unknown)? {
        match TcpStream::connect_timeout(&address, CONNECT) {
            Ok(stream) => {
                stream.set_nodelay(true).ok();
                stream.set_read_timeout(Some(PATIENCE)).and_then(|()| stream.set_write_timeout(Some(PATIENCE))).ok();
                return Ok(stream);
            }
            Err(error) => last = fault_of_io(&error),
        }
    }
    Err(last)
}

/// A socket whose bytes are acknowledged at once: a server that writes a short reply in two parts, and holds the second back until
/// the first is acknowledged (RFC 896), would wait 40 ms for it otherwise (RFC 1122, section 4.2.3.2).
struct Prompt(TcpStream);

impl Read for Prompt {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        // Linux forgets it again; where it is not allowed, it goes as it goes.
        rustix::net::sockopt::set_tcp_quickack(&self.0, true).ok();
        self.0.read(buf)
    }
}

/// A socket that is read in large pieces: TLS asks for small ones.
struct Buffered(BufReader<Prompt>);

impl Read for Buffered {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        self.0.read(buf)
    }
}

impl Write for Buffered {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.0.get_mut().0.write(buf)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.get_mut().0.flush()
    }
}

/// TLS, which is ended in order (RFC 8446, section 6.1).
struct Tls(StreamOwned<ClientConnection, Buffered>);

impl Read for Tls {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        self.0.read(buf)
    }
}

impl Write for Tls {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.0.write(buf)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

impl Drop for Tls {
    fn drop(&mut self) {
        self.0.conn.send_close_notify();
        self.0.flush().ok();
    }
}

/// A connection to an export.
pub(super) struct Connection {
    stream: Box<dyn Duplex>,
    facts: Facts,
    cookie: u64,
}

impl Connection {
    /// Over `stream`, on which the export was chosen.
    pub(super) fn over(stream: Box<dyn Duplex>, facts: Facts) -> Self {
        Self { stream, facts, cookie: 0 }
    }

    pub(super) fn facts(&self) -> &Facts {
        &self.facts
    }

    fn request(&mut self, command: u16, offset: u64, len: u32) -> Result<u64, Fault> {
        self.cookie += 1;
        let mut bytes = REQUEST.to_be_bytes().to_vec();
        bytes.extend(0u16.to_be_bytes());
        bytes.extend(command.to_be_bytes());
        bytes.extend(self.cookie.to_be_bytes());
        bytes.extend(offset.to_be_bytes());
        bytes.extend(len.to_be_bytes());
        put(self.stream.as_mut(), &bytes)?;
        Ok(self.cookie)
    }

    /// Fills `buf` from `at`.
    pub(super) fn read(&mut self, at: u64, buf: &mut [u8]) -> Result<(), Fault> {
        let (least, most) = self.facts.block;
        let piece = PIECE.min(most) / least * least;
        let mut asked = HashMap::new();
        let mut next = 0;
        while next < buf.len() || !asked.is_empty() {
            while next < buf.len() && asked.len() < AT_ONCE {
                let len = (buf.len() - next).min(piece as usize);
                let offset = at + next as u64;
                let cookie = self.request(command::READ, offset, u32::try_from(len).unwrap_or(piece))?;
                asked.insert(cookie, Asked::new(next..next + len, offset));
                next += len;
            }
            receive(self.stream.as_mut(), self.facts.is_structured, &mut asked, buf)?;
        }
        Ok(())
    }

    /// The runs from `at` on, of at most `len` bytes.
    pub(super) fn map(&mut self, at: u64, len: u64) -> Result<Vec<Extent>, Fault> {
        let (map, zero) = match (self.facts.bitmap, self.facts.allocation) {
            (Some(map), _) => (map, None),
            (None, Some(map)) => (map, Some(ALLOCATION_ZERO)),
            (None, None) => return Ok(vec![Extent::data(at, len)]),
        };
        let len = len.min(MAPPED);
        let cookie = self.request(command::BLOCK_STATUS, at, u32::try_from(len).unwrap_or(1 << 30))?;
        let mut runs: Vec<Extent> = Vec::new();
        let mut next = at;
        for (run, flags) in receive_map(self.stream.as_mut(), cookie, map)? {
            let is_zero = match zero {
                Some(zero) => flags & zero != 0,
                None => flags & BITMAP_DIRTY == 0,
            };
            let run = u64::from(run).min(self.facts.size - next);
            if run == 0 {
                break;
            }
            let extent = if is_zero { Extent::zero(next, run) } else { Extent::data(next, run) };
            next += run;
            match runs.last_mut() {
                Some(last) if last.kind == extent.kind => last.len += run,
                _ => runs.push(extent),
            }
        }
        if runs.is_empty() {
            return Err(Fault::protocol("its map is empty"));
        }
        Ok(runs)
    }
}

impl Drop for Connection {
    fn drop(&mut self) {
        self.request(command::DISCONNECT, 0, 0).ok();
    }
}
