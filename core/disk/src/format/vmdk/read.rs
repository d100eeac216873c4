//! Telling the kinds of files apart that a disk of this format is kept in.

use std::sync::Arc;

use super::{datastore, extents, header::MAGIC, sparse};
use crate::{
    error::{Error, Result},
    format::opener::Opener,
    image::Image,
    source::Storage,
    to_usize,
};

/// The first bytes of a descriptor file.
const DESCRIPTOR_START: &[u8] = b"# Disk DescriptorFile";
/// Whether a file that starts with `head` is a sparse extent or a descriptor file.
pub fn probe(head: &[u8]) -> bool {
    head.starts_with(&MAGIC) || head.starts_with(DESCRIPTOR_START) || datastore::probe(head)
}

/// Opens a sparse extent with its descriptor embedded, or a descriptor and the files that it names.
///
/// # Errors
/// [`Error::Damaged`] and [`Error::CutShort`] for headers and tables that break the format's rules;
/// [`Error::Unsupported`] for the kinds that datastores keep; those of opening the disk below, or the files named.
pub fn open(storage: Arc<dyn Storage>, opener: &Opener) -> Result<Image> {
    let mut start = vec![0; to_usize(storage.len().min(DESCRIPTOR_START.len() as u64))];
    storage.read_at(0, &mut start)?;
    if start == DESCRIPTOR_START {
        return extents::open(&storage, opener);
    }
    if datastore::probe(&start) {
        let what = "it is the extent of a delta, which does not say of which disk: name the descriptor beside it";
        return Err(Error::Unsupported { path: storage.name().into(), what: what.into() });
    }
    sparse::open(storage, opener)
}
