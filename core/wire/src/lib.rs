//! Bytes and lists over the network.
//!
//! [`Wires`] opens a [`Link`] as a storage of the disks' crate. Below it each protocol is a [`Remote`], which makes one try at a
//! time; [`steady::Steady`] reads it: pieces are fetched ahead, tried again, renewed, and paced. Nothing here prints, and nothing
//! asks the environment: secrets come through [`Keys`], and what the person should know through [`steady::Shared::tell`].

// What is read here was sent by strangers: nothing in it may stop the program. Where one of these is allowed, the function
// says why it holds.
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

mod cargo;
pub mod clouds;
pub mod database;
mod fault;
pub mod hosts;
mod http;
mod images;
mod link;
mod mapped;
pub mod nbd;
mod remote;
mod secret;
mod service;
pub mod settings;
pub mod ssh;
pub mod steady;
pub mod stores;
mod tls;
mod wires;

pub use fault::{Fault, Stop, is_unfinished};
pub use link::{Link, Scheme, without_secrets};
pub use remote::{Limits, Remote};
pub use secret::{Credential, Keys, NoKeys, Secret};
pub use settings::Settings;
pub use wires::{Wires, link};
