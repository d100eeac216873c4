//! The built program, run on files in a temporary folder.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod accidents;
mod briefs;
mod budgets;
mod cloud_kills;
mod clouds;
mod documents;
mod fleet;
mod going_on;
mod hosts;
mod hosts_around;
mod images;
mod inside;
mod journey;
mod killed;
mod lend;
mod locked;
mod machine_files;
mod memory;
mod others;
mod outages;
mod packed;
mod proofs;
mod recast;
mod refusals;
mod report;
mod scripts;
mod stores;
mod streams;
mod support;
mod traps;
mod windows;
mod wires;
