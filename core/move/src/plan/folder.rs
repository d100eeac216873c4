//! Where a plan lands: what lies there already, and whether there is room.

use std::{path::Path, sync::Arc};

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

/// Name and addresses of the machines that have landed beside `folder`.
fn neighbours(folder: &Path, budget: &Arc<Budget>) -> Vec<(String, Vec<Mac>)> {
    let Some(entries) = folder.parent().and_then(|parent| std::fs::read_dir(parent).ok()) else { return Vec::new() };
    let others = entries.flatten().map(|entry| entry.path()).filter(|path| path != folder && path.is_dir());
    let receipts = others.take(1000).filter_map(|path| {
        // Anybody may have put a file of that name there; a real one is small.
        Receipt::read_up_to(&path.join(crate::receipt::FILE_NAME), MAX_NEIGHBOUR, budget).ok()
    });
    let machines = receipts.filter_map(|receipt| receipt.machine).map(|machine| machine.after);
    machines.map(|m| (m.name.into(), m.adapters.into_iter().filter_map(|adapter| adapter.mac).collect())).collect()
}
