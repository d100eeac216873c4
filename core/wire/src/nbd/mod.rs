//! Network block devices (the protocol's document `doc/proto.md`; the sections that are named are its own).

mod connection;
mod export;
mod handshake;
mod proto;
mod reply;
pub mod serve;

pub(crate) use connection::Dial;
pub(crate) use export::{Export, list};

use crate::fault::Fault;

/// Speaks with a server as what `input` says, as its bytes are in a fuzzer: chooses the export, asks for its map, reads.
///
/// # Errors
/// What the protocol's errors are.
pub fn converse(input: &[u8]) -> Result<usize, Fault> {
    struct Both(std::io::Cursor<Vec<u8>>);
    impl std::io::Read for Both {
        fn read(&mut self, buf: &mut [u8]) -> std::io::Result<usize> {
            self.0.read(buf)
        }
    }
    impl std::io::Write for Both {
        fn write(&mut self, buf: &[u8]) -> std::io::Result<usize> {
            Ok(buf.len())
        }
        fn flush(&mut self) -> std::io::Result<()> {
            Ok(())
        }
    }
    let mut stream = Both(std::io::Cursor::new(input.to_vec()));
    let flags = handshake::greet(&mut stream)?;
    let facts = handshake::choose(&mut stream, flags, "disk", Some("b0"))?;
    let mut connection = connection::Connection::over(Box::new(stream), facts);
    let len = connection.facts().size.min(300_000);
    let mut seen = 0;
    if len > 0 {
        seen += connection.map(0, len).map_or(0, |runs| runs.len());
        let mut buf = vec![0; reformis_disk::to_usize(len)];
        seen += usize::from(connection.read(0, &mut buf).is_ok());
    }
    Ok(seen)
}
