//! What an edit works with.

use std::sync::Arc;

use crate::{error::Result, evidence::hardware::Hardware, system::Guest, system::nt::drivers::Library};

/// What the person wants beyond what is needed.
#[derive(Clone, Default)]
pub struct Wishes {
    /// Edits that are left out, by name.
    pub without: Vec<String>,
    /// Scripts that run once when the guest starts: name and bytes.
    pub first_boot: Vec<(String, Vec<u8>)>,
    /// A new host name.
    pub host_name: Option<String>,
    /// Whether the machine's identity is made anew.
    pub new_machine_id: bool,
    /// Whether keys of the SSH server are made anew.
    pub new_ssh_keys: bool,
    /// Drivers for a Windows system, from media that the person named.
    pub drivers: Option<Arc<Library>>,
}

/// What a person should know of a guest and of what was done to it.
#[derive(Debug, Clone, PartialEq, Eq)]
#[expect(missing_docs, reason = "each is told in a sentence of its own by whoever shows it")]
pub enum Remark {
    /// An edit could not be made, and was taken back.
    Failed { edit: String, why: String, remedy: Option<&'static str> },
    /// Something cannot be read.
    Unread { volume: String, why: String },
    /// A file or folder cannot be read, which is not the same as not being there.
    PathUnread { path: String, why: String },
    /// A key was given for an encrypted volume, and does not open it.
    KeyRefused { volume: String, why: String },
    /// Members of an array are not there, or are behind the others: how many of how many.
    ArrayIncomplete { array: String, missing: usize, members: usize },
    /// An array was not stopped cleanly.
    ArrayUnclean { array: String },
    /// A journal was replayed.
    Replayed { volume: String },
    /// A suspended system lies in its swap space.
    Hibernated { volume: String },
    /// Which adapter has a name was taken from their order.
    AdapterAssumed { name: String, mac: String },
    /// Nothing tells an adapter apart from others, so its name cannot be kept.
    AdapterUnknown { name: String },
    /// A device of the destination has no driver: its name there, and why those on the media do not do.
    NoDriver { device: String, why: Vec<String> },
    /// A setup information file on a medium cannot be read, and why.
    DriverUnread { file: String, why: String },
    /// A domain controller is moved.
    DomainController { system: String },
    /// A system that asks for its activation again on other hardware.
    Activation { system: String },
    /// Addresses that a system may keep where they are not read from.
    AddressesUnread { system: String },
    /// Swap space lies on the disk that the system is on, where the new host wants none.
    SwapOnSystemDisk { swap: String },
    /// Nothing in the system lets people in over the network.
    NoRemoteLogin { system: String },
    /// A kernel is not made ready, and why.
    KernelLeft { kernel: String, why: String },
    /// There are several systems.
    Several { systems: Vec<String> },
    /// There is no system that is read.
    NoSystem,
}

/// What an edit changed, a sentence for each thing; empty when there was nothing to do.
pub type Changes = Result<Vec<String>>;

/// The edits of one system under way.
pub struct Work<'a> {
    /// The guest, without the system that is worked on.
    pub guest: &'a mut Guest,
    /// Whether that is the first of its systems, the one that the person means.
    pub is_first: bool,
    /// Where it goes.
    pub hardware: &'a Hardware,
    /// What the person wants.
    pub wishes: &'a Wishes,
    /// When it is done, in seconds since 1970.
    pub now: i64,
    /// What the person should know.
    pub remarks: &'a mut Vec<Remark>,
}
