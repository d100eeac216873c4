//! Sockets of a server: where it listens, and both directions of a connection.

use std::{
    io::{self, Cursor, Read, Write},
    net::{Shutdown, TcpListener, TcpStream, ToSocketAddrs},
    os::{
        fd::AsRawFd,
        unix::{
            fs::{FileTypeExt, MetadataExt},
            net::{UnixListener, UnixStream},
        },
    },
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

use reformis_disk::Error;
use rustix::{
    fs::{AtFlags, Gid, Mode, OFlags, RenameFlags},
    io::Errno,
};

use super::{At, wrong};

/// How long a look for a new connection lasts.
const LOOK: Duration = Duration::from_millis(20);
/// A socket's name before it has its own.
const SOCKET: &str = "s";

/// Where a server listens. A socket file is removed with it.
pub(super) enum Listener {
    Socket(UnixListener, PathBuf, u64),
    Port(TcpListener),
}

impl Listener {
    pub(super) fn bind(at: &At, group: Option<u32>, is_guarded: bool) -> Result<Self, Error> {
        match at {
            At::Socket(path) => Self::socket(path, group),
            At::Port(place) => Self::port(place, is_guarded),
        }
    }

    /// At a socket file for its owner alone, and for `group` where one is given. What a server left there that was killed is removed first.
    fn socket(path: &Path, group: Option<u32>) -> Result<Self, Error> {
        let name = path.to_string_lossy();
        let failed = |error| Error::io("listening at", name.clone(), None)(error);
        if let Ok(found) = std::fs::symlink_metadata(path) {
            if !found.file_type().is_socket() || found.uid() != rustix::process::geteuid().as_raw() {
                return Err(Error::Exists { path: name.into() });
            }
            if UnixStream::connect(path).is_ok() {
                return Err(Error::Busy { path: name.into() });
            }
            std::fs::remove_file(path).map_err(failed)?;
        }
        let (listener, inode) = bound(path, group).map_err(failed)?;
        listener.set_nonblocking(true).map_err(failed)?;
        Ok(Self::Socket(listener, path.into(), inode))
    }

    fn port(place: &str, is_guarded: bool) -> Result<Self, Error> {
        let addresses: Vec<_> = place.to_socket_addrs().map_err(Error::io("listening at", place, None))?.collect();
        if !is_guarded && addresses.iter().any(|address| !address.ip().is_loopback()) {
            return Err(wrong(
                place,
                "without TLS, everybody who reaches it could read and write the disks: a socket file, loopback or certificates keep them away",
            ));
        }
        let listener = TcpListener::bind(&addresses[..]).map_err(Error::io("listening at", place, None))?;
        listener.set_nonblocking(true).map_err(Error::io("listening at", place, None))?;
        Ok(Self::Port(listener))
    }

    pub(super) fn at(&self) -> Result<At, Error> {
        Ok(match self {
            Self::Socket(_, path, _) => At::Socket(path.clone()),
            Self::Port(listener) => {
                At::Port(listener.local_addr().map_err(Error::io("listening at", "a port", None))?.to_string())
            }
        })
    }

    /// Who comes next, if somebody does.
    pub(super) fn accept(&self) -> io::Result<Option<(Socket, String)>> {
        let came = match self {
            Self::Socket(listener, ..) => listener.accept().map(|(stream, _)| {
                let process = rustix::net::sockopt::socket_peercred(&stream);
                let peer =
                    process.map_or_else(|_| "a process".into(), |who| format!("process {}", who.pid.as_raw_pid()));
                (Socket::Unix(stream), peer)
            }),
            Self::Port(listener) => listener.accept().map(|(stream, peer)| {
                stream.set_nodelay(true).ok();
                // A host that lost its power says nothing: the system finds out.
                rustix::net::sockopt::set_socket_keepalive(&stream, true).ok();
                (Socket::Tcp(stream), peer.to_string())
            }),
        };
        match came {
            Ok((socket, peer)) => {
                socket.set_blocking()?;
                Ok(Some((socket, peer)))
            }
            Err(error) if matches!(error.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::Interrupted) => {
                std::thread::sleep(LOOK);
                Ok(None)
            }
            // It was gone before it was looked at.
            Err(error) if error.kind() == io::ErrorKind::ConnectionAborted => Ok(None),
            Err(error) => Err(error),
        }
    }
}

/// A socket that gets its name when its owner, group and mode are right: it is made in a folder that nobody else can look into, so that nobody
/// can put a link there that these would go to. And its inode.
fn bound(path: &Path, group: Option<u32>) -> io::Result<(UnixListener, u64)> {
    let above = path.parent().filter(|above| *above != Path::new("")).unwrap_or(Path::new("."));
    let name = path.file_name().ok_or(io::ErrorKind::InvalidInput)?;
    let flags = OFlags::DIRECTORY | OFlags::RDONLY | OFlags::CLOEXEC;
    let above = rustix::fs::open(above, flags, Mode::empty())?;
    let mut number = 0u32;
    let hidden = loop {
        let hidden = format!(".{}.{}-{number}", name.to_string_lossy(), std::process::id());
        match rustix::fs::mkdirat(&above, &*hidden, Mode::RWXU) {
            Ok(()) => break hidden,
            Err(Errno::EXIST) if number < 1000 => number += 1,
            Err(errno) => return Err(errno.into()),
        }
    };
    let made = (|| {
        let folder = rustix::fs::openat(&above, &*hidden, flags | OFlags::NOFOLLOW, Mode::empty())?;
        if rustix::fs::fstat(&folder)?.st_uid != rustix::process::geteuid().as_raw() {
            return Err(io::ErrorKind::PermissionDenied.into());
        }
        // By its handle: the path of a socket is short (unix(7)).
        let listener = UnixListener::bind(format!("/proc/self/fd/{}/{SOCKET}", folder.as_raw_fd()))?;
        let mode = if group.is_some() { Mode::from_raw_mode(0o660) } else { Mode::from_raw_mode(0o600) };
        if let Some(group) = group {
            rustix::fs::chownat(&folder, SOCKET, None, Some(Gid::from_raw(group)), AtFlags::SYMLINK_NOFOLLOW)?;
        }
        rustix::fs::chmodat(&folder, SOCKET, mode, AtFlags::empty())?;
        let inode = rustix::fs::statat(&folder, SOCKET, AtFlags::SYMLINK_NOFOLLOW)?.st_ino;
        match rustix::fs::renameat_with(&folder, SOCKET, &above, name, RenameFlags::NOREPLACE) {
            // A file system that knows no flags.
            Err(Errno::INVAL | Errno::NOSYS) => rustix::fs::renameat(&folder, SOCKET, &above, name)?,
            renamed => renamed?,
        }
        Ok((listener, inode))
    })();
    if made.is_err()
        && let Ok(folder) = rustix::fs::openat(&above, &*hidden, flags | OFlags::NOFOLLOW, Mode::empty())
    {
        rustix::fs::unlinkat(&folder, SOCKET, AtFlags::empty()).ok();
    }
    rustix::fs::unlinkat(&above, &*hidden, AtFlags::REMOVEDIR).ok();
    made
}

impl Drop for Listener {
    fn drop(&mut self) {
        // Only our own: another server may have taken the name since.
        if let Self::Socket(_, path, inode) = self
            && std::fs::symlink_metadata(&*path).is_ok_and(|found| found.ino() == *inode)
        {
            std::fs::remove_file(path).ok();
        }
    }
}

/// Both directions of a connection, each for a thread of its own.
pub(super) struct Halves {
    pub(super) reader: Box<dyn Read + Send>,
    pub(super) writer: Box<dyn Write + Send>,
}

/// A connection.
pub(super) enum Socket {
    Unix(UnixStream),
    Tcp(TcpStream),
}

impl Socket {
    pub(super) fn try_clone(&self) -> io::Result<Self> {
        Ok(match self {
            Self::Unix(stream) => Self::Unix(stream.try_clone()?),
            Self::Tcp(stream) => Self::Tcp(stream.try_clone()?),
        })
    }

    fn set_blocking(&self) -> io::Result<()> {
        match self {
            Self::Unix(stream) => stream.set_nonblocking(false),
            Self::Tcp(stream) => stream.set_nonblocking(false),
        }
    }

    /// How long reading and writing may take.
    pub(super) fn set_patience(&self, read: Option<Duration>, write: Option<Duration>) -> io::Result<()> {
        match self {
            Self::Unix(stream) => stream.set_read_timeout(read).and_then(|()| stream.set_write_timeout(write)),
            Self::Tcp(stream) => stream.set_read_timeout(read).and_then(|()| stream.set_write_timeout(write)),
        }
    }

    fn set_read_patience(&self, read: Duration) -> io::Result<()> {
        match self {
            Self::Unix(stream) => stream.set_read_timeout(Some(read)),
            Self::Tcp(stream) => stream.set_read_timeout(Some(read)),
        }
    }

    /// Takes nothing further.
    pub(super) fn end_reading(&self) {
        match self {
            Self::Unix(stream) => stream.shutdown(Shutdown::Read).ok(),
            Self::Tcp(stream) => stream.shutdown(Shutdown::Read).ok(),
        };
    }

    /// Takes and sends nothing further.
    pub(super) fn end(&self) {
        match self {
            Self::Unix(stream) => stream.shutdown(Shutdown::Both).ok(),
            Self::Tcp(stream) => stream.shutdown(Shutdown::Both).ok(),
        };
    }

    pub(super) fn halves(self) -> io::Result<Halves> {
        let writer = Box::new(self.try_clone()?);
        Ok(Halves { reader: Box::new(io::BufReader::with_capacity(64 << 10, self)), writer })
    }
}

impl Read for Socket {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        match self {
            Self::Unix(stream) => stream.read(buf),
            Self::Tcp(stream) => stream.read(buf),
        }
    }
}

