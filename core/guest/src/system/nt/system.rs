//! A Windows system as one of any family.

use super::Nt;
use crate::{
    evidence::{Evidence, hardware::Hardware, nt::walk},
    fs::tree::Tree,
    refit::{
        edit::{self, Step},
        nt::Edits,
        work::{Changes, Remark, Work},
    },
    system::{
        Guest,
        family::{Summary, System},
    },
    volume::found::Found,
};

impl System for Nt {
    fn name(&self) -> &str {
        &self.name
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
            name: self.name.clone(),
            root: name(self.root),
            mounts: self.facts.letters.iter().map(|(letter, volume)| (volume.clone(), letter.clone())).collect(),
            kernels: Vec::new(),
            network: Vec::new(),
            time_zone: self.facts.settings.time_zone.clone(),
            helpers: Vec::new(),
            windows: Some(self.facts.clone()),
        }
    }

    fn sleeps_on(&self, volumes: &[Found]) -> Option<String> {
        let (_, is_asleep) = self.facts.hibernation_file?;
        let root = volumes.get(self.root).map_or(String::new(), |volume| volume.name.clone());
        is_asleep.then_some(root)
    }

    fn reread(&mut self) {
        self.reread_hives();
    }

    fn evidence(&mut self, guest: &Guest, hardware: &Hardware) -> Vec<Evidence> {
        walk(guest, self, hardware)
    }

    fn edits(&self) -> &'static [Step] {
        &STEPS
    }

    fn make(&mut self, name: &str, work: &mut Work<'_>) -> Changes {
        match name {
            edit::FALLBACK_LOADER => work.fallback_loader(),
            edit::DRIVERS => Edits { system: self, work }.drivers(),
            edit::CONSOLE => Edits { system: self, work }.console(),
            edit::HELPERS => Edits { system: self, work }.helpers(),
            edit::DISKS => Edits { system: self, work }.disks(),
            edit::CLOCK => Edits { system: self, work }.clock(),
            edit::ADAPTERS => Edits { system: self, work }.adapters(),
            edit::REMOTE_LOGIN => Edits { system: self, work }.remote_login(),
            edit::IDENTITY => Edits { system: self, work }.identity(),
            edit::FIRST_BOOT => Edits { system: self, work }.first_boot(),
            _ => Ok(Vec::new()),
        }
    }

    fn remarks(&self) -> Vec<Remark> {
        let system = self.name.clone();
        let mut remarks = vec![Remark::Activation { system: system.clone() }];
        if self.facts.settings.product_type.as_deref() == Some("LanmanNT") {
            remarks.push(Remark::DomainController { system: system.clone() });
        }
        if self.facts.settings.has_own_ipv6 {
            remarks.push(Remark::AddressesUnread { system });
        }
        remarks
    }
}

/// Its edits, in their order.
const STEPS: [Step; 10] = [
    Step { name: edit::FALLBACK_LOADER, reason: "a loader where a firmware without boot entries looks" },
    Step { name: edit::DRIVERS, reason: "drivers for the new disks and adapters" },
    Step { name: edit::CONSOLE, reason: "the new host shows a serial port, and often no screen" },
    Step { name: edit::HELPERS, reason: "helpers of the old host stay quiet, and those of the new one are installed" },
    Step { name: edit::DISKS, reason: "a server's disks of data come up by themselves" },
    Step { name: edit::CLOCK, reason: "the machine's clock is taken for what it shows" },
    Step { name: edit::ADAPTERS, reason: "the new adapters get the settings of the old ones" },
    Step { name: edit::REMOTE_LOGIN, reason: "the network is the only way in at the new host" },
    Step { name: edit::IDENTITY, reason: "a new name for the computer" },
    Step { name: edit::FIRST_BOOT, reason: "scripts that run once when the guest starts" },
];
