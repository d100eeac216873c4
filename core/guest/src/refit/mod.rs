//! Making a guest ready for its new hardware: named edits, each of which does nothing where nothing is needed, and is taken
//! back as a whole where it cannot be done.

pub mod edit;
mod fallback;
pub(crate) mod linux;

use serde::{Deserialize, Serialize};

use crate::{
    error::{Error, Result},
    evidence::{self, Evidence, hardware::Hardware},
    system::Guest,
    volume::probe::Volume,
};
use linux::images::Images;

/// What the person wants beyond what is needed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Wishes {
    /// Edits that are left out, by name.
    pub without: Vec<String>,
    /// Scripts that run once when the guest starts: name and bytes.
    pub first_boot: Vec<(String, Vec<u8>)>,
    /// A new host name.
    pub host_name: Option<String>,
    /// Whether the machine's identity is made anew.
    pub new_machine_id: bool,
    /// Whether keys of the SSH server are made anew.
    pub new_ssh_keys: bool,
}

/// An edit that was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Done {
    /// Its name.
    pub name: String,
    /// The system that it was made in.
    pub system: String,
    /// What it changed, a sentence for each thing.
    pub changes: Vec<String>,
}

/// What a person should know of a guest and of what was done to it.
#[derive(Debug, Clone, PartialEq, Eq)]
#[expect(missing_docs, reason = "each is told in a sentence of its own by whoever shows it")]
pub enum Remark {
    /// An edit could not be made, and was taken back.
    Failed { edit: String, why: String, remedy: Option<&'static str> },
    /// Something cannot be read.
    Unread { volume: String, why: String },
    /// A file or folder cannot be read, which is not the same as not being there.
    PathUnread { path: String, why: String },
    /// A journal was replayed.
    Replayed { volume: String },
    /// A suspended system lies in its swap space.
    Hibernated { volume: String },
    /// Which adapter has a name was taken from their order.
    AdapterAssumed { name: String, mac: String },
    /// Nothing tells an adapter apart from others, so its name cannot be kept.
    AdapterUnknown { name: String },
    /// A kernel is not made ready, and why.
    KernelLeft { kernel: String, why: String },
    /// There are several systems.
    Several { systems: Vec<String> },
    /// There is no system that is read.
    NoSystem,
}

/// What became of a guest.
#[derive(Debug, Clone, Default)]
pub struct Refit {
    /// Edits that changed something, in order.
    pub done: Vec<Done>,
    /// The chain of each system: its name, and its links.
    pub evidence: Vec<(String, Vec<Evidence>)>,
    /// What the person should know.
    pub remarks: Vec<Remark>,
}

/// What an edit changed; empty when there was nothing to do.
type Changes = Result<Vec<String>>;

/// The chain of each system on `hardware`, as it is: nothing is changed.
pub fn look(guest: &Guest, hardware: &Hardware) -> Vec<(String, Vec<Evidence>)> {
    let mut images = Images::default();
    let chain = |index: usize| evidence::linux::walk(guest, index, hardware, &mut images);
    let chains: Vec<_> = (0..guest.systems.len()).map(chain).collect();
    guest.systems.iter().map(|system| system.release.name.clone()).zip(chains).collect()
}

/// What there is to say of a guest before anything is changed.
pub fn remarks(guest: &Guest) -> Vec<Remark> {
    let mut remarks = Vec::new();
    for volume in guest.volumes.iter().filter(|volume| volume.kind == Some(Volume::Hibernation)) {
        remarks.push(Remark::Hibernated { volume: volume.name.clone() });
    }
    let unread = guest.unread.iter().cloned();
    remarks.extend(unread.map(|(volume, why)| Remark::Unread { volume, why }));
    let paths = guest.unread_paths.iter().cloned();
    remarks.extend(paths.map(|(path, why)| Remark::PathUnread { path, why }));
    remarks.extend(guest.replayed.iter().cloned().map(|volume| Remark::Replayed { volume }));
    match guest.systems.len() {
        0 => remarks.push(Remark::NoSystem),
        1 => {}
        _ => {
            let systems = guest.systems.iter().map(|system| system.release.name.clone()).collect();
            remarks.push(Remark::Several { systems });
        }
    }
    remarks
}

/// Makes all systems of `guest` ready for `hardware`. What is written is on the guest's bench.
#[expect(clippy::indexing_slicing, reason = "the place was given by this guest")]
pub fn refit(guest: &mut Guest, hardware: &Hardware, wishes: &Wishes, now: i64) -> Refit {
    let mut refit = Refit { remarks: remarks(guest), ..Refit::default() };
    let hibernated = refit.remarks.iter().any(|remark| matches!(remark, Remark::Hibernated { .. }));
    let mut images = Images::default();
    for index in 0..guest.systems.len() {
        let before = evidence::linux::walk(guest, index, hardware, &mut images);
        if !hibernated {
            // A suspended system holds its file systems open: what is changed below it would be lost, and more.
            let mut work = Work { guest, index, hardware, wishes, now, images: &mut images, refit: &mut refit };
            work.all();
        }
        let after = evidence::linux::walk(guest, index, hardware, &mut images);
        for (path, error) in guest.systems[index].tree.take_troubles() {
            let remark = Remark::PathUnread { path, why: error.to_string() };
            if !refit.remarks.contains(&remark) {
                refit.remarks.push(remark);
            }
        }
        let name = guest.systems[index].release.name.clone();
        refit.evidence.push((name, evidence::compared(&before, after)));
    }
    refit
}

/// The edits of one system under way.
struct Work<'a> {
    guest: &'a mut Guest,
    index: usize,
    hardware: &'a Hardware,
    wishes: &'a Wishes,
    now: i64,
    images: &'a mut Images,
    refit: &'a mut Refit,
}

