//! The systems on a guest's disks: which they are, how their volumes are mounted, and what they boot with.

pub(crate) mod fstab;
pub(crate) mod helpers;
mod kernels;
pub(crate) mod loader;
pub(crate) mod network;
mod release;

use std::sync::Arc;

use reformis_disk::{Disk, budget::Budget};
use serde::Serialize;

use crate::{
    bench::Bench,
    error::Result,
    found::{self, Found},
    fs::Fs,
    tree::Tree,
    volumes::Volume,
};

pub use helpers::Helper;
pub use kernels::Kernel;
pub use loader::Entry;
pub use network::Used;
pub use release::Release;

/// A guest: its disks, its volumes, and the systems on them.
pub struct Guest {
    /// Its disks, in its order.
    pub bench: Arc<Bench>,
    /// Its volumes.
    pub volumes: Vec<Found>,
    /// Its Linux systems, in the order of their volumes.
    pub systems: Vec<System>,
    /// What is there and cannot be read: the volume, and why.
    pub unread: Vec<(String, String)>,
    /// Files and folders of its systems that cannot be read, and why.
    pub unread_paths: Vec<(String, String)>,
    /// Volumes whose journal was replayed before they were read.
    pub replayed: Vec<String>,
}

/// A Linux system.
pub struct System {
    /// What it says it is.
    pub release: Release,
    /// The volume of its root file system, by its place.
    pub root: usize,
    /// Its files.
    pub tree: Tree,
    /// What it mounts.
    pub fstab: Vec<fstab::Line>,
    /// Entries of its boot loader, the one that is started first in front.
    pub entries: Vec<Entry>,
    /// Its kernels, the newest first.
    pub kernels: Vec<Kernel>,
    /// Names of adapters that its configuration goes by.
    pub network: Vec<Used>,
    /// Its time zone, such as `Europe/Lisbon`.
    pub time_zone: Option<String>,
    /// Helpers of hosts that are installed.
    pub helpers: Vec<Helper>,
}

/// What a report tells of a system.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Summary {
    /// Distribution and version.
    pub name: String,
    /// The volume of its root file system.
    pub root: String,
    /// Volumes and where they are mounted.
    pub mounts: Vec<(String, String)>,
    /// Its kernels.
    pub kernels: Vec<Kernel>,
    /// Names of adapters that its configuration goes by.
    pub network: Vec<Used>,
    /// Its time zone.
    pub time_zone: Option<String>,
    /// Helpers of hosts that are installed.
    pub helpers: Vec<Helper>,
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
                    let system = guest.system(tree, index, now)?;
                    guest.note_troubles(&system.tree)?;
                    guest.systems.push(system);
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
    fn open_volume(&mut self, index: usize, now: i64) -> Result<Option<Fs>> {
        let volume = &self.volumes[index];
        let Some(device) = &volume.device else { return Ok(None) };
        let name = volume.name.clone();
        match Fs::open(device, now) {
            Ok(Some((fs, replayed))) => {
                if replayed && !self.replayed.contains(&name) {
                    self.replayed.push(name);
                }
                Ok(Some(fs))
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
    pub fn volume_tree(&self, index: usize, now: i64) -> Result<Option<Tree>> {
        let device = self.volumes.get(index).and_then(|volume| volume.device.as_ref());
        device.map_or(Ok(None), |device| Ok(Fs::open(device, now)?.map(|(fs, _)| Tree::new(fs, index))))
    }

    fn system(&mut self, mut tree: Tree, root: usize, now: i64) -> Result<System> {
        let fstab = fstab::read(&tree.text("/etc/fstab").unwrap_or_default());
        for line in &fstab {
            let Some((index, _)) = found::resolve(&self.volumes, &line.spec) else { continue };
            // What is mounted in place of the root we are in, or nowhere, adds nothing.
            if line.place.len() < 2 || !line.place.starts_with('/') || index == root {
                continue;
            }
            if let Some(fs) = self.open_volume(index, now)? {
                tree.mount(&line.place, fs, index);
            }
        }
        let entries = loader::read(&tree);
        let kernels = kernels::find(&tree, &entries);
        Ok(System {
            release: release::read(&tree),
            root,
            fstab,
            kernels,
            entries,
            network: network::read(&tree),
            time_zone: release::time_zone(&tree),
            helpers: helpers::find(&tree),
            tree,
        })
    }
}

impl System {
    /// What a report tells of it.
    pub fn summary(&self, volumes: &[Found]) -> Summary {
        let name = |index: usize| volumes.get(index).map_or(String::new(), |volume| volume.name.clone());
        Summary {
            name: self.release.name.clone(),
            root: name(self.root),
            mounts: self.tree.mounted().map(|(index, place)| (name(index), place)).collect(),
            kernels: self.kernels.clone(),
            network: self.network.clone(),
            time_zone: self.time_zone.clone(),
            helpers: self.helpers.clone(),
        }
    }

    /// Reads its configuration again, after it was changed.
    pub(crate) fn reread(&mut self) {
        self.fstab = fstab::read(&self.tree.text("/etc/fstab").unwrap_or_default());
        self.entries = loader::read(&self.tree);
        self.kernels = kernels::find(&self.tree, &self.entries);
        self.network = network::read(&self.tree);
        self.helpers = helpers::find(&self.tree);
    }

    /// Whether systemd starts it.
    pub(crate) fn has_systemd(&self) -> bool {
        ["/lib/systemd/systemd", "/usr/lib/systemd/systemd"].iter().any(|path| self.tree.exists(path))
    }
}

/// Whether a tree is a system's root.
fn is_root(tree: &Tree) -> bool {
    let has = |path: &str| tree.exists(path);
    (has("/etc/os-release") || has("/usr/lib/os-release") || has("/etc/fstab"))
        && (tree.is_folder("/usr") || tree.is_folder("/sbin"))
}
