//! Where a plan lands: what lies there already, and whether there is room.

use std::{
    collections::BTreeMap,
    ffi::OsString,
    os::unix::fs::MetadataExt,
    path::Path,
    sync::{Arc, Mutex, PoisonError},
};

use reformis_disk::{Layout, budget::Budget, format};
use reformis_machine::Mac;

use super::{Plan, PlannedDisk, settle::Settler};
use crate::{finding::Finding, receipt::Receipt};

impl Settler<'_> {
    /// What lies where the landing is to be.
    pub(super) fn landing(&mut self, plan: &Plan) {
        let real = |path: &Path| path.canonicalize().ok();
        if let Some(folder) = real(&plan.folder) {
            let files = self.target.disks.iter().flat_map(|disk| disk.parts.iter().map(|part| part.storage.name()));
            let files = files.chain(self.target.files.iter().map(|file| file.path.as_str()));
            let inside = |file: &str| {
                // A member of an archive lies where the archive does.
                let existing = Path::new(file).ancestors().find(|path| path.exists());
                existing.and_then(real).is_some_and(|path| path.starts_with(&folder))
            };
            if files.into_iter().any(inside) {
                self.findings.push(Finding::SourceInLanding { folder: plan.folder.to_string_lossy().into() });
            }
        }
        for (name, macs) in neighbours(&plan.folder, &self.target.budget) {
            for mac in plan.machine.adapters.iter().filter_map(|adapter| adapter.mac) {
                if macs.contains(&mac) {
                    self.findings.push(Finding::MacTwice { mac: mac.to_string(), other: name.clone() });
                }
            }
        }
        self.room(plan);
    }

    /// Whether what is to be written fits: a full disk with all its size, a thin one with what it holds; what is
    /// compressed may come out smaller.
    #[expect(clippy::indexing_slicing, reason = "plans name disks of their own target")]
    fn room(&mut self, plan: &Plan) {
        let parent = plan.folder.ancestors().find(|path| path.is_dir());
        let Some(free) = parent.and_then(|folder| rustix::fs::statvfs(folder).ok()) else { return };
        let free = free.f_bavail.saturating_mul(free.f_frsize);
        let (mut sure, mut most) = (0u64, 0u64);
        // What a store takes as it is made takes no room here.
        let stays = |disk: &&PlannedDisk| plan.store.is_none() || !format::is_one_way(disk.shape);
        for disk in plan.disks.iter().filter(stays) {
            let source = &self.target.disks[disk.source];
            let used = match source.image.as_ref().map(|image| reformis_disk::disk::data_bytes(image.disk.as_ref())) {
                Some(Ok(used)) => used,
                _ => 0,
            };
            let squeezed = disk.wrapping.is_some() || disk.shape.layout == Layout::Stream;
            let full = disk.shape.layout == Layout::Full;
            let wanted = if full { disk.size } else { used };
            most = most.saturating_add(wanted);
            sure = sure.saturating_add(if squeezed || !full { 0 } else { wanted });
        }
        if sure > free {
            self.findings.push(Finding::NoRoom { needed: sure, free });
        } else if most > free {
            self.findings.push(Finding::LittleRoom { needed: most, free });
        }
    }
}

/// The largest receipt of another landing that is looked into.
const MAX_NEIGHBOUR: u64 = 4 << 20;
/// The most landings beside one that are looked into: twice as many as a fleet has.
const MOST_NEIGHBOURS: usize = 20_000;

/// The addresses and the characters of a name that are kept of a landing, and the folders of which any are.
const MOST_MACS: usize = 64;
const LONGEST_NAME: usize = 255;
const MOST_FOLDERS: usize = 64;

/// A machine that has landed: its name and addresses; none where there is no landing.
type Landed = Option<(String, Vec<Mac>)>;

/// What lies in folders with landings, by the device and inode of the folder, then by the name of each entry, with its inode and the time of
/// its last change: a night makes one landing after the other in the same folder, and whoever is moved next reads what is new alone.
static SEEN: Mutex<Seen> = Mutex::new(BTreeMap::new());

type Seen = BTreeMap<(u64, u64), BTreeMap<OsString, (Entry, Landed)>>;
/// Inode, and the time of the last change of status, in seconds and nanoseconds.
type Entry = (u64, i64, i64);

/// Name and addresses of the machines that have landed beside `folder`.
fn neighbours(folder: &Path, budget: &Arc<Budget>) -> Vec<(String, Vec<Mac>)> {
    let Some(parent) = folder.parent().map(|parent| if parent == Path::new("") { Path::new(".") } else { parent })
    else {
        return Vec::new();
    };
    let (Ok(metadata), Ok(entries)) = (parent.metadata(), std::fs::read_dir(parent)) else { return Vec::new() };
    let mut seen = SEEN.lock().unwrap_or_else(PoisonError::into_inner);
    let earlier = seen.remove(&(metadata.dev(), metadata.ino())).unwrap_or_default();
    let mut now = BTreeMap::new();
    let others = entries.flatten().filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_dir()));
    for entry in others.take(MOST_NEIGHBOURS) {
        let Ok(metadata) = entry.metadata() else { continue };
        let (name, is) = (entry.file_name(), (metadata.ino(), metadata.ctime(), metadata.ctime_nsec()));
        let known = earlier.get(&name).filter(|(was, landed)| *was == is && landed.is_some());
        let landed = known.map_or_else(|| landed_in(&entry.path(), budget), |(_, landed)| landed.clone());
        now.insert(name, (is, landed));
    }
    let own = folder.file_name().unwrap_or_default();
    let found = now.iter().filter(|(name, _)| *name != own).filter_map(|(_, (_, landed))| landed.clone()).collect();
    if seen.len() >= MOST_FOLDERS {
        seen.clear();
    }
    seen.insert((metadata.dev(), metadata.ino()), now);
    found
}

/// The machine whose landing is the folder at `path`.
fn landed_in(path: &Path, budget: &Arc<Budget>) -> Landed {
    // Anybody may have put a file of that name there; a real one is small.
    let receipt = Receipt::read_up_to(&path.join(crate::receipt::FILE_NAME), MAX_NEIGHBOUR, budget).ok()?;
    let machine = receipt.machine?.after;
    // It is kept, and anybody may have written it.
    let name = machine.name.chars().take(LONGEST_NAME).collect();
    Some((name, machine.adapters.into_iter().filter_map(|adapter| adapter.mac).take(MOST_MACS).collect()))
}
