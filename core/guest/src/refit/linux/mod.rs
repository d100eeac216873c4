//! The edits of a Linux system.

mod adapters;
mod drivers;
mod first_boot;
mod helpers;
mod identity;
mod kmod;
mod names;
mod order;

use crate::{
    refit::work::{Changes, Work},
    system::linux::Linux,
};

/// The edits of a system under way.
pub(crate) struct Edits<'a, 'w> {
    pub(crate) system: &'a mut Linux,
    pub(crate) work: &'a mut Work<'w>,
}

impl Edits<'_, '_> {
    /// The edit `relabel`: SELinux labels all files again where one could not be told from the guest's policy, nor from its neighbours.
    pub(crate) fn relabel(&mut self) -> Changes {
        if !self.system.tree.wants_relabel() {
            return Ok(Vec::new());
        }
        self.system.tree.write("/.autorelabel", b"")?;
        Ok(vec!["all files get their SELinux labels again on the first start, which takes long".into()])
    }
}
