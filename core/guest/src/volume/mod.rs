//! What lies on the disks: partition tables, logical volumes, and what each volume holds.

pub(crate) mod finder;
pub(crate) mod found;
mod gpt;
pub(crate) mod luks;
pub(crate) mod lvm;
mod mbr;
pub(crate) mod md;
pub(crate) mod partition;
pub(crate) mod probe;
pub(crate) mod table;
