//! Files of a guest that have a format of their own.

pub(crate) mod cpio;
pub(crate) mod early;
pub(crate) mod hive;
mod huffman;
pub(crate) mod lznt1;
pub(crate) mod lzx;
pub(crate) mod modules;
pub mod reg;
pub(crate) mod xpress;
