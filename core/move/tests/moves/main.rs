//! The steps of a move from the library's side: machines that are made up here, in folders of their own.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;
mod findings;
mod landings;
mod proofs;
mod proposals;
