//! Where the disks of a landing go: each into a file of its own or into a store, or all into one archive.

use std::{
    ffi::OsStr,
    fs::File,
    io,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use reformis_disk::{
    Disk, Layout,
    copy::{
        Again, Copied, Output, Watch,
        changed::{Changed, Changes, copy_changed},
        output::PieceMaker,
        pipeline,
    },
    format::{self, NewImage},
    source::Access,
};
use reformis_machine::{MachineFile, manifest::Algorithm};

use super::{
    ahead::TouchedBlocks, archive::ArchiveFile, journal::DiskJournal, shipping::Shipping, sink::Sink, written::Written,
};
use crate::{
    checksum,
    error::{Error, Result},
    plan::{Plan, PlannedDisk},
    staging::Place,
};

/// Where the disks of a landing go.
pub(crate) enum Holder {
    /// Each into a file of its own in this folder; with digests for a manifest.
    Folder { folder: Place, digests: bool },
    /// Each into a store, with digests for a manifest; those that cannot be written there as they are made are made in this folder.
    Store { folder: Place, shipping: Shipping, digests: bool },
    /// All into one archive.
    Archive(ArchiveFile),
}

impl Holder {
    /// Writes `disk` as `planned`, into a file that is open to nobody who may not open one of `access`.
    pub(crate) fn write(
        &mut self,
        disk: &dyn Disk,
        planned: &PlannedDisk,
        access: Access,
        going_on: Option<GoingOn<'_>>,
        watch: &Watch<'_>,
    ) -> Result<Written> {
        let new = NewImage { wrapping: planned.wrapping, ..NewImage::new(planned.shape, planned.size) };
        match self {
            Self::Store { folder, shipping, digests } => {
                if let Some(written) = shipping.there(disk, planned, folder, *digests, watch)? {
                    return Ok(written);
                }
                if shipping.streams(planned) {
                    return shipping.write(disk, planned, folder, &new, *digests, watch);
                }
                let path = folder.path_of(&planned.file);
                let file = folder.create(OsStr::new(&planned.file), access)?;
                let copied = copy(disk, Output::file(file, path.to_string_lossy()), &new, watch)?;
                let made = || sha256_of(folder.open_file(OsStr::new(&planned.file))?, &path, watch);
                Ok(Written { copied, digest: digests.then(made).transpose()?, len: 0, changed: None, is_sent: false })
            }
            Self::Folder { folder, digests } => {
                let path = folder.path_of(&planned.file);
                if let Some(going_on) = going_on.filter(|_| can_go_on(planned)) {
                    let written = write_again(disk, planned, folder, access, &new, going_on, watch)?;
                    // Read once more for a manifest: an earlier run may have written some of it.
                    let digest = || sha256_of(folder.open_file(OsStr::new(&planned.file))?, &path, watch);
                    return Ok(Written { digest: digests.then(digest).transpose()?, ..written });
                }
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
                Ok(Written { copied, digest, len: 0, changed: None, is_sent: false })
            }
            Self::Archive(archive) => {
                let sink = archive.begin()?;
                let copied = copy(disk, Output::pipe(sink.clone(), planned.file.clone()), &new, watch)?;
                let (len, digest) = sink.finish();
                archive.end(&planned.file, len)?;
                Ok(Written { copied, digest: Some(digest), len, changed: None, is_sent: false })
            }
        }
    }
}

/// How a disk is gone on with.
pub(crate) struct GoingOn<'a> {
    /// Its journal.
    pub(crate) journal: &'a mut DiskJournal,
    /// Whether something in a range of it is edited.
    pub(crate) is_edited: &'a (dyn Fn(std::ops::Range<u64>) -> bool + Sync),
    /// One block of how many is compared, where the source has no version.
    pub(crate) sample: Option<u64>,
    /// What was written to since a first pass, which is whole.
    pub(crate) second: Option<TouchedBlocks>,
    /// Whether something in a range of it may have changed since a first pass, where something else than its bytes tells.
    pub(crate) may_differ: Option<&'a (dyn Fn(std::ops::Range<u64>) -> bool + Sync)>,
}

/// One block of how many is compared where a map tells of changes.
const SAMPLE: u64 = 64;

/// Whether a disk of this shape can be gone on with: one file, which is filled from its start on.
pub(crate) fn can_go_on(planned: &PlannedDisk) -> bool {
    matches!(planned.shape.layout, Layout::Thin | Layout::Stream) && planned.wrapping.is_none()
}

/// Whether what changed can be put into a disk of this shape later.
pub(crate) fn can_be_changed(plan: &Plan, planned: &PlannedDisk) -> bool {
    plan.machine_file != MachineFile::Ova && planned.shape.layout == Layout::Thin && planned.wrapping.is_none()
}

/// Writes a disk into the file that an earlier run may have left.
fn write_again(
    disk: &dyn Disk,
    planned: &PlannedDisk,
    folder: &Place,
    access: Access,
    new: &NewImage,
    going_on: GoingOn<'_>,
    watch: &Watch<'_>,
) -> Result<Written> {
    let (name, path) = (OsStr::new(&planned.file), folder.path_of(&planned.file));
    let file = folder.open_or_create(name, access)?;
    let shown = path.to_string_lossy().into_owned();
    let own = |file: &File| file.try_clone().map_err(reformis_disk::Error::io("opening", &shown, None));
    let output = Output::file(own(&file)?, &shown);
    let make = || format::create_in(Output::file(own(&file)?, &shown), new);
    let GoingOn { journal, is_edited, sample, second, may_differ } = going_on;
    let (copied, changed) = match second {
        Some(mut touched) => {
            let changes = Changes { journal, output: &output, touched: &mut touched, may_differ, sample: SAMPLE };
            let Changed { copied, changed } = copy_changed(disk, &make, changes, watch)?;
            (copied, Some(changed))
        }
        None => {
            let again = Again { journal, output: &output, is_edited, sample };
            (pipeline::copy_again(disk, &make, again, watch)?, None)
        }
    };
    file.sync_all().map_err(Error::io("flushing", &path))?;
    Ok(Written { copied, digest: None, len: 0, changed, is_sent: false })
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
