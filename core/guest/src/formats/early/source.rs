//! The bytes of an image, read on and on, with a look ahead.

use std::io::{self, BufRead, Read};

/// Bytes that are read at once.
const PIECE: usize = 256 << 10;

/// A stream that tells its next bytes before they are taken, and how many were.
pub(super) struct Source<R> {
    inner: R,
    buffer: Vec<u8>,
    start: usize,
    /// Bytes that were taken.
    pub(super) at: u64,
}

impl<R: Read> Source<R> {
    pub(super) fn new(inner: R) -> Self {
        Self { inner, buffer: Vec::new(), start: 0, at: 0 }
    }

    fn buffered(&self) -> &[u8] {
        self.buffer.get(self.start..).unwrap_or_default()
    }

    /// The next bytes: at least `least`, unless the stream ends before.
    pub(super) fn peek(&mut self, least: usize) -> io::Result<&[u8]> {
        while self.buffered().len() < least {
            self.buffer.drain(..self.start.min(self.buffer.len()));
            self.start = 0;
            let len = self.buffer.len();
            self.buffer.resize(len + PIECE, 0);
            let read = self.inner.read(self.buffer.get_mut(len..).unwrap_or_default());
            self.buffer.truncate(len + read.as_ref().map_or(0, |read| *read));
            match read {
                Ok(0) => break,
                Err(error) if error.kind() != io::ErrorKind::Interrupted => return Err(error),
                _ => {}
            }
        }
        Ok(self.buffered())
    }
}

impl<R: Read> Read for Source<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let mut ahead = self.fill_buf()?;
        let len = ahead.read(buf)?;
        self.consume(len);
        Ok(len)
    }
}

impl<R: Read> BufRead for Source<R> {
    fn fill_buf(&mut self) -> io::Result<&[u8]> {
        self.peek(1)
    }

    fn consume(&mut self, amount: usize) {
        self.start += amount;
        self.at += amount as u64;
    }
}
