//! A landing taken back. The source was never touched, so that there is nothing to put back: what was made goes, and the old machine can be
//! started where it is.

use std::{
    ffi::OsStr,
    path::{Path, PathBuf},
    time::{Duration, SystemTime},
};

use reformis_disk::{budget::Budget, text::printable};
use serde::Serialize;

use super::{
    doubt::is_there,
    error::FleetError,
    file::Spec,
    landed::{LandedFile, names_of, strange},
    state::{Machine, Stand, State, UNDOING},
};
use crate::{
    error::{Error, Result},
    observer::Context,
    prove,
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
    /// The folder with what was not as it landed, which is not removed.
    pub aside: Option<String>,
    /// What a person has to remove: what a cloud made.
    pub by_hand: Vec<String>,
    /// Where the old machine is.
    pub source: String,
}

/// Removes the landing of `machine`, whose worker `told` of it: the receipt in the folder may have been changed by others, and says nothing
/// about what is removed in a store. With `force`, what is not as it landed is set aside. `state`, of `fleet`, is told when nothing stands
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
    let mut undone = Undone {
        name: machine.name.clone(),
        removed: Vec::new(),
        aside: None,
        by_hand: Vec::new(),
        source: spec.shown_source(),
    };
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
        let files = state.landed_files(fleet, &machine.name)?;
        let files: Option<Vec<LandedFile>> = files.and_then(|text| serde_json::from_str(&text).ok());
        let look = |folder: &Path| match &files {
            Some(files) => strange(folder, files),
            None => unknown(folder, &receipt, context),
        };
        let told_of = |strange: &[(String, String)]| match strange {
            [] => Ok(()),
            [(_, why)] => Err(stays(why.clone())),
            [(_, why), rest @ ..] => Err(stays(format!("{why}, and {} more are not as they landed", rest.len()))),
        };
        let found = look(&landing)?;
        if !force {
            told_of(&found)?;
        }
        state.undoing(fleet, &machine.name)?;
        if let Some(told) = told {
            in_store(told, &mut undone, context)?;
            by_hand(told, &mut undone);
        }
        if found.is_empty() {
            StagedFolder::remove_whole(&above, &last, &landing, |folder| told_of(&look(folder)?))?;
            undone.removed.push(landing.to_string_lossy().into());
        } else {
            undone.aside = Some(set_aside(&above, &last, &found)?.to_string_lossy().into());
        }
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

/// As [`strange`], of a landing of which nobody noted the files: their names are those of the receipt, and what is in them is read.
fn unknown(folder: &Path, receipt: &Receipt, context: &Context<'_>) -> Result<Vec<(String, String)>> {
    let ended = SystemTime::from(receipt.finished) + SETTLING;
    let names = names_of(receipt);
    let mut strange = Vec::new();
    for entry in std::fs::read_dir(folder).map_err(Error::io("listing", folder))? {
        let entry = entry.map_err(Error::io("listing", folder))?;
        let name = entry.file_name().to_string_lossy().into_owned();
        let shown = printable(&name);
        let metadata = entry.metadata().map_err(Error::io("looking at", &entry.path()))?;
        if !names.contains(&name) || !metadata.is_file() {
            strange.push((name, format!("'{shown}' is no file of the landing: somebody put it there")));
        } else if metadata.modified().is_ok_and(|modified| modified > ended) {
            let why = format!("'{shown}' was written to since it landed: the machine was started there");
            strange.push((name, why));
        }
    }
    let is_here = receipt.disks.iter().all(|disk| context.wires.store_of(&disk.result).is_none());
    if strange.is_empty() && is_here {
        let options = prove::Options { without_sources: true, ..prove::Options::default() };
        if !prove::prove_receipt(&folder.join(receipt::FILE_NAME), options, context)?.holds {
            strange.push((String::new(), "its bytes are not those that its receipt tells of".into()));
        }
    }
    Ok(strange)
}

/// Moves the landing `name` in `above` out of the way, and removes of it what is as it landed; the folder with the rest.
fn set_aside(above: &Place, name: &OsStr, strange: &[(String, String)]) -> Result<PathBuf> {
    let numbered = |number: u32| {
        let mut aside = name.to_os_string();
        aside.push(if number == 1 { ".set-aside".to_string() } else { format!(".set-aside-{number}") });
        aside
    };
    let mut number = 1;
    let aside = loop {
        let aside = numbered(number);
        match above.rename_new(name, &aside) {
            Ok(()) => break aside,
            Err(Error::Disk(reformis_disk::Error::Exists { .. })) if number < 1000 => number += 1,
            Err(error) => return Err(error),
        }
    };
    let folder = above.open_folder(&aside)?;
    let stays = |name: &OsStr| strange.iter().any(|(other, _)| other.is_empty() || OsStr::new(other) == name);
    for file in folder.names()?.iter().filter(|file| !stays(file)) {
        folder.remove(file)?;
    }
    Ok(above.path_of(aside))
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
