//! Bytes in memory, for what is small and for tests.

use crate::to_usize;
use std::sync::Arc;

use super::{Identity, Storage};
use crate::{
    budget::{Budget, Hold},
    disk::Extent,
    error::Result,
};

/// Bytes in memory under a name.
pub struct MemoryStorage {
    name: String,
    bytes: Arc<[u8]>,
    budget: Arc<Budget>,
    /// The memory for the bytes themselves.
    _hold: Hold,
}

impl MemoryStorage {
    /// `bytes`, called `name` in messages, with a budget of their own, which they do not count against.
    pub fn new(name: impl Into<String>, bytes: impl Into<Arc<[u8]>>) -> Self {
        let budget = Budget::whole();
        Self::counted(name, bytes, budget.hold())
    }

    /// `bytes`, called `name` in messages, which `hold` is for.
    pub fn counted(name: impl Into<String>, bytes: impl Into<Arc<[u8]>>, hold: Hold) -> Self {
        Self { name: name.into(), bytes: bytes.into(), budget: hold.budget().clone(), _hold: hold }
    }
}

impl Storage for MemoryStorage {
    fn name(&self) -> &str {
        &self.name
    }

    fn len(&self) -> u64 {
        self.bytes.len() as u64
    }

    #[expect(clippy::indexing_slicing, reason = "the range was just required to lie inside")]
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        super::require(self, offset, buf.len() as u64, "a read")?;
        buf.copy_from_slice(&self.bytes[to_usize(offset)..to_usize(offset) + buf.len()]);
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        Ok(Extent::data(offset, self.len() - offset))
    }

    fn check_unchanged(&self) -> Result<()> {
        Ok(())
    }

    fn identity(&self) -> Option<&Identity> {
        None
    }

    fn budget(&self) -> &Arc<Budget> {
        &self.budget
    }
}
