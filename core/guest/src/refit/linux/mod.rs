//! The edits of a Linux system.

mod adapters;
mod drivers;
mod first_boot;
mod helpers;
mod identity;
pub(crate) mod images;
mod kmod;
mod names;
