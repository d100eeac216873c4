//! Finding the disk that a VMDK is a delta of, and checking that it is the right one.

use super::descriptor::Descriptor;
use crate::{
    error::{Error, Result},
    facts::Facts,
    format::opener::Opener,
    image::Image,
    source::Storage,
    trouble::Trouble,
};

/// Opens the disk below when `descriptor`, which lies in `storage`, says that there is one, and tells of it in `facts`.
///
/// # Errors
/// [`Error::Damaged`] when it is not said which; those of opening it.
pub(super) fn open(
    storage: &dyn Storage,
    opener: &Opener,
    descriptor: &Descriptor,
    facts: &mut Facts,
) -> Result<Option<Image>> {
    let Some(cid) = descriptor.parent_cid else { return Ok(None) };
    let path = storage.name();
    let Some(hint) = &descriptor.parent_hint else {
        return Err(Error::damaged(path, None, "it is a delta of another disk, and does not say of which"));
    };
    let (name, parent) = opener.open_parent_hinted(storage, std::slice::from_ref(hint))?;
    facts.over(&name, &parent.facts);
    let wanted = format!("{cid:08x}");
    let found = parent.facts.content_id.clone().unwrap_or_else(|| "none".into());
    if found != wanted {
        facts.troubles.push(Trouble::WrongParent {
            file: path.into(),
            parent: name,
            what: "CID".into(),
            wanted,
            found,
        });
    }
    Ok(Some(parent))
}
