//! What a landing is made of: the disks in their files, or in one archive, and the machine files beside them.

pub(crate) mod archive;
pub(crate) mod facts;
pub(crate) mod files;
pub(crate) mod holder;
pub(crate) mod journal;
mod sink;
