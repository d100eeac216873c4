//! A Linux system as one of any family.

use super::{Linux, fstab, helpers, kernels, loader, network};
use crate::{
    evidence::{
        Evidence,
        hardware::{Hardware, HostRules},
        linux::walk,
    },
    fs::tree::Tree,
    refit::{
        edit::{self, Step},
        linux::{self, Edits},
        work::{Changes, Remark, Work},
    },
    system::{
        Guest,
        family::{Summary, System},
    },
    volume::found::Found,
};

/// The edits in the order in which they are made.
const EDITS: [Step; 12] = [
    Step { name: edit::FALLBACK_LOADER, reason: "a new host has no boot entries and looks in one place" },
    Step { name: edit::DRIVERS, reason: "the kernel has to find the new disk controller before it can read the disk" },
    Step { name: edit::DEVICE_NAMES, reason: "disks have other names at the destination" },
    Step { name: edit::CONSOLE, reason: "the new host shows a serial port and no screen" },
    Step {
        name: edit::ADAPTER_NAMES,
        reason: "adapters get other names, and their configuration goes by the old ones",
    },
    Step { name: edit::ADDRESSES, reason: "the new host gives the first adapter its address" },
    Step { name: edit::HELPERS, reason: "the old host's helpers have nothing to talk to" },
    Step { name: edit::REMOTE_LOGIN, reason: "the network is the only way in at the new host" },
    Step { name: edit::DATA_SOURCES, reason: "another host speaks at the first start, or none" },
    Step { name: edit::IDENTITY, reason: "the person asked for it" },
    Step { name: edit::FIRST_BOOT, reason: "the person gave scripts that run once" },
    Step { name: edit::RELABEL, reason: "files were made whose SELinux label cannot be told" },
];

impl System for Linux {
    fn name(&self) -> &str {
        &self.release.name
    }

    fn tree(&self) -> &Tree {
        &self.tree
    }

    fn tree_mut(&mut self) -> &mut Tree {
        &mut self.tree
    }

    fn into_tree(self: Box<Self>) -> Tree {
        self.tree
    }

    fn summary(&self, volumes: &[Found]) -> Summary {
        let name = |index: usize| volumes.get(index).map_or(String::new(), |volume| volume.name.clone());
        Summary {
            name: self.release.name.clone(),
            root: name(self.root),
            mounts: self.tree.mounted().map(|(index, place)| (name(index), place)).collect(),
            kernels: self.kernels.clone(),
            network: self.network.clone(),
            time_zone: self.time_zone.clone(),
            helpers: self.helpers.clone(),
            windows: None,
        }
    }

    fn against_rules(&self, guest: &Guest, rules: &HostRules) -> Vec<Remark> {
        linux::against_rules(self, guest, rules)
    }

    fn reread(&mut self) {
        self.fstab = fstab::read(&self.tree.text("/etc/fstab").unwrap_or_default());
        let loaders = loader::read(&self.tree);
        (self.entries, self.unknown_start) = (loaders.entries, loaders.unknown);
        self.kernels = kernels::find(&self.tree, &self.entries);
        self.network = network::read(&self.tree);
        self.helpers = helpers::find(&self.tree);
    }

    fn evidence(&mut self, guest: &Guest, hardware: &Hardware) -> Vec<Evidence> {
        walk(guest, self, hardware)
    }

    fn edits(&self) -> &'static [Step] {
        &EDITS
    }

    fn make(&mut self, name: &str, work: &mut Work<'_>) -> Changes {
        let mut edits = Edits { system: self, work };
        match name {
            edit::FALLBACK_LOADER => edits.work.fallback_loader(),
            edit::DRIVERS => edits.drivers(),
            edit::DEVICE_NAMES => edits.device_names(),
            edit::ADAPTER_NAMES => edits.adapter_names(),
            edit::CONSOLE => edits.console(),
            edit::ADDRESSES => edits.addresses(),
            edit::REMOTE_LOGIN => edits.remote_login(),
            edit::DATA_SOURCES => edits.data_sources(),
            edit::HELPERS => edits.helpers(),
            edit::IDENTITY => edits.identity(),
            edit::FIRST_BOOT => edits.first_boot(),
            edit::RELABEL => edits.relabel(),
            _ => Ok(Vec::new()),
        }
    }
}
