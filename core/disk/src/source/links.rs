//! Names that a stranger's file contains, and where they may lead.

use std::{
    fs::File,
    os::fd::{AsRawFd, OwnedFd},
    path::{Path, PathBuf},
    sync::Arc,
};

use rustix::fs::{FileType, Mode, OFlags, fstat};

use super::FileStorage;
use crate::{
    budget::Budget,
    error::{Error, Result},
};

/// Whether names that a stranger's file contains may lead outside its own folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Links {
    /// Only to plain files in the folder of the file that names them, or below it.
    #[default]
    OwnFolder,
    /// Anywhere, but never to a device.
    Trusted,
}

/// Opens the plain file `name`, which the file in `folder` called `by` contains. What is opened is what is looked at: where
/// it really lies is asked of the open file, so that nobody can put another one there in between. What is collected from it is
/// counted against `budget`.
///
/// # Errors
/// [`Error::UnsafeName`] when it leads out of the folder (also through a symbolic link) or to something that is no
/// plain file; what the system says when it is not there.
pub fn open_link(folder: &Path, by: &str, name: &str, links: Links, budget: &Arc<Budget>) -> Result<FileStorage> {
    let refuse =
        |why: &str, trustable| Error::UnsafeName { path: by.into(), name: name.into(), why: why.into(), trustable };
    if links == Links::OwnFolder
        && let Err(why) = check_relative_name(name)
    {
        return Err(refuse(why, true));
    }
    let path = folder.join(name);
    let shown = path.to_string_lossy().into_owned();
    // A handle that nothing is read from: opening a device may already do something.
    let found = handle(&path).map_err(Error::io("opening", &shown, None))?;
    if links == Links::OwnFolder {
        let home = handle(folder).and_then(|folder| real_path(&folder));
        let home = home.map_err(Error::io("opening", folder.to_string_lossy(), None))?;
        let real = real_path(&found).map_err(Error::io("opening", &shown, None))?;
        if !real.starts_with(&home) {
            return Err(refuse("a symbolic link leads it out of that file's folder", true));
        }
    }
    let stat = fstat(&found).map_err(|error| Error::io("opening", &shown, None)(error.into()))?;
    if FileType::from_raw_mode(stat.st_mode) != FileType::RegularFile {
        return Err(refuse("that is not a plain file", false));
    }
    let file = File::open(by_handle(&found)).map_err(Error::io("opening", &shown, None))?;
    FileStorage::opened(file, path, budget)
}

/// Opens the plain file at `path`, which `by`, the file of another, names. Where `home` is the folder of that file, it has to lie in there; what is
/// opened is what is looked at.
///
/// # Errors
/// [`Error::UnsafeName`] when it lies elsewhere, or is no plain file; what the system says when it is not there.
pub fn open_within(home: Option<&Path>, by: &str, path: &Path) -> Result<File> {
    let shown = path.to_string_lossy();
    let found = within(home, by, path)?;
    let stat = fstat(&found).map_err(|error| Error::io("opening", &*shown, None)(error.into()))?;
    if FileType::from_raw_mode(stat.st_mode) != FileType::RegularFile {
        let why = "that is not a plain file".into();
        return Err(Error::UnsafeName { path: by.into(), name: shown.into(), why, trustable: false });
    }
    File::open(by_handle(&found)).map_err(Error::io("opening", &*shown, None))
}

/// Whether what is at `path` lies in `home`, as for [`open_within`]; it may be a folder.
///
/// # Errors
/// As those of [`open_within`].
pub fn check_within(home: Option<&Path>, by: &str, path: &Path) -> Result<()> {
    within(home, by, path).map(drop)
}

fn within(home: Option<&Path>, by: &str, path: &Path) -> Result<OwnedFd> {
    let shown = path.to_string_lossy();
    let found = handle(path).map_err(Error::io("opening", &*shown, None))?;
    if let Some(home) = home {
        let own = handle(home).and_then(|folder| real_path(&folder));
        let own = own.map_err(Error::io("opening", home.to_string_lossy(), None))?;
        let real = real_path(&found).map_err(Error::io("opening", &*shown, None))?;
        if !real.starts_with(&own) {
            let why =
                "it leads out of the folder of that file, which somebody else has written, or may write to".into();
            return Err(Error::UnsafeName { path: by.into(), name: shown.into(), why, trustable: true });
        }
    }
    Ok(found)
}

fn handle(path: &Path) -> std::io::Result<OwnedFd> {
    Ok(rustix::fs::open(path, OFlags::PATH | OFlags::CLOEXEC, Mode::empty())?)
}

/// The name that the kernel gives an open file (proc(5), `/proc/pid/fd`).
fn by_handle(file: &OwnedFd) -> PathBuf {
    format!("/proc/self/fd/{}", file.as_raw_fd()).into()
}

/// Where an open file lies.
fn real_path(file: &OwnedFd) -> std::io::Result<PathBuf> {
    std::fs::read_link(by_handle(file))
}

