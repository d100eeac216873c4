//! The client's side of NBD (the protocol's document `doc/proto`, fixed newstyle negotiation), for one export on a local
//! socket.

use std::{
    io::{self, Read, Write},
    os::unix::net::UnixStream,
    path::Path,
};

const OPTION_MAGIC: u64 = 0x4948_4156_454f_5054;
const REQUEST_MAGIC: u32 = 0x2560_9513;
const REPLY_MAGIC: u32 = 0x6744_6698;

/// A connection to one export.
pub struct Client {
    stream: UnixStream,
    size: u64,
}

impl Client {
    /// Connects to export `name`.
    ///
    /// # Errors
    /// Those of the socket, and a server that speaks otherwise.
    pub fn connect(socket: &Path, name: &str) -> io::Result<Self> {
        let mut stream = UnixStream::connect(socket)?;
        let mut greeting = [0; 18];
        stream.read_exact(&mut greeting)?;
        if &greeting[..16] != b"NBDMAGICIHAVEOPT" {
            return Err(io::Error::other("no NBD server"));
        }
        // Fixed newstyle, no padding of zeros; then the export by name.
        let mut request = 3u32.to_be_bytes().to_vec();
        request.extend(OPTION_MAGIC.to_be_bytes());
        request.extend(1u32.to_be_bytes());
        request.extend((name.len() as u32).to_be_bytes());
        request.extend(name.as_bytes());
        stream.write_all(&request)?;
        let mut reply = [0; 10];
        stream.read_exact(&mut reply)?;
        let mut size = [0; 8];
        size.copy_from_slice(&reply[..8]);
        Ok(Self { stream, size: u64::from_be_bytes(size) })
    }

    /// Size of the export in bytes.
    pub fn size(&self) -> u64 {
        self.size
    }

    fn request(&mut self, kind: u16, offset: u64, len: u32) -> io::Result<()> {
        let mut request = REQUEST_MAGIC.to_be_bytes().to_vec();
        request.extend(0u16.to_be_bytes());
        request.extend(kind.to_be_bytes());
        request.extend(0u64.to_be_bytes());
        request.extend(offset.to_be_bytes());
        request.extend(len.to_be_bytes());
        self.stream.write_all(&request)
    }

    fn reply(&mut self) -> io::Result<()> {
        let mut reply = [0; 16];
        self.stream.read_exact(&mut reply)?;
        if reply[..4] != REPLY_MAGIC.to_be_bytes() || reply[4..8] != [0; 4] {
            return Err(io::Error::other(format!("the server refused: {reply:02x?}")));
        }
        Ok(())
    }

    /// Fills `buf` (less than 32 MiB) from `offset`.
    ///
    /// # Errors
    /// Those of the socket and of the server.
    pub fn read_at(&mut self, offset: u64, buf: &mut [u8]) -> io::Result<()> {
        self.request(0, offset, buf.len() as u32)?;
        self.reply()?;
        self.stream.read_exact(buf)
    }

    /// Writes `bytes` (less than 32 MiB) at `offset`.
    ///
    /// # Errors
    /// Those of the socket and of the server.
    pub fn write_at(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        self.request(1, offset, bytes.len() as u32)?;
        self.stream.write_all(bytes)?;
        self.reply()
    }

    /// Gives the `len` bytes at `offset` back; they may read as anything afterwards.
    ///
    /// # Errors
    /// Those of the socket and of the server.
    pub fn discard(&mut self, offset: u64, len: u32) -> io::Result<()> {
        self.request(4, offset, len)?;
        self.reply()
    }

    /// Makes the `len` bytes at `offset` zero.
    ///
    /// # Errors
    /// Those of the socket and of the server.
    pub fn write_zeros(&mut self, offset: u64, len: u32) -> io::Result<()> {
        self.request(6, offset, len)?;
        self.reply()
    }

    /// Has everything that was written so far put into the file.
    ///
    /// # Errors
    /// Those of the socket and of the server.
    pub fn flush(&mut self) -> io::Result<()> {
        self.request(3, 0, 0)?;
        self.reply()
    }
}
