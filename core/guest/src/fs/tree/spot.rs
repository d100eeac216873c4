//! What was found once, and is asked and read from then on without walking to it again: for whoever goes through many files.

use std::{
    io::{self, Write},
    ops::Range,
};

use reformis_disk::to_usize;

use super::{ENTRY, Name, Place, Tree, named, shown};
use crate::{
    error::{Error, Result},
    fs::node::{Kind, Stat},
};

/// Bytes that are read at a time.
const PIECE: u64 = 1 << 20;

/// Something in a tree.
pub struct Spot {
    place: Place,
    /// Its path without links; empty for all but the few that a mount is at or below.
    path: Option<Vec<Name>>,
    /// What is known of it.
    pub stat: Stat,
}

impl Tree {
    /// What is at `path`; `follow` follows a link at its end.
    ///
    /// # Errors
    /// As [`Tree::stat`].
    pub fn spot(&self, path: impl AsRef<[u8]>, follow: bool) -> Result<Spot> {
        let (found, place, stat) = self.there(path.as_ref(), follow)?;
        Ok(Spot { place, path: Some(found.path), stat })
    }

    /// What is in a folder, in alphabetical order.
    ///
    /// # Errors
    /// [`Error::WrongKind`]; those of the file system.
    pub fn inside(&self, folder: &Spot) -> Result<Vec<(Vec<u8>, Spot)>> {
        let above = folder.path.clone().unwrap_or_default();
        if folder.stat.kind != Kind::Folder {
            return Err(Error::WrongKind { path: shown(&above), wanted: "folder" });
        }
        let mut hold = self.budget.hold();
        let mut entries = Vec::new();
        let Place { fs, node } = &folder.place;
        let mut visit = |entry: crate::fs::node::Entry| {
            hold.grow(2 * entry.name.len() as u64 + 2 * ENTRY)?;
            entries.push(entry);
            Ok(std::ops::ControlFlow::Continue(()))
        };
        fs.lock().read_dir(*node, &mut visit).map_err(named(&above))?;
        entries.sort_by(|one, other| one.name.cmp(&other.name));
        // Mounts are few: their names are asked for, not those of each file.
        let below = |name: &Name| folder.path.as_ref().map(|path| [&path[..], std::slice::from_ref(name)].concat());
        let leads_to_mount = |path: &Vec<Name>| self.mounts.iter().any(|mount| mount.path.starts_with(path));
        let mut found = Vec::with_capacity(entries.len());
        for entry in entries {
            let path = below(&entry.name).filter(leads_to_mount);
            let mounted = path.as_ref().and_then(|path| self.mounted_at(path));
            let place = mounted.unwrap_or_else(|| Place { fs: fs.clone(), node: entry.node });
            let stat = place.fs.lock().stat(place.node)?;
            found.push((entry.name, Spot { place, path, stat }));
        }
        Ok(found)
    }
}

impl Spot {
    fn shown(&self) -> String {
        shown(self.path.as_deref().unwrap_or_default())
    }

    /// What tells it from everything else in the tree, whatever names it has.
    pub fn identity(&self) -> (usize, u64, u64) {
        (self.place.fs.identity(), self.place.node.tree, self.place.node.number)
    }

    /// Where a symbolic link leads.
    ///
    /// # Errors
    /// [`Error::WrongKind`]; those of the file system.
    pub fn link_target(&self) -> Result<Vec<u8>> {
        if self.stat.kind != Kind::Link {
            return Err(Error::WrongKind { path: self.shown(), wanted: "link" });
        }
        self.place.fs.lock().link_target(self.place.node)
    }

    /// Extended attributes: names and values, as programs of the guest see them.
    ///
    /// # Errors
    /// Those of the file system.
    pub fn attributes(&self) -> Result<Vec<(Vec<u8>, Vec<u8>)>> {
        let attributes = self.place.fs.lock().attributes(self.place.node)?;
        Ok(attributes.into_iter().map(|attribute| (attribute.full_name(), attribute.value)).collect())
    }

    /// The ranges of a file that are stored, in order; all between them reads as zero.
    ///
    /// # Errors
    /// Those of the file system.
    pub fn stored(&self) -> Result<Vec<Range<u64>>> {
        self.place.fs.lock().stored(self.place.node)
    }

    /// Writes a range of a file into `out`; the number of bytes, which are fewer where the file ends before.
    ///
    /// # Errors
    /// Those of the file system; what `out` says.
    pub fn copy(&self, range: Range<u64>, out: &mut dyn Write) -> Result<u64> {
        let mut buf = vec![0; to_usize(PIECE.min(range.end.saturating_sub(range.start)))];
        let mut at = range.start;
        while at < range.end {
            let wanted = to_usize((range.end - at).min(PIECE));
            let piece = buf.get_mut(..wanted).unwrap_or_default();
            let len = self.place.fs.lock().read_at(self.place.node, at, piece)?;
            if len == 0 {
                break;
            }
            let write = |error: io::Error| reformis_disk::Error::io("writing", self.shown(), None)(error);
            out.write_all(piece.get(..len).unwrap_or_default()).map_err(write)?;
            at += len as u64;
        }
        Ok(at - range.start)
    }
}