impl Work<'_> {
    #[expect(clippy::indexing_slicing, reason = "the place was given by this guest")]
    fn all(&mut self) {
        self.edit(
            edit::FALLBACK_LOADER,
            "a new host has no boot entries and looks in one place",
            Self::fallback_loader,
        );
        self.edit(
            edit::DRIVERS,
            "the kernel has to find the new disk controller before it can read the disk",
            Self::drivers,
        );
        self.edit(edit::DEVICE_NAMES, "disks have other names at the destination", Self::device_names);
        self.edit(
            edit::ADAPTER_NAMES,
            "adapters get other names, and their configuration goes by the old ones",
            Self::adapter_names,
        );
        self.edit(edit::HELPERS, "the old host's helpers have nothing to talk to", Self::helpers);
        self.edit(edit::IDENTITY, "the person asked for it", Self::identity);
        self.edit(edit::FIRST_BOOT, "the person gave scripts that run once", Self::first_boot);
        if self.guest.systems[self.index].tree.wants_relabel() {
            self.edit(edit::RELABEL, "files were made whose SELinux label their neighbours do not show", |work| {
                work.guest.systems[work.index].tree.write("/.autorelabel", b"")?;
                Ok(vec!["all files get their SELinux labels again on the first start".into()])
            });
        }
    }

    #[expect(clippy::indexing_slicing, reason = "the place was given by this guest")]
    fn edit(&mut self, name: &str, reason: &str, make: impl FnOnce(&mut Self) -> Changes) {
        if self.wishes.without.iter().any(|left| left == name) {
            return;
        }
        self.guest.bench.begin(name, reason);
        let known = self.refit.remarks.len();
        self.note_troubles();
        let made = make(self);
        // What could not be read is not what is not there: an edit that took it for that is not made.
        let troubles = self.guest.systems[self.index].tree.take_troubles();
        let made = match troubles.into_iter().next() {
            Some((_, error)) => made.and(Err(error)),
            None => made,
        };
        match made {
            Ok(changes) => {
                if self.guest.bench.changed() {
                    let system = self.guest.systems[self.index].release.name.clone();
                    self.refit.done.push(Done { name: name.into(), system, changes });
                }
            }
            Err(error) => {
                self.refit.remarks.truncate(known);
                self.take_back(name, &error);
            }
        }
        self.guest.systems[self.index].reread();
    }

    /// Tells what could not be read.
    #[expect(clippy::indexing_slicing, reason = "the place was given by this guest")]
    fn note_troubles(&mut self) {
        for (path, error) in self.guest.systems[self.index].tree.take_troubles() {
            let remark = Remark::PathUnread { path, why: error.to_string() };
            if !self.refit.remarks.contains(&remark) {
                self.refit.remarks.push(remark);
            }
        }
    }

    #[expect(clippy::indexing_slicing, reason = "the place was given by this guest")]
    fn take_back(&mut self, name: &str, error: &Error) {
        self.guest.bench.rollback();
        // What is kept of a superblock in memory is as it was, too.
        let reloaded = self.guest.systems[self.index].tree.reload();
        let why = reloaded.err().map_or_else(|| error.to_string(), |second| format!("{error}; {second}"));
        let remedy = error.remedy();
        self.refit.remarks.push(Remark::Failed { edit: name.into(), why, remedy });
    }
}
