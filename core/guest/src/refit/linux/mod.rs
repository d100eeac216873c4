//! The edits of a Linux system.

mod adapters;
mod addresses;
mod console;
mod drivers;
mod early_texts;
mod first_boot;
mod helpers;
mod identity;
mod kmod;
mod names;
mod order;
mod remote;
mod sources;

pub(crate) use addresses::asking;
pub(crate) use console::with_console;

use crate::{
    evidence::hardware::HostRules,
    refit::work::{Changes, Remark, Work},
    system::{
        Guest,
        linux::{Linux, devices},
    },
};

/// What of `system` does not fit the rules of where it goes, and is not changed.
pub(crate) fn against_rules(system: &Linux, guest: &Guest, rules: &HostRules) -> Vec<Remark> {
    let mut remarks = Vec::new();
    let disk_of = |volume: usize| guest.volumes.get(volume).map(|volume| volume.disk);
    let own = disk_of(system.root);
    for line in system.fstab.iter().filter(|line| rules.no_swap && line.kind == "swap") {
        // A file lies on a volume of the system, whichever that is.
        let is_here = match devices::resolve(&guest.volumes, &line.spec) {
            Some((index, _)) => own.is_some() && disk_of(index) == own,
            None => line.spec.starts_with('/') && !line.spec.starts_with("/dev/"),
        };
        if is_here {
            remarks.push(Remark::SwapOnSystemDisk { swap: line.spec.clone() });
        }
    }
    if rules.remote_login && system.has_systemd() && remote::server(system).is_none() {
        remarks.push(Remark::NoRemoteLogin { system: system.release.name.clone() });
    }
    remarks
}

/// The edits of a system under way.
pub(crate) struct Edits<'a, 'w> {
    pub(crate) system: &'a mut Linux,
    pub(crate) work: &'a mut Work<'w>,
}

impl Edits<'_, '_> {
    /// The edit `relabel`: SELinux labels all files again where one could not be told from the guest's policy, nor from its neighbours.
    pub(crate) fn relabel(&mut self) -> Changes {
        if !self.system.tree.wants_relabel() {
            return Ok(Vec::new());
        }
        self.system.tree.write("/.autorelabel", b"")?;
        Ok(vec!["all files get their SELinux labels again on the first start, which takes long".into()])
    }
}
