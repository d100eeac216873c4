//! The steps of a move from the library's side: machines that are made up here, in folders of their own.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![expect(clippy::result_large_err, reason = "errors are made once in a move, and told in full")]

mod changes;
mod common;
mod findings;
mod landings;
mod proofs;
mod proposals;
mod queue;
mod recasts;
mod targets;
mod windows;
