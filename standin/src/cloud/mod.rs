//! A small cloud, for the demo, the tests, and whoever wants to try: it imports what lies in its own object store, makes images and
//! instances, starts them in the machine emulator, and gives them back by links that expire. It speaks the cloud protocol
//! (`docs/cloud-protocol.md`), is strict about it, and fails on demand.

mod answers;
mod fixed;
mod imports;
mod instances;
mod object;
mod rules;
mod serve;

pub use rules::Rules;
pub use serve::{Cloud, Faults, Options};
