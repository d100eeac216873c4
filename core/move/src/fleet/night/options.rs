//! What a worker is given, what it needs of whoever runs it, and what its night comes to.

use std::{
    collections::{BTreeMap, BTreeSet},
    ffi::OsString,
    sync::{Arc, atomic::AtomicBool},
    time::Duration,
};

use jiff::Timestamp;
use reformis_guest::Keys;
use reformis_machine::Site;
use reformis_wire::{Wires, steady::Pace};
use serde::Serialize;

use super::{Board, Event};
use crate::{
    error::Result,
    fleet::{
        file::Spec,
        state::{Counts, State},
        worker::Worker,
    },
};

/// What a worker does.
pub struct Options {
    /// Who it is.
    pub worker: Worker,
    /// Machines at once.
    pub at_once: usize,
    /// After this, nothing begins that would not be done by then.
    pub until: Option<Timestamp>,
    /// What keeps the programs that the fleet file names: the words that start [`crate::fleet::keep`]; none where they may not run.
    pub keeper: Option<Vec<OsString>>,
    /// What opens encrypted volumes.
    pub keys: Keys,
    /// The machines as the fleet file has them, where the worker has it: what signs their links is kept nowhere else.
    pub signed: BTreeMap<String, Spec>,
    /// Machines besides which none begins; none where all may begin.
    pub only: Option<BTreeSet<String>>,
    /// For how long a machine is a worker's own until it must renew.
    pub lease: Duration,
    /// After how long a second try begins.
    pub back_off: Duration,
    /// For how long the database may be away.
    pub patience: Duration,
    /// What the site adds.
    pub site: Site,
}

impl Options {
    /// Those that are usual, for `worker`.
    pub fn new(worker: Worker, site: Site) -> Self {
        Self {
            worker,
            at_once: 2,
            until: None,
            keeper: None,
            only: None,
            keys: Keys::default(),
            signed: BTreeMap::new(),
            lease: Duration::from_secs(60),
            back_off: Duration::from_secs(5),
            patience: Duration::from_secs(600),
            site,
        }
    }
}

/// What a worker needs of whoever runs it.
pub trait Hands: Sync {
    /// The network for one try of the machine `name`: it ends with `cancel`, and goes at `pace` where its host has one.
    fn wires(&self, name: &str, cancel: &Arc<AtomicBool>, pace: Option<&Arc<Pace>>) -> Wires;

    /// The state once more, by a connection of its own.
    ///
    /// # Errors
    /// [`crate::fleet::FleetError::State`].
    fn state(&self) -> Result<State>;

    /// Does `work`; what it logs goes to the log of the machine `name`.
    fn logged(&self, name: &str, work: &mut dyn FnMut());

    /// Is told what happened. Calls come from any thread.
    fn tell(&self, event: &Event);
}

/// How a person steers a worker.
#[derive(Default)]
pub struct Control {
    /// Stops it: what it has is stopped too, and goes on next time.
    pub stop: Arc<AtomicBool>,
    /// Lets it take no more: what it has is finished.
    pub last: AtomicBool,
    /// The machines that it has.
    pub board: Board,
}

/// Why a worker ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Why {
    /// Nothing is left that may begin.
    Over,
    /// The rest would not have been done in time.
    NoTime,
    /// A person stopped it.
    Stopped,
}

/// What a night came to.
#[derive(Debug, Clone, Copy, Serialize)]
pub struct Outcome {
    /// Why this worker ended.
    pub why: Why,
    /// How the machines stand.
    pub counts: Counts,
}
