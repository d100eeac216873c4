//! Machines without their bytes: the neutral [`Machine`], the files in which hosts keep one, and the
//! [`Destination`]s that a machine can go to. Nothing here opens a file: readers take bytes, writers return text.

// What is read here was written by strangers: nothing in it may stop the program. Where one of these is allowed, the
// function says why it holds.
#![cfg_attr(
    not(test),
    deny(
        clippy::cast_possible_truncation,
        clippy::expect_used,
        clippy::indexing_slicing,
        clippy::panic,
        clippy::string_slice,
        clippy::unwrap_used
    )
)]

pub mod destination;
mod device;
mod difference;
pub mod domain;
mod earlier;
mod error;
mod files;
mod kind;
mod landed;
pub mod launch;
mod limits;
pub mod manifest;
mod memory;
mod model;
pub mod ovf;
pub mod script;
pub mod site;
mod suggest;
mod systems;
mod typed;
mod units;
pub mod vbox;
pub mod vmx;
mod xml;

pub use destination::Destination;
pub use device::{Adapter, AdapterModel, ControllerKind, DiskDevice, Leftover, Removable, RemovableKind, Tpm};
pub use difference::{Difference, Lost, differences, lost};
pub use earlier::{Earlier, Keep};
pub use error::{Error, Result};
pub use files::{Document, read, unknown};
pub use kind::MachineFile;
pub use landed::LandedDisk;
pub use memory::{json_memory, memory};
pub use model::{Clock, Cpu, Firmware, Machine, Sign};
pub use site::Site;
pub use suggest::explain;
pub use systems::System;
pub use typed::{Mac, Name};
pub use uuid::Uuid;
