//! Making a guest ready for its new hardware: named edits, each of which does nothing where nothing is needed, and is taken
//! back as a whole where it cannot be done.

pub mod edit;
mod fallback;
pub(crate) mod linux;
pub(crate) mod nt;
pub mod work;

use serde::{Deserialize, Serialize};

use crate::{
    evidence::{self, Evidence, hardware::Hardware},
    system::{Guest, family::System},
    volume::{found::Found, md::Array, probe::Volume},
};
use edit::Step;
use work::{Remark, Wishes, Work};

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

/// The chain of each system on `hardware`, as it is: nothing is changed.
pub fn look(guest: &mut Guest, hardware: &Hardware) -> Vec<(String, Vec<Evidence>)> {
    let mut chains = Vec::new();
    for index in 0..guest.systems.len() {
        let mut system = guest.systems.remove(index);
        chains.push((system.name().to_string(), system.evidence(guest, hardware)));
        guest.systems.insert(index, system);
    }
    chains
}

/// What there is to say of a guest before anything is changed.
pub fn remarks(guest: &Guest) -> Vec<Remark> {
    let mut remarks = Vec::new();
    for volume in guest.volumes.iter().filter(|volume| volume.kind == Some(Volume::Hibernation)) {
        remarks.push(Remark::Hibernated { volume: volume.name.clone() });
    }
    let asleep = guest.systems.iter().filter_map(|system| system.sleeps_on(&guest.volumes));
    remarks.extend(asleep.map(|volume| Remark::Hibernated { volume }));
    let is_locked =
        |name: &str| guest.volumes.iter().any(|volume| volume.name == name && volume.kind == Some(Volume::Luks));
    for (volume, why) in guest.unread.iter().cloned() {
        let is_refused = guest.volumes.iter().any(|found| found.name == volume && found.trouble.is_some());
        remarks.push(match is_locked(&volume) && is_refused {
            true => Remark::KeyRefused { volume, why },
            false => Remark::Unread { volume, why },
        });
    }
    remarks.extend(array_remarks(&guest.volumes));
    let paths = guest.unread_paths.iter().cloned();
    remarks.extend(paths.map(|(path, why)| Remark::PathUnread { path, why }));
    remarks.extend(guest.replayed.iter().cloned().map(|volume| Remark::Replayed { volume }));
    remarks.extend(guest.systems.iter().flat_map(|system| system.remarks()));
    match guest.systems.len() {
        0 => remarks.push(Remark::NoSystem),
        1 => {}
        _ => {
            let systems = guest.systems.iter().map(|system| system.name().to_string()).collect();
            remarks.push(Remark::Several { systems });
        }
    }
    remarks
}

/// What is to be known of the arrays among `volumes`: each once, whatever its partitions.
pub fn array_remarks(volumes: &[Found]) -> Vec<Remark> {
    let mut remarks = Vec::new();
    let mut arrays: Vec<&Array> = volumes.iter().filter_map(|volume| volume.array.as_ref()).collect();
    arrays.dedup_by_key(|array| array.uuid);
    for array in arrays {
        let (name, members) = (format!("array {}", array.name), array.members);
        if array.missing > 0 {
            remarks.push(Remark::ArrayIncomplete { array: name.clone(), missing: array.missing, members });
        }
        if !array.clean {
            remarks.push(Remark::ArrayUnclean { array: name });
        }
    }
    remarks
}

/// Makes all systems of `guest` ready for `hardware`. What is written is on the guest's bench.
pub fn refit(guest: &mut Guest, hardware: &Hardware, wishes: &Wishes, now: i64) -> Refit {
    let mut refit = Refit { remarks: remarks(guest), ..Refit::default() };
    if let Some(library) = &wishes.drivers {
        let unread = library.unread.iter().cloned();
        refit.remarks.extend(unread.map(|(file, why)| Remark::DriverUnread { file, why }));
    }
    let hibernated = refit.remarks.iter().any(|remark| matches!(remark, Remark::Hibernated { .. }));
    for index in 0..guest.systems.len() {
        let mut system = guest.systems.remove(index);
        let before = system.evidence(guest, hardware);
        if !hibernated {
            // A suspended system holds its file systems open: what is changed below it would be lost, and more.
            let is_first = index == 0;
            let mut work = Work { guest, is_first, hardware, wishes, now, remarks: &mut refit.remarks };
            for step in system.edits() {
                let done = edit(system.as_mut(), step, &mut work);
                refit.done.extend(done);
            }
        }
        let after = system.evidence(guest, hardware);
        note_troubles(system.as_ref(), &mut refit.remarks);
        refit.remarks.extend(system.against_rules(guest, &hardware.rules));
        refit.evidence.push((system.name().to_string(), evidence::compared(&before, after)));
        guest.systems.insert(index, system);
    }
    if !hibernated {
        refit_closed(guest, hardware, wishes, now, &mut refit);
    }
    refit
}

/// Lets the `/boot` of systems that nobody gave the key for call devices by what they are; all else of them is out of reach.
fn refit_closed(guest: &mut Guest, hardware: &Hardware, wishes: &Wishes, now: i64, refit: &mut Refit) {
    for index in 0..guest.closed.len() {
        let mut system = guest.closed.remove(index);
        let mut work = Work { guest, is_first: false, hardware, wishes, now, remarks: &mut refit.remarks };
        for step in system.edits().iter().filter(|step| step.name == edit::DEVICE_NAMES) {
            refit.done.extend(edit(&mut system, step, &mut work));
        }
        guest.closed.insert(index, system);
    }
}

/// Makes one edit in `system`, and takes it back as a whole when it fails.
fn edit(system: &mut dyn System, step: &Step, work: &mut Work<'_>) -> Option<Done> {
    let Step { name, reason } = *step;
    if work.wishes.without.iter().any(|left| left == name) {
        return None;
    }
    work.guest.bench.begin(name, reason);
    let known = work.remarks.len();
    note_troubles(system, work.remarks);
    let made = system.make(name, work);
    // What could not be read is not what is not there: an edit that took it for that is not made.
    let made = match system.tree().take_troubles().into_iter().next() {
        Some((_, error)) => made.and(Err(error)),
        None => made,
    };
    let done = match made {
        Ok(changes) => {
            let done = || Done { name: name.into(), system: system.name().into(), changes };
            work.guest.bench.changed().then(done)
        }
        Err(error) => {
            work.remarks.truncate(known);
            work.guest.bench.rollback();
            // What is kept of a superblock in memory is as it was, too.
            let reloaded = system.tree_mut().reload();
            let why = reloaded.err().map_or_else(|| error.to_string(), |second| format!("{error}; {second}"));
            work.remarks.push(Remark::Failed { edit: name.into(), why, remedy: error.remedy() });
            None
        }
    };
    system.reread();
    done
}

/// Tells what could not be read.
fn note_troubles(system: &dyn System, remarks: &mut Vec<Remark>) {
    for (path, error) in system.tree().take_troubles() {
        let remark = Remark::PathUnread { path, why: error.to_string() };
        if !remarks.contains(&remark) {
            remarks.push(remark);
        }
    }
}
