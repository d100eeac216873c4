//! The crate's tests on whole images, in one program.

mod common;
mod hostile;
mod judge;
mod round_trip;
