//! Disks as bytes.
//!
//! A [`Disk`] is a size and the guest-visible bytes; [`container`] finds the file (or the member of an archive) that
//! stores it, [`mod@format`] tells its format and opens it, [`overlay`] changes it without touching it, and
//! [`copy::pipeline`] carries it into a [`copy::Writer`]. Nothing here prints, asks the environment or knows a machine.

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

pub mod budget;
mod bytesize;
pub mod container;
pub mod copy;
pub mod digest;
pub mod disk;
pub mod error;
mod facts;
pub mod format;
pub mod ground;
mod image;
pub mod overlay;
pub mod scratch;
pub mod shape;
mod size;
pub mod source;
pub mod text;
mod trouble;
mod zeros;

pub use bytesize::ByteSize;
pub use disk::{Disk, Extent, ExtentKind};
pub use error::{Error, Result};
pub use facts::{Facts, Parent, Snapshot};
pub use image::Image;
pub use shape::{Format, Layout, Shape};
pub use size::to_usize;
pub use source::Storage;
pub use trouble::Trouble;

/// Bytes of a sector, the unit in which most formats count.
pub const SECTOR: u64 = 512;
