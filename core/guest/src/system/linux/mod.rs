//! Linux systems: what they boot with, what they mount, and what their network goes by.

pub(crate) mod contexts;
pub(crate) mod crypttab;
pub(crate) mod devices;
pub(crate) mod entry;
pub(crate) mod fstab;
mod grub;
pub(crate) mod helpers;
pub(crate) mod images;
mod kernels;
pub(crate) mod loader;
pub(crate) mod lvm;
pub(crate) mod mdadm;
pub(crate) mod network;
pub(crate) mod places;
mod release;
mod system;
pub(crate) mod unified;
pub(crate) mod version;

use crate::{fs::tree::Tree, volume::found::Found};
use images::Images;

pub use entry::Entry;
pub use helpers::Helper;
pub use kernels::Kernel;
pub use network::Used;
pub use release::Release;

/// A Linux system.
pub(crate) struct Linux {
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
    /// Why it is not known which entry is started by itself.
    pub(crate) unknown_start: Option<String>,
    /// Its kernels, that of the first entry in front.
    pub kernels: Vec<Kernel>,
    /// Names of adapters that its configuration goes by.
    pub network: Vec<Used>,
    /// Its time zone, such as `Europe/Lisbon`.
    pub time_zone: Option<String>,
    /// Which disks are meant by names that tell a place.
    pub(crate) places: places::Places,
    /// Helpers of hosts that are installed.
    pub helpers: Vec<Helper>,
    /// Early boot images and indexes of modules that were read.
    pub(crate) images: Images,
}

impl Linux {
    /// The system whose root is the volume of number `root` and whose files are `tree`, with what it mounts.
    pub(crate) fn read(mut tree: Tree, root: usize, fstab: Vec<fstab::Line>, volumes: &[Found]) -> Self {
        if let Some(contexts) = contexts::Contexts::read(&tree) {
            tree.set_labels(contexts);
        }
        let loader::Loaders { entries, unknown } = loader::read(&tree);
        let kernels = kernels::find(&tree, &entries);
        Self {
            places: places::Places::find(volumes, root, &fstab, &entries),
            release: release::read(&tree),
            root,
            fstab,
            kernels,
            entries,
            unknown_start: unknown,
            network: network::read(&tree),
            time_zone: release::time_zone(&tree),
            helpers: helpers::find(&tree),
            images: Images::default(),
            tree,
        }
    }

    /// The volume that a name means; `place` is where fstab mounts it, if it does. What a system calls its own root is its root.
    pub(crate) fn volume<'v>(
        &self,
        volumes: &'v [Found],
        spec: &str,
        place: Option<&str>,
    ) -> Option<(usize, &'v Found)> {
        if place == Some("/") {
            return volumes.get(self.root).map(|volume| (self.root, volume));
        }
        devices::resolve(volumes, spec).or_else(|| self.places.resolve(volumes, spec))
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

/// Whether a tree is what a system has at `/boot`: a kernel, and a loader's configuration.
pub(crate) fn is_boot(tree: &Tree) -> bool {
    let has_kernel = tree.names("/").iter().any(|name| name.starts_with("vmlinuz"));
    let is_configured =
        ["/grub/grub.cfg", "/grub2/grub.cfg"].iter().any(|path| tree.exists(path)) || tree.is_folder("/loader/entries");
    has_kernel && is_configured
}