impl Write for Socket {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        match self {
            Self::Unix(stream) => stream.write(buf),
            Self::Tcp(stream) => stream.write(buf),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// A socket that is read until a certain moment, however slowly its bytes come.
pub(super) struct Deadline {
    socket: Socket,
    until: Instant,
}

impl Deadline {
    pub(super) fn new(socket: Socket, until: Instant) -> Self {
        Self { socket, until }
    }
}

impl Read for Deadline {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let left = self.until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Err(io::ErrorKind::TimedOut.into());
        }
        self.socket.set_read_patience(left)?;
        self.socket.read(buf)
    }
}

impl Write for Deadline {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.socket.write(buf)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// What was sent to a client that is not there.
#[derive(Clone, Default)]
pub(super) struct Recorded(Arc<Mutex<Vec<u8>>>);

impl Recorded {
    pub(super) fn bytes(&self) -> Vec<u8> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl Write for Recorded {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend(buf);
        Ok(buf.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// A client whose every word is known before.
pub(super) struct Said(Cursor<Vec<u8>>, Recorded);

impl Said {
    pub(super) fn new(said: Vec<u8>, sent: Recorded) -> Self {
        Self(Cursor::new(said), sent)
    }

    pub(super) fn halves(self) -> Halves {
        Halves { reader: Box::new(self.0), writer: Box::new(self.1) }
    }
}

impl Read for Said {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        self.0.read(buf)
    }
}

impl Write for Said {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.1.write(buf)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
