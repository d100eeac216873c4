//! The registry of a system: which hive lies where.

use crate::{
    error::{Error, Result},
    formats::hive::{Hive, Source, log},
    fs::tree::{OpenFile, Tree},
};

/// The folder of the system's own hives.
const FOLDER: &str = "/Windows/System32/config";

/// Hives that lie in that folder.
const OWN: [&str; 9] = ["SYSTEM", "SOFTWARE", "SAM", "SECURITY", "DEFAULT", "COMPONENTS", "DRIVERS", "ELAM", "BBI"];

/// The boot store, which may lie on another volume.
pub(crate) const BOOT_STORE: &str = "BCD";

impl Source for OpenFile {
    fn len(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        if self.fill(offset, buf)? == buf.len() {
            return Ok(());
        }
        let (path, size) = (self.path.clone(), self.size);
        Err(Error::Damaged { volume: path, what: format!("it ends before its {size} bytes do") })
    }
}

/// The path of the hive `name`: a path is itself, and a name is one of the system's own.
pub(crate) fn path(name: &str) -> String {
    match OWN.iter().find(|own| own.eq_ignore_ascii_case(name)) {
        Some(own) => format!("{FOLDER}/{own}"),
        None => name.into(),
    }
}

/// Opens the hive at `path` of a tree, with what its logs hold. Changes are made at `now`, in seconds since 1970.
///
/// # Errors
/// Those of the tree; [`Error::Damaged`]; [`Error::Unsupported`].
pub(crate) fn open(tree: &Tree, path: &str, now: i64) -> Result<Hive> {
    let file = tree.open_file(path)?;
    let logs = || {
        let paths = [".LOG1", ".LOG2", ".LOG"].map(|end| format!("{path}{end}"));
        let there = paths.iter().filter(|path| tree.stat(path).is_ok_and(|stat| stat.size > 0));
        there.map(|path| tree.read(path, log::MOST)).collect()
    };
    Hive::open(Box::new(file), path, &logs, crate::fs::ntfs::ticks(now), tree.budget())
}

/// Writes what was changed in the hive at `path`, and empties the logs of one that was replayed. Gives the changes.
///
/// # Errors
/// Those of the tree.
pub(crate) fn write(tree: &mut Tree, path: &str, hive: &mut Hive) -> Result<Vec<crate::formats::hive::Changed>> {
    let (changes, writes) = hive.finish()?;
    for (at, bytes) in &writes {
        tree.write_at(path, *at, bytes)?;
    }
    if hive.was_replayed && !changes.is_empty() {
        for end in [".LOG1", ".LOG2", ".LOG"] {
            let log = format!("{path}{end}");
            if tree.stat(&log).is_ok_and(|stat| stat.size > 0) {
                tree.truncate(&log, 0)?;
            }
        }
    }
    Ok(changes)
}
