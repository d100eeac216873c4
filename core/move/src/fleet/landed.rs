//! The files of a landing as they were when it landed: by them it is known later what is still as it was made, what was written to since, and
//! what somebody put there.

use std::{
    fs::Metadata,
    os::unix::{ffi::OsStrExt, fs::MetadataExt},
    path::Path,
};

use reformis_disk::text::printable;
use serde::{Deserialize, Serialize};

use crate::{
    error::{Error, Result},
    receipt::{self, Receipt},
};

/// A file of a landing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct LandedFile {
    /// Its name; what it has that is no text is replaced, and then it is no file of ours.
    name: String,
    device: u64,
    inode: u64,
    size: u64,
    /// When anything of it changed last: seconds and nanoseconds. Nobody can set that (stat(2), `st_ctim`).
    changed: (i64, i64),
}

impl LandedFile {
    fn of(name: &str, metadata: &Metadata) -> Self {
        Self {
            name: name.into(),
            device: metadata.dev(),
            inode: metadata.ino(),
            size: metadata.len(),
            changed: (metadata.ctime(), metadata.ctime_nsec()),
        }
    }
}

/// The files in `folder`, which has just landed.
///
/// # Errors
/// What the system says.
pub(super) fn files_of(folder: &Path) -> Result<Vec<LandedFile>> {
    let mut files = Vec::new();
    for entry in std::fs::read_dir(folder).map_err(Error::io("listing", folder))? {
        let entry = entry.map_err(Error::io("listing", folder))?;
        let metadata = entry.metadata().map_err(Error::io("looking at", &entry.path()))?;
        files.push(LandedFile::of(&entry.file_name().to_string_lossy(), &metadata));
    }
    Ok(files)
}

/// The names of the files that `receipt` lists, beside itself.
pub(super) fn names_of(receipt: &Receipt) -> Vec<String> {
    let disks = receipt.disks.iter().map(|disk| disk.result.split('/').next().unwrap_or_default().to_string());
    let machine = receipt
        .machine
        .iter()
        .flat_map(|machine| std::iter::once(&machine.file).chain(machine.also.iter().map(|also| &also.file)));
    disks.chain(machine.cloned()).chain([receipt::FILE_NAME.to_string()]).collect()
}

/// What is in `folder` that did not land like that, each as a sentence; `files` are those that landed.
///
/// # Errors
/// What the system says: what cannot be seen is not known to be as it was.
pub(super) fn strange(folder: &Path, files: &[LandedFile]) -> Result<Vec<(String, String)>> {
    let mut strange = Vec::new();
    for now in files_of(folder)? {
        let shown = printable(&now.name);
        let why = match files.iter().find(|file| file.name == now.name) {
            None => format!("'{shown}' is no file of the landing: somebody put it there"),
            Some(was) if *was != now => {
                format!("'{shown}' was written to since it landed: the machine was started there")
            }
            Some(_) if is_in_use(folder, &now) => format!("'{shown}' is in use: the machine runs there"),
            Some(_) => continue,
        };
        strange.push((now.name, why));
    }
    Ok(strange)
}

/// Whether some process has the file open to write to it, or a lock on it, as far as can be seen: of processes of others only locks can
/// (proc(5), `/proc/locks` and `/proc/pid/fdinfo`).
fn is_in_use(folder: &Path, file: &LandedFile) -> bool {
    let locks = std::fs::read_to_string("/proc/locks").unwrap_or_default();
    let (major, minor) = (rustix::fs::major(file.device), rustix::fs::minor(file.device));
    let (place, inode) = (format!("{major:02x}:{minor:02x}:{}", file.inode), format!(":{}", file.inode));
    // A file system of several volumes tells of another device there than for its files (Btrfs).
    let is_it = |word: &str| word == place || major == 0 && word.ends_with(&inode);
    if locks.lines().any(|line| line.split_whitespace().any(is_it)) {
        return true;
    }
    let whole = folder.canonicalize().unwrap_or_else(|_| folder.into()).join(&file.name);
    let processes = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let processes = processes.filter(|entry| entry.file_name().as_bytes().iter().all(u8::is_ascii_digit));
    processes.into_iter().any(|process| {
        let open = std::fs::read_dir(process.path().join("fd")).into_iter().flatten().flatten();
        open.into_iter().any(|entry| {
            let is_it = std::fs::read_link(entry.path()).is_ok_and(|leads| leads == whole);
            is_it && writes(&process.path().join("fdinfo").join(entry.file_name()))
        })
    })
}

