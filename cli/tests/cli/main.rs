//! The built program, run on files in a temporary folder.

mod accidents;
mod hosts;
mod journey;
mod refusals;
mod support;
