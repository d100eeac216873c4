//! The file that a format's writer fills: named in messages, written at positions. Or a pipe, which takes bytes in one
//! direction only.

use crate::to_usize;
use std::{
    fs::File,
    io::Write,
    os::unix::fs::FileExt,
    sync::{Mutex, MutexGuard, PoisonError},
};

use rustix::fs::{FallocateFlags, fallocate};

use crate::error::{Error, Result};

/// Makes a further file of a disk that is kept in several: the name, which goes into the descriptor, has no folder.
pub type PieceMaker = Box<dyn FnMut(&str) -> Result<File> + Send>;

/// What is written, and its name.
pub struct Output {
    name: String,
    to: To,
    pieces: Mutex<Option<PieceMaker>>,
}

/// What takes bytes in one direction.
pub trait OneWay: Write + Send {
    /// Takes `len` zeros: whoever has another way to say so need not take each of them.
    ///
    /// # Errors
    /// Those of writing.
    fn zeros(&mut self, len: u64) -> std::io::Result<()> {
        write_zeros(self, len)
    }
}

/// Writes `len` zeros into `to`.
///
/// # Errors
/// Those of writing.
#[expect(clippy::indexing_slicing, reason = "never more at once than the block of zeros holds")]
pub fn write_zeros(to: &mut (impl Write + ?Sized), mut len: u64) -> std::io::Result<()> {
    static ZEROS: [u8; 64 << 10] = [0; 64 << 10];
    while len > 0 {
        let now = len.min(ZEROS.len() as u64);
        to.write_all(&ZEROS[..to_usize(now)])?;
        len -= now;
    }
    Ok(())
}

impl OneWay for std::io::Stdout {}

enum To {
    File(File),
    Pipe(Mutex<Pipe>),
}

struct Pipe {
    stream: Box<dyn OneWay>,
    /// Bytes written.
    at: u64,
}

impl Pipe {
    fn zeros(&mut self, len: u64) -> std::io::Result<()> {
        if len > 0 {
            self.stream.zeros(len)?;
            self.at += len;
        }
        Ok(())
    }
}

impl Output {
    /// The empty file `file`, called `name` in messages.
    pub fn file(file: File, name: impl Into<String>) -> Self {
        Self { name: name.into(), to: To::File(file), pieces: Mutex::default() }
    }

    /// A file whose shape may keep the disk in further files, which `make` makes.
    pub fn with_pieces(file: File, name: impl Into<String>, make: PieceMaker) -> Self {
        Self { pieces: Mutex::new(Some(make)), ..Self::file(file, name) }
    }

    /// A pipe: takes only shapes that are written in one direction.
    pub fn pipe(stream: impl OneWay + 'static, name: impl Into<String>) -> Self {
        let pipe = Pipe { stream: Box::new(stream), at: 0 };
        Self { name: name.into(), to: To::Pipe(Mutex::new(pipe)), pieces: Mutex::default() }
    }

    /// What it is called in messages.
    pub(crate) fn name(&self) -> &str {
        &self.name
    }

    /// The name without its folder, as it stands in descriptors.
    pub(crate) fn base_name(&self) -> String {
        self.name.rsplit('/').next().unwrap_or(&self.name).replace('"', "")
    }

    /// Whether bytes have to be written in their order.
    pub(crate) fn is_pipe(&self) -> bool {
        matches!(self.to, To::Pipe(_))
    }

    /// Makes the further file `name`.
    pub(crate) fn piece(&self, name: &str) -> Result<Self> {
        let mut pieces = self.pieces.lock().unwrap_or_else(PoisonError::into_inner);
        match pieces.as_mut() {
            Some(make) => Ok(Self::file(make(name)?, name)),
            None => Err(Error::Unwritable {
                path: self.name.clone(),
                what: "its shape keeps the disk in several files, which cannot be made here".into(),
            }),
        }
    }

