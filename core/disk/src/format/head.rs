//! The start of a file, by which formats are told, and what its name says.

use std::path::Path;

use crate::{
    budget::Held,
    error::Result,
    shape::Format,
    source::{Storage, read_vec},
};

/// Bytes from the start of a file that recognition looks at.
pub const HEAD: u64 = 8192;

/// The first [`HEAD`] bytes of `storage`, or all.
pub(crate) fn head(storage: &dyn Storage) -> Result<Held<Vec<u8>>> {
    read_vec(storage, 0, storage.len().min(HEAD) as usize, "its start")
}

/// The format that a name's ending stands for.
pub(crate) fn extension_of(name: &str) -> Option<Format> {
    Path::new(name).extension().and_then(|e| e.to_str()).and_then(Format::from_extension)
}
