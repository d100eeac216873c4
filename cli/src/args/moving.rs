//! Arguments of the commands that move a machine.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use reformis_disk::{ByteSize, Shape};

/// What is moved, and the settings that are chosen most.
#[derive(Debug, Args)]
pub(crate) struct MoveArgs {
    /// A machine file, an archive, a folder that holds one, a disk; or a brief
    #[arg(value_name = "TARGET|BRIEF")]
    pub(crate) target: PathBuf,
    /// Where it goes: one of `reformis dests`
    #[arg(long, value_name = "NAME")]
    pub(crate) dest: Option<String>,
    /// The folder in which the landing is made
    #[arg(long, value_name = "FOLDER")]
    pub(crate) into: Option<PathBuf>,
    /// Which machine, if TARGET describes several
    #[arg(long, value_name = "NAME")]
    pub(crate) machine: Option<String>,
    /// Follow names in the files that lead out of their folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
    #[command(flatten)]
    pub(crate) choices: ChoiceArgs,
}

/// Settings that are chosen most; a brief has all of them.
#[derive(Debug, Args)]
#[command(next_help_heading = "What to change (a brief has these settings and more)")]
pub(crate) struct ChoiceArgs {
    /// Call the machine NAME
    #[arg(long, value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// Give it SIZE of memory, such as 4GiB
    #[arg(long, value_name = "SIZE")]
    pub(crate) memory: Option<ByteSize>,
    /// Give it N sockets
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=4096))]
    pub(crate) sockets: Option<u32>,
    /// Give each socket N cores
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=4096))]
    pub(crate) cores: Option<u32>,
    /// Start it with this firmware
    #[arg(long, value_name = "KIND")]
    pub(crate) firmware: Option<FirmwareWord>,
    /// Connect all adapters to NAME
    #[arg(long, value_name = "NAME")]
    pub(crate) network: Option<String>,
    /// Hardware addresses: keep, or fresh
    #[arg(long, value_name = "WHICH")]
    pub(crate) mac: Option<MacWord>,
    /// Store the disks in this shape
    #[arg(long, value_name = "SHAPE")]
    pub(crate) shape: Option<Shape>,
    /// Write this kind of machine file
    #[arg(long, value_name = "KIND")]
    pub(crate) machine_file: Option<String>,
    /// Keep settings of the source's machine file that are not known to be harmless on the new host
    #[arg(long)]
    pub(crate) keep_unknown: bool,
    /// Put the disks into FOLDER of the store NAME in reformis.toml, as they are made
    #[arg(long, value_name = "NAME:FOLDER")]
    pub(crate) store: Option<String>,
    /// Have the cloud NAME in reformis.toml make an image and an instance of them
    #[arg(long, value_name = "NAME")]
    pub(crate) cloud: Option<String>,
    /// What the cloud makes: an image alone, or an instance too, stopped or started
    #[arg(long, value_name = "WHAT", requires = "cloud")]
    pub(crate) then: Option<ThenWord>,
    /// Land a small medium from which cloud-init takes FILE as its user data
    #[arg(long, value_name = "FILE")]
    pub(crate) user_data: Option<PathBuf>,
    /// And FILE as the settings of the network
    #[arg(long, value_name = "FILE", requires = "user_data")]
    pub(crate) network_config: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) guest: GuestArgs,
}

/// What is changed inside a guest.
#[derive(Debug, Default, Args)]
#[command(next_help_heading = "Inside the guest")]
pub(crate) struct GuestArgs {
    /// Do not make this edit: fallback-loader, drivers, device-names, console, adapter-names, addresses, adapters, helpers, remote-login, data-sources, disks, clock, identity, first-boot
    #[arg(long, value_name = "EDIT")]
    pub(crate) leave_out: Vec<String>,
    /// Run the script FILE once, on the first start; its output goes to a log in the guest
    #[arg(long, value_name = "FILE")]
    pub(crate) first_boot: Vec<PathBuf>,
    /// Take drivers for a Windows guest from MEDIUM: a folder, an ISO image, a zip or tar archive, a cabinet
    #[arg(long, value_name = "MEDIUM")]
    pub(crate) drivers: Vec<PathBuf>,
    /// Give the guest a new host name
    #[arg(long, value_name = "NAME")]
    pub(crate) host_name: Option<String>,
    /// Have the guest make a new machine identity on its first start
    #[arg(long)]
    pub(crate) new_machine_id: bool,
    /// Have the guest make new keys for its SSH server on its first start
    #[arg(long)]
    pub(crate) new_ssh_keys: bool,
}

/// What starts a machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum FirmwareWord {
    /// A master boot record
    Bios,
    /// A loader on an EFI system partition
    Uefi,
}

/// What a cloud makes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ThenWord {
    /// An image
    Image,
    /// An instance that is stopped
    Stopped,
    /// An instance that is started
    Started,
}

/// Which hardware addresses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum MacWord {
    /// Those that the adapters have
    Keep,
    /// New ones
    Fresh,
}

#[derive(Debug, Args)]
pub(crate) struct DraftArgs {
    #[command(flatten)]
    pub(crate) order: MoveArgs,
    /// Write the brief to FILE, or - for stdout instead of the summary
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// Replace FILE if it exists
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Debug, Args)]
pub(crate) struct CarryArgs {
    #[command(flatten)]
    pub(crate) order: MoveArgs,
    /// Go on in spite of the blocker CODE; can be given several times
    #[arg(long, value_name = "CODE")]
    pub(crate) accept: Vec<String>,
    /// Replace a landing of the same name
    #[arg(long)]
    pub(crate) force: bool,
    /// Go on where an earlier run of the same move stopped
    #[arg(long)]
    pub(crate) resume: bool,
    /// Land what the guest wrote while its disks were lent, which is kept in FOLDER
    #[arg(long, value_name = "FOLDER")]
    pub(crate) with: Option<PathBuf>,
    /// Bring the disks near while the machine runs; the move itself, once it is off, writes only what changed
    #[arg(long, conflicts_with_all = ["with", "resume"])]
    pub(crate) ahead: bool,
    /// Move only what changed since --ahead, or refuse where there is no such first pass
    #[arg(long, conflicts_with_all = ["with", "ahead"])]
    pub(crate) finish: bool,
    /// Read only what the map NAME of the nbd device says was written since --ahead began
    #[arg(long, value_name = "NAME", requires = "finish")]
    pub(crate) bitmap: Option<String>,
}
