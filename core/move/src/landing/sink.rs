//! Bytes that go into a file in one direction.

use std::{
    fs::File,
    io::{self, Write},
    os::unix::fs::FileExt,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use reformis_disk::copy::output::OneWay;
use reformis_machine::manifest::Algorithm;

use crate::checksum::Hasher;

/// Takes bytes in one direction, and digests them as they pass: an archive or a manifest needs that, and so the file is
/// not read again.
#[derive(Clone)]
pub(super) struct Sink(Arc<Mutex<Inside>>);

struct Inside {
    file: File,
    start: u64,
    at: u64,
    hash: Hasher,
}

impl Sink {
    pub(super) fn new(file: File, start: u64) -> Self {
        Self(Arc::new(Mutex::new(Inside { file, start, at: start, hash: Hasher::new(Some(Algorithm::Sha256)) })))
    }

    fn inside(&self) -> MutexGuard<'_, Inside> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Number of bytes, and their digest.
    pub(super) fn finish(&self) -> (u64, String) {
        let inside = self.inside();
        (inside.at - inside.start, inside.hash.clone().finish().value)
    }
}

impl OneWay for Sink {}

impl Write for Sink {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut inside = self.inside();
        inside.file.write_all_at(bytes, inside.at)?;
        inside.at += bytes.len() as u64;
        inside.hash.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
