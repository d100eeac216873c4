//! A small object store, strict where others are lax: signatures, digests, times, the order and the sizes of parts, what a key may do,
//! and how much there may be. It fails on demand, and its clock moves. Objects are files of a folder.

mod kept;
mod pages;
mod refusal;
mod serve;
mod signature;
mod talk;

pub use kept::Faults;
pub use pages::{PageOptions, PageStore};
pub use serve::{Options, Store};
pub(crate) use signature::decoded;
