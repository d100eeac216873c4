//! Digests of the files that a disk is read from: taken beside the copying, and compared with their manifest.

use std::sync::Arc;

use reformis_disk::Storage;

use crate::{
    checksum,
    error::Result,
    record::SourceFile,
    target::{self, TargetDisk, is_still},
};

/// `files` with the digests that were taken while their bytes came over a network, each compared with its line of the
/// manifest.
pub(crate) fn with_far_digests(
    disk: &TargetDisk,
    mut files: Vec<SourceFile>,
    cancel: &(dyn Fn() -> bool + Sync),
) -> Result<Vec<SourceFile>> {
    for (part, file) in disk.parts.iter().zip(&mut files) {
        if let (Some(digesting), Some(entry)) = (&part.digesting, &part.entry) {
            let digest = digesting.finish(cancel)?;
            checksum::compare(part.name(), entry, &digest.value)?;
            file.digest = Some(digest);
        }
    }
    Ok(files)
}

/// Digests the files that hold a disk, each against its line of the manifest, and those of the disks below it. What is `known` of files that
/// have not changed since they were read, and have no such line, is taken as it is.
pub(crate) fn digest_parts(
    disk: &TargetDisk,
    known: &[SourceFile],
    stop: &(dyn Fn() -> bool + Sync),
) -> Result<Vec<SourceFile>> {
    let of = |file: &Arc<dyn Storage>| {
        let known = known.iter().find(|known| is_still(known, file.as_ref()) && known.digest.is_some());
        match known {
            Some(known) => Ok(known.digest.clone()),
            None => checksum::of_storage(file, None, stop).map(Some),
        }
    };
    let digest = |part: &target::Part| {
        let digest = match &part.packed {
            // Taken, and compared, when it was unpacked.
            Some(packed) => Some(packed.digest.clone()),
            // Read once, for the disk: its version and the content digest tell it.
            None if part.storage.is_far() => None,
            None if part.entry.is_none() => of(&part.storage)?,
            None => Some(checksum::of_storage(&part.storage, part.entry.as_ref(), stop)?),
        };
        Ok(target::source_file(part.storage.as_ref(), digest))
    };
    let below = disk.image.iter().flat_map(|image| &image.files).map(|file| {
        let digest = if file.is_far() { None } else { of(file)? };
        Ok(target::source_file(file.as_ref(), digest))
    });
    disk.parts.iter().map(digest).chain(below).collect()
}
