//! Finding the disk that a VDI is a delta of: the image in its folder that has the UUID.

use std::sync::Arc;

use uuid::Uuid;

use super::header::{Header, probe, read_header};
use crate::{
    disk::Disk,
    error::{Error, Result},
    facts::Facts,
    format::opener::Opener,
    shape::Format,
    source::{Links, Storage, read_vec},
    trouble::Trouble,
};

/// Opens the disk below and tells of it in `facts`.
///
/// # Errors
/// [`Error::Unsupported`] when no image in the folder has the UUID; those of opening it.
pub(super) fn open(
    storage: &dyn Storage,
    opener: &Opener,
    header: &Header,
    facts: &mut Facts,
) -> Result<Arc<dyn Disk>> {
    let Some(name) = find(storage, opener, &header.parent_uuid)? else {
        let uuid = Uuid::from_bytes_le(header.parent_uuid);
        let what = format!("it is a delta of the disk with UUID {uuid}, and no image in its folder has that UUID");
        return Err(Error::Unsupported { path: storage.name().into(), what });
    };
    let parent = opener.open_parent(storage, &name, Some(Format::Vdi))?;
    facts.over(&name, &parent.facts);
    let wanted = Uuid::from_bytes_le(header.parent_modification_uuid);
    let found = parent.facts.content_id.clone().unwrap_or_default();
    if !wanted.is_nil() && found != wanted.to_string() {
        let (file, what) = (storage.name().into(), "the state".into());
        facts.troubles.push(Trouble::WrongParent { file, parent: name, what, wanted: wanted.to_string(), found });
    }
    Ok(parent.disk)
}

/// The image beside `storage`, or among the related ones, that has this UUID.
fn find(storage: &dyn Storage, opener: &Opener, uuid: &[u8; 16]) -> Result<Option<String>> {
    let is_it = |file: &dyn Storage| {
        // What cannot be read or is no image is not the parent.
        let Ok(head) = read_vec(file, 0, 68, "its start") else { return false };
        probe(&head) && read_header(file).is_ok_and(|header| header.uuid == *uuid)
    };
    for name in storage.neighbours()? {
        if storage.sibling(&name, Links::OwnFolder).is_ok_and(|file| is_it(file.as_ref())) {
            return Ok(Some(name));
        }
    }
    let related = opener.related().iter().find(|file| is_it(file.as_ref()));
    Ok(related.map(|file| file.name().rsplit('/').next().unwrap_or_default().to_string()))
}
