//! `.vbox` files: the settings of a machine and a registry of its media, as XML.
//!
//! Their schema is published with the host that writes them; versions 1.3 to 1.20 differ in where the storage
//! controllers stand and in what they can say.

mod read;
mod write;

pub use read::{Settings, looks_like, read};
pub(crate) use write::kept;
pub use write::write;

/// The namespace of all versions.
pub(crate) const NAMESPACE: &str = "http://www.virtualbox.org/";