/// Whether the descriptor that is told of at `path` may write.
fn writes(path: &Path) -> bool {
    let told = std::fs::read_to_string(path).unwrap_or_default();
    let flags = told.lines().find_map(|line| line.strip_prefix("flags:"));
    // In octal digits; O_ACCMODE are the last two bits (open(2)).
    flags.and_then(|flags| u32::from_str_radix(flags.trim(), 8).ok()).is_some_and(|flags| flags & 3 != 0)
}

#[cfg(test)]
mod tests {
    use std::{
        fs,
        io::{Seek, Write},
    };

    use super::*;

    #[test]
    fn whatever_is_done_to_a_landing_is_seen() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        let fresh = || {
            for entry in fs::read_dir(folder.path()).unwrap().flatten() {
                let path = entry.path();
                if path.is_dir() { fs::remove_dir_all(path).unwrap() } else { fs::remove_file(path).unwrap() }
            }
            fs::write(at("disk"), b"0123456789").unwrap();
            fs::write(at("receipt.json"), b"{}").unwrap();
            // The clock of a file system may stand still for some milliseconds.
            std::thread::sleep(std::time::Duration::from_millis(20));
            files_of(folder.path()).unwrap()
        };
        let told = |files: &[LandedFile]| -> Vec<String> {
            strange(folder.path(), files).unwrap().into_iter().map(|(name, _)| name).collect()
        };
        let files = fresh();
        assert!(told(&files).is_empty());
        // Read, it is what it was.
        fs::read(at("disk")).unwrap();
        assert!(told(&files).is_empty());
        let doings: [(&str, &dyn Fn()); 6] = [
            ("disk", &|| {
                // As a guest does that keeps the time: written in the middle, and the time set back.
                let was = at("disk").metadata().unwrap().modified().unwrap();
                let mut file = fs::File::options().write(true).open(at("disk")).unwrap();
                file.seek(std::io::SeekFrom::Start(3)).unwrap();
                file.write_all(b"x").unwrap();
                file.set_modified(was).unwrap();
            }),
            ("disk", &|| {
                fs::copy(at("disk"), at("copy")).unwrap();
                fs::rename(at("copy"), at("disk")).unwrap();
            }),
            ("notes", &|| fs::write(at("notes"), b"older than all").unwrap()),
            ("below", &|| fs::create_dir(at("below")).unwrap()),
            ("link", &|| std::os::unix::fs::symlink("disk", at("link")).unwrap()),
            ("disk", &|| fs::File::options().write(true).open(at("disk")).unwrap().set_len(4).unwrap()),
        ];
        for (name, doing) in doings {
            let files = fresh();
            doing();
            assert_eq!(told(&files), [name]);
        }
        let files = fresh();
        let open = fs::File::options().write(true).open(at("disk")).unwrap();
        assert_eq!(told(&files), ["disk"], "somebody has it open");
        drop(open);
        let locked = fs::File::open(at("disk")).unwrap();
        locked.lock_shared().unwrap();
        assert_eq!(told(&files), ["disk"], "somebody has a lock on it");
        drop(locked);
        assert!(told(&files).is_empty());
        // Gone is not strange: an undo that was killed may have removed it.
        fs::remove_file(at("disk")).unwrap();
        assert!(told(&files).is_empty());
        assert!(strange(&at("none"), &files).is_err(), "what cannot be seen is not known");
    }
}
