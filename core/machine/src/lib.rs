//! Machines without their bytes: the neutral [`Machine`], the files in which hosts keep one, and the
//! [`Destination`]s that a machine can go to. Nothing here opens a file: readers take bytes, writers return text.

pub mod destination;
mod device;
pub mod domain;
mod earlier;
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
mod typed;
mod units;
pub mod vbox;
pub mod vmx;
mod xml;

pub use destination::Destination;
pub use device::{Adapter, AdapterModel, ControllerKind, DiskDevice, Leftover, Removable, RemovableKind, Tpm};
pub use earlier::{Earlier, Keep, unknown};
pub use error::{Error, Result};
pub use files::{Difference, Document, LandedDisk, Lost, MachineFile, differences, lost, read};
pub use model::{Clock, Cpu, Firmware, Machine, Sign, System};
pub use site::Site;
pub use suggest::explain;
pub use typed::{Mac, Name};
pub use uuid::Uuid;
