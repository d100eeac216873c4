//! Many moves, in one night: the [file](Fleet) that names them, the [state](State) that outlives whoever works on it, and the
//! [worker](night::work) that takes one machine after the other.
//!
//! Before it, machines are [gathered](gather) and [checked](check); after it, they are [asked](confirm) whether they answer, and a landing
//! can be [taken back](undo).
//!
//! Each move is one of [`crate::carry`]; a fleet adds when it may begin, who makes it, and what is done when it fails.

pub mod check;
pub mod confirm;
mod doubt;
mod error;
mod file;
pub mod gather;
mod inventory;
mod keeper;
mod landed;
mod look;
pub mod night;
mod program;
pub mod rehearse;
mod state;
pub mod take_in;
pub mod undo;
mod worker;

pub use doubt::{Doubt, doubts};
pub use error::FleetError;
pub use file::{
    Ahead, Confirm, Failure, Fleet, Gate, Group, Hooks, Limits, Opening, Rehearsal, Row, Rules, Spec, Tell, Then,
    Window, With, next, rate, time_of_day,
};
pub use inventory::{Entry, Inventory};
pub use keeper::keep;
pub use state::{
    Beat, Claim, Claimed, Counts, Ended, Held, Hook, HookState, Lease, Machine, Notice, Pace, Place, Pressed, Shut,
    Stand, State, Subject, Synced,
};
pub use worker::Worker;
