//! Carrying bytes into results.

mod block;
mod blocks;
mod feed;
mod line;
pub mod output;
pub mod pipeline;
pub mod watch;
pub mod writer;

pub use output::Output;
pub use watch::Watch;
pub use writer::{Copied, Encoder, Spot, Writer};
