//! The systems on a guest's disks.

pub mod family;
pub(crate) mod linux;
pub mod nt;

use std::{collections::BTreeMap, sync::Arc};

use reformis_disk::{Disk, budget::Budget};

use family::System;
use linux::{Linux, crypttab, devices, fstab, is_boot, is_root, mdadm, places::Places};
use nt::Nt;

use crate::{
    bench::Bench,
    error::Result,
    fs::{
        Shared, Subvolume, registry,
        tree::{Start, Tree},
    },
    volume::{finder, found::Found, luks::Keys, partition::Role, probe::Volume},
};

/// A guest: its disks, its volumes, and the systems on them.
pub struct Guest {
    /// Its disks, in its order.
    pub bench: Arc<Bench>,
    /// Its volumes.
    pub volumes: Vec<Found>,
    /// Its systems, in the order of their volumes.
    pub systems: Vec<Box<dyn System>>,
    /// What starts systems that nobody gave the key for: the `/boot` of each, where that lies outside of what is encrypted.
    pub(crate) closed: Vec<Linux>,
    /// What is there and cannot be read: the volume, and why.
    pub unread: Vec<(String, String)>,
    /// Files and folders of its systems that cannot be read, and why.
    pub unread_paths: Vec<(String, String)>,
    /// Volumes whose journal was replayed before they were read.
    pub replayed: Vec<String>,
    /// The file systems that were opened, one for each volume whichever trees it is in, by the volumes' places.
    pub(crate) opened: BTreeMap<usize, Shared>,
}

/// Where a tree begins that is a subvolume's, with its path.
fn start_of(fs: &Shared, wanted: &Subvolume) -> Result<Option<Start>> {
    let fs = fs.lock();
    let Some(node) = fs.subvolume(wanted)? else { return Ok(None) };
    let path = match wanted {
        Subvolume::Path(path) => path.clone(),
        Subvolume::Number(_) => {
            let is_it =
                |path: &Vec<u8>| matches!(fs.subvolume(&Subvolume::Path(path.clone())), Ok(Some(at)) if at == node);
            fs.subvolumes()?.into_iter().find(is_it).unwrap_or_default()
        }
    };
    Ok(Some(Start { node, path: String::from_utf8_lossy(&path).trim_matches('/').into() }))
}

/// The tree of the system on a file system, and whether there is one: of several subvolumes the one that its own table of mounts calls the root, or
/// else the first that looks like one.
fn root_in(fs: Shared, index: usize) -> (Tree, bool) {
    let whole = Tree::new(fs.clone(), index);
    let paths = whole.noted("", fs.lock().subvolumes()).unwrap_or_default();
    if paths.is_empty() {
        let is_root = is_root(&whole);
        return (whole, is_root);
    }
    let mut first = is_root(&whole).then(|| Tree::new(fs.clone(), index));
    for path in paths.into_iter().take(MOST_SUBVOLUMES) {
        let wanted = Subvolume::Path(path);
        let Some(start) = whole.noted("", start_of(&fs, &wanted)).flatten() else { continue };
        let tree = Tree::new(fs.clone(), index).from(Some(start));
        if !is_root(&tree) {
            continue;
        }
        let lines = fstab::read(&tree.text("/etc/fstab").unwrap_or_default());
        let calls = lines.iter().any(|line| line.place == "/" && line.subvolume().as_ref() == Some(&wanted));
        if calls {
            return (tree, true);
        }
        first.get_or_insert(tree);
    }
    match first {
        Some(tree) => (tree, true),
        None => (whole, false),
    }
}

/// Subvolumes that are looked at for a system.
const MOST_SUBVOLUMES: usize = 64;

impl Guest {
    /// Reads the guest on `disks`, which are in its own order. Changes are made at `now`, in seconds since 1970; what is
    /// collected is counted against `budget`.
    ///
    /// # Errors
    /// Those of the disks. A volume that is not sound is told in [`Guest::unread`].
    pub fn open(disks: impl IntoIterator<Item = Arc<dyn Disk>>, now: i64, budget: &Arc<Budget>) -> Result<Self> {
        Self::open_with(disks, &Keys::default(), now, budget)
    }

