//! What a new image is to be.

use crate::{container::packed::Wrapping, shape::Shape};

/// How stored pieces of a new image are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Squeeze {
    /// Deflate, which every host reads.
    Deflate,
    /// zstd: faster and smaller, for newer hosts.
    Zstd,
}

/// An image to be made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NewImage {
    /// Format and layout.
    pub shape: Shape,
    /// Size of the disk in bytes; `None` when it shows only at the end: see [`super::is_open_ended`].
    pub size: Option<u64>,
    /// Compress what is stored (qcow2).
    pub squeeze: Option<Squeeze>,
    /// Bytes of a cluster (qcow2).
    pub cluster: Option<u64>,
    /// Compress the whole file (raw).
    pub wrapping: Option<Wrapping>,
}

impl NewImage {
    /// A disk of `size` bytes in `shape`, without anything special.
    pub fn new(shape: Shape, size: u64) -> Self {
        Self { shape, size: Some(size), squeeze: None, cluster: None, wrapping: None }
    }
}
