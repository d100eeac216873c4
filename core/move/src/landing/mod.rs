//! What a landing is made of: the disks in their files, in one archive, or in a store, and the machine files beside them.

pub(crate) mod again;
pub(crate) mod ahead;
pub(crate) mod archive;
pub(crate) mod arrival;
pub(crate) mod digests;
pub(crate) mod facts;
pub(crate) mod files;
pub(crate) mod holder;
pub(crate) mod journal;
mod parts;
pub(crate) mod seed;
pub(crate) mod shipping;
mod sink;
pub(crate) mod written;
