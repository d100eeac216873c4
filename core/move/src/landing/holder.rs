//! Where the disks of a landing go: each into a file of its own, or all into one archive.

use std::{
    ffi::OsStr,
    fs::File,
    io,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use reformis_disk::{
    Disk,
    copy::{Copied, Output, Watch, output::PieceMaker, pipeline},
    format::{self, NewImage},
    source::Access,
};
use reformis_machine::manifest::Algorithm;

use super::{archive::ArchiveFile, sink::Sink};
use crate::{
    checksum,
    error::{Error, Result},
    plan::PlannedDisk,
    staging::Place,
};

/// Where the disks of a landing go.
pub(crate) enum Holder {
    /// Each into a file of its own in this folder; with digests for a manifest.
    Folder { folder: Place, digests: bool },
    /// All into one archive.
    Archive(ArchiveFile),
}

/// A disk that was written.
pub(crate) struct Written {
    pub(crate) copied: Copied,
    /// SHA-256 of the file, where a manifest needs it.
    pub(crate) digest: Option<String>,
    /// Length of the file in bytes, where it is a member of an archive.
    pub(crate) len: u64,
}

impl Holder {
    /// Writes `disk` as `planned`, into a file that is open to nobody who may not open one of `access`.
    pub(crate) fn write(
        &mut self,
        disk: &dyn Disk,
        planned: &PlannedDisk,
        access: Access,
        watch: &Watch<'_>,
    ) -> Result<Written> {
        let new = NewImage { wrapping: planned.wrapping, ..NewImage::new(planned.shape, planned.size) };
        match self {
            Self::Folder { folder, digests } => {
                let path = folder.path_of(&planned.file);
                let file = folder.create(OsStr::new(&planned.file), access)?;
                let own = file.try_clone().map_err(Error::io("opening", &path))?;
                let name = path.to_string_lossy().into_owned();
                let in_one_direction = *digests && format::is_one_way(planned.shape);
                let sink = Sink::new(own.try_clone().map_err(Error::io("opening", &path))?, 0);
                let pieces = Arc::new(Mutex::new(vec![(path.clone(), own)]));
                let output = if in_one_direction {
                    Output::pipe(sink.clone(), name)
                } else {
                    Output::with_pieces(file, name, piece_maker(folder.clone(), access, pieces.clone()))
                };
                let copied = copy(disk, output, &new, watch)?;
                for (path, file) in lock(&pieces).iter() {
                    file.sync_all().map_err(Error::io("flushing", path))?;
                }
                let digest = match (in_one_direction, *digests) {
                    (true, _) => Some(sink.finish().1),
                    (false, true) => Some(sha256_of(folder.open_file(OsStr::new(&planned.file))?, &path, watch)?),
                    (false, false) => None,
                };
                Ok(Written { copied, digest, len: 0 })
            }
            Self::Archive(archive) => {
                let sink = archive.begin()?;
                let copied = copy(disk, Output::pipe(sink.clone(), planned.file.clone()), &new, watch)?;
                let (len, digest) = sink.finish();
                archive.end(&planned.file, len)?;
                Ok(Written { copied, digest: Some(digest), len })
            }
        }
    }
}

fn copy(disk: &dyn Disk, output: Output, new: &NewImage, watch: &Watch<'_>) -> Result<Copied> {
    let mut writer = format::create_in(output, new)?;
    Ok(pipeline::copy(disk, writer.as_mut(), watch)?)
}

/// Makes further files in `folder`, and remembers all of them: each has to be flushed.
fn piece_maker(folder: Place, access: Access, pieces: Arc<Mutex<Vec<(PathBuf, File)>>>) -> PieceMaker {
    Box::new(move |piece: &str| {
        let path = folder.path_of(piece);
        let file = folder.create(OsStr::new(piece), access).map_err(Error::into_disk)?;
        let own = file.try_clone().map_err(reformis_disk::Error::io("opening", path.to_string_lossy(), None))?;
        lock(&pieces).push((path, own));
        Ok(file)
    })
}

fn sha256_of(mut file: File, path: &Path, watch: &Watch<'_>) -> Result<String> {
    let read = |buf: &mut [u8]| io::Read::read(&mut file, buf).map_err(Error::io("reading", path));
    Ok(checksum::of_reads(Algorithm::Sha256, watch.cancel, read)?.value)
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
