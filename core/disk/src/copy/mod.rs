//! Carrying bytes into results.

mod again;
mod block;
mod blocks;
pub mod changed;
mod feed;
pub mod journal;
mod line;
pub mod output;
pub mod pipeline;
pub mod watch;
pub mod writer;

pub use again::Again;
pub use output::Output;
pub use watch::Watch;
pub use writer::{Copied, Encoder, Spot, Writer};
