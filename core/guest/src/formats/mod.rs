//! Files of a guest that have a format of their own.

pub(crate) mod cpio;
pub(crate) mod early;
pub(crate) mod hive;
pub(crate) mod lznt1;
pub(crate) mod modules;
