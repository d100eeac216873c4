//! Files of a guest that have a format of their own.

pub(crate) mod cpio;
pub(crate) mod early;
pub(crate) mod hive;
mod huffman;
pub(crate) mod inf;
pub(crate) mod iso;
pub(crate) mod lznt1;
pub(crate) mod lzx;
pub(crate) mod modules;
pub(crate) mod pe;
pub mod reg;
pub(crate) mod xpress;