    /// The same, with keys to what is encrypted.
    ///
    /// # Errors
    /// As [`Guest::open`].
    #[expect(clippy::indexing_slicing, reason = "the place was given by this guest")]
    pub fn open_with(
        disks: impl IntoIterator<Item = Arc<dyn Disk>>,
        keys: &Keys,
        now: i64,
        budget: &Arc<Budget>,
    ) -> Result<Self> {
        let bench = Bench::new(disks, budget);
        let volumes = finder::find(&bench, keys)?;
        let mut guest = Self {
            bench,
            volumes,
            systems: Vec::new(),
            closed: Vec::new(),
            unread: Vec::new(),
            unread_paths: Vec::new(),
            replayed: Vec::new(),
            opened: BTreeMap::new(),
        };
        for index in 0..guest.volumes.len() {
            let volume = &guest.volumes[index];
            let kind = volume.kind;
            if let Some(trouble) = volume.trouble.clone() {
                guest.unread.push((volume.name.clone(), trouble));
            } else if kind == Some(Volume::Ntfs)
                && let Some(fs) = guest.open_volume(index, now)?
            {
                let tree = Tree::new(fs, index);
                let is_root = nt::is_root(&tree);
                guest.note_troubles(&tree)?;
                if is_root {
                    let system = guest.windows(tree, index, now)?;
                    guest.note_troubles(&system.tree)?;
                    guest.systems.push(Box::new(system));
                }
            } else if matches!(kind, Some(Volume::Ext | Volume::Xfs | Volume::Btrfs))
                && let Some(fs) = guest.open_volume(index, now)?
            {
                let (tree, is_root) = root_in(fs, index);
                guest.note_troubles(&tree)?;
                if is_root {
                    let system = guest.linux(tree, index, now)?;
                    guest.note_troubles(&system.tree)?;
                    guest.systems.push(Box::new(system));
                }
            } else if let Some(kind) =
                guest.volumes[index].kind.filter(|kind| !kind.is_read() && !guest.volumes[index].is_opened)
            {
                let name = guest.volumes[index].name.clone();
                let why = match kind {
                    Volume::Luks => "it is encrypted (LUKS), and no key was given for it".into(),
                    _ => format!("this version cannot read {}", kind.name()),
                };
                guest.unread.push((name, why));
            }
        }
        guest.find_closed(now)?;
        Ok(guest)
    }

    /// Whether there is a system that nobody gave the key for, and what starts it lies outside.
    pub fn has_closed(&self) -> bool {
        !self.closed.is_empty()
    }

