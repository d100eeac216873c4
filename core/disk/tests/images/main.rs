//! The crate's tests on whole images, in one program.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod again;
mod common;
mod deltas;
mod foreign;
mod hostile;
mod judge;
mod memory;
mod round_trip;
mod second;
mod sparse;
