//! The edits by name: what a brief can leave out, and what a receipt lists.

/// An edit and why it is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Step {
    /// Its name, one of those below.
    pub name: &'static str,
    /// The reason that a receipt gives for the bytes that it changed.
    pub reason: &'static str,
}

/// What the new disks need is there from the first step on: modules in early boot images, or drivers that the loader starts.
pub const DRIVERS: &str = "drivers";
/// Volumes are called by what they are, not by where their disk was.
pub const DEVICE_NAMES: &str = "device-names";
/// Adapters keep their settings: a Windows system sets them again on its first start.
pub const ADAPTERS: &str = "adapters";
/// A server's disks of data come up by themselves.
pub const DISKS: &str = "disks";
/// The system takes the machine's clock for what it is.
pub const CLOCK: &str = "clock";
/// Adapters keep their names.
pub const ADAPTER_NAMES: &str = "adapter-names";
/// The loader lies where a firmware without boot entries looks.
pub const FALLBACK_LOADER: &str = "fallback-loader";
/// Helpers of the old host stay quiet, and those of the new one start.
pub const HELPERS: &str = "helpers";
/// Scripts that run once.
pub const FIRST_BOOT: &str = "first-boot";
/// Host name, machine identity and keys.
pub const IDENTITY: &str = "identity";
/// The kernel writes to the serial port that the new host shows.
pub const CONSOLE: &str = "console";
/// The first adapter asks for its address.
pub const ADDRESSES: &str = "addresses";
/// The server for remote logins starts with the system.
pub const REMOTE_LOGIN: &str = "remote-login";
/// Where cloud-init looks for what a host says at the first start.
pub const DATA_SOURCES: &str = "data-sources";
/// All files get their SELinux labels again.
pub const RELABEL: &str = "relabel";

/// All that a person can leave out, in the order in which they are made.
pub const ALL: [&str; 14] = [
    FALLBACK_LOADER,
    DRIVERS,
    DEVICE_NAMES,
    CONSOLE,
    ADAPTER_NAMES,
    ADDRESSES,
    ADAPTERS,
    HELPERS,
    REMOTE_LOGIN,
    DATA_SOURCES,
    DISKS,
    CLOCK,
    IDENTITY,
    FIRST_BOOT,
];

/// The path on an EFI system partition where a firmware without boot entries looks (UEFI specification 2.10, section
/// 3.5.1.1).
pub const FALLBACK: &str = "EFI/BOOT/BOOTX64.EFI";
