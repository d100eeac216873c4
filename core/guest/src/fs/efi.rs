//! The loaders on an EFI system partition.

use std::ops::ControlFlow;

use super::{FileSystem, node::Kind};
use crate::error::Result;

const MAX_LOADERS: usize = 64;
/// Folders below `EFI` that are looked into.
const MAX_FOLDERS: usize = 128;

/// The files below `EFI` that a firmware could start, as paths with `/`, sorted.
///
/// # Errors
/// Those of the file system.
pub(crate) fn loaders(fs: &dyn FileSystem) -> Result<Vec<String>> {
    let mut found = Vec::new();
    let Some(efi) = fs.lookup(fs.root(), b"EFI")? else { return Ok(found) };
    let mut folders = Vec::new();
    fs.read_dir(efi.node, &mut |entry| {
        if fs.stat(entry.node)?.kind == Kind::Folder {
            folders.push(entry);
        }
        Ok(if folders.len() < MAX_FOLDERS { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
    })?;
    for folder in folders {
        fs.read_dir(folder.node, &mut |entry| {
            if entry.name.to_ascii_lowercase().ends_with(b".efi") && fs.stat(entry.node)?.kind == Kind::File {
                let text = |name: &[u8]| String::from_utf8_lossy(name).into_owned();
                found.push(format!("EFI/{}/{}", text(&folder.name), text(&entry.name)));
            }
            Ok(if found.len() < MAX_LOADERS { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
        })?;
    }
    // One system keeps its loader a folder deeper, among files that are no loaders of a firmware's.
    let mut at = efi.node;
    let mut path = String::from("EFI");
    for name in ["Microsoft", "Boot", "bootmgfw.efi"] {
        match fs.lookup(at, name.as_bytes()) {
            Ok(Some(entry)) => {
                at = entry.node;
                path = format!("{path}/{}", String::from_utf8_lossy(&entry.name));
            }
            Ok(None) | Err(crate::Error::WrongKind { .. }) => {
                path.clear();
                break;
            }
            Err(error) => return Err(error),
        }
    }
    found.extend(Some(path).filter(|path| !path.is_empty()));
    found.sort();
    Ok(found)
}
