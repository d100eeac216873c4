//! What every protocol offers to the layer above it: bytes at places, one try at a time.

use std::sync::Arc;

use reformis_disk::{
    disk::Extent,
    source::{Access, Version},
};

use crate::fault::{Fault, Stop};

/// How a remote likes to be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// The largest piece that is fetched at once, in bytes.
    pub piece: u64,
    /// How many pieces may be under way at the same time.
    pub depth: usize,
}

/// Bytes at the other end of a network. One try, without retries: those are the business of [`crate::steady::Steady`].
pub trait Remote: Send + Sync {
    /// What it is called, without secrets.
    fn name(&self) -> &str;

    /// Length in bytes.
    fn len(&self) -> u64;

    /// Whether there is nothing.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// What changes with the bytes.
    fn version(&self) -> Version;

    /// Who may read what is made of it.
    fn access(&self) -> Access;

    /// How it likes to be read.
    fn limits(&self) -> Limits;

    /// Fills `buf` from `at`; the range lies inside.
    ///
    /// # Errors
    /// What the try came to.
    fn fetch(&self, at: u64, buf: &mut [u8], stop: &Stop) -> Result<(), Fault>;

    /// The runs from `at` on, one after the other, that are known to be data or zeros: at least one, and at most `len` bytes
    /// (the last run may reach beyond).
    ///
    /// # Errors
    /// What the try came to.
    fn map(&self, at: u64, len: u64, _stop: &Stop) -> Result<Vec<Extent>, Fault> {
        Ok(vec![Extent::data(at, len)])
    }

    /// Whether the bytes are a disk's as its guest sees it.
    fn is_raw(&self) -> bool {
        false
    }

    /// Whether [`Remote::map`] knows of zeros.
    fn has_map(&self) -> bool {
        false
    }

    /// Makes what expired good again, once for all that wait for it.
    ///
    /// # Errors
    /// [`Fault::Expired`] where there is no way.
    fn renew(&self, why: &str, _stop: &Stop) -> Result<(), Fault> {
        Err(Fault::Expired(why.into()))
    }

    /// Fails with [`Fault::Changed`] when the bytes are not those of the beginning.
    ///
    /// # Errors
    /// What the try came to.
    fn check(&self, stop: &Stop) -> Result<(), Fault>;

    /// Opens what `name`, a path relative to this one's folder, calls.
    ///
    /// # Errors
    /// What the try came to; [`reformis_disk::error::WireKind::Absent`] where there is nothing.
    fn sibling(&self, name: &str, stop: &Stop) -> Result<Arc<dyn Remote>, Fault>;

    /// The names of plain files beside this one.
    ///
    /// # Errors
    /// What the try came to.
    fn neighbours(&self, _stop: &Stop) -> Result<Vec<String>, Fault> {
        Ok(Vec::new())
    }
}
