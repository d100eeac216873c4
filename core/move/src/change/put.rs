//! Files, folders and links of this machine that are put into a guest: what they are here, they are there.

use std::{
    fs::{File, Metadata, OpenOptions},
    io::Read,
    os::unix::{
        ffi::OsStrExt,
        fs::{FileTypeExt, OpenOptionsExt, PermissionsExt},
    },
    path::Path,
};

use reformis_disk::source::Access;
use reformis_guest::Tree;
use rustix::fs::OFlags;

use crate::{
    error::{Error, Result},
    observer::Context,
};

/// Files below a folder that is put into a guest.
const MAX_PUT: usize = 100_000;
/// Bytes that are taken into memory at a time.
const PIECE: u64 = 16 << 20;

/// Puts what is at `from` at a path in the guest; a folder there takes a file by its own name. New things have the permissions that they have
/// here, and belong to the superuser. What `from` leads to by a link is meant; a link below it is put in as one.
///
/// # Errors
/// [`Error::NotPut`] for pipes, sockets and devices; [`Error::TooMany`]; those of reading here and of the guest's file system.
pub(super) fn put(tree: &mut Tree, from: &Path, to: &[u8], context: &Context<'_>) -> Result<()> {
    let metadata = from.metadata().map_err(Error::io("reading", from))?;
    let path = to.strip_suffix(b"/").unwrap_or(to);
    if metadata.is_dir() {
        let above =
            path.iter().rposition(|byte| *byte == b'/').map_or(&b""[..], |at| path.get(..at).unwrap_or_default());
        tree.make_folders(above)?;
        return Putting { tree, context, count: 0 }.folder(from, path, &metadata);
    }
    let name = from.file_name().unwrap_or_default().as_bytes();
    let own = if to.ends_with(b"/") || tree.is_folder(to) { [path, b"/", name].concat() } else { path.to_vec() };
    let opened = open(from, OFlags::empty())?;
    Putting { tree, context, count: 0 }.file(from, opened, &own)
}

/// Who may read all files at `from` and below it.
pub(super) fn access_of(from: &Path) -> Access {
    let mut access = Access::ANYBODY;
    let mut left = vec![from.to_path_buf()];
    let mut count = 0;
    while let Some(path) = left.pop() {
        // What `from` leads to is meant; links below it are put in as links.
        let found = if path == from { path.metadata() } else { path.symlink_metadata() };
        match found {
            Ok(metadata) if metadata.is_file() => access = access.and(Access::of(&metadata)),
            Ok(metadata) if metadata.is_dir() && count < MAX_PUT => {
                let entries = std::fs::read_dir(&path).into_iter().flatten().flatten();
                left.extend(entries.map(|entry| entry.path()).take(MAX_PUT));
            }
            _ => {}
        }
        count += 1;
    }
    access
}

/// Opens a file for reading: without waiting for whoever is at the other end of a pipe.
fn open(path: &Path, more: OFlags) -> Result<File> {
    let flags = OFlags::NONBLOCK | more;
    let flags = i32::try_from(flags.bits()).unwrap_or_default();
    OpenOptions::new().read(true).custom_flags(flags).open(path).map_err(|error| {
        // A socket cannot be opened at all.
        match path.symlink_metadata().ok().and_then(|metadata| special(&metadata)) {
            Some(what) => Error::NotPut { path: path.to_string_lossy().into(), what },
            None => Error::io("reading", path)(error),
        }
    })
}

/// What is no file, folder or link.
fn special(metadata: &Metadata) -> Option<&'static str> {
    let kind = metadata.file_type();
    match () {
        () if kind.is_fifo() => Some("a pipe"),
        () if kind.is_socket() => Some("a socket"),
        () if kind.is_block_device() || kind.is_char_device() => Some("a device"),
        () => None,
    }
}

fn permissions(metadata: &Metadata) -> u16 {
    u16::try_from(metadata.permissions().mode() & 0o7777).unwrap_or_default()
}

/// What is put into a guest, and how much of it there was.
struct Putting<'a, 'c> {
    tree: &'a mut Tree,
    context: &'a Context<'c>,
    count: usize,
}

impl Putting<'_, '_> {
    fn count(&mut self, from: &Path) -> Result<()> {
        self.context.check()?;
        self.count += 1;
        if self.count > MAX_PUT {
            return Err(Error::TooMany { path: from.to_string_lossy().into(), most: MAX_PUT });
        }
        Ok(())
    }

    /// Puts in a file that was opened: what it is now, whatever it was when it was listed.
    fn file(&mut self, from: &Path, mut opened: File, to: &[u8]) -> Result<()> {
        self.count(from)?;
        let wrong = Error::io("reading", from);
        let metadata = opened.metadata().map_err(Error::io("reading", from))?;
        if let Some(what) = special(&metadata) {
            return Err(Error::NotPut { path: from.to_string_lossy().into(), what });
        }
        let mut piece = Vec::new();
        (&mut opened).take(PIECE).read_to_end(&mut piece).map_err(wrong)?;
        self.tree.write_as(to, &piece, permissions(&metadata))?;
        while piece.len() as u64 == PIECE {
            self.context.check()?;
            piece.clear();
            (&mut opened).take(PIECE).read_to_end(&mut piece).map_err(Error::io("reading", from))?;
            if !piece.is_empty() {
                self.tree.append(to, &piece)?;
            }
        }
        Ok(())
    }

    fn folder(&mut self, from: &Path, to: &[u8], metadata: &Metadata) -> Result<()> {
        self.count(from)?;
        if !to.is_empty() {
            self.tree.make_folder(to, permissions(metadata))?;
        }
        let entries = std::fs::read_dir(from).and_then(Iterator::collect::<std::io::Result<Vec<_>>>);
        let mut entries = entries.map_err(Error::io("reading", from))?;
        entries.sort_by_key(std::fs::DirEntry::file_name);
        for entry in entries {
            let (here, name) = (entry.path(), entry.file_name());
            let there = [to, b"/", name.as_bytes()].concat();
            let metadata = here.symlink_metadata().map_err(Error::io("reading", &here))?;
            if metadata.is_dir() {
                self.folder(&here, &there, &metadata)?;
            } else if metadata.is_symlink() {
                self.count(&here)?;
                let target = std::fs::read_link(&here).map_err(Error::io("reading", &here))?;
                self.tree.link(&there, target.as_os_str().as_bytes())?;
            } else if let Some(what) = special(&metadata) {
                return Err(Error::NotPut { path: here.to_string_lossy().into(), what });
            } else {
                let opened = open(&here, OFlags::NOFOLLOW)?;
                self.file(&here, opened, &there)?;
            }
        }
        Ok(())
    }
}
