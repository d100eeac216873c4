//! What a result keeps of the file that it replaces: owner, group, mode, access control list, security label, and the
//! attributes that people set.

use std::{
    fs::File,
    os::fd::AsFd,
    path::{Path, PathBuf},
};

use rustix::{
    fs::{Mode, Stat, XattrFlags, fgetxattr, flistxattr, fsetxattr, fstat},
    io::Errno,
};

use super::place::{chown, system};
use crate::error::{Error, Result};

/// The most bytes of one extended attribute, or of the list of their names (xattr(7)).
const MAX_BYTES: usize = 64 << 10;

/// Owner, mode and attributes of a file or folder.
pub(super) struct Kept {
    stat: Stat,
    attributes: Vec<(Vec<u8>, Vec<u8>)>,
    /// What is replaced, for messages.
    path: PathBuf,
}

impl Kept {
    /// What `file`, which lies at `path`, has.
    pub(super) fn of(file: impl AsFd, path: &Path) -> Result<Self> {
        let stat = fstat(&file).map_err(system("looking at", path))?;
        let attributes = attributes(&file).map_err(system("reading the attributes of", path))?;
        Ok(Self { stat, attributes, path: path.into() })
    }

    /// Fails now, and not after hours of writing, when `file` cannot be given the same owner.
    pub(super) fn check(&self, file: &File) -> Result<()> {
        let own = fstat(file).map_err(system("looking at", &self.path))?;
        if (own.st_uid, own.st_gid) != (self.stat.st_uid, self.stat.st_gid) {
            self.give_owner(file)?;
            chown(file, own.st_uid, own.st_gid).map_err(system("preparing to replace", &self.path))?;
        }
        Ok(())
    }

    fn give_owner(&self, file: impl AsFd) -> Result<()> {
        let (owner, group) = (self.stat.st_uid, self.stat.st_gid);
        chown(file, owner, group).map_err(|_| Error::OwnerNotKept {
            path: self.path.to_string_lossy().into(),
            owner,
            group,
        })
    }

    /// Gives all of it to `file`, which takes its place.
    pub(super) fn give(&self, file: impl AsFd) -> Result<()> {
        let own = fstat(&file).map_err(system("looking at", &self.path))?;
        if (own.st_uid, own.st_gid) != (self.stat.st_uid, self.stat.st_gid) {
            self.give_owner(&file)?;
        }
        let mode = Mode::from_raw_mode(self.stat.st_mode & 0o7777);
        rustix::fs::fchmod(&file, mode).map_err(system("setting the mode of", &self.path))?;
        for (name, value) in &self.attributes {
            match fsetxattr(&file, name.as_slice(), value, XattrFlags::empty()) {
                // The label that the policy gives to new files of that folder stays, where ours may not be set.
                Err(Errno::PERM | Errno::ACCESS | Errno::NOTSUP) if name.starts_with(b"security.") => {}
                result => result.map_err(system("keeping the attributes of", &self.path))?,
            }
        }
        Ok(())
    }
}

/// Those that stay: an access control list, a security label, and those of people.
fn attributes(file: impl AsFd) -> rustix::io::Result<Vec<(Vec<u8>, Vec<u8>)>> {
    let mut names = vec![0; MAX_BYTES];
    let len = match flistxattr(&file, names.as_mut_slice()) {
        Ok(len) => len,
        Err(Errno::NOTSUP) => 0,
        Err(error) => return Err(error),
    };
    names.truncate(len);
    let mut kept = Vec::new();
    for name in names.split(|&byte| byte == 0) {
        let stays =
            name.starts_with(b"user.") || [&b"system.posix_acl_access"[..], b"security.selinux"].contains(&name);
        if !stays {
            continue;
        }
        let mut value = vec![0; MAX_BYTES];
        match fgetxattr(&file, name, value.as_mut_slice()) {
            Ok(len) => {
                value.truncate(len);
                kept.push((name.to_vec(), value));
            }
            // Removed meanwhile.
            Err(Errno::NODATA) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(kept)
}