    /// Finds the `/boot` of systems that are encrypted, where no other system is there.
    fn find_closed(&mut self, now: i64) -> Result<()> {
        let is_locked = |volume: &Found| volume.kind == Some(Volume::Luks) && !volume.is_opened;
        if !self.systems.is_empty() || !self.volumes.iter().any(is_locked) {
            return Ok(());
        }
        for index in 0..self.volumes.len() {
            let kind = self.volumes.get(index).and_then(|volume| volume.kind);
            if !matches!(kind, Some(Volume::Ext | Volume::Xfs | Volume::Btrfs)) {
                continue;
            }
            let Some(fs) = self.open_volume(index, now)? else { continue };
            let mut tree = Tree::new(fs.clone(), index);
            let is_boot = is_boot(&tree);
            self.note_troubles(&tree)?;
            if !is_boot {
                continue;
            }
            tree.mount("/boot", fs, None, index);
            let is_efi = |volume: &Found| volume.role == Role::Esp && volume.kind == Some(Volume::Fat);
            if let Some(efi) = self.volumes.iter().position(is_efi)
                && let Some(fs) = self.open_volume(efi, now)?
            {
                tree.mount("/boot/efi", fs, None, efi);
            }
            let system = Linux::read(tree, index, Vec::new(), &self.volumes);
            self.note_troubles(&system.tree)?;
            self.closed.push(system);
        }
        Ok(())
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
        // What lies on several devices is opened by the first of them.
        let is_same = |other: &&Found| other.kind == volume.kind && volume.uuid.is_some() && other.uuid == volume.uuid;
        if kind == Volume::Btrfs && self.volumes.iter().take(index).any(|other| is_same(&other)) {
            return Ok(None);
        }
        let others: Vec<_> = self.volumes.iter().filter(is_same).filter_map(|other| other.device.clone()).collect();
        match registry::open_among(device, &others, kind, now) {
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

    /// Gives what was opened, and what was put together, the names that the system has for it.
    fn name_opened(&mut self, tree: &Tree) {
        let known = mdadm::PLACES.iter().filter_map(|path| tree.text(path));
        for (name, uuid) in known.flat_map(|text| mdadm::arrays(&text)) {
            for volume in &mut self.volumes {
                if volume.array.as_ref().is_some_and(|array| array.uuid == uuid) {
                    let alias = finder::with_part(&name, volume.partition);
                    if !volume.aliases.contains(&alias) {
                        volume.aliases.push(alias);
                    }
                }
            }
        }
        for (name, spec) in crypttab::read(&tree.text("/etc/crypttab").unwrap_or_default()) {
            let Some((_, locked)) = devices::resolve(&self.volumes, &spec) else { continue };
            let uuid = locked.uuid.clone().filter(|_| locked.is_opened);
            let opened = self.volumes.iter_mut().filter(|volume| uuid.is_some() && volume.opens == uuid);
            for volume in opened {
                volume.aliases.push(finder::with_part(&format!("mapper/{name}"), volume.partition));
            }
        }
    }

    /// The Windows system on a volume, with what it mounts and what its loader is told.
    #[expect(clippy::indexing_slicing, reason = "places of volumes are this guest's")]
    fn windows(&mut self, mut tree: Tree, root: usize, now: i64) -> Result<Nt> {
        let found = nt::places(&tree, &self.volumes, now);
        let places = tree.noted(nt::hives::path("SYSTEM"), found).unwrap_or_default();
        for (name, index) in &places {
            if let Some(fs) = self.open_volume(*index, now)? {
                tree.mount(&format!("/{name}"), fs, None, *index);
            }
        }
        let mut system = Nt::read(tree, root, &self.volumes, &places, now);
        for index in nt::candidates(&self.volumes) {
            let Some(tree) = self.volume_tree(index, now)? else { continue };
            let Some(path) = nt::PLACES.into_iter().find(|path| tree.exists(path)) else { continue };
            let name = format!("{path} on {}", self.volumes[index].name);
            let entries =
                nt::hives::open(&tree, path, now).and_then(|store| nt::read_boot_store(&store, &self.volumes));
            let noted = tree.noted(path, entries);
            self.note_troubles(&tree)?;
            if let Some(entries) = noted {
                let is_uefi = entries.first().map(|entry| entry.loader.to_ascii_lowercase().ends_with(".efi"));
                system.facts.boot_mode = is_uefi.map(|is_uefi| if is_uefi { "UEFI" } else { "BIOS" }.into());
                (system.facts.boot_entries, system.facts.boot_store) = (entries, Some(name));
                break;
            }
        }
        Ok(system)
    }

    fn linux(&mut self, mut tree: Tree, root: usize, now: i64) -> Result<Linux> {
        self.name_opened(&tree);
        let fstab = fstab::read(&tree.text("/etc/fstab").unwrap_or_default());
        // Names that tell a disk's place are understood as far as fstab alone lets them be: the loader's files may lie on what it mounts.
        let places = Places::find(&self.volumes, root, &fstab, &[]);
        for line in &fstab {
            let known =
                devices::resolve(&self.volumes, &line.spec).or_else(|| places.resolve(&self.volumes, &line.spec));
            let Some((index, _)) = known else { continue };
            let subvolume = line.subvolume();
            // What is mounted in place of the root we are in, or nowhere, adds nothing.
            if line.place.len() < 2 || !line.place.starts_with('/') || index == root && subvolume.is_none() {
                continue;
            }
            if let Some(fs) = self.open_volume(index, now)? {
                let found = subvolume.map(|wanted| start_of(&fs, &wanted));
                match tree.noted(&line.place, found.transpose().map(Option::flatten)).flatten() {
                    None if line.subvolume().is_some() => {}
                    first => tree.mount(&line.place, fs, first, index),
                }
            }
        }
        Ok(Linux::read(tree, root, fstab, &self.volumes))
    }
}