/// Says why `name` is not a relative path that stays below the folder where it starts.
///
/// # Errors
/// The reason, as the end of a sentence.
pub fn check_relative_name(name: &str) -> Result<(), &'static str> {
    if name.is_empty() {
        return Err("the name is empty");
    }
    if name.contains('\0') {
        return Err("the name holds a NUL character");
    }
    let drive = matches!(name.as_bytes(), [letter, b':', ..] if letter.is_ascii_alphabetic());
    if name.starts_with(['/', '\\']) || drive {
        return Err("the name is absolute");
    }
    if name.split(['/', '\\']).any(|part| part == "..") {
        return Err("the name climbs out of its folder");
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;
    use crate::source::Storage;

    #[test]
    fn names_that_leave_their_folder_are_refused() {
        for name in ["", "/etc/passwd", "../x", "a/../../x", "..", "C:\\x", "\\\\host\\x", "a\0b", "a\\..\\..\\b"] {
            assert!(check_relative_name(name).is_err(), "{name:?}");
        }
        for name in ["disk.vmdk", "sub/disk.vmdk", "./disk", "..disk", "a..b", "küste.vmdk"] {
            assert_eq!(check_relative_name(name), Ok(()), "{name:?}");
        }
    }

    #[test]
    fn what_anothers_file_names_lies_beside_it() {
        let (outside, home) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        std::fs::write(outside.path().join("secret"), b"x").unwrap();
        std::fs::write(home.path().join("script"), b"x").unwrap();
        symlink(outside.path().join("secret"), home.path().join("link")).unwrap();
        let open = |home: Option<&Path>, path: &Path| open_within(home, "a.toml", path).map(drop);
        let own = Some(home.path());
        assert!(open(own, &home.path().join("script")).is_ok());
        for path in [home.path().join("link"), outside.path().join("secret"), home.path().join("../../etc/passwd")] {
            assert!(matches!(open(own, &path), Err(Error::UnsafeName { trustable: true, .. })), "{}", path.display());
        }
        assert!(open(None, &home.path().join("link")).is_ok(), "whose file it is may lead anywhere");
        for path in ["/dev/null", "/tmp"] {
            assert!(matches!(open(None, Path::new(path)), Err(Error::UnsafeName { trustable: false, .. })));
        }
        assert!(
            check_within(own, "a.toml", home.path()).is_ok() && check_within(own, "a.toml", outside.path()).is_err()
        );
    }

    #[test]
    fn a_link_out_of_the_folder_needs_trust_and_a_device_is_never_opened() {
        let outside = tempfile::tempdir().unwrap();
        let inside = tempfile::tempdir().unwrap();
        std::fs::write(outside.path().join("secret"), b"x").unwrap();
        std::fs::create_dir(inside.path().join("below")).unwrap();
        std::fs::write(inside.path().join("below/own"), b"own").unwrap();
        symlink(outside.path().join("secret"), inside.path().join("link")).unwrap();
        symlink(inside.path().join("below/own"), inside.path().join("home")).unwrap();
        symlink(outside.path(), inside.path().join("folder")).unwrap();
        symlink("/dev/null", inside.path().join("null")).unwrap();
        let open = |name: &str, links| open_link(inside.path(), "x.ovf", name, links, &Budget::whole());
        for name in ["link", "folder/secret"] {
            assert!(matches!(open(name, Links::OwnFolder), Err(Error::UnsafeName { trustable: true, .. })), "{name}");
            assert_eq!(open(name, Links::Trusted).unwrap().len(), 1, "{name}");
        }
        assert_eq!(open("home", Links::OwnFolder).unwrap().len(), 3, "a link to its own folder");
        assert!(matches!(open("null", Links::Trusted), Err(Error::UnsafeName { trustable: false, .. })));
        assert!(matches!(open("absent", Links::OwnFolder), Err(Error::Io { .. })));
    }

    /// The name is changed between a file and a link out of the folder all the while: what is opened is the file, or nothing.
    #[test]
    fn a_name_that_changes_meanwhile_leads_nowhere_else() {
        let outside = tempfile::tempdir().unwrap();
        let inside = tempfile::tempdir().unwrap();
        let at = |name: &str| inside.path().join(name);
        std::fs::write(outside.path().join("secret"), b"secret").unwrap();
        std::fs::write(at("own"), b"own").unwrap();
        symlink(outside.path().join("secret"), at("link")).unwrap();
        std::fs::hard_link(at("own"), at("disk")).unwrap();
        let stop = std::sync::atomic::AtomicBool::new(false);
        std::thread::scope(|scope| {
            scope.spawn(|| {
                let exchange = rustix::fs::RenameFlags::EXCHANGE;
                while !stop.load(std::sync::atomic::Ordering::Relaxed) {
                    let _ =
                        rustix::fs::renameat_with(rustix::fs::CWD, at("disk"), rustix::fs::CWD, at("link"), exchange);
                }
            });
            for _ in 0..3000 {
                if let Ok(opened) = open_link(inside.path(), "x.ovf", "disk", Links::OwnFolder, &Budget::whole()) {
                    assert_eq!(opened.len(), 3);
                }
            }
            stop.store(true, std::sync::atomic::Ordering::Relaxed);
        });
    }
}
