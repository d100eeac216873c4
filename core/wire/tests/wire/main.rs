//! The crate's tests against servers: our own stand-in, hostile ones, and real ones where they are installed.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;
mod exports;
mod hostile;
mod http;
mod kills;
mod lend;
mod nbd;
mod nginx;
mod pages;
mod ssh;
mod stores;
