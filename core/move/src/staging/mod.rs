//! Results that appear whole or not at all: written under a temporary name beside their place, flushed to disk, and
//! renamed at the end.
//!
//! The temporary name is always the same for the same result, and locked while a run writes there. What a killed run
//! left is therefore found, and cleared away, by the next one; what a living run writes is not touched.
//!
//! Others may write to the same folder. So a temporary name is made exclusively and never followed, what lies there is
//! taken for a killed run's only when it is ours, and all names are used relative to a folder that is opened once.

mod file;
mod folder;
mod keep;
mod place;

use std::{
    ffi::OsStr,
    io::Write,
    path::{Path, PathBuf},
};

pub use file::StagedFile;
pub(crate) use folder::StagedFolder;
pub(crate) use place::Place;
use reformis_disk::source::Access;

use crate::error::{Error, Result};

/// Writes `bytes` to `target`, whole or not at all; what is there is replaced with `force` alone. No one gets to read it
/// who may not read a file of `access`.
///
/// # Errors
/// Those of [`StagedFile`], and of writing.
pub fn write(target: &Path, bytes: &[u8], force: bool, access: Access) -> Result<()> {
    let staged = StagedFile::create(target, force, access)?;
    staged.file()?.write_all(bytes).map_err(Error::io("writing", target))?;
    staged.commit()
}

/// Writes the new file `name` into a folder that is being filled, flushed to disk.
pub(crate) fn write_into(folder: &Place, name: &str, bytes: &[u8], access: Access) -> Result<()> {
    let mut file = folder.create(OsStr::new(name), access)?;
    let written = file.write_all(bytes).and_then(|()| file.sync_all());
    written.map_err(Error::io("writing", &folder.path_of(name)))
}

/// The folder that holds `path`.
pub(crate) fn parent(path: &Path) -> PathBuf {
    match path.parent() {
        Some(parent) if parent != Path::new("") => parent.into(),
        _ => ".".into(),
    }
}

#[cfg(test)]
mod tests;
