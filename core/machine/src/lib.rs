//! Machines without their bytes: the neutral [`Machine`], the files in which hosts keep one, and the
//! [`Destination`]s that a machine can go to. Nothing here opens a file: readers take bytes, writers return text.

mod cim;
pub mod destination;
pub mod domain;
mod error;
pub mod manifest;
mod model;
pub mod ovf;
mod units;
mod xml;

pub use destination::Destination;
pub use error::{Error, Result};
pub use model::{
    Adapter, AdapterModel, Clock, ControllerKind, Cpu, DiskDevice, Firmware, Leftover, Machine, Removable,
    RemovableKind, System,
};
