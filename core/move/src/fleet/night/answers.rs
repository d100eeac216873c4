//! At a gate: the machines before it are asked whether they answer, until they do or a person opens it.

use std::{
    sync::{Arc, atomic::AtomicBool},
    time::Duration,
};

use super::{Hands, Options};
use crate::{
    error::Result,
    fleet::{
        confirm,
        state::{Stand, State},
    },
};

/// How often they are asked.
pub(super) const EVERY: Duration = Duration::from_secs(5);

/// Asks each of `names` that has landed once, and notes what it answers.
pub(super) fn ask(
    state: &State,
    fleet: &str,
    names: &[String],
    options: &Options,
    hands: &dyn Hands,
    stop: &Arc<AtomicBool>,
) -> Result<()> {
    let asked = confirm::all(names, |name| {
        let (machine, spec) = state.machine(fleet, name)?;
        if machine.state != Stand::Landed {
            return Ok(());
        }
        let wires = hands.wires(name, stop, None);
        let keeper = options.keeper.as_deref();
        match confirm::once(&machine, &spec, keeper, &wires, stop)? {
            Some(answer) => state.answered(fleet, name, &serde_json::to_string(&answer).unwrap_or_default()),
            None => Ok(()),
        }
    });
    // One that cannot be asked is one that does not answer yet.
    for (name, error) in names.iter().zip(asked).filter_map(|(name, asked)| Some((name, asked.err()?))) {
        tracing::debug!(name, %error, "it was not asked");
    }
    Ok(())
}
