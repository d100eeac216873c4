//! OVF, the open virtualization format (DSP0243): versions 1.0 and 1.1 are read and written, the elements of 2.x are read.

mod hardware;
mod item;
mod read;
mod vendor;
mod write;

pub use read::{Package, PackageFile, looks_like, read};
pub(crate) use write::kept;
pub use write::{ignored, write};