    /// Flushes all that was written to disk.
    ///
    /// # Errors
    /// What the system says.
    pub fn sync(&self) -> Result<()> {
        match &self.to {
            To::File(file) => file.sync_all().map_err(Error::io("flushing", &self.name, None)),
            To::Pipe(pipe) => lock(pipe).stream.flush().map_err(Error::io("writing", &self.name, None)),
        }
    }

    /// Writes `bytes` at `position`; in a pipe, zeros go before them, and what was written stays.
    pub(crate) fn write(&self, bytes: &[u8], position: u64) -> Result<()> {
        match &self.to {
            To::File(file) => file.write_all_at(bytes, position),
            To::Pipe(pipe) => {
                let mut pipe = lock(pipe);
                match position.checked_sub(pipe.at) {
                    Some(gap) => pipe.zeros(gap).and_then(|()| pipe.stream.write_all(bytes)).map(|()| {
                        pipe.at += bytes.len() as u64;
                    }),
                    None => Err(std::io::Error::other("a pipe cannot be written backwards")),
                }
            }
        }
        .map_err(Error::io("writing", &self.name, Some(position)))
    }

    /// Fills `buf` with what is at `position` of the file; whether it reaches that far. A pipe has nothing to read.
    pub(crate) fn read(&self, buf: &mut [u8], position: u64) -> Result<bool> {
        let To::File(file) = &self.to else { return Ok(false) };
        match file.read_exact_at(buf, position) {
            Ok(()) => Ok(true),
            Err(error) if error.kind() == std::io::ErrorKind::UnexpectedEof => Ok(false),
            Err(error) => Err(Error::io("reading", &self.name, Some(position))(error)),
        }
    }

    /// Makes everything from `position` on a hole; the length stays.
    pub(super) fn clear_from(&self, position: u64) -> Result<()> {
        let To::File(file) = &self.to else { return Ok(()) };
        let failed = |error: std::io::Error| Error::io("clearing the end of", &self.name, Some(position))(error);
        let len = file.metadata().map_err(failed)?.len().saturating_sub(position);
        if len == 0 {
            return Ok(());
        }
        let flags = FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE;
        fallocate(file, flags, position, len).map_err(|error| failed(error.into()))
    }

    /// Sets the length in bytes; what is added reads as zero.
    pub(crate) fn set_len(&self, len: u64) -> Result<()> {
        match &self.to {
            To::File(file) => file.set_len(len),
            To::Pipe(pipe) => {
                let mut pipe = lock(pipe);
                let gap = len.saturating_sub(pipe.at);
                pipe.zeros(gap)
            }
        }
        .map_err(Error::io("setting the length of", &self.name, None))
    }

    /// Takes the space for `len` bytes, which read as zero, from the file system.
    pub(crate) fn allocate(&self, len: u64) -> Result<()> {
        let To::File(file) = &self.to else { return self.set_len(len) };
        if len == 0 {
            return Ok(());
        }
        let result = fallocate(file, FallocateFlags::empty(), 0, len).map_err(std::io::Error::from);
        result.map_err(Error::io("taking the space for", &self.name, None))
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What a pipe was given.
    #[derive(Clone, Default)]
    struct Given(std::sync::Arc<Mutex<Vec<u8>>>);

    impl Write for Given {
        fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
            self.0.lock().unwrap().extend(bytes);
            Ok(bytes.len())
        }

        fn flush(&mut self) -> std::io::Result<()> {
            Ok(())
        }
    }

    impl OneWay for Given {}

    #[test]
    fn a_pipe_gets_zeros_for_holes_and_nothing_twice() {
        let given = Given::default();
        let output = Output::pipe(given.clone(), "stdout");
        output.write(b"ab", 3).unwrap();
        output.set_len(7).unwrap();
        assert_eq!(*given.0.lock().unwrap(), b"\0\0\0ab\0\0");
        assert!(output.write(b"x", 6).unwrap_err().to_string().contains("backwards"));
    }
}
