//! TLS of a server, with both directions for threads of their own.

use std::{
    io::{self, Read, Write},
    path::Path,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Instant,
};

use reformis_disk::Error;
use rustls::{ServerConfig, ServerConnection};

use super::socket::{Deadline, Halves, Socket};
use crate::{
    fault::Fault,
    http::{fault_of_io, fault_of_tls},
    secret::{self, Secret},
};

/// Bytes that are read from a socket at once.
const BUFFER: usize = 64 << 10;
/// Bytes that are encrypted at once: some records.
const PIECE: usize = 48 << 10;
/// The longest file of certificates, in bytes.
const MOST: u64 = 1 << 20;

/// Who is let in: clients with a certificate of an authority, over TLS.
#[derive(Clone)]
pub struct Guard(Arc<ServerConfig>);

impl Guard {
    /// Shows the certificate in the file `certificate`, whose key is in the file `key` that nobody else may read, and lets in
    /// whoever has one of an authority in the file `clients`.
    ///
    /// # Errors
    /// Files that cannot be read, are not sound, or do not fit each other.
    pub fn from_files(certificate: &Path, key: &Path, clients: &Path) -> Result<Self, Error> {
        let read = |path: &Path| {
            let place = path.to_string_lossy();
            let failed = || Error::io("reading", place.clone(), None);
            let len = std::fs::metadata(path).map_err(failed())?.len();
            if len > MOST {
                return Err(Error::NotAnImage { path: place.into(), what: "it is no file of certificates".into() });
            }
            std::fs::read(path).map_err(failed())
        };
        let at = |path: &Path| {
            let place = path.to_string_lossy().into_owned();
            move |fault: Fault| fault.into_error("reading", &place, None)
        };
        let secret = secret::from_private_file(key).map_err(at(key))?;
        Self::new(&read(certificate)?, &secret, &read(clients)?).map_err(at(certificate))
    }

    /// As [`Guard::from_files`], of what is in the files.
    ///
    /// # Errors
    /// Certificates and keys that are not sound.
    pub fn new(certificate: &[u8], key: &Secret, clients: &[u8]) -> Result<Self, Fault> {
        crate::tls::server(certificate, key, clients).map(Self)
    }

    /// Shakes hands over `socket`, before a certain moment.
    pub(super) fn greet(&self, socket: Socket, until: Instant) -> Result<Tls, Fault> {
        let own = socket.try_clone().map_err(|error| fault_of_io(&error))?;
        let mut greeted = Deadline::new(own, until);
        let mut tls = ServerConnection::new(self.0.clone()).map_err(|error| fault_of_tls(&error))?;
        while tls.is_handshaking() {
            tls.complete_io(&mut greeted).map_err(|error| fault_of_io(&error))?;
        }
        let own = socket.try_clone().map_err(|error| fault_of_io(&error))?;
        let shared = Arc::new(Shared { tls: Mutex::new(tls), sending: Mutex::new(socket) });
        Ok(Tls {
            reader: Reader { shared: shared.clone(), socket: own, raw: Vec::new(), next: 0 },
            writer: Writer(shared),
        })
    }
}

/// What both directions need.
struct Shared {
    tls: Mutex<ServerConnection>,
    /// Held while records are sent: they go out in their order.
    sending: Mutex<Socket>,
}

impl Shared {
    fn tls(&self) -> MutexGuard<'_, ServerConnection> {
        self.tls.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A connection over TLS.
pub(super) struct Tls {
    reader: Reader,
    writer: Writer,
}

impl Tls {
    pub(super) fn halves(self) -> Halves {
        Halves { reader: Box::new(self.reader), writer: Box::new(self.writer) }
    }
}

impl Read for Tls {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        self.reader.read(buf)
    }
}

impl Write for Tls {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.writer.write(buf)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

struct Reader {
    shared: Arc<Shared>,
    socket: Socket,
    /// What was read from the socket, and how much of it was taken.
    raw: Vec<u8>,
    next: usize,
}

impl Reader {
    /// What is there in the clear, after taking in all that was read; `None` where more has to be read.
    fn clear(&mut self, buf: &mut [u8]) -> io::Result<Option<usize>> {
        let mut tls = self.shared.tls();
        loop {
            match tls.reader().read(buf) {
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                read => return read.map(Some),
            }
            let mut rest = self.raw.get(self.next..).unwrap_or_default();
            if rest.is_empty() {
                return Ok(None);
            }
            self.next += tls.read_tls(&mut rest)?;
            tls.process_new_packets().map_err(io::Error::other)?;
        }
    }
}

impl Read for Reader {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        loop {
            if let Some(len) = self.clear(buf)? {
                return Ok(len);
            }
            self.raw.resize(BUFFER, 0);
            // Not held: the other direction goes on while we wait here.
            let len = self.socket.read(&mut self.raw)?;
            self.raw.truncate(len);
            self.next = 0;
            if len == 0 {
                return Ok(0);
            }
        }
    }
}

struct Writer(Arc<Shared>);

impl Writer {
    fn send(&self, take: impl FnOnce(&mut ServerConnection) -> io::Result<usize>) -> io::Result<usize> {
        let mut socket = self.0.sending.lock().unwrap_or_else(PoisonError::into_inner);
        let mut records = Vec::with_capacity(PIECE + 1024);
        let len = {
            let mut tls = self.0.tls();
            let len = take(&mut tls)?;
            while tls.wants_write() {
                tls.write_tls(&mut records)?;
            }
            len
        };
        socket.write_all(&records)?;
        Ok(len)
    }
}

impl Write for Writer {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.send(|tls| tls.writer().write(buf.get(..PIECE).unwrap_or(buf)))
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Drop for Writer {
    fn drop(&mut self) {
        // The end is told, so that the other side knows that nothing was cut off (RFC 8446, section 6.1).
        self.send(|tls| {
            tls.send_close_notify();
            Ok(0)
        })
        .ok();
    }
}
