//! The systems on a guest's disks.

pub mod family;
pub(crate) mod linux;

use std::{collections::BTreeMap, sync::Arc};

use reformis_disk::{Disk, budget::Budget};

use family::System;
use linux::{Linux, devices, fstab, is_root};

use crate::{
    bench::Bench,
    error::Result,
    fs::{Shared, registry, tree::Tree},
    volume::{
        found::{self, Found},
        probe::Volume,
    },
};

/// A guest: its disks, its volumes, and the systems on them.
pub struct Guest {
    /// Its disks, in its order.
    pub bench: Arc<Bench>,
    /// Its volumes.
    pub volumes: Vec<Found>,
    /// Its systems, in the order of their volumes.
    pub systems: Vec<Box<dyn System>>,
    /// What is there and cannot be read: the volume, and why.
    pub unread: Vec<(String, String)>,
    /// Files and folders of its systems that cannot be read, and why.
    pub unread_paths: Vec<(String, String)>,
    /// Volumes whose journal was replayed before they were read.
    pub replayed: Vec<String>,
    /// The file systems that were opened, one for each volume whichever trees it is in, by the volumes' places.
    pub(crate) opened: BTreeMap<usize, Shared>,
}

impl Guest {
    /// Reads the guest on `disks`, which are in its own order. Changes are made at `now`, in seconds since 1970; what is
    /// collected is counted against `budget`.
    ///
    /// # Errors
    /// Those of the disks. A volume that is not sound is told in [`Guest::unread`].
    #[expect(clippy::indexing_slicing, reason = "the place was given by this guest")]
    pub fn open(disks: impl IntoIterator<Item = Arc<dyn Disk>>, now: i64, budget: &Arc<Budget>) -> Result<Self> {
        let bench = Bench::new(disks, budget);
        let volumes = found::find(&bench)?;
        let mut guest = Self {
            bench,
            volumes,
            systems: Vec::new(),
            unread: Vec::new(),
            unread_paths: Vec::new(),
            replayed: Vec::new(),
            opened: BTreeMap::new(),
        };
        for index in 0..guest.volumes.len() {
            let volume = &guest.volumes[index];
            if let Some(trouble) = volume.trouble.clone() {
                guest.unread.push((volume.name.clone(), trouble));
            } else if volume.kind == Some(Volume::Ext)
                && let Some(fs) = guest.open_volume(index, now)?
            {
                let tree = Tree::new(fs, index);
                let is_root = is_root(&tree);
                guest.note_troubles(&tree)?;
                if is_root {
                    let system = guest.linux(tree, index, now)?;
                    guest.note_troubles(&system.tree)?;
                    guest.systems.push(Box::new(system));
                }
            } else if let Some(kind) = guest.volumes[index].kind.filter(|kind| !kind.is_read()) {
                let name = guest.volumes[index].name.clone();
                guest.unread.push((name, format!("this version cannot read {}", kind.name())));
            }
        }
        Ok(guest)
    }

    /// Notes what could not be read in a tree; what the disk itself refused is an error.
    fn note_troubles(&mut self, tree: &Tree) -> Result<()> {
        for (path, error) in tree.take_troubles() {
            if let crate::Error::Disk(_) = error {
                return Err(error);
            }
            self.unread_paths.push((path, error.to_string()));
        }
        Ok(())
    }

    /// The file system on a volume; `None`, with a note, when it cannot be read.
    #[expect(clippy::indexing_slicing, reason = "the place was given by this guest")]
    fn open_volume(&mut self, index: usize, now: i64) -> Result<Option<Shared>> {
        if let Some(known) = self.opened.get(&index) {
            return Ok(Some(known.clone()));
        }
        let volume = &self.volumes[index];
        let (Some(device), Some(kind)) = (&volume.device, volume.kind) else { return Ok(None) };
        let name = volume.name.clone();
        match registry::open(device, kind, now) {
            Ok(Some(opened)) => {
                if opened.replayed {
                    self.replayed.push(name);
                }
                self.opened.insert(index, opened.fs.clone());
                Ok(Some(opened.fs))
            }
            Ok(None) => Ok(None),
            Err(error @ crate::Error::Disk(_)) => Err(error),
            Err(error) => {
                if !self.unread.iter().any(|(known, _)| *known == name) {
                    self.unread.push((name, error.to_string()));
                }
                Ok(None)
            }
        }
    }

    /// The file system on the volume of number `index`, as a tree of its own.
    ///
    /// # Errors
    /// Those of the disks and of the file system.
    pub fn volume_tree(&mut self, index: usize, now: i64) -> Result<Option<Tree>> {
        if index >= self.volumes.len() {
            return Ok(None);
        }
        Ok(self.open_volume(index, now)?.map(|fs| Tree::new(fs, index)))
    }

    fn linux(&mut self, mut tree: Tree, root: usize, now: i64) -> Result<Linux> {
        let fstab = fstab::read(&tree.text("/etc/fstab").unwrap_or_default());
        for line in &fstab {
            let Some((index, _)) = devices::resolve(&self.volumes, &line.spec) else { continue };
            // What is mounted in place of the root we are in, or nowhere, adds nothing.
            if line.place.len() < 2 || !line.place.starts_with('/') || index == root {
                continue;
            }
            if let Some(fs) = self.open_volume(index, now)? {
                tree.mount(&line.place, fs, index);
            }
        }
        Ok(Linux::read(tree, root, fstab))
    }
}
