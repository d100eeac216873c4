//! Machines without their bytes: the neutral [`Machine`], the files in which hosts keep one, and the
//! [`Destination`]s that a machine can go to. Nothing here opens a file: readers take bytes, writers return text.

pub mod destination;
mod device;
pub mod domain;
mod error;
mod files;
pub mod launch;
mod limits;
pub mod manifest;
mod model;
pub mod ovf;
pub mod script;
pub mod site;
mod suggest;
mod systems;
mod units;
pub mod vbox;
pub mod vmx;
mod xml;

pub use destination::Destination;
pub use device::{Adapter, AdapterModel, ControllerKind, DiskDevice, Leftover, Removable, RemovableKind, Tpm, mac};
pub use error::{Error, Result};
pub use files::{Document, LandedDisk, Lost, MachineFile, lost, read};
pub use model::{Clock, Cpu, Firmware, Machine, Sign, System};
pub use site::Site;
pub use suggest::explain;
