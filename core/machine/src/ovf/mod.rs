//! OVF, the open virtualization format (DSP0243, versions 1.0 and 1.1; the elements of 2.x are understood too).

mod hardware;
mod item;
mod read;

pub use read::{Package, PackageFile, looks_like, read};
