//! What the kernel does with a volume before the program sees it. What it refuses, it refuses: the volume is what came of it.

use std::{
    ffi::OsStr,
    fs::{self, File, OpenOptions, Permissions},
    io::{Seek, SeekFrom, Write},
    os::unix::{
        ffi::OsStrExt,
        fs::{FileExt, OpenOptionsExt, PermissionsExt, symlink},
    },
    path::{Path, PathBuf},
    process::Command,
};

use rustix::fs::{
    AtFlags, CWD, FallocateFlags, FileType, Mode, OFlags, Timespec, Timestamps, XattrFlags, fallocate, ioctl_ficlone,
    lsetxattr, mknodat, statvfs, utimensat,
};

use crate::case::{Hand, bytes, path, target};

pub(crate) fn at(root: &Path, place: &[u8]) -> PathBuf {
    root.join(OsStr::from_bytes(&path(place)))
}

/// An access list as the kernel takes it: owner, so many named users, group, mask, others.
fn list(users: u8) -> Vec<u8> {
    let mut value = 2_u32.to_le_bytes().to_vec();
    let mut entry = |tag: u16, permissions: u16, id: u32| {
        value.extend(tag.to_le_bytes());
        value.extend(permissions.to_le_bytes());
        value.extend(id.to_le_bytes());
    };
    entry(1, 7, !0);
    (0..users).for_each(|user| entry(2, u16::from(user) % 8, 1000 + u32::from(user)));
    entry(4, 5, !0);
    entry(8, 50, 4242);
    entry(16, 6, !0);
    entry(32, 4, !0);
    value
}

/// The names of attributes.
fn attribute(which: u8, len: u32) -> (&'static str, Vec<u8>) {
    match which {
        0 => ("security.selinux", b"system_u:object_r:etc_t:s0\0".to_vec()),
        1 => ("security.selinux", format!("system_u:object_r:{}_t:s0\0", "x".repeat(len as usize % 600)).into_bytes()),
        // File capabilities, version 2 (`capabilities(7)`).
        2 => ("security.capability", [&[1, 0, 0, 2][..], &[0, 4, 0, 0], &[0; 12]].concat()),
        3 => ("user.tide", bytes(len, len as usize)),
        4 => ("user.k=v%", bytes(len, len as usize % 50)),
        _ => ("trusted.gauge.of.the.northern.sound", bytes(len, len as usize)),
    }
}

/// Opens a file for writing, and waits for nobody at the other end of a pipe.
fn create(path: &Path) -> std::io::Result<File> {
    let flags = OFlags::NONBLOCK.bits() as i32;
    OpenOptions::new().write(true).create(true).truncate(true).custom_flags(flags).open(path)
}

/// Does what `hand` says; where it cannot be done, nothing.
pub(crate) fn does(root: &Path, hand: &Hand) {
    drop(tried(root, hand));
}

fn tried(root: &Path, hand: &Hand) -> std::io::Result<()> {
    let at = |place: &[u8]| at(root, place);
    match hand {
        Hand::File(place, len) => create(&at(place))?.write_all(&bytes(*len, *len as usize)),
        Hand::Sparse(place, kib) => {
            let file = create(&at(place))?;
            file.write_all_at(b"behind a hole", u64::from(*kib) << 10)?;
            file.set_len((u64::from(*kib) << 10) + 300_000)
        }
        Hand::Reserved(place, kib) => {
            let mut file = create(&at(place))?;
            fallocate(&file, FallocateFlags::empty(), 0, u64::from(*kib) << 10)?;
            file.write_all(b"at the start of what is reserved")
        }
        Hand::Folder(place) => fs::create_dir(at(place)),
        Hand::Link(place, len) => symlink(OsStr::from_bytes(&target(*len)), at(place)),
        Hand::Hard(place, other) => fs::hard_link(at(place), at(other)),
        Hand::Special(place, which) => {
            let (kind, device) = match which {
                0 => (FileType::Fifo, 0),
                1 => (FileType::Socket, 0),
                2 => (FileType::CharacterDevice, rustix::fs::makedev(1, 3)),
                _ => (FileType::BlockDevice, rustix::fs::makedev(300, 70_000)),
            };
            Ok(mknodat(CWD, at(place), kind, Mode::from_raw_mode(0o640), device)?)
        }
        Hand::Attribute(place, which, len) => {
            let (name, value) = attribute(*which, *len);
            Ok(lsetxattr(at(place), name, &value, XattrFlags::empty())?)
        }
        Hand::List(place, default, users) => {
            let name = if *default { "system.posix_acl_default" } else { "system.posix_acl_access" };
            Ok(lsetxattr(at(place), name, &list(*users), XattrFlags::empty())?)
        }
        Hand::Owner(place, uid, gid, mode) => {
            std::os::unix::fs::lchown(at(place), Some(*uid), Some(*gid))?;
            if !at(place).symlink_metadata()?.is_symlink() {
                fs::set_permissions(at(place), Permissions::from_mode((*mode).into()))?;
            }
            Ok(())
        }
        Hand::Time(place, seconds, nanoseconds) => {
            let time = Timespec { tv_sec: *seconds, tv_nsec: (*nanoseconds).into() };
            let times = Timestamps { last_access: time, last_modification: time };
            Ok(utimensat(CWD, at(place), &times, AtFlags::SYMLINK_NOFOLLOW)?)
        }
        Hand::Shared(from, to) => {
            let from = File::open(at(from).canonicalize().ok().filter(|path| path.is_file()).unwrap_or_default())?;
            Ok(ioctl_ficlone(create(&at(to))?, from)?)
        }
        Hand::Snapshot(place) => {
            let mut command = Command::new("btrfs");
            command.args(["subvolume", "snapshot"]).arg(root).arg(at(place)).output().map(drop)
        }
        Hand::Fill(place, count, len) => {
            for number in 0..*count {
                let name = format!("{number}{}", "n".repeat((*len).into()));
                fs::write(at(place).join(name), b"x")?;
            }
            Ok(())
        }
        Hand::Deep(depth) => {
            let deep = (0..*depth).fold(root.to_path_buf(), |at, _| at.join("deep"));
            fs::create_dir_all(&deep)?;
            fs::write(deep.join("end"), b"the end")
        }
        Hand::Remove(place) => {
            let at = at(place);
            if at.symlink_metadata()?.is_dir() { fs::remove_dir_all(at) } else { fs::remove_file(at) }
        }
        Hand::Over(place, offset, len) => {
            let at = at(place).canonicalize()?;
            if !at.is_file() {
                return Ok(());
            }
            OpenOptions::new().write(true).open(at)?.write_all_at(&bytes(*len, *len as usize), (*offset).into())
        }
        Hand::Full(kib) => {
            let mut file = create(&root.join("full"))?;
            // A large volume is reserved first, so that its bytes need not be written.
            let room = statvfs(root).map(|room| room.f_bavail * room.f_frsize)?;
            let reserved = room / 100 * 97;
            if room > 200 << 20 && fallocate(&file, FallocateFlags::empty(), 0, reserved).is_err() {
                return Ok(());
            }
            file.seek(SeekFrom::End(0))?;
            let piece = bytes(1, 1 << 16);
            while file.write_all(&piece).is_ok() {}
            file.sync_all()?;
            let len = file.metadata()?.len();
            file.set_len(len.saturating_sub(u64::from(*kib) << 10))
        }
    }
}
