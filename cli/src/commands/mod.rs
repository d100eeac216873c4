//! A file for each command.

pub(crate) mod carry;
pub(crate) mod change;
mod clouds;
pub(crate) mod completions;
pub(crate) mod demo;
pub(crate) mod dests;
pub(crate) mod draft;
pub(crate) mod fleet;
pub(crate) mod hosts;
pub(crate) mod lend;
mod order;
pub(crate) mod peek;
pub(crate) mod prove;
pub(crate) mod recast;
pub(crate) mod report;
pub(crate) mod standin;
mod stores;
pub(crate) mod survey;

pub(crate) use carry::quoted;
use reformis_disk::source::Links;

/// Version of the JSON that commands print.
const JSON_SCHEMA: u32 = 1;

/// What `--trust-links` means.
fn links(trusted: bool) -> Links {
    if trusted { Links::Trusted } else { Links::OwnFolder }
}

/// The last part of a path: its folder is known where it is shown.
fn base_name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}
