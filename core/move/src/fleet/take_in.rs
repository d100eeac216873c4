//! A landing that was made by itself, taken into a fleet: it counts as its machine's from then on, and is reported and taken back as one.

use reformis_disk::{budget::Budget, text::printable};

use super::{
    error::FleetError,
    file::Spec,
    landed::files_of,
    state::{Machine, Stand, State},
    worker::Worker,
};
use crate::{
    error::{Error, Result},
    landing::again::is_whole,
    receipt::{self, Kind, Receipt},
    staging::Place,
};

/// Takes the landing that lies where `machine` of `fleet`, whose row is `spec`, would land. With `force`, one whose receipt names another
/// source, too.
///
/// # Errors
/// [`FleetError::NotTaken`]: there is none, it is not whole, or it is of something else.
pub fn take_in(state: &State, fleet: &str, machine: &Machine, spec: &Spec, force: bool) -> Result<Receipt> {
    let refused = |what: String| Error::from(FleetError::NotTaken { name: machine.name.clone(), what });
    if matches!(machine.state, Stand::Running | Stand::Landed | Stand::Gone) {
        return Err(refused(format!("it is {}", machine.state.word())));
    }
    let landing = spec.landing();
    let shown = printable(&landing.to_string_lossy());
    let path = landing.join(receipt::FILE_NAME);
    if !path.is_file() {
        return Err(refused(format!("'{shown}' holds no receipt")));
    }
    let receipt = Receipt::read(&path, &Budget::whole())?;
    if receipt.kind != Kind::Carry {
        return Err(refused(format!("the receipt in '{shown}' is of no move of a machine")));
    }
    if receipt.destination != spec.destination() {
        let (was, now) = (printable(&receipt.destination), printable(spec.destination()));
        return Err(refused(format!("it was moved to {was}, and its row says {now}")));
    }
    let source = spec.folder.join(spec.source());
    let is_its = receipt.target == spec.source() || spec.folder.join(&receipt.target) == source;
    if !is_its && !force {
        let (was, now) = (printable(&receipt.target), printable(spec.source()));
        return Err(refused(format!("'{was}' was moved, and its row says '{now}'")));
    }
    let (above, last) = Place::of(&landing)?;
    let in_store = receipt.disks.iter().any(|disk| disk.result.contains(':'));
    if !in_store && !is_whole(&above.open_folder(&last)?, &receipt) {
        return Err(refused(format!("'{shown}' is not whole: a disk is missing, or has another length")));
    }
    let files = serde_json::to_string(&files_of(&landing)?).unwrap_or_default();
    let place = landing.to_string_lossy();
    match state.taken_in(fleet, &machine.name, (&place, &files), &receipt, &Worker::here())? {
        true => Ok(receipt),
        false => Err(refused("a worker has it, or it has landed meanwhile".into())),
    }
}
