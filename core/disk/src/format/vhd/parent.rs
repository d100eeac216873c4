//! Finding the disk that a differencing disk is a delta of, and checking that it is the right one.

use std::sync::Arc;

use uuid::Uuid;

use super::footer::{ABSOLUTE, DynamicHeader, RELATIVE};
use crate::{
    disk::Disk,
    error::Result,
    facts::Facts,
    format::opener::Opener,
    source::{Storage, read_vec},
    text::from_utf16,
    trouble::Trouble,
};

/// The longest name that is read, in bytes.
const MAX_NAME: u32 = 64 << 10;

/// Opens the disk below and tells of it in `facts`.
///
/// # Errors
/// Those of opening it.
pub(super) fn open(
    storage: &dyn Storage,
    opener: &Opener,
    header: &DynamicHeader,
    facts: &mut Facts,
) -> Result<Arc<dyn Disk>> {
    let (name, parent) = opener.open_parent_hinted(storage, &hints(storage, header)?)?;
    facts.over(&name, &parent.facts);
    let wanted = Uuid::from_bytes(header.parent_uuid).to_string();
    let found = parent.facts.content_id.clone().unwrap_or_else(|| "none".into());
    if found != wanted {
        let (file, what) = (storage.name().into(), "UUID".into());
        facts.troubles.push(Trouble::WrongParent { file, parent: name, what, wanted, found });
    }
    Ok(parent.disk)
}

/// Where the parent may be: from here, as it is called, and from the root of the host where the delta was made.
fn hints(storage: &dyn Storage, header: &DynamicHeader) -> Result<Vec<String>> {
    let mut hints = Vec::new();
    for kind in [RELATIVE, ABSOLUTE] {
        for locator in header.parent_locators.iter().filter(|locator| locator.platform_code == kind) {
            let len = locator.platform_data_length.get().min(MAX_NAME) as usize;
            let bytes = read_vec(storage, locator.platform_data_offset.get(), len, "the parent's name")?;
            let (pairs, _) = bytes.as_chunks::<2>();
            hints.push(from_utf16(pairs.iter().map(|pair| u16::from_le_bytes(*pair))));
        }
    }
    let (pairs, _) = header.parent_name.as_chunks::<2>();
    hints.insert(hints.len().min(1), from_utf16(pairs.iter().map(|pair| u16::from_be_bytes(*pair))));
    // Paths of another system, and a folder that means its own.
    let plain = |hint: String| hint.replace('\\', "/").trim_start_matches("./").to_string();
    Ok(hints.into_iter().map(plain).filter(|hint| !hint.is_empty()).collect())
}
