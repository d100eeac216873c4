//! A landing taken back. The source was never touched, so that there is nothing to put back: what was made goes, and the old machine can be
//! started where it is.

use std::{
    path::{Path, PathBuf},
    time::{Duration, SystemTime},
};

use reformis_disk::budget::Budget;
use serde::Serialize;

use super::{
    doubt::is_there,
    error::FleetError,
    file::Spec,
    state::{Machine, Stand, State, UNDOING},
};
use crate::{
    error::{Error, Result},
    observer::Context,
    receipt::{self, Receipt},
    staging::{Place, StagedFolder},
};

/// What was written within this time after the move is the landing's own.
const SETTLING: Duration = Duration::from_secs(10);

/// What was taken back.
#[derive(Debug, Clone, Serialize)]
pub struct Undone {
    /// The machine.
    pub name: String,
    /// What was removed: a folder, and what lay in a store.
    pub removed: Vec<String>,
    /// What a person has to remove: what a cloud made.
    pub by_hand: Vec<String>,
    /// Where the old machine is.
    pub source: String,
}

/// Removes the landing of `machine`, whose worker `told` of it: the receipt in the folder may have been changed by others, and says nothing
/// about what is removed in a store. With `force`, even one that was written to since it landed. `state`, of `fleet`, is told when nothing stands
/// in the way any more: an undo that is killed behind that is ended by the next one, which finds less, or nothing.
///
/// # Errors
/// [`FleetError::NotUndone`]: it is not this job's, or was started since. Those of removing; then what is left can be undone again.
pub fn undo(
    machine: &Machine,
    spec: &Spec,
    told: Option<&Receipt>,
    force: bool,
    (state, fleet): (&State, &str),
    context: &Context<'_>,
) -> Result<Undone> {
    // Where it was made, whatever the row says now.
    let landing = machine.landing.as_ref().map_or_else(|| spec.landing(), PathBuf::from);
    let stays = |what: String| Error::from(FleetError::NotUndone { name: machine.name.clone(), what });
    let job = machine.job.ok_or_else(|| stays("its job has no number".into()))?;
    let mut undone =
        Undone { name: machine.name.clone(), removed: Vec::new(), by_hand: Vec::new(), source: spec.source().into() };
    let has_begun = machine.state == Stand::Undone || machine.code.as_deref() == Some(UNDOING);
    if told.is_some() && !is_there(&landing) && !force && !has_begun {
        return Err(stays(format!("'{}' is not here; undo it where it was made", landing.display())));
    }
    let (above, last) = match Place::of(&landing) {
        Ok(found) => found,
        Err(_) if !is_there(&landing) => return Ok(undone),
        Err(error) => return Err(error),
    };
    let path = landing.join(receipt::FILE_NAME);
    if path.is_file() {
        let receipt = Receipt::read(&path, &Budget::whole())?;
        // One that was taken in has no job of ours: it is the one whose receipt the state has.
        let is_taken_in = told.is_some_and(|told| told.job.is_none() && *told == receipt);
        if receipt.job != Some(job) && !is_taken_in {
            return Err(stays(format!("'{}' is another move's", landing.display())));
        }
        if let Some(file) = written_since(&landing, &receipt).filter(|_| !force) {
            return Err(stays(format!("'{file}' was written to since it landed: the machine was started there")));
        }
        state.undoing(fleet, &machine.name)?;
        if let Some(told) = told {
            in_store(told, &mut undone, context)?;
            by_hand(told, &mut undone);
        }
        StagedFolder::remove_whole(&above, &last, &landing)?;
        undone.removed.push(landing.to_string_lossy().into());
    } else if is_there(&landing) {
        return Err(stays(format!("'{}' holds no receipt, and is no landing", landing.display())));
    }
    // What a try that failed has left, to go on with.
    if StagedFolder::remove_left(&landing)? {
        undone.removed.push(format!("what was kept to go on with {}", landing.display()));
    }
    above.sync()?;
    Ok(undone)
}

/// A file of the landing that was written to after the move.
fn written_since(landing: &Path, receipt: &Receipt) -> Option<String> {
    let ended = SystemTime::from(receipt.finished) + SETTLING;
    let entries = std::fs::read_dir(landing).ok()?;
    let is_later = |entry: &std::fs::DirEntry| {
        let modified = entry.metadata().and_then(|metadata| metadata.modified());
        modified.is_ok_and(|modified| modified > ended)
    };
    entries.flatten().find(is_later).map(|entry| entry.file_name().to_string_lossy().into_owned())
}

/// Removes what lies in a store.
fn in_store(receipt: &Receipt, undone: &mut Undone, context: &Context<'_>) -> Result<()> {
    let Some(first) = receipt.disks.iter().find(|disk| context.wires.store_of(&disk.result).is_some()) else {
        return Ok(());
    };
    let Some((store, disk)) = context.wires.store_of(&first.result) else { return Ok(()) };
    let place = context.wires.store(store)?;
    let folder = disk.rsplit_once('/').map_or(String::new(), |(folder, _)| format!("{folder}/"));
    let disks =
        receipt.disks.iter().filter_map(|disk| context.wires.store_of(&disk.result).map(|(_, name)| name.to_string()));
    let machine = receipt.machine.iter();
    let files =
        machine.flat_map(|machine| std::iter::once(&machine.file).chain(machine.also.iter().map(|file| &file.file)));
    let files = files
        .chain(std::iter::once(&receipt::FILE_NAME.to_string()))
        .map(|file| format!("{folder}{file}"))
        .collect::<Vec<_>>();
    for name in disks.chain(files) {
        if place.len_of(&name)?.is_some() {
            place.remove(&name)?;
            undone.removed.push(format!("{store}:{name}"));
        }
    }
    Ok(())
}

/// What a cloud made is the cloud's to remove: it may run.
fn by_hand(receipt: &Receipt, undone: &mut Undone) {
    let Some(made) = &receipt.cloud else { return };
    let instance = made.instance.as_ref().map(|instance| format!("the instance {instance} in {}", made.cloud));
    undone.by_hand.extend(instance);
    undone.by_hand.push(format!("the image {} in {}", made.image, made.cloud));
}
