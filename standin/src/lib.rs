//! Stand-ins for the hosts at both ends of a move.
//!
//! None of this shares code with the tool: what exports here is written from the specifications a second time, so that
//! the tool is tested against something other than itself.

pub mod cloud;
pub mod content;
pub mod deltas;
pub mod domain;
pub mod driver;
pub mod early;
pub mod emulator;
pub mod export;
pub mod hives;
pub mod host;
mod listen;
pub mod lvm;
pub mod lzx;
pub mod nbd;
pub mod ntfs_check;
pub mod ova;
pub mod qcow2_check;
pub mod raid;
pub mod servers;
pub mod shelf;
pub mod start;
pub mod store;
pub mod windows;
