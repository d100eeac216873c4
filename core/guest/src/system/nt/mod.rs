//! Windows systems: what they are, what they are set to, and what their loader is told.

pub(crate) mod adapters;
pub(crate) mod boot_store;
pub mod drivers;
pub(crate) mod filters;
pub(crate) mod helpers;
pub(crate) mod hives;
pub mod keys;
mod needs;
mod registry;
pub(crate) mod start;
mod system;
pub mod text;

use serde::Serialize;

use crate::{error::Result, fs::tree::Tree, volume::found::Found};

pub use crate::formats::{
    hive::{Changed, Data},
    reg,
};
pub use adapters::Adapter;
pub use boot_store::{Entry, Place};
pub(crate) use boot_store::{PLACES, candidates, read as read_boot_store};
pub(crate) use helpers::tray_program;
pub use registry::{Driver, HostService, Settings, Version};

/// The largest file that a system keeps asleep in, of which this much is looked at.
const HEAD: usize = 4;

/// Where scripts of the first start after a move lie in the guest.
pub(crate) const FIRST_START_FOLDER: &str = "/Windows/Reformis";

/// Those of them that give adapters their settings: the second one where the first is still to run when a system is made ready again.
pub(crate) const ADAPTERS_SCRIPTS: [&str; 2] = ["20-adapters.cmd", "21-adapters.cmd"];
/// What stands behind the name of a connection whose settings were taken to another adapter.
pub(crate) const BEFORE: &str = " before the move";

/// What is known of a Windows system.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Facts {
    /// What it is.
    pub version: Version,
    /// What it is set to.
    pub settings: Settings,
    /// Volumes by the letters that they have, such as `C:`.
    pub letters: Vec<(String, String)>,
    /// What its loader offers.
    pub boot_entries: Vec<Entry>,
    /// Where the boot store lies; none when none was found.
    pub boot_store: Option<String>,
    /// `UEFI` or `BIOS`, by the loader that the boot store names.
    pub boot_mode: Option<String>,
    /// Why it cannot be changed as it is: it was not shut down fully, or more.
    pub not_changeable: Option<String>,
    /// Bytes of its page file.
    pub page_file: Option<u64>,
    /// Bytes of the file that it sleeps in, and whether it sleeps.
    pub hibernation_file: Option<(u64, bool)>,
    /// Whether its own files are compressed.
    pub is_compressed: bool,
    /// Free bytes of its volume.
    pub free: Option<u64>,
    /// Hives whose logs hold what they do not, which was read all the same.
    pub replayed_hives: Vec<String>,
}

/// A Windows system.
pub(crate) struct Nt {
    /// The volume of its files, by its place.
    pub(crate) root: usize,
    /// Its files.
    pub(crate) tree: Tree,
    /// What it calls itself.
    pub(crate) name: String,
    /// What is known of it.
    pub(crate) facts: Facts,
    /// When changes are made, in seconds since 1970.
    pub(crate) now: i64,
}

/// Whether a tree is that of a system.
pub(crate) fn is_root(tree: &Tree) -> bool {
    tree.exists(hives::path("SYSTEM"))
}

/// Volumes of the guest by what the system calls them: letters, and names of volumes.
///
/// # Errors
/// Those of reading.
pub(crate) fn places(tree: &Tree, volumes: &[Found], now: i64) -> Result<Vec<(String, usize)>> {
    let system = hives::open(tree, &hives::path("SYSTEM"), now)?;
    let Some(key) = system.find("MountedDevices")? else { return Ok(Vec::new()) };
    let mut found = Vec::new();
    for value in system.values(key)? {
        let name = value.name.strip_prefix("\\DosDevices\\").or_else(|| value.name.strip_prefix("\\??\\"));
        let place = boot_store::mounted(&value.bytes);
        let volume = place.and_then(|place| boot_store::volume_at(volumes, &place));
        // What has another character than these would be another path.
        let is_plain = |name: &&str| name.chars().all(|c| c.is_ascii_alphanumeric() || "{}-:".contains(c));
        if let (Some(name), Some(volume)) = (name.filter(is_plain), volume) {
            found.push((name.to_string(), volume));
        }
    }
    found.sort();
    Ok(found)
}

/// Reads all that is read of a hive, for the fuzzers.
pub(crate) fn read_all(hive: &crate::formats::hive::Hive) {
    drop((registry::version(hive), registry::settings(hive)));
    for set in start::boot_sets(hive).unwrap_or_default() {
        drop(filters::of_disks(hive, &set));
    }
    drop(start::services_of(hive, "PCI\\CC_0106"));
}

impl Nt {
    /// The system on the volume of number `root` whose files are `tree`; `volumes` are the guest's.
    pub(crate) fn read(tree: Tree, root: usize, volumes: &[Found], places: &[(String, usize)], now: i64) -> Self {
        let mut facts = Facts::default();
        read_hives(&tree, &mut facts, now);
        let named = |(letter, index): &(String, usize)| Some((letter.clone(), volumes.get(*index)?.name.clone()));
        facts.letters = places.iter().filter(|(name, _)| name.len() == 2).filter_map(named).collect();
        let size = |path: &str| tree.stat(path).ok().map(|stat| stat.size);
        facts.page_file = size("/pagefile.sys");
        facts.hibernation_file = size("/hiberfil.sys").map(|size| {
            let head = tree.head("/hiberfil.sys", HEAD).unwrap_or_default();
            (size, head.eq_ignore_ascii_case(b"hibr"))
        });
        let kernel = tree.streams("/Windows/System32/ntoskrnl.exe").unwrap_or_default();
        facts.is_compressed = kernel.iter().any(|stream| stream.name == crate::fs::ntfs::WOF_STREAM);
        facts.not_changeable = tree.check_writable("/").err().map(|error| error.to_string());
        facts.free = tree.free().ok();
        let name = facts.version.product.clone().unwrap_or_else(|| "Windows".into());
        let name = match &facts.version.release {
            Some(release) => format!("{name} {release}"),
            None => name,
        };
        Self { root, tree, name, facts, now }
    }

    /// Reads again what the registry says, after it was changed.
    pub(crate) fn reread_hives(&mut self) {
        read_hives(&self.tree, &mut self.facts, self.now);
    }
}

/// Reads what the hives say.
fn read_hives(tree: &Tree, facts: &mut Facts, now: i64) {
    let noted = |name: &str| {
        let path = hives::path(name);
        tree.noted(&path, hives::open(tree, &path, now))
    };
    facts.replayed_hives.clear();
    if let Some(software) = noted("SOFTWARE") {
        facts.version = tree.noted("SOFTWARE", registry::version(&software)).unwrap_or_default();
        facts.replayed_hives.extend(software.was_replayed.then(|| "SOFTWARE".into()));
    }
    if let Some(system) = noted("SYSTEM") {
        facts.settings = tree.noted("SYSTEM", registry::settings(&system)).unwrap_or_default();
        facts.replayed_hives.extend(system.was_replayed.then(|| "SYSTEM".into()));
    }
}
