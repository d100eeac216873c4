//! The crate's tests, in one program.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;
mod domain;
mod ovf;
mod random;
mod samples;
mod written;
