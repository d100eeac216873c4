//! Windows guests made ready for every destination, judged by rules and readers that are not the tool's.

mod guests;
mod matrix;
mod refusals;
mod start;
