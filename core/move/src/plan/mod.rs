//! What a brief comes to.

mod disks;
mod folder;
mod identity;
pub(crate) mod settle;

use std::{path::PathBuf, sync::Arc};

use reformis_disk::{Shape, Storage, container::packed::Wrapping};
use reformis_machine::{Earlier, Keep, Lost, Machine, MachineFile};
use reformis_wire::clouds::Then;

pub(crate) use self::identity::Identity;
use crate::{landing::seed::Seed, target::Target};

/// The machine as it will land.
pub(crate) struct Plan {
    /// The machine as its file describes it.
    pub(crate) before: Machine,
    pub(crate) machine: Machine,
    pub(crate) disks: Vec<PlannedDisk>,
    pub(crate) machine_file: MachineFile,
    pub(crate) folder: PathBuf,
    /// What its own numbers were made from, where it did not bring them.
    pub(crate) identity: Identity,
    /// The store that the disks go to, and the folder there: `NAME:FOLDER`.
    pub(crate) store: Option<String>,
    /// The cloud that makes an image of them, and what becomes of that.
    pub(crate) cloud: Option<(String, Then)>,
    /// What cloud-init is told at the first start, as a medium.
    pub(crate) seed: Option<Seed>,
    /// The firmware's variables, where the new machine file is of the same kind, and the name of their file.
    pub(crate) nvram: Option<(String, Arc<dyn Storage>)>,
    /// What the machine file has no word for.
    pub(crate) lost: Vec<Lost>,
    /// What stays of the source's machine file.
    pub(crate) keep: Keep,
}

impl Plan {
    /// The source's machine file, where it is of the same kind and describes this machine alone.
    pub(crate) fn earlier<'t>(&self, target: &'t Target) -> Option<Earlier<'t>> {
        let kind = if self.machine_file == MachineFile::Ova { MachineFile::Ovf } else { self.machine_file };
        let described = target.described.as_ref().filter(|d| d.kind == kind && d.names.len() == 1);
        described.map(|described| Earlier { text: &described.text, keep: self.keep })
    }
}

/// A disk as it will land, in the brief's order.
pub(crate) struct PlannedDisk {
    /// Its place among the target's disks.
    pub(crate) source: usize,
    /// File name in the landing.
    pub(crate) file: String,
    pub(crate) shape: Shape,
    pub(crate) wrapping: Option<Wrapping>,
    /// Guest-visible size in bytes.
    pub(crate) size: u64,
}
