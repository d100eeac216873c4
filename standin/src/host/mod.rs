//! A small host, for the demo, the tests, and whoever wants to try: it lists the machines in a folder, and exports their disks by
//! links that expire. It speaks the export protocol (`docs/export-protocol.md`), is strict about it, and fails on demand.
//!
//! The folder holds a folder for each machine: its machine file, its disks, and maybe a file `power` with one of the words
//! `off`, `running`, `suspended`.

pub(crate) mod answer;
pub(crate) mod exports;
mod faults;
pub(crate) mod machines;
pub(crate) mod request;
mod serve;

pub use faults::Faults;
pub use serve::{Host, Options};
