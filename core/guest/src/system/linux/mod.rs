//! Linux systems: what they boot with, what they mount, and what their network goes by.

pub(crate) mod devices;
pub(crate) mod fstab;
pub(crate) mod helpers;
mod kernels;
pub(crate) mod loader;
pub(crate) mod network;
mod release;

use serde::Serialize;

use crate::{fs::tree::Tree, volume::found::Found};

pub use helpers::Helper;
pub use kernels::Kernel;
pub use loader::Entry;
pub use network::Used;
pub use release::Release;

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

impl System {
    /// The system whose root is the volume of number `root` and whose files are `tree`, with what it mounts.
    pub(crate) fn read(tree: Tree, root: usize, fstab: Vec<fstab::Line>) -> Self {
        let entries = loader::read(&tree);
        let kernels = kernels::find(&tree, &entries);
        Self {
            release: release::read(&tree),
            root,
            fstab,
            kernels,
            entries,
            network: network::read(&tree),
            time_zone: release::time_zone(&tree),
            helpers: helpers::find(&tree),
            tree,
        }
    }

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
pub(crate) fn is_root(tree: &Tree) -> bool {
    let has = |path: &str| tree.exists(path);
    (has("/etc/os-release") || has("/usr/lib/os-release") || has("/etc/fstab"))
        && (tree.is_folder("/usr") || tree.is_folder("/sbin"))
}
