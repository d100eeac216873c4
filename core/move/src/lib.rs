//! The steps of the job: what is here ([`survey`]), the new shape ([`draft`]), the move
//! ([`carry`]), one disk alone ([`recast`]), and whether a
//! landing is what its source was ([`prove`]).
//!
//! Nothing here prints. A step is given a [`Context`] to report progress to and to be stopped by; what the person
//! should know comes back as [`Finding`]s.

// What is read here was written by strangers: nothing in it may stop the program. Where one of these is allowed, the
// function says why it holds.
#![cfg_attr(
    not(test),
    deny(
        clippy::cast_possible_truncation,
        clippy::expect_used,
        clippy::indexing_slicing,
        clippy::panic,
        clippy::string_slice,
        clippy::unwrap_used
    )
)]

pub mod brief;
pub mod carry;
pub mod change;
mod checksum;
pub mod draft;
mod error;
pub mod finding;
pub mod fleet;
mod hardware;
pub mod inside;
mod landing;
pub mod lend;
mod observer;
pub mod peek;
mod plan;
pub mod prepare;
pub mod propose;
pub mod prove;
pub mod recast;
pub mod receipt;
pub mod record;
pub mod report;
pub mod roster;
pub mod staging;
pub mod survey;
pub mod target;
pub mod verdict;

pub use error::{Error, Result};
pub use finding::{Finding, Severity};
pub use observer::{Context, Observer, Step};
pub use receipt::Receipt;

/// Name and version of the tool, as receipts record it.
pub const TOOL: &str = concat!("reformis ", env!("CARGO_PKG_VERSION"));
