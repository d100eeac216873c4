//! Finding the disk that a differencing disk is a delta of (section 2.6.2.6), and checking that it is the right one.

use std::sync::Arc;

use crate::{disk::Disk, error::Result, facts::Facts, format::opener::Opener, source::Storage, trouble::Trouble};

/// Where the parent may be, best first: from here, and from the root of the host where the delta was made.
const PATHS: [&str; 2] = ["relative_path", "absolute_win32_path"];
/// The state of the parent that the delta was made of; the second is valid while the parent is being replaced.
const LINKAGES: [&str; 2] = ["parent_linkage", "parent_linkage2"];

/// Opens the disk below by the keys and values of `locator`, and tells of it in `facts`.
///
/// # Errors
/// Those of opening it.
pub(super) fn open(
    storage: &dyn Storage,
    opener: &Opener,
    locator: &[(String, String)],
    facts: &mut Facts,
) -> Result<Arc<dyn Disk>> {
    let values = |keys: [&'static str; 2]| {
        keys.into_iter().flat_map(|key| locator.iter().filter(move |(k, _)| k == key).map(|(_, value)| value))
    };
    let plain = |path: &String| path.replace('\\', "/").trim_start_matches("./").to_string();
    let hints: Vec<String> = values(PATHS).map(plain).filter(|hint| !hint.is_empty()).collect();
    let (name, parent) = opener.open_parent_hinted(storage, &hints)?;
    facts.over(&name, &parent.facts);
    let wanted: Vec<String> = values(LINKAGES).map(|id| id.trim_matches(['{', '}']).to_lowercase()).collect();
    let found = parent.facts.content_id.clone().unwrap_or_else(|| "none".into());
    if !wanted.contains(&found) {
        let (file, what, wanted) = (storage.name().into(), "the state".into(), wanted.join(" or "));
        facts.troubles.push(Trouble::WrongParent { file, parent: name, what, wanted, found });
    }
    Ok(parent.disk)
}
