//! File systems: what is alike in all of them, each of them, and the tree that a guest makes of them.

pub(crate) mod any;
pub(crate) mod ext;
pub(crate) mod fat;
pub(crate) mod node;
pub(crate) mod tree;
