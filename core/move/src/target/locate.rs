//! What a path or a link leads to.

use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

use reformis_disk::{
    Storage,
    budget::Budget,
    container::{self, Source},
    error::{WireError, WireKind},
};
use reformis_wire::{Link, Wires};

use crate::{
    error::{Error, Result},
    finding::Finding,
};

/// Endings of archives that a link may continue into.
const ARCHIVES: [&str; 8] = [".ova", ".tar", ".zip", ".tgz", ".tar.gz", ".tar.xz", ".tar.zst", ".tar.bz2"];

/// What there is to say where `storage` is one moment of what `path` names in a store.
pub(super) fn moment_of(storage: &dyn Storage, path: &Path, wires: &Wires) -> Option<Finding> {
    let asked = path.to_str().filter(|text| wires.store_of(text).is_some())?;
    let how = "it is a snapshot of the store, as after a power cut".into();
    (storage.name() != asked).then(|| Finding::ReadWhileRunning { machine: asked.into(), how })
}

/// Finds what `path` names: a file, a device or a member of an archive, here or at a link.
///
/// # Errors
/// Those of [`container::locate`]; [`reformis_disk::Error::Wire`].
pub(crate) fn locate(path: &Path, budget: &Arc<Budget>, wires: &Wires) -> Result<Source> {
    if let Some((host, rest)) = path.to_str().and_then(|text| wires.host_of(text)) {
        return file_of_host(host, rest, budget, wires);
    }
    if let Some((store, name)) =
        path.to_str().and_then(|text| wires.store_of(text)).filter(|(_, name)| !name.is_empty())
    {
        return Ok(wires.store(store)?.open_at_one_moment(name, budget)?);
    }
    let Some(text) = path.to_str().filter(|_| Wires::is_link(path)) else {
        return Ok(container::locate(path, budget)?);
    };
    let link = reformis_wire::link(text)?;
    match (wires.open(&link, budget), split_at_archive(&link)) {
        (Err(reformis_disk::Error::Wire(error)), Some((archive, member))) if error.kind == WireKind::Absent => {
            let storage = wires.open(&archive, budget)?.random_access()?;
            Ok(container::locate_in(storage, Some(&member))?)
        }
        (opened, _) => Ok(opened?),
    }
}

/// The file of a machine of `host`: `MACHINE/FILE`.
fn file_of_host(host: &str, rest: &str, budget: &Arc<Budget>, wires: &Wires) -> Result<Source> {
    let absent = |what: &str| {
        let (action, place, kind) = ("opening", format!("{host}:{rest}"), WireKind::Absent);
        Error::Disk(WireError { action, place, offset: None, what: what.into(), kind }.into())
    };
    let rows = wires.machines(host)?;
    let file = |name: &str| rest.strip_prefix(name).filter(|file| file.starts_with('/') && file.len() > 1);
    let found = rows.iter().filter_map(|row| Some((&row.name, file(&row.name)?))).max_by_key(|(name, _)| name.len());
    let Some((machine, file)) = found else {
        return Err(absent("it has no machine of this name, or no file is named"));
    };
    let files = wires.machine(host, machine, budget)?.files;
    for name in [file.trim_start_matches('/'), file] {
        if let Some(source) = files.find(name)? {
            return Ok(source);
        }
    }
    Err(absent("the machine has no file of this name"))
}

/// The link to the archive that `link` continues into, and the member.
fn split_at_archive(link: &Link) -> Option<(Link, String)> {
    let mut end = 0;
    for part in link.path.split_inclusive('/') {
        end += part.len();
        let name = part.trim_end_matches('/').to_ascii_lowercase();
        if part.ends_with('/') && ARCHIVES.iter().any(|ending| name.ends_with(ending)) {
            let (archive, member) = link.path.split_at_checked(end - 1)?;
            let archive = Link { query: link.query.clone(), ..link.with_path(archive) };
            let member = member.trim_start_matches('/');
            return (!member.is_empty()).then(|| (archive, member.into()));
        }
    }
    None
}

/// The plain files in the folder at `path`, sorted, hidden ones left out; `None` where it is no folder.
///
/// # Errors
/// What the system or the other end says.
pub fn files_in(path: &Path, wires: &Wires) -> Result<Option<Vec<PathBuf>>> {
    if let Some(text) = path.to_str().filter(|_| Wires::is_link(path)) {
        let link = reformis_wire::link(text)?;
        let Some(mut names) = wires.list(&link)? else { return Ok(None) };
        names.retain(|name| !name.starts_with('.'));
        names.sort();
        let folder = if link.path.ends_with('/') { link } else { link.with_path(format!("{}/", link.path)) };
        return Ok(Some(names.iter().map(|name| folder.beside(name).to_string().into()).collect()));
    }
    if !path.is_dir() {
        return Ok(None);
    }
    let entries = std::fs::read_dir(path).map_err(Error::io("listing", path))?;
    let visible = entries.flatten().filter(|entry| !entry.file_name().as_encoded_bytes().starts_with(b"."));
    let mut files: Vec<PathBuf> = visible.map(|entry| entry.path()).filter(|path| path.is_file()).collect();
    files.sort();
    Ok(Some(files))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_link_continues_into_an_archive_behind_its_name() {
        let split =
            |text: &str| split_at_archive(&Link::parse(text).unwrap()).map(|(link, member)| (link.to_string(), member));
        assert_eq!(split("https://h/a/t.ova/t-disk1.vmdk"), Some(("https://h/a/t.ova".into(), "t-disk1.vmdk".into())));
        assert_eq!(split("ssh://h/a/t.TAR.GZ/sub/d.img"), Some(("ssh://h/a/t.TAR.GZ".into(), "sub/d.img".into())));
        assert_eq!(split("https://h/a/t.ova"), None);
        assert_eq!(split("https://h/a/t.ova/"), None);
        assert_eq!(split("https://h/ova/t.vmdk"), None);
    }
}
